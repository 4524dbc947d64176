"""Where subjects are: from an anchor to points over time."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers
from kobrel.plan.model import Anchor, PointAnchor, SurfaceAnchor
from kobrel.stage.stage import Place, Stage


def subject_points(anchor: Anchor, frames: ArrayLike, stage: Stage) -> Numbers:
    """Points of an anchor in metres on the stage: (F, 3), or (1, 3) where it stands still.

    Not-a-number where its node is not on the stage.
    """
    if isinstance(anchor, PointAnchor):
        return np.asarray([anchor.position_m], dtype=float)
    place = Place(anchor.scene, anchor.node)
    worlds = stage.world(place, frames)
    local = np.asarray(anchor.local) if isinstance(anchor, SurfaceAnchor) else stage.centre(place)
    if worlds is None or local is None:
        return np.full((1, 3), np.nan)
    return np.asarray(worlds[:, :3, :3] @ local + worlds[:, :3, 3])

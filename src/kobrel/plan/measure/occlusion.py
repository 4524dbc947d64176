"""What stands in the way: subjects hidden by other things, and things before the near clip."""

from dataclasses import dataclass
from typing import assert_never

import numpy as np
from numpy.typing import NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.measure.survey import GONE, Survey, survey
from kobrel.plan.model import (
    Anchor,
    BoundsAnchor,
    NearestAnchor,
    OriginAnchor,
    Plan,
    PointAnchor,
    Shot,
    StandInAnchor,
    SurfaceAnchor,
)
from kobrel.plan.names import thing_name
from kobrel.plan.pictures.plates import PlateAnchor
from kobrel.plan.space import plates
from kobrel.plan.space.stand_ins import scene_of
from kobrel.stage.scene import Progress, no_progress
from kobrel.stage.stage import Place, Stage

_GRID = (32, 18)
_SHORT_OF = 0.995
"""A hit counts as before a subject if it is nearer than this part of the way."""


@dataclass(frozen=True, eq=False)
class Sightlines:
    """Lines of sight of a shot over its frames.

    Parameters
    ----------
    hidden : (S, F) whether another thing stands between the camera and a subject
    by : for each subject what hides it, "" if nothing ever does
    nearest_m : (F,) distance along the axis to the nearest surface in the picture, infinite
        where there is none
    nearest : what that is, at the frame where it comes closest
    farthest_m : (F,) distance to the farthest surface, infinite where the sky is seen
    """

    hidden: NDArray[np.bool_]
    by: tuple[str, ...]
    nearest_m: Numbers
    nearest: str
    farthest_m: Numbers

    def largest_disc(self, numbers: Survey) -> tuple[float, float]:
        """The largest blur disc of what is in the picture, over all frames of the same survey.

        Returns
        -------
        Its height in pixels at delivery, and the frame. An orthographic view has none of the sky.
        """
        blurs = np.stack([numbers.camera.blur_px(d) for d in (self.nearest_m, self.farthest_m)])
        both = np.where(np.isfinite(blurs), blurs, 0.0).max(axis=0)
        worst = int(np.argmax(both))
        return float(both[worst]), float(numbers.frames[worst])


def sightlines(plan: Plan, shot: Shot, stage: Stage, progress: Progress = no_progress) -> Sightlines:
    """Follow a shot's lines of sight, frame by frame.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    Cancelled
        `progress` asked to stop.
    """
    from kobrel.stage.engine.rays import closest_hits

    stage = stage.of_shot(shot.name)
    numbers = survey(plan, shot, stage)
    own = [set(own_rows(stage, subject.anchor)) for subject in plan.subjects]
    hidden = np.zeros((len(own), len(numbers.frames)), np.bool_)
    by: list[str] = [""] * len(own)
    nearest, nearest_row = np.full(len(numbers.frames), np.inf), -1
    farthest = np.full(len(numbers.frames), np.inf)
    for column, frame in enumerate(numbers.frames):
        progress("Looking along the lines of sight", column / len(numbers.frames))
        snapshot = stage.snapshot(float(frame), keep=False, eye=numbers.camera.frame(column).eye)
        origins, ways = _rays(numbers, column)
        hits = closest_hits(snapshot.handle, snapshot.first_rows, origins - snapshot.origin, ways)
        for row, rows in enumerate(own):
            met = int(hits.row[row])
            blocked = met >= 0 and met not in rows and hits.distance[row] < _SHORT_OF
            if blocked and numbers.state[row, column] != GONE:
                hidden[row, column] = True
                by[row] = by[row] or thing_name(plan, stage.place_of(met))
        grid = hits.distance[len(own) :]
        closest = int(np.argmin(grid))
        if grid[closest] < nearest.min():
            nearest_row = int(hits.row[len(own) + closest])
        nearest[column] = grid[closest]
        farthest[column] = grid.max()
    what = thing_name(plan, stage.place_of(nearest_row)) if nearest_row >= 0 else ""
    return Sightlines(hidden, tuple(by), nearest, what, farthest)


def _rays(numbers: Survey, column: int) -> tuple[Numbers, Numbers]:
    """Rays to each subject, one length of which ends there, then a grid over the picture."""
    camera = numbers.camera.frame(column)
    goals = np.nan_to_num(numbers.points[:, column], nan=1e6)
    width, height = _GRID
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    grid_from, grid_toward = camera.ray(x.ravel(), y.ravel(), width, height)
    starts = np.broadcast_to(camera.pose[:3, 3], goals.shape)
    if camera.projection == "orthographic":
        starts = goals + camera.pose[:3, 2] * numbers.sight.axial_m[:, column, None]
    return np.concatenate([starts, grid_from]), np.concatenate([goals - starts, grid_toward])


def own_rows(stage: Stage, anchor: Anchor) -> list[int]:
    """Rows of the thing that a subject is on: they do not hide it."""
    match anchor:
        case PointAnchor():
            return []
        case StandInAnchor():
            return stage.rows_below(Place(scene_of(anchor.number), "/"))
        case PlateAnchor():
            return stage.rows_below(Place(plates.scene_of(anchor.number), plates.ROOT))
        case NearestAnchor():
            return stage.rows_below(Place(anchor.scene, anchor.node))
        case SurfaceAnchor() | BoundsAnchor() | OriginAnchor():
            parts = anchor.node.strip("/").split("/")
            whole = "/" + "/".join(parts[:-1]) if len(parts) > 2 else anchor.node
            return stage.rows_below(Place(anchor.scene, whole))
        case _:
            assert_never(anchor)

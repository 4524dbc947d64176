"""Where subjects are: from an anchor to points over time."""

from typing import assert_never

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.model import (
    Anchor,
    BoundsAnchor,
    NearestAnchor,
    OriginAnchor,
    PointAnchor,
    PointTarget,
    StandInAnchor,
    SurfaceAnchor,
)
from kobrel.plan.pictures.plates import PlateAnchor
from kobrel.plan.space.moves import vector
from kobrel.plan.space.plates import ROOT, plate_number
from kobrel.plan.space.plates import scene_of as plate_scene_of
from kobrel.plan.space.stand_ins import MEASURED, scene_of
from kobrel.stage.stage import Pick, Place, Stage

_NOWHERE = np.full((1, 3), np.nan)


def subject_points(
    anchor: Anchor | PointTarget, frames: ArrayLike, stage: Stage, camera_places: Numbers | None = None
) -> Numbers:
    """Points of an anchor, or of a mark's own point, in metres on the stage: (F, 3), or (1, 3) where
    it stands still.

    Parameters
    ----------
    camera_places : (F, 3) where the shot's camera stands; without it the point nearest to
        the camera is taken as the middle of the bounds

    Not-a-number where its node is not on the stage.
    """
    at = np.atleast_1d(np.asarray(frames, float))
    seen_from = camera_places if isinstance(anchor, NearestAnchor) else None
    key = (anchor, at.tobytes(), None if seen_from is None else seen_from.tobytes())
    return stage.kept(key, lambda: _points(anchor, at, stage, seen_from))


def on_surface(pick: Pick, local: ArrayLike | None = None) -> SurfaceAnchor | PlateAnchor:
    """An anchor where a ray met a surface, or at another point `local` of the same triangle, in the node's
    space; on a plate its pivot, since it may turn with the camera.
    """
    plate = plate_number(pick.place.scene)
    if plate is not None:
        return PlateAnchor(number=plate)
    at = pick.local if local is None else np.asarray(local, float)
    anchor = SurfaceAnchor(scene=pick.place.scene, node=pick.place.path, local=vector(at))
    if pick.vertices is None:
        return anchor
    first, second, third = pick.vertices
    return anchor.replace(vertices=(first, second, third), weights=vector(pick.weights_at(at)))


def at_surface(stage: Stage, place: Place, point: ArrayLike, frame: float) -> SurfaceAnchor | None:
    """An anchor at a point on the stage that rides on a node, and on its nearest triangle where the node's
    mesh deforms; None where the node is not there.
    """
    world = stage.world(place, [frame])
    if world is None:
        return None
    local = np.linalg.solve(world[0], np.append(np.asarray(point, float), 1.0))[:3]
    anchor = SurfaceAnchor(scene=place.scene, node=place.path, local=vector(local))
    found = stage.nearest_triangle(place, local, frame)
    if found is None:
        return anchor
    (first, second, third), weights = found
    return anchor.replace(vertices=(first, second, third), weights=vector(weights))


def is_drawn(anchor: Anchor, frames: ArrayLike, stage: Stage) -> NDArray[np.bool_]:
    """(F,) whether the thing that an anchor is on is drawn at frames; of a place in the air, and of what has
    no shape, always.
    """
    at = np.atleast_1d(np.asarray(frames, float))
    match anchor:
        case PointAnchor():
            drawn = None
        case StandInAnchor():
            drawn = stage.is_drawn(Place(scene_of(anchor.number), MEASURED), at)
        case PlateAnchor():
            drawn = stage.is_drawn(Place(plate_scene_of(anchor.number), ROOT), at)
        case SurfaceAnchor() | NearestAnchor() | BoundsAnchor() | OriginAnchor():
            drawn = stage.is_drawn(Place(anchor.scene, anchor.node), at)
        case _:
            assert_never(anchor)
    return np.ones(len(at), bool) if drawn is None else drawn


def _points(
    anchor: Anchor | PointTarget, frames: Numbers, stage: Stage, camera_places: Numbers | None
) -> Numbers:
    local: Numbers | None = np.zeros(3)
    match anchor:
        case PointAnchor() | PointTarget():
            return np.array(anchor.places().at(frames))
        case StandInAnchor():
            place = Place(scene_of(anchor.number), MEASURED)
        case PlateAnchor():
            place = Place(plate_scene_of(anchor.number), ROOT)
        case SurfaceAnchor():
            place, riding = Place(anchor.scene, anchor.node), None
            if anchor.vertices and anchor.weights:
                riding = stage.surface_point(place, anchor.vertices, anchor.weights, frames)
            local = np.asarray(anchor.local) if riding is None else riding
        case NearestAnchor() if camera_places is not None:
            found = stage.nearest(Place(anchor.scene, anchor.node), camera_places, frames)
            return _NOWHERE.copy() if found is None else found
        case BoundsAnchor() | NearestAnchor():
            place = Place(anchor.scene, anchor.node)
            local = stage.centre(place, frames)
        case OriginAnchor():
            place = Place(anchor.scene, anchor.node)
        case _:
            assert_never(anchor)
    worlds = stage.world(place, frames)
    if worlds is None or local is None:
        return _NOWHERE.copy()
    if len(worlds) == 1:
        return np.asarray(local.reshape(-1, 3) @ worlds[0, :3, :3].T + worlds[0, :3, 3])
    return np.asarray((worlds[:, :3, :3] @ local[..., None])[..., 0] + worlds[:, :3, 3])

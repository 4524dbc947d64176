"""Where plates stand: at a distance, filling the frame, keeping their framing, spread over a depth."""

from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from kobrel.errors import PlanError
from kobrel.optics.lens import Numbers
from kobrel.plan.keys import Level, LevelKey, PlaceKey
from kobrel.plan.measure.camera import Camera
from kobrel.plan.pictures.plates import Dial, Plate, Point
from kobrel.plan.space.moves import vector
from kobrel.plan.space.plates import pivot_at, poses_at

SpreadBy = Literal["metres", "ratio", "dioptres"]


def axial_m(camera: Camera, point: ArrayLike) -> float:
    """How far a point (3,) lies along the axis of a camera at one frame."""
    return float(camera.before(point)[2])


def filling(camera: Camera, distance_m: float, aspect: float) -> tuple[tuple[float, float, float], float]:
    """Where the middle of a plate stands that covers the frame at a distance along the axis, and its height.

    Parameters
    ----------
    camera : at one frame
    aspect : width over height of the plate's picture
    """
    half_x, half_y = (float(half) for half in camera.half_widths())
    middle_x, middle_y = (float(middle) for middle in camera.middle())
    if camera.projection == "orthographic":
        local, per_metre = np.array([middle_x, middle_y, -distance_m]), 1.0
    else:
        local = np.array([middle_x * distance_m, middle_y * distance_m, -distance_m])
        per_metre = distance_m
    height = max(2.0 * half_y, 2.0 * half_x / aspect) * per_metre
    return vector(camera.pose[:3, :3] @ local + camera.pose[:3, 3]), float(height)


def facing_deg(camera: Camera) -> tuple[float, float, float]:
    """Turn, tilt and roll of a plate that stands parallel to a camera's sensor."""
    turn = camera.pose[:3, :3]
    back = turn[:, 2]
    about = float(np.arctan2(back[0], back[2]))
    up = float(np.arcsin(np.clip(-back[1], -1.0, 1.0)))
    level = _rotation(about, up, 0.0)
    roll = float(np.arctan2(level[:, 1] @ turn[:, 0], level[:, 0] @ turn[:, 0]))
    return tuple(float(np.degrees(angle)) for angle in (about, up, roll))  # type: ignore[return-value]


def _rotation(turn: float, tilt: float, roll: float) -> Numbers:
    cy, sy, cx, sx, cz, sz = (fn(a) for a in (turn, tilt, roll) for fn in (np.cos, np.sin))
    about_y = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    about_x = np.array([[1, 0, 0], [0, cx, -sx], [0, sx, cx]])
    about_z = np.array([[cz, -sz, 0], [sz, cz, 0], [0, 0, 1]])
    return np.asarray(about_y @ about_x @ about_z)


def _on_sight(plate: Plate, camera: Camera, here: Numbers, distance_m: float) -> tuple[Numbers, float]:
    """The place (3,) at a distance along the axis on the same line of sight as another place, and how many
    times as large something there is that looks the same.

    Raises
    ------
    PlanError
        It does not stand before the camera.
    """
    now = axial_m(camera, here)
    if now <= 0:
        raise PlanError(f"{plate.name} is behind the camera.", remedy="Move it in front of the camera first.")
    if camera.projection == "orthographic":
        return here - camera.pose[:3, 2] * (distance_m - now), 1.0
    eye, ratio = camera.pose[:3, 3], distance_m / now
    return eye + (here - eye) * ratio, ratio


def brought_nearer(plate: Plate, dials: tuple[Dial, ...], camera: Camera, frame: float, part: float) -> Plate:
    """A plate moved with all its keys to so many times its distance, that looks the same at a frame.

    Raises
    ------
    PlanError
        It does not stand before the camera.
    """
    here = pivot_at(plate, dials, [frame])[0]
    there, ratio = _on_sight(plate, camera, here, axial_m(camera, here) * part)

    def moved(place: Sequence[float]) -> tuple[float, float, float]:
        return vector(there + (np.asarray(place, float) - here) * ratio)

    return plate.each(moved).replace(scale=plate.scale.times(ratio))


def _grown(plate: Plate, frame: float, ratio: float) -> Level:
    """The scale of a plate that grows so many times: at all frames, or where its place has keys at this one
    alone.
    """
    scale = plate.scale
    if not plate.keys:
        return scale.times(ratio)
    if not scale.keys:
        keys = tuple(LevelKey(frame=key.frame, value=scale.value, ease=key.ease) for key in plate.keys)
        scale = scale.replace(keys=keys)
    return scale.set(LevelKey(frame=frame, value=scale.value_at(frame) * ratio))


def at_distance(
    plate: Plate,
    dials: tuple[Dial, ...],
    camera: Camera,
    frame: float,
    distance_m: float,
    keeps_framing: bool,
) -> Plate:
    """A plate at a distance along the axis of a camera at a frame, on the same line of sight: by a key there
    where it has keys. Where it keeps its framing it grows as much.

    Raises
    ------
    PlanError
        It does not stand before the camera.
    """
    here = pivot_at(plate, dials, [frame])[0]
    there, ratio = _on_sight(plate, camera, here, distance_m)
    moved = plate.set(PlaceKey(frame=frame, position_m=vector(there)))
    if not keeps_framing or ratio == 1.0:
        return moved
    return moved.replace(scale=_grown(moved, frame, ratio))


def moved_by(plate: Plate, by: ArrayLike) -> Plate:
    """A plate moved with all its keys by (3,) metres."""
    step = np.asarray(by, float)
    return plate.each(lambda place: vector(np.asarray(place) + step))


def distances_between(near_m: float, far_m: float, count: int, by: SpreadBy) -> Numbers:
    """So many distances from a near one to a far one: even in metres, ratios or dioptres.

    >>> distances_between(1.0, 4.0, 3, "ratio").tolist()
    [1.0, 2.0, 4.0]
    """
    if count == 1:
        return np.array([near_m])
    part = np.linspace(0.0, 1.0, count)
    if by == "ratio":
        return np.asarray(near_m * (far_m / near_m) ** part)
    if by == "dioptres":
        return np.asarray(1.0 / ((1 - part) / near_m + part / far_m))
    return np.asarray(near_m + (far_m - near_m) * part)


def gap_kept(distance_m: float, was_m: float, now_m: float, by: SpreadBy) -> float:
    """The distance of a plate whose neighbour went from one distance to another, with the gap kept.

    Raises
    ------
    PlanError
        It would be at or behind the camera, or beyond infinity.
    """
    if by == "ratio":
        return distance_m * now_m / was_m
    if by == "dioptres":
        nearness = 1.0 / distance_m + 1.0 / now_m - 1.0 / was_m
        if nearness <= 1e-6:
            raise PlanError("A plate that keeps its gap would be beyond infinity.")
        return 1.0 / nearness
    there = distance_m + now_m - was_m
    if there <= 0:
        raise PlanError("A plate that keeps its gap would be behind the camera.")
    return there


def corners_at(plate: Plate, dials: tuple[Dial, ...], camera: Camera, frames: ArrayLike) -> Numbers:
    """Corners of a plate's picture on the stage, (F, 4, 3): lower left, lower right, upper right, upper left.

    Parameters
    ----------
    camera : at these frames, for a plate that faces it
    """
    at = np.atleast_1d(np.asarray(frames, float))
    poses = np.broadcast_to(poses_at(plate, dials, at, camera), (len(at), 4, 4))
    local = corners_of(plate)
    return np.asarray(np.einsum("fij,cj->fci", poses[:, :3, :3], local) + poses[:, None, :3, 3])


def corners_of(plate: Plate, beyond: bool = False) -> Numbers:
    """The corners (4, 3) in the plate's own space, metres from its pivot at a scale of 1."""
    more = plate.beyond_part if beyond and plate.beyond != "nothing" else 0.0
    return np.array([
        _own_place(plate, (x, y))
        for x, y in ((-more, 1 + more), (1 + more, 1 + more), (1 + more, -more), (-more, -more))
    ])  # fmt: skip


def _own_place(plate: Plate, place: Point) -> tuple[float, float, float]:
    """A place in the picture, parts of its width and height from the upper left, in the plate's space."""
    wide = plate.height_m * plate.picture.aspect
    return ((place[0] - plate.pivot[0]) * wide, (plate.pivot[1] - place[1]) * plate.height_m, 0.0)


def place_at(plate: Plate, dials: tuple[Dial, ...], camera: Camera, frame: float, place: Point) -> Numbers:
    """Where on the stage a place in a plate's picture stands at a frame, (3,)."""
    pose = poses_at(plate, dials, [frame], camera)[0]
    return np.asarray(pose[:3, :3] @ np.array(_own_place(plate, place)) + pose[:3, 3])


def picture_place(
    plate: Plate, dials: tuple[Dial, ...], camera: Camera, frame: float, right: float, down: float
) -> Point | None:
    """The place in a plate's picture that is seen at a place of the frame, both in parts from the upper left;
    None where the line of sight does not meet its plane.
    """
    origin, way = camera.ray(right, down, 1.0, 1.0)
    pose = poses_at(plate, dials, [frame], camera)[0]
    size = np.linalg.norm(pose[:3, :3], axis=0)
    inverse = np.linalg.inv(pose)
    start = inverse[:3, :3] @ origin + inverse[:3, 3]
    along = inverse[:3, :3] @ way
    if abs(along[2]) * size[2] < 1e-9 or -start[2] / along[2] <= 0:
        return None
    met = start + along * (-start[2] / along[2])
    wide = plate.height_m * plate.picture.aspect
    return (float(met[0] / wide + plate.pivot[0]), float(plate.pivot[1] - met[1] / plate.height_m))


def pivoted(plate: Plate, dials: tuple[Dial, ...], camera: Camera, frame: float, pivot: Point) -> Plate:
    """A plate with another pivot, that stays where it is at a frame."""
    before = place_at(plate, dials, camera, frame, pivot)
    here = pivot_at(plate, dials, [frame])[0]
    return moved_by(plate, before - here).replace(pivot=pivot)

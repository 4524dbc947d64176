"""Where a camera made here stands and looks, over time."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers
from kobrel.plan.model import CameraKey, MadeCamera
from kobrel.stage.motion import Track, rigid

_SLEW = 1e-9


def look_at(position_m: ArrayLike, aim_m: ArrayLike, roll_deg: ArrayLike = 0.0) -> Numbers:
    """Poses (F, 4, 4) of cameras at places (F, 3) that look at aims (F, 3), rolled by (F,) degrees."""
    position, aim = np.atleast_2d(np.asarray(position_m, float)), np.atleast_2d(np.asarray(aim_m, float))
    position, aim = np.broadcast_arrays(position, aim)
    back = position - aim
    length = np.linalg.norm(back, axis=1, keepdims=True)
    back = np.where(length > 0, back / np.where(length > 0, length, 1.0), (0.0, 0.0, 1.0))
    upright = np.hypot(back[:, 0:1], back[:, 2:3]) > 1e-7
    up = np.where(upright, (0.0, 1.0, 0.0), (0.0, 0.0, -1.0))
    right = np.cross(up, back)
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    up = np.cross(back, right)
    roll = np.broadcast_to(np.radians(np.asarray(roll_deg, float)), len(back))[:, None]
    poses = np.tile(np.eye(4), (len(back), 1, 1))
    poses[:, :3, 0] = np.cos(roll) * right - np.sin(roll) * up
    poses[:, :3, 1] = np.sin(roll) * right + np.cos(roll) * up
    poses[:, :3, 2] = back
    poses[:, :3, 3] = position
    return poses


def made_at(camera: MadeCamera, frames: ArrayLike) -> tuple[Numbers, Numbers, Numbers]:
    """Place (F, 3), aim (F, 3) and roll (F,) of a made camera; one of each where it stands still."""
    if not camera.keys:
        return np.array([camera.position_m]), np.array([camera.aim_m]), np.array([camera.roll_deg])
    times = np.array([key.frame for key in camera.keys], float)
    smooth = np.array([key.ease == "smooth" for key in camera.keys])
    aims = np.array([key.aim_m for key in camera.keys], float)
    places = np.array([key.position_m for key in camera.keys], float)
    aim = Track(times, aims, smooth).at(frames)
    roll = Track(times, np.array([[key.roll_deg] for key in camera.keys]), smooth).at(frames)[:, 0]
    if camera.path == "straight":
        return Track(times, places, smooth).at(frames), aim, roll
    away = places - aims
    length = np.linalg.norm(away, axis=1, keepdims=True)
    distance = np.exp(Track(times, np.log(length), smooth).at(frames))
    return aim + distance * _turned(Track(times, away / length, smooth), frames), aim, roll


def _turned(directions: Track, frames: ArrayLike) -> Numbers:
    """Directions at frames, turned evenly along the great circle between samples."""
    if len(directions.times) == 1:
        return directions.values
    low, part = directions.bracket(frames)
    first, second = directions.values[low], directions.values[low + 1]
    angle = np.arccos(np.clip(np.sum(first * second, axis=1), -1.0, 1.0))[:, None]
    sine = np.sin(angle)
    t = part[:, None]
    straight = first * (1 - t) + second * t
    safe = np.where(sine > _SLEW, sine, 1.0)
    arc = (np.sin((1 - t) * angle) * first + np.sin(t * angle) * second) / safe
    result = np.where(sine > _SLEW, arc, straight)
    return np.asarray(result / np.linalg.norm(result, axis=1, keepdims=True))


def made_poses(camera: MadeCamera, frames: ArrayLike, aims: Numbers | None = None) -> Numbers:
    """Poses of a made camera, (F, 4, 4) or (1, 4, 4); `aims` (F, 3) win over its own aim."""
    place, aim, roll = made_at(camera, frames)
    if aims is not None and not np.isnan(aims).any():
        aim = aims
    return look_at(place, aim, roll)


def made_from_pose(pose: ArrayLike, distance_m: float, near_clip_m: float = 0.01) -> MadeCamera:
    """A made camera that stands and looks as a pose does, aiming at a distance on its axis."""
    matrix = rigid(np.asarray(pose, dtype=float).reshape(1, 4, 4))[0]
    position, back = matrix[:3, 3], matrix[:3, 2]
    aim = position - back * distance_m
    level = look_at(position, aim)[0]
    roll = np.degrees(np.arctan2(matrix[:3, 0] @ -level[:3, 1], matrix[:3, 0] @ level[:3, 0]))
    roll = 0.0 if abs(roll) < 1e-9 else float(roll)
    return MadeCamera(position_m=vector(position), aim_m=vector(aim), roll_deg=roll, near_clip_m=near_clip_m)


def vector(values: ArrayLike) -> tuple[float, float, float]:
    """Three plain numbers, for the document."""
    x, y, z = np.asarray(values, dtype=float)
    return float(x), float(y), float(z)


def key_of(camera: MadeCamera, frame: float) -> CameraKey:
    """Where a made camera stands and looks at a frame, as a key."""
    place, aim, roll = made_at(camera, [frame])
    return CameraKey(frame=frame, position_m=vector(place[0]), aim_m=vector(aim[0]), roll_deg=float(roll[0]))


def posed(camera: MadeCamera, frame: float, **changes: object) -> MadeCamera:
    """The camera moved: by a key at the frame where it has keys, or altogether; what is not keyed changes
    for all frames.
    """
    still = {name: value for name, value in changes.items() if name not in camera.over_time}
    moved = {name: value for name, value in changes.items() if name in camera.over_time}
    if still:
        camera = camera.replace(**still)
    return camera.set(key_of(camera, frame).replace(**moved)) if moved else camera


def creep(camera: MadeCamera, first: float, last: float) -> MadeCamera:
    """A slow move aside, by a twentieth of the way to the aim, over a shot."""
    start = key_of(camera, first)
    pose = look_at(start.position_m, start.aim_m)[0]
    away = float(np.linalg.norm(np.subtract(start.position_m, start.aim_m)))
    end = vector(np.asarray(start.position_m) + pose[:3, 0] * away * 0.05)
    return camera.replace(keys=(start, start.replace(frame=last, position_m=end)), path="straight")


def orbit(camera: MadeCamera, first: float, last: float, degrees: float = 30.0) -> MadeCamera:
    """A move about the aim, at the same height and distance."""
    start = key_of(camera, first)
    end = vector(turned_about(start.position_m, start.aim_m, np.radians(degrees), 0.0))
    return camera.replace(keys=(start, start.replace(frame=last, position_m=end)), path="arc")


def push_in(camera: MadeCamera, first: float, last: float) -> MadeCamera:
    """A move toward the aim, to seven tenths of the way."""
    start = key_of(camera, first)
    end = vector(np.asarray(start.aim_m) + 0.7 * np.subtract(start.position_m, start.aim_m))
    return camera.replace(keys=(start, start.replace(frame=last, position_m=end)), path="straight")


def turned_about(position_m: ArrayLike, aim_m: ArrayLike, across_rad: float, up_rad: float) -> Numbers:
    """A place moved about an aim: around the vertical, and up or down short of the poles."""
    away = np.asarray(position_m, float) - np.asarray(aim_m, float)
    distance = float(np.linalg.norm(away))
    level = float(np.arcsin(np.clip(away[1] / distance, -1.0, 1.0)))
    turn = float(np.arctan2(away[0], away[2])) + across_rad
    level = min(max(level + up_rad, -1.55), 1.55)
    back = np.array([np.cos(level) * np.sin(turn), np.sin(level), np.cos(level) * np.cos(turn)])
    return np.asarray(np.asarray(aim_m, float) + back * distance)

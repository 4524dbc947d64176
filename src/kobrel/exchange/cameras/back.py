"""A camera that comes back from elsewhere: what differs from the shot's, and taking it, whole or in part."""

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.optics import projection
from kobrel.optics.lens import Numbers
from kobrel.optics.units import Measure, format_length
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import Survey, survey
from kobrel.plan.model import FixedCamera, MadeCamera, Plan, Shot
from kobrel.plan.parts import MOST
from kobrel.plan.sequence.shots import whole_range
from kobrel.plan.space.moves import key_of, made_from_pose
from kobrel.plan.values.back import shot_with, taken
from kobrel.plan.values.render_camera import render_camera
from kobrel.stage.motion import rigid
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import CameraSource, Progress, Scene, no_progress
from kobrel.stage.stage import Stage

Part = Literal["place", "film", "lens", "shift", "focus", "stop", "squeeze"]
PARTS: dict[Part, str] = {
    "place": "Place", "squeeze": "Squeeze", "film": "Film back", "lens": "Focal length",
    "shift": "Lens shift", "focus": "Focus", "stop": "Stop",
}  # fmt: skip
"""What of a camera can be taken by itself, in the order in which it is taken."""
_KEYS: dict[Part, tuple[str, ...]] = {
    "squeeze": ("squeeze",), "film": ("film_width", "film_height"), "lens": ("focal_length",),
    "focus": ("focus_distance",), "stop": ("f_number",),
}  # fmt: skip
_SAME_M, _SAME_TURN = 1e-5, 1e-6
_SAME_PX = 0.005
_FAR_M = 1e4
_AIM_M = 1.0
_RIGHT_ANGLED = 1e-3


@dataclass(frozen=True, eq=False)
class CameraNumbers:
    """A camera read back: numbers for F frames, of the render camera.

    `pose` is (F, 4, 4) in metres, Y up; the others are (F,). A value that the file does not have is None.
    `path` is the camera's own, `cameras` those of all that the file has.
    """

    frames: Numbers
    pose: Numbers
    focal_mm: Numbers
    f_number: Numbers | None
    focus_m: Numbers | None
    width_mm: Numbers
    height_mm: Numbers
    squeeze: float = 1.0
    shift_mm: tuple[float, float] = (0.0, 0.0)
    told: tuple[str, ...] = field(default=())
    path: str = ""
    cameras: tuple[str, ...] = ()


def read_camera(
    path: Path,
    camera_path: str | None = None,
    unit_m: float | None = None,
    progress: Progress = no_progress,
    like: str = "",
) -> CameraNumbers:
    """Read a camera of USD, glTF or Alembic, at each frame of the file's range.

    Parameters
    ----------
    camera_path : which camera; if left out, that of the path `like` or else the first
    unit_m : metres in the file's unit, where it does not say it

    Raises
    ------
    SceneError
        The file cannot be read.
    ExchangeError
        It has no such camera.
    """
    scene = load_scene(path, progress)
    if unit_m is not None and not scene.says_unit:
        scene = scene.read_as(unit_m, scene.up)
    source = scene.camera(camera_path or like) or (None if camera_path else next(iter(scene.cameras), None))
    if source is None:
        known = ", ".join(camera.path for camera in scene.cameras[:5])
        raise ExchangeError(
            f"no camera named {camera_path} in it." if camera_path else "no camera found.",
            file=path, remedy=f"It has {known}." if known else "Export the camera too.",
        )  # fmt: skip
    if source.projection != "perspective":
        raise ExchangeError(
            f"its camera has a {source.projection} view, which cannot be compared.", file=path
        )
    frames = np.arange(scene.first_frame or 0, (scene.last_frame or scene.first_frame or 0) + 1.0)
    return _numbers(scene, source, frames)


def _numbers(scene: Scene, source: CameraSource, frames: Numbers) -> CameraNumbers:
    def at(track: Any) -> Numbers | None:
        return None if track is None else np.broadcast_to(track.at(frames)[:, 0], frames.shape)

    focal, stop, focus = at(source.focal_mm), at(source.f_number), at(source.focus_m)
    width, height = at(source.width_mm), at(source.height_mm)
    assert focal is not None
    assert width is not None
    assert height is not None
    if source.model == "thin" and focus is not None:
        image = focal / (1.0 - focal / (1000.0 * focus))
        focal, stop = image, None if stop is None else stop * image / focal
    missing = [name for name, values in (("stop", stop), ("focus", focus)) if values is None]
    told = [f"The file says nothing of the {name}; the shot's stays." for name in missing]
    about = tuple(line for line in scene.warnings if source.path in line and "assumed" not in line)
    pose = np.broadcast_to(rigid(scene.world(source.node, frames)), (len(frames), 4, 4))
    _require_places(pose, frames, scene.path)
    return CameraNumbers(
        frames, pose,
        focal, stop, focus, width * source.squeeze, height, source.squeeze, source.shift_mm, (*told, *about),
        source.path, tuple(camera.path for camera in scene.cameras),
    )  # fmt: skip


def _require_places(pose: Numbers, frames: Numbers, path: Path) -> None:
    """See that a camera stands somewhere and looks somewhere at each frame.

    Raises
    ------
    ExchangeError
        It does not; names the first such frame.
    """
    with np.errstate(invalid="ignore"):
        turned = np.abs(np.linalg.det(np.nan_to_num(pose[:, :3, :3])) - 1.0) < _RIGHT_ANGLED
        placed = np.isfinite(pose).all(axis=(1, 2)) & (np.abs(pose[:, :3, 3]) < MOST).all(axis=1)
    wrong = np.flatnonzero(~(turned & placed))
    if len(wrong):
        raise ExchangeError(
            f"the camera position is invalid at frame {frames[wrong[0]]:g}.", file=path,
            remedy="Export it without scale or shear.",
        )  # fmt: skip


@dataclass(frozen=True)
class Difference:
    """One thing that differs.

    Parameters
    ----------
    before, after : in words, at the frame where it differs most
    frame : where that is
    blur_px : by how much it alone changes any blur, at most, of subjects in the picture and infinity
    framing_px : how far it alone moves anything in the picture, at most
    """

    part: Part
    before: str
    after: str
    frame: float
    blur_px: float
    framing_px: float

    @property
    def title(self) -> str:
        """What it is about."""
        return PARTS[self.part]

    @property
    def told(self) -> str:
        """How much it matters."""
        return f"blur {self.blur_px:.2g} px, framing {self.framing_px:.2g} px"


@dataclass(frozen=True, eq=False)
class Comparison:
    """A camera beside a shot's own.

    Parameters
    ----------
    told : what is to know besides, in sentences
    """

    plan: Plan
    shot: Shot
    numbers: Survey
    read: CameraNumbers
    differences: tuple[Difference, ...]
    told: tuple[str, ...]

    def taken(self, parts: Collection[Part]) -> Shot:
        """The shot with some parts of the camera.

        Raises
        ------
        PlanError
            The shot cannot have them.
        """
        return _with(self.shot, self.numbers, self.read, parts)


def compare(plan: Plan, shot: Shot, stage: Stage, read: CameraNumbers, unit: Measure) -> Comparison:
    """What differs between a shot's camera and one that came back, each in pixels of blur and framing.

    Raises
    ------
    KobrelError
        They have no frame in common, or what came back makes no sense.
    """
    read, told = _aligned(shot, read)
    numbers = survey(plan, shot, stage, read.frames)
    found = []
    for part in PARTS:
        if not _may_differ(part, read):
            continue
        changed = _with(shot, numbers, read, (part,))
        if changed == shot:
            continue
        other = survey(plan, changed, stage, read.frames)
        blur, framing = _apart(numbers, other)
        if max(blur.max(), framing.max()) < _SAME_PX:
            continue
        row = int(np.argmax(np.maximum(blur, framing)))
        before, after = (_words(part, each.camera.frame(row), unit) for each in (numbers, other))
        found.append(
            Difference(part, before, after, float(read.frames[row]), float(blur.max()), float(framing.max()))
        )
    return Comparison(plan, shot, numbers, read, tuple(found), (*told, *read.told))


def _may_differ(part: Part, read: CameraNumbers) -> bool:
    return not (part == "focus" and read.focus_m is None) and not (part == "stop" and read.f_number is None)


def _aligned(shot: Shot, read: CameraNumbers) -> tuple[CameraNumbers, list[str]]:
    """What was read at the frames that the shot has too; a camera that is counted from elsewhere and is as
    long as the shot begins with it.
    """
    whole = whole_range(shot)
    frames, told = read.frames, list[str]()
    if len(frames) == 1:  # it stands still
        return _rows(read, whole, np.zeros(len(whole), int)), told
    if not np.isin(frames, whole).any():
        begins = {shot.length: float(shot.first), len(whole): float(whole[0])}
        if len(frames) not in begins:
            raise ExchangeError(
                f"its frames {frames[0]:g} to {frames[-1]:g} are none of shot {shot.label}'s, "
                f"{whole[0]:g} to {whole[-1]:g}.", remedy="Export it with the shot's own frames.",
            )  # fmt: skip
        told.append(f"Its frames start at {frames[0]:g}; they are taken from {begins[len(frames)]:g} on.")
        frames = frames - frames[0] + begins[len(frames)]
    rows = np.flatnonzero(np.isin(frames, whole))
    if len(rows) < shot.length:
        told.append(f"It has {len(rows)} of the shot's {shot.length} frames; beyond them its ends are held.")
    return _rows(read, frames[rows], rows), told


def _rows(read: CameraNumbers, frames: Numbers, rows: NDArray[np.intp]) -> CameraNumbers:
    """Some of the frames, which count as others."""
    return replace(
        read, frames=frames, pose=read.pose[rows], focal_mm=read.focal_mm[rows],
        f_number=None if read.f_number is None else read.f_number[rows],
        focus_m=None if read.focus_m is None else read.focus_m[rows],
        width_mm=read.width_mm[rows], height_mm=read.height_mm[rows],
    )  # fmt: skip


def _with(shot: Shot, numbers: Survey, read: CameraNumbers, parts: Collection[Part]) -> Shot:
    given: dict[str, Numbers] = {}
    values: dict[str, Numbers | None] = {
        "squeeze": np.full(len(read.frames), read.squeeze), "film_width": read.width_mm,
        "film_height": read.height_mm, "focal_length": read.focal_mm, "focus_distance": read.focus_m,
        "f_number": read.f_number,
    }  # fmt: skip
    for part in parts:
        given |= {key: value for key in _KEYS.get(part, ()) if (value := values[key]) is not None}
    camera = render_camera(shot, numbers)
    changed = shot_with(shot, numbers, taken(camera, given))
    if "shift" in parts and not np.allclose(read.shift_mm, shot.glass.shift_mm, atol=1e-4):
        changed = changed.replace(glass=changed.glass.replace(shift_mm=read.shift_mm))
    if "place" in parts and _moved(numbers.camera.pose, read.pose):
        changed = changed.replace(camera=_placed(read), ahead_m=0.0, keeps=None)
    return changed


def _moved(before: Numbers, after: Numbers) -> bool:
    away = np.linalg.norm(before[:, :3, 3] - after[:, :3, 3], axis=1)
    turned = np.abs(before[:, :3, :3] - after[:, :3, :3]).max(axis=(1, 2))
    return bool(
        np.any(away > _SAME_M * (1 + np.linalg.norm(after[:, :3, 3], axis=1))) or np.any(turned > _SAME_TURN)
    )


def _placed(read: CameraNumbers) -> FixedCamera | MadeCamera:
    """A camera that stands and moves as the one that was read."""
    if np.ptp(read.pose, axis=0).max() < 1e-9:
        return FixedCamera(pose=tuple(float(value) for value in read.pose[0].ravel()))
    made = [made_from_pose(pose, _AIM_M) for pose in read.pose]
    rolls = np.degrees(np.unwrap(np.radians([camera.roll_deg for camera in made])))
    keys = tuple(
        key_of(camera, float(frame)).replace(ease="even", roll_deg=float(roll))
        for camera, frame, roll in zip(made, read.frames, rolls, strict=True)
    )
    return made[0].replace(keys=keys)


def _apart(one: Survey, other: Survey) -> tuple[Numbers, Numbers]:
    """How far the blur of anything, and its place in the picture, is apart at each frame: (F,), (F,)."""
    seen = one.sight.in_frame | other.sight.in_frame
    with np.errstate(invalid="ignore"):
        blurs = np.where(seen, np.abs(one.sight.blur_px - other.sight.blur_px), 0.0)
    far = np.abs(one.camera.blur_px(np.inf) - other.camera.blur_px(np.inf))
    blur = np.max(np.nan_to_num(np.vstack([blurs, far[None]])), axis=0)
    points = _frame_points(one.camera)
    before, after = one.camera.see(points), other.camera.see(points)
    moved = np.hypot(before.x_px - after.x_px, before.y_px - after.y_px)
    return blur, np.nan_to_num(np.max(moved, axis=0), nan=np.inf)


def _frame_points(camera: Camera) -> Numbers:
    """Middle and corners of the picture at the focus, (5, F, 3) metres on the stage."""
    (half_x, half_y), (middle_x, middle_y) = camera.half_widths(), camera.middle()
    away = np.minimum(camera.focus_m, _FAR_M)[:, None]
    found = []
    for x, y in ((0, 0), (-1, -1), (1, -1), (-1, 1), (1, 1)):
        start, toward = projection.ray(
            camera.projection,
            np.asarray(middle_x + x * half_x, float),
            np.asarray(middle_y + y * half_y, float),
        )
        own = start + toward * away
        found.append(np.einsum("fij,fj->fi", camera.pose[:, :3, :3], own) + camera.pose[:, :3, 3])
    return np.stack(found)


def _words(part: Part, camera: Camera, unit: Measure) -> str:
    """What a camera has of a part, to be read."""
    if part == "place":
        return " ".join(format_length(float(value), unit) for value in camera.pose[:3, 3])
    if part == "focus":
        return format_length(float(camera.focus_m), unit)
    if part == "film":
        return f"{camera.sensor_width_mm * camera.squeeze:.4g} × {camera.sensor_height_mm:.4g} mm"
    if part == "lens":
        return f"{float(camera.image_distance_mm):.4g} mm"
    if part == "stop":
        return f"f/{float(camera.image_f_number):.3g}"
    if part == "squeeze":
        return f"{camera.squeeze:g}"
    return f"{camera.shift_mm[0]:.3g}, {camera.shift_mm[1]:.3g} mm"

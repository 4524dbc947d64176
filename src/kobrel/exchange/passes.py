"""Passes for finishing elsewhere: depth, blur, focus and mattes as EXR, and a note of what is what."""

import re
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
import OpenImageIO as oiio  # noqa: N813
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.exchange.images import write_picture
from kobrel.exchange.rendered.write import target_of
from kobrel.exchange.writing.slate import Slate
from kobrel.exchange.writing.whole import write_text
from kobrel.optics.units import METRE, Measure
from kobrel.picture.tracer import in_bands, never, signed_blur
from kobrel.picture.view import View
from kobrel.plan.export import Pass
from kobrel.plan.measure.camera import Camera, camera_at, pixel_rays
from kobrel.plan.measure.occlusion import own_rows
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.values.render_camera import depth_ends_m
from kobrel.stage.scene import Progress
from kobrel.stage.snapshot import Snapshot
from kobrel.stage.stage import Stage

_CHANNELS: dict[Pass, str] = {
    "depth": "Z", "straight": "distance", "depth01": "depth01", "inverse01": "inverse01", "blur": "blur",
    "focus": "focus",
}  # fmt: skip
_SIDE = 4
"""Rays a pixel each way, for the edges of mattes."""
_MOST_PX = 16384


def matte_channel(number: int, name: str) -> str:
    """What the channel of a subject's matte is called.

    >>> matte_channel(2, "Old Ferryman's hat")
    'matte.2_Old_Ferryman_s_hat'
    """
    return f"matte.{number}_{re.sub(r'[^0-9A-Za-z]+', '_', name)}"[:60]


def write_passes(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    frames: Sequence[int],
    passes: Sequence[Pass],
    path: Path,
    progress: Progress,
    unit: Measure = METRE,
    size: tuple[int, int] | None = None,
) -> list[Path]:
    """Write passes of frames: ``NAME.exr`` becomes ``NAME.1001.exr`` and so on, and ``NAME.txt`` beside.

    Parameters
    ----------
    unit : of depth and distance
    size : width and height; None is the delivery size

    Returns
    -------
    The files written.

    Raises
    ------
    KobrelError
        The shot has no camera, or a file cannot be written.
    Cancelled
        `progress` said so; frames that were finished stay.
    """
    if path.suffix.lower() != ".exr":
        raise ExchangeError("passes are written as .exr.", file=path)
    if not passes or not frames:
        raise ExchangeError("there are no passes, or no frames, to be written.", file=path)
    stage = stage.of_shot(shot.name)
    stage.prepare(progress)
    ends = depth_ends_m(survey(plan, shot, stage))
    rows = [own_rows(stage, subject.anchor) for subject in plan.subjects]
    written = []
    for number, frame in enumerate(frames):

        def tell(frame: int = frame, part: float = number / len(frames)) -> None:
            progress(f"Frame {frame}", part)

        tell()
        camera = camera_at(plan, shot, frame, stage)
        width, height = size or (camera.width_px, camera.height_px)
        if not (1 <= width <= _MOST_PX and 1 <= height <= _MOST_PX):
            raise ExchangeError(f"{width} x {height}: passes are 1 to {_MOST_PX} pixels wide and high.")
        view = View(stage.snapshot(frame, eye=camera.eye), camera, plan.light, width, height)
        channels = _channels(plan, view, passes, ends, rows, unit, tell)
        target = target_of(path, frame)
        _write(target, channels, Slate(camera, frame, shot.fps))
        written.append(target)
    note = path.with_suffix(".txt")
    write_text(note, _note(plan, shot, passes, ends, unit, camera))
    return [*written, note]


def _channels(
    plan: Plan,
    view: View,
    passes: Sequence[Pass],
    ends: tuple[float, float],
    rows: list[list[int]],
    unit: Measure,
    tell: Callable[[], None],
) -> dict[str, NDArray[np.float32]]:
    camera = view.camera
    depth = _depth(view.snapshot, camera, view.width, view.height, tell)
    near, far = ends
    blur = signed_blur(view, depth)
    most = camera.coc_px * view.width / camera.width_px
    with np.errstate(divide="ignore", invalid="ignore"):
        made: dict[Pass, NDArray[np.float32]] = {
            "depth": depth / np.float32(unit.metres),
            "straight": _straight(view, depth) / np.float32(unit.metres),
            "depth01": np.clip((depth - near) / (far - near), 0.0, 1.0).astype(np.float32),
            "inverse01": np.clip(near / depth, 0.0, 1.0).astype(np.float32),
            "blur": blur,
            "focus": (np.abs(blur) <= most * (1 + 1e-6)).astype(np.float32),
        }
    found = {_CHANNELS[name]: made[name] for name in passes if name != "mattes"}
    if "mattes" in passes:
        mattes = _mattes(view.snapshot, camera, view.width, view.height, rows, tell)
        for subject, matte in zip(plan.subjects, mattes, strict=True):
            found[matte_channel(subject.number, subject.name)] = matte
    return found


def _straight(view: View, depth: NDArray[np.float32]) -> NDArray[np.float32]:
    """Distances from the lens; rays of an orthographic view all have their own beginning."""
    x, y = np.meshgrid(np.arange(view.width) + 0.5, np.arange(view.height) + 0.5)
    _, toward = pixel_rays(view.camera, x.ravel(), y.ravel(), view.width, view.height)
    result: NDArray[np.float32] = (depth * np.linalg.norm(toward, axis=-1).reshape(depth.shape)).astype(
        np.float32
    )
    return result


def _depth(
    shot: Snapshot, camera: Camera, width: int, height: int, tell: Callable[[], None]
) -> NDArray[np.float32]:
    """Distance along the axis in the middle of each pixel, (H, W); infinite where the frame is empty."""
    depth = np.empty((height, width), np.float32)

    def band(rows: tuple[int, int]) -> None:
        tell()
        first, last = rows
        distance, _ = _hits(shot, camera, width, height, first, last, 0.5, 0.5)
        depth[first:last] = distance

    in_bands(height, band, never)
    return depth


def _mattes(
    shot: Snapshot,
    camera: Camera,
    width: int,
    height: int,
    own: list[list[int]],
    tell: Callable[[], None],
) -> NDArray[np.float32]:
    """How much of each pixel a subject covers, (S, H, W), 0 to 1."""
    mattes = np.zeros((len(own), height, width), np.float32)
    belongs = np.zeros((len(own), len(shot.matrices) + 1), np.bool_)  # the last is where nothing is met
    for number, rows in enumerate(own):
        belongs[number, rows] = True
    steps = (np.arange(_SIDE) + 0.5) / _SIDE

    def band(rows: tuple[int, int]) -> None:
        first, last = rows
        for y in steps:
            tell()
            for x in steps:
                _, met = _hits(shot, camera, width, height, first, last, float(x), float(y))
                for number in range(len(own)):
                    mattes[number, first:last] += belongs[number, met]

    in_bands(height, band, never)
    return mattes / np.float32(_SIDE * _SIDE)


def _hits(
    shot: Snapshot, camera: Camera, width: int, height: int, first: int, last: int, x: float, y: float
) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """Distance along the axis and row of the node, of a band's pixels at a place within each."""
    from kobrel.stage.engine.rays import closest_hits

    across, down = np.meshgrid(np.arange(width) + x, np.arange(first, last) + y)
    starts, ways = pixel_rays(camera, across.ravel(), down.ravel(), width, height)
    starts = np.broadcast_to(starts, ways.shape)
    hits = closest_hits(shot.handle, shot.first_rows, starts - shot.origin, ways)
    return hits.distance.reshape(across.shape), hits.row.reshape(across.shape)


def _write(path: Path, channels: dict[str, NDArray[np.float32]], slate: Slate) -> None:
    pixels = np.stack(list(channels.values()), axis=-1)
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], len(channels), oiio.FLOAT)
    spec.channelnames = tuple(channels)
    spec["compression"] = "zip"
    slate.put(spec)
    write_picture(path, spec, pixels)


def _note(
    plan: Plan, shot: Shot, passes: Sequence[Pass], ends: tuple[float, float], unit: Measure, camera: Camera
) -> str:
    """What each channel is, for whoever finishes the picture."""
    near, far = (f"{end / unit.metres:g} {unit.symbol}" for end in ends)
    along = "straight-line from the lens" if camera.projection == "fisheye" else "on axis"
    meanings: dict[Pass, str] = {
        "depth": f"distance {along}, {unit.symbol}; infinite where the frame is empty",
        "straight": f"straight distance from the lens, {unit.symbol}",
        "depth01": f"depth {along}, 0 at {near} and 1 at {far} and beyond",
        "inverse01": f"inverse depth, 1 at {near} and 0 at infinity",
        "blur": "diameter of the blur in pixels of this picture, below 0 nearer than the focus"
        + (", its height where discs are squeezed" if camera.squeeze > 1 else ""),
        "focus": f"1 where blur is at most {camera.coc_px:g} px at {camera.width_px} px wide, else 0",
    }
    lines = [f"{plan.name}, shot {shot.label}: passes by Kobrel", ""]
    lines += [f"{_CHANNELS[name]}: {meanings[name]}" for name in passes if name != "mattes"]
    if "mattes" in passes:
        lines += [
            f"{matte_channel(subject.number, subject.name)}: part of each pixel that {subject.name} covers"
            for subject in plan.subjects
        ]
    lines += ["", "Depth, distance, blur and focus are of the middle of each pixel, mattes of all of it.",
              "Values are not colours: read them raw."]  # fmt: skip
    return "\n".join(lines) + "\n"

"""Rendered images written with the blur of a shot: pictures, sequences and movies."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import OpenImageIO as oiio  # noqa: N813
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.exchange.images import write_picture, write_png
from kobrel.exchange.movie import CODERS, Times, picture_path, write_movie
from kobrel.exchange.writing.slate import Slate, put_colour
from kobrel.picture.defocus.simple import Method, blurred_by, grown_back
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import signed_blur
from kobrel.picture.view import View
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import Camera, camera_at
from kobrel.plan.model import Plan, Shot
from kobrel.plan.pictures.rendered import RenderedImage, frame_of
from kobrel.plan.sequence.shots import shot_ends
from kobrel.stage.read.rendered.depth import metres
from kobrel.stage.read.rendered.frames import Pixels, frames_beside, path_at, read_frame
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

CHANNELS = ("R", "G", "B", "Z", "blur", "focus")
"""Of the EXR that is written: depth on axis, blur in pixels of the picture (below 0 for what is nearer
than the focus), and 1 where it is sharp.
"""


@dataclass(frozen=True)
class Choices:
    """How frames are blurred.

    Parameters
    ----------
    most_px : the largest disc, pixels; None is as large as it comes
    grow_stops : by how much highlights that the file clips are brightened again
    again : whether frames that are there already are made anew
    """

    method: Method = "layered"
    most_px: float | None = None
    grow_stops: float = 0.0
    again: bool = False


@dataclass(frozen=True, eq=False)
class Blurred:
    """A rendered image with its blur.

    Parameters
    ----------
    colour : (H, W, 3) linear light
    depth_m : (H, W) along the axis
    blur_px : (H, W) signed, pixels of the picture
    focus : (H, W) 1 where it is sharp, else 0
    told : what looks odd, in sentences
    """

    colour: NDArray[np.float32]
    depth_m: NDArray[np.float32]
    blur_px: NDArray[np.float32]
    focus: NDArray[np.float32]
    told: tuple[str, ...]


def frame_view(camera: Camera, size: tuple[int, int]) -> View:
    """A view for a rendered image, (width, height): a camera without a stage."""
    return View(Stage().snapshot(0.0), camera, Light(), *size)


def depth_of(pixels: Pixels, finished: RenderedImage, view: View) -> NDArray[np.float32]:
    """Metres along the axis, (H, W), of a rendered image that a view's camera pictures."""
    numbers = view.numbers
    x = ((np.arange(view.width) + 0.5) / view.width * 2 - 1) * numbers.half_x + numbers.middle_x
    y = ((np.arange(view.height) + 0.5) / view.height * 2 - 1) * numbers.half_y - numbers.middle_y
    return metres(pixels.depth, finished.rule, (x, y))


def blurred_frame(pixels: Pixels, finished: RenderedImage, camera: Camera, choices: Choices) -> Blurred:
    """A rendered image as a camera blurs it."""
    height, width = pixels.depth.shape
    view = frame_view(camera, (width, height))
    depth = depth_of(pixels, finished, view)
    colour = pixels.colour
    if choices.grow_stops:
        colour = grown_back(colour, float(colour.max(initial=0.0)), choices.grow_stops)
    made = blurred_by(choices.method, view, colour, depth, most_px=choices.most_px)
    blur = signed_blur(view, depth)
    most = camera.coc_px * width / camera.width_px
    told = [*pixels.told]
    if abs(width / height / camera.aspect - 1.0) > 0.01:
        told.append(
            f"The picture is {width} x {height}, the shot's frame {camera.aspect:.3f} : 1; its angle of view "
            "across counts."
        )
    left_out = [
        name for name, amount in (("fringes", camera.flaws.colour_mm), ("swirl", camera.flaws.swirl_mm),
                                  ("spherical aberration", camera.flaws.spherical_mm)) if amount
    ]  # fmt: skip
    if left_out:
        told.append(f"Not simulated on rendered images: {', '.join(left_out)}.")
    focus = (np.abs(blur) <= most * (1 + 1e-6)).astype(np.float32)
    return Blurred(made, depth, blur.astype(np.float32), focus, tuple(told))


def target_of(path: Path, frame: int | None) -> Path:
    """Where a frame is written; None is a single picture.

    >>> target_of(Path("out.exr"), 12).name
    'out.0012.exr'
    """
    return path if frame is None else picture_path(path, frame)


def write_blurred(path: Path, made: Blurred, slate: Slate, light: Light) -> None:
    """Write a frame: .exr with :data:`CHANNELS` and what the slate says, or .png as the plan shows it.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    if path.suffix.lower() == ".png":
        write_png(path, as_shown(made.colour, light, slate.camera))
        return
    parts = (made.depth_m, made.blur_px, made.focus)
    pixels = np.concatenate([made.colour, *(part[..., None] for part in parts)], axis=-1)
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], len(CHANNELS), oiio.FLOAT)
    spec.channelnames = CHANNELS
    spec["compression"] = "zip"
    put_colour(spec)
    slate.put(spec)
    write_picture(path, spec, pixels)


def write_frame(plan: Plan, shot: Shot, frame: int, stage: Stage, path: Path) -> list[str]:
    """Write one frame of a shot that has a rendered image; what looked odd, in sentences.

    Raises
    ------
    KobrelError
        The shot has none, the frame is missing, or it cannot be written.
    """
    found = plan.finished_of(shot)
    if found is None:
        raise ExchangeError(f"Shot {shot.label} has no rendered image.")
    camera = camera_at(plan, shot, frame, stage)
    pixels = read_frame(found, frame if found.sequence else None)
    made = blurred_frame(pixels, found, camera, Choices(most_px=shot.most_px))
    write_blurred(path, made, Slate(camera, frame, shot.fps), plan.light)
    return list(made.told)


def write_range(
    plan: Plan, shot: Shot, stage: Stage, first: int, last: int, path: Path, progress: Progress
) -> list[str]:
    """Write the frames from first to last that a shot's rendered image has, as :func:`defocus` does.

    Raises
    ------
    KobrelError
        As :func:`defocus`.
    """
    found = plan.finished_of(shot)
    if found is None:
        raise ExchangeError(f"Shot {shot.label} has no rendered image.")
    frames = None
    if found.sequence:
        frames = [frame for frame in frames_beside(Path(found.path)) if first <= frame <= last]
        if not frames:
            raise ExchangeError(f"no frame from {first} to {last}.", file=found.path)
    choices = Choices(most_px=shot.most_px, again=True)
    return defocus(plan, shot, stage, found, frames, choices, path, progress)


def defocus(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    finished: RenderedImage,
    frames: Sequence[int] | None,
    choices: Choices,
    path: Path,
    progress: Progress,
    at: int | None = None,
) -> list[str]:
    """Blur rendered images as a shot does, and write them: pictures (.exr, .png) or a movie.

    Frames of a sequence that are there already are left as they are, so that work goes on where it stopped.

    Parameters
    ----------
    frames : of a sequence; None for a single picture
    at : at which frame of the shot a single picture is blurred; None is that in its name, see
        :func:`frame_of`, or else the shot's first

    Returns
    -------
    What looked odd, in sentences, each once.

    Raises
    ------
    KobrelError
        A frame is missing or of another size, or cannot be written.
    Cancelled
        `progress` said so; frames that were finished stay.
    """
    ending = path.suffix.lower()
    if ending not in (".exr", ".png", *CODERS):
        raise ExchangeError(f"frames are written as .exr, .png, {' or '.join(CODERS)}.", file=path)
    wanted: list[int | None] = [None] if frames is None else list(frames)
    single = frame_of(finished, *shot_ends(shot)) if at is None else at
    single = shot.first if single is None else single
    told: dict[str, None] = {}
    size: list[tuple[int, ...]] = []

    def made(frame: int | None, number: int) -> tuple[Blurred, Camera]:
        when = single if frame is None else frame
        progress(f"Frame {when}", number / len(wanted))
        camera = camera_at(plan, shot, when, stage)
        pixels = read_frame(finished, frame)
        size.append(pixels.depth.shape)
        if pixels.depth.shape != size[0]:
            sizes = [f"{wide} x {tall}" for tall, wide in (size[0], size[-1])]
            raise ExchangeError(
                f"it is {sizes[1]}, the frames before it {sizes[0]}.",
                file=path_at(finished.path, frame, finished.sequence), remedy="Export it again at one size.",
            )  # fmt: skip
        result = blurred_frame(pixels, finished, camera, choices)
        told.update(dict.fromkeys(result.told))
        return result, camera

    if ending in CODERS:

        def shown() -> Iterator[NDArray[np.uint8]]:
            for number, frame in enumerate(wanted):
                result, camera = made(frame, number)
                yield as_shown(result.colour, plan.light, camera)[:height, :width]

        first = read_frame(finished, wanted[0])
        height, width = (side - side % 2 for side in first.depth.shape)
        write_movie(
            path, shown(), Times(shot.fps, single if wanted[0] is None else wanted[0]), (width, height)
        )
        return list(told)
    for number, frame in enumerate(wanted):
        target = target_of(path, frame)
        if target.exists() and frame is not None and not choices.again:
            continue
        result, camera = made(frame, number)
        when = single if frame is None else frame
        write_blurred(target, result, Slate(camera, when, shot.fps), plan.light)
    return list(told)

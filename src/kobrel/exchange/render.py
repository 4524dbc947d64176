"""A frame of a shot, rendered to a picture file."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.exchange.images import write_exr, write_png
from kobrel.exchange.writing.slate import Slate
from kobrel.picture.burn import burnt
from kobrel.picture.denoise import require_denoise
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import blur_picture, exposed, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Plan, Shot
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

MOST_PX = 16384
PICTURES = (".png", ".exr")
_PINHOLE = 1e5
"""The f-number of pictures without blur."""


def check_target(path: Path) -> None:
    """See that a picture can be written to a path, before the work.

    Raises
    ------
    ExchangeError
        Its kind is unknown or its folder missing.
    """
    if path.suffix.lower() not in PICTURES:
        raise ExchangeError(f"pictures are written as {' or '.join(PICTURES)}.", file=path)
    if not path.absolute().parent.is_dir():
        raise ExchangeError(f"no such folder: {path.absolute().parent}.", file=path)


def render_frame(
    plan: Plan,
    shot: Shot,
    frame: int,
    stage: Stage,
    size: tuple[int, int] | None,
    samples: int,
    path: Path,
    progress: Progress,
    sharp: bool = False,
    denoise: bool = False,
) -> None:
    """Render a frame with its true depth of field.

    Parameters
    ----------
    size : width and height in pixels; None is the delivery size
    samples : lens samples a pixel
    path : .png (sRGB, with the view's exposure) or .exr (linear, with depth and blur)
    sharp : without any blur, to be given it later
    denoise : whether noise is removed from what is traced

    Raises
    ------
    KobrelError
        The camera is missing, or the file cannot be written.
    """
    check_target(path)
    if denoise:
        require_denoise()
    stage = stage.of_shot(shot.name)
    camera = camera_at(plan, shot, frame, stage)
    if sharp:
        camera = replace(camera, f_number=np.asarray(_PINHOLE))
    width, height = size or (camera.width_px, camera.height_px)
    if not (1 <= width <= MOST_PX and 1 <= height <= MOST_PX):
        raise ExchangeError(f"{width} x {height}: a picture is 1 to {MOST_PX} pixels wide and high.")
    stage.prepare(progress)
    view = View(stage.snapshot(frame, eye=camera.eye), camera, plan.light, width, height)
    what = f"Rendering frame {frame}"
    linear = exposed(view, samples, before=lambda done: progress(what, done / samples), denoise=denoise)
    progress(f"Writing {path.name}", 1.0)
    write_rendered(path, view, linear, Slate(camera, frame, shot.fps, render_note(samples, denoise)))


def render_note(samples: int, denoise: bool) -> str:
    """What the header of a picture says about its noise.

    >>> render_note(16, True)
    '16 samples a pixel, denoised: to look at, not to measure'
    """
    return f"{samples} samples a pixel" + (", denoised: to look at, not to measure" if denoise else "")


def write_rendered(
    path: Path, view: View, linear: NDArray[np.float32], slate: Slate, burns: Sequence[str] = ()
) -> None:
    """Write what a view was rendered to: .png (sRGB, with lines burnt in) or .exr (linear, with depth and
    blur).

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    if path.suffix.lower() == ".png":
        write_png(path, burnt(as_shown(linear, view.light, view.camera), burns), slate.note)
    else:
        depth = sharp_picture(view).depth
        write_exr(path, linear, depth, blur_picture(view, depth), slate)

"""Ways to blur a rendered image against the exact picture of the scene that it was made of."""

import time
from dataclasses import dataclass

import numpy as np

from kobrel.exchange.rendered.write import depth_of, frame_view
from kobrel.picture.defocus.simple import METHODS, Method, blurred_by
from kobrel.picture.develop import as_shown
from kobrel.picture.judging.compare import resized
from kobrel.picture.tracer import exposed, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import Plan
from kobrel.plan.pictures.rendered import RenderedImage
from kobrel.stage.read.rendered.frames import read_frame
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

PASSES = 64


@dataclass(frozen=True)
class Way:
    """A way to blur: how long it takes, and its error of 255, on the average and in the worst percent."""

    method: Method
    seconds: float
    mean: float
    worst: float


@dataclass(frozen=True)
class Comparison:
    """Ways to blur, and how far the file's depth is off the scene's.

    Parameters
    ----------
    off_percent : of the distance, on the average
    apart_percent : of the picture, where it is off by more than 5 %
    """

    ways: tuple[Way, ...]
    off_percent: float
    apart_percent: float


def compared(
    plan: Plan, stage: Stage, camera: Camera, finished: RenderedImage, frame: int, progress: Progress
) -> Comparison:
    """Blur a rendered image in each way, and compare with rays through the lens.

    Raises
    ------
    KobrelError
        The picture cannot be read.
    Cancelled
        `progress` said so.
    """
    pixels = read_frame(finished, frame if finished.sequence else None)
    height, width = pixels.depth.shape
    flat = frame_view(camera, (width, height))
    depth = depth_of(pixels, finished, flat)
    stage.prepare(progress)
    view = View(stage.snapshot(frame, keep=False, eye=camera.eye), camera, plan.light, width, height)
    exact = exposed(view, PASSES, before=lambda done: progress("The exact picture", done / PASSES))
    shown = as_shown(exact, plan.light, camera).astype(int)
    ways = []
    for method in METHODS:
        progress(METHODS[method], 1.0)
        begun = time.perf_counter()
        made = blurred_by(method, flat, pixels.colour, depth)
        took = time.perf_counter() - begun
        error = np.abs(as_shown(made, plan.light, camera).astype(int) - shown).max(axis=2)
        ways.append(Way(method, took, float(error.mean()), float(np.quantile(error, 0.99))))
    traced = resized(sharp_picture(view).depth, depth.shape)
    both = np.isfinite(traced) & np.isfinite(depth)
    off = np.abs(depth[both] / traced[both] - 1.0) if both.any() else np.zeros(1)
    return Comparison(tuple(ways), float(np.median(off)) * 100.0, float((off > 0.05).mean()) * 100.0)

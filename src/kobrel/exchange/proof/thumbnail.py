"""A small picture of a plan, as file managers show it."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from kobrel.errors import PlanError
from kobrel.exchange.writing.whole import whole_file
from kobrel.picture.denoise import can_denoise
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Plan
from kobrel.plan.staging import load_stage

_PASSES = 12


def thumbnail(plan: Plan, size: int) -> NDArray[np.uint8]:
    """The middle of the first shot, with its true blur, (h, w, 3) sRGB.

    Parameters
    ----------
    size : longest side, pixels

    Raises
    ------
    KobrelError
        There is no shot, or nothing of its scenes can be read.
    """
    if not plan.shots:
        raise PlanError("the plan has no shots.")
    stage, problems = load_stage(plan)
    if problems and not stage.triangle_count:
        raise PlanError(problems[0])
    shot = plan.shots[0]
    frame, stage = (shot.first + shot.last) // 2, stage.of_shot(shot.name)
    camera = camera_at(plan, shot, frame, stage)
    wide = size if camera.aspect >= 1 else max(1, round(size * camera.aspect))
    tall = max(1, round(wide / camera.aspect))
    stage.prepare()
    view = View(stage.snapshot(frame, eye=camera.eye), camera, plan.light, wide, tall)
    return as_shown(exposed(view, _PASSES, denoise=can_denoise()), view.light, camera)


def write_thumbnail(plan: Plan, path: Path, size: int) -> None:
    """Write it as PNG, whatever the file is called.

    Raises
    ------
    KobrelError
        As :func:`thumbnail`, or the file cannot be written.
    """
    image = Image.fromarray(thumbnail(plan, size))
    with whole_file(path) as beside:
        image.save(beside, format="PNG")

"""Words burnt into a picture's lower edge, so that a movie tells what it shows."""

from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

import kobrel
from kobrel.optics.units import format_length
from kobrel.plan.check import plan_unit
from kobrel.plan.measure.survey import GONE, STATES, Survey
from kobrel.plan.model import Plan

if TYPE_CHECKING:
    from PIL.ImageFont import FreeTypeFont

BURNS = ("frame", "focus", "stop", "states")
_LEAST_PX, _PART = 11, 0.036
_INK, _GROUND = (236, 231, 218), (18, 25, 27, 205)


def burnt_words(plan: Plan, numbers: Survey, row: int, what: frozenset[str]) -> list[str]:
    """The lines that are burnt in at one frame, of those asked for: frame, focus, stop, states."""
    camera, first = numbers.camera, []
    if "frame" in what:
        first.append(f"{numbers.frames[row]:g}")
    if "focus" in what:
        first.append(f"focus {format_length(float(camera.focus_m[row]), plan_unit(plan))}")
    if "stop" in what:
        first.append(f"{float(camera.focal_mm[row]):.4g} mm  f/{float(camera.f_number[row]):.3g}")
    states = [
        f"{subject.name} {STATES[numbers.state[k, row]]}"
        + ("" if numbers.state[k, row] == GONE else f" {numbers.sight.blur_px[k, row]:.1f} px")
        for k, subject in enumerate(plan.subjects)
    ]
    lines = ["   ".join(first)] if first else []
    return [*lines, "   ".join(states)] if "states" in what and states else lines


def burnt(pixels: NDArray[np.uint8], lines: Sequence[str]) -> NDArray[np.uint8]:
    """A picture (h, w, 3) with lines of text over its lower edge; long lines are cut off."""
    if not lines:
        return pixels
    from PIL import Image, ImageDraw

    tall = max(_LEAST_PX, round(pixels.shape[0] * _PART))
    font, step = _font(tall), round(tall * 1.45)
    image = Image.fromarray(pixels).convert("RGB")
    draw = ImageDraw.Draw(image, "RGBA")
    top = image.height - step * len(lines) - tall // 2
    for k, whole in enumerate(lines):
        line = _fitting(whole, font, image.width - 2 * tall)
        at, wide = (tall, top + k * step), font.getlength(line)
        draw.rectangle((at[0] - tall // 3, at[1] - 1, at[0] + wide + tall // 3, at[1] + step - 2), _GROUND)
        draw.text(at, line, _INK, font)
    return np.asarray(image)


def _fitting(line: str, font: "FreeTypeFont", room: float) -> str:
    """As much of a line as there is room for."""
    if font.getlength(line) <= room:
        return line
    cuts = (line[:k].rstrip() + "…" for k in range(len(line) - 1, 0, -1))
    return next((cut for cut in cuts if font.getlength(cut) <= room), "")


@cache
def _font(pixels: int) -> "FreeTypeFont":
    from PIL import ImageFont

    path = Path(kobrel.__file__).parent / "data" / "fonts" / "B612-Regular.otf"
    return ImageFont.truetype(str(path), pixels)

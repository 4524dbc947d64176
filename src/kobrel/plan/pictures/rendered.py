"""A rendered image with its depth, or a sequence of them: which files, and how the depth counts."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from kobrel.errors import SceneError
from kobrel.plan.parts import FilePath, Part, PositiveFinite
from kobrel.stage.read.rendered.depth import NOTHING_FROM, DepthKind
from kobrel.stage.read.rendered.frames import ENDINGS, Pixels, frames_beside, number_in, read_frame
from kobrel.stage.read.rendered.pose import taken_from

DEPTH_KINDS: dict[DepthKind, str] = {
    "distance": "Distance", "inverse": "Inverse distance (1/m)", "even": "Normalised, linear",
    "dioptres": "Normalised, inverse",
}  # fmt: skip


_FAR_FOCUS_M = 1e5
"""A focus beyond tells nothing of what is in the picture."""


class DepthRule(Part):
    """What the values of a depth picture mean."""

    kind: DepthKind = "distance"
    straight: bool = Field(False, description="Straight from the lens, instead of along its axis.")
    unit_m: PositiveFinite = Field(1.0, description="Metres in a unit, where values are distances.")
    negative: bool = Field(False, description="Distances are below 0, as the camera looks along -Z.")
    near_m: PositiveFinite = Field(0.1, description="Distance of 0, or of 1 where it is upside down.")
    far_m: PositiveFinite = Field(100.0, description="Distance at the other end.")
    flipped: bool = Field(False, description="1 is near and 0 is far.")
    zero_is_nothing: bool = Field(False, description="Where the value is 0 nothing stands.")


class RenderedImage(Part):
    """A rendered image with depth. Paths are kept as a scene's is; of a sequence, those of one frame."""

    path: FilePath
    depth_path: FilePath | None = Field(None, description="Of the depth, where it lies in another file.")
    layer: str = Field("", description="Layer of the picture's channels; empty is R, G and B themselves.")
    depth_channel: str = Field(
        "", description="Channel of the depth; empty is the first that looks like one."
    )
    rule: DepthRule = Field(default_factory=DepthRule)
    sequence: bool = Field(False, description="Whether the number in its name counts frames.")
    half_width: PositiveFinite = Field(
        0.36,
        description="Half its sensor over its focal length: half the width of what it shows at 1 m.",
    )


def frame_of(finished: RenderedImage, first: int, last: int) -> int | None:
    """Which frame a single picture shows: by the number in its name, where that is one from first to last."""
    number = number_in(finished.path)
    return number if number is not None and first <= number <= last else None


def guessed(values: NDArray[np.float32], of_whole_numbers: bool, focus_m: float | None = None) -> DepthRule:
    """What the values of a depth picture probably mean.

    Parameters
    ----------
    values : (H, W)
    of_whole_numbers : whether the file stores 8 or 16 bits
    focus_m : a distance that the scene is likely to have, such as that of the focus
    """
    there = values[np.isfinite(values)]
    if not there.size:
        return DepthRule()
    low, high = float(there.min()), float(there.max())
    if of_whole_numbers or (low >= 0.0 and high <= 1.0 + 1e-6):
        rows = max(1, len(values) // 10)
        top, bottom = (float(np.median(part)) for part in (values[:rows], values[-rows:]))
        far = max(20.0 * focus_m, 1.0) if focus_m and focus_m < _FAR_FOCUS_M else 100.0
        return DepthRule(kind="even", flipped=top < bottom, near_m=far / 200.0, far_m=far)
    negative = float(np.median(there)) < 0.0
    sizes = np.abs(there[np.abs(there) < NOTHING_FROM])
    usual = float(np.median(sizes[sizes > 0])) if (sizes > 0).any() else 1.0
    likely = focus_m if focus_m and focus_m < _FAR_FOCUS_M else 5.0
    unit = min(
        (1.0, 0.01, 0.001, 0.3048, 0.0254), key=lambda m: abs(np.log(usual * m / likely)) + (m != 1) * 2
    )
    zeros = float((values == 0.0).mean()) > 1e-3
    return DepthRule(unit_m=unit, negative=negative, zero_is_nothing=zeros)


def calibrated(rule: DepthRule, read_m: float, known_m: float) -> DepthRule:
    """The rule by which a point that reads one distance has another, which is known."""
    by = known_m / max(read_m, 1e-9)
    if rule.kind in ("distance", "inverse"):
        return rule.replace(unit_m=rule.unit_m * by)
    return rule.replace(near_m=rule.near_m * by, far_m=rule.far_m * by)


def opened(
    path: Path, depth_path: Path | None = None, focus_m: float | None = None
) -> tuple[RenderedImage, Pixels]:
    """A rendered image as it is first opened: its layer, its depth, and what that means, guessed; its
    field of view where its header says that.

    Parameters
    ----------
    focus_m : a distance that is likely in it

    Raises
    ------
    SceneError
        As :func:`read_frame`.
    """
    if path.suffix.lower() not in ENDINGS:
        raise SceneError(f"rendered images end in {', '.join(ENDINGS)}.", file=path)
    number = number_in(path)
    several = number is not None and len(frames_beside(path)) > 1
    first = RenderedImage(
        path=str(path), depth_path=None if depth_path is None else str(depth_path), sequence=several
    )
    pixels = read_frame(first)
    taken = taken_from(path)
    if taken is not None and taken.half_width is not None:
        first = first.replace(half_width=taken.half_width)
    return first.replace(rule=guessed(pixels.depth, pixels.whole_numbers, focus_m)), pixels

"""Blocks of values: those of one convention, side by side, with as many digits as they need."""

import math
from dataclasses import dataclass

import numpy as np

from kobrel.errors import PlanError
from kobrel.optics.lens import Numbers
from kobrel.optics.projection import Projection
from kobrel.optics.units import Measure
from kobrel.plan.values.quantities import GROUPS, QUANTITIES, SYMBOLS, Group, Quantity
from kobrel.plan.values.render_camera import RenderCamera

EXACT_PX = 0.1
"""How far the rounding of a block's values may change any blur."""
_MOST_DECIMALS = 9
_STEP = 1e-6
_PLAIN_FIGURES = 4
_FRAMING = 0.2
"""Pixels of blur that a pixel of framing at the picture's edge counts as."""
_SETS_BLUR: tuple[Group, ...] = ("squeeze", "film", "ends", "focus", "view", "full", "aperture")
_VIEWS: tuple[Projection, ...] = ("perspective", "fisheye")


@dataclass(frozen=True)
class Block:
    """A renderer's convention.

    Parameters
    ----------
    key : its name in files
    title : its name on the screen
    keys : of its quantities, in order
    carries : what of the picture its renderers know besides: squeeze, iris
    within : the projections that it can describe
    """

    key: str
    title: str
    keys: tuple[str, ...]
    carries: tuple[str, ...] = ()
    within: tuple[Projection, ...] = _VIEWS

    @property
    def quantities(self) -> list[Quantity]:
        """Its quantities, in order."""
        return [QUANTITIES[key] for key in self.keys]


_ANY: tuple[Projection, ...] = (*_VIEWS, "orthographic")
BLOCKS: tuple[Block, ...] = (
    Block("f_number", "f-number and film back",
          ("focal_length", "f_number", "film_width", "film_height", "focus_distance")),
    Block("aperture", "Aperture size",
          ("aperture_radius", "aperture_diameter", "aperture_radius_mm", "aperture_diameter_mm",
           "focus_distance")),
    Block("lens", "Lens radius", ("lens_radius", "focal_distance", "angle_across")),
    Block("infinity", "Blur at infinity",
          ("infinity_blur_px", "infinity_blur_percent", "infinity_blur_mm", "focus_distance")),
    Block("limits", "Near and far limit",
          ("focus_distance", "near_limit", "far_limit", "sharp_depth", "hyperfocal")),
    Block("ramp", "Near/far blur ramp",
          ("focus_distance", "full_before", "begins_before", "begins_behind", "full_behind", "largest_blur")),
    Block("depth", "Depth pass, linear",
          ("black_point", "white_point", "focus_value", "blur_at_black")),
    Block("inverse", "Depth pass, inverse",
          ("inverse_white", "inverse_black", "inverse_focus_value", "inverse_blur")),
    Block("view", "Angle of view", ("angle_across", "angle_up", "angle_diagonal")),
    Block("iris", "Iris",
          ("blades", "roundness", "turn_from_right", "clockwise_from_right", "turn_from_top", "back_from_top",
           "squeeze", "disc_width", "stretch", "pupil_width", "pupil_height"),
          ("iris", "squeeze"), _ANY),
    Block("shutter", "Shutter",
          ("shutter_angle", "shutter_part", "shutter_seconds", "shutter_opens", "shutter_closes"),
          within=_ANY),
    Block("exposure", "Exposure", ("t_stop", "iso", "nd_stops", "brighter"), within=_ANY),
    Block("orthographic", "Orthographic view", ("field_width", "light_cone"), within=("orthographic",)),
)  # fmt: skip


def block(key: str) -> Block:
    """A block by its key.

    Raises
    ------
    PlanError
        There is none; tells which there are.
    """
    found = next((each for each in BLOCKS if each.key == key), None)
    if found is None:
        known = ", ".join(each.key for each in BLOCKS)
        raise PlanError(f"there are no values “{key}”.", remedy=f"There are: {known}.")
    return found


def blocks_for(projection: Projection) -> list[Block]:
    """The blocks that can describe a view."""
    return [each for each in BLOCKS if projection in each.within]


@dataclass(frozen=True)
class Term:
    """A value at a frame, as it is exported.

    Parameters
    ----------
    value : in its unit; lengths in the unit of the scene
    decimals : as many as its blur needs
    symbol : of its unit
    name : what it is called, where that is not its quantity's label
    """

    quantity: Quantity
    value: float
    decimals: int
    symbol: str
    name: str = ""

    @property
    def label(self) -> str:
        """What it is called."""
        return self.name or self.quantity.label

    @property
    def text(self) -> str:
        """The number to be typed into a renderer."""
        return number_text(self.value, self.decimals)

    @property
    def shown(self) -> str:
        """The number with its unit, to be read."""
        number = "∞" if math.isinf(self.value) else "–" if math.isnan(self.value) else self.text
        tight = self.symbol in ("°", "%")
        return f"{number}{'' if tight else ' '}{self.symbol}".strip()


def number_text(value: float, decimals: int) -> str:
    """A number with so many decimals at most, without noughts behind.

    >>> number_text(0.0125, 3), number_text(50.0, 2), number_text(float("inf"), 2)
    ('0.013', '50', 'inf')
    """
    if not math.isfinite(value):
        return "inf" if value > 0 else "-inf" if value < 0 else ""
    text = f"{value:.{decimals}f}"
    text = text.rstrip("0").rstrip(".") if "." in text else text
    return "0" if text in ("-0", "") else text


def in_unit(quantity: Quantity, values: Numbers, unit: Measure) -> Numbers:
    """Values of a quantity, lengths in a unit."""
    return values / unit.metres if quantity.kind == "length" else values


def symbol_of(quantity: Quantity, unit: Measure) -> str:
    """The unit that a quantity is counted in."""
    return unit.symbol if quantity.kind == "length" else SYMBOLS[quantity.kind]


def settle(camera: RenderCamera, values: dict[str, Numbers]) -> RenderCamera:
    """The camera that has some values, settled group after group.

    Raises
    ------
    PlanError
        A value cannot be had.
    """
    given = [QUANTITIES[key] for key in values]
    for group in GROUPS:
        for quantity in given:
            if quantity.group == group and quantity.put is not None:
                camera = quantity.put(camera, values[quantity.key])
    return camera


def terms(which: Block, camera: RenderCamera, unit: Measure, distances_m: Numbers) -> list[Term]:
    """The values of a block at the camera's one frame.

    Parameters
    ----------
    distances_m : where blur shall be right: the subjects' distances
    """
    values = {quantity.key: quantity.values(camera) for quantity in which.quantities}
    places = decimals(which, camera, unit, distances_m)
    return [
        Term(
            quantity, float(in_unit(quantity, values[quantity.key], unit)[0]), places[quantity.key],
            symbol_of(quantity, unit),
        )
        for quantity in which.quantities
    ]  # fmt: skip


def decimals(which: Block, camera: RenderCamera, unit: Measure, distances_m: Numbers) -> dict[str, int]:
    """How many decimals each value of a block needs, so that no blur is off by more than `EXACT_PX`, and
    the picture's edge by no more than half a pixel.

    Each value is changed by a little, and the blur at the distances and at infinity compared. What sets no
    blur has four figures.
    """
    places = np.append(distances_m[np.isfinite(distances_m) & (distances_m > 0)], np.inf)
    own = {quantity.key: quantity.values(camera) for quantity in which.quantities}
    settling = [quantity for quantity in which.quantities if quantity.group in _SETS_BLUR and quantity.put]
    found = {
        quantity.key: _plain(float(in_unit(quantity, own[quantity.key], unit)[0]))
        for quantity in which.quantities
    }
    for quantity in settling:
        value = float(own[quantity.key][0])
        found[quantity.key] = _needed(quantity, value, camera, _needs(which, quantity, own), places,
                                      unit, len(settling))  # fmt: skip
    return found


def _needs(which: Block, quantity: Quantity, own: dict[str, Numbers]) -> dict[str, Numbers]:
    """What else of a block is typed with a value: of each other group the first that settles it."""
    chosen: dict[str, Numbers] = {}
    taken = {quantity.group}
    for other in which.quantities:
        if other.put is not None and (other.alone or other.group not in taken) and other is not quantity:
            chosen[other.key] = own[other.key]
            taken.add(other.group)
    return chosen


def _needed(
    quantity: Quantity,
    value: float,
    camera: RenderCamera,
    others: dict[str, Numbers],
    places: Numbers,
    unit: Measure,
    count: int,
) -> int:
    if not math.isfinite(value):
        return 0
    step = max(abs(value) * _STEP, 1e-12)
    try:
        with np.errstate(all="ignore"):
            changed = settle(camera, {**others, quantity.key: np.asarray([value + step])})
            off = np.abs(_off_px(changed, places) - _off_px(camera, places))
    except PlanError:
        return _MOST_DECIMALS
    a_unit = float(np.nanmax(off)) / step * (unit.metres if quantity.kind == "length" else 1.0)
    if not a_unit > 0 or not math.isfinite(a_unit):
        return _plain(value / (unit.metres if quantity.kind == "length" else 1.0))
    # half a unit of the last place, times the blur that one unit makes, may be the value's share
    wanted = math.ceil(-math.log10(2.0 * EXACT_PX / count / a_unit))
    return min(max(wanted, 0), _MOST_DECIMALS)


def _off_px(camera: RenderCamera, places: Numbers) -> Numbers:
    """Blur at the places, and where the picture's edges lie, as pixels of blur."""
    sides = [np.log(side / camera.image_mm) for side in camera.film_mm]
    edges = np.concatenate(sides) * _FRAMING * camera.width_px / 2.0
    return np.append(camera.blur_px(places), edges)


def _plain(value: float) -> int:
    if not math.isfinite(value) or value == 0:
        return 0
    return min(max(_PLAIN_FIGURES - 1 - math.floor(math.log10(abs(value))), 0), _MOST_DECIMALS)

"""Every value that renderers ask for: what it is, its formula, its traps, and how the camera follows it."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from kobrel.errors import PlanError
from kobrel.optics import lens
from kobrel.optics.lens import Numbers
from kobrel.plan.values.render_camera import RenderCamera

Kind = Literal["length", "mm", "px", "percent", "degrees", "number", "stops", "seconds", "frames", "dioptres"]
"""What a value is counted in; a length is in the unit of the scene."""
Group = Literal["squeeze", "film", "ends", "focus", "view", "full", "aperture", "iris", "shutter", "light"]
"""What of the camera a value settles, in the order in which they are settled."""
GROUPS: tuple[Group, ...] = (
    "squeeze", "film", "ends", "focus", "view", "full", "aperture", "iris", "shutter", "light",
)  # fmt: skip
SYMBOLS: dict[Kind, str] = {
    "mm": "mm", "px": "px", "percent": "%", "degrees": "°", "number": "", "stops": "stops", "seconds": "s",
    "frames": "frames", "dioptres": "1/m",
}  # fmt: skip
_MM_PER_M = 1000.0
Put = Callable[[RenderCamera, Numbers], RenderCamera]


@dataclass(frozen=True)
class Quantity:
    """A value of a camera.

    Parameters
    ----------
    key : its name in files
    label : its name on the screen
    of : its value, (F,); lengths in metres
    meaning : what it is, a sentence
    formula : in the symbols of docs/optics.md
    trap : what it is mistaken for, a sentence
    group : what of the camera it settles
    put : the camera that has another value; None for what only follows from others
    alone : whether a group may hold several such values side by side, each of its own
    least, most : bounds of what makes sense
    """

    key: str
    label: str
    kind: Kind
    of: Callable[[RenderCamera], ArrayLike]
    meaning: str
    formula: str
    trap: str = ""
    group: Group | None = None
    put: Put | None = None
    alone: bool = False
    least: float = 1e-9
    most: float = 1e9

    def values(self, camera: RenderCamera) -> Numbers:
        """The value at each frame, (F,)."""
        return np.asarray(self.of(camera), float) + np.zeros(len(camera.frames))


def single(values: Numbers, what: str) -> float:
    """The one value of what cannot change over a shot.

    Raises
    ------
    PlanError
        It changes; says what.
    """
    if np.ptp(values) > 1e-6 * max(abs(float(values[0])), 1e-6):
        raise PlanError(f"{what} changes over the frames; a shot has one.")
    return float(values[0])


def _film(side: int) -> Put:
    def put(camera: RenderCamera, values: Numbers) -> RenderCamera:
        film = list(camera.film_mm)
        film[side] = single(values, "the film back")
        return replace(camera, film_mm=(film[0], film[1]))

    return put


def _squeezed(camera: RenderCamera, values: Numbers) -> RenderCamera:
    """Another squeeze on the same sensor."""
    squeeze = single(values, "the squeeze")
    wide = camera.film_mm[0] / camera.squeeze * squeeze
    return replace(camera, squeeze=squeeze, film_mm=(wide, camera.film_mm[1]))


def _sides(camera: RenderCamera) -> dict[str, float]:
    across, up = camera.film_mm
    return {"across": across, "up": up, "diagonal": float(np.hypot(across, up))}


def _angle(side: str) -> Callable[[RenderCamera], ArrayLike]:
    def of(camera: RenderCamera) -> ArrayLike:
        half = _sides(camera)[side] / 2.0 / camera.image_mm
        if camera.projection == "orthographic":
            return 0.0 * half
        return np.degrees(2.0 * (half if camera.projection == "fisheye" else np.arctan(half)))

    return of


def _put_angle(side: str) -> Put:
    def put(camera: RenderCamera, values: Numbers) -> RenderCamera:
        half = np.radians(values) / 2.0
        return camera.with_image(
            _sides(camera)[side] / 2.0 / (half if camera.projection == "fisheye" else np.tan(half))
        )

    return put


def _put_blur_at(sign: float, scale: str = "coc") -> Put:
    """The aperture whose blur at a distance nearer (+1) or farther (-1) than the focus is the largest called
    sharp, or that of a full ramp.
    """

    def put(camera: RenderCamera, values: Numbers) -> RenderCamera:
        blur = camera.coc_px if scale == "coc" else camera.full_px
        off = sign * (1.0 / values - 1.0 / camera.focus_m)
        if np.any(np.abs(off) < 1e-12):
            raise PlanError("the distance is the focus itself; blur starts around it.")
        if np.any(off < 0):
            at = int(np.argmin(off))
            side, other = ("before", "nearer") if sign > 0 else ("behind", "farther")
            raise PlanError(
                f"{values[at]:.4g} m is not {side} the focus, which is at {camera.focus_m[at]:.4g} m.",
                remedy=f"A limit {side} the focus is {other} than it.",
            )
        return camera.with_px_per_dpt(blur / off)

    return put


def _at_blur(sign: float, scale: str = "coc") -> Callable[[RenderCamera], ArrayLike]:
    """The distance nearer (+1) or farther (-1) than the focus at which blur is so large."""

    def of(camera: RenderCamera) -> ArrayLike:
        blur = camera.coc_px if scale == "coc" else camera.full_px
        nearness = 1.0 / camera.focus_m + sign * blur / camera.px_per_dpt
        with np.errstate(divide="ignore"):
            return np.where(nearness > 0, 1.0 / np.where(nearness > 0, nearness, 1.0), np.inf)

    return of


def _put_focus(camera: RenderCamera, values: Numbers) -> RenderCamera:
    return replace(camera, focus_m=values)


def _put_straight_value(camera: RenderCamera, values: Numbers) -> RenderCamera:
    near, far = camera.ends_m
    return replace(camera, focus_m=near + values * (far - near))


def _put_inverse_value(camera: RenderCamera, values: Numbers) -> RenderCamera:
    with np.errstate(divide="ignore"):
        return replace(camera, focus_m=camera.ends_m[0] / values)


def _put_turn(camera: RenderCamera, values: Numbers) -> RenderCamera:
    """An iris turned so; what turns it as it closes stays."""
    return replace(camera, turn_deg=values)


def _corner_step(camera: RenderCamera) -> float:
    return 360.0 / camera.blades if camera.blades else 360.0


def _stretch(camera: RenderCamera) -> float:
    return 1.0 / camera.squeeze - 1.0


_ALL = (
    Quantity("focal_length", "Focal length", "mm", lambda c: c.image_mm,
             "Focal length of the render camera that makes this picture.", "v",
             "A lens that breathes pictures a wider view or a narrower one than its own focal length says.",
             "view", lambda c, v: c.with_image(v)),
    Quantity("f_number", "f-number", "number", lambda c: lens.image_f_number(c.pupil_mm, c.image_mm),
             "Focal length over the diameter of the pupil.", "v / A",
             "Only valid for this focal length.",
             "aperture", lambda c, v: c.with_pupil(c.image_mm / v)),
    Quantity("film_width", "Film back, width", "mm", lambda c: c.film_mm[0],
             "Width of the delivered frame on the sensor, times the squeeze.", "w q",
             "Renderers have their own default; angle of view and blur both depend on it.",
             "film", _film(0), True),
    Quantity("film_height", "Film back, height", "mm", lambda c: c.film_mm[1],
             "Height of the delivered frame on the sensor.", "h",
             "Where a renderer takes the width alone, it follows from the picture's shape.",
             "film", _film(1), True),
    Quantity("focus_distance", "Focus distance", "length", lambda c: c.focus_m,
             "From the render camera's origin, on axis; on a spherical focus surface, straight-line.", "s",
             "A tape gives the straight-line distance, which is longer off axis.",
             "focus", _put_focus, least=1e-3, most=np.inf),
    Quantity("focal_distance", "Focal distance", "length", lambda c: c.focus_m,
             "Where a renderer that has a lens radius focuses; the focus distance by another name.", "s",
             "Not a focal length.", "focus", _put_focus, least=1e-3, most=np.inf),
    Quantity("focus_dioptres", "Focus, dioptres", "dioptres", lambda c: 1.0 / c.focus_m,
             "1 ÷ focus distance in metres.", "1 / s", "",
             "focus", lambda c, v: replace(c, focus_m=_over(v)), least=0.0, most=1e3),
    Quantity("aperture_radius", "Radius", "length", lambda c: c.pupil_mm / 2 / _MM_PER_M,
             "Half the width of the pupil, in the unit of the scene.", "A / 2",
             "Typed as a diameter it halves all blur.",
             "aperture", lambda c, v: c.with_pupil(2 * _MM_PER_M * v)),
    Quantity("aperture_diameter", "Diameter", "length", lambda c: c.pupil_mm / _MM_PER_M,
             "Width of the pupil, in the unit of the scene.", "A",
             "Typed as a radius it doubles all blur.",
             "aperture", lambda c, v: c.with_pupil(_MM_PER_M * v)),
    Quantity("aperture_radius_mm", "Radius in mm", "mm", lambda c: c.pupil_mm / 2,
             "Half the width of the pupil.", "A / 2", "Typed as a diameter it halves all blur.",
             "aperture", lambda c, v: c.with_pupil(2 * v)),
    Quantity("aperture_diameter_mm", "Diameter in mm", "mm", lambda c: c.pupil_mm,
             "Width of the pupil.", "A", "Typed as a radius it doubles all blur.",
             "aperture", lambda c, v: c.with_pupil(v)),
    Quantity("lens_radius", "Lens radius", "length", lambda c: c.pupil_mm / 2 / _MM_PER_M,
             "Radius of the disc that rays start from, in the unit of the scene.", "A / 2",
             "Not an f-number: a larger value blurs more.",
             "aperture", lambda c, v: c.with_pupil(2 * _MM_PER_M * v)),
    Quantity("infinity_blur_px", "Infinity, in pixels", "px", lambda c: c.blur_px(np.inf),
             "Diameter of the discs of lights at infinity, at delivery width.", "A v / s / (w q) W",
             "In pixels at delivery width; a smaller render has smaller discs.",
             "aperture", lambda c, v: c.with_px_per_dpt(v * c.focus_m)),
    Quantity("infinity_blur_percent", "Infinity, % of the width", "percent",
             lambda c: c.blur_px(np.inf) / c.width_px * 100,
             "Diameter of the discs of lights at infinity, of the picture's width.", "A v / s / (w q)",
             "Some take a part of the height.",
             "aperture", lambda c, v: c.with_px_per_dpt(v / 100 * c.width_px * c.focus_m)),
    Quantity("infinity_blur_mm", "Infinity, on the film back", "mm",
             lambda c: c.blur_px(np.inf) / c.width_px * c.film_mm[0],
             "Diameter of the discs of lights at infinity, on the film back.", "A v / s",
             "Only valid for this film back.",
             "aperture", lambda c, v: c.with_px_per_dpt(v / c.film_mm[0] * c.width_px * c.focus_m)),
    Quantity("near_limit", "Near limit", "length", _at_blur(1.0),
             "Where blur reaches the sharpness limit, in front of the focus.", "1 / (1/s + c0/(A v))",
             "Depends on the sharpness limit.", "aperture", _put_blur_at(1.0)),
    Quantity("far_limit", "Far limit", "length", _at_blur(-1.0),
             "Where blur reaches the sharpness limit, behind the focus.", "1 / (1/s − c0/(A v))",
             "From the hyperfocal distance on it is infinity.",
             "aperture", _put_blur_at(-1.0), most=np.inf),
    Quantity("sharp_depth", "Depth of field", "length",
             lambda c: np.asarray(_at_blur(-1.0)(c)) - np.asarray(_at_blur(1.0)(c)),
             "From the near limit to the far limit.", "far − near"),
    Quantity("hyperfocal", "Hyperfocal", "length",
             lambda c: lens.hyperfocal_m(c.focal_mm, c.f_number, c.coc_mm, c.model),
             "Focus distance from which everything to infinity is sharp.", "f²/(N c0), thin: + f"),
    Quantity("full_before", "Near, full blur", "length", _at_blur(1.0, "full"),
             "Closer than this, blur is at the end of the ramp.", "1 / (1/s + c1/(A v))",
             "", "aperture", _put_blur_at(1.0, "full")),
    Quantity("begins_before", "Near, blur starts", "length", _at_blur(1.0),
             "Near limit: closer than this is out of focus.", "1 / (1/s + c0/(A v))",
             "", "aperture", _put_blur_at(1.0)),
    Quantity("begins_behind", "Far, blur starts", "length", _at_blur(-1.0),
             "Far limit: farther than this is out of focus.", "1 / (1/s − c0/(A v))",
             "", "aperture", _put_blur_at(-1.0), most=np.inf),
    Quantity("full_behind", "Far, full blur", "length", _at_blur(-1.0, "full"),
             "Farther than this, blur is at the end of the ramp; infinity where it never is.",
             "1 / (1/s − c1/(A v))", "", "aperture", _put_blur_at(-1.0, "full"), most=np.inf),
    Quantity("largest_blur", "Largest blur", "px", lambda c: c.full_px,
             "Diameter of the discs where the ramp is full.", "c1",
             "Some ask for the radius.", "full", lambda c, v: replace(c, full_px=v)),
    Quantity("black_point", "Black point", "length", lambda c: c.ends_m[0],
             "Distance that is black in the depth pass.", "b",
             "Distances count on axis; some depth passes hold straight-line distances.", "ends",
             lambda c, v: replace(c, ends_m=(single(v, "the black point"), c.ends_m[1])), True),
    Quantity("white_point", "White point", "length", lambda c: c.ends_m[1],
             "Distance that is white in the depth pass, and all beyond.", "e", "", "ends",
             lambda c, v: replace(c, ends_m=(c.ends_m[0], single(v, "the white point"))), True),
    Quantity("focus_value", "Focus, 0 to 1", "number",
             lambda c: (c.focus_m - c.ends_m[0]) / (c.ends_m[1] - c.ends_m[0]),
             "How bright what is in focus is in the depth pass.", "(s − b) / (e − b)",
             "The other way round where near is white.", "focus", _put_straight_value,
             least=-1e6, most=1e6),
    Quantity("blur_at_black", "Blur at black", "px", lambda c: c.blur_px(c.ends_m[0]),
             "Diameter of the discs where the picture is black.", "A v |1/s − 1/b| / (w q) W",
             "", "aperture",
             lambda c, v: c.with_px_per_dpt(v / np.abs(1.0 / c.focus_m - 1.0 / c.ends_m[0]))),
    Quantity("inverse_white", "White point, inverse", "length", lambda c: c.ends_m[0],
             "Distance that is white in the inverse depth pass.", "b", "", "ends",
             lambda c, v: replace(c, ends_m=(single(v, "the white point"), c.ends_m[1])), True),
    Quantity("inverse_black", "Black point, inverse", "length", lambda _c: np.inf,
             "Infinity is black in the inverse depth pass.", "∞"),
    Quantity("inverse_focus_value", "Focus, inverse 0 to 1", "number", lambda c: c.ends_m[0] / c.focus_m,
             "How bright what is in focus is in the inverse depth pass.", "b / s",
             "Not linear: half as bright is twice as far.", "focus", _put_inverse_value,
             least=0.0, most=1e6),
    Quantity("inverse_blur", "Blur from black to white", "px", lambda c: c.px_per_dpt / c.ends_m[0],
             "Blur from black to white; linear in between.", "A v / b / (w q) W",
             "", "aperture", lambda c, v: c.with_px_per_dpt(v * c.ends_m[0])),
    Quantity("angle_across", "Horizontal angle of view", "degrees", _angle("across"),
             "Angle of view over the picture's width.", "2 atan(w q / 2v)",
             "Some renderers ask for the angle upward.", "view", _put_angle("across"), most=359.9),
    Quantity("angle_up", "Vertical angle of view", "degrees", _angle("up"),
             "Angle of view over the picture's height.", "2 atan(h / 2v)",
             "Some renderers ask for the angle across.", "view", _put_angle("up"), most=359.9),
    Quantity("angle_diagonal", "Diagonal angle of view", "degrees", _angle("diagonal"),
             "Angle of view from corner to corner.", "2 atan(√((w q)² + h²) / 2v)",
             "Lens makers give it for the whole sensor.", "view", _put_angle("diagonal"), most=359.9),
    Quantity("blades", "Blades", "number", lambda c: c.blades,
             "Blades of the iris; 0 is a circle.", "n", "", "iris",
             lambda c, v: replace(c, blades=single(v, "the number of blades")), True, least=0, most=100),
    Quantity("roundness", "Roundness", "number", lambda c: c.roundness,
             "From 0, straight blades, to 1, a circle.", "", "Some count the other way round.",
             "iris", lambda c, v: replace(c, roundness=single(v, "the roundness")), True, least=0, most=1),
    Quantity("turn_from_right", "Rotation, from the right", "degrees",
             lambda c: np.mod(c.turn_deg, _corner_step(c)),
             "Of a corner from the right, counter-clockwise in the picture; the least of its equals.", "",
             "Discs in front of the focus are upside down.", "iris", _put_turn, least=-1e4, most=1e4),
    Quantity("turn_from_top", "Rotation, from the top", "degrees",
             lambda c: np.mod(90.0 - c.turn_deg, _corner_step(c)),
             "Of a corner from straight up, clockwise.", "", "",
             "iris", lambda c, v: replace(c, turn_deg=90.0 - v), least=-1e4, most=1e4),
    Quantity("clockwise_from_right", "Rotation, clockwise from right", "degrees",
             lambda c: np.mod(-c.turn_deg, _corner_step(c)),
             "Of a corner from the right, clockwise in the picture.", "", "",
             "iris", lambda c, v: replace(c, turn_deg=-v), least=-1e4, most=1e4),
    Quantity("back_from_top", "Rotation, back from the top", "degrees",
             lambda c: np.mod(c.turn_deg - 90.0, _corner_step(c)),
             "Of a corner from straight up, counter-clockwise.", "", "",
             "iris", lambda c, v: replace(c, turn_deg=90.0 + v), least=-1e4, most=1e4),
    Quantity("pupil_width", "Pupil, width", "mm", lambda c: c.pupil_mm / c.squeeze,
             "Of the pupil in the desqueezed image.", "A / q"),
    Quantity("pupil_height", "Pupil, height", "mm", lambda c: c.pupil_mm,
             "Of the pupil; with its width a squeeze in millimetres.", "A"),
    Quantity("squeeze", "Squeeze", "number", lambda c: c.squeeze,
             "How many times taller than wide discs are.", "q", "Some ask for its inverse.",
             "squeeze", _squeezed, least=1.0, most=4.0),
    Quantity("disc_width", "Disc, width over height", "number", lambda c: 1.0 / c.squeeze,
             "Width of a disc, its height being 1.", "1 / q", "The wrong way round it lays discs down.",
             "squeeze", lambda c, v: _squeezed(c, 1.0 / v), least=0.25, most=1.0),
    Quantity("stretch", "Stretch, −1 to 1", "number", _stretch,
             "Below 0 discs are as much narrower than high.", "1/q − 1", "",
             "squeeze", lambda c, v: _squeezed(c, 1.0 / (1.0 + v)), least=-0.75, most=0.0),
    Quantity("shutter_angle", "Shutter", "degrees", lambda c: c.shutter_deg,
             "360° is open from frame to frame.", "", "",
             "shutter", lambda c, v: replace(c, shutter_deg=single(v, "the shutter")), most=360.0),
    Quantity("shutter_part", "Open, part of a frame", "number", lambda c: c.shutter_deg / 360.0,
             "How long the shutter is open, in frames.", "angle / 360",
             "", "shutter", lambda c, v: replace(c, shutter_deg=360.0 * single(v, "the shutter")), most=1.0),
    Quantity("shutter_seconds", "Open, seconds", "seconds", lambda c: c.shutter_deg / 360.0 / c.fps,
             "How long the shutter is open.", "angle / 360 / rate", "",
             "shutter", lambda c, v: replace(c, shutter_deg=360.0 * c.fps * single(v, "the shutter"))),
    Quantity("shutter_opens", "Opens, from the frame", "frames", lambda c: -c.shutter_deg / 720.0,
             "When it opens, about the frame's own time.", "−angle / 720",
             "Some open at the frame and close behind it."),
    Quantity("shutter_closes", "Closes, from the frame", "frames", lambda c: c.shutter_deg / 720.0,
             "When it closes, about the frame's own time.", "angle / 720"),
    Quantity("iso", "ISO", "number", lambda c: c.iso, "Sensitivity.", "", "",
             "light", lambda c, v: replace(c, iso=single(v, "the ISO")), True),
    Quantity("nd_stops", "ND", "stops", lambda c: c.nd_stops, "Neutral density filters.", "", "",
             "light", lambda c, v: replace(c, nd_stops=single(v, "the ND")), True, least=0.0, most=20.0),
    Quantity("t_stop", "T-stop", "number", lambda c: c.t_stop, "Effective stop for exposure.",
             "N / √transmission"),
    Quantity("brighter", "Over/under exposure", "stops", lambda c: c.brighter_ev,
             "0 is as metered.", "log2(ISO shutter / T²) − ND − metered"),
    Quantity("field_width", "Field, width", "length", lambda c: c.field_m,
             "Width of what an orthographic view shows.", ""),
    Quantity("light_cone", "Cone of light", "degrees", lambda c: c.cone_deg,
             "Full angle of the cone that blurs an orthographic view.", ""),
)  # fmt: skip


def _over(values: Numbers) -> Numbers:
    with np.errstate(divide="ignore"):
        return 1.0 / values


QUANTITIES: dict[str, Quantity] = {quantity.key: quantity for quantity in _ALL}

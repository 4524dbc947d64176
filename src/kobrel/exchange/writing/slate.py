"""What an EXR says of the shot that it is of, in the standard attributes of OpenEXR.

Distances count in metres, matrices take rows (p' = p M) of points in the stage: Y up, the camera looking
along -Z. On the screen x and y run from -1 to 1 over the picture, y up; z is 0 at the near clip and grows
with distance.
"""

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import OpenImageIO as oiio  # noqa: N813

from kobrel.exchange.writing.dates import written_at
from kobrel.optics.lens import Numbers
from kobrel.optics.units import frame_rate, timecode
from kobrel.plan.measure.camera import Camera

REC_709 = (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)
"""Places of red, green, blue and white, x and y each (ITU-R BT.709)."""
_LEAST_NEAR_M = 1e-3
_DAY_S = 86400


@dataclass(frozen=True)
class Slate:
    """The camera that a picture is of, with its frame, the frames a second, and a note for whoever reads
    the header.
    """

    camera: Camera
    frame: float
    fps: float
    note: str = ""

    def put(self, spec: oiio.ImageSpec) -> None:
        """Say it in the header of a picture."""
        camera, rate = self.camera, frame_rate(self.fps)
        for name, value in {
            "aperture": float(camera.image_f_number),
            "focus": float(camera.focus_m),
            "focalLength": float(camera.image_distance_mm),
            "nominalFocalLength": float(camera.focal_mm),
            "isoSpeed": camera.exposure.iso,
            "expTime": camera.exposure.shutter_deg / 360.0 / self.fps,
            "PixelAspectRatio": 1.0,
        }.items():
            spec.attribute(name, float(value))
        if self.note:
            spec.attribute("ImageDescription", self.note)
        spec.attribute("framesPerSecond", oiio.TypeDesc("rational"), _ratio(rate))
        spec.attribute("imageCounter", int(self.frame))
        if 0 <= self.frame < self.fps * _DAY_S:
            spec.attribute("smpte:TimeCode", oiio.TypeDesc("timecode"), (packed(self.frame, self.fps), 0))
        spec.attribute("worldToCamera", oiio.TypeDesc("matrix"), _rows(to_camera(camera)))
        if camera.projection != "fisheye":
            spec.attribute("worldToScreen", oiio.TypeDesc("matrix"), _rows(to_screen(camera)))


def put_common(spec: oiio.ImageSpec) -> None:
    """Say in the header of a picture what made it, and when: now, or at the second since 1970 that
    SOURCE_DATE_EPOCH says.
    """
    made = written_at()
    spec.attribute("Software", "Kobrel")
    spec.attribute("DateTime", f"{made:%Y:%m:%d %H:%M:%S}")
    offset = made.utcoffset()
    # The format counts west of Greenwich as positive.
    spec.attribute("utcOffset", -offset.total_seconds() if offset is not None else 0.0)


def put_colour(spec: oiio.ImageSpec) -> None:
    """Say in the header of a picture that its colours are linear light of Rec. 709."""
    spec["oiio:ColorSpace"] = "lin_rec709"
    spec.attribute("chromaticities", oiio.TypeDesc("float[8]"), REC_709)


def to_camera(camera: Camera) -> Numbers:
    """(4, 4) from the stage to a camera at one frame, for columns."""
    return np.asarray(np.linalg.inv(camera.pose), float)


def to_screen(camera: Camera) -> Numbers:
    """(4, 4) from the stage to the screen, for columns; of views in perspective and orthographic ones."""
    (half_x, half_y), (middle_x, middle_y) = camera.half_widths(), camera.middle()
    near = max(float(camera.near_clip_m), _LEAST_NEAR_M)
    screen = np.zeros((4, 4))
    screen[0, 0], screen[1, 1] = 1.0 / float(half_x), 1.0 / float(half_y)
    if camera.projection == "orthographic":
        screen[:2, 3] = -middle_x / half_x, -middle_y / half_y
        screen[2, 2:], screen[3, 3] = (-1.0, -near), 1.0
    else:
        screen[:2, 2] = middle_x / half_x, middle_y / half_y
        screen[2, 2:], screen[3, 2] = (-1.0, -near), -1.0
    return np.asarray(screen @ to_camera(camera))


def packed(frame: float, fps: float) -> int:
    """A timecode as OpenEXR packs it: a decimal figure in each four bits, bit 6 for drop-frame.

    >>> f"{packed(1001, 24):08x}", f"{packed(1800, 29.97):08x}"
    ('00004117', '00010042')
    """
    said = timecode(frame, fps)
    figures = int(said.replace(":", "").replace(";", ""), 16)
    return figures | (0x40 if ";" in said else 0)


def _ratio(rate: Fraction) -> tuple[int, int]:
    return rate.numerator, rate.denominator


def _rows(matrix: Numbers) -> tuple[float, ...]:
    return tuple(float(value) for value in matrix.T.ravel())

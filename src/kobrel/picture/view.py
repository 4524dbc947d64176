"""What to draw: a stage, a camera, a light and a size, as the kernels want them."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kobrel.optics.aperture import Aperture, aperture
from kobrel.optics.projection import cone_blur_m
from kobrel.picture.numbers import LightNumbers, ViewNumbers, light_numbers, view_numbers
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import Camera
from kobrel.stage.snapshot import Snapshot


@dataclass(frozen=True, eq=False)
class View:
    """One picture to be drawn.

    Parameters
    ----------
    snapshot : the stage at a frame
    camera : at that frame
    width, height : size of the picture in pixels
    """

    snapshot: Snapshot
    camera: Camera
    light: Light
    width: int
    height: int

    @cached_property
    def numbers(self) -> ViewNumbers:
        """See :func:`view_numbers`."""
        return view_numbers(self.camera, self.snapshot.origin, self.height / self.width)

    @cached_property
    def aperture(self) -> Aperture:
        """Where light comes through the iris."""
        return aperture(self.camera.turned_iris, self.camera.squeeze)

    @cached_property
    def light_numbers(self) -> LightNumbers:
        """See :func:`light_numbers`."""
        lit = self.snapshot.environment is not None
        return light_numbers(self.light if lit else self.light.replace(surround=None))

    @cached_property
    def harmonics(self) -> NDArray[np.float32]:
        """Light of the picture all about on a surface by its normal, (9, 3) spherical harmonics."""
        about = self.snapshot.environment
        if about is None:
            return np.zeros((9, 3), np.float32)
        return (about.harmonics * self.light_numbers.about).astype(np.float32)

    @cached_property
    def lamps(self) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        """The small lights as they light surfaces, E of them, and how they are drawn at random.

        The first is (E, 10): place 0-2, radius 3, reach 4, colour 5-7, in how many slots it stands, and its
        strength. The second are the slots: each lamp stands in as many as it is strong, seen from the camera.
        """
        emitters = self.snapshot.emitters
        bright = emitters.emission.sum(axis=1) * emitters.radii**2
        away = emitters.places - (self.camera.pose[:3, 3] - self.snapshot.origin)
        strong = bright / ((away**2).sum(axis=1) + _NEAR_M2)
        chosen = np.argsort(-strong, kind="stable")[:_MOST_LAMPS]
        chosen = chosen[strong[chosen] > _LEAST_LAMP * strong.sum()]
        share = strong[chosen] / max(strong[chosen].sum(), 1e-300)
        counts = np.maximum(1, (share * (SLOTS - len(chosen))).astype(np.int64))
        slots = np.repeat(np.arange(len(chosen)), counts)
        lamps = np.column_stack([
            emitters.places[chosen], emitters.radii[chosen], emitters.reach[chosen],
            emitters.emission[chosen], counts, bright[chosen],
        ])  # fmt: skip
        return np.ascontiguousarray(lamps, np.float32), slots

    @property
    def environment(self) -> NDArray[np.float32]:
        """The picture all about, (h, w, 3); one black pixel where there is none."""
        about = self.snapshot.environment
        return _NO_ENVIRONMENT if about is None else about.pixels

    @property
    def blur_scale_px(self) -> float:
        """Pixels of blur (the disc's height) in this picture for each dioptre of defocus; for an
        orthographic view for each metre.
        """
        camera = self.camera
        if camera.projection == "orthographic":
            return float(cone_blur_m(camera.cone_deg, 0.0, 1.0)) / camera.field_m * self.width
        return float(camera.px_per_dioptre) / camera.width_px * self.width


SLOTS, _MOST_LAMPS, _NEAR_M2, _LEAST_LAMP = 8192, 2000, 4.0, 3e-4
_NO_ENVIRONMENT = np.zeros((1, 1, 3), np.float32)

"""Everything out of focus by as many pixels, to judge the shape of the blur."""

from dataclasses import replace

import numpy as np

from kobrel.optics import lens
from kobrel.plan.measure.camera import Camera

_NARROWER = 1e5


def defocus_everything(camera: Camera, blur_px: float) -> Camera:
    """A camera that sees as this one, but pictures each point as a disc of one size.

    A pupil 100,000 times narrower, focused as many times nearer (or behind the lens), has the same
    discs at all distances: against its focus in dioptres every distance is as good as infinite.
    Lens errors grow along, so that they count against a blur of this size as they would in the lens.

    Parameters
    ----------
    camera : at one frame, in perspective or fisheye
    blur_px : height of the discs in pixels at delivery; below 0 as before the focus
    """
    image_mm = float(camera.image_distance_mm)
    pupil_mm = float(camera.pupil_mm) / _NARROWER
    dioptres = blur_px / float(camera.px_per_dioptre) * _NARROWER
    flaws, front = camera.flaws, camera.flaws.front_stop
    if front is not None:
        front = front.replace(
            distance_mm=front.distance_mm / _NARROWER, diameter_mm=front.diameter_mm / _NARROWER
        )
    more = {name: getattr(flaws, name) * _NARROWER for name in ("colour_mm", "swirl_mm", "spherical_mm")}
    return replace(
        camera, focal_mm=np.asarray(image_mm), f_number=lens.image_f_number(pupil_mm, image_mm),
        focus_m=np.asarray(1.0 / dioptres), model="render", flaws=flaws.replace(front_stop=front, **more),
    )  # fmt: skip

"""A shot's camera as an Alembic archive, in centimetres as its readers take it."""

from pathlib import Path
from typing import Any

import numpy as np

from kobrel.errors import ExchangeError
from kobrel.exchange.writing import whole_file
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.sequence.shots import whole_range
from kobrel.stage.scene import ALEMBIC_SUFFIX
from kobrel.stage.stage import Stage

_CENTIMETRES = 100.0
_MM_PER_CM = 10.0
_FAR_M = 1e6


def write_alembic(plan: Plan, shot: Shot, stage: Stage, path: Path) -> None:
    """Write a shot's camera, sampled at each of its frames; the render camera of a thin lens.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    ExchangeError
        The file cannot be written, the format has no such view, or its library is not here.
    """
    if path.suffix.lower() != ALEMBIC_SUFFIX:
        raise ExchangeError(f"a camera of Alembic is written as {ALEMBIC_SUFFIX}.", file=path)
    if shot.glass.projection != "perspective":
        raise ExchangeError(f"Shot {shot.label}: Alembic's camera knows no {shot.glass.projection} view.")
    try:
        import imath  # noqa: F401  the values' own types must be known first
        from alembic3d import Abc, AbcCoreAbstract, AbcGeom
    except ImportError:
        raise ExchangeError(
            "Alembic's library is not installed here.", remedy="Export USD or glTF instead."
        ) from None
    numbers = survey(plan, shot, stage, whole_range(shot))
    with whole_file(path) as beside:
        try:
            archive = Abc.OArchive(str(beside))
            sampling = AbcCoreAbstract.TimeSampling(1.0 / shot.fps, float(numbers.frames[0]) / shot.fps)
            rate = archive.addTimeSampling(sampling)
            name = f"shot_{shot.name}".replace("/", "_")
            place = AbcGeom.OXform(archive.getTop(), name, rate)
            eye = AbcGeom.OCamera(place, "camera", rate)
            for row in range(len(numbers.frames)):
                place.getSchema().set(_placed(numbers.camera.pose[row]))
                eye.getSchema().set(_sample(numbers.camera.frame(row), shot))
            del eye, place, archive  # the library writes when its objects go
        except RuntimeError as error:
            raise ExchangeError(f"cannot be written ({' '.join(str(error).split())}).", file=path) from None


def _placed(pose: np.ndarray) -> Any:
    import imath
    from alembic3d import AbcGeom

    matrix = np.array(pose, float).T  # the format's vectors are rows
    matrix[3, :3] *= _CENTIMETRES
    sample = AbcGeom.XformSample()
    sample.setMatrix(imath.M44d(*(float(value) for value in matrix.ravel())))
    return sample


def _sample(camera: Any, shot: Shot) -> Any:
    from alembic3d import AbcGeom

    sample = AbcGeom.CameraSample()
    image = float(camera.image_distance_mm)
    half_open = shot.exposure.shutter_deg / 720.0 / shot.fps
    for name, value in (
        ("FocalLength", image), ("FStop", image / float(camera.pupil_mm)),
        ("FocusDistance", min(float(camera.focus_m), _FAR_M) * _CENTIMETRES),
        ("HorizontalAperture", camera.sensor_width_mm / _MM_PER_CM),
        ("VerticalAperture", camera.sensor_height_mm / _MM_PER_CM),
        ("HorizontalFilmOffset", camera.shift_mm[0] / _MM_PER_CM),
        ("VerticalFilmOffset", camera.shift_mm[1] / _MM_PER_CM),
        ("LensSqueezeRatio", camera.squeeze),
        ("NearClippingPlane", max(camera.near_clip_m, 0.001) * _CENTIMETRES),
        ("FarClippingPlane", _FAR_M * _CENTIMETRES), ("ShutterOpen", -half_open), ("ShutterClose", half_open),
    ):  # fmt: skip
        getattr(sample, f"set{name}")(float(value))
    return sample

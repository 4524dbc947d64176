"""The process that writes a camera by Alembic's library: python -m kobrel.exchange.cameras.alembic_library.

What is to be written comes in as JSON, see :mod:`kobrel.exchange.cameras.alembic`.
"""

import json
import sys
from typing import Any

import imath  # the values' own types must be known first
from alembic3d import Abc, AbcCoreAbstract, AbcGeom

from kobrel.stage.scene import OWN_SQUEEZE


def main() -> None:
    """Write one archive."""
    order = json.load(sys.stdin)
    archive = Abc.OArchive(order["path"])
    sampling = AbcCoreAbstract.TimeSampling(1.0 / order["fps"], order["first"] / order["fps"])
    rate = archive.addTimeSampling(sampling)
    place = AbcGeom.OXform(archive.getTop(), order["name"], rate)
    eye = AbcGeom.OCamera(place, "camera", rate)
    for matrix, values in zip(order["places"], order["samples"], strict=True):
        place.getSchema().set(_placed(matrix))
        eye.getSchema().set(_sample(values))
    own = Abc.ODoubleProperty(eye.getSchema().getUserProperties(), OWN_SQUEEZE)
    own.setValue(order["squeeze"])
    del own, eye, place, archive  # the library writes when its objects go


def _placed(matrix: list[float]) -> Any:
    sample = AbcGeom.XformSample()
    sample.setMatrix(imath.M44d(*matrix))
    return sample


def _sample(values: dict[str, float]) -> Any:
    sample = AbcGeom.CameraSample()
    for name, value in values.items():
        getattr(sample, f"set{name}")(value)
    return sample


if __name__ == "__main__":
    main()

import imath
import numpy as np
import pytest
from alembic3d.Abc import OArchive
from alembic3d.AbcCoreAbstract import TimeSampling
from alembic3d.AbcGeom import (
    CameraSample,
    CreateVisibilityProperty,
    ObjectVisibility,
    OCamera,
    OCurves,
    OPolyMesh,
    OPolyMeshSchemaSample,
    OXform,
    XformSample,
)

from kobrel.errors import SceneError
from kobrel.stage.read.load import load_scene
from kobrel.stage.stage import Place, Stage

SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], float)


def vectors(values):
    result = imath.V3fArray(len(values))
    for k, value in enumerate(values):
        result[k] = imath.V3f(*map(float, value))
    return result


def integers(values):
    result = imath.IntArray(len(values))
    for k, value in enumerate(values):
        result[k] = int(value)
    return result


def polygon(points):
    """Clockwise, as the format has it."""
    return OPolyMeshSchemaSample(vectors(points), integers(range(len(points))[::-1]), integers([len(points)]))


@pytest.fixture
def walking(tmp_path):
    """A mesh that grows on a moving node, one that changes its faces, one that hides, a camera, and curves."""
    path = tmp_path / "walk.abc"
    archive = OArchive(str(path))
    rate = archive.addTimeSampling(TimeSampling(1 / 25.0, 2 / 25.0))
    walk = OXform(archive.getTop(), "walk", rate)
    body, flag, ghost = (OPolyMesh(walk, name, rate) for name in ("body", "flag", "ghost"))
    seen = CreateVisibilityProperty(ghost, rate)
    for k in range(3):
        move = XformSample()
        move.setTranslation(imath.V3d(100 * k, 0, 0))
        walk.getSchema().set(move)
        body.getSchema().set(polygon(SQUARE * (1 + k)))
        flag.getSchema().set(polygon(SQUARE[: 4 - k % 2] + (0, 50, 0)))
        ghost.getSchema().set(polygon(SQUARE + (0, 70, 0)))
        hidden = ObjectVisibility.kVisibilityHidden if k < 2 else ObjectVisibility.kVisibilityVisible
        seen.setValue(int(hidden))
    sample = CameraSample()
    for name, value in (
        ("FocalLength", 50), ("FStop", 2.0), ("FocusDistance", 300), ("HorizontalAperture", 3.6),
        ("VerticalAperture", 2.4), ("HorizontalFilmOffset", 0.1), ("NearClippingPlane", 10),
    ):  # fmt: skip
        getattr(sample, f"set{name}")(value)
    OCamera(walk, "eye", rate).getSchema().set(sample)
    OCurves(walk, "hair", rate)
    return path


def test_a_moving_scene_of_alembic(walking):
    scene = load_scene(walking)
    assert (scene.fps, scene.first_frame, scene.last_frame, scene.unit_m) == (25.0, 2, 4, 0.01)
    stage = Stage([("s", scene)])
    np.testing.assert_allclose(stage.world(Place("s", "/walk/body"), [2.5])[0, :3, 3], [0.5, 0, 0])
    body = scene.nodes[scene.find("/walk/body")].mesh
    np.testing.assert_allclose(body.deformation.points(2.5), SQUARE * 1.5)
    hit = stage.pick(3, (1.015, 0.015, 5), (0, 0, -1))
    assert hit.place == Place("s", "/walk/body")
    corners = body.points[body.triangles[0]]
    assert np.cross(corners[1] - corners[0], corners[2] - corners[0])[2] > 0
    upper = 1.005, 0.508, 5
    assert stage.pick(3, upper, (0, 0, -1)) is None
    assert stage.pick(2, (0.002, 0.508, 5), (0, 0, -1)).place.path == "/walk/flag/at 2"
    assert stage.pick(3, (1.005, 0.705, 5), (0, 0, -1)) is None
    assert stage.pick(4, (2.005, 0.705, 5), (0, 0, -1)).place.path == "/walk/ghost"
    assert any("hair" in warning for warning in scene.warnings)


def test_a_camera_of_alembic(walking):
    source = load_scene(walking).cameras[0]
    assert source.path == "/walk/eye"
    found = [
        float(t.values[0, 0]) for t in (source.focal_mm, source.width_mm, source.height_mm, source.f_number)
    ]
    assert found == pytest.approx([50, 36, 24, 2.0], rel=1e-6)
    assert float(source.focus_m.values[0, 0]) == pytest.approx(3.0)
    assert (source.shift_mm, source.near_clip_m) == (pytest.approx((1.0, 0.0)), pytest.approx(0.1))
    in_metres = load_scene(walking).read_as(1.0, "Y").cameras[0]
    assert float(in_metres.focus_m.values[0, 0]) == pytest.approx(300.0)
    assert float(in_metres.width_mm.values[0, 0]) == pytest.approx(36.0, rel=1e-6)


@pytest.mark.parametrize("seed", range(8))
def test_a_damaged_alembic_is_told(walking, tmp_path, seed):
    content = bytearray(walking.read_bytes())
    random = np.random.default_rng(seed)
    path = tmp_path / "bad.abc"
    path.write_bytes(content[: int(len(content) * random.random())])
    with pytest.raises(SceneError, match=r"bad\.abc"):
        load_scene(path)

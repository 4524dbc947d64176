import contextlib
import os
import resource

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("SOURCE_DATE_EPOCH", "1700000000")  # the same content is the same file

from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings
from pxr import Gf, Usd, UsdGeom, Vt

import kobrel.demo
from kobrel.plan.file import open_plan
from kobrel.plan.instrument import Glass, Sensor
from kobrel.plan.keys import Keyed
from kobrel.plan.model import FixedCamera, Plan, Shot
from kobrel.plan.staging import Library, load_stage, source_of
from kobrel.stage.scene import Material, Node, Scene
from kobrel.stage.shapes import box, sphere
from kobrel.stage.stage import Stage

settings.register_profile("kobrel", deadline=None)  # how fast a machine is decides no test
settings.load_profile("kobrel")

DEMO = Path(kobrel.demo.__file__).parent / "night_ferry.kobrel"


@pytest.fixture(scope="session", autouse=True)
def one_drawing_thread():
    """Several workers share the cores: each draws in one thread."""
    from kobrel.picture import tracer

    tracer.thread_count = lambda: 1


@pytest.fixture(scope="session", autouse=True)
def own_folders(tmp_path_factory):
    """Plans and scenes of tests may name files anywhere among the tests' own; settings are their own too."""
    from kobrel import trust

    os.environ["XDG_CONFIG_HOME"] = str(tmp_path_factory.mktemp("config"))
    os.environ["XDG_STATE_HOME"] = str(tmp_path_factory.mktemp("state"))
    os.environ["XDG_DATA_HOME"] = str(tmp_path_factory.mktemp("data"))
    trust.allow([tmp_path_factory.getbasetemp()])


@pytest.fixture
def full_disk(capfd):
    """A disk that takes so many bytes of each file and no more, as `with full_disk(4096): ...`."""

    @contextlib.contextmanager
    def filled(room):
        soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
        with capfd.disabled():
            resource.setrlimit(resource.RLIMIT_FSIZE, (room, hard))
            try:
                yield
            finally:
                resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))

    return filled


@pytest.fixture(scope="session")
def demo():
    plan = open_plan(DEMO)
    stage, problems = load_stage(plan)
    assert problems == []
    return plan, stage


def library_of(plan, stage):
    """What has been read for a plan whose stage is at hand."""
    return Library({source_of(ref): stage.scenes[ref.name] for ref in plan.scenes})


@pytest.fixture
def moving_scene(tmp_path):
    """A Z-up scene in centimetres: a cube that turns and travels, and a camera that dollies."""
    path = tmp_path / "moving.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(25)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(11)
    rig = UsdGeom.Xform.Define(stage, "/Rig")
    rig.AddTranslateOp().Set(Gf.Vec3d(0, 100, 0))
    cube = UsdGeom.Cube.Define(stage, "/Rig/Cube")
    cube.CreateSizeAttr(50.0)
    move, turn = cube.AddTranslateOp(), cube.AddRotateXYZOp()
    move.Set(Gf.Vec3d(0, 0, 0), 1)
    move.Set(Gf.Vec3d(40, 200, 10), 11)
    turn.Set(Gf.Vec3f(0, 0, 0), 1)
    turn.Set(Gf.Vec3f(30, 60, 90), 11)
    camera = UsdGeom.Camera.Define(stage, "/Camera")
    camera.CreateFocalLengthAttr(50.0)
    camera.CreateHorizontalApertureAttr(36.0)
    camera.CreateVerticalApertureAttr(24.0)
    camera.CreateFStopAttr(2.8)
    camera.CreateClippingRangeAttr(Gf.Vec2f(10, 100000))
    focus = camera.CreateFocusDistanceAttr()
    focus.Set(400.0, 1)
    focus.Set(300.0, 11)
    place = camera.AddTranslateOp()
    place.Set(Gf.Vec3d(0, -400, 0), 1)
    place.Set(Gf.Vec3d(0, -300, 20), 11)
    camera.AddRotateXOp().Set(90.0)
    stage.Save()
    return path


@pytest.fixture
def looking_at():
    """Makes a stage and a shot: a camera at the origin looking along -Z at given nodes."""

    def make(*nodes, **changes):
        stage = Stage([("set", Scene(Path("set"), tuple(nodes)))])
        settings = {
            "sensor": Sensor(width_mm=36, height_mm=24), "focal_mm": Keyed(value=50), "f_number": Keyed(value=2.8),
        }  # fmt: skip
        settings |= changes.pop("glass", {})
        shot = Shot(
            name="1", first=1, last=10, camera=FixedCamera(pose=tuple(np.eye(4).ravel().tolist())),
            glass=Glass(**settings), **changes,
        )  # fmt: skip
        return Plan(shots=(shot,)), shot, stage

    return make


def ball_at(position, radius=0.1, name="/ball", emission=(0.0, 0.0, 0.0), around=24):
    from kobrel.stage.motion import matrix_motion

    matrix = np.eye(4)
    matrix[:3, 3] = position
    return Node(
        name,
        motion=matrix_motion(matrix),
        mesh=sphere(radius, around),
        materials=(Material(name, emission=emission),),
    )


def box_at(position, size=(1.0, 1.0, 1.0), name="/box", base=(0.5, 0.5, 0.5)):
    from kobrel.stage.motion import matrix_motion

    matrix = np.eye(4)
    matrix[:3, 3] = position
    return Node(name, motion=matrix_motion(matrix), mesh=box(size), materials=(Material(name, base=base),))


def write_mesh(path, points, counts, indices):
    stage = Usd.Stage.CreateNew(str(path))
    mesh = UsdGeom.Mesh.Define(stage, "/mesh")
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.asarray(points, np.float32)))
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.asarray(counts, np.int32)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.asarray(indices, np.int32)))
    stage.Save()
    return path

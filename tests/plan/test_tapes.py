import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom

from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import survey
from kobrel.plan.measure.tapes import measure, miss
from kobrel.plan.model import (
    BoundsAnchor,
    CameraEnd,
    NearestAnchor,
    OriginAnchor,
    PointAnchor,
    SceneRef,
    StandIn,
    StandInAnchor,
    Subject,
    SubjectEnd,
    SurfaceAnchor,
    Tape,
)
from kobrel.plan.space.stand_ins import SIZES
from kobrel.plan.staging import Library, stage_of
from kobrel.plan.start import plan_from_scene
from kobrel.stage.read.load import load_scene

FRAMES = np.array([1.0, 2.25, 4.5, 7.75, 10.1, 11.0])
CORNER = (25.0, 25.0, 25.0)


@pytest.fixture
def moving(moving_scene):
    """The plan of the moving scene, put aside, turned and enlarged, and its stage."""
    scene = load_scene(moving_scene)
    plan, _ = plan_from_scene(moving_scene, scene)
    reference = SceneRef(
        name=plan.scenes[0].name, path=plan.scenes[0].path, position_m=(3.0, 0.5, -2.0), turn_deg=35.0, scale=1.7
    )  # fmt: skip
    plan = plan.replace(scenes=(reference,))
    library = Library({(reference.path, ()): scene})
    return plan, stage_of(plan, library), moving_scene


class Truth:
    """Places worked out by USD's own transforms and plain trigonometry."""

    def __init__(self, path):
        self.stage = Usd.Stage.Open(str(path))

    def world(self, prim, frame):
        matrix = UsdGeom.Xformable(self.stage.GetPrimAtPath(prim)).ComputeLocalToWorldTransform(frame)
        return lambda point: self._placed(np.array(matrix.Transform(Gf.Vec3d(*point))))

    def _placed(self, cm_z_up, direction=False):
        x, y, z = cm_z_up * 0.01
        x, y, z = x * 1.7, z * 1.7, -y * 1.7
        turn = np.radians(35.0)
        return np.array(
            [x * np.cos(turn) + z * np.sin(turn) + 3.0, y + 0.5, -x * np.sin(turn) + z * np.cos(turn) - 2.0]
        )

    def camera(self, frame):
        to = self.world("/Camera", frame)
        eye = to((0, 0, 0))
        ahead = to((0, 0, -1)) - eye
        return eye, ahead / np.linalg.norm(ahead)


def relative(got, expected):
    np.testing.assert_allclose(got, expected, rtol=1e-6)


def test_distances_agree_with_values_worked_out_independently(moving):
    plan, stage, path = moving
    name = plan.scenes[0].name
    truth = Truth(path)
    anchors = {
        1: SurfaceAnchor(scene=name, node="/Rig/Cube", local=CORNER),
        2: OriginAnchor(scene=name, node="/Rig/Cube"),
        3: BoundsAnchor(scene=name, node="/Rig/Cube"),
        4: PointAnchor(position_m=(4.0, 1.0, -6.0)),
        5: NearestAnchor(scene=name, node="/Rig/Cube"),
    }
    plan = plan.replace(subjects=tuple(Subject(number=n, name=str(n), anchor=a) for n, a in anchors.items()))
    numbers = survey(plan, plan.shots[0], stage, FRAMES)
    for column, frame in enumerate(FRAMES):
        eye, ahead = truth.camera(frame)
        cube = truth.world("/Rig/Cube", frame)
        points = [cube(CORNER), cube((0, 0, 0)), cube((0, 0, 0)), np.array((4.0, 1.0, -6.0))]
        for row, point in enumerate(points):
            relative(numbers.sight.straight_m[row, column], np.linalg.norm(point - eye))
            relative(numbers.sight.axial_m[row, column], (point - eye) @ ahead)
        # The nearest point of the cube: no other place on its faces, sampled finely, is nearer.
        grid = np.linspace(-25, 25, 41)
        faces = [
            np.insert([a, b], axis, side)
            for axis in range(3)
            for side in (-25, 25)
            for a in grid
            for b in grid
        ]
        sampled = min(np.linalg.norm(cube(p) - eye) for p in faces)
        found = numbers.sight.straight_m[4, column]
        assert sampled - 0.02 < found <= sampled + 1e-9


def test_a_tape_measures_along_across_and_straight(moving):
    plan, stage, path = moving
    name, truth = plan.scenes[0].name, Truth(path)
    corner = SurfaceAnchor(scene=name, node="/Rig/Cube", local=CORNER)
    person = StandIn(
        number=1, name="Eve", kind="standing", size_m=SIZES["standing"], position_m=(2.0, 0.0, -4.0)
    )
    plan = plan.replace(
        stand_ins=(person,), subjects=(Subject(number=1, name="Eve", anchor=StandInAnchor(number=1)),)
    )
    stage = stage_of(plan, Library({(plan.scenes[0].path, ()): stage.scenes[name]}))
    shot = plan.shots[0]
    eyes = np.array((2.0, 1.75 * 0.936, -4.0))
    for tape, places in (
        (Tape(name="a", end=corner), lambda eye, cube: (eye, cube(CORNER))),
        (Tape(name="b", start=SubjectEnd(number=1), end=corner), lambda _eye, cube: (eyes, cube(CORNER))),
        (Tape(name="c", start=CameraEnd(), end=StandInAnchor(number=1)), lambda eye, _cube: (eye, eyes)),
    ):
        numbers = measure(plan, shot, stage, tape, FRAMES)
        for column, frame in enumerate(FRAMES):
            eye, ahead = truth.camera(frame)
            start, end = places(eye, truth.world("/Rig/Cube", frame))
            relative(numbers.straight_m[column], np.linalg.norm(end - start))
            relative(numbers.axial_m[column], abs((end - start) @ ahead))
            across = np.linalg.norm((end - start) - ((end - start) @ ahead) * ahead)
            np.testing.assert_allclose(numbers.across_m[column], across, rtol=1e-5, atol=1e-7)


def test_a_tape_to_nothing_has_no_length(moving):
    plan, stage, _ = moving
    for end in (SubjectEnd(number=9), BoundsAnchor(scene="no", node="/where"), StandInAnchor(number=3)):
        numbers = measure(plan, plan.shots[0], stage, Tape(name="t", end=end), [1, 2])
        assert np.isnan(numbers.straight_m).all()


def test_only_free_ends_that_touch_nothing_are_off(moving):
    plan, stage, _ = moving
    camera = camera_at(plan, plan.shots[0], 1, stage)
    name = plan.scenes[0].name
    middle = stage.boxes(1)[0].mean(axis=0)
    above = middle + (0, 1.5, 0)
    free = PointAnchor(position_m=tuple(above))
    found = miss(free, above, camera, stage, 1)
    assert found is not None
    assert found.pick.place.path == "/Rig/Cube"
    assert found.gap_m == pytest.approx(1.5 - 0.25 * 1.7, abs=0.01)
    assert miss(BoundsAnchor(scene=name, node="/Rig/Cube"), above, camera, stage, 1) is None
    touching = found.pick.point
    assert miss(PointAnchor(position_m=tuple(touching)), touching, camera, stage, 1) is None
    assert miss(PointAnchor(position_m=tuple(middle)), middle, camera, stage, 1) is None
    far = np.array((500.0, 500.0, 500.0))
    assert miss(PointAnchor(position_m=tuple(far)), far, camera, stage, 1) is None

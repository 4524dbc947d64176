"""A shifted lens: seen, drawn, surveyed and handed on alike."""

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from kobrel.exchange.cameras.usd import write_usd
from kobrel.picture.tracer import exposed, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import GONE, survey
from kobrel.plan.model import DistanceTarget, Mark, PointAnchor, Subject
from kobrel.stage.read.load import load_scene
from tests.conftest import ball_at

DARK = Light(key_strength=0, sky_strength=0, zenith=(0, 0, 0), horizon=(0, 0, 0), ground=(0, 0, 0))


def shifted(looking_at, shift, *nodes, **glass):
    plan, shot, stage = looking_at(*nodes, glass={"shift_mm": shift, **glass})
    mark = Mark(frame=1, target=DistanceTarget(metres=5.0))
    return plan, shot.replace(marks=(mark,)), stage


@pytest.mark.parametrize("projection", ["perspective", "orthographic", "fisheye"])
def test_rays_and_sight_agree(looking_at, projection):
    plan, shot, stage = shifted(looking_at, (6.0, -4.0), ball_at((0, 0, -5)), projection=projection)
    camera = camera_at(plan, shot, 1, stage)
    for x, y in ((100.0, 200.0), (1500.0, 900.0), (960.0, 640.0)):
        start, way = camera.ray(x, y, camera.width_px, camera.height_px)
        sight = camera.see(start + way * 5.0)
        assert (float(sight.x_px), float(sight.y_px)) == pytest.approx((x, y), abs=1e-6)


def test_a_thing_lies_where_the_shift_says(looking_at):
    plan, shot, stage = shifted(looking_at, (9.0, 6.0), ball_at((0, 0, -5)))
    sight = camera_at(plan, shot, 1, stage).see([0.0, 0.0, -5.0])
    # 9 of 36 mm is a quarter of the width, to the left; 6 of 24 mm a quarter of the height, below.
    assert (float(sight.x_px), float(sight.y_px)) == pytest.approx((480.0, 1280 * 0.75 - 0.0), abs=1e-6)


def test_what_is_in_the_picture_is_so_in_the_survey(looking_at):
    side = Subject(number=1, name="side", anchor=PointAnchor(position_m=(2.2, 0, -5.0)))
    other = Subject(number=2, name="other", anchor=PointAnchor(position_m=(-1.0, 0, -5.0)))
    states = []
    for shift in ((0.0, 0.0), (12.0, 0.0)):
        plan, shot, stage = shifted(looking_at, shift, ball_at((0, 0, -5)))
        states.append(survey(plan.replace(subjects=(side, other)), shot, stage).state[:, 0] == GONE)
    np.testing.assert_array_equal(states, [[True, False], [False, True]])


@pytest.mark.parametrize("radius", [0.3, 0.004])
def test_the_picture_shows_it_there_small_lights_too(looking_at, radius):
    plan, shot, stage = shifted(looking_at, (9.0, 6.0), ball_at((0, 0, -5), radius, emission=(900, 900, 900)))
    camera = camera_at(plan, shot, 1, stage)
    view = View(stage.snapshot(1), camera, DARK, 240, 160)
    for picture in (exposed(view, 8), *([sharp_picture(view).colour] if radius > 0.1 else [])):
        light = picture.sum(axis=2)
        y, x = np.mgrid[0:160, 0:240] + 0.5
        middle = (x * light).sum() / light.sum(), (y * light).sum() / light.sum()
        assert middle == pytest.approx((60.0, 120.0), abs=0.6)


def test_it_is_written_and_read_back(looking_at, tmp_path):
    plan, shot, stage = shifted(looking_at, (9.0, -6.0), ball_at((0, 0, -5)), squeeze=1.5)
    write_usd(plan, shot, stage, tmp_path / "s.usda")
    source = load_scene(tmp_path / "s.usda").cameras[0]
    assert source.shift_mm == pytest.approx((9.0, -6.0), rel=1e-6)
    opened = Usd.Stage.Open(str(tmp_path / "s.usda"))
    camera = UsdGeom.Camera(next(p for p in opened.Traverse() if p.IsA(UsdGeom.Camera)))
    window = camera.GetCamera(1).frustum.window
    size, middle = window.GetSize(), (window.GetMin() + window.GetMax()) / 2
    assert (middle[0] / size[0], middle[1] / size[1]) == pytest.approx((0.25, -0.25), rel=1e-5)


def test_an_exported_camera_has_handles_shutter_and_the_files_own_range(moving_scene, tmp_path):
    from kobrel.plan.start import plan_from_scene

    plan, stage = plan_from_scene(moving_scene, load_scene(moving_scene))
    shot = plan.shots[0].replace(handles=3, first=4, last=8)
    shot = shot.replace(exposure=shot.exposure.replace(shutter_deg=172.8))
    write_usd(plan, shot, stage, tmp_path / "e.usda")
    opened = Usd.Stage.Open(str(tmp_path / "e.usda"))
    camera = UsdGeom.Camera(opened.GetPrimAtPath("/Camera"))
    assert (opened.GetStartTimeCode(), opened.GetEndTimeCode()) == (1, 11)
    wide = survey(plan, shot, stage, np.arange(1, 12.0)).camera
    for frame in (1, 6, 11):
        pose = np.array(camera.ComputeLocalToWorldTransform(frame)).T[:3, 3]
        expected = np.linalg.solve(stage.scenes[plan.scenes[0].name].root, [*wide.pose[frame - 1, :3, 3], 1])[
            :3
        ]
        np.testing.assert_allclose(pose, expected, atol=1e-6)
    assert tuple(camera.GetClippingRangeAttr().Get()) == (10, 100000)
    assert (camera.GetShutterOpenAttr().Get(), camera.GetShutterCloseAttr().Get()) == pytest.approx(
        (-0.24, 0.24)
    )

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.plan.keys import PlaceKey
from kobrel.plan.measure.camera import camera_at, cameras_at
from kobrel.plan.model import CameraKey, DistanceTarget, MadeCamera, Mark, Plan, PointAnchor, Shot, Subject
from kobrel.plan.space import moves
from kobrel.stage.stage import Stage

coordinate = st.floats(-50, 50).map(lambda v: round(v, 3))
point = st.tuples(coordinate, coordinate, coordinate)


@given(point, point, st.floats(-170, 170))
def test_a_camera_looks_at_its_aim_upright_and_rolled(position, aim, roll):
    if np.linalg.norm(np.subtract(position, aim)) < 0.01:
        return
    pose = moves.look_at(position, aim, roll)[0]
    np.testing.assert_allclose(pose[:3, :3].T @ pose[:3, :3], np.eye(3), atol=1e-9)
    assert np.linalg.det(pose[:3, :3]) == pytest.approx(1)
    np.testing.assert_allclose(pose[:3, 3], position)
    toward = np.subtract(aim, position) / np.linalg.norm(np.subtract(aim, position))
    np.testing.assert_allclose(-pose[:3, 2], toward, atol=1e-9)
    level = moves.look_at(position, aim)[0]
    assert level[1, 0] == pytest.approx(0, abs=1e-9)
    # Clockwise as the camera turns: its right side goes down.
    assert pose[:3, 0] @ level[:3, 1] == pytest.approx(-np.sin(np.radians(roll)), abs=1e-9)


@given(point, point, st.floats(-170, 170))
def test_a_pose_and_a_made_camera_are_the_same(position, aim, roll):
    if np.linalg.norm(np.subtract(position, aim)) < 0.01:
        return
    pose = moves.look_at(position, aim, roll)[0]
    made = moves.made_from_pose(pose, 3.0)
    np.testing.assert_allclose(moves.made_poses(made, [5.0])[0], pose, atol=1e-6)


def test_looking_straight_down_is_possible():
    pose = moves.look_at((0, 10, 0), (0, 0, 0))[0]
    np.testing.assert_allclose(-pose[:3, 2], (0, -1, 0))
    assert np.isfinite(pose).all()


CAMERA = MadeCamera(position_m=(0, 1.6, 6), aim_m=(0, 1, 0))


def test_an_orbit_keeps_distance_and_height_and_turns_evenly_in_time():
    camera = moves.orbit(CAMERA, 1001, 1011, 60).replace(path="arc")
    camera = camera.replace(keys=tuple(key.replace(ease="even") for key in camera.keys))
    place, aim, _ = moves.made_at(camera, np.linspace(1001, 1011, 41))
    away = place - aim
    np.testing.assert_allclose(np.linalg.norm(away, axis=1), np.linalg.norm(away[0]), rtol=1e-9)
    turns = np.degrees(np.arccos(np.clip(np.sum(away[1:] * away[:-1], axis=1) / np.sum(away[0] ** 2), -1, 1)))
    np.testing.assert_allclose(turns, turns[0], rtol=1e-4)
    assert np.degrees(np.arctan2(away[-1, 0], away[-1, 2])) == pytest.approx(60)


def test_a_push_in_goes_straight_toward_the_aim_and_a_creep_aside():
    pushed = moves.push_in(CAMERA, 1, 101)
    place, aim, _ = moves.made_at(pushed, [1, 51, 101])
    away = np.linalg.norm(place - aim, axis=1)
    assert away[2] / away[0] == pytest.approx(0.7)
    assert away[1] == pytest.approx((away[0] + away[2]) / 2)
    crept = moves.creep(CAMERA, 1, 101)
    place, _, _ = moves.made_at(crept, [1, 26, 101])
    assert (place[2] - place[0])[1:] == pytest.approx((0, 0), abs=1e-9)
    # Smooth: after a quarter of the time less than a quarter of the way.
    assert (place[1] - place[0])[0] / (place[2] - place[0])[0] == pytest.approx(3 / 16 - 2 / 64)


def test_keys_are_set_replaced_and_taken_away():
    keyed = CAMERA.with_key(moves.key_of(CAMERA, 10))
    keyed = moves.posed(keyed, 20, position_m=(1.0, 1.6, 6.0))
    assert [key.frame for key in keyed.keys] == [10, 20]
    keyed = keyed.with_key(keyed.keys[1].replace(ease="even", position_m=(2.0, 1.6, 6.0)))
    assert keyed.keys[1].ease == "smooth"  # an exchanged key keeps its way on
    assert keyed.without_key(10).keys == (keyed.keys[1],)
    last = keyed.without_key(10).without_key(20)
    assert (last.keys, last.position_m) == ((), (2.0, 1.6, 6.0))
    assert moves.posed(CAMERA, 3, roll_deg=4.0).roll_deg == 4.0


def test_what_has_no_keys_changes_for_all_frames():
    keyed = CAMERA.with_key(moves.key_of(CAMERA, 10))
    clipped = moves.posed(keyed, 20, near_clip_m=0.3)
    assert clipped == keyed.replace(near_clip_m=0.3)
    both = moves.posed(keyed, 20, near_clip_m=0.3, roll_deg=4.0)
    assert (both.near_clip_m, [key.roll_deg for key in both.keys]) == (0.3, [0.0, 4.0])
    assert moves.posed(CAMERA, 20, near_clip_m=0.3) == CAMERA.replace(near_clip_m=0.3)


def test_keys_must_be_in_order_and_aims_elsewhere():
    with pytest.raises(ValueError, match="not in order"):
        CAMERA.replace(keys=(CameraKey(frame=2, position_m=(0, 0, 0), aim_m=(1, 0, 0)),) * 2)
    with pytest.raises(ValueError, match="the aim must differ"):
        MadeCamera(position_m=(0, 0, 0), aim_m=(0, 0, 0))
    with pytest.raises(ValueError, match="the aim must differ"):
        CAMERA.replace(keys=(CameraKey(frame=2, position_m=(1, 0, 0), aim_m=(1, 0, 0)),))


def test_a_camera_keeps_looking_at_a_moving_subject():
    path = (
        PlaceKey(frame=1, position_m=(-3, 1, 0), ease="even"),
        PlaceKey(frame=11, position_m=(3, 1, 0)),
    )
    subject = Subject(number=4, name="Bird", anchor=PointAnchor(position_m=(0, 0, 0), keys=path))
    shot = Shot(
        name="1", first=1, last=11, camera=CAMERA.replace(aims_at=4),
        marks=(Mark(frame=1, target=DistanceTarget(metres=3)),),
    )  # fmt: skip
    plan = Plan(subjects=(subject,), shots=(shot,))
    frames = np.linspace(1, 11, 21)
    camera = cameras_at(plan, shot, frames, Stage())
    points = np.stack([np.linspace(-3, 3, 21), np.ones(21), np.zeros(21)], axis=1)
    sight = camera.see(points)
    np.testing.assert_allclose(sight.x_px, shot.width_px / 2, atol=1e-6)
    np.testing.assert_allclose(sight.axial_m, np.linalg.norm(points - CAMERA.position_m, axis=1))
    # A subject that is gone leaves it its own aim.
    alone = camera_at(plan.replace(subjects=()), shot, 5, Stage())
    np.testing.assert_allclose(alone.pose, moves.made_poses(CAMERA, [5])[0])


@given(st.floats(-3, 3), st.floats(-2, 2))
def test_walking_around_keeps_the_distance_and_never_passes_the_poles(across, up):
    there = moves.turned_about((0, 2, 5), (0, 1, 0), across, up)
    away = there - (0, 1, 0)
    assert np.linalg.norm(away) == pytest.approx(np.linalg.norm((0, 1, 5)))
    assert abs(away[1]) < np.linalg.norm(away)

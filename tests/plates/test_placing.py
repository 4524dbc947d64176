"""Where plates stand: framing kept at any distance, spreads, gaps, pivots, dials."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.errors import PlanError
from kobrel.plan.keys import Level, LevelKey, PlaceKey, Settle
from kobrel.plan.measure.camera import camera_at, cameras_at
from kobrel.plan.model import MadeCamera, Plan
from kobrel.plan.pictures.plates import Dial, Drive, Plate, PlatePicture
from kobrel.plan.plates.placing import (
    at_distance,
    axial_m,
    corners_at,
    distances_between,
    facing_deg,
    filling,
    gap_kept,
    picture_place,
    pivoted,
    place_at,
)
from kobrel.plan.pull.dials import value_at
from kobrel.plan.space.plates import pivot_at, poses_at
from kobrel.stage.stage import Stage
from tests.plates.flat import a_shot, the_camera

PICTURE = PlatePicture(path="/none.png", size_px=(3000, 2000))


def a_plate(camera, distance_m=3.0, **changes):
    place, height = filling(camera, distance_m, PICTURE.aspect)
    return Plate(number=1, name="A", picture=PICTURE, position_m=place, height_m=height, **changes)


def aslant():
    """A camera that looks down and is rolled, far from the origin."""
    shot = a_shot().replace(
        camera=MadeCamera(position_m=(120.0, 30.0, -40.0), aim_m=(100.0, 22.0, -80.0), roll_deg=7)
    )
    return camera_at(Plan(shots=(shot,)), shot, 1001, Stage())


def corners_px(plate, camera):
    seen = camera.see(corners_at(plate, (), camera, [1001])[0])
    return np.stack([seen.x_px, seen.y_px], -1)


@pytest.mark.parametrize("faces", [True, False])
@pytest.mark.parametrize("distance", [0.1, 0.7, 12.0, 300.0, 10_000.0])
def test_a_plate_that_keeps_its_framing_looks_the_same_at_every_distance(distance, faces):
    camera = aslant()
    plate = a_plate(
        camera, faces=faces, turn_deg=Level(value=20.0), tilt_deg=Level(value=-8.0), pivot=(0.3, 0.6)
    )
    moved = at_distance(plate, (), camera, 1001, distance, True)
    assert axial_m(camera, pivot_at(moved, (), [1001])[0]) == pytest.approx(distance, rel=1e-9)
    assert corners_px(moved, camera) == pytest.approx(corners_px(plate, camera), abs=0.01)


def test_without_its_framing_it_keeps_its_size():
    camera = the_camera()
    moved = at_distance(a_plate(camera), (), camera, 1001, 6.0, False)
    assert moved.scale.value == 1.0
    assert moved.position_m == pytest.approx((0, 0, -6))


def test_a_plate_behind_the_camera_cannot_be_put_at_a_distance():
    camera = the_camera()
    with pytest.raises(PlanError, match="behind the camera"):
        at_distance(a_plate(camera).replace(position_m=(0, 0, 2)), (), camera, 1001, 4.0, True)


def keyed_like(plate):
    """The same plate, standing still by keys of its place."""
    keys = tuple(PlaceKey(frame=frame, position_m=plate.position_m) for frame in (1001, 1011))
    return plate.replace(keys=keys)


@pytest.mark.parametrize("projection", ["perspective", "orthographic"])
@pytest.mark.parametrize("keeps", [True, False])
def test_a_keyed_plate_goes_where_a_plain_one_goes(projection, keeps):
    camera = replace(aslant(), projection=projection)
    plate = a_plate(aslant(), faces=True)
    plain = at_distance(plate, (), camera, 1001, 7.0, keeps)
    keyed = at_distance(keyed_like(plate), (), camera, 1001, 7.0, keeps)
    assert corners_px(keyed, camera) == pytest.approx(corners_px(plain, camera), abs=1e-6)
    assert axial_m(camera, pivot_at(keyed, (), [1001])[0]) == pytest.approx(7.0)
    later = [corners_at(each, (), camera, [1011])[0] for each in (keyed, plate)]
    assert later[0] == pytest.approx(later[1])
    if projection == "orthographic" and keeps:
        assert corners_px(keyed, camera) == pytest.approx(corners_px(plate, camera), abs=0.01)


def test_between_its_keys_a_plate_that_keeps_its_framing_keeps_it():
    camera = aslant()
    plate = a_plate(camera)
    moved = at_distance(keyed_like(plate), (), camera, 1011, 9.0, True)
    for frame in (1001, 1004, 1008, 1011):
        seen = camera.see(corners_at(moved, (), camera, [frame])[0])
        assert np.stack([seen.x_px, seen.y_px], -1) == pytest.approx(corners_px(plate, camera), abs=0.01)


def test_a_keyed_plate_behind_the_camera_cannot_be_put_at_a_distance():
    plate = keyed_like(a_plate(the_camera()).replace(position_m=(0, 0, 2)))
    with pytest.raises(PlanError, match="behind the camera"):
        at_distance(plate, (), the_camera(), 1001, 4.0, True)


def test_a_plate_that_fills_the_frame_covers_it():
    camera = aslant()
    plate = a_plate(camera, 8.0)
    corners = corners_px(plate, camera)
    assert (corners.min(axis=0) <= 1e-6).all()
    assert corners[:, 0].max() >= camera.width_px - 1e-6


def test_turn_tilt_and_roll_that_face_a_camera():
    camera = aslant()
    turn, tilt, roll = facing_deg(camera)
    plate = a_plate(
        camera,
        faces=False,
        turn_deg=Level(value=turn),
        tilt_deg=Level(value=tilt),
        roll_deg=Level(value=roll),
    )
    assert poses_at(plate, (), [1001])[0][:3, :3] == pytest.approx(camera.pose[:3, :3], abs=1e-9)


@given(
    st.floats(0.1, 50),
    st.floats(1.1, 100),
    st.integers(2, 20),
    st.sampled_from(["metres", "ratio", "dioptres"]),
)
def test_a_spread_goes_from_near_to_far_in_even_steps(near, times, count, by):
    found = distances_between(near, near * times, count, by)
    assert found[0] == pytest.approx(near)
    assert found[-1] == pytest.approx(near * times)
    scale = {"metres": found, "ratio": np.log(found), "dioptres": 1 / found}[by]
    assert np.diff(scale) == pytest.approx(np.diff(scale).mean(), rel=1e-6)


def test_gaps_are_kept():
    assert gap_kept(4.0, 2.0, 3.0, "metres") == 5.0
    assert gap_kept(4.0, 2.0, 3.0, "ratio") == 6.0
    assert gap_kept(4.0, 2.0, 2.5, "dioptres") == pytest.approx(1 / 0.15)
    for by in ("metres", "dioptres"):
        with pytest.raises(PlanError):
            gap_kept(
                1.0 if by == "metres" else 100.0,
                5.0 if by == "metres" else 1.0,
                1.0 if by == "metres" else 5.0,
                by,
            )


def test_a_place_in_the_picture_is_found_from_the_frame_and_back():
    camera = aslant()
    plate = a_plate(camera, faces=False, turn_deg=Level(value=40.0), roll_deg=Level(value=10.0))
    point = place_at(plate, (), camera, 1001, (0.2, 0.7))
    seen = camera.see(point)
    found = picture_place(
        plate,
        (),
        camera,
        1001,
        float(seen.x_px) / camera.width_px,
        float(seen.y_px) / camera.width_px * camera.aspect,
    )
    assert found == pytest.approx((0.2, 0.7), abs=1e-6)


def test_another_pivot_leaves_the_picture_where_it_is():
    camera = aslant()
    plate = a_plate(camera, faces=False, tilt_deg=Level(value=30.0))
    changed = pivoted(plate, (), camera, 1001, (0.1, 0.9))
    assert corners_px(changed, camera) == pytest.approx(corners_px(plate, camera), abs=1e-6)
    assert changed.pivot == (0.1, 0.9)


def test_a_level_overshoots_and_settles():
    keys = (LevelKey(frame=0, value=0.0, settle=Settle(part=0.2, frames=20)), LevelKey(frame=10, value=1.0))
    found = Level(keys=keys).at(np.arange(0, 40))
    assert found[10:].max() == pytest.approx(1.2, abs=0.01)
    assert found[31:] == pytest.approx(1.0)
    assert found[:11].max() <= 1.0


def test_a_dial_drives_values_of_several_plates_and_of_the_lens():
    level = Level(keys=(LevelKey(frame=1001, value=0, ease="even"), LevelKey(frame=1011, value=1)))
    drives = (
        Drive(plate=1, what="scale", low=1.0, high=2.0),
        Drive(plate=2, what="opacity", low=1.0, high=0.0, ease="late"),
        Drive(plate=1, what="distance", low=2.0, high=8.0, eye_m=(0, 0, 0)),
        Drive(what="focus", low=2.0, high=8.0),
        Drive(what="f_number", low=2.0, high=8.0),
    )
    dial = Dial(name="Swap", level=level, drives=drives, shot="1")
    camera = the_camera()
    one, two = a_plate(camera), a_plate(camera).replace(number=2, name="B")
    at = [1001, 1006, 1011]
    assert value_at(one, (dial,), "scale", at) == pytest.approx([1, 1.5, 2])
    assert value_at(two, (dial,), "opacity", at) == pytest.approx([1, 0.875, 0])
    assert pivot_at(one, (dial,), at)[:, 2] == pytest.approx([-2, -5, -8])
    shot = a_shot()
    plan = Plan(shots=(shot,), plates=(one, two), dials=(dial,))
    found = cameras_at(plan, shot, at, Stage())
    assert found.focus_m == pytest.approx([2, 3.2, 8])
    assert found.f_number == pytest.approx([2, 4, 8])
    other = shot.replace(name="2")
    assert cameras_at(plan, other, at, Stage()).focus_m == pytest.approx([3, 3, 3])


def test_a_value_can_be_driven_by_a_dial_once_only():
    twice = (Drive(plate=1, what="scale", low=0, high=1),) * 2
    with pytest.raises(ValueError, match="used twice"):
        Dial(name="D", drives=twice)


def test_a_dial_goes_on_driving_the_lens_of_a_shot_that_is_renamed():
    from kobrel.plan.sequence.shots import renamed

    dial = Dial(name="D", drives=(Drive(what="focus", low=2.0, high=8.0),), shot="1")
    plan = renamed(Plan(shots=(a_shot(),), dials=(dial,)), 0, "010")
    assert plan.dials[0].shot == "010"
    assert cameras_at(plan, plan.shots[0], [1001], Stage()).focus_m == pytest.approx([2.0])

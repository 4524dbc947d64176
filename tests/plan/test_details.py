"""Details of plans that a small change would spoil without a crash."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kobrel.optics.iris import Iris, outline, sample
from kobrel.plan.edit import remove_scene
from kobrel.plan.instrument import KeepSize
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import NearestAnchor, Plan
from kobrel.plan.pull.live_pull import performed
from kobrel.plan.solve.candidates import _nearest_between
from kobrel.plan.space.anchors import subject_points
from kobrel.plan.space.moves import _turned
from kobrel.plan.start import DEFAULT_FRAMES, frames_of
from kobrel.stage.motion import Track
from kobrel.stage.scene import Scene
from kobrel.stage.stage import Stage
from tests.conftest import box_at


@pytest.mark.parametrize(
    ("first", "last", "found"),
    [(3, 9, (3, 9)), (5, 5, (5, 5)), (None, 9, None), (3, None, None), (9, 3, None)],
)
def test_frames_of_a_scene_are_taken_where_both_are_there(first, last, found):
    scene = replace(Scene(Path("s"), ()), first_frame=first, last_frame=last)
    assert frames_of(scene) == (found or DEFAULT_FRAMES)


def test_directions_turn_evenly_along_the_great_circle():
    track = Track(np.array([0.0, 4.0]), np.array([[1.0, 0, 0], [0, 1.0, 0]]))
    angles = np.radians([0, 22.5, 45, 67.5, 90])
    np.testing.assert_allclose(
        _turned(track, [0, 1, 2, 3, 4]), np.c_[np.cos(angles), np.sin(angles), 0 * angles], atol=1e-12
    )


@pytest.mark.parametrize(("none", "good", "edge"), [(1.0, 9.0, 4.0), (9.0, 1.0, 4.0), (0.0, 1.0, 0.01)])
def test_halving_ends_just_where_it_would_do(none, good, edge):
    can = (lambda v: v >= edge) if good > none else (lambda v: v <= edge)
    found = _nearest_between(none, good, can)
    assert can(found)
    assert abs(found - edge) < abs(good - none) / 2**11


def test_the_key_that_goes_leaves_its_own_value():
    keyed = Keyed(value=1.0, keys=(Key(frame=1, value=2.0), Key(frame=9, value=4.0)))
    left = keyed.without_key(9)
    assert [(key.frame, key.value) for key in left.keys] == [(1, 2.0)]
    assert left.without_key(1) == Keyed(value=2.0)


def test_the_nearest_point_is_nearest_to_the_camera():
    stage = Stage([("s", Scene(Path("s"), (box_at((0, 0, 0), name="/box"),)))])
    anchor = NearestAnchor(scene="s", node="/box")
    eyes = np.array([[5.0, 0.1, 0.2], [0.1, 0.2, -7.0]])
    np.testing.assert_allclose(
        subject_points(anchor, [1, 2], stage, eyes), [[0.5, 0.1, 0.2], [0.1, 0.2, -0.5]], atol=1e-6
    )
    np.testing.assert_allclose(subject_points(anchor, [1, 2], stage), [[0, 0, 0]], atol=1e-9)


def test_a_hand_that_holds_still_leaves_one_mark_and_one_that_moves_leaves_two():
    frames = np.arange(1.0, 25.0)
    assert len(performed(frames, np.full(24, 0.5), 0.01)) == 1
    moved = performed(frames, np.linspace(0.5, 1.0, 24), 0.01)
    assert [mark.frame for mark in moved] == [1.0, 24.0]
    assert [mark.target.metres for mark in moved] == pytest.approx([2.0, 1.0], rel=0.02)


def test_a_camera_keeps_the_size_of_a_subject_that_is_there(demo):
    plan, stage = demo
    shot = plan.shots[1].replace(keeps=KeepSize(subject=2, focal_mm=40.0))
    still = plan.shots[1].replace(keeps=KeepSize(subject=99, focal_mm=40.0))
    plain = camera_at(plan, plan.shots[1], 1010, stage).pose
    assert not np.allclose(camera_at(plan, shot, 1010, stage).pose, plain)
    np.testing.assert_allclose(camera_at(plan, still, 1010, stage).pose, plain)


def test_a_scene_that_is_removed_is_the_one_that_is_named():
    plan = Plan(scenes=[{"name": name, "path": f"/{name}.usd"} for name in ("a", "b", "c")])
    assert [scene.name for scene in remove_scene(plan, "b").scenes] == ["a", "c"]


def test_samples_of_an_iris_lie_evenly_along_its_outline():
    fan = outline(Iris(5, 0.0, 12.0))
    for u in (0.0, 0.13, 0.5, 0.77, 0.999):
        at = u * (len(fan) - 1)
        k = int(at)
        expected = fan[k] + (fan[k + 1] - fan[k]) * (at - k)
        np.testing.assert_allclose(sample(fan, np.array([u]), np.array([1.0]))[0], expected, atol=1e-12)


def test_the_last_sample_of_an_iris_is_its_first_corner_again():
    fan = outline(Iris(5, 0.0, 12.0))
    np.testing.assert_allclose(sample(fan, np.array([1.0]), np.array([1.0]))[0], fan[-1])

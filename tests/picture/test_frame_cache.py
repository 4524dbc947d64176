"""Frames in memory: made when there is time, thrown away only where they changed."""

import threading

import numpy as np
import pytest

from kobrel.picture.denoise import can_denoise
from kobrel.picture.frame_cache import FrameCache, Wanted
from kobrel.picture.service import DrawingService, finished
from kobrel.picture.tracer import never
from kobrel.plan.look import Finish, Light
from kobrel.plan.measure.camera import cameras_at
from kobrel.plan.model import DistanceTarget, SubjectTarget
from kobrel.plan.pull import marks as pulls
from tests.conftest import box_at

SIZE = (48, 27)


def wanted(plan, shot, stage, frames=None, **changes):
    frames = np.arange(shot.first, shot.last + 1) if frames is None else np.asarray(frames)
    camera = cameras_at(plan, shot, frames.astype(float), stage)
    plain = {"light": plan.light, "width": SIZE[0], "height": SIZE[1], "passes": 1, "finish": plan.finish}
    return Wanted(stage, camera, frames, **{**plain, **changes})


def fill(cache, start=0):
    """Make all that is missing; returns the frames in the order they were made."""
    made = []
    while (spare := cache.next_from(start)) is not None:
        made.append(int(spare.request.frame))
        spare.done(finished(spare.request, never))
    return made


@pytest.fixture
def rack(demo):
    plan, stage = demo
    return plan, plan.shots[1], stage


def test_it_fills_from_the_frame_that_is_shown_and_tells_each(rack):
    told = []
    cache = FrameCache(lambda: told.append(1))
    cache.want(wanted(*rack, frames=[1010, 1011, 1012, 1013]))
    assert cache.picture(1012) is None
    assert fill(cache, 1012) == [1012, 1013, 1010, 1011]
    assert (len(told), cache.made, cache.count) == (4, 4, 4)
    frames, there = cache.filled
    assert frames.tolist() == [1010, 1011, 1012, 1013]
    assert there.all()
    assert cache.picture(1012).shape == (27, 48, 3)
    assert not np.array_equal(cache.picture(1010), cache.picture(1013))


@pytest.mark.skipif(not can_denoise(), reason="the library is not made for this processor")
def test_frames_are_denoised_and_made_anew_when_they_are_to_be_raw(rack):
    cache = FrameCache(lambda: None)
    cache.want(wanted(*rack, frames=[1010, 1011], passes=2, denoise=True))
    assert fill(cache) == [1010, 1011]
    clean = cache.picture(1010).astype(int)
    cache.want(wanted(*rack, frames=[1010, 1011], passes=2))
    assert fill(cache) == [1010, 1011]
    noisy = cache.picture(1010).astype(int)
    cache.want(wanted(*rack, frames=[1010], passes=128))
    fill(cache)
    exact = cache.picture(1010).astype(int)
    assert np.abs(clean - exact).mean() < 0.8 * np.abs(noisy - exact).mean()


def test_an_edit_at_one_mark_makes_only_the_frames_between_its_neighbours_anew(rack):
    plan, shot, stage = rack
    cache = FrameCache(lambda: None)
    cache.want(wanted(plan, shot, stage))
    assert fill(cache) == list(range(1001, 1097))
    marks = [mark.frame for mark in shot.marks]
    assert marks == [1001, 1037, 1061, 1096]
    late = pulls.move_mark(shot, 1061, 1070)
    defocus_everything = cache.want(wanted(plan, late, stage))
    assert fill(cache) == list(range(1038, 1070))
    assert defocus_everything == 1069 - 1037
    assert cache.made == 96 + defocus_everything
    # a mark on something else: all between its neighbours
    elsewhere = pulls.set_mark(late, 1037, DistanceTarget(metres=9.0))
    assert cache.want(wanted(plan, elsewhere, stage)) == 1069 - 1001
    assert fill(cache) == list(range(1002, 1070))
    # an edit that changes no picture throws nothing away
    same = pulls.set_mark(elsewhere, 1080, SubjectTarget(number=2))
    assert cache.want(wanted(plan, same, stage)) == 0


def test_a_change_of_all_frames_throws_all_away_and_leaving_it_loses_nothing(rack):
    plan, shot, stage = rack
    few = range(1020, 1024)
    cache = FrameCache(lambda: None)
    cache.want(wanted(plan, shot, stage, few))
    fill(cache)
    assert cache.want(wanted(plan, shot, stage, few)) == 0
    for change in (
        {"light": plan.light.replace(exposure_ev=1.0)},
        {"width": 64},
        {"passes": 2},
        {"finish": Finish(glow=0.5)},
    ):
        assert cache.want(wanted(plan, shot, stage, few, **change)) == 4
        assert cache.want(wanted(plan, shot, stage, few)) == 0
        fill(cache)
    open_iris = shot.replace(iris=shot.iris.replace(blades=5))
    assert cache.want(wanted(plan, open_iris, stage, few)) == 4
    fill(cache)
    assert cache.want(wanted(plan, open_iris, stage, range(1022, 1026))) == 2
    cache.forget()
    assert cache.count == 0
    assert cache.next_from(1020) is None


def test_a_picture_that_comes_too_late_is_not_kept(rack):
    plan, shot, stage = rack
    cache = FrameCache(lambda: None)
    cache.want(wanted(plan, shot, stage, [1049]))
    late = cache.next_from(1049)
    pixels = finished(late.request, never)
    cache.want(wanted(plan, pulls.move_mark(shot, 1061, 1090), stage, [1049]))
    late.done(pixels)
    assert cache.picture(1049) is None
    again = cache.next_from(1049)
    cache.want(wanted(plan, pulls.move_mark(shot, 1061, 1090), stage, [1048, 1049]))
    again.done(finished(again.request, never))
    assert cache.picture(1049) is not None


def test_every_second_frame_stands_for_the_next(rack):
    cache = FrameCache(lambda: None)
    cache.want(wanted(*rack, frames=[1001, 1003, 1005]))
    fill(cache)
    assert cache.picture(1004) is cache.picture(1003)
    assert cache.picture(1000) is None


def test_it_holds_no_more_than_it_may(rack):
    cache = FrameCache(lambda: None, most_bytes=3 * SIZE[0] * SIZE[1] * 2)
    cache.want(wanted(*rack, frames=[1001, 1002, 1003]))
    assert cache.short
    assert fill(cache, 1002) == [1002, 1003]
    assert cache.next_from(1001) is None


def test_the_service_fills_it_in_spare_time_and_gives_way_to_what_is_wanted_now(looking_at):
    plan, shot, stage = looking_at(box_at((0, 0, -5)))
    shot = shot.replace(first=1, last=6)
    told, drawn = threading.Event(), []
    cache = FrameCache(lambda: told.set() if cache.count == 6 else None)
    cache.want(wanted(plan, shot, stage, passes=40))
    service = DrawingService(drawn.append, lambda _note: None, lambda _problem: None)
    try:
        service.fill(lambda: cache.next_from(1))
        for frame in (2, 3):
            request = cache._wanted.request(frame)
            service.ask(request)
        assert told.wait(60)
        assert cache.made == 6
    finally:
        service.close()
    assert drawn[-1].request is request
    exact = finished(cache._wanted.request(0), never)
    np.testing.assert_array_equal(cache.picture(1), exact)


def test_a_picture_in_the_making_is_left_when_another_is_wanted(looking_at):
    from kobrel.stage.scene import Cancelled

    plan, shot, stage = looking_at(box_at((0, 0, -5)))
    want = wanted(plan, shot.replace(first=1, last=2), stage, light=Light())
    with pytest.raises(Cancelled):
        finished(want.request(0), lambda: True)

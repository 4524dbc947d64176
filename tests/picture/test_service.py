import itertools
import sys
import threading
import time
from dataclasses import replace

import numpy as np
import pytest

from kobrel.errors import KobrelError
from kobrel.picture.denoise import can_denoise
from kobrel.picture.service import DrawingService, Request
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from tests.conftest import box_at


class Listener:
    def __init__(self):
        self.drawn, self.notes, self.problems = [], [], []
        self.service = DrawingService(self.drawn.append, self.notes.append, self.problems.append)

    def wait(self, ready, seconds=60):
        begun = time.monotonic()
        while not ready():
            assert time.monotonic() - begun < seconds, (self.notes, self.problems)
            time.sleep(0.005)


@pytest.fixture
def listener():
    made = Listener()
    yield made
    made.service.close()


@pytest.fixture
def request_for(looking_at):
    plan, shot, stage = looking_at(box_at((0, 0, -5)))

    def make(**changes):
        camera = camera_at(plan, shot, 1, stage)
        return Request(
            **{
                "stage": stage,
                "camera": camera,
                "frame": 1,
                "light": Light(),
                "width": 96,
                "height": 64,
                **changes,
            }
        )

    return make


def test_a_smooth_frame_comes_first_and_then_the_passes(listener, request_for):
    listener.service.ask(request_for(passes=20))
    listener.wait(lambda: listener.drawn and listener.drawn[-1].passes == 20)
    passes = [drawn.passes for drawn in listener.drawn]
    assert passes[0] == 0
    assert passes == sorted(passes)
    assert listener.drawn[-1].pixels.shape == (64, 96, 3)
    assert np.isfinite(listener.drawn[-1].depth).any()


def test_brightness_alone_starts_nothing_anew(listener, request_for):
    first = request_for(passes=12)
    listener.service.ask(first)
    listener.wait(lambda: listener.drawn and listener.drawn[-1].passes == 12)
    before = len(listener.drawn)
    brighter = replace(
        first,
        light=first.light.replace(exposure_ev=1.0),
        camera=replace(first.camera, coc_mm=first.camera.coc_mm * 100),
    )
    listener.service.ask(brighter)
    listener.wait(lambda: len(listener.drawn) > before)
    assert listener.drawn[before].passes == 12
    assert listener.drawn[before].pixels.mean() > listener.drawn[before - 1].pixels.mean() * 1.1
    assert listener.drawn[before].sharp_part > listener.drawn[before - 1].sharp_part
    listener.service.ask(replace(first, camera=replace(first.camera, focus_m=np.float64(2.0))))
    listener.wait(lambda: listener.drawn[-1].passes == 12 and len(listener.drawn) > before + 2)
    assert listener.drawn[before + 1].passes == 0


def test_another_projection_is_drawn_anew(listener, request_for):
    first = request_for(passes=1)
    turned = replace(first.camera, projection="fisheye")
    listener.service.ask(replace(first, preview=True))
    listener.wait(lambda: listener.drawn)
    listener.service.ask(replace(first, preview=True, camera=turned))
    listener.wait(lambda: listener.drawn[-1].request.camera is turned)
    assert not np.array_equal(listener.drawn[0].depth, listener.drawn[-1].depth)


def test_in_haste_only_one_frame_is_made_and_it_may_be_half_size(listener, request_for):
    listener.service.ask(request_for(preview=True))
    listener.wait(lambda: listener.drawn)
    time.sleep(0.2)
    assert [drawn.passes for drawn in listener.drawn] == [0]
    assert listener.drawn[0].pixels.shape == (32, 48, 3)
    listener.service.ask(request_for(passes=1))
    listener.wait(lambda: listener.drawn[-1].passes == 1)
    listener.service.ask(request_for(preview=True))
    listener.wait(lambda: listener.drawn[-1].request.preview)
    assert listener.drawn[-1].pixels.shape == (64, 96, 3), "the full sharp picture is known by then"


def test_the_newest_request_wins(listener, request_for):
    requests = [request_for(passes=4000, width=320, height=200) for _ in range(5)] + [request_for(passes=3)]
    for request in requests:
        listener.service.ask(request)
        time.sleep(0.01)
    listener.wait(
        lambda: (
            listener.drawn and listener.drawn[-1].request is requests[-1] and listener.drawn[-1].passes == 3
        )
    )
    assert max(drawn.passes for drawn in listener.drawn if drawn.request is not requests[-1]) < 4000


def test_sketches_are_made_beside_the_picture(listener, request_for):
    made = threading.Event()
    listener.service.ask(request_for(passes=3000))
    listener.service.sketch(request_for(width=24, height=16), lambda drawn: made.set())
    assert made.wait(60)
    dropped = threading.Event()
    listener.service.drop_sketches()
    assert not dropped.is_set()


def test_the_picture_is_never_that_of_a_scene_that_is_gone(listener, looking_at):
    """Many scenes one after the other, each brighter: every picture is its own scene's."""
    brightness = []
    for step in range(14):
        wall = box_at((0, 0, -5), (20, 20, 1), base=(0.05 * (step + 1),) * 3)
        plan, shot, stage = looking_at(wall)
        camera = camera_at(plan, shot, 1, stage)
        request = Request(stage, camera, 1, Light(), 48, 32, preview=False, passes=1)
        listener.service.ask(request)
        listener.wait(lambda wanted=request: listener.drawn and listener.drawn[-1].request is wanted)
        brightness.append(float(listener.drawn[-1].pixels.mean()))
        listener.drawn.clear()
        del plan, shot, stage, camera, request, wall
    assert all(later > earlier + 1 for earlier, later in itertools.pairwise(brightness))


def test_a_fault_is_told_and_the_next_picture_still_comes(listener, request_for, monkeypatch):
    faults = []
    monkeypatch.setattr(sys, "excepthook", lambda *fault: faults.append(fault[0]))
    listener.service.ask(request_for(camera=None))
    listener.wait(lambda: listener.problems)
    assert "could not be drawn" in listener.problems[0]
    assert faults == [AttributeError]
    listener.service.ask(request_for(passes=1))
    listener.wait(lambda: listener.drawn and listener.drawn[-1].passes == 1)


def test_a_spot_is_refined_before_all_else_and_a_fault_in_it_ends_it(listener, request_for, monkeypatch):
    service, seen = listener.service, []
    service.ask(request_for(passes=200))
    listener.wait(lambda: listener.drawn)
    service.look(request_for(width=24, height=24, passes=5), seen.append)
    listener.wait(lambda: len(seen) == 5)
    assert [drawn.passes for drawn in seen] == [1, 2, 3, 4, 5]
    assert listener.drawn[-1].passes < 200
    monkeypatch.setattr(sys, "excepthook", lambda *_: None)
    told = []

    def fails(drawn):
        told.append(drawn)
        raise ZeroDivisionError("inside")

    service.look(request_for(width=24, height=24, passes=50), fails)
    listener.wait(lambda: listener.problems)
    time.sleep(0.1)
    assert (len(told), len(listener.problems)) == (1, 1)


@pytest.mark.skipif(not can_denoise(), reason="the library is not made for this processor")
def test_the_picture_is_denoised_at_once_and_shown_raw_when_asked(listener, request_for):
    clean = request_for(passes=12, denoise=True)
    listener.service.ask(clean)
    listener.wait(lambda: listener.drawn and listener.drawn[-1].passes == 12)
    assert [(one.passes, one.denoised) for one in listener.drawn] == [
        (0, False),
        (2, True),
        (8, True),
        (12, True),
    ]
    listener.service.ask(replace(clean, denoise=False))
    listener.wait(lambda: not listener.drawn[-1].denoised)
    assert listener.drawn[-1].passes == 12  # what is gathered, without a pass more
    brighter = replace(clean, light=clean.light.replace(exposure_ev=1.0))
    listener.service.ask(brighter)
    listener.wait(lambda: listener.drawn[-1].request is brighter)
    assert (listener.drawn[-1].passes, listener.drawn[-1].denoised) == (12, True)
    taken = []
    listener.service.take(taken.append)
    listener.wait(lambda: taken)
    traced = exposed(View(clean.stage.snapshot(1), clean.camera, clean.light, 96, 64), 12)
    np.testing.assert_allclose(taken[0].colour, traced, rtol=1e-5)  # what is measured has its noise


def test_where_denoising_fails_the_picture_is_shown_with_its_noise(listener, request_for, monkeypatch):
    def fail(*_anything):
        raise KobrelError("Denoising failed: out of memory.")

    monkeypatch.setattr("kobrel.picture.service.can_denoise", lambda: True)
    monkeypatch.setattr("kobrel.picture.tracer.denoised", fail)
    listener.service.ask(request_for(passes=9, denoise=True))
    listener.wait(lambda: listener.drawn and listener.drawn[-1].passes == 9)
    assert not any(one.denoised for one in listener.drawn)
    assert listener.problems == ["Denoising failed: out of memory. The picture is shown with its noise."]

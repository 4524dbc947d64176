"""Denoising: less error, discs as they were, the same bits everywhere, stopped at once, and told where not."""

import hashlib
import subprocess
import sys
import textwrap

import numpy as np
import pytest

from kobrel.errors import KobrelError
from kobrel.picture import denoise
from kobrel.picture.denoise import can_denoise, denoised
from kobrel.picture.tracer import Film, blocks, exposed, from_sums, never
from kobrel.plan.look import Light
from kobrel.stage.scene import Cancelled
from tests.conftest import ball_at, box_at
from tests.picture.test_emitters import GLOW, view_of

pytestmark = pytest.mark.skipif(not can_denoise(), reason="the library is not made for this processor")


def shaded(looking_at):
    """A ball in focus before a box out of focus, in full light."""
    nodes = [ball_at((0, 0, -3), 0.5), box_at((0.6, 0.2, -6), (1.5, 1.5, 1.0))]
    return view_of(looking_at, nodes, 3.0, light=Light(surfaces="full"))


def test_two_samples_denoised_are_nearer_to_the_truth(looking_at):
    view = shaded(looking_at)
    truth, film = exposed(view, 256), Film(view)
    film.expose()
    film.expose()
    noisy, clean = (np.abs(each - truth).mean() for each in (film.picture(), film.denoised()))
    assert clean < 0.6 * noisy


@pytest.mark.parametrize("passes", [2, 16])
def test_the_disc_of_a_small_light_keeps_its_light_and_its_edge(looking_at, passes):
    film = Film(view_of(looking_at, [ball_at((0.1, 0.1, -3), 0.01, emission=GLOW)], 1.0))
    for _ in range(passes):
        film.expose()
    clean = film.denoised()
    for _ in range(passes, max(passes, 8)):
        film.expose()
    drawn = film.picture()
    assert drawn.sum() > 0
    np.testing.assert_allclose(clean.sum(axis=(0, 1)), drawn.sum(axis=(0, 1)), rtol=0.005)
    half = drawn.max() / 4
    assert np.count_nonzero(clean > half) == pytest.approx(np.count_nonzero(drawn > half), rel=0.005)


def test_sums_and_a_film_give_the_same_picture(looking_at):
    view = shaded(looking_at)
    film = Film(view)
    for _ in range(4):
        film.expose()
    assert blocks(4) == [(0, 4)]
    np.testing.assert_array_equal(from_sums(view, [film.sum()], 4, denoise=True), film.denoised())
    np.testing.assert_array_equal(exposed(view, 4, denoise=True), film.denoised())
    np.testing.assert_array_equal(exposed(view, 4), film.picture())


def test_one_core_gives_the_same_bits():
    program = textwrap.dedent("""
        import hashlib, os, sys
        os.sched_setaffinity(0, list(os.sched_getaffinity(0))[:int(sys.argv[1])])
        import numpy as np
        from kobrel.picture.denoise import denoised
        noise = np.random.default_rng(1).gamma(0.3, 1.0, (90, 160, 3)).astype(np.float32)
        print(hashlib.sha256(denoised(noise, lambda: False).tobytes()).hexdigest())
    """)
    ran = [subprocess.run([sys.executable, "-c", program, cores], capture_output=True, text=True, check=True)
           for cores in ("1", "64")]  # fmt: skip
    noise = np.random.default_rng(1).gamma(0.3, 1.0, (90, 160, 3)).astype(np.float32)
    here = hashlib.sha256(denoised(noise, never).tobytes()).hexdigest()
    assert {each.stdout.strip() for each in ran} == {here}


def test_it_stops_while_it_runs_and_goes_on_later():
    picture = np.random.default_rng(2).gamma(0.3, 1.0, (270, 480, 3)).astype(np.float32)
    asked = []

    def stop():
        asked.append(True)
        return len(asked) > 2

    with pytest.raises(Cancelled):
        denoised(picture, stop)
    assert len(asked) < 10  # not asked until the end
    clean = denoised(picture, never)
    assert clean.std() < picture.std() / 2


def test_without_the_library_it_is_said_before_the_work(monkeypatch):
    monkeypatch.setattr(denoise, "can_denoise", lambda: False)
    with pytest.raises(KobrelError, match="Install pyoidn"):
        denoised(np.zeros((16, 16, 3), np.float32), never)

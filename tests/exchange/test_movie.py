"""Movies, sequences of pictures, and the motor's sound in them."""

from fractions import Fraction

import av
import numpy as np
import OpenImageIO as oiio
import opentimelineio as otio
import pytest
import soundfile

from kobrel.errors import ExchangeError
from kobrel.exchange.movie import Movie, write_shot
from kobrel.exchange.sound import write_sound
from kobrel.optics.motor import RATE_HZ
from kobrel.picture.burn import burnt, burnt_words
from kobrel.plan.measure.survey import survey
from kobrel.stage.scene import Cancelled, no_progress
from tests.conftest import box_at

SMALL = {"width": 96, "height": 54, "passes": 2}


@pytest.fixture
def scene(looking_at):
    plan, shot, stage = looking_at(box_at((0, 0, -5)))
    shot = shot.replace(first=1, last=12, fps=24.0, handles=3)
    return plan.replace(shots=(shot,)), shot, stage


def read(path):
    """Frames of a movie, (n, h, w, 3), its rate, and its sound or None."""
    with av.open(str(path)) as container:
        rate, has_sound = container.streams.video[0].average_rate, bool(container.streams.audio)
        frames = np.array([frame.to_ndarray(format="rgb24") for frame in container.decode(video=0)])
    sound = None
    if has_sound:
        with av.open(str(path)) as container:
            sound = np.concatenate([f.to_ndarray().reshape(-1) for f in container.decode(audio=0)])
    return frames, float(rate), sound


@pytest.mark.parametrize(
    ("fps", "exact"),
    [
        (23.976, Fraction(24000, 1001)),
        (25.0, Fraction(25)),
        (29.97, Fraction(30000, 1001)),
        (59.94, Fraction(60000, 1001)),
    ],
)
@pytest.mark.parametrize("ending", [".mov", ".mp4"])
def test_a_movie_has_the_trades_rate_its_timecode_and_its_colours(scene, tmp_path, fps, exact, ending):
    plan, shot, stage = scene
    path = tmp_path / f"x{ending}"
    shot = shot.replace(fps=fps, first=1798, last=1805)
    write_shot(plan, shot, stage, Movie(first=1800, last=1801, **SMALL), path, no_progress)
    with av.open(str(path)) as container:
        video = container.streams.video[0]
        assert video.average_rate == exact
        wanted = otio.opentime.RationalTime(1800, float(exact)).to_timecode()
        assert video.metadata["timecode"] == wanted
        frame = next(container.decode(video=0))
        assert (frame.color_primaries, frame.color_trc, int(frame.colorspace)) == (1, 1, 1)


@pytest.mark.parametrize("ending", [".mp4", ".mov"])
def test_a_movie_has_the_shots_frames_rate_and_pictures(scene, tmp_path, ending):
    plan, shot, stage = scene
    path, still = tmp_path / f"x{ending}", tmp_path / "x.png"
    write_shot(plan, shot, stage, Movie(first=1, last=5, **SMALL), path, no_progress)
    frames, rate, sound = read(path)
    assert frames.shape == (5, 54, 96, 3)
    assert rate == 24.0
    assert sound is None
    write_shot(plan, shot, stage, Movie(first=1, last=5, **SMALL), still, no_progress)
    written = sorted(tmp_path.glob("x.*.png"))
    assert [each.name for each in written] == [f"x.{frame:04d}.png" for frame in range(1, 6)]
    plain = oiio.ImageBuf(str(written[2])).get_pixels(oiio.UINT8)
    assert np.abs(frames[2].astype(int) - plain).mean() < 4.0
    assert np.abs(frames[2].mean(axis=(0, 1)) - plain.mean(axis=(0, 1))).max() < 2.5


def test_handles_are_written_unless_frames_are_named_and_odd_sizes_made_even(scene, tmp_path):
    plan, shot, stage = scene
    path = tmp_path / "x.mp4"
    write_shot(plan, shot, stage, Movie(width=65, height=37, passes=1), path, no_progress)
    frames, _, _ = read(path)
    assert frames.shape == (12 + 2 * 3, 38, 66, 3)


def test_the_motor_is_heard_in_time_with_the_pull(demo, tmp_path):
    plan, stage = demo
    rack, path = plan.shots[1].replace(first=1025, last=1048), tmp_path / "x.mov"
    movie = Movie(sound=True, first=1025, last=1048, width=32, height=18, passes=1)
    write_shot(plan, rack, stage, movie, path, no_progress)
    frames, _, sound = read(path)
    assert len(frames) == 24
    assert len(sound) == RATE_HZ
    assert np.abs(sound[: RATE_HZ // 3]).max() < 600  # it creeps along with the camera
    assert np.abs(sound[RATE_HZ * 3 // 4 :]).max() > 1200


def test_a_wav_starts_with_the_shot(demo, tmp_path):
    plan, stage = demo
    numbers, path = survey(plan, plan.shots[1], stage), tmp_path / "x.wav"
    write_sound(plan, plan.shots[1], numbers, path)
    samples, rate = soundfile.read(path)
    assert rate == RATE_HZ
    assert len(samples) == 4 * RATE_HZ
    at = {
        frame: np.abs(samples[round((frame - 1001) / 24 * rate) :][: rate // 24]).max()
        for frame in (1010, 1049)
    }
    assert at[1049] > 5 * at[1010]
    for wrong in (tmp_path / "x.mp3", tmp_path / "none" / "x.wav"):
        with pytest.raises(ExchangeError, match=wrong.name):
            write_sound(plan, plan.shots[1], numbers, wrong)


def test_what_is_burnt_in_is_what_was_asked_for(demo):
    plan, stage = demo
    numbers = survey(plan, plan.shots[1], stage)
    row = numbers.index_of(1001)
    everything = burnt_words(plan, numbers, row, frozenset(("frame", "focus", "stop", "states")))
    assert everything[0].startswith("1001   focus ")
    assert everything[0].endswith("50 mm  f/1.4")
    assert "Lantern sharp" in everything[1]
    assert burnt_words(plan, numbers, row, frozenset(("frame",))) == ["1001"]
    assert burnt_words(plan, numbers, row, frozenset()) == []
    blank = np.full((90, 160, 3), 128, np.uint8)
    made = burnt(blank, ["1001", "a line that is far too long for such a small picture, so that it is cut"])
    changed = np.any(made != 128, axis=2)
    assert changed[60:].any()
    assert not changed[:50].any()
    assert not changed[:, 156:].any()
    assert burnt(blank, []) is blank


def test_linear_pictures_carry_depth_and_blur(scene, tmp_path):
    plan, shot, stage = scene
    movie = Movie(first=3, last=3, **SMALL)
    write_shot(plan, shot, stage, movie, tmp_path / "x.exr", no_progress)
    path = tmp_path / "x.0003.exr"
    spec = oiio.ImageInput.open(str(path)).spec()
    assert (spec.width, spec.height) == (96, 54)
    assert len(spec.channelnames) > 3


def test_clay_takes_the_colours_away(demo, tmp_path):
    plan, stage = demo
    pictures = {}
    for clay in (False, True):
        movie = Movie(first=1049, last=1049, clay=clay, **SMALL)
        write_shot(plan, plan.shots[1], stage, movie, tmp_path / f"{clay}.png", no_progress)
        pictures[clay] = oiio.ImageBuf(str(tmp_path / f"{clay}.1049.png")).get_pixels(oiio.UINT8).astype(int)
    assert np.abs(pictures[True] - pictures[False]).mean() > 2


def test_a_cancelled_or_impossible_movie_leaves_no_file(scene, tmp_path):
    plan, shot, stage = scene
    calls = []

    def stop(what, part):
        calls.append((what, part))
        if len(calls) > 6:
            raise Cancelled("Stopped.")

    with pytest.raises(Cancelled):
        write_shot(plan, shot, stage, Movie(**SMALL), tmp_path / "x.mp4", stop)
    parts = [part for what, part in calls if what.startswith("Rendering")]
    assert parts == sorted(parts)
    assert 0 < parts[-1] < 0.5
    for path, movie, why in (
        (tmp_path / "x.avi", Movie(), "ends in .mp4"),
        (tmp_path / "x.mp4", Movie(first=5, last=4), "comes before"),
        (tmp_path / "x.mp4", Movie(width=100_000), "16384"),
        (tmp_path / "none" / "x.mp4", Movie(**SMALL), "no such folder"),
    ):
        with pytest.raises(ExchangeError, match=why):
            write_shot(plan, shot, stage, movie, path, no_progress)
    with pytest.raises(ExchangeError, match=r"pictures in \.png, \.exr"):
        write_shot(plan, shot, stage, Movie(), tmp_path / "x.gif", no_progress)
    assert list(tmp_path.iterdir()) == []

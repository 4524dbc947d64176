"""The focus motor's sound."""

import numpy as np
import pytest

from kobrel.optics.motor import RATE_HZ, motor_sound


def pitch(samples):
    """Frequency of the strongest tone, Hz."""
    spectrum = np.abs(np.fft.rfft(samples * np.hanning(len(samples))))
    return np.fft.rfftfreq(len(samples), 1 / RATE_HZ)[np.argmax(spectrum)]


def loudness(samples):
    return float(np.sqrt(np.mean(samples**2)))


def test_it_lasts_as_long_as_its_frames_and_is_silent_at_rest():
    made = motor_sound(np.zeros(48), 24.0)
    assert made.shape == (2 * RATE_HZ,)
    assert np.all(made == 0)
    assert motor_sound([10.0] * 25, 25.0).shape == (RATE_HZ,)


@pytest.mark.parametrize("speed", [20.0, 100.0, 400.0])
def test_pitch_follows_the_speed(speed):
    made = motor_sound(np.full(48, speed), 24.0)[RATE_HZ // 2 : RATE_HZ * 3 // 2]
    assert pitch(made) == pytest.approx(90 + 1.6 * speed, abs=2.0)


def test_level_follows_the_speed_and_never_clips():
    levels = [loudness(motor_sound(np.full(24, v), 24.0)) for v in (5.0, 50.0, 200.0, 2000.0)]
    assert levels == sorted(levels)
    assert levels[0] < 0.1 * levels[-1]
    loud = motor_sound(np.full(24, 1e6), 24.0)
    assert np.abs(loud).max() <= 1.0


def test_it_starts_and_stops_with_the_pull_and_without_a_click():
    speeds = np.where((np.arange(72) >= 24) & (np.arange(72) < 48), 300.0, 0.0)
    made = motor_sound(speeds, 24.0)
    second = RATE_HZ
    assert loudness(made[: int(0.95 * second)]) == 0
    assert loudness(made[int(1.1 * second) : int(1.9 * second)]) > 0.1
    assert loudness(made[int(2.05 * second) :]) == 0
    assert np.abs(np.diff(made)).max() < 0.35
    envelope = np.abs(made[second - 600 : second + 600]).reshape(-1, 200).max(axis=1)
    assert envelope[0] < envelope[2] < envelope[-1]


def test_it_is_the_same_each_time():
    np.testing.assert_array_equal(motor_sound([5.0, 90.0], 24.0), motor_sound([5.0, 90.0], 24.0))

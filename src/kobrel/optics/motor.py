"""The sound of a focus motor, made from the speed of its ring."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.lens import Numbers

RATE_HZ = 48_000
_HUM_HZ, _HZ_A_DEG = 90.0, 1.6
_HALF_LEVEL_DEG_S = 220.0
_PARTIALS = ((1.0, 0.5), (2.0, 0.26), (3.0, 0.12), (7.0, 0.06))
"""Multiples of the motor's pitch (turns, poles, gears), and how loud each is."""
_HISS = 0.06
_ATTACK_S = 0.012


def motor_sound(deg_s: ArrayLike, fps: float) -> NDArray[np.float32]:
    """A motor that turns a ring: level and pitch follow its speed, and it is silent while it rests.

    The pitch is ``90 + 1.6 v`` Hz, the level ``v / (v + 220)``, for v in degrees a second.

    Parameters
    ----------
    deg_s : (F,) speed of the ring from each frame to the next, degrees a second
    fps : frames a second

    Returns
    -------
    (n,) samples within ±1, :data:`RATE_HZ` a second; as long as the frames last.
    """
    speed = _smooth(np.abs(np.atleast_1d(np.asarray(deg_s, float))), fps)
    level = speed / (speed + _HALF_LEVEL_DEG_S)
    phase = 2 * np.pi * np.cumsum(_HUM_HZ + _HZ_A_DEG * speed) / RATE_HZ
    tone = sum(weight * np.sin(times * phase) for times, weight in _PARTIALS)
    hiss = np.random.default_rng(1).standard_normal(len(speed)) * _HISS
    return (level * np.clip(tone + hiss, -1, 1)).astype(np.float32)


def _smooth(speed: Numbers, fps: float) -> Numbers:
    """The speed at each sample, eased from frame to frame so that nothing clicks."""
    count = round(len(speed) / fps * RATE_HZ)
    held = speed[np.minimum((np.arange(count) * fps / RATE_HZ).astype(int), len(speed) - 1)]
    reach = max(1, round(_ATTACK_S * RATE_HZ))
    padded = np.concatenate([np.zeros(reach), held, np.zeros(reach)])
    sums = np.concatenate([[0.0], np.cumsum(padded)])
    wide = 2 * reach
    result: Numbers = ((sums[wide:] - sums[:-wide]) / wide)[:count].clip(0.0)
    return result

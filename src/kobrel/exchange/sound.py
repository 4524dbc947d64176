"""The sound of the focus motor as a WAV file that starts with the shot."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.exchange.writing.whole import whole_file
from kobrel.optics.motor import RATE_HZ, motor_sound
from kobrel.plan.measure.pace import pace
from kobrel.plan.measure.survey import Survey
from kobrel.plan.model import Plan, Shot


def sound_of(plan: Plan, shot: Shot, numbers: Survey) -> NDArray[np.float32]:
    """What the motor of a shot's focus ring, or that of a dial where it turns faster, sounds like over the
    survey's frames, (n,) at 48 kHz.
    """
    deg_s = pace(shot, numbers).deg_s
    for dial in plan.dials:
        if dial.shot in ("", shot.name):
            turned = np.diff(dial.level.at(numbers.frames), append=np.nan)
            deg_s = np.fmax(deg_s, np.abs(turned) * shot.ring.throw_deg * shot.fps)
    return motor_sound(deg_s, shot.fps)


def write_sound(plan: Plan, shot: Shot, numbers: Survey, path: Path) -> None:
    """Write it as 16-bit WAV.

    Raises
    ------
    ExchangeError
        The name does not end in .wav, or the file cannot be written.
    """
    import soundfile

    if path.suffix.lower() != ".wav":
        raise ExchangeError("sound is written as .wav.", file=path)
    with whole_file(path) as beside:
        try:
            soundfile.write(
                str(beside), sound_of(plan, shot, numbers), RATE_HZ, subtype="PCM_16", format="WAV"
            )
        except soundfile.LibsndfileError as error:
            raise ExchangeError(f"cannot be written ({error}).", file=path) from None

"""Values that dials drive, of plates and of a lens."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.ease import eased
from kobrel.optics.lens import Numbers
from kobrel.plan.keys import Level
from kobrel.plan.pictures.plates import Dial, Drive, DrivenOfPlate, Plate

LEVELS: tuple[DrivenOfPlate, ...] = ("scale", "turn_deg", "tilt_deg", "roll_deg", "opacity")
_WITHIN = {"focus": (1e-3, np.inf), "f_number": (0.1, 1e4), "focal_mm": (0.1, 1e5)}
_BY_RATIO = ("f_number", "focal_mm")


def driven(drive: Drive, dial: Numbers) -> Numbers:
    """What a drive makes of its dial at places (F,): 0 is its low end and 1 its high one; beyond them it goes
    on as far. The focus goes evenly in dioptres, a stop and a focal length by ratio.
    """
    within = np.clip(dial, 0.0, 1.0)
    part = eased(within, drive.ease, drive.handles) + (dial - within)
    low, high = drive.low, drive.high
    if drive.what == "focus":
        near = max(low, 1e-3), max(high, 1e-3)
        return np.asarray(1.0 / np.maximum((1 - part) / near[0] + part / near[1], 1e-9))
    if drive.what in _BY_RATIO:
        return np.asarray(max(low, 1e-6) ** (1 - part) * max(high, 1e-6) ** part)
    return np.asarray(low + (high - low) * part)


def drive_of(dials: tuple[Dial, ...], plate: int | None, what: str) -> tuple[Dial, Drive] | None:
    """The dial that drives a value, and how; the last one where several do."""
    found = [(dial, d) for dial in dials for d in dial.drives if d.plate == plate and d.what == what]
    return found[-1] if found else None


def value_at(plate: Plate, dials: tuple[Dial, ...], what: DrivenOfPlate, frames: ArrayLike) -> Numbers:
    """A plate's scale, turn, tilt, roll or opacity at frames, (F,)."""
    found = drive_of(dials, plate.number, what)
    if found is not None:
        return driven(found[1], found[0].level.at(frames))
    level: Level = getattr(plate, what)
    return level.at(frames)


def lens_drives(dials: tuple[Dial, ...], shot: str) -> dict[str, tuple[Dial, Drive]]:
    """What dials drive of a shot's lens: by ``focus``, ``f_number`` and ``focal_mm``."""
    return {
        drive.what: (dial, drive) for dial in dials if dial.shot == shot
        for drive in dial.drives if drive.plate is None
    }  # fmt: skip


def lens_at(dials: tuple[Dial, ...], shot: str, at: Numbers) -> dict[str, Numbers]:
    """What dials drive of a shot's lens at frames, (F,) each, within what a lens can be."""
    return {
        what: np.clip(driven(drive, dial.level.at(at)), *_WITHIN[what])
        for what, (dial, drive) in lens_drives(dials, shot).items()
    }


def frames_of_keys(plate: Plate, dials: tuple[Dial, ...]) -> list[float]:
    """Frames at which something of a plate begins, arrives or has settled."""
    levels = [getattr(plate, what) for what in LEVELS]
    levels += [dial.level for dial in dials if any(d.plate == plate.number for d in dial.drives)]
    frames = [key.frame for key in plate.keys]
    for level in levels:
        for key, after in zip(level.keys, level.keys[1:], strict=False):
            if key.settle is not None:
                frames.append(after.frame + key.settle.frames)
        frames += [key.frame for key in level.keys]
    return sorted(set(frames))

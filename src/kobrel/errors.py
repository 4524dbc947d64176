"""The one family of errors whose messages are meant for a person."""

from pathlib import Path


class KobrelError(Exception):
    """Something a person can put right.

    >>> str(KobrelError("not a number.", file="lens set.csv", place="line 3", remedy="Write it like 50."))
    'lens set.csv: line 3: not a number. Write it like 50.'

    Parameters
    ----------
    what : what is wrong, a sentence
    file : in which file
    place : where in the file, such as a line
    remedy : what to do about it, a sentence
    """

    def __init__(self, what: str, *, file: Path | str = "", place: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what, self.file, self.place, self.remedy = what, file, place, remedy

    def __str__(self) -> str:
        told = ": ".join(filter(None, (str(self.file), self.place, self.what)))
        return f"{told} {self.remedy}" if self.remedy else told


class OpticsError(KobrelError):
    """A lens, sensor or distance that cannot exist."""


class SceneError(KobrelError):
    """A scene file that cannot be used."""


class PlanError(KobrelError):
    """A plan that cannot be read, written or obeyed."""


class PartError(PlanError, ValueError):
    """A value that a part of a plan cannot have."""


class ExchangeError(KobrelError):
    """A file in another format that cannot be written or read back."""

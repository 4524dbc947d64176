"""Reading a laser meter over a socket, in the protocol of docs/rangefinder.md."""

import math
import socket
import statistics
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TextIO

import numpy as np
from numpy.typing import ArrayLike

from kobrel.errors import ExchangeError
from kobrel.stage.scene import Progress, no_progress

DEFAULT_PORT = 7150
_TIMEOUT_S = 4.0
_METRES = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}


@dataclass(frozen=True)
class Measured:
    """Several readings of one thing.

    `spread_m` is their standard deviation; `failed` tells why others gave none.
    """

    distance_m: float
    spread_m: float
    count: int
    failed: tuple[str, ...]


class Meter:
    """A meter at the other end of a socket; get one from :func:`meter`."""

    def __init__(self, lines: TextIO) -> None:
        self._lines = lines
        self.name = ""

    def ask(self, line: str) -> str:
        """Say a line and hear the answer.

        Raises
        ------
        ExchangeError
            It says nothing in time, or that it did not understand.
        """
        try:
            self._lines.write(f"{line}\n")
            self._lines.flush()
            answer = self._lines.readline().strip()
        except ConnectionError:
            answer = ""
        except (OSError, ValueError) as error:
            raise ExchangeError(
                f"The meter does not answer ({error}).", remedy="Is it still switched on?"
            ) from None
        if not answer:
            raise ExchangeError("The meter has hung up.", remedy="Connect it again.")
        if answer.startswith("ERROR"):
            raise ExchangeError(f"The meter did not understand: {answer.removeprefix('ERROR').strip()}.")
        return answer

    def aim(self, origin: ArrayLike, direction: ArrayLike) -> None:
        """Tell a simulated meter where it is held and points; a real one is aimed by hand."""
        numbers = " ".join(f"{value:.9g}" for value in np.concatenate([origin, direction]))
        self.ask(f"AIM {numbers}")

    def read(self) -> float | str:
        """One reading in metres, or why there is none.

        Raises
        ------
        ExchangeError
            It answers something else.
        """
        answer = self.ask("READ")
        word, *rest = answer.split()
        if word == "FAIL":
            return " ".join(rest) or "no reading"
        try:
            distance = float(rest[0]) * _METRES[rest[1]]
        except (IndexError, ValueError, KeyError):
            distance = math.nan
        if word != "DISTANCE" or not math.isfinite(distance) or distance <= 0:
            raise ExchangeError(f"The meter answered “{answer[:60]}”, which is no reading.")
        return distance

    def average(self, count: int, progress: Progress = no_progress) -> Measured:
        """Read so many times.

        Raises
        ------
        ExchangeError
            Not one reading came.
        Cancelled
            `progress` asked to stop.
        """
        good, failed = [], []
        for number in range(count):
            progress("Reading the meter", number / count)
            found = self.read()
            if isinstance(found, str):
                failed.append(found)
            else:
                good.append(found)
        if not good:
            reasons = ", ".join(dict.fromkeys(failed))
            raise ExchangeError(
                f"The meter gave no reading ({reasons}).", remedy="Aim at something solid and nearer."
            )
        spread = statistics.stdev(good) if len(good) > 1 else 0.0
        return Measured(statistics.fmean(good), spread, len(good), tuple(failed))


@contextmanager
def meter(host: str, port: int) -> Iterator[Meter]:
    """A connection to a meter, closed at the end.

    Raises
    ------
    ExchangeError
        Nothing listens there, or something that is no meter.
    """
    try:
        connection = socket.create_connection((host, port), timeout=_TIMEOUT_S)
    except OSError as error:
        raise ExchangeError(
            f"No meter at {host}:{port} ({error.strerror or error}).", remedy="Switch it on, or simulate one."
        ) from None
    with connection, connection.makefile("rw", encoding="utf-8", newline="\n") as lines:
        made = Meter(lines)
        greeting = made.ask("HELLO").split()
        if greeting[:1] != ["METER"]:
            raise ExchangeError(f"What listens at {host}:{port} is no meter.")
        made.name = " ".join(greeting[1:])
        yield made
        try:
            lines.write("BYE\n")
            lines.flush()
        except OSError:
            return

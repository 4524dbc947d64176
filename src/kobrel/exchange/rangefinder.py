"""Reading a laser meter over a socket, in the protocol of docs/rangefinder.md."""

import math
import socket
import statistics
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from kobrel.errors import ExchangeError
from kobrel.stage.scene import Progress, no_progress

DEFAULT_PORT = 7150
_TIMEOUT_S = 4.0
_MOST_LINE, _MOST_SAID = 4096, 100
NEAREST_M, FARTHEST_M = 0.001, 1e5
"""Distances that can be a reading."""
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

    def __init__(self, connection: socket.socket) -> None:
        self._connection = connection
        self._heard = b""
        self.name = ""

    def ask(self, line: str) -> str:
        """Say a line and hear the answer.

        Raises
        ------
        ExchangeError
            It says nothing in time, no end of it, or that it did not understand.
        """
        try:
            self._connection.sendall(f"{line}\n".encode())
            answer = self._line().decode("utf-8", "replace").strip()
        except ConnectionError:
            answer = ""
        except OSError as error:
            raise ExchangeError(
                f"The meter does not answer ({error}).", remedy="Is it still switched on?"
            ) from None
        if not answer:
            raise ExchangeError("The meter disconnected.", remedy="Connect it again.")
        if answer.startswith("ERROR"):
            raise ExchangeError(
                f"The meter did not understand: {answer.removeprefix('ERROR').strip()[:_MOST_SAID]}."
            )
        return answer

    def _line(self) -> bytes:
        """A line that it says, within a time for all of it."""
        until = time.monotonic() + _TIMEOUT_S
        while b"\n" not in self._heard:
            if len(self._heard) > _MOST_LINE:
                raise ExchangeError("The device's reply is too long.", remedy="Is it a meter?")
            self._connection.settimeout(max(until - time.monotonic(), 1e-3))
            more = self._connection.recv(_MOST_LINE)
            if not more:
                return b""
            self._heard += more
        line, _, self._heard = self._heard.partition(b"\n")
        return line

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
        if word != "DISTANCE" or not NEAREST_M <= distance <= FARTHEST_M:
            raise ExchangeError(
                f"The meter answered “{answer[:60]}”, which is not a reading.",
                remedy=f"A distance is {NEAREST_M * 1000:g} mm to {FARTHEST_M / 1000:g} km.",
            )
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
def meter(host: str, port: int, token: str = "") -> Iterator[Meter]:
    """A connection to a meter, closed at the end.

    Parameters
    ----------
    token : that a simulated meter asks for

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
    with connection:
        made = Meter(connection)
        greeting = made.ask(f"HELLO {token}".strip()).split()
        if greeting[:1] != ["METER"]:
            raise ExchangeError(f"The device at {host}:{port} is not a laser meter.")
        made.name = " ".join(greeting[1:])[:_MOST_SAID]
        yield made
        try:
            connection.sendall(b"BYE\n")
        except OSError:
            return

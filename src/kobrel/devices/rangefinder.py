"""A simulated laser meter: it is aimed at a scene and answers over a local socket.

The protocol is text, one line each way, see docs/rangefinder.md. Readings are straight
distances from the meter, with the spread of a hand-held one; now and then nothing comes
back, nearly always from glass, water or mirrors, and never from beyond its range.
"""

import threading

import numpy as np
from numpy.typing import ArrayLike

from kobrel.devices.serving import Client, LineServer
from kobrel.stage.stage import Stage

NAME = "KOBREL-STAND-IN"
VERSION = 1
_MOST = 1e9
RANGE_M = (0.05, 60.0)
_SPREAD_M, _SPREAD_PER_M = 0.0015, 0.0001
_LOST, _LOST_ON_GLASS = 0.03, 0.9
_GLASSY = ("glass", "window", "mirror", "water", "sea", "lens")


class SimulatedMeter:
    """A meter on a stage at a frame.

    Parameters
    ----------
    number : what its errors grow from; the same gives the same readings
    """

    def __init__(self, stage: Stage, frame: float, number: int = 1) -> None:
        self._stage, self._frame = stage, frame
        self._random = np.random.default_rng(number)
        self._aim: tuple[np.ndarray, np.ndarray] | None = None
        self._lock = threading.Lock()

    def aim(self, origin: ArrayLike, direction: ArrayLike) -> None:
        """Hold it at a place on the stage and point it, (3,) each."""
        way = np.asarray(direction, dtype=float)
        self._aim = np.asarray(origin, dtype=float), way / np.linalg.norm(way)

    def read(self) -> float | str:
        """A reading in metres, or why there is none."""
        if self._aim is None:
            return "not aimed"
        with self._lock:
            pick = self._stage.pick(self._frame, *self._aim)
            lost, noise = self._random.random(), self._random.normal()
        if pick is None or not RANGE_M[0] <= pick.along <= RANGE_M[1]:
            return "out of range"
        words = pick.place.path.lower()
        if lost < (_LOST_ON_GLASS if any(word in words for word in _GLASSY) else _LOST):
            return "no return"
        return float(pick.along + noise * (_SPREAD_M + _SPREAD_PER_M * pick.along))

    def answer(self, line: str) -> str:
        """What it says to a line of the protocol."""
        word, *rest = line.split() or [""]
        if word == "AIM":
            try:
                values = [float(part) for part in rest]
            except ValueError:
                values = []
            if len(values) != 6 or not all(abs(v) <= _MOST for v in values) or not any(values[3:]):
                return "ERROR AIM needs six numbers: a place and a direction"
            self.aim(values[:3], values[3:])
            return "OK"
        if word == "READ":
            found = self.read()
            return f"FAIL {found}" if isinstance(found, str) else f"DISTANCE {found:.4f} m"
        return f"ERROR unknown command {word[:20]}"


def make_server(meter: SimulatedMeter, port: int, token: str) -> LineServer:
    """A server for a meter, listening."""

    def serve(client: Client) -> None:
        client.say(f"METER {NAME} {VERSION}")
        for line in client.lines():
            if line == "BYE":
                return
            client.say(meter.answer(line))

    return LineServer(port, token, serve)

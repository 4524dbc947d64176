"""A hand-wheel that is not there: it sends positions as a wireless follow-focus would.

Run as a module it listens on 127.0.0.1 and turns by itself, with the tremor of a hand; the protocol
is in docs/handwheel.md.
"""

import argparse
import contextlib
import itertools
import time

import numpy as np

from kobrel.devices.serving import Client, LineServer, own_token

NAME, VERSION = "Kobrel simulated hand unit", 1
RATE_HZ = 50.0
_TREMOR_HZ = (3.1, 7.3, 11.9)
TURNS = "0:0.35,1:0.35,2.2:0.62,3.5:0.62,5:0.35"


class SimulatedWheel:
    """Positions from place to place, with tremor.

    Parameters
    ----------
    turns : (seconds, position) in order, position 0 at the ring's near end and 1 at infinity; the
        hand goes smoothly from each to the next, and begins again after the last
    tremor : how far it shakes
    number : what the shaking follows from
    """

    def __init__(self, turns: list[tuple[float, float]], tremor: float = 0.003, number: int = 1) -> None:
        if not turns or any(not 0 <= place <= 1 for _at, place in turns):
            raise ValueError("a wheel turns from 0 to 1")
        if any(b[0] <= a[0] for a, b in itertools.pairwise(turns)):
            raise ValueError("its turns come one after the other in time")
        self._at = np.array([at for at, _place in turns], float)
        self._place = np.array([place for _at, place in turns], float)
        self._tremor = tremor
        self._phases = np.random.default_rng(number).random(len(_TREMOR_HZ)) * 2 * np.pi

    def position(self, seconds: float) -> float:
        """Where it stands so many seconds after it began, 0 to 1."""
        length = float(self._at[-1])
        at = seconds % length if length > 0 else 0.0
        k = int(np.clip(np.searchsorted(self._at, at, side="right") - 1, 0, len(self._at) - 1))
        after = min(k + 1, len(self._at) - 1)
        span = float(self._at[after] - self._at[k])
        u = (at - float(self._at[k])) / span if span > 0 else 0.0
        place = self._place[k] + (self._place[after] - self._place[k]) * u * u * (3 - 2 * u)
        shaking = sum(
            np.sin(2 * np.pi * hz * seconds + phase)
            for hz, phase in zip(_TREMOR_HZ, self._phases, strict=True)
        )
        return float(np.clip(place + self._tremor * shaking / len(_TREMOR_HZ), 0.0, 1.0))


def parse_turns(text: str) -> list[tuple[float, float]]:
    """Turns from text such as ``0:0.3,2:0.7``.

    >>> parse_turns("0:0.3,2:0.7")
    [(0.0, 0.3), (2.0, 0.7)]
    """
    pairs = [part.split(":") for part in text.split(",")]
    return [(float(at), float(place)) for at, place in pairs]


def make_server(wheel: SimulatedWheel, port: int, token: str, rate_hz: float = RATE_HZ) -> LineServer:
    """A server that sends a wheel's positions to whoever connects and knows the token, listening."""

    def serve(client: Client) -> None:
        begun = time.monotonic()
        client.say(f"WHEEL {NAME} {VERSION}")
        while True:
            client.say(f"POS {wheel.position(time.monotonic() - begun):.5f}")
            time.sleep(1.0 / rate_hz)

    return LineServer(port, token, serve)


def main(arguments: list[str] | None = None) -> int:
    """Send until interrupted."""
    parser = argparse.ArgumentParser(prog="python -m kobrel.devices.handwheel", description=__doc__)
    parser.add_argument("--port", type=int, default=0, help="port to listen on; 0 picks a free one")
    parser.add_argument("--turns", default=TURNS, help=f"seconds:position, ...; {TURNS} by default")
    parser.add_argument("--tremor", type=float, default=0.003, help="how far the hand shakes")
    parser.add_argument("--number", type=int, default=1, help="seed of the simulated tremor")
    given = parser.parse_args(arguments)
    try:
        wheel = SimulatedWheel(parse_turns(given.turns), given.tremor, given.number)
        server = make_server(wheel, given.port, own_token())
    except (ValueError, OSError, OverflowError) as error:
        parser.error(f"{error}. Turns are seconds:position in order, such as {TURNS}")
    server.announce()
    with contextlib.suppress(KeyboardInterrupt):
        server.serve_until_end()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())

"""Nonsense over sockets: to the simulated devices, and from odd ones to Kobrel."""

import contextlib
import random
import socket
import threading
import time
import traceback
from pathlib import Path

from campaign.watch import HANG_S, Outcome
from kobrel.devices.handwheel import TURNS, SimulatedWheel, parse_turns
from kobrel.devices.handwheel import make_server as make_wheel
from kobrel.devices.rangefinder import SimulatedMeter
from kobrel.devices.rangefinder import make_server as make_meter
from kobrel.errors import KobrelError
from kobrel.exchange import rangefinder
from kobrel.stage.scene import Scene
from kobrel.stage.stage import Stage

_TOKEN = "token"
_LINES = (
    b"HELLO token", b"HELLO", b"AIM 0 0 0 0 0 -1", b"AIM nan inf 0 0 0 0", b"AIM 1e308 0 0 1e308 0 0", b"READ", b"BYE",
    b"", b"\xff\xfe\x00", b"x" * 5000, b"METER X 1", b"DISTANCE 3.2 m", b"DISTANCE nan m", b"DISTANCE 1e999 m",
    b"DISTANCE -1 m", b"FAIL", b"ERROR", b"POS 0.5", b"POS 9", b"OK",
)  # fmt: skip


def odd_talk(dice: random.Random) -> Outcome:
    """One talk, to a device or from one; how it went."""
    begun = time.monotonic()
    try:
        (_to_device if dice.random() < 0.5 else _from_device)(dice)
    except KobrelError as error:
        return Outcome("refused", str(error))
    except Exception:
        return Outcome("fault", traceback.format_exc())
    return Outcome("hang" if time.monotonic() - begun > HANG_S else "ok")


def _said(dice: random.Random) -> bytes:
    return b"".join(
        dice.choice(_LINES) + dice.choice((b"\n", b"\n", b"\r\n", b"")) for _ in range(dice.randint(1, 12))
    )


def _to_device(dice: random.Random) -> None:
    """Say odd things to a device, and see that it still serves one that knows the token."""
    stage = Stage([("set", Scene(Path("set"), ()))])
    wheel = SimulatedWheel(parse_turns(TURNS))
    server = (
        make_meter(SimulatedMeter(stage, 0), 0, _TOKEN)
        if dice.random() < 0.6
        else make_wheel(wheel, 0, _TOKEN)
    )
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        for _ in range(dice.randint(1, 4)):
            with (
                contextlib.suppress(OSError),
                socket.create_connection(("127.0.0.1", server.port), timeout=2) as there,
            ):
                there.sendall(_said(dice))
                if dice.random() < 0.5:
                    there.settimeout(0.05)
                    there.recv(1000)
        with socket.create_connection(("127.0.0.1", server.port), timeout=5) as there:
            there.sendall(b"HELLO token\n")
            if not there.recv(100):
                raise RuntimeError("the device serves nobody any more")
    finally:
        server.shutdown()
        server.server_close()


def _from_device(dice: random.Random) -> None:
    """Let Kobrel read from something that answers odd things."""
    listener = socket.create_server(("127.0.0.1", 0))

    def talk() -> None:
        with contextlib.suppress(OSError):
            connection, _ = listener.accept()
            with connection:
                connection.sendall(b"METER X 1\n" if dice.random() < 0.7 else b"")
                connection.sendall(_said(dice))
                if dice.random() < 0.3:
                    time.sleep(0.3)
                elif dice.random() < 0.3:  # a flood
                    for _ in range(200):
                        connection.sendall(_said(dice) * 50)

    threading.Thread(target=talk, daemon=True).start()
    rangefinder._TIMEOUT_S = 0.2
    try:
        with rangefinder.meter("127.0.0.1", listener.getsockname()[1]) as meter:
            meter.average(3)
    finally:
        listener.close()

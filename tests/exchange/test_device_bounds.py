"""Devices that say what makes no sense, flood, or outlive the window that started them."""

import os
import socket
import subprocess
import sys
import threading
import time

import pytest
from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QApplication

from kobrel.desk.background.devices.handwheel import HandWheel
from kobrel.devices.serving import ENDS_NAME, TOKEN_NAME
from kobrel.errors import ExchangeError, KobrelError
from kobrel.exchange.rangefinder import meter
from kobrel.farm.worker import listening_host
from kobrel.session.session import Session


@pytest.fixture
def serving():
    """A server on this machine that does something with whoever connects; its port."""
    held = []

    def start(work):
        server = socket.create_server(("127.0.0.1", 0))
        held.append(server)

        def run():
            try:
                connection, _ = server.accept()
                with connection:
                    work(connection)
            except OSError:
                return

        threading.Thread(target=run, daemon=True).start()
        return server.getsockname()[1]

    yield start
    for server in held:
        server.close()


@pytest.mark.parametrize(
    "said", ["60000000 m", "1e12 m", "0.0000000001 m", "1e-7 mm", "nan m", "inf m", "-3 m"]
)
def test_a_reading_that_can_be_no_distance_is_refused(serving, said):
    def work(connection):
        connection.recv(100)
        connection.sendall(b"METER M 1\n")
        connection.recv(100)
        connection.sendall(f"DISTANCE {said}\n".encode())
        connection.recv(100)

    with (
        pytest.raises(ExchangeError, match="which is not a reading"),
        meter("127.0.0.1", serving(work)) as found,
    ):
        found.average(1)


def test_a_wheel_that_floods_leaves_the_window_its_turns(qapp, serving):
    stop = threading.Event()

    def work(connection):
        connection.recv(100)
        connection.sendall(b"WHEEL W 1\n")
        number = 0
        while not stop.is_set():
            number += 1
            connection.sendall(b"".join(b"POS 0.%04d\n" % (k % 10_000) for k in range(number, number + 500)))

    parent = QObject()
    wheel, heard, longest = HandWheel(Session(), parent), [], [0.0]
    wheel.turned.connect(heard.append)
    wheel.connect_to("127.0.0.1", serving(work))
    ticks, last = [0], [time.monotonic()]

    def tick():
        now = time.monotonic()
        longest[0] = max(longest[0], now - last[0])
        ticks[0], last[0] = ticks[0] + 1, now

    timer = QTimer(parent)
    timer.timeout.connect(tick)
    timer.start(5)
    end = time.monotonic() + 20
    while (len(heard) < 20 or ticks[0] < 20) and time.monotonic() < end:
        QApplication.processEvents()
    stop.set()
    wheel.stop()
    assert len(heard) >= 20
    assert ticks[0] >= 20  # other timers had their turns meanwhile
    assert all(0 <= position <= 1 for position in heard)
    parent.deleteLater()


def test_a_device_ends_with_the_window_that_started_it():
    environment = {**os.environ, TOKEN_NAME: "secret", ENDS_NAME: "1"}
    device = subprocess.Popen(
        [sys.executable, "-m", "kobrel.devices.handwheel"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        env=environment,
    )  # fmt: skip
    try:
        assert device.stdout.readline().startswith(b"Listening")
        assert device.poll() is None
        device.stdin.close()  # as when a window is killed
        assert device.wait(20) == 0
    finally:
        device.kill()


def test_a_worker_listens_on_this_machine_unless_it_is_told_otherwise():
    here = "tcp://127.0.0.1:8786"
    assert listening_host(here, "", False) == "127.0.0.1"
    assert listening_host("tcp://localhost:1", "", False) == "127.0.0.1"
    assert listening_host("tls://10.0.0.5:8786", "10.0.0.6", False) == "10.0.0.6"
    assert listening_host("tcp://10.0.0.5:8786", "10.0.0.6", True) == "10.0.0.6"
    assert listening_host(here, "::1", False) == "::1"
    with pytest.raises(KobrelError, match=r"could not reach this worker.*--host"):
        listening_host("tcp://10.0.0.5:8786", "", False)
    for host in ("10.0.0.6", "0.0.0.0", "render-03"):
        with pytest.raises(KobrelError, match=r"could run anything.*--open-to-all"):
            listening_host("tcp://10.0.0.5:8786", host, False)

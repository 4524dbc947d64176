"""Simulated devices bear with garbage, floods, slow and half-open clients, and strangers."""

import contextlib
import socket
import threading
import time

import pytest

from kobrel.devices import serving
from kobrel.devices.serving import MOST_CLIENTS, MOST_LINE, LineServer
from kobrel.errors import ExchangeError
from kobrel.exchange import rangefinder
from kobrel.exchange.rangefinder import meter

TOKEN = "a-token"


@pytest.fixture
def device():
    """A server that gives each line back."""

    def serve(client):
        client.say("HERE")
        for line in client.lines():
            client.say(f"you said {line}")

    server = LineServer(0, TOKEN, serve)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


def connected(server):
    return socket.create_connection(("127.0.0.1", server.port), timeout=5)


def answers(server, said):
    with connected(server) as there, there.makefile("rb") as lines:
        with contextlib.suppress(OSError):  # it may hang up while it is talked to
            there.sendall(said)
        with contextlib.suppress(ConnectionError):
            return lines.readline()
    return b""


def talks(server):
    """Whether a good client is still served."""
    with connected(server) as there, there.makefile("rb") as lines:
        there.sendall(f"HELLO {TOKEN}\nx\n".encode())
        return (lines.readline(), lines.readline()) == (b"HERE\n", b"you said x\n")


def test_it_listens_on_this_machine_alone(device):
    assert device.server_address[0] == "127.0.0.1"
    assert talks(device)


@pytest.mark.parametrize(
    "said",
    [
        b"HELLO\n",
        b"HELLO wrong\n",
        b"READ\n",
        b"HELLO a-token more\n",
        b"\n",
        b"\xff\xfe\x00\n",
        b"GET / HTTP/1.1\r\n\r\n",
    ],
)
def test_whoever_does_not_know_the_token_is_turned_away(device, said):
    assert answers(device, said) == b"ERROR say HELLO and the token\n"
    assert talks(device)


def test_a_line_without_end_is_cut_off(device):
    assert b"too long" in answers(device, b"x" * (MOST_LINE + 1))
    assert answers(device, f"HELLO {TOKEN}\n".encode() + b"y" * 10_000_000) in (b"HERE\n", b"")
    assert talks(device)


def test_one_that_says_nothing_is_let_go(device, monkeypatch):
    monkeypatch.setattr(serving.Client, "timeout", 0.2)
    with connected(device) as there:
        there.settimeout(5)
        assert there.recv(10) in (b"", b"ERROR say ")
    assert talks(device)


def test_no_more_are_served_at_once_than_there_is_room_for(device):
    with contextlib.ExitStack() as stack:
        clients = [stack.enter_context(connected(device)) for _ in range(MOST_CLIENTS)]
        for client in clients:
            client.sendall(f"HELLO {TOKEN}\n".encode())
            assert client.recv(5) == b"HERE\n"
        with connected(device) as one_more:
            assert one_more.recv(10) == b""
    until = time.monotonic() + 5
    while not talks_if_room(device):
        assert time.monotonic() < until


def talks_if_room(server):
    try:
        return talks(server)
    except OSError:
        return False


def test_a_flood_does_not_stop_it(device):
    for _ in range(40):
        with contextlib.suppress(OSError), connected(device) as there:
            there.sendall(b"\0" * 500)
    until = time.monotonic() + 5
    while not talks_if_room(device):
        assert time.monotonic() < until


@contextlib.contextmanager
def odd_meter(talk):
    """Something that answers as it likes."""
    listener = socket.create_server(("127.0.0.1", 0))

    def serve():
        connection, _ = listener.accept()
        with connection, contextlib.suppress(OSError):
            talk(connection)

    threading.Thread(target=serve, daemon=True).start()
    yield listener.getsockname()[1]
    listener.close()


def drip(connection):
    while True:
        connection.sendall(b"M")
        time.sleep(0.05)


@pytest.mark.parametrize(
    ("talk", "why"),
    [
        (drip, "does not answer"),
        (lambda c: time.sleep(5), "does not answer"),
        (lambda c: c.sendall(b"x" * 100_000), "too long"),
        (lambda c: c.sendall(b"\xff\xfe\n"), "not a laser meter"),
    ],
)  # fmt: skip
def test_a_meter_that_answers_oddly_is_told_and_not_waited_for(talk, why, monkeypatch):
    monkeypatch.setattr(rangefinder, "_TIMEOUT_S", 0.4)
    begun = time.monotonic()
    with odd_meter(talk) as port, pytest.raises(ExchangeError, match=why), meter("127.0.0.1", port):
        pass
    assert time.monotonic() - begun < 4

"""The simulated hand-wheel: where it stands, and what it sends."""

import socket
import subprocess
import sys
import threading

import numpy as np
import pytest

from kobrel.devices.handwheel import SimulatedWheel, main, make_server, parse_turns


def test_it_goes_from_place_to_place_and_begins_again():
    wheel = SimulatedWheel([(0, 0.2), (1, 0.2), (2, 0.8), (3, 0.2)], tremor=0.0)
    assert [wheel.position(t) for t in (0, 0.5, 1.5, 2.0, 3.5)] == pytest.approx([0.2, 0.2, 0.5, 0.8, 0.2])
    path = np.array([wheel.position(t) for t in np.linspace(0, 6, 601)])
    assert np.abs(np.diff(path)).max() < 0.02


def test_its_hand_shakes_alike_for_a_number_and_within_its_ends():
    one, other = (SimulatedWheel([(0, 0.0), (1, 1.0)], 0.05, number) for number in (1, 2))
    path = np.array([one.position(t) for t in np.linspace(0, 5, 500)])
    assert 0 <= path.min() <= path.max() <= 1
    assert path.tolist() == [
        SimulatedWheel([(0, 0.0), (1, 1.0)], 0.05, 1).position(t) for t in np.linspace(0, 5, 500)
    ]
    assert other.position(0.3) != one.position(0.3)
    assert SimulatedWheel([(0, 0.4)], 0.0).position(9) == pytest.approx(0.4)


@pytest.mark.parametrize("text", ["0:2", "1:0.2,0:0.4", "nonsense", "0:0.2:3", ""])
def test_turns_that_cannot_be_are_refused(text, capsys):
    with pytest.raises(SystemExit) as left:
        main(["--turns", text])
    assert left.value.code == 2
    assert "seconds:position" in capsys.readouterr().err


def test_it_sends_positions_to_whoever_connects():
    server = make_server(SimulatedWheel(parse_turns("0:0.3,1:0.7")), 0, "a-token", rate_hz=200)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with socket.create_connection(server.server_address[:2], timeout=5) as there, there.makefile() as lines:
        there.sendall(b"HELLO a-token\n")
        assert lines.readline().startswith("WHEEL Kobrel")
        places = [float(lines.readline().split()[1]) for _ in range(20)]
    server.shutdown()
    server.server_close()
    assert all(0 <= place <= 1 for place in places)
    assert places[-1] > places[0]


def test_it_runs_as_a_program_of_its_own():
    process = subprocess.Popen(
        [sys.executable, "-m", "kobrel.devices.handwheel"], stdout=subprocess.PIPE, text=True
    )
    try:
        port = int(process.stdout.readline().rpartition(":")[2])
        token = process.stdout.readline().split()[1]
        with socket.create_connection(("127.0.0.1", port), timeout=5) as there, there.makefile() as lines:
            there.sendall(f"HELLO {token}\n".encode())
            assert "hand unit" in lines.readline()
            assert lines.readline().startswith("POS ")
    finally:
        process.kill()
        process.wait()

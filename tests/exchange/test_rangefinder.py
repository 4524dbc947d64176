import socket
import threading
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest

from kobrel.devices.rangefinder import SimulatedMeter, make_server
from kobrel.errors import ExchangeError
from kobrel.exchange.rangefinder import meter
from kobrel.exchange.readings import read_readings, write_readings
from kobrel.stage.scene import Scene
from kobrel.stage.stage import Stage
from tests.conftest import box_at

TOKEN = "a-token"


def a_stage():
    return Stage(
        [
            (
                "set",
                Scene(
                    Path("set"),
                    (box_at((0, 0, -5)), box_at((4, 0, -5), name="/shop_window"), box_at((0, 90, 0))),
                ),
            )
        ]
    )


@contextmanager
def running(number=1):
    server = make_server(SimulatedMeter(a_stage(), 0, number), 0, TOKEN)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield server.server_address[1]
    server.shutdown()
    server.server_close()


def test_a_meter_is_aimed_read_and_averaged():
    with running() as port, meter("127.0.0.1", port, TOKEN) as connected:
        assert "STAND-IN" in connected.name
        assert connected.read() == "not aimed"
        connected.aim((0.1, 0.2, 0), (0, 0, -3))
        found = connected.average(40)
        assert found.distance_m == pytest.approx(4.5, abs=0.002)
        assert 0.0005 < found.spread_m < 0.005
        assert found.count + len(found.failed) == 40


def test_its_errors_repeat_with_its_number():
    def readings(number):
        device = SimulatedMeter(a_stage(), 0, number)
        device.aim((0, 0, 0), (0, 0, -1))
        return [device.read() for _ in range(10)]

    assert readings(3) == readings(3) != readings(4)


def test_glass_and_distance_give_no_reading():
    device = SimulatedMeter(a_stage(), 0)
    device.aim((4, 0, 0), (0, 0, -1))
    answers = [device.read() for _ in range(60)]
    assert answers.count("no return") > 40
    device.aim((0, 0, 0), (0, 1, 0))
    assert device.read() == "out of range"  # 89.5 m
    device.aim((0, 0, 0), (1, 0, 0))
    assert device.read() == "out of range"  # nothing there
    with running() as port, meter("127.0.0.1", port, TOKEN) as connected:
        connected.aim((0, 0, 0), (1, 0, 0))
        with pytest.raises(ExchangeError, match="out of range"):
            connected.average(3)


@pytest.mark.parametrize(
    "line", ["AIM 1 2", "AIM a b c d e f", "AIM 0 0 0 0 0 0", "AIM 0 0 0 nan 0 1", "SING", ""]
)
def test_a_line_that_makes_no_sense_is_answered(line):
    assert SimulatedMeter(a_stage(), 0).answer(line).startswith("ERROR")


@contextmanager
def saying(*answers):
    """Something that answers each line with the next of these."""
    listener = socket.create_server(("127.0.0.1", 0))

    def talk():
        connection, _ = listener.accept()
        with connection, connection.makefile("rw") as lines:
            for answer in answers:
                lines.readline()
                lines.write(answer)
                lines.flush()

    thread = threading.Thread(target=talk, daemon=True)
    thread.start()
    yield listener.getsockname()[1]
    listener.close()


@pytest.mark.parametrize(
    ("answers", "words"),
    [
        (("HTTP/1.1 400\n",), "not a laser meter"),
        (("METER X 1\n", "DISTANCE far m\n"), "is not a reading"),
        (("METER X 1\n", "DISTANCE -3 m\n"), "is not a reading"),
        (("METER X 1\n", "DISTANCE 3 furlongs\n"), "is not a reading"),
        (("METER X 1\n", "ERROR low battery\n"), "low battery"),
        (("METER X 1\n",), "disconnected"),
    ],
)
def test_strange_answers_are_told(answers, words):
    with (
        saying(*answers) as port,
        pytest.raises(ExchangeError, match=words),
        meter("127.0.0.1", port) as connected,
    ):
        connected.read()


def test_units_of_a_real_meter_are_understood():
    with saying("METER X 1\n", "DISTANCE 3200 mm\n") as port, meter("127.0.0.1", port) as connected:
        assert connected.read() == pytest.approx(3.2)


def test_nobody_listens():
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
    with pytest.raises(ExchangeError, match=f"No meter at 127.0.0.1:{port}"), meter("127.0.0.1", port):
        pass


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Door, 3.2, m", [("Door", 3.2)]),
        ("name,distance,unit\nDoor,320,cm\n\nTree,10,\n", [("Door", 3.2), ("Tree", 0.1)]),
        ("Door;3,2;m", [("Door", 3.2)]),
        ("Door\t10' 6\"", [("Door", 3.2004)]),
        (", 5 m", [("Reading 1", 5.0)]),
    ],
)
def test_readings_are_read_from_text(text, expected):
    found = read_readings(text, "cm")
    assert [r.name for r in found] == [name for name, _ in expected]
    np.testing.assert_allclose([r.distance_m for r in found], [metres for _, metres in expected])


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "No readings found"), ("Door, long", "No readings found"), ("A,1\nDoor, long", "Line 2"),
        ("A,1\nB", "Line 2"), ("A,1\nB,-3", "Line 2"), ("A,0", "Line 1"), ("A,3,parsec", "Line 1"),
    ],
)  # fmt: skip
def test_lines_that_are_no_readings_are_told_by_number(text, words):
    with pytest.raises(ExchangeError, match=words):
        read_readings(text)


def test_readings_survive_a_round_trip(tmp_path):
    found = read_readings("Door, 3.25, m\nTree, 12.125, m")
    write_readings(tuple(found), tmp_path / "r.csv")
    again = read_readings((tmp_path / "r.csv").read_text())
    assert [(r.name, r.distance_m) for r in again] == [("Door", 3.25), ("Tree", 12.125)]
    with pytest.raises(ExchangeError, match="cannot be written"):
        write_readings(tuple(found), tmp_path / "nowhere" / "r.csv")

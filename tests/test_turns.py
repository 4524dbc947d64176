"""Work beside the window asks its loop for turns."""

import threading
import time

from kobrel.turns import AT_MOST_S, Turns


def waited_s(turns: Turns) -> float:
    """How long a thread beside the loop waits for its turn."""
    took: list[float] = []

    def work() -> None:
        begun = time.monotonic()
        turns.wait()
        took.append(time.monotonic() - begun)

    thread = threading.Thread(target=work)
    thread.start()
    thread.join()
    return took[0]


def test_a_loop_that_is_free_gives_a_turn_at_once() -> None:
    turns, asked = Turns(), list[str]()

    def post(given: object) -> None:
        asked.append("turn")
        given()  # type: ignore[operator]

    turns.ask(post)
    waited_s(turns)
    assert asked == ["turn"]


def test_a_loop_that_is_busy_is_waited_for_and_not_for_ever() -> None:
    turns, posted = Turns(), list[object]()
    turns.ask(posted.append)
    assert waited_s(turns) >= AT_MOST_S * 0.9
    assert waited_s(turns) >= AT_MOST_S * 0.9
    assert len(posted) == 1, "one question is open at a time"


def test_the_turn_that_came_late_ends_the_wait() -> None:
    turns, posted = Turns(), list[threading.Event]()
    turns.ask(lambda given: posted.append(given.__self__))
    waited_s(turns)
    posted[0].set()
    turns.ask(lambda given: given())
    waited_s(turns)
    assert len(posted) == 1


def test_the_loop_itself_never_waits_and_neither_does_work_that_it_waits_for() -> None:
    turns, posted = Turns(), list[object]()
    turns.ask(posted.append)
    assert not turns.needed()
    turns.wait()
    assert posted == []


def test_a_window_that_is_gone_is_not_asked() -> None:
    turns, posted = Turns(), list[object]()
    turns.ask(posted.append)
    turns.leave(posted.append)
    waited_s(turns)
    assert posted == []


def test_another_windows_end_leaves_the_loop_asked() -> None:
    turns, posted = Turns(), list[object]()
    turns.ask(posted.append)
    turns.leave(print)
    waited_s(turns)
    assert len(posted) == 1

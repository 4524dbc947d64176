"""One arithmetic for all that is keyed: a lens, a place, a level, a camera."""

import pytest

from kobrel.errors import PartError
from kobrel.plan.keys import (
    Key,
    Keyed,
    Level,
    LevelKey,
    Placed,
    PlaceKey,
    Settle,
    changed_at,
    keys_around,
    replaced_between,
)
from kobrel.plan.model import CameraKey, MadeCamera

A, B, C = (0.0, 1.0, 0.0), (2.0, 1.0, 0.0), (4.0, 1.0, -1.0)
AIM = (0.0, 0.0, -9.0)
TRACKS = {
    "lens": (
        Keyed(value=2.0),
        [Key(frame=10, value=4.0), Key(frame=20, value=8.0), Key(frame=10, value=5.6)],
    ),
    "level": (
        Level(value=0.5),
        [LevelKey(frame=10, value=0.2), LevelKey(frame=20, value=1.0), LevelKey(frame=10, value=-3.0)],
    ),
    "place": (
        Placed(position_m=A),
        [
            PlaceKey(frame=10, position_m=B),
            PlaceKey(frame=20, position_m=C),
            PlaceKey(frame=10, position_m=A),
        ],
    ),
    "camera": (
        MadeCamera(position_m=A, aim_m=AIM),
        [
            CameraKey(frame=10, position_m=B, aim_m=AIM, roll_deg=3.0),
            CameraKey(frame=20, position_m=C, aim_m=AIM),
            CameraKey(frame=10, position_m=C, aim_m=AIM, roll_deg=-1.0),
        ],
    ),
}


@pytest.fixture(params=TRACKS)
def case(request):
    track, keys = TRACKS[request.param]
    return (track, *keys)


def values(track, of):
    return [getattr(of, name) for name in track.over_time]


def test_a_value_without_keys_is_set_altogether(case):
    track, first, _, _ = case
    done = track.set(first)
    assert not done.keys
    assert values(track, done) == values(track, first)


def test_a_value_with_keys_is_set_by_a_key_at_the_frame(case):
    track, first, later, other = case
    keyed = track.with_key(later).set(first)
    assert [key.frame for key in keyed.keys] == [10, 20]
    assert values(track, keyed) == values(track, track)  # what it was without keys is left
    again = keyed.with_ease(12, "even").set(other)
    assert values(track, again.keys[0]) == values(track, other)
    assert (again.keys[0].ease, again.keys[1]) == ("even", later)


def test_a_key_is_toggled_and_the_last_one_leaves_its_value(case):
    track, first, later, _ = case
    keyed = track.toggled(first).toggled(later)
    assert keyed.keys == (first, later)
    assert keyed.toggled(later).keys == (first,)
    alone = keyed.without_key(20).without_key(10)
    assert (alone.keys, values(track, alone)) == ((), values(track, first))
    assert track.without_key(5) == track
    assert keyed.without_key(11) == keyed


def test_keys_are_found_by_frames(case):
    track, first, later, _ = case
    keyed = track.with_key(later).with_key(first)
    assert [keyed.key_at(frame) for frame in (9, 10, 20)] == [None, first, later]
    assert [keyed.last_key(frame) for frame in (9, 10, 19.5, 20, 90)] == [None, first, first, later, later]
    assert [keys_around(keyed.keys, frame) for frame in (9, 10, 19.5, 20)] == [
        None, (first, later), (first, later), None,
    ]  # fmt: skip


def test_an_ease_is_that_of_the_last_key_up_to_the_frame(case):
    track, first, later, _ = case
    keyed = track.with_key(first).with_key(later)
    assert [key.ease for key in keyed.with_ease(15, "even").keys] == ["even", "smooth"]
    assert [key.ease for key in keyed.with_ease(20, "even").keys] == ["smooth", "even"]
    assert keyed.with_ease(9, "even") == keyed


def test_a_key_that_is_moved_past_another_comes_after_it(case):
    track, first, later, _ = case
    keyed = track.with_key(first).with_key(later)
    assert [key.frame for key in keyed.with_key_changed(10, frame=25).keys] == [20, 25]
    with pytest.raises(PartError, match="20"):
        keyed.with_key_changed(10, frame=20)


def test_what_a_key_has_besides_its_value_stays():
    swing = LevelKey(frame=10, value=1.0, ease="own", handles=(0.1, 0.0, 0.2, 1.0), settle=Settle(part=0.4))
    level = Level(keys=(swing,)).set(LevelKey(frame=10, value=3.0))
    assert level.keys == (swing.replace(value=3.0),)


def test_each_value_is_changed_and_reached():
    keyed = Keyed(value=2.0, keys=(Key(frame=1, value=3.0), Key(frame=2, value=5.0)))
    assert (keyed.times(2).value, keyed.times(2).reached(), Keyed(value=2.0).reached()) == (
        4.0,
        [6.0, 10.0],
        [2.0],
    )
    placed = Placed(position_m=A, keys=(PlaceKey(frame=1, position_m=B),)).each(lambda place: place[::-1])
    assert (placed.position_m, placed.keys[0].position_m) == (A[::-1], B[::-1])


def test_keys_are_replaced_over_the_frames_of_others():
    keys = [Key(frame=frame, value=frame) for frame in (1, 5, 9, 12)]
    fresh = [Key(frame=4, value=7), Key(frame=9, value=8)]
    assert [(key.frame, key.value) for key in replaced_between(keys, fresh)] == [
        (1, 1),
        (4, 7),
        (9, 8),
        (12, 12),
    ]
    assert [key.value for key in changed_at(keys, 5, value=2)] == [1, 2, 9, 12]


def test_places_between_keys():
    placed = Placed(position_m=C, keys=(PlaceKey(frame=0, position_m=A), PlaceKey(frame=10, position_m=B)))
    assert placed.place_at(-4).tolist() == list(A)
    assert placed.place_at(2.5)[0] == pytest.approx(2 * (3 * 0.25**2 - 2 * 0.25**3))
    assert placed.with_ease(0, "even").place_at(2.5)[0] == pytest.approx(0.5)
    assert Placed(position_m=C).place_at(7).tolist() == list(C)

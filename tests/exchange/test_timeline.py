"""Lists of shots and cues, in and out."""

import json

import opentimelineio as otio
import pytest

from kobrel.errors import ExchangeError
from kobrel.exchange.cues import read_cues, write_cues
from kobrel.exchange.timeline import read_list, write_list
from kobrel.plan.model import Cue
from kobrel.plan.sequence.shots import Listed, with_list
from kobrel.stage.stage import Stage

EDL = """TITLE: QUAY
FCM: NON-DROP FRAME

001  REEL1    V     C        00:00:41:17 00:00:44:17 01:00:00:00 01:00:03:00
* FROM CLIP NAME: 02

002  REEL1    V     C        00:00:41:17 00:00:42:05 01:00:03:00 01:00:03:12
* FROM CLIP NAME: INSERT
"""


def test_a_plan_goes_through_a_list_of_shots_and_back(demo, tmp_path):
    plan, stage = demo
    path = tmp_path / "quay.otio"
    write_list(plan, Stage(), path)
    found = read_list(path)
    assert [entry.name for entry in found] == [shot.name for shot in plan.shots]
    for entry, shot in zip(found, plan.shots, strict=True):
        assert (entry.first, entry.last, entry.fps) == (shot.first, shot.last, shot.fps)
        assert (entry.handles, entry.cues) == (shot.handles, shot.cues)
    assert with_list(plan, found, 0, stage) == plan
    timeline = otio.adapters.read_from_file(str(path))
    assert timeline.duration().value == sum(shot.length for shot in plan.shots)


def test_an_edit_list_gives_names_frames_and_rate(tmp_path):
    path = tmp_path / "quay.edl"
    path.write_text(EDL)
    found = read_list(path, 24.0)
    assert found == [Listed("02", 1001, 1072, 24.0), Listed("INSERT", 1001, 1012, 24.0)]


def test_clips_of_one_name_get_names_of_their_own_and_sound_is_left_out(tmp_path):
    def span(first, count, rate=25):
        time = otio.opentime.RationalTime
        return otio.opentime.TimeRange(time(first, rate), time(count, rate))

    timeline = otio.schema.Timeline("x")
    sound = otio.schema.Track("s", kind=otio.schema.TrackKind.Audio)
    sound.append(otio.schema.Clip("hum", source_range=span(0, 9)))
    pictures = otio.schema.Track("p", kind=otio.schema.TrackKind.Video)
    pictures.append(otio.schema.Clip("take", source_range=span(10, 5)))
    pictures.append(otio.schema.Gap(source_range=span(0, 7)))
    pictures.append(otio.schema.Clip("take", source_range=span(30, 5)))
    pictures.append(otio.schema.Clip("", source_range=span(50, 1)))
    pictures.append(otio.schema.Clip("nothing known"))
    timeline.tracks.extend([sound, pictures])
    path = tmp_path / "x.otio"
    path.write_text(timeline.to_json_string())
    assert read_list(path) == [
        Listed("take", 10, 14, 25.0),
        Listed("take 2", 30, 34, 25.0),
        Listed("Shot", 50, 50, 25.0),
    ]


HARD_EDL = """TITLE: HARD
FCM: NON-DROP FRAME

001  AX       V     C        00:00:41:17 00:00:43:17 00:00:00:00 00:00:02:00
* FROM CLIP NAME:  one
002  BL       V     C        00:00:00:00 00:00:01:00 00:00:02:00 00:00:03:00
003  AX       V     C        00:00:45:00 00:00:47:00 00:00:03:00 00:00:04:00
M2   AX       048.0                    00:00:45:00
* FROM CLIP NAME:  fast
004  AX       V     C        00:00:50:00 00:00:52:00 00:00:04:00 00:00:06:00
* FROM CLIP NAME:  from
005  AX       V     C        00:00:52:00 00:00:52:00 00:00:06:00 00:00:06:00
005  AY       V     D    012 00:01:00:00 00:01:02:00 00:00:06:00 00:00:08:00
* FROM CLIP NAME:  from
* TO CLIP NAME:  to
006  AX       V     C        00:01:10:00 00:01:10:01 00:00:08:00 00:00:09:00
M2   AX       000.0                    00:01:10:00
* FROM CLIP NAME:  frozen
007  AX       V2    C        00:01:10:00 00:01:11:00 00:00:08:00 00:00:09:00
* FROM CLIP NAME:  over
"""


def test_speeds_and_dissolves_give_the_frames_that_are_taken_and_what_is_left_out_is_told(tmp_path):
    path, told = tmp_path / "hard.edl", []
    path.write_text(HARD_EDL)
    assert read_list(path, 24.0, told) == [
        Listed("one", 1001, 1048, 24.0),
        Listed("fast", 1080, 1127, 24.0),  # a second of the cut at twice the speed
        Listed("from", 1200, 1259, 24.0),  # two seconds, and half a one under the dissolve
        Listed("to", 1440, 1487, 24.0),
        Listed("frozen", 1680, 1680, 24.0),
    ]
    assert told == [
        "Track V2 is skipped, with over.",
        "002 is skipped: it is black.",
        "fast plays at 200 %: its shot has all that it takes, 48 for the 24 of the cut.",
        "from has 60 frames with those under its transitions, 48 without.",
        "frozen plays at 0 %: its shot has all that it takes, 1 for the 24 of the cut.",
    ]


@pytest.mark.parametrize("rate", [23.976, 23.98, 24.0, 25.0, 29.97, 30.0, 50.0, 59.94, 60.0])
def test_an_edit_list_says_the_very_frames_at_every_rate(demo, tmp_path, rate):
    """Written by Kobrel, read by the format's own library; and by Kobrel, with the rate as people type it."""
    plan, stage = demo
    shots = [
        shot.replace(fps=rate, first=first, last=first + length - 1, marks=shot.marks[:1])
        for shot, first, length in zip(plan.shots, (1001, 1799, 17981), (48, 200, 97), strict=False)
    ]
    write_list(plan.replace(shots=tuple(shots)), stage, tmp_path / "cut.edl")
    exact = otio.opentime.RationalTime.nearest_valid_timecode_rate(rate)
    track = otio.adapters.read_from_file(str(tmp_path / "cut.edl"), rate=exact).video_tracks()[0]
    ranges = [(clip.source_range.start_time.value, clip.source_range.duration.value) for clip in track]
    assert ranges == [(shot.first, shot.length) for shot in shots]
    found = read_list(tmp_path / "cut.edl", rate)
    assert [(entry.first, entry.last, entry.fps) for entry in found] == [
        (shot.first, shot.last, exact) for shot in shots
    ]


@pytest.mark.parametrize(
    ("name", "content", "why"),
    [
        ("x.otio", "{ not json", "damaged"),
        ("x.otio", json.dumps({"a": 1}), "no shots|cannot be read|damaged"),
        ("x.edl", "this is prose\nand no list", "cannot be read|no shots"),
        ("x.txt", "", "are read from .otio"),
        ("none.otio", None, "no such file"),
    ],
)
def test_a_list_that_is_none_is_refused_by_name(tmp_path, name, content, why):
    path = tmp_path / name
    if content is not None:
        path.write_text(content)
    with pytest.raises(ExchangeError, match=why) as caught:
        read_list(path)
    assert name in str(caught.value)


def test_lists_are_written_where_they_can_be(demo, tmp_path):
    for wrong in (tmp_path / "x.xml", tmp_path / "missing" / "x.otio"):
        with pytest.raises(ExchangeError, match=wrong.name):
            write_list(demo[0], demo[1], wrong)


def test_cues_go_through_csv_and_lists_of_shots(demo, tmp_path):
    plan, _ = demo
    rack, path = plan.shots[1], tmp_path / "cues.csv"
    odd = (*rack.cues, Cue(name='She says "now", and goes', first=1070, last=1090))
    write_cues(odd, path)
    assert path.read_text().splitlines()[:2] == ["name,first,last", "He turns,1037,1052"]
    assert read_cues(path, rack) == odd
    write_list(plan, Stage(), tmp_path / "x.otio")
    assert read_cues(tmp_path / "x.otio", rack) == rack.cues
    with pytest.raises(ExchangeError, match="no cues for shot 01"):
        read_cues(tmp_path / "x.otio", plan.shots[0])


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("Bell,1010\n", "line 1 must be"),
        ("name,first,last\n", "no cues"),
        ("name,first,last\nBell,ten,\n", "line 2: “Bell,ten,” is not a cue"),
        ("name,first,last\nBell,10,12\n\nWind,20,15\n", "line 4: “Wind,20,15” is not a cue"),
        ("name,first,last\n,10,\n", "line 2"),
    ],
)
def test_wrong_cues_are_told_with_their_line(demo, tmp_path, text, why):
    path = tmp_path / "cues.csv"
    path.write_text(text)
    with pytest.raises(ExchangeError, match=why):
        read_cues(path, demo[0].shots[1])
    with pytest.raises(ExchangeError, match=r"none\.csv"):
        read_cues(tmp_path / "none.csv", demo[0].shots[1])

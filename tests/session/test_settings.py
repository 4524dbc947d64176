"""What is remembered from one start to the next: typed, in a file of JSON that several windows share."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.session import settings as keys
from kobrel.session.session import Session
from kobrel.session.settings import Setting, Settings
from kobrel.session.store import FileStore


def test_values_come_back_as_they_were_given(tmp_path):
    path = tmp_path / "deep" / "settings.json"
    first = Settings(FileStore(path))
    first.put(keys.RECENT_FILES, ["/a", "/b ü"])
    first.put(keys.THROW_PX, 12.5)
    first.put(keys.PLACE, [1, 1030], "/a")
    again = Settings(FileStore(path))
    assert again.get(keys.RECENT_FILES) == ["/a", "/b ü"]
    assert again.get(keys.THROW_PX) == 12.5
    assert again.get(keys.PLACE, "/a") == [1, 1030]
    assert again.get(keys.PLACE, "/b") == []
    assert again.has(keys.PLACE, "/a")
    assert not again.has(keys.LAST_FILE)


def test_two_windows_do_not_lose_what_the_other_wrote(tmp_path):
    one, other = (FileStore(tmp_path / "settings.json") for _ in range(2))
    one["a"] = "1"
    other["b"] = "2"
    assert dict(FileStore(tmp_path / "settings.json")) == {"a": "1", "b": "2"}
    del other["a"]
    assert dict(FileStore(tmp_path / "settings.json")) == {"b": "2"}
    assert len(other) == 1


@pytest.mark.parametrize("content", ["", "{", "[1, 2]", '{"a": 3}', "\x00\x01"])
def test_a_damaged_file_counts_as_empty_and_is_written_anew(tmp_path, content):
    path = tmp_path / "settings.json"
    path.write_text(content)
    store = FileStore(path)
    assert dict(store) == {}
    store["theme"] = '"light"'
    assert json.loads(path.read_text()) == {"theme": '"light"'}


def test_a_folder_that_cannot_be_written_keeps_values_for_this_window_alone(tmp_path):
    (tmp_path / "file").write_text("")
    store = FileStore(tmp_path / "file" / "settings.json")
    store["a"] = "1"
    assert store["a"] == "1"


@given(st.text(max_size=40))
def test_what_is_of_another_kind_counts_as_never_set(text):
    number, words, yes, many = Setting("n", 1.5), Setting("w", "x"), Setting("y", False), Setting("m", [1])
    store = {"n": text, "w": text, "y": text, "m": text}
    assert isinstance(number.read(store), float | int)
    assert isinstance(words.read(store), str)
    assert isinstance(yes.read(store), bool)
    assert isinstance(many.read(store), list)


def test_a_number_is_no_yes_and_a_yes_is_no_number():
    assert Setting("y", False).read({"y": "1"}) is False
    assert Setting("n", 3).read({"n": "true"}) == 3


def test_a_session_takes_up_what_was_chosen_before():
    settings = Settings()
    first = Session(settings)
    first.view.stop_steps = "third"
    first.view.theme = "light"
    first.view.subject_order = "distance"
    first.throw(True, -20.0)
    second = Session(settings)
    view = second.view
    assert (view.stop_steps, view.theme, view.subject_order, view.throw_px) == (
        "third", "light", "distance", -20.0,
    )  # fmt: skip
    settings.put(keys.STOP_STEPS, "sixth")
    assert Session(settings).view.stop_steps == "free"


def test_settings_that_cannot_be_kept_are_told_once(tmp_path):
    (tmp_path / "file").touch()
    session = Session(Settings(FileStore(tmp_path / "file" / "settings.json")))
    heard = []
    session.said.connect(heard.append)
    session.view.theme = "light"
    session.view.stop_steps = "third"
    assert (session.view.theme, session.settings.get(keys.THEME)) == ("light", "light")
    (told,) = heard
    assert "settings.json cannot be written" in told
    (tmp_path / "file").unlink()
    session.view.theme = "dark"
    assert json.loads((tmp_path / "file" / "settings.json").read_text())["theme"] == '"dark"'

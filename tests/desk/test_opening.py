"""Whatever is opened or dropped, Kobrel says what it can be and does it; nothing ends in an error alone."""

import numpy as np
import pytest
from PySide6.QtWidgets import QFileDialog

from kobrel import trust
from kobrel.desk.cards.deck import PLATES
from kobrel.desk.window import bringing
from kobrel.desk.window.document import DEMO
from kobrel.session import settings
from kobrel.session.settings import Settings, remembered_page
from tests.desk.test_plates import photograph


@pytest.fixture
def empty(make_window):
    return make_window()


def answered(monkeypatch, way, file=""):
    """Answer the question what a picture is, and choose a file where one is asked for."""
    asked = []
    monkeypatch.setattr(
        bringing, "asked", lambda _parent, what, _more, *ways: asked.append((what, ways)) or way
    )
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(file), ""))
    return asked


def depth_pass(path):
    """A depth pass of 16 bit, white near."""
    import OpenImageIO as oiio

    pixels = np.linspace(0, 65535, 320 * 480).reshape(320, 480, 1).astype(np.uint16)
    output = oiio.ImageOutput.create(str(path))
    output.open(str(path), oiio.ImageSpec(480, 320, 1, "uint16"))
    output.write_image(pixels)
    output.close()
    return path


def test_a_photo_without_depth_becomes_a_plate(empty, tmp_path, monkeypatch):
    """Also from a folder that nothing was opened in before."""
    window = empty.window
    monkeypatch.setattr(trust, "_ALLOWED", {trust._OWN})
    asked = answered(monkeypatch, "Make a plate of it")
    bringing.open_files(window, [photograph(tmp_path / "photo.png")], window)
    assert "photo.png has no depth pass" in asked[0][0]
    assert [plate.name for plate in window.session.plan.plates] == ["photo"]
    assert window.session.view.card == PLATES


@pytest.mark.parametrize("way", ["Choose its depth pass…", "It is a depth pass…"])
def test_image_and_depth_in_two_files(empty, tmp_path, monkeypatch, way):
    window = empty.window
    image, depth = photograph(tmp_path / "photo.png"), depth_pass(tmp_path / "depth.png")
    first, second = (image, depth) if way.startswith("Choose") else (depth, image)
    answered(monkeypatch, way, second)
    bringing.open_files(window, [first], window)
    empty.wait(lambda: window.jobs.job is None and bool(window.session.shot.finished))
    scene = window.session.plan.scenes[0]
    assert (scene.finished.path, scene.finished.depth_path) == (str(image), str(depth))


def test_a_photo_lights_the_scene_and_nothing_happens_on_cancel(empty, tmp_path, monkeypatch):
    window, path = empty.window, photograph(tmp_path / "sky.png")
    answered(monkeypatch, "")
    bringing.open_files(window, [path], window)
    assert window.session.shot is None
    answered(monkeypatch, "Use as environment map")
    bringing.open_files(window, [path], window)
    assert window.session.plan.light.surround.path == str(path)


def test_a_shot_list_says_what_it_needs(empty, tmp_path):
    path = tmp_path / "cut.edl"
    path.write_text("TITLE: x\n")
    bringing.open_files(empty.window, [path], empty.window)
    assert "open a scene or a plan first" in empty.window.says.text()


def test_an_image_on_a_plan_can_be_three_things(demo_user, tmp_path):
    menu = demo_user.window.drop_menu([photograph(tmp_path / "photo.png")])
    assert [action.text() for action in menu.actions()] == [
        "Add photo.png as a plate", "Use as rendered image of this shot", "Use as environment map",
        "Open separately",
    ]  # fmt: skip


def test_open_lists_all_that_can_be_opened(empty, monkeypatch):
    given = []
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **_k: given.append(a) or (str(DEMO), ""))
    empty.window.document.ask_open()
    for ending in ("*.kobrel", "*.usd", "*.png", "*.mov", "*.ora", "*.edl"):
        assert ending in given[0][-1]
    empty.opened()


def test_pages_of_an_older_kobrel_are_taken_over():
    kept = Settings({})
    kept.put(settings.PAGE, "Back", "Hand over")
    kept.put(settings.PAGE, "Read", "Glass")
    assert remembered_page(kept, "Export") == "Import"
    assert remembered_page(kept, "Glass") == "Depth of field"
    kept.put(settings.PAGE, "Files", "Export")
    assert remembered_page(kept, "Export") == "Files"
    assert remembered_page(kept, "Iris") == ""


def test_the_start_page_shows_recent_files_and_demos_as_pictures(make_window, tmp_path, qapp):
    user = make_window()
    window = user.window
    names = [tile.text() for tile in window.welcome.tiles]
    assert names == ["Demo: Night Ferry", "Demo: Paper Harbour"]
    assert not window.welcome.tiles[0].icon().isNull()
    there, gone = tmp_path / "there.kobrel", tmp_path / "gone.kobrel"
    there.write_text("{}")
    window.session.settings.put(settings.RECENT_FILES, [str(there), str(gone)])
    window.welcome.show_tiles()
    tiles = window.welcome.tiles
    assert [tile.isEnabled() for tile in tiles] == [True, False, True, True]
    assert tiles[1].text().startswith("Missing: gone")
    tiles[0].click()
    user.wait(lambda: window.jobs.job is None)
    assert "not a Kobrel plan" in window.says.text()


def test_a_picture_of_a_recent_file_is_kept(tmp_path):
    from PySide6.QtGui import QImage

    from kobrel.desk.background.recent_pictures import SIZE, RecentPictures

    pictures = RecentPictures(Settings({}, state=tmp_path))
    image = QImage(1920, 1080, QImage.Format.Format_RGB32)
    image.fill(0x336699)
    assert pictures.of(tmp_path / "a.kobrel") is None
    pictures.keep(tmp_path / "a.kobrel", image)
    assert pictures.of(tmp_path / "a.kobrel").width() == 2 * SIZE[0]
    assert RecentPictures(Settings({})).of(tmp_path / "a.kobrel") is None

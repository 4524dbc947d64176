"""Walks that compare ways of a shot, and that go from what is required to a lens."""

import pypdfium2
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QImage

from kobrel.desk.wall.pictures import Whole
from kobrel.plan.export import UpdatedFile
from kobrel.plan.instrument import Requirement
from kobrel.plan.model import SubjectTarget
from kobrel.plan.solve.brief import UNMET
from tests.desk.conftest import pick
from tests.desk.test_proof import click_on, grid_of, keep
from tests.desk.test_taping import click_button, in_picture
from tests.desk.walks.material import SPREAD, row_of_three
from tests.desk.walks.test_measure_and_pull import opened

CTRL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def three(make_window, tmp_path):
    """A row of three things, each a subject by a click."""
    user = opened(make_window, row_of_three(tmp_path / "row.usda"))
    for aside, ahead in SPREAD.values():
        user.click(user.window.picture, in_picture(user.window, (aside, 1.0, -ahead)))
    subjects = user.window.session.plan.subjects
    return user, [next(s.number for s in subjects if name in s.name) for name in SPREAD]


def test_two_versions(three, tmp_path):
    """Front sharp and back sharp: kept as Alts and proofs, side by side, wiped, on a sheet, one taken back."""
    user, (near, _middle, far) = three
    window, session = user.window, user.window.session
    user.key(Qt.Key.Key_5)
    alts = window.alts.content
    alts.refresh()
    for title, number in (("front sharp", near), ("back sharp", far)):
        row = session.survey.subjects.index(number)
        user.click(window.picture, dict(window.picture.tag_places())[row])
        assert session.shot.marks[0].target == SubjectTarget(number=number)
        user.type(alts.title, title)
        keep(user)
    assert [alt.name for alt in session.shot.alts] == ["front sharp", "back sharp"]
    assert len(session.plan.proofs) == 2

    wall = window.show_page(6, "Wall")
    grid = grid_of(user)
    pictures, proofs = window.body.wall.pictures, session.plan.proofs
    user.wait(lambda: all(isinstance(pictures.small(proof), QImage) for proof in proofs))
    click_on(user, grid, 0)
    click_on(user, grid, 1, CTRL)
    for mode in ("Side by side", "Wipe"):
        pick(wall.mode, mode)
        user.wait(lambda: all(isinstance(pictures.whole(proof), Whole) for proof in proofs))
        user.rest()
        seen = window.body.wall.compared
        assert seen.isVisible()
    box = seen._boxes()[0]
    user.drag(seen, box.center(), QPointF(box.left() + box.width() / 3, box.center().y()))
    assert seen.wiped == pytest.approx(1 / 3, abs=0.02)
    session.want("sheet")
    path = tmp_path / "versions.pdf"
    window.sheet.write(path)
    user.wait(lambda: window.jobs.job is None and path.exists())
    assert "Proof 2" in pypdfium2.PdfDocument(str(path))[0].get_textpage().get_text_range()

    alts = user.panel(window.alts)
    before = session.shot.marks
    alts.table.selectRow(0)
    alts.take()
    assert session.shot.marks[0].target == SubjectTarget(number=near)
    session.undo()
    assert session.shot.marks == before


def test_from_requirement_to_lens(three, tmp_path):
    """Three things sharp and the background 30 px soft: why not, a change that is offered, the sheet."""
    user, numbers = three
    window, session = user.window, user.window.session
    user.key(Qt.Key.Key_3)
    brief = window.show_page(3, "Brief")
    for number in numbers:
        session.selection.subject = number
        click_button(user, brief.add)
    requirements = tuple(Requirement(subject=number) for number in numbers)
    assert session.shot.brief == requirements
    session.edit_shot(
        "Wish",
        lambda shot: shot.replace(brief=(*requirements, Requirement(subject=0, kind="at_least", px=30))),
    )
    brief.over.setCurrentIndex(brief.over.findData("whole"))
    brief.over.activated.emit(brief.over.currentIndex())
    assert brief.stops.text() == "none"
    assert "stops apart" in brief.says.text()
    assert not brief.take.isEnabled()
    before = session.shot
    click_button(user, brief.ask)
    user.wait(brief.candidates[0].isVisible)
    offered = [button for button in brief.candidates if button.isVisible()]
    click_button(user, offered[-1])
    assert session.shot != before
    assert (session.judged.verdicts[:, session.row] != UNMET).all()
    session.undo()
    assert session.shot == before

    # With a background that is less soft at its end, one stop will not do: it is keyed, the exposure kept.
    middle = Requirement(subject=numbers[1], last=1012)
    soft = Requirement(subject=0, kind="at_least", px=30, first=1016)
    last = Requirement(subject=numbers[0], first=1016)
    session.edit_shot(
        "Wish",
        lambda shot: shot.replace(brief=(*(w.replace(last=1008) for w in requirements), middle, soft, last)),
    )
    pick(window.show_page(3, "Exposure").kept, "Constant")
    window.show_page(3, "Brief")
    assert "key the stop" in brief.says.text()
    click_button(user, brief.keyed)
    assert session.glass.f_number.keys
    assert session.shot.exposure.kept
    assert brief.fails.text() == "Met in all frames."

    sheet = window.show_page(7, "Camera sheet")
    path = tmp_path / "crew.pdf"
    window.exports.write(UpdatedFile(kind="sheet", path=str(path), shots=(session.shot.name,)))
    user.wait(lambda: window.jobs.job is None and path.exists())
    text = "".join(page.get_textpage().get_text_range() for page in pypdfium2.PdfDocument(str(path)))
    assert "Near" in text
    assert "sharp" in text
    assert sheet.brief.text().startswith("Brief of this shot")

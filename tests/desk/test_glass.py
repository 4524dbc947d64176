"""The Glass card at work: lens_choice by what things do, and solving backwards, with mouse and keys."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLabel

from kobrel.desk.toolkit.spread import spread
from kobrel.optics.units import METRES, Measure, measure
from kobrel.plan.instrument import Requirement
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.model import SubjectTarget
from kobrel.plan.solve.brief import UNMET
from kobrel.session.commands import lens_choice
from kobrel.session.commands.focusing import focus_on
from tests.desk.conftest import finished

LANTERN, FERRYMAN, BOOTH = 1, 2, 3


@pytest.fixture
def user(demo_user):
    demo_user.window.session.edit_shot("No brief", lambda shot: shot.replace(brief=()))
    demo_user.key(Qt.Key.Key_3)
    return demo_user


def page(user, name):
    user.window.cards[3].show_page(name)
    QApplication.processEvents()
    return user.window.cards[3].pages[name]


def pick(box, data):
    box.setCurrentIndex(box.findData(data))
    box.activated.emit(box.currentIndex())
    QApplication.processEvents()


def pick_text(box, text):
    at = next(i for i in range(box.count()) if box.itemText(i).startswith(text))
    box.setCurrentIndex(at)
    box.activated.emit(at)
    QApplication.processEvents()


# Lens


def test_a_lens_out_of_a_kit_and_what_it_cannot_do(user):
    lens, session = page(user, "Lens"), user.window.session
    pick_text(lens.kit, "Cine primes")
    pick_text(lens.lens, "100 mm")
    assert session.glass.lens.name == "100 mm"
    assert float(session.camera.focal_mm) == 100
    assert session.glass.squeeze == 1
    assert not lens.doubt.isVisible()
    user.type(lens.stop, "f/1")
    assert "opens no wider than f/1.4" in lens.doubt.text()
    assert lens.widest.text() == "Use f/1.4"
    QTest.mouseClick(lens.widest, Qt.MouseButton.LeftButton)
    assert float(session.camera.f_number) == 1.4
    assert not lens.doubt.isVisible()
    user.type(lens.focus, "0.5 m")
    assert "focuses no nearer than 0.95 m" in lens.doubt.text()
    assert lens.able.text() == "Use 50 mm"
    QTest.mouseClick(lens.able, Qt.MouseButton.LeftButton)
    assert session.glass.lens.name == "50 mm"
    user.type(lens.focal, "52")
    assert session.glass.lens is None
    assert lens.lens.currentText() == "Generic"
    assert lens.t_stop.text().startswith("T")
    assert lens.pupil.text() == f"{52 / 1.4:.2f} mm"
    assert lens.radius.text() == f"{26 / 1.4 / 1000:.4g} m"


def test_own_kits_are_added_and_broken_ones_refused(user, tmp_path, monkeypatch):
    lens, session = page(user, "Lens"), user.window.session
    path = tmp_path / "attic.csv"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))
    path.write_text("name,focal_mm\nold,long\n")
    lens.ask_lens_set()
    assert "line 2" in user.window.says.text()
    path.write_text("name,focal_mm,widest,close_focus_m\nOld 58,58,1.9,0.6\n")
    lens.ask_lens_set()
    assert lens.kit.currentText() == "attic"
    pick_text(lens.lens, "Old 58")
    assert session.glass.lens.widest == 1.9
    lens_sets, problems = lens_choice.lens_sets(session)
    assert "attic" in [kit.kit for kit in lens_sets]
    path.unlink()
    assert "no such file" in lens_choice.lens_sets(session)[1][0]
    assert problems == []


def test_a_sensor_keeps_lens_or_framing_as_chosen(user):
    lens, session = page(user, "Lens"), user.window.session
    across = float(session.camera.view_angles_deg[0])
    pick_text(lens.format, "Full frame  ")
    assert float(session.camera.focal_mm) == 50
    assert float(session.camera.view_angles_deg[0]) > across
    session.undo()
    pick(lens.keeps, True)
    pick_text(lens.format, "Full frame  ")
    assert float(session.camera.view_angles_deg[0]) == pytest.approx(across)
    assert float(session.camera.focal_mm) > 70


def test_the_delivered_frame_crops_the_picture(user):
    window, session = user.window, user.window.session
    lens = page(user, "Lens")
    assert window.picture.frame_rect() == window.picture.whole_rect()
    pick(lens.aspect, 1.33)
    assert lens.fit.isVisible()
    whole, frame = window.picture.whole_rect(), window.picture.frame_rect()
    assert frame.width() == pytest.approx(whole.height() * 1.33, abs=1.5)
    user.wait(lambda: "exact" in window.picture.status)
    image = window.picture.grab().toImage()
    ratio = image.width() / window.picture.width()

    def light(x, y):
        return image.pixelColor(round(x * ratio), round(y * ratio)).lightness()

    y = whole.top() + 20
    assert light(whole.left() + 20, y) < 0.6 * light(frame.left() + 20, y)
    # a click takes what is seen there, in the frame's own pixels
    number = len(session.plan.subjects)
    place = dict(window.picture.tag_places())[0]
    user.click(window.picture, place + QPointF(0, 14))
    assert len(session.plan.subjects) == number + 1
    picked = session.survey.sight
    at = window.picture.frame_rect()
    x = at.left() + float(picked.x_px[-1, session.row]) / session.camera.width_px * at.width()
    assert x == pytest.approx(place.x(), abs=1.5)
    pick(lens.fit, "width")
    assert window.picture.whole_rect().height() >= window.picture.frame_rect().height()
    pick(lens.aspect, -1.0)
    assert lens.own_aspect.isVisible()
    user.type(lens.own_aspect, "0")
    assert session.glass.delivery.aspect == 0


def test_a_subject_keeps_its_size_while_one_zooms(user):
    lens, session = page(user, "Lens"), user.window.session
    focus_on(session, SubjectTarget(number=LANTERN))
    session.selection.subject = LANTERN
    pick(lens.keeping, "move")
    across = session.camera.half_widths()[0] * session.survey.sight.axial_m[0, session.row]
    user.type(lens.focal, "100")
    assert "holds the size of 1 Lantern" in lens.moved.text()
    assert " back" in lens.moved.text()
    now = session.camera.half_widths()[0] * session.survey.sight.axial_m[0, session.row]
    assert now == pytest.approx(across)
    assert lens_choice.moved_ahead_m(session) == pytest.approx(
        -session.survey.sight.axial_m[0, session.row] / 2
    )
    pick(lens.keeping, "")
    assert lens_choice.moved_ahead_m(session) == 0
    assert not lens.moved.isVisible()


def test_stops_by_full_half_third_and_free(user):
    window, session = user.window, user.window.session
    lens = page(user, "Lens")
    for steps, after in (("full", 2.0), ("half", 1.7), ("third", 1.6)):
        user.type(lens.stop, "1.4")
        pick(lens.steps, steps)
        lens.stop.setFocus()
        QTest.keyClick(lens.stop, Qt.Key.Key_Up)
        assert float(session.camera.f_number) == after
    pick(lens.steps, "full")
    barrel = window.barrel
    scale = barrel.scale()
    far = scale.px(float(session.camera.limits_m[1]))
    user.drag(barrel, QPointF(far, barrel.height() - 50), QPointF(far + 60, barrel.height() - 50))
    assert float(session.camera.f_number) in (2.8, 4.0, 5.6, 8.0)
    user.key(Qt.Key.Key_BracketLeft, widget=barrel)
    assert float(session.camera.f_number) not in (2.8, 4.0, 5.6, 8.0)


# Light


def test_a_coupled_exposure_darkens_the_picture(user):
    window, session = user.window, user.window.session
    light = page(user, "Exposure")

    def brightness(fresh=True):
        if fresh:
            window.picture.show_status("")
        user.wait(lambda: finished(window))
        image, box = window.picture.grab().toImage(), window.picture.frame_rect()
        ratio = image.width() / window.picture.width()
        y = round((box.top() + 14) * ratio)
        return np.mean([
            image.pixelColor(round((box.left() + part * box.width()) * ratio), y).lightness()
            for part in np.linspace(0.1, 0.3, 9)
        ])  # fmt: skip

    assert light.off.text() == "±0 EV"
    before = brightness(fresh=False)
    user.type(window.cards[3].lens.stop, "4")
    assert light.off.text() == "−3.03 EV"
    assert brightness() == pytest.approx(before, abs=3)
    pick(light.kept, False)
    assert "darkens" in light.meaning.text()
    assert brightness() < 0.6 * before
    assert not light.by_shutter.isVisible()
    assert "the maximum is 360°" in light.cannot.text()
    QTest.mouseClick(light.by_iso, Qt.MouseButton.LeftButton)
    assert light.off.text() == "±0 EV"
    assert session.shot.exposure.iso == pytest.approx(800 * (4 / 1.4) ** 2)
    assert brightness() == pytest.approx(before, abs=3)
    user.type(light.density, "1")
    assert light.off.text() == "−1.00 EV"
    QTest.mouseClick(light.meter, Qt.MouseButton.LeftButton)
    assert light.off.text() == "±0 EV"


def test_readings_explain_themselves(user):
    read = page(user, "Depth of field")
    label = next(w for w in read.findChildren(QLabel) if w.text() == "Reads as")
    QTest.mouseClick(label, Qt.MouseButton.LeftButton)
    assert "Miniature scale" in user.window.says.text()
    assert read.small["Reads as"].text().startswith("1 : ")
    assert read.counts.text() == "up to 2.5 px"
    assert "A real lens:" in read.differs.text()


# Brief


def line_place(user, subject, frame):
    chart, session = user.window.chart, user.window.session
    row = session.survey.subjects.index(subject)
    metres = session.survey.focus_distance_m[row, frame - session.shot.first]
    return QPointF(chart.x_of(frame), chart.scale().px(float(metres)))


def test_a_brief_is_painted_over_the_lines_and_taken(user):
    window, session = user.window, user.window.session
    brief = page(user, "Brief")
    assert "No requirements yet" in brief.says.text()
    QTest.mouseClick(brief.brushes["sharp"], Qt.MouseButton.LeftButton)
    user.drag(window.chart, line_place(user, LANTERN, 1001), line_place(user, LANTERN, 1030))
    user.drag(window.chart, line_place(user, FERRYMAN, 1066), line_place(user, FERRYMAN, 1096))
    assert [(w.subject, w.kind, w.first, w.last) for w in session.shot.brief] == [
        (LANTERN, "sharp", None, 1030), (FERRYMAN, "sharp", 1066, None),
    ]  # fmt: skip
    user.type(brief.px, "20")
    QTest.mouseClick(brief.brushes["at_least"], Qt.MouseButton.LeftButton)
    top = window.chart.scale().px(np.inf)
    user.drag(window.chart, QPointF(window.chart.x_of(1001), top), QPointF(window.chart.x_of(1096) + 40, top))
    assert session.shot.brief[-1] == Requirement(subject=0, kind="at_least", px=20)
    user.click(window.chart, QPointF(window.chart.x_of(1050), window.chart.height() - 34))
    assert "Drag along" in window.says.text()
    user.key(Qt.Key.Key_Escape)
    assert session.selection.tool is None
    assert not brief.brushes["at_least"].isChecked()
    assert brief.model.rowCount() == 3
    assert brief.model.data(brief.model.index(0, 0)) == "1 Lantern sharp"

    # a longer pull than needed is there; the answer for the shot replaces it
    pick(brief.over, "whole")
    assert brief.stops.text().startswith("f/")
    QTest.mouseClick(brief.take, Qt.MouseButton.LeftButton)
    assert "slowest pull" in window.says.text()
    assert brief.fails.text() == "Met in all frames."
    assert not session.judged.unmet.any()
    focus = 1 / session.survey.camera.focus_m
    assert np.abs(np.diff(focus)).max() * 24 < 0.36
    session.undo()
    assert session.history.next.name == "Apply the brief's pull"


def test_a_brief_in_the_list_by_keys_and_fields(user):
    session = user.window.session
    brief = page(user, "Brief")
    session.selection.subject = FERRYMAN
    QTest.mouseClick(brief.add, Qt.MouseButton.LeftButton)
    assert session.shot.brief == (Requirement(subject=FERRYMAN),)
    pick(brief.kind, "at_most")
    user.type(brief.requirement_px, "6")
    user.type(brief.first, "1040")
    assert session.shot.brief == (Requirement(subject=FERRYMAN, kind="at_most", px=6, first=1040),)
    user.type(brief.last, "1020")
    assert "must not precede" in user.window.says.text()
    assert session.shot.brief[0].last is None
    pick(brief.about, BOOTH)
    assert session.shot.brief[0].subject == BOOTH
    session.selection.subject = BOOTH
    QTest.mouseClick(brief.add, Qt.MouseButton.LeftButton)
    assert [requirement.subject for requirement in session.shot.brief] == [BOOTH, LANTERN]
    session.undo()
    brief.list.setCurrentIndex(brief.model.index(0, 0))
    QTest.mouseClick(brief.delete, Qt.MouseButton.LeftButton)
    assert session.shot.brief == ()
    assert not brief.about.isEnabled()


def test_what_contradicts_is_said_and_what_would_do_is_tried(user):
    window, session = user.window, user.window.session
    brief = page(user, "Brief")
    session.edit_shot(
        "Ask",
        lambda shot: shot.replace(
            brief=(
                Requirement(subject=LANTERN),
                Requirement(subject=FERRYMAN),
                Requirement(subject=0, kind="at_least", px=40),
            )
        ),
    )
    assert brief.stops.text() == "none"
    assert "1 Lantern sharp and 2 Ferryman sharp need f/" in brief.says.text()
    assert "stops apart" in brief.says.text()
    assert not brief.take.isEnabled()
    assert window.barrel._reading(None).endswith("brief: not possible at this frame")
    QTest.mouseClick(brief.ask, Qt.MouseButton.LeftButton)
    user.wait(brief.candidates[0].isVisible)
    offered = [button for button in brief.candidates if button.isVisible()]
    assert any("instead of" in button.toolTip() for button in offered)
    before = session.shot
    QTest.mouseClick(offered[-1], Qt.MouseButton.LeftButton)
    assert session.shot != before
    assert (session.judged.verdicts[:, session.row] != UNMET).all()
    assert "Ctrl+Z restores" in window.says.text()
    session.undo()
    assert session.shot == before


def test_an_answer_for_some_frames_leaves_the_others(user):
    session = user.window.session
    brief = page(user, "Brief")
    marks = session.shot.marks
    session.edit_shot("Ask", lambda s: s.replace(brief=(Requirement(subject=FERRYMAN),)))
    pick(brief.over, "span")
    assert brief.begin.isVisible()
    user.type(brief.begin, "1010")
    user.type(brief.end, "1020")
    assert brief.says.text().startswith("f/")
    assert brief.says.text().endswith("meets all frames.")
    QTest.mouseClick(brief.take, Qt.MouseButton.LeftButton)
    assert (session.judged.verdicts[0, 9:20] != UNMET).all()
    assert session.shot.marks[0] == marks[0]
    assert session.shot.marks[-3:] == marks[-3:]
    pick(brief.over, "here")
    session.show_frame(1015)
    assert brief.says.text().endswith(f"at focus {brief.focus.text()} meets the brief.")
    session.edit_shot("Ask", lambda s: s.replace(brief=(Requirement(subject=FERRYMAN, last=1012),)))
    assert brief.says.text() == "No requirement at this frame."
    assert not brief.take.isEnabled()


def test_one_stop_will_not_do_so_the_stop_is_keyed(user):
    session = user.window.session
    brief = page(user, "Brief")
    requirements = (
        Requirement(subject=LANTERN, last=1040), Requirement(subject=FERRYMAN, last=1040),
        Requirement(subject=FERRYMAN, first=1060), Requirement(subject=0, kind="at_least", px=20, first=1060),
    )  # fmt: skip
    session.edit_shot("Ask", lambda s: s.replace(brief=requirements))
    pick(brief.over, "whole")
    assert "key the stop" in brief.says.text()
    assert not brief.take.isEnabled()
    QTest.mouseClick(brief.keyed, Qt.MouseButton.LeftButton)
    assert session.glass.f_number.keys
    assert brief.fails.text() == "Met in all frames."


def test_a_number_is_stepped_by_dragging_its_label(user):
    session = user.window.session
    lens = page(user, "Lens")
    label = next(w for w in lens.findChildren(QLabel) if w.buddy() is lens.focal)
    count = len(session.history.steps)
    user.drag(label, QPointF(10, 8), QPointF(60, 8), steps=10)
    assert float(session.camera.focal_mm) == 60
    assert len(session.history.steps) == count + 1
    user.type(lens.ahead, "-0.5 m")
    assert lens_choice.moved_ahead_m(session) == pytest.approx(-0.5)
    assert "Camera 0.500 m back" in lens.moved.text()


def test_very_small_things_in_inches(user):
    session = user.window.session
    read = page(user, "Depth of field")
    millimetres = float(read.small["Pixel size at focus"].text().split()[0])
    session.edit("feet", session.plan.replace(unit="ft"))
    inches, unit = read.small["Pixel size at focus"].text().split()
    assert unit == "in"
    assert float(inches) * 25.4 == pytest.approx(millimetres, rel=0.01)


def test_the_barrel_shows_the_answer_and_takes_it(user):
    window, session = user.window, user.window.session
    session.edit_shot("Ask", lambda s: s.replace(brief=(Requirement(subject=FERRYMAN),)))
    session.show_frame(1010)
    wedge = window.barrel.answer_place()
    row = session.survey.subjects.index(FERRYMAN)
    distance = float(session.survey.focus_distance_m[row, session.row])
    assert wedge.x() == pytest.approx(window.barrel.scale().px(distance), abs=0.5)
    user.click(window.barrel, wedge - QPointF(0, 4))
    assert session.shot.marks[1].target == SubjectTarget(number=FERRYMAN)
    assert session.judged.verdicts[0, session.row] != UNMET


# Weighing


def test_maps_take_a_point_and_give_the_room_back(user):
    window, session = user.window, user.window.session
    page(user, "Trade-offs")
    assert window.body.maps.isVisible()
    assert not window.chart.isVisible()
    session.selection.subject = LANTERN
    row = session.survey.subjects.index(LANTERN)
    across = session.camera.half_widths()[0] * session.survey.sight.axial_m[row, session.row]
    maps = window.body.maps
    by_focal, by_focus = maps.boxes()
    at = QPointF(by_focal.left() + by_focal.width() * 0.75, by_focal.top() + by_focal.height() * 0.4)
    user.click(maps, at)
    assert float(session.camera.focal_mm) == pytest.approx(100, rel=0.01)
    assert float(session.camera.f_number) == pytest.approx(4, rel=0.02)
    now = session.camera.half_widths()[0] * session.survey.sight.axial_m[row, session.row]
    assert now == pytest.approx(across, rel=1e-6)
    assert session.subject_in_focus() == SubjectTarget(number=LANTERN)
    marks = len(session.shot.marks)
    scale = DioptreScale(session.survey.nearest_of_interest_m, by_focus.left(), by_focus.right())
    user.drag(maps, by_focus.center(), by_focus.center() + QPointF(-40, 20))
    metres = scale.metres(by_focus.center().x() - 40)
    assert float(session.camera.focus_m) == pytest.approx(metres, rel=0.01)
    assert maps.place(focal=False).y() == pytest.approx(by_focus.center().y() + 20, abs=2)
    assert len(session.shot.marks) <= marks + 1
    user.key(Qt.Key.Key_Down, widget=maps)
    page(user, "Depth of field")
    assert window.chart.isVisible()
    page(user, "Trade-offs")
    user.key(Qt.Key.Key_4)
    assert window.body.discs.isVisible()
    assert not maps.isVisible()
    user.key(Qt.Key.Key_3)
    assert maps.isVisible()
    user.key(Qt.Key.Key_5)
    assert window.chart.isVisible()


def test_maps_with_a_brief_and_without_a_lens(user):
    window, session = user.window, user.window.session
    page(user, "Trade-offs")
    maps = window.body.maps
    plain = maps.grab().toImage()
    session.edit_shot(
        "Ask",
        lambda s: s.replace(
            brief=(Requirement(subject=LANTERN), Requirement(subject=0, kind="at_least", px=30))
        ),
    )
    QApplication.processEvents()
    asked = maps.grab().toImage()
    assert asked != plain
    assert maps.maps()[0].ranges
    session.edit_glass("flat", projection="orthographic")
    QApplication.processEvents()
    assert maps.maps() is None
    maps.grab()


def test_a_match_is_taken(user):
    session = user.window.session
    weigh = page(user, "Trade-offs")
    across, blur = float(session.camera.view_angles_deg[0]), float(session.camera.blur_px(np.inf))
    pick_text(weigh.format, "65 mm film, 5")
    user.type(weigh.squeeze, "1")
    assert "round, not 2 times taller" in weigh.cannot.text()
    QTest.mouseClick(weigh.take, Qt.MouseButton.LeftButton)
    assert session.glass.sensor.width_mm == 52.48
    assert float(session.camera.view_angles_deg[0]) == pytest.approx(across)
    assert float(session.camera.blur_px(np.inf)) == pytest.approx(blur)


# Barrel


def test_flags_never_cover_one_another(user):
    window, session = user.window, user.window.session
    for width in (1280, 1000, 900):
        window.resize(width, 800)
        QApplication.processEvents()
        for index in range(4):
            session.show_shot(index)
            for frame in range(session.shot.first, session.shot.last, 9):
                session.show_frame(frame)
                flags = window.barrel.flags()
                for i, one in enumerate(flags):
                    assert one.box.left() >= 0
                    assert one.box.right() <= window.barrel.width()
                    assert not any(one.box.intersects(other.box) for other in flags[:i])


def test_a_flag_is_clicked_to_focus(user):
    window, session = user.window, user.window.session
    flag = next(f for f in window.barrel.flags() if session.survey.subjects[f.row] == BOOTH)
    user.click(window.barrel, flag.box.center())
    assert session.subject_in_focus() == SubjectTarget(number=BOOTH)


def test_the_barrel_zooms_about_the_focus_and_out_to_ten_centimetres(user):
    barrel, session = user.window.barrel, user.window.session
    focus = float(session.camera.focus_m)
    place = barrel.scale().px(focus)
    barrel.setFocus()
    for _ in range(6):
        user.key(Qt.Key.Key_Plus, widget=barrel)
    near = barrel.scale()
    assert near.px(focus) == pytest.approx(place, abs=0.5)
    assert near.nearest_m > 2
    barrel.grab()
    ticks = near.ticks(session.unit, 36)
    assert len(ticks) >= 5
    assert all(near.nearest_m * 0.999 <= metres for metres, _ in ticks)
    user.key(Qt.Key.Key_0, widget=barrel)
    assert barrel.scale().px(focus) == pytest.approx(place)
    for _ in range(40):
        user.key(Qt.Key.Key_Minus, widget=barrel)
    assert barrel.scale().nearest_m == pytest.approx(0.1, rel=1e-6)
    assert barrel.scale().metres(barrel.scale().far_px) == np.inf
    barrel.grab()
    user.key(Qt.Key.Key_0, widget=barrel)


@pytest.mark.parametrize("unit", [*(measure(name) for name in METRES), Measure("u", 0.1)])
def test_a_scale_is_readable_in_every_unit(unit):
    whole = DioptreScale(0.1, 0, 700)
    for scale in (
        whole,
        *(whole.zoomed(by, about) for by in (4, 30, 200) for about in (0.3, 2.0, 9.0, np.inf)),
    ):
        ticks = scale.ticks(unit, 36)
        assert len(ticks) >= 4
        places = [scale.px(metres) for metres, _ in ticks]
        assert np.all(np.diff(sorted(places)) >= 36)
        assert len({label for _, label in ticks}) == len(ticks)
        for metres, label in ticks:
            if label != "∞":
                number = float(label.rstrip('"'))
                per = METRES["in"] if label.endswith('"') else unit.metres
                assert number * per == pytest.approx(metres)


def test_boxes_spread_as_little_as_they_must():
    assert spread([], [], 0, 100) == []
    assert spread([20, 60], [10, 10], 0, 100) == [20, 60]
    assert spread([50, 50], [20, 20], 0, 100) == [40, 60]
    assert spread([1, 2, 99], [10, 10, 10], 0, 100) == [5, 15, 95]

"""The crew's sheet: what it says, its strips in true size, its pages looked at, and the page for a phone."""

import math
import re
from html.parser import HTMLParser

import numpy as np
import pypdfium2
import pytest

from kobrel.errors import ExchangeError
from kobrel.exchange.sheet import content
from kobrel.exchange.sheet.canvas import SvgCanvas, fitted, text_width
from kobrel.exchange.sheet.content import MARK_HEADS, brief_lines, facts, mark_rows, shot_sheet
from kobrel.exchange.sheet.plan_view import draw_plan
from kobrel.exchange.sheet.strip import (
    draw_ruler,
    draw_strip,
    off_strip,
    strip_length,
    strip_parts,
    strip_scale,
)
from kobrel.exchange.sheet.tables import tables_csv
from kobrel.exchange.sheet.write import SheetOptions, write_sheet
from kobrel.optics import lens
from kobrel.optics.units import METRE, measure
from kobrel.plan.lens_sets.lenses import shipped_lens_sets
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.depth_table import lens_set_tables, round_distances_m, shot_table
from kobrel.plan.measure.pace import pace
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import DistanceTarget, Mark
from kobrel.plan.solve.brief import judge
from kobrel.stage.scene import Cancelled, no_progress

MM = 72 / 25.4
DPI_SCALE = 600 / 72


@pytest.fixture(scope="module", autouse=True)
def small_pictures():
    """Pictures as small as stamps: what is on them is tested elsewhere."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(content, "_PICTURE_PX", 48)
        yield


@pytest.fixture(scope="module")
def sheet_of_rack(demo):
    plan, stage = demo
    return shot_sheet(plan, plan.shots[1], stage, METRE, lambda _what: None), stage


@pytest.fixture(scope="module")
def written(demo, tmp_path_factory):
    """The sheet of two shots as PDF, with ring of 80 mm."""
    plan, stage = demo
    path = tmp_path_factory.mktemp("sheet") / "sheet.pdf"
    told = []
    write_sheet(
        plan, plan.shots[1:3], stage, path, SheetOptions(METRE), lambda what, part: told.append((what, part))
    )
    return path, told


def pages_of(path):
    pdf = pypdfium2.PdfDocument(str(path))
    return pdf, [pdf[k] for k in range(len(pdf))]


def words_of(page):
    return page.get_textpage().get_text_range()


def test_marks_say_what_the_survey_says(demo):
    plan, stage = demo
    shot = plan.shots[1]
    numbers = survey(plan, shot, stage)
    made = pace(shot, numbers)
    rows = mark_rows(plan, shot, numbers, made, METRE)
    assert [row.on for row in rows] == ["Lantern", "Lantern", "Ferryman", "Ferryman"]
    third = rows[2]
    assert third.cells[:4] == ("3", "1061", "00:00:44:05", "Ferryman")
    assert len(third.cells) == len(MARK_HEADS)
    assert third.along == f"{numbers.sight.axial_m[1, 60]:.2f} m"
    assert third.straight == f"{numbers.sight.straight_m[1, 60]:.2f} m"
    assert third.near == f"{numbers.near_m[60]:.2f} m"
    assert third.depth == f"{numbers.far_m[60] - numbers.near_m[60]:.2f} m"
    assert third.move == "24"
    assert third.ring == f"{made.deg_s[36:60].max():.0f}"
    assert rows[1].move == "–"
    feet = mark_rows(plan, shot, numbers, made, measure("ft"))
    assert re.fullmatch(r"\d+' [\d.]+\"", feet[2].along)
    told = dict(facts(shot, numbers, METRE))
    assert told["Stop"] == "f/1.4"
    assert told["Sensor"] == "12.445 × 14 mm"
    assert told["Squeeze"] == "2"
    lines = brief_lines(judge(plan, plan.shots[2], survey(plan, plan.shots[2], stage)))
    assert [met for _, _, met in lines] == [False, True]
    assert "missed in 11 frames" in lines[0][1]
    assert brief_lines(None) == ()


def test_the_pages_are_as_a_crew_needs_them(written):
    path, told = written
    _pdf, pages = pages_of(path)
    assert len(pages) == 6  # contact, two shots, strips, two tables
    assert told[-1][1] < 1
    for page in pages:
        assert page.get_size() == pytest.approx((210 * MM, 297 * MM), abs=0.5)
    rack = words_of(pages[1])
    for text in (
        "02 Lantern to ferryman",
        "00:00:41:17",
        "Ferryman",
        "On axis",
        "Hyperfocal",
        "1 : 150",
        "met",
    ):
        assert text in rack
    assert "missed in 11 frames" in words_of(pages[2])
    assert "Closer than the minimum focus: mark 2 at 0.470 m" in words_of(pages[3])
    assert "f/1.4" in words_of(pages[4])
    for page in pages:  # nothing is printed at the paper's edge, and there is ink
        grey = np.asarray(page.render(scale=50 / 72).to_pil().convert("L"))
        edge = np.concatenate(
            [grey[:5].ravel(), grey[-5:].ravel(), grey[:, :5].ravel(), grey[:, -5:].ravel()]
        )
        assert edge.min() > 250
        assert (grey < 100).mean() > 0.002
    for k in (1, 3, 4):  # lines and type, no pictures of them
        kinds = {item.type for item in pages[k].get_objects()}
        assert {1, 2} <= kinds
    # Black, white and greys alone but for the pictures.
    strips = np.asarray(pages[3].render(scale=1).to_pil().convert("RGB"), int)
    assert np.ptp(strips, axis=2).max() == 0


def rows_with_ink(grey):
    return np.flatnonzero((grey < 128).mean(axis=1) > 0.5)


def test_the_strip_is_printed_in_true_size(written, sheet_of_rack):
    """Measured on the page at 600 dots an inch: the strip's length, a distance, and the ruler, to 0.2 mm."""
    path, _ = written
    sheet, _stage = sheet_of_rack
    _pdf, pages = pages_of(path)
    grey = np.asarray(pages[3].render(scale=DPI_SCALE).to_pil().convert("L"))
    per_mm = 600 / 25.4
    lines = rows_with_ink(grey)
    first = lines[np.searchsorted(lines, int(30 * per_mm))]  # the upper edge of the first strip
    dark = np.flatnonzero(grey[first] < 128) / per_mm
    assert dark[-1] - dark[0] == pytest.approx(math.pi * 80 * 270 / 360, abs=0.2)
    left = dark[0] + 0.1
    # Below the scale's line stand the ticks; each round distance has one where the ring has it.
    line = first + int(9.0 * per_mm)
    ticks = np.flatnonzero(grey[line + int(1.2 * per_mm)] < 128) / per_mm
    scale = strip_scale(sheet, 80.0)
    for metres in (1.0, 2.0, 5.0):
        wanted = left + (1 / 0.5 - 1 / metres) / (1 / 0.5) * math.pi * 80 * 0.75
        assert scale.px(metres) == pytest.approx(wanted - left, abs=1e-6)
        assert np.abs(ticks - wanted).min() < 0.2, metres
    # The ruler: a hundred millimetres between its first and its last stroke.
    ruler = max(rows_with_ink(grey[:, : int(115 * per_mm)])[-1:], default=0)
    stroke = np.flatnonzero(grey[int(ruler), : int(130 * per_mm)] < 128) / per_mm
    assert stroke[-1] - stroke[0] == pytest.approx(100.0, abs=0.2)


def test_long_strips_are_printed_in_parts_that_overlap(sheet_of_rack):
    sheet, _ = sheet_of_rack
    assert strip_length(sheet, 160.0) == pytest.approx(2 * strip_length(sheet, 80.0))
    parts = strip_parts(377.0, 194.0)
    assert len(parts) == 2
    assert parts[0][0] == 0.0
    assert parts[-1][1] == pytest.approx(377.0)
    assert parts[0][1] - parts[1][0] == pytest.approx(6.0)
    for part in parts:
        assert part[1] - part[0] <= 194.0
        canvas = SvgCanvas(200, 30)
        draw_strip(canvas, sheet, 160.0, 0, 0, part)
        assert "stroke-dasharray" in canvas.svg("strip")
    assert off_strip(sheet) == ""


def test_letter_and_feet(demo, tmp_path):
    plan, stage = demo
    path = tmp_path / "sheet.pdf"
    options = SheetOptions(measure("ft"), "Letter", 60.0, strips=True, tables=False)
    write_sheet(plan, plan.shots[1:2], stage, path, options, no_progress)
    _pdf, pages = pages_of(path)
    assert len(pages) == 2
    assert pages[0].get_size() == pytest.approx((612, 792), abs=0.5)
    assert re.search(r"\d+' [\d.]+\"", words_of(pages[0]))
    assert "141.4 mm long" in words_of(pages[1])
    first = path.read_bytes()
    write_sheet(plan, plan.shots[1:2], stage, path, options, no_progress)
    assert path.read_bytes() == first  # what says the same is the same file


class Page(HTMLParser):
    """Reads a page: its tags, and every address in it."""

    def __init__(self):
        super().__init__()
        self.tags, self.addresses, self.open = [], [], []

    def handle_starttag(self, tag, attributes):
        self.tags.append(tag)
        if tag not in ("meta", "img", "br", "polyline", "polygon", "circle", "image"):
            self.open.append(tag)
        self.addresses += [value for name, value in attributes if name in ("src", "href")]

    def handle_endtag(self, tag):
        if tag in self.open:
            while self.open.pop() != tag:
                pass


def test_the_page_for_a_phone_needs_nothing_else(demo, tmp_path):
    plan, stage = demo
    odd = plan.replace(name="<b>Night & Day</b>")
    path = tmp_path / "sheet.html"
    write_sheet(odd, plan.shots[1:3], stage, path, SheetOptions(METRE), no_progress)
    text = path.read_text()
    page = Page()
    page.feed(text)
    assert page.open == []
    assert all(address.startswith(("data:", "#")) for address in page.addresses)
    assert "url(http" not in text
    assert "&lt;b&gt;Night &amp; Day" in text
    assert page.tags.count("svg") == 8  # plan, chart, strip and ruler of each
    assert page.tags.count("img") == 6
    for words in ("Ferryman", "Hyperfocal", "missed in 11 frames", 'style="width:196.496mm"'):
        assert words in text


def test_odd_shots_have_sheets_too(demo, tmp_path):
    """No subjects, no brief, an orthographic and a fisheye view, many marks, infinity."""
    plan, stage = demo
    base = plan.shots[1]
    many = tuple(Mark(frame=1001 + k, target=DistanceTarget(metres=2.0 + 0.1 * (k % 7))) for k in range(60))
    shots = (
        base.replace(name="a", glass=base.glass.replace(projection="orthographic"), brief=()),
        base.replace(name="b", glass=base.glass.replace(projection="fisheye")),
        base.replace(
            name="c", marks=many, title="A title that goes on and on, longer than any page is wide, and more"
        ),
        base.replace(name="d", marks=(Mark(frame=1, target=DistanceTarget(metres=math.inf)),), handles=0),
    )
    bare = plan.replace(subjects=(), shots=shots)
    for ending in (".pdf", ".html"):
        write_sheet(bare, shots, stage, tmp_path / f"odd{ending}", SheetOptions(METRE), no_progress)
    _pdf, pages = pages_of(tmp_path / "odd.pdf")
    text = "".join(words_of(page) for page in pages)
    assert "continued" in text
    assert "1060" in text
    with pytest.raises(ExchangeError, match="no shot selected"):
        write_sheet(bare, (), stage, tmp_path / "x.pdf", SheetOptions(), no_progress)
    with pytest.raises(ExchangeError, match=r"written as \.pdf or \.html"):
        write_sheet(bare, shots, stage, tmp_path / "x.doc", SheetOptions(), no_progress)

    def stop(what, part):
        raise Cancelled("Stopped.")

    with pytest.raises(Cancelled):
        write_sheet(bare, shots, stage, tmp_path / "y.pdf", SheetOptions(), stop)
    assert not (tmp_path / "y.pdf").exists()


def test_the_plan_is_to_scale(sheet_of_rack):
    """Subjects stand where they are: their places on paper, times the scale, are their distances."""
    sheet, stage = sheet_of_rack

    class Recorder(SvgCanvas):
        def __init__(self, *size):
            super().__init__(*size)
            self.spots, self.words = [], []

        def ring(self, x, y, radius, fill="none", width=0.2, shade="ink"):
            if radius == 0.5:
                self.spots.append((x, y))

        def text(self, x, y, words, *rest, **more):
            self.words.append(words)

    canvas = Recorder(90, 74)
    draw_plan(canvas, sheet, stage, 0.0, 0.0, 90.0, 74.0)
    ratio = float(next(re.search(r"1 : (\d+)", w).group(1) for w in canvas.words if " : " in w))
    across, _, ahead = sheet.numbers.camera.frame(0).before(sheet.numbers.points[:, 0])
    wanted = [(45 + a * 1000 / ratio, 65 - b * 1000 / ratio) for a, b in zip(across, ahead, strict=True)]
    assert len(canvas.spots) >= 4
    for spot in canvas.spots:
        assert min(math.dist(spot, place) for place in wanted) < 1e-6
    assert {
        f"near {sheet.marks[0].near}",
        f"far {sheet.marks[0].far}",
        f"focus {sheet.marks[0].along}",
    } <= set(canvas.words)


def test_tables_are_the_formulas(demo):
    plan, stage = demo
    shot = plan.shots[1]
    camera = camera_at(plan, shot, 1001, stage)
    table = shot_table(shot, camera, METRE)
    row, column = 5, 3
    near, far = lens.limits_m(50.0, table.stops[column], table.distances_m[row], camera.coc_mm)
    assert (table.near_m[row, column], table.far_m[row, column]) == pytest.approx((float(near), float(far)))
    assert table.depth_m[row, column] == pytest.approx(float(far - near))
    assert np.isinf(table.distances_m[-1])
    assert list(table.distances_m) == sorted(table.distances_m)
    assert table.distances_m[0] == pytest.approx(0.5)
    lines = tables_csv([table], measure("cm")).splitlines()
    assert lines[0] == "lens,f_number,distance [cm],near [cm],far [cm],depth [cm],hyperfocal [cm]"
    assert len(lines) == 1 + table.near_m.size
    kit = next(kit for kit in shipped_lens_sets() if any(each.is_zoom for each in kit.lenses) or kit.lenses)
    tables = lens_set_tables(kit.lenses, camera, METRE)
    assert len(tables) == sum(len(dict.fromkeys(each.focal_mm)) for each in kit.lenses)
    flat = shot.replace(glass=shot.glass.replace(projection="orthographic"))
    assert shot_table(flat, camera_at(plan, flat, 1001, stage), METRE) is None
    assert round_distances_m(0.3, 50, "thin", measure("ft"))[0] >= 0.29


def test_type_is_measured_and_fitted():
    assert text_width("WW", 10) > 2 * text_width("i", 10) > 0
    short = fitted("A long line of type that does not fit", 8, 20)
    assert short.endswith("…")
    assert text_width(short, 8) <= 20
    canvas = SvgCanvas(120, 12)
    draw_ruler(canvas, 2, 1)
    assert canvas.svg("x").count("<polyline") == 102

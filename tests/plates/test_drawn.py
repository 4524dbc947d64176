"""Plates that need no file: their pixels, how they are kept, and how specks drift."""

import json
import math

import numpy as np
import pytest
from pydantic import ValidationError

from kobrel.plan.file import files_of, open_plan, save_plan
from kobrel.plan.model import Plan
from kobrel.plan.pictures.drawn import Gradient, Specks, Title, Vignette
from kobrel.plan.pictures.plates import Cut, PlatePicture, Rectangle
from kobrel.plan.plates import drawing as pixels_drawn
from kobrel.plan.plates import typefaces
from kobrel.plan.plates.drawing import draw, letters_in_height, picture_of_drawn, title_size_px
from kobrel.plan.plates.edges import edge_report
from kobrel.plan.plates.replacing import set_of
from kobrel.plan.staging import Library, stage_of
from kobrel.session.commands.plates import drawing
from kobrel.session.selection import ChosenPlates
from kobrel.session.session import Session
from tests.kinds.plans import staged, with_drawn
from tests.plates.flat import a_shot, the_camera

WIDE = 16 / 9


def linear(seen):
    """IEC 61966-2-1."""
    return seen / 12.92 if seen <= 0.04045 else ((seen + 0.055) / 1.055) ** 2.4


def seen(value):
    """IEC 61966-2-1, the other way."""
    return 12.92 * value if value <= 0.0031308 else 1.055 * value ** (1 / 2.4) - 0.055


def ink(title, size=None):
    """Columns and rows where a title's letters are."""
    alpha = draw(title, size or title_size_px(title)).rgba[..., 3] > 127
    return np.flatnonzero(alpha.any(axis=0)), np.flatnonzero(alpha.any(axis=1)), alpha


@pytest.fixture(scope="module")
def drawn_plates():
    return staged(with_drawn(Plan(shots=(a_shot(),))))


@pytest.fixture
def session(drawn_plates):
    session = Session()
    session.show_plan(*drawn_plates)
    return session


def heard(session):
    """What the session says from now on."""
    said = []
    session.said.connect(said.append)
    return said


def chosen(session, kind):
    plate = next(p for p in session.plan.plates if p.picture.drawn.kind == kind)
    session.selection.item = ChosenPlates(plate.number)
    return plate


# Pixels


@pytest.mark.parametrize(("angle", "ends"), [(0.0, ((540, 0), (540, -1))), (90.0, ((-1, 960), (0, 960))),
                                         (45.0, ((-1, 0), (0, -1)))])  # fmt: skip
def test_a_gradient_is_even_as_it_is_seen_and_reaches_its_ends(angle, ends):
    gradient = Gradient(first=(0.0, 0.2, 0.0), last=(0.5, 0.2, 0.0), angle_deg=angle, last_opacity=0.5)
    rgba = draw(gradient, (1920, 1080)).rgba.astype(float)
    (first_row, first_column), (last_row, last_column) = ends
    first, last = rgba[first_row, first_column], rgba[last_row, last_column]
    assert np.allclose(first, (0.0, 0.2, 0.0, 1.0), atol=2e-3)
    assert np.allclose(last, (0.5, 0.2, 0.0, 0.5), atol=2e-3)
    middle = rgba[539:541, 959:961].mean(axis=(0, 1))
    assert middle[0] == pytest.approx(linear(seen(0.5) / 2), abs=1e-3)
    assert middle[3] == pytest.approx(0.75, abs=1e-3)


def test_a_dark_gradient_has_no_steps_that_are_seen():
    """In bytes it would have 13 tones over 1920 pixels."""
    row = draw(Gradient(first=(0.0,) * 3, last=(linear(12 / 255),) * 3, angle_deg=0.0), (1920, 8)).rgba[
        4, :, 0
    ]
    assert len(np.unique(row)) > 700


def test_a_radial_gradient_goes_from_the_middle_to_the_corners():
    rgba = draw(Gradient(shape="radial", first=(1.0, 1.0, 1.0), last=(0.0, 0.0, 0.0)), (401, 301)).rgba
    assert rgba[150, 200, 0] == pytest.approx(1.0, abs=1e-3)
    assert rgba[0, 0, 0] < 0.01
    assert np.allclose(rgba[..., 0], rgba[::-1, ::-1, 0], atol=2e-3)


def test_a_vignette_is_clear_in_the_middle_and_as_strong_as_it_says_at_the_corners():
    alpha = draw(Vignette(strength=0.7, clear=0.4), (1920, 1080)).rgba[..., 3].astype(float)
    assert alpha[540, 960] == 0.0
    assert alpha[0, 0] == pytest.approx(0.7, abs=2e-3)
    corner = math.hypot(960, 540)
    x = 0.39 * corner * 960 / corner  # on the diagonal, just before it begins
    assert alpha[round(540 - x * 540 / 960), round(960 + x)] == 0.0
    assert (np.diff(alpha[540, 960:]) >= 0).all()


def test_a_round_vignette_is_a_circle():
    alpha = draw(Vignette(round=1.0, clear=0.2), (1920, 1080)).rgba[..., 3].astype(float)
    for away in (300, 400, 530):
        assert alpha[540 - away, 960] == pytest.approx(alpha[540, 960 - away], abs=4e-3)
    squeezed = draw(Vignette(round=0.0, clear=0.2), (1920, 1080)).rgba[..., 3].astype(float)
    assert squeezed[540 - 270, 960] == pytest.approx(squeezed[540, 960 - 480], abs=4e-3)


def test_a_flat_colour_takes_no_room_until_it_is_cut():
    library = Library()
    plan = with_drawn(Plan(shots=(a_shot(),)))
    flat = next(p for p in plan.plates if p.picture.drawn.kind == "colour")
    library.read(plan.replace(plates=(flat,)))
    (source,) = library.shelf.sources.values()
    assert source.at(0.0).rgba.shape == (4, 4, 4)
    cut = flat.replace(cut=Cut(shapes=(Rectangle(one=(0.0, 0.0), other=(0.5, 1.0)),), feather_px=0.0))
    library.read(plan.replace(plates=(cut,)))
    source = list(library.shelf.sources.values())[-1]
    left, _top, right, _bottom = source.window
    assert left == 0.0
    assert right == pytest.approx(0.5, abs=3 / 1920)


# Titles


def test_letters_are_drawn_as_large_as_they_may_so_that_they_stay_sharp():
    for text in ("W", "NIGHT FERRY", "one\ntwo\nthree\nfour", "a" * 500):
        wide, tall = title_size_px(Title(text=text))
        assert max(wide, tall) <= 8192
        assert wide * tall <= 12_100_000
        assert max(wide, tall) > 2500
    columns, _rows, _alpha = ink(Title(text="NIGHT FERRY"))
    assert np.ptp(columns) > 6000  # a frame of 4096 across shows no pixel of it


@pytest.mark.parametrize("size", [(10**9, 10**9), (10**9, 1), (0, -5), (1, 1)])
def test_a_plan_cannot_ask_for_more_pixels_than_are_needed(size, monkeypatch):
    assert pixels_drawn._MOST_PX <= 12_000_000
    monkeypatch.setattr(pixels_drawn, "_MOST_PX", 500_000)
    for drawn in drawing.KINDS:
        rgba = draw(drawn, size).rgba
        assert 1 <= rgba.shape[0] * rgba.shape[1] <= 504_000


def test_what_memory_has_no_room_for_is_told_and_keeps_its_place(monkeypatch):
    from kobrel import memory

    monkeypatch.setattr(memory, "spare_memory", lambda: 1e6)
    plan, library = with_drawn(Plan(shots=(a_shot(),))), Library()
    library.read(plan)
    assert any("Gradient" in problem and "memory" in problem for problem in library.problems_of(plan))
    assert len(stage_of(plan, library).scenes) == 5


def test_lines_are_aligned_and_tracking_widens_them():
    text = "IIIIIIII\nII"
    for align, side in (("left", 0), ("right", -1)):
        _columns, _rows, alpha = ink(Title(text=text, align=align))
        middle = alpha.shape[0] // 2
        upper, lower = (np.flatnonzero(part.any(axis=0)) for part in (alpha[:middle], alpha[middle:]))
        assert upper[side] == pytest.approx(lower[side], abs=2)
        assert len(upper) > len(lower)
    plain, tracked = Title(text="IIII"), Title(text="IIII", tracking=0.5)
    letter = [title_size_px(t)[1] / letters_in_height(t) for t in (plain, tracked)]
    spans = [np.ptp(ink(t)[0]) / size for t, size in zip((plain, tracked), letter, strict=True)]
    assert spans[1] - spans[0] == pytest.approx(3 * 0.5, abs=0.01)


def test_tracking_keeps_accents_on_their_letters_and_kerning():
    whole, apart = Title(text="AVA"), Title(text="AVA", tracking=1e-6)
    size = title_size_px(whole)
    assert np.array_equal(ink(whole, size)[0], ink(apart, size)[0])
    assert ink(Title(text="e\u0301e", tracking=0.3))[2].any()


def test_a_typeface_that_is_not_here_is_told_and_stays_within_its_picture():
    away = Title(text="WWWW", family="Nobody Has This", style="Bold")
    face, told = typefaces.face_of(away)
    assert "Nobody Has This is not installed" in told
    assert face.path.name == "B612-Regular.otf"
    assert typefaces.face_of(Title(style="Black"))[1] == (
        "B612 Black is not installed; Regular is used instead."
    )
    assert typefaces.face_of(Title(style="Bold")) == (typefaces.shipped()["B612"]["Bold"], "")
    columns, rows, _alpha = ink(away, (300, 60))  # as if another typeface had been narrower
    assert columns[0] > 0
    assert columns[-1] < 299
    assert rows[0] > 0
    assert rows[-1] < 59


def test_damaged_fonts_of_the_system_are_passed_over(tmp_path, monkeypatch):
    (tmp_path / "fonts").mkdir()
    (tmp_path / "fonts" / "bad.ttf").write_bytes(b"\0\1\0\0" + bytes(300))
    (tmp_path / "fonts" / "dir.otf").mkdir()
    shipped = next(iter(typefaces.shipped()["B612"].values())).path
    (tmp_path / "fonts" / "good.otf").write_bytes(shipped.read_bytes())
    assert list(typefaces._families_in([tmp_path / "fonts"])) == ["B612"]


# The document


def test_they_are_saved_and_opened_with_no_path(tmp_path, session):
    save_plan(session.plan, tmp_path / "p.kobrel")
    content = json.loads((tmp_path / "p.kobrel").read_text())
    assert {plate["picture"]["path"] for plate in content["plates"]} == {""}
    again = open_plan(tmp_path / "p.kobrel")
    assert again.plates == session.plan.plates
    assert files_of(again) == []


def test_a_plan_of_the_format_before_opens(tmp_path):
    path = tmp_path / "old.kobrel"
    picture = {"path": "a.png", "size_px": [10, 10]}
    plate = {"number": 1, "name": "a", "picture": picture, "height_m": 1.0, "position_m": [0, 0, -3]}
    path.write_text(json.dumps({"format": 9, "plates": [plate]}))
    (plate,) = open_plan(path).plates
    assert plate.picture.drawn is None
    assert plate.picture.path == str(tmp_path / "a.png")


def test_a_picture_is_a_file_or_drawn():
    with pytest.raises(ValidationError, match="one of both"):
        PlatePicture(path="a.png", drawn=Title())
    with pytest.raises(ValidationError, match="one of both"):
        PlatePicture()


def test_letters_stay_as_large_when_the_text_changes(session):
    title = chosen(session, "title")
    letters = title.height_m / letters_in_height(title.picture.drawn)
    drawing.set_text(session, "Two\nlines, and a long one")
    after = session.plan.plate(title.number)
    assert after.picture.drawn.text == "Two\nlines, and a long one"
    assert after.height_m / letters_in_height(after.picture.drawn) == pytest.approx(letters)
    assert after.picture.size_px == title_size_px(after.picture.drawn)
    said = heard(session)
    drawing.set_text(session, "  \n ")
    assert session.plan.plate(title.number) == after
    assert "the old text stays" in said[-1]


def test_a_title_aligned_left_grows_to_the_right(session):
    from kobrel.plan.plates.placing import place_at

    title = chosen(session, "title")
    drawing.set_align(session, "left")
    camera = session.camera

    def left_edge():
        plate = session.plan.plate(title.number)
        return place_at(plate, (), camera, session.frame, (0.0, plate.pivot[1]))

    before = left_edge()
    drawing.set_text(session, "A much longer title than before")
    assert np.allclose(left_edge(), before, atol=1e-9)


def test_equal_ones_are_a_set_and_others_are_not(session):
    plates = session.plan.plates
    twin = plates[0].replace(number=99)
    assert set_of([*plates, twin], twin) == [plates[0], twin]


# Specks


def specks_mesh(plan):
    library = Library()
    library.read(plan)
    plate = next(p for p in plan.plates if isinstance(p.picture.drawn, Specks))
    scene = stage_of(plan, library).scenes[f"plate {plate.number}"]
    return plate, scene.nodes[-1].mesh


def test_specks_drift_as_fast_as_they_say_and_stay_in_their_box(session):
    plate, mesh = specks_mesh(session.plan)
    specks = plate.picture.drawn
    box = np.array([plate.height_m * plate.picture.aspect, plate.height_m, specks.depth_m])
    squares = [mesh.deformation.points(f).reshape(-1, 4, 3) for f in (1001.0, 1002.0)]
    middles = [square.mean(axis=1) for square in squares]
    assert len(middles[0]) == specks.count
    for middle in middles:
        assert (np.abs(middle) <= box / 2 + 1e-6).all()
    step = middles[1] - middles[0]
    stayed = np.abs(step).max(axis=1) < box.min() / 2
    assert stayed.mean() > 0.9
    assert np.linalg.norm(step[stayed], axis=1).mean() == pytest.approx(specks.speed_m, rel=0.1)
    assert np.abs(step[stayed, 2]).max() < 1e-6
    sizes = np.ptp(squares[0], axis=1)
    assert sizes.max() <= 1.5 * specks.size_m * (1 + 1e-5)


def test_a_speck_that_leaves_is_small_at_the_wall(session):
    plate, mesh = specks_mesh(session.plan)
    frames = np.arange(1001.0, 1400.0)
    corners = mesh.deformation.some(frames, np.arange(4 * 20)).reshape(len(frames), 20, 4, 3)
    middle, size = corners.mean(axis=2), np.ptp(corners, axis=2).max(axis=-1)
    jumps = np.abs(np.diff(middle, axis=0)).max(axis=-1) > plate.height_m / 2
    assert jumps.any()
    assert size[1:][jumps].max() < 0.5 * size.max()


def test_some_specks_are_where_all_of_them_are(session):
    _plate, mesh = specks_mesh(session.plan)
    which = np.array([0, 7, 250, 599])
    some = mesh.deformation.some([1001.0, 1077.5], which)
    for row, frame in enumerate((1001.0, 1077.5)):
        assert np.allclose(some[row], mesh.deformation.points(frame)[which], atol=1e-5)


def test_the_same_seed_gives_the_same_specks_and_another_does_not(session):
    _plate, mesh = specks_mesh(session.plan)
    plate = chosen(session, "specks")
    drawing.change(session, "Seed", seed=2)
    _plate, other = specks_mesh(session.plan)
    drawing.change(session, "Seed", seed=1)
    assert session.plan.plate(plate.number) == plate
    _plate, again = specks_mesh(session.plan)
    assert np.array_equal(mesh.deformation.points(5.0), again.deformation.points(5.0))
    assert not np.array_equal(mesh.deformation.points(5.0), other.deformation.points(5.0))


def test_specks_that_stand_still_do_not_change(session):
    chosen(session, "specks")
    drawing.change(session, "Speed", speed_m=0.0)
    _plate, mesh = specks_mesh(session.plan)
    assert mesh.deformation is None


def test_specks_have_no_edge_and_no_picture_to_cut(session):
    from kobrel.session.commands.plates import cutting

    plate, said = chosen(session, "specks"), heard(session)
    assert cutting.pixels_of(session, plate) is None
    assert "no picture to cut" in said[-1]
    before = session.plan
    cutting.begin(session, "rectangle")
    cutting.take_alpha(session)
    assert session.selection.tool is None
    assert session.plan == before
    assert len(said) == 3
    frames = np.array([1001.0])
    assert edge_report(session.plan, plate, session.stage, the_camera(), frames).words == ""


def test_rays_meet_specks_where_they_are_at_each_frame():
    """A ray straight at a speck's middle, from the camera, at two frames."""
    plan = with_drawn(Plan(shots=(a_shot(),)))
    plate = next(p for p in plan.plates if isinstance(p.picture.drawn, Specks))
    drawn = plate.picture.drawn.replace(count=1, size_m=0.1, speed_m=0.02)
    plan = plan.replace(plates=(plate.replace(picture=plate.picture.replace(drawn=drawn)),))
    library = Library()
    library.read(plan)
    stage, camera = stage_of(plan, library), the_camera()
    mesh = stage.scenes[f"plate {plate.number}"].nodes[-1].mesh
    places = [
        np.asarray(plate.position_m) + mesh.deformation.points(f).mean(axis=0) for f in (1001.0, 1020.0)
    ]
    assert np.linalg.norm(places[1] - places[0]) > 0.15
    for frame, at in zip((1001.0, 1020.0), places, strict=True):
        pick = stage.pick(frame, (0.0, 0.0, 0.0), at, eye=camera.eye)
        assert np.allclose(pick.point, at, atol=1e-4)
    gone = stage.pick(1020.0, (0.0, 0.0, 0.0), places[0], eye=camera.eye)
    assert gone is None


def test_they_have_names_of_their_own():
    labels = [picture_of_drawn(drawn, WIDE).label for drawn in drawing.KINDS]
    assert labels == ["Title", "Flat colour", "Gradient", "Vignette", "Specks"]
    assert PlatePicture(path="/a/b.psd", layer="sky").label == "b.psd, sky"

"""Other pictures in plates' places, and plates that fade in and out."""

import json

import numpy as np
import pytest
from PIL import Image

from kobrel.cli import run_command
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.keys import Level, LevelKey, PlaceKey
from kobrel.plan.model import Plan
from kobrel.plan.pictures.plates import (
    Cut,
    Ellipse,
    Fade,
    Fill,
    Outline,
    OutlinePoint,
    OwnAlpha,
    Plate,
    Rectangle,
)
from kobrel.plan.plates.pixels import picture_of
from kobrel.plan.plates.replacing import picture_for, replaced, set_of, shapes_differ, with_picture
from kobrel.plan.pull.fading import faded_in, faded_out


def picture(folder, name, size, colour=(200, 60, 40)):
    Image.new("RGB", size, colour).save(folder / name)
    return folder / name


@pytest.fixture
def prepared(tmp_path):
    """A photograph with a person cut from it, keyed and faded, and another plate besides."""
    path = picture(tmp_path, "one.png", (400, 200))
    outline = Outline(points=tuple(
        OutlinePoint(at=at, after=(at[0] + 0.1, at[1])) for at in ((0.25, 0.2), (0.75, 0.2), (0.5, 0.9))
    ))  # fmt: skip
    shapes = (outline, Ellipse(one=(0.4, 0.4), other=(0.6, 0.6)), Rectangle(one=(0.0, 0.0), other=(1.0, 0.5)),
              OwnAlpha())  # fmt: skip
    person = Plate(
        number=2, name="Person", picture=picture_of(path), height_m=2.0, position_m=(0.5, 1.0, -4.0),
        keys=(PlaceKey(frame=1001, position_m=(0.5, 1.0, -4.0)), PlaceKey(frame=1020, position_m=(0, 1, -3))),
        fade=Fade(), opacity=Level(keys=(LevelKey(frame=1001, value=0.0), LevelKey(frame=1010, value=1.0))),
        cut=Cut(shapes=shapes, grow_px=2.0, feather_px=4.0), pivot=(0.5, 1.0),
    )  # fmt: skip
    ground = Plate(number=1, name="Photo", picture=picture_of(path), height_m=4.0, position_m=(0, 0, -8),
                   fill=Fill(of=(2,), grow_px=6.0))  # fmt: skip
    other = picture(tmp_path, "other.png", (50, 50))
    lone = Plate(number=3, name="Lone", picture=picture_of(other), height_m=1.0, position_m=(0, 0, -2))
    return Plan(plates=(ground, person, lone))


def test_all_but_the_picture_stays(prepared, tmp_path):
    person = prepared.plates[1]
    fresh = picture_of(picture(tmp_path, "two.png", (800, 400)))
    made = replaced(person, fresh, stretch=False)
    assert made.picture == fresh
    assert made.replace(picture=person.picture, cut=person.cut) == person
    assert made.cut.shapes == person.cut.shapes, "a picture of the same shape has the same cut"
    assert (made.cut.grow_px, made.cut.feather_px) == (4.0, 8.0), "edges are as wide on the finer picture"


def test_on_another_shape_a_cut_keeps_its_own_or_is_stretched(prepared, tmp_path):
    person = prepared.plates[1]
    fresh = picture_of(picture(tmp_path, "two.png", (800, 200)))  # twice as wide for its height
    assert shapes_differ(person, fresh)
    assert replaced(person, fresh, stretch=True).cut.shapes == person.cut.shapes

    def across_m(plate, x):  # where a part of the picture stands, by its height and its shape
        return (x - 0.5) * plate.picture.aspect * plate.height_m

    made = replaced(person, fresh, stretch=False)
    for old, new in zip(person.cut.shapes[0].points, made.cut.shapes[0].points, strict=True):
        assert across_m(made, new.at[0]) == pytest.approx(across_m(person, old.at[0]))
        assert across_m(made, new.after[0]) == pytest.approx(across_m(person, old.after[0]))
        assert new.at[1] == old.at[1]
    for old, new in zip(person.cut.shapes[1:3], made.cut.shapes[1:3], strict=True):
        assert across_m(made, new.one[0]) == pytest.approx(across_m(person, old.one[0]))
        assert across_m(made, new.other[0]) == pytest.approx(across_m(person, old.other[0]))
    assert made.cut.shapes[3] == person.cut.shapes[3]


def test_one_set_serves_the_next_photograph(prepared, tmp_path):
    found = set_of(prepared.plates, prepared.plates[1])
    assert [plate.name for plate in found] == ["Photo", "Person"]
    fresh = picture_of(picture(tmp_path, "next.png", (400, 200)))
    made = with_picture(prepared, found, fresh, stretch=False)
    assert [plate.picture.path == fresh.path for plate in made.plates] == [True, True, False]
    assert made.plates[0].fill.of == (2,)


def test_of_a_layered_picture_the_layer_of_that_name_is_taken(prepared, tmp_path):
    pages = [Image.new("RGB", (40, 20), colour) for colour in ((255, 0, 0), (0, 255, 0))]
    pages[0].save(tmp_path / "pages.tif", save_all=True, append_images=pages[1:])
    from kobrel.stage.read.plates.stills import layers_of

    names = layers_of(tmp_path / "pages.tif")
    plate = prepared.plates[0].replace(picture=prepared.plates[0].picture.replace(layer=names[1]))
    assert picture_for(plate, tmp_path / "pages.tif").layer == names[1]
    assert picture_for(prepared.plates[0], tmp_path / "pages.tif").layer == names[0]


def test_from_the_command_line(prepared, tmp_path, capsys):
    plan, out = tmp_path / "set.kobrel", tmp_path / "next.kobrel"
    save_plan(prepared, plan)
    fresh = picture(tmp_path, "next.png", (400, 200))
    assert run_command(["replace", str(plan), str(fresh), "--plate", "Person", "-o", str(out), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["data"]["plates"], told["files"]) == (["Photo", "Person"], [str(out)])
    assert [plate.picture.path for plate in open_plan(out).plates[:2]] == [str(fresh)] * 2
    arguments = ["replace", str(plan), str(fresh), "--plate", "Person", "--alone", "-o", str(out), "--force"]
    assert run_command(arguments) == 0
    assert [plate.picture.path == str(fresh) for plate in open_plan(out).plates] == [False, True, False]
    assert (
        run_command(["replace", str(plan), str(fresh), "--plate", "Nobody", "-o", str(out), "--force"]) == 2
    )
    assert "There are: Photo, Person, Lone." in capsys.readouterr().err
    wrong = tmp_path / "wrong.png"
    wrong.write_bytes(b"none")
    assert run_command(["replace", str(plan), str(wrong), "--plate", "Lone", "-o", str(out), "--force"]) == 2


def test_a_fade_goes_from_nothing_to_what_was_there_and_back():
    frames = np.arange(10.0, 60.0)
    level = faded_out(faded_in(Level(value=0.6), 15, 29), 40, 50)
    seen = level.at(frames)
    assert (seen[frames <= 15] == 0.0).all()
    np.testing.assert_allclose(seen[(frames >= 29) & (frames <= 40)], 0.6)
    assert (seen[frames >= 50] == 0.0).all()
    assert (np.diff(seen[(frames >= 15) & (frames <= 29)]) > 0).all()


def test_a_fade_in_of_what_is_gone_ends_whole():
    assert faded_in(Level(value=0.0), 1, 9).at([9])[0] == 1.0


def test_a_fade_takes_the_place_of_keys_on_its_way():
    level = Level(keys=tuple(LevelKey(frame=frame, value=0.5) for frame in (1, 5, 8, 20)))
    assert [key.frame for key in faded_in(level, 4, 10).keys] == [1, 4, 10, 20]

"""Plates for finishing elsewhere: numbers, layers that make the exact picture again, the sheet's page."""

import csv
import json

import numpy as np
import pytest
from PIL import Image

from kobrel.errors import ExchangeError
from kobrel.exchange.export import export
from kobrel.exchange.plates.layers import BEHIND, layers_at, put_together, write_layers
from kobrel.exchange.plates.numbers import plate_rows
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.keys import Level, LevelKey
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.pictures.plates import Fade
from kobrel.stage.read.plates.stills import layers_of, read_still
from tests.plates.flat import picture, plate_at, staged

SIZE = (96, 54)


@pytest.fixture
def three(tmp_path):
    """A backdrop, a soft plate in the middle, a small one before it, that stand apart in the picture."""
    back = plate_at(picture(tmp_path / "back.png", (40, 120, 200)), 12.0, 1, height_m=30.0)
    soft = np.zeros((80, 120, 4), np.uint8)
    soft[..., :3], soft[10:70, 5:50, 3] = (230, 200, 60), 160
    Image.fromarray(soft).save(tmp_path / "soft.png")
    middle = plate_at(tmp_path / "soft.png", 5.0, 2)
    near = plate_at(picture(tmp_path / "near.png", (200, 30, 30), (80, 30, 110, 60)), 2.0, 3)
    return staged(back, middle, near)


def test_layers_put_together_are_the_exact_picture(three):
    plan, stage = three
    shot = plan.shots[0]
    layers = layers_at(plan, shot, stage, 1001, SIZE, 64)
    assert [layer.name for layer in layers] == [BEHIND, "back", "soft", "near"]
    camera = camera_at(plan, shot, 1001, stage)
    exact = exposed(View(stage.snapshot(1001, eye=camera.eye), camera, plan.light, *SIZE), 256)
    together = put_together(layers)
    assert np.abs(together - exact).mean() < 0.004
    # away from all edges within a hundredth
    inner = np.s_[25:30, 70:73]
    assert together[inner] == pytest.approx(exact[inner], abs=0.01)
    assert layers[3].alpha[27, 72] == pytest.approx(1.0, abs=1e-3)
    assert layers[3].alpha[27, 10] == pytest.approx(0.0, abs=1e-3)


@pytest.mark.parametrize("ending", [".ora", ".exr", ".png"])
def test_layers_are_written_with_a_note_and_numbers(three, tmp_path, ending):
    plan, stage = three
    written = write_layers(plan, plan.shots[0], stage, [1001], tmp_path / f"out{ending}", size=SIZE, passes=8)
    names = {path.name for path in written}
    assert {"out.txt", "out.json"} <= names
    if ending == ".png":
        assert "out.03_near.1001.png" in names
        assert read_still(tmp_path / "out.03_near.1001.png").pixels.rgba[27, 72, 3] > 250
        return
    path = tmp_path / f"out{ending}"
    assert layers_of(path) == [BEHIND, "back", "soft", "near"]
    near = read_still(path, "near").pixels.rgba
    assert near[27, 10, 3] == 0
    assert near[27, 72, 0] > (0.4 if ending == ".exr" else 180)


def test_several_frames_are_numbered_and_what_cannot_be_written_is_told(three, tmp_path):
    plan, stage = three
    written = write_layers(plan, plan.shots[0], stage, [1001, 1002], tmp_path / "o.ora", size=SIZE, passes=1)
    assert [path.name for path in written[:2]] == ["o.1001.ora", "o.1002.ora"]
    with pytest.raises(ExchangeError, match=r"\.ora"):
        write_layers(plan, plan.shots[0], stage, [1001], tmp_path / "o.psx")
    with pytest.raises(ExchangeError, match="no plates"):
        write_layers(plan.replace(plates=()), plan.shots[0], stage, [1001], tmp_path / "o.ora")


def test_numbers_of_plates_at_each_frame(three, tmp_path):
    plan, stage = three
    moving = plan.plates[2].replace(
        opacity=Level(keys=(LevelKey(frame=1001, value=1.0), LevelKey(frame=1011, value=0.0))),
        fade=Fade(by="distance", whole=1.0, gone=3.0),
    )
    plan = plan.replace(plates=(*plan.plates[:2], moving))
    rows = plate_rows(plan, plan.shots[0], stage, (1001, 1002))
    assert [row["plate"] for row in rows[:3]] == ["back", "soft", "near"]
    assert [row["order"] for row in rows[:3]] == [1, 2, 3]
    near, camera = rows[2], camera_at(plan, plan.shots[0], 1001, stage)
    assert near["distance_m"] == pytest.approx(2.0)
    assert near["blur_px"] == pytest.approx(float(camera.blur_px(2.0)), abs=1e-5)
    assert near["blur_percent"] == pytest.approx(near["blur_px"] / camera.width_px * 100, abs=1e-5)
    assert near["opacity"] == pytest.approx(0.5)
    assert (near["x_px"], near["y_px"]) == pytest.approx((960, 540), abs=0.01)
    assert near["width_px"] == pytest.approx(1920, abs=0.5)
    assert near["scale_percent"] == pytest.approx(1600, abs=1)
    shot = plan.shots[0]
    export(plan, shot, stage, "plates", tmp_path / "p.csv")
    lines = list(csv.DictReader((tmp_path / "p.csv").open()))
    assert len(lines) == 3 * shot.length
    assert float(lines[2]["distance_m"]) == pytest.approx(2.0)
    export(plan, shot, stage, "plates", tmp_path / "p.json")
    assert json.loads((tmp_path / "p.json").read_text())["rows"][1]["plate"] == "soft"
    with pytest.raises(ExchangeError, match="csv or"):
        export(plan, shot, stage, "plates", tmp_path / "p.txt")


def test_the_sheet_has_a_page_of_plates(three, tmp_path):
    import pypdfium2

    plan, stage = three
    export(plan, plan.shots[0], stage, "sheet", tmp_path / "s.pdf")
    with pypdfium2.PdfDocument(str(tmp_path / "s.pdf")) as pdf:
        texts = [page.get_textpage().get_text_bounded() for page in pdf]
    page = next(text for text in texts if "Plates" in text and "near.png" in text)
    assert "2.00 m" in page
    export(plan, plan.shots[0], stage, "html", tmp_path / "s.html")
    assert "soft.png" in (tmp_path / "s.html").read_text()
    export(plan.replace(plates=()), plan.shots[0], stage, "html", tmp_path / "none.html")
    assert "<h3>Plates" not in (tmp_path / "none.html").read_text()

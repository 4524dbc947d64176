"""What EXR files say of their shot: read back from the bytes of the header, as OpenEXR lays it out."""

import struct
from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
import OpenImageIO as oiio
import pytest

from kobrel.demo import HARBOUR
from kobrel.exchange.images import write_exr
from kobrel.exchange.passes import write_passes
from kobrel.exchange.plates.layers import write_layers_at
from kobrel.exchange.render import render_frame
from kobrel.exchange.writing.slate import Slate, to_screen
from kobrel.exchange.writing.whole import new_pdf, replaced_if_changed
from kobrel.optics.units import METRE
from kobrel.plan.file import open_plan
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.staging import load_stage
from kobrel.stage.scene import no_progress

NUMBERS = {"float": "<f", "int": "<i", "rational": "<iI", "timecode": "<II", "m44f": "<16f",
           "chromaticities": "<8f"}  # fmt: skip


def header(path):
    """The attributes of an EXR's first part: (type, value) by name, as they stand in its bytes."""
    content, at, found = path.read_bytes(), 8, {}
    while content[at]:
        words = []
        for _ in range(2):
            end = content.index(0, at)
            words.append(content[at:end].decode())
            at = end + 1
        size = struct.unpack_from("<i", content, at)[0]
        raw = content[at + 4 : at + 4 + size]
        at += 4 + size
        name, kind = words
        value = struct.unpack(NUMBERS[kind], raw) if kind in NUMBERS else raw
        found[name] = kind, value[0] if isinstance(value, tuple) and len(value) == 1 else value
    return found


def seen_at(matrix, point):
    """Where a point of the stage lies on the screen, x and y, by a matrix for rows."""
    x, y, _z, w = np.array([*point, 1.0]) @ np.array(matrix).reshape(4, 4)
    return x / w, y / w


@pytest.fixture(scope="module")
def rendered(demo, tmp_path_factory):
    """A small frame of the rack at an NTSC rate, through a shifted lens."""
    plan, stage = demo
    shot = plan.shots[1].replace(fps=29.97, glass=plan.shots[1].glass.replace(shift_mm=(2.0, -1.0)))
    path = tmp_path_factory.mktemp("slate") / "rack.exr"
    render_frame(plan, shot, 1800, stage, (64, 36), 1, path, no_progress)
    return header(path), camera_at(plan, shot, 1800, stage)


def test_the_lens_and_its_settings_stand_in_the_header(rendered):
    found, camera = rendered
    for name, value in {
        "aperture": float(camera.image_distance_mm / camera.pupil_mm),
        "focus": float(camera.focus_m),
        "focalLength": float(camera.image_distance_mm),
        "nominalFocalLength": float(camera.focal_mm),
        "isoSpeed": camera.exposure.iso,
        "expTime": camera.exposure.shutter_deg / 360.0 / (30000 / 1001),
        "pixelAspectRatio": 1.0,
    }.items():
        kind, said = found[name]
        assert kind == "float"
        assert said == pytest.approx(value, rel=1e-6), name


def test_the_rate_is_a_ratio_and_the_timecode_drops_frames(rendered):
    found, _camera = rendered
    assert found["framesPerSecond"] == ("rational", (30000, 1001))
    # 00:01:00;02: a figure in each four bits, bit 6 for drop-frame (SMPTE ST 12-1)
    assert found["timeCode"] == ("timecode", (0x00010002 | 0x40, 0))
    assert found["imageCounter"] == ("int", 1800)


def test_colours_are_said_to_be_of_rec_709(rendered):
    kind, places = rendered[0]["chromaticities"]
    assert kind == "chromaticities"
    np.testing.assert_allclose(places, (0.64, 0.33, 0.3, 0.6, 0.15, 0.06, 0.3127, 0.329), rtol=1e-6)


def test_matrices_take_points_of_the_stage_to_camera_and_screen(rendered):
    """The corners of the picture, from the shifted sensor by themselves."""
    found, camera = rendered
    v = float(camera.image_distance_mm)
    for x, y in ((-1, -1), (1, -1), (1, 1), (0, 0)):
        across = (x * camera.sensor_width_mm / 2 + 2.0) * camera.squeeze / v
        up = (y * camera.sensor_height_mm / 2 - 1.0) / v
        point = (camera.pose @ [7.0 * across, 7.0 * up, -7.0, 1.0])[:3]
        assert seen_at(found["worldToScreen"][1], point) == pytest.approx((x, y), abs=1e-5)
        there = np.array([*point, 1.0]) @ np.array(found["worldToCamera"][1]).reshape(4, 4)
        np.testing.assert_allclose(there[:3], [7.0 * across, 7.0 * up, -7.0], atol=1e-4)


def test_an_orthographic_view_has_its_own_screen(demo):
    plan, stage = demo
    camera = replace(camera_at(plan, plan.shots[0], 1001, stage), projection="orthographic", field_m=6.0)
    point = (camera.pose @ [3.0, 3.0 / camera.aspect, -20.0, 1.0])[:3]
    assert seen_at(to_screen(camera).T, point) == pytest.approx((1.0, 1.0))


def test_a_view_that_no_matrix_shows_has_none(demo, tmp_path):
    plan, stage = demo
    camera = replace(camera_at(plan, plan.shots[0], 1001, stage), projection="fisheye")
    flat = np.ones((4, 6), np.float32)
    write_exr(tmp_path / "a.exr", np.ones((4, 6, 3), np.float32), flat, flat, Slate(camera, 1001, 24.0))
    found = header(tmp_path / "a.exr")
    assert "worldToScreen" not in found
    assert "worldToCamera" in found


def test_passes_and_every_part_of_layers_say_it_too(demo, tmp_path):
    plan, stage = demo
    shot = plan.shots[1]
    written = write_passes(
        plan, shot, stage, [1010], ("depth",), tmp_path / "z.exr", no_progress, METRE, (32, 18)
    )
    focus = float(camera_at(plan, shot, 1010, stage).focus_m)
    assert header(written[0])["focus"] == ("float", pytest.approx(focus))
    plan = open_plan(HARBOUR)
    stage, _ = load_stage(plan)
    shot = plan.shots[0]
    (path,) = write_layers_at(plan, shot, stage, shot.first, tmp_path / "l.exr", False, (32, 18), 1)
    focus = float(camera_at(plan, shot, shot.first, stage).focus_m)
    source, part = oiio.ImageInput.open(str(path)), 0
    while source.seek_subimage(part, 0):
        assert source.spec().getattribute("focus") == pytest.approx(focus)
        part += 1
    source.close()
    assert part > 1


def test_files_say_when_they_were_written(tmp_path, monkeypatch):
    flat = np.ones((4, 6), np.float32)
    monkeypatch.delenv("SOURCE_DATE_EPOCH")

    def written():
        write_exr(tmp_path / "a.exr", np.ones((4, 6, 3), np.float32), flat, flat)
        found = header(tmp_path / "a.exr")
        clock = datetime.strptime(found["capDate"][1].decode(), "%Y:%m:%d %H:%M:%S").replace(tzinfo=UTC)
        return clock.timestamp() + found["utcOffset"][1]  # the format: UTC is local time and this

    assert abs(written() - datetime.now(UTC).timestamp()) < 60
    assert abs(new_pdf("x", (100, 100)).creation_date.timestamp() - datetime.now(UTC).timestamp()) < 60
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1000000000")
    assert written() == 1e9
    assert new_pdf("x", (100, 100)).creation_date.timestamp() == 1e9


def test_a_sheet_that_differs_in_its_date_alone_stays_as_it_was(tmp_path, monkeypatch):
    def written(name, second, words):
        monkeypatch.setenv("SOURCE_DATE_EPOCH", str(second))
        pdf = new_pdf(words, (100, 100))
        pdf.add_page()
        pdf.output(tmp_path / name)
        return tmp_path / name

    target = written("sheet.pdf", 1_000_000_000, "one")
    before = target.read_bytes()
    assert not replaced_if_changed(written("fresh.pdf", 1_700_000_000, "one"), target, 1)
    assert target.read_bytes() == before
    assert replaced_if_changed(written("fresh.pdf", 1_700_000_000, "two"), target, 1)

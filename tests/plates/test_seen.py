"""Plates in the picture: blur, edges without fringes, fades, what plays, what lies on the ground."""

import numpy as np
import pytest
from PIL import Image

from kobrel.exchange.plates.layers import layers_at
from kobrel.picture.tracer import exposed, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.keys import Level, LevelKey
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import MadeCamera
from kobrel.plan.pictures.plates import Fade, PlateAnchor, Playing
from kobrel.plan.plates.edges import edge_report
from kobrel.plan.space.anchors import subject_points
from kobrel.stage.plates import Eye, FadeRule
from tests.plates.flat import a_shot, picture, plate_at, staged, the_camera

WIDE = 160


def seen(plan, stage, passes=0, frame=1001, width=WIDE):
    shot = plan.shots[0]
    camera = camera_at(plan, shot, frame, stage)
    view = View(
        stage.snapshot(frame, eye=camera.eye), camera, plan.light, width, round(width / camera.aspect)
    )
    return exposed(view, passes) if passes else sharp_picture(view)


def test_a_plate_shows_its_own_colours_and_nothing_lights_it(tmp_path):
    plan, stage = staged(plate_at(picture(tmp_path / "a.png", (255, 128, 0)), 4.0))
    for surfaces in ("plain", "clay", "full"):
        lit = plan.replace(light=plan.light.replace(surfaces=surfaces))
        middle = seen(lit, stage, 4)[40:50, 70:90]
        assert middle[..., 0] == pytest.approx(1.0, abs=1e-4)
        assert middle[..., 1] == pytest.approx(((128 / 255 + 0.055) / 1.055) ** 2.4, abs=1e-4)
        assert middle[..., 2] == pytest.approx(0.0, abs=1e-4)


def test_a_feathered_white_plate_before_white_cannot_be_seen(tmp_path):
    soft = np.full((80, 120, 4), 255, np.uint8)
    soft[..., 3] = np.linspace(0, 255, 120)[None]
    soft[soft[..., 3] == 0, :3] = 0  # what is not there is black, as many files have it
    Image.fromarray(soft).save(tmp_path / "soft.png")
    back = plate_at(picture(tmp_path / "white.png", (255, 255, 255)), 20.0, 1, height_m=40.0)
    plan, stage = staged(back, plate_at(tmp_path / "soft.png", 1.5, 2))
    found = seen(plan, stage, 8)[5:-5, 5:-5]
    assert found == pytest.approx(1.0, abs=1e-4)


@pytest.mark.parametrize("distance", [0.4, 6.0, 900.0])
@pytest.mark.parametrize("faces", [True, False])
def test_of_plates_at_one_distance_the_later_in_the_list_is_in_front(tmp_path, distance, faces):
    """Exact and quick, in layers, whichever is later; and a third one of them before both."""
    red = plate_at(picture(tmp_path / "red.png", (255, 0, 0)), distance, 1, faces=faces)
    blue = plate_at(picture(tmp_path / "blue.png", (0, 0, 255)), distance, 2, faces=faces)
    green = plate_at(picture(tmp_path / "green.png", (0, 255, 0), (40, 20, 80, 60)), distance, 3, faces=faces)
    shot = a_shot(distance)
    for plates, front in (
        ((red, blue), 2),
        ((blue, red), 0),
        ((green, blue, red), 0),
        ((red, blue, green), 1),
    ):
        plan, stage = staged(*plates, shot=shot)
        for found in (seen(plan, stage).colour, seen(plan, stage, 4)):
            middle = found[35:55, 70:90]
            assert middle[..., front] == pytest.approx(1.0, abs=1e-3)
            assert np.delete(middle, front, axis=2) == pytest.approx(0.0, abs=1e-3)
        names = [layer.name for layer in layers_at(plan, shot, stage, 1001, (32, 18), 1)]
        assert names[1:] == [plate.name for plate in plates]


def test_the_blur_of_an_edge_is_that_of_the_lens(tmp_path):
    """White before black: its edge over a disc's diameter falls as the area of a round disc does."""
    sharp = picture(tmp_path / "half.png", (255, 255, 255), (0, 0, 1000, 1000), (2000, 1000))
    black = plate_at(picture(tmp_path / "black.png", (0, 0, 0)), 60.0, 1, height_m=200.0)
    shot = a_shot(4.0)
    shot = shot.replace(
        glass=shot.glass.replace(f_number=shot.glass.f_number.replace(value=1.4)),
        iris=shot.iris.replace(blades=0),
    )
    plate = plate_at(sharp, 2.0, 2, shot)
    plan, stage = staged(black, plate, shot=shot)
    camera = camera_at(plan, shot, 1001, stage)
    width = 480
    rows = seen(plan, stage, 64, width=width)[60:-60, :, 1].mean(axis=0)
    radius = float(camera.blur_px(2.0)) * width / camera.width_px / 2
    t = np.clip((np.arange(width) + 0.5 - width / 2) / radius, -1, 1)
    wanted = 1 - (0.5 + (np.arcsin(t) + t * np.sqrt(1 - t * t)) / np.pi)
    assert np.abs(rows - wanted).max() < 0.01


def test_half_a_plate_lets_half_the_light_through(tmp_path):
    back = plate_at(picture(tmp_path / "white.png", (255, 255, 255)), 9.0, 1, height_m=30.0)
    plate = plate_at(picture(tmp_path / "black.png", (0, 0, 0)), 3.0, 2, opacity=Level(value=0.25))
    plan, stage = staged(back, plate)
    assert seen(plan, stage, 32)[20:-20, 20:-20].mean() == pytest.approx(0.75, abs=0.005)
    keyed = plate.replace(
        opacity=Level(keys=(LevelKey(frame=1001, value=0.0), LevelKey(frame=1011, value=1.0)))
    )
    plan, stage = staged(back, keyed)
    assert seen(plan, stage, 8, 1001)[20:-20, 20:-20].mean() == pytest.approx(1.0, abs=1e-3)
    assert seen(plan, stage, 32, 1006)[20:-20, 20:-20].mean() == pytest.approx(0.5, abs=0.01)


def test_a_fade_follows_blur_or_distance():
    eye = Eye(np.eye(4), 0.5, 100.0)
    by_blur = FadeRule("blur", 10.0, 50.0)
    assert by_blur.opacity(eye, 2.0) == 1.0
    assert by_blur.opacity(eye, 1 / 0.8) == pytest.approx(0.5)  # 0.3 dioptres off are 30 pixels
    away = FadeRule("distance", 4.0, 2.0)
    assert [away.opacity(eye, m) for m in (5.0, 3.0, 1.0)] == [1.0, 0.5, 0.0]


def test_a_plate_that_fades_by_blur_is_gone_when_the_focus_leaves_it(tmp_path):
    back = plate_at(picture(tmp_path / "white.png", (255, 255, 255)), 30.0, 1, height_m=90.0)
    plate = plate_at(picture(tmp_path / "black.png", (0, 0, 0)), 2.0, 2, fade=Fade(whole=2.0, gone=8.0))
    plan, stage = staged(back, plate, shot=a_shot(2.0))
    assert seen(plan, stage, 2)[20:-20, 20:-20].max() < 0.01
    plan = plan.replace(shots=(a_shot(20.0),))
    assert seen(plan, stage, 2)[20:-20, 20:-20].min() > 0.99


def test_a_plate_that_faces_the_camera_is_parallel_to_its_sensor(tmp_path):
    plate = plate_at(picture(tmp_path / "a.png"), 4.0)
    aside = MadeCamera(position_m=(3.0, 1.5, 0.0), aim_m=plate.position_m)
    plan, stage = staged(plate, shot=a_shot().replace(camera=aside))
    depth = seen(plan, stage).depth
    there = depth[np.isfinite(depth)]
    assert np.ptp(there) < 1e-4
    standing, stage = staged(plate.replace(faces=False), shot=plan.shots[0])
    there = seen(standing, stage).depth
    assert np.ptp(there[np.isfinite(there)]) > 0.5


def test_a_subject_on_a_plate_is_at_its_pivot_and_moves_with_it(tmp_path):
    from kobrel.plan.keys import PlaceKey

    plate = plate_at(picture(tmp_path / "a.png"), 4.0)
    keys = (
        PlaceKey(frame=1001, position_m=(0, 0, -4), ease="even"),
        PlaceKey(frame=1011, position_m=(1, 0, -6)),
    )
    _plan, stage = staged(plate.replace(keys=keys))
    assert subject_points(PlateAnchor(number=1), [1001, 1006], stage)[1] == pytest.approx([0.5, 0, -5])


def test_a_sequence_plays_and_is_held_looped_or_turned(tmp_path):
    for number in (1, 2, 3):
        picture(tmp_path / f"s.{number:04d}.png", (80 * number, 0, 0))
    plate = plate_at(tmp_path / "s.0001.png", 4.0)

    def reds(after):
        playing = Playing(at=1001, first=1, last=3, after=after)
        plan, stage = staged(plate.replace(picture=plate.picture.replace(playing=playing)))
        light = [seen(plan, stage, 0, frame).colour[45, 80, 0] for frame in range(1000, 1007)]
        return [round(255 * (1.055 * v ** (1 / 2.4) - 0.055)) // 80 for v in light]

    assert reds("held") == [1, 1, 2, 3, 3, 3, 3]
    assert reds("looped") == [3, 1, 2, 3, 1, 2, 3]
    assert reds("turned") == [2, 1, 2, 3, 2, 1, 2]


def test_beyond_its_edges_a_plate_is_mirrored_stretched_or_repeated(tmp_path):
    ramp = np.zeros((80, 120, 4), np.uint8)
    ramp[..., 0], ramp[..., 3] = np.linspace(0, 255, 120)[None], 255
    Image.fromarray(ramp).save(tmp_path / "ramp.png")
    small = plate_at(tmp_path / "ramp.png", 4.0, height_m=0.7)
    found = {}
    for beyond in ("nothing", "stretched", "mirrored", "repeated"):
        plan, stage = staged(small.replace(beyond=beyond, beyond_part=0.5))
        sharp = seen(plan, stage)
        row = sharp.colour[45, :, 0]
        there = np.isfinite(sharp.depth[45])
        found[beyond] = row[there], int(there.sum())
    assert found["mirrored"][1] == pytest.approx(2 * found["nothing"][1], abs=3)
    edge, middle = found["mirrored"][0][2], found["mirrored"][0][found["mirrored"][1] // 2]
    assert edge == pytest.approx(middle, abs=0.1)
    assert found["stretched"][0][2] == pytest.approx(0.0, abs=0.01)
    assert found["repeated"][0][2] == pytest.approx(middle, abs=0.1)
    assert (np.diff(found["nothing"][0]) > -1e-6).all()


def test_a_ground_lies_where_its_picture_has_it(tmp_path):
    """A picture of a ground, seen from where it was taken, is as it was; it lies flat below."""
    lines = np.full((400, 600, 4), 255, np.uint8)
    lines[300:304, :, :3] = 0
    Image.fromarray(lines).save(tmp_path / "ground.png")
    plate = plate_at(tmp_path / "ground.png", 1.0)
    plate = plate.replace(lies=True, horizon=0.5, position_m=(0, 0, 0), scale=Level(value=1.6))
    plan, stage = staged(plate)
    sharp = seen(plan, stage, width=600)
    rows = np.flatnonzero(sharp.colour[:, 300, 0] < 0.5)
    height = sharp.colour.shape[0]
    wanted = (np.array([300, 303]) + 0.5 - 200) / 600 * 600 + height / 2 - 0.5
    there = rows[rows > height / 2 + 4]
    assert there.min() == pytest.approx(wanted[0], abs=1.0)
    assert there.max() == pytest.approx(wanted[1], abs=1.0)
    y = (height * 0.9 + 0.5 - height / 2) / 600 * 2 * float(the_half(plan, stage))
    assert sharp.depth[int(height * 0.9), 300] == pytest.approx(1.6 / y, rel=0.01)


def the_half(plan, stage):
    return camera_at(plan, plan.shots[0], 1001, stage).half_widths()[0]


def test_a_plate_without_a_picture_keeps_its_place(tmp_path):
    from kobrel.plan.staging import load_stage

    plate = plate_at(picture(tmp_path / "a.png"), 4.0)
    plan, _stage = staged(plate)
    (tmp_path / "a.png").unlink()
    stage, problems = load_stage(plan)
    assert "a.png" in problems[0]
    assert subject_points(PlateAnchor(number=1), [1001], stage)[0] == pytest.approx(plate.position_m)


def test_a_small_light_behind_a_plate_is_hidden_by_its_alpha(tmp_path):
    from kobrel.plan.model import Lights, StandIn

    lamp = StandIn(
        number=1, name="Lamps", kind="scatter", size_m=(0.01, 0.01, 0.01), position_m=(0, 0, -20.0),
        lights=Lights(count=1, size_m=0.05, brightness=500.0, spread=0.0, colour=(1.0, 1.0, 1.0)),
    )  # fmt: skip
    black = picture(tmp_path / "black.png", (0, 0, 0))
    light = {}
    for alpha in (0.0, 0.5, 1.0):
        plate = plate_at(black, 6.0, opacity=Level(value=alpha))
        plan, stage = staged(plate, stand_ins=(lamp,))
        dark = plan.light.replace(key_strength=0.0, sky_strength=0.0)
        light[alpha] = seen(plan.replace(light=dark), stage, 64)[20:70, 40:120].sum().item()
    assert light[0.0] > 1
    assert light[0.5] == pytest.approx(light[0.0] / 2, rel=0.1)
    assert light[1.0] == pytest.approx(0.0, abs=1e-3 * light[0.0])


def test_a_gap_in_a_sequence_is_told_and_held_over(tmp_path):
    from kobrel import trust
    from kobrel.plan.plates.pixels import PixelCache, plate_key

    trust.allow([tmp_path])
    for number in (1, 2, 5):
        picture(tmp_path / f"s.{number:04d}.png", (50 * number, 0, 0))
    plate = plate_at(tmp_path / "s.0001.png", 4.0)
    plate = plate.replace(picture=plate.picture.replace(playing=Playing(at=1001, first=1, last=5)))
    plan, _stage = staged(plate)
    shelf = PixelCache()
    shelf.make(plate_key(plan, plate))
    assert "frames 3 to 4 are missing" in shelf.told[plate.picture.path][0]
    source = shelf.source(plate_key(plan, plate))
    assert [int(source.at(frame).rgba[0, 0, 0]) for frame in range(1001, 1006)] == [50, 100, 100, 100, 250]


def test_what_a_dial_or_a_moving_camera_would_spoil_is_told(tmp_path):
    from kobrel.plan.check import findings, shot_warnings
    from kobrel.plan.pictures.plates import Dial, Drive

    plate = plate_at(picture(tmp_path / "a.png"), 4.0)
    drives = (Drive(plate=9, what="scale", low=0, high=1), Drive(what="focus", low=1, high=2))
    plan, stage = staged(plate, dials=(Dial(name="D", drives=drives, shot="gone"),))
    assert [text for text in findings(plan, stage) if text.startswith("Dial D")] == [
        "Dial D drives a plate that no longer exists.",
        "Dial D drives the lens of shot gone, which does not exist.",
    ]
    assert any(text.startswith("a: Edge visible") for text in shot_warnings(plan, plan.shots[0], stage))
    wide = plan.replace(plates=(plate.replace(beyond="mirrored", beyond_part=0.5),))
    assert not any("Edge visible" in text for text in shot_warnings(wide, plan.shots[0], stage))


def test_an_edge_shows_where_the_frame_and_the_blur_about_it_look_past_it(tmp_path):
    """A plate that faces a camera, out of focus: beyond the frame a disc of blur reaches half of itself."""
    path = picture(tmp_path / "a.png")
    shot = a_shot(focus_m=2.0)
    camera = the_camera(shot)
    plan, stage = staged(plate_at(path, 8.0, shot=shot), shot=shot)
    frames = np.array([float(shot.first)])
    cameras = survey(plan, shot, stage, frames).camera
    (half_x, _half_y), pupil = camera.half_widths(), float(camera.pupil_mm) / 2000
    blur = pupil * abs(1 / 2.0 - 1 / 8.0)
    wanted = blur / (2 * float(half_x))  # it fills the width, and more than the height
    assert edge_report(plan, plan.plates[0], stage, cameras, frames).needed == pytest.approx(wanted, rel=1e-3)

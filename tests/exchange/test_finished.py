"""Finished frames: read from any file, understood, blurred, written; and what is wrong with them, in sentences."""

import numpy as np
import OpenImageIO as oiio
import pytest

from kobrel.cli import run_command
from kobrel.errors import KobrelError
from kobrel.exchange.images import write_picture
from kobrel.exchange.rendered.compare import compared
from kobrel.exchange.rendered.write import (
    CHANNELS,
    Choices,
    blurred_frame,
    defocus,
    target_of,
    write_frame,
    write_range,
)
from kobrel.plan.file import save_plan
from kobrel.plan.instrument import Glass
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import CameraKey, DistanceTarget, MadeCamera, Mark, Plan, SceneRef, Shot
from kobrel.plan.pictures.rendered import DepthRule, RenderedImage, calibrated, guessed, opened
from kobrel.plan.staging import Library, source_of, stage_of, staged_alike
from kobrel.plan.start import plan_from_scene
from kobrel.session.open_file import open_file
from kobrel.stage.pictures.pixels import read_pixels
from kobrel.stage.read.rendered.depth import metres
from kobrel.stage.read.rendered.frames import frames_beside, gaps, layers, path_at, read_frame
from kobrel.stage.read.rendered.relief import PICTURE, load_relief
from kobrel.stage.scene import no_progress
from tests.conftest import box_at

WIDE, TALL = 96, 54
FLAT = (np.zeros(WIDE), np.zeros(TALL))


def scene_depth():
    """A wall at 8 m, a box at 3 m before it, and nothing at the top."""
    depth = np.full((TALL, WIDE), 8.0, np.float32)
    depth[20:, 30:60] = 3.0
    depth[:6] = np.inf
    return depth


def colours():
    made = np.full((TALL, WIDE, 3), (0.2, 0.3, 0.5), np.float32)
    made[20:, 30:60] = (0.7, 0.2, 0.1)
    return made


def write(path, names, pixels, kind=oiio.FLOAT, **attributes):
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], len(names), kind)
    spec.channelnames = names
    for name, value in attributes.items():
        setattr(spec, name, value) if hasattr(spec, name) else spec.attribute(name, value)
    write_picture(path, spec, np.ascontiguousarray(pixels, np.float32))
    return path


def frame_file(path, depth=None, names=("R", "G", "B", "Z"), colour=None, kind=oiio.FLOAT):
    depth = scene_depth() if depth is None else depth
    colour = colours() if colour is None else colour
    return write(path, names, np.concatenate([colour, depth[..., None]], axis=-1), kind)


# Reading


@pytest.mark.parametrize(
    ("names", "kind"),
    [
        (("R", "G", "B", "Z"), oiio.FLOAT), (("R", "G", "B", "depth.Z"), oiio.FLOAT),
        (("beauty.R", "beauty.G", "beauty.B", "Depth"), oiio.FLOAT), (("R", "G", "B", "zdepth"), oiio.HALF),
        (("Combined.R", "Combined.G", "Combined.B", "Depth.Z"), oiio.FLOAT),
    ],
)  # fmt: skip
def test_channels_are_found_by_any_of_their_names(tmp_path, names, kind):
    finished, pixels = opened(frame_file(tmp_path / "a.exr", names=names, kind=kind))
    assert pixels.colour[30, 40] == pytest.approx((0.7, 0.2, 0.1), abs=0.002)
    found = metres(pixels.depth, finished.rule, FLAT)
    assert found[30, 40] == pytest.approx(3.0, abs=0.01)
    assert np.isinf(found[0, 0])


def test_layers_are_chosen(tmp_path):
    names = ("key.R", "key.G", "key.B", "fill.R", "fill.G", "fill.B", "Z", "other.Z")
    pixels = np.concatenate(
        [colours(), colours() * 2, scene_depth()[..., None], scene_depth()[..., None] * 100], -1
    )
    path = write(tmp_path / "a.exr", names, pixels)
    assert layers(path) == (["fill", "key"], ["Z", "other.Z"])
    read = read_frame(RenderedImage(path=str(path), layer="fill", depth_channel="other.Z"))
    assert read.colour[30, 40, 0] == pytest.approx(1.4)
    assert read.depth[30, 40] == pytest.approx(300.0)
    with pytest.raises(KobrelError, match="no layer rim"):
        read_frame(RenderedImage(path=str(path), layer="rim"))


def test_parts_of_a_file_are_read(tmp_path):
    path = str(tmp_path / "parts.exr")
    specs = []
    for name, channels in (("rgba", ("R", "G", "B")), ("deep_thought", ("Z",))):
        spec = oiio.ImageSpec(WIDE, TALL, len(channels), oiio.FLOAT)
        spec.channelnames = channels
        spec.attribute("name", name)
        specs.append(spec)
    out = oiio.ImageOutput.create(path)
    assert out.open(path, tuple(specs))
    out.write_image(colours())
    assert out.open(path, specs[1], "AppendSubimage")
    out.write_image(scene_depth()[..., None])
    out.close()
    finished, pixels = opened(tmp_path / "parts.exr")
    assert metres(pixels.depth, finished.rule, FLAT)[30, 40] == pytest.approx(3.0)


def test_a_data_window_is_put_in_its_place(tmp_path):
    path = tmp_path / "window.exr"
    spec = oiio.ImageSpec(40, 20, 4, oiio.FLOAT)
    spec.channelnames = ("R", "G", "B", "Z")
    spec.x, spec.y, spec.full_x, spec.full_y, spec.full_width, spec.full_height = 10, 5, 0, 0, 60, 30
    write_picture(path, spec, np.full((20, 40, 4), 2.0, np.float32))
    read = read_frame(RenderedImage(path=str(path)))
    assert read.colour.shape == (30, 60, 3)
    assert read.colour[5, 10, 0] == 2.0
    assert read.colour[4, 10, 0] == 0.0


def test_picture_and_depth_may_lie_apart_in_8_and_16_bits(tmp_path):
    bits = np.clip(colours(), 0, 1)
    write(tmp_path / "p.png", ("R", "G", "B"), bits, oiio.UINT8)
    near_white = np.where(np.isfinite(scene_depth()), 1.0 - scene_depth() / 10.0, 0.0)[..., None]
    write(tmp_path / "d.tif", ("Y",), near_white, oiio.UINT16)
    finished, pixels = opened(tmp_path / "p.png", tmp_path / "d.tif")
    assert pixels.colour[30, 40, 0] == pytest.approx(((0.7 + 0.055) / 1.055) ** 2.4, abs=0.01)  # sRGB in
    assert finished.rule.kind == "even"
    assert finished.rule.flipped
    rule = finished.rule.replace(near_m=0.0001, far_m=10.0)
    assert metres(pixels.depth, rule, FLAT)[30, 40] == pytest.approx(3.0, abs=0.01)
    write(tmp_path / "d8.png", ("Y",), near_white, oiio.UINT8)
    assert "steps only" in " ".join(opened(tmp_path / "p.png", tmp_path / "d8.png")[1].told)


@pytest.mark.parametrize(
    ("rule", "values", "expected"),
    [
        (DepthRule(unit_m=0.01), [300.0, 1e10, np.inf], [3.0, np.inf, np.inf]),
        (DepthRule(negative=True), [-3.0, -0.5, 2.0], [3.0, 0.5, np.inf]),
        (DepthRule(zero_is_nothing=True), [3.0, 0.0, np.nan], [3.0, np.inf, np.inf]),
        (DepthRule(kind="inverse"), [0.5, 0.0, 2.0], [2.0, np.inf, 0.5]),
        (DepthRule(kind="even", near_m=1.0, far_m=11.0), [0.0, 0.5, 1.0], [1.0, 6.0, 11.0]),
        (DepthRule(kind="even", near_m=1.0, far_m=11.0, flipped=True), [0.0, 0.5, 1.0], [11.0, 6.0, 1.0]),
        (DepthRule(kind="dioptres", near_m=1.0, far_m=4.0), [0.0, 1.0, 0.5], [1.0, 4.0, 1.6]),
    ],
)  # fmt: skip
def test_depth_counts_as_its_rule_says(rule, values, expected):
    row = np.asarray([values], np.float32)
    assert metres(row, rule, (np.zeros(3), np.zeros(1)))[0] == pytest.approx(expected, rel=1e-5)


def test_straight_distances_are_brought_to_the_axis():
    straight = np.full((1, 2), 5.0, np.float32)
    found = metres(straight, DepthRule(straight=True), (np.array([0.0, 0.75]), np.zeros(1)))
    assert found[0] == pytest.approx([5.0, 4.0])


@pytest.mark.parametrize(
    ("factor", "unit"), [(1.0, 1.0), (100.0, 0.01), (1000.0, 0.001), (-1.0, 1.0)]
)  # fmt: skip
def test_unit_and_sign_are_guessed(factor, unit):
    rule = guessed(scene_depth() * factor, False, 4.0)
    assert rule.unit_m == unit
    assert rule.negative == (factor < 0)
    assert rule.kind == "distance"


@pytest.mark.parametrize("focus_m", [None, 0.0, 5.0, 1e7, np.inf])
def test_what_depth_means_is_guessed_whatever_the_focus(focus_m):
    for values, whole in ((scene_depth() / 20, True), (scene_depth() * 100, False)):
        rule = guessed(values, whole, focus_m)
        assert np.isfinite([rule.near_m, rule.far_m, rule.unit_m]).all()


def test_a_known_distance_calibrates():
    rule = calibrated(DepthRule(unit_m=1.0), 300.0, 3.0)
    assert rule.unit_m == pytest.approx(0.01)
    even = calibrated(DepthRule(kind="even", near_m=0.5, far_m=100.0), 10.0, 5.0)
    assert (even.near_m, even.far_m) == pytest.approx((0.25, 50.0))


# What is wrong


def deep_file(path):
    spec = oiio.ImageSpec(8, 8, 5, oiio.FLOAT)
    spec.channelnames = ("R", "G", "B", "A", "Z")
    spec.deep = True
    data = oiio.DeepData()
    data.init(spec)
    for pixel in range(64):
        data.set_samples(pixel, 1)
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec)
    out.write_deep_image(data)
    out.close()


def test_what_cannot_be_read_is_told(tmp_path):
    whole = frame_file(tmp_path / "whole.exr").read_bytes()
    (tmp_path / "cut.exr").write_bytes(whole[: len(whole) // 2])
    (tmp_path / "text.exr").write_text("no picture")
    deep_file(tmp_path / "deep.exr")
    write(tmp_path / "flat.exr", ("R", "G", "B"), colours())
    write(tmp_path / "small.exr", ("Z",), scene_depth()[::2, ::2, None])
    for name, said in (
        ("cut.exr", "broken"), ("text.exr", "not a readable picture"), ("deep.exr", "deep picture"),
        ("flat.exr", "no depth channel"), ("gone.exr", "no such file"), ("whole.txt", "end in .exr"),
    ):  # fmt: skip
        with pytest.raises(KobrelError, match=said) as caught:
            opened(tmp_path / name)
        assert name in str(caught.value)
    with pytest.raises(KobrelError, match="48 x 27, the picture 96 x 54"):
        opened(tmp_path / "flat.exr", tmp_path / "small.exr")


def test_numbers_that_are_none_are_told_and_harmless(tmp_path):
    depth, colour = scene_depth(), colours()
    depth[30, 30] = np.nan
    colour[10, 10] = np.nan
    finished, pixels = opened(frame_file(tmp_path / "nan.exr", depth, colour=colour))
    assert len(pixels.told) == 2
    plan, stage = plan_from_scene(tmp_path / "nan.exr", load_relief(finished), finished=finished)
    made = blurred_frame(pixels, finished, camera_at(plan, plan.shots[0], 1001, stage), Choices())
    assert np.isfinite(made.colour).all()


# Sequences


@pytest.fixture
def sequence(tmp_path):
    """A box that comes nearer; frame 12 is missing."""
    for frame in (10, 11, 13):
        depth = scene_depth()
        depth[20:, 30:60] = 3.0 - 0.5 * (frame - 10)
        frame_file(tmp_path / f"shot.{frame:04d}.exr", depth)
    return tmp_path / "shot.0010.exr"


def test_a_sequence_is_read_by_its_numbers(sequence):
    assert frames_beside(sequence) == [10, 11, 13]
    assert gaps([10, 11, 13]) == "12"
    assert path_at(str(sequence), 13, True).name == "shot.0013.exr"
    finished, _pixels = opened(sequence)
    assert finished.sequence
    assert read_frame(finished, 13).depth[30, 40] == pytest.approx(1.5)
    with pytest.raises(KobrelError, match=r"shot\.0012\.exr"):
        read_frame(finished, 12)


def test_a_relief_stands_in_for_the_scene(sequence):
    finished, _pixels = opened(sequence)
    scene = load_relief(finished)
    assert any("12 are missing" in text for text in scene.warnings)
    plan, stage = plan_from_scene(sequence, scene, finished=finished)
    shot = plan.shots[0]
    assert (shot.first, shot.last, shot.finished) == (10, 13, plan.scenes[0].name)
    stage.prepare()
    for frame, expected in ((10, 3.0), (11, 2.5), (13, 1.5)):
        camera = camera_at(plan, shot, frame, stage)
        pick = stage.pick(frame, *camera.ray(45, 40, WIDE, TALL))
        assert float(camera.see(pick.point).axial_m) == pytest.approx(expected, rel=0.01)
        assert pick.place.path == PICTURE
    wall = stage.pick(10, *camera.ray(20, 40, WIDE, TALL))
    assert float(camera.see(wall.point).axial_m) == pytest.approx(8.0, rel=0.01)


def test_opened_as_a_file_it_is_a_plan_ready_to_work_on(sequence):
    made = open_file(sequence, no_progress)
    assert made.plan.shots[0].finished
    assert made.stage.built
    library = Library()
    library.read(made.plan)
    assert library.problems == {}
    assert stage_of(made.plan, library).triangle_count > 1000


def test_a_finished_picture_is_not_on_the_stage_of_a_scene(sequence, looking_at, demo):
    finished, _pixels = opened(sequence)
    plan, _stage = plan_from_scene(sequence, load_relief(finished), finished=finished)
    both = demo[0].replace(scenes=(*demo[0].scenes, plan.scenes[0]))
    library = Library()
    library.read(both)
    assert list(stage_of(both, library).scenes)[:1] == [demo[0].scenes[0].name]
    assert plan.scenes[0].name not in stage_of(both, library).scenes


def planned(sequence):
    finished, _pixels = opened(sequence)
    plan, stage = plan_from_scene(sequence, load_relief(finished), finished=finished)
    marks = (Mark(frame=10, target=DistanceTarget(metres=3.0)),)
    return plan.replace(shots=(plan.shots[0].replace(marks=marks),)), stage, finished


def seen_through(plan, shot, frame, stage, right, down):
    """What stands at a place of a shot's picture: by a ray, and as the camera sees it."""
    camera = camera_at(plan, shot, frame, stage)
    stage = stage.of_shot(shot.name)
    stage.prepare()
    pick = stage.pick(frame, *camera.ray(right * WIDE, down * TALL, WIDE, TALL), camera.eye)
    return camera.see(pick.point), camera


@pytest.mark.parametrize("glass", [{}, {"shift_mm": (3.0, -2.0)}, {"model": "thin"}])
def test_each_shot_has_its_own_picture_before_its_own_camera(tmp_path, glass):
    """Three shots with three pictures: one still, one that moves and zooms, one aside and rolled."""
    moving = MadeCamera(
        position_m=(0, 1.6, 6),
        aim_m=(0, 1.6, 0),
        keys=(
            CameraKey(frame=1, position_m=(0, 1.6, 6), aim_m=(0, 1.6, 0)),
            CameraKey(frame=9, position_m=(5, 3, -2), aim_m=(0, 0, -20), roll_deg=12),
        ),
    )
    cameras = (
        MadeCamera(position_m=(0, 1.6, 6), aim_m=(0, 1.6, 0)),
        moving,
        MadeCamera(position_m=(-40, 9, 3), aim_m=(7, 2, 30), roll_deg=-20),
    )
    shots, scenes, walls = [], [], (8.0, 15.0, 31.0)
    zoom = Keyed(value=50, keys=(Key(frame=1, value=35), Key(frame=9, value=90)))
    for number, (camera, wall) in enumerate(zip(cameras, walls, strict=True), 1):
        depth = scene_depth()
        depth[depth == 8.0] = wall
        path = frame_file(tmp_path / f"p{number}.exr", depth)
        reference = SceneRef(name=f"p{number}", path=str(path), finished=RenderedImage(path=str(path)))
        lens = Glass(focal_mm=zoom if number == 2 else Keyed(value=50), **glass)
        scenes.append(reference)
        shots.append(
            Shot(name=str(number), first=1, last=9, camera=camera, glass=lens, finished=reference.name)
        )
    plan = Plan(scenes=tuple(scenes), shots=tuple(shots))
    library = Library({source_of(each): load_relief(each.finished) for each in scenes})
    stage = stage_of(plan, library)
    for shot, wall in zip(shots, walls, strict=True):
        for frame in (1, 4, 9):
            for right, down in ((0.253, 0.511), (0.45, 0.6), (0.803, 0.907)):
                seen, camera = seen_through(plan, shot, frame, stage, right, down)
                part = min(1.0, float(camera.half_widths()[0]) / 0.36)  # a longer lens shows the middle
                x, y = (int((0.5 + (at - 0.5) * part) * side) for at, side in ((right, WIDE), (down, TALL)))
                assert float(seen.axial_m) == pytest.approx(
                    {8.0: wall, 3.0: 3.0}[scene_depth()[y, x]], rel=1e-4
                )
                assert float(seen.x_px) / camera.width_px == pytest.approx(right, abs=1e-4)
    again = stage_of(plan, library, stage)
    for shot in shots:
        assert again.of_shot(shot.name) is not again
        assert again.of_shot(shot.name).built  # nothing is built anew for the same plan
    moved = plan.replace(shots=(shots[0].replace(camera=cameras[2]), *shots[1:]))
    assert not staged_alike(plan, moved)
    assert staged_alike(plan, plan.replace(shots=(shots[0].replace(title="x"), *shots[1:])))


def test_a_plan_opened_on_a_picture_keeps_its_camera_when_the_picture_is_let_go(sequence):
    plan = open_file(sequence, no_progress).plan
    shot = plan.shots[0].replace(finished="")
    bare = plan.replace(shots=(shot,))
    library = Library({source_of(each): load_relief(each.finished) for each in plan.scenes})
    stage = stage_of(bare, library)
    assert camera_at(bare, shot, shot.first, stage) is not None
    assert stage.of_shot(shot.name).pick(shot.first, (0, 0, 0), (0, 0, -1)) is None


def test_frames_are_written_and_whole_ones_are_kept(sequence, tmp_path):
    plan, stage, finished = planned(sequence)
    path, shot = tmp_path / "out.exr", plan.shots[0]
    assert defocus(plan, shot, stage, finished, [10, 11], Choices(), path, no_progress) == []
    first = target_of(path, 10)
    source = oiio.ImageInput.open(str(first))
    assert source.spec().channelnames == CHANNELS
    pixels = source.read_image(oiio.FLOAT)
    source.close()
    assert pixels[30, 45, 3] == pytest.approx(3.0)
    assert pixels[30, 45, 5] == 1.0  # in focus
    assert pixels[30, 5, 4] > 0
    before = first.stat().st_mtime_ns
    target_of(path, 11).unlink()
    defocus(plan, shot, stage, finished, [10, 11], Choices(), path, no_progress)
    assert first.stat().st_mtime_ns == before
    assert target_of(path, 11).exists()
    assert not list(tmp_path.glob(".*part*"))
    defocus(plan, shot, stage, finished, [10, 11], Choices(), tmp_path / "out.mp4", no_progress)
    assert (tmp_path / "out.mp4").stat().st_size > 500
    defocus(plan, shot, stage, finished, None, Choices(), tmp_path / "one.png", no_progress)
    assert (tmp_path / "one.png").exists()
    assert write_range(plan, shot, stage, 10, 10, tmp_path / "r.exr", no_progress) == []
    assert write_frame(plan, shot, 10, stage, tmp_path / "f.exr") == []
    assert np.array_equal(*(read_pixels(tmp_path / name)[0] for name in ("f.exr", "r.0010.exr")))
    with pytest.raises(KobrelError, match="no frame from 40 to 50"):
        write_range(plan, shot, stage, 40, 50, tmp_path / "r.exr", no_progress)
    with pytest.raises(KobrelError, match="no rendered image"):
        write_frame(plan, shot.replace(finished=""), 10, stage, tmp_path / "f.exr")


def test_numbers_without_zeros_before_are_a_sequence_too(tmp_path):
    for frame in (8, 9, 10, 11):
        frame_file(tmp_path / f"seq.{frame}.exr", np.full((TALL, WIDE), float(frame), np.float32))
        frame_file(tmp_path / f"wide.{frame:04d}.exr", np.full((TALL, WIDE), float(frame), np.float32))
    for given in ("seq.8.exr", "seq.10.exr", "wide.0010.exr"):
        finished = opened(tmp_path / given)[0]
        for frame in (8, 9, 10, 11):
            assert read_frame(finished, frame).depth[0, 0] == frame
    assert path_at(str(tmp_path / "none.10.exr"), 9, True).name == "none.09.exr"


def test_a_single_picture_is_blurred_as_the_frame_that_it_shows(tmp_path, capsys):
    """By its name, or as it is said; where neither tells, it is asked for. The lens closes over the shot."""
    stop = Keyed(value=2, keys=(Key(frame=1, value=1.4), Key(frame=9, value=22)))
    camera = MadeCamera(position_m=(0, 1.6, 6), aim_m=(0, 1.6, 0))
    mark = Mark(frame=1, target=DistanceTarget(metres=8))
    shot = Shot(name="1", first=1, last=9, camera=camera, glass=Glass(f_number=stop), marks=(mark,))
    save_plan(Plan(shots=(shot,)), tmp_path / "p.kobrel")
    for name in ("sharp.0009.exr", "sharp9.v2000.exr", "still.exr"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        frame_file(tmp_path / name)

    def blurred(name, *more):
        (tmp_path / "out.exr").unlink(missing_ok=True)
        status = run_command(
            ["defocus", str(tmp_path / name), "--plan", str(tmp_path / "p.kobrel"), "-o", str(tmp_path / "out.exr"),
             "--kind", "distance", *more]
        )  # fmt: skip
        told = capsys.readouterr().err
        return status, told, read_pixels(tmp_path / "out.exr")[0] if status == 0 else None

    (_, told, wide_open), (_, _, closed) = (
        blurred("still.exr", "--frame", "1"),
        blurred("still.exr", "--frame", "9"),
    )
    assert "frame 1 of shot 1" in told
    assert not np.allclose(wide_open, closed)
    status, told, named = blurred("sharp.0009.exr")
    assert (status, "frame 9 of shot 1" in told) == (0, True)
    np.testing.assert_array_equal(named, closed)
    for name in ("still.exr", "sharp9.v2000.exr"):
        status, told, _ = blurred(name)
        assert status == 2
        assert "Say --frame; shot 1 has 1 to 9." in told


def test_a_sequence_that_changes_its_size_is_told(sequence, tmp_path):
    plan, stage, finished = planned(sequence)
    write(tmp_path / "shot.0011.exr", ("R", "G", "B", "Z"), np.ones((20, 30, 4), np.float32))
    with pytest.raises(KobrelError, match=r"30 x 20, the frames before it 96 x 54.*|shot\.0011"):
        defocus(plan, plan.shots[0], stage, finished, [10, 11], Choices(), tmp_path / "x.exr", no_progress)
    with pytest.raises(KobrelError, match="written as"):
        defocus(plan, plan.shots[0], stage, finished, [10], Choices(), tmp_path / "x.gif", no_progress)


def test_ways_to_blur_are_compared_with_the_exact_picture(tmp_path, looking_at):
    plan, shot, stage = looking_at(
        box_at((0.0, 0.0, -8.0), (30.0, 30.0, 0.1)), box_at((0.0, -1.0, -3.0), (1.0, 2.0, 0.1), "/b"),
        marks=(Mark(frame=1, target=DistanceTarget(metres=3.0)),), width_px=96,
    )  # fmt: skip
    from kobrel.exchange.render import render_frame

    path = tmp_path / "sharp.exr"
    render_frame(plan, shot, 1, stage, (WIDE, 64), 16, path, no_progress, sharp=True)
    finished, _pixels = opened(path)
    found = compared(plan, stage, camera_at(plan, shot, 1, stage), finished, 1, no_progress)
    assert next(way.method for way in found.ways) == "layered"
    assert found.off_percent < 0.1
    assert all(way.seconds > 0 for way in found.ways)

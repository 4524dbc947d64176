"""What files from everywhere may hold: each class that harmed once is refused in a sentence, or mended."""

import json
import zipfile

import numpy as np
import pytest
from pydantic import ValidationError

from kobrel.cli import run_command
from kobrel.errors import ExchangeError, KobrelError, PartError, PlanError, SceneError
from kobrel.exchange.marks import read_marks
from kobrel.exchange.timeline import read_list
from kobrel.optics.units import measure
from kobrel.plan.edit import unused
from kobrel.plan.file import open_plan
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import MOST_SHOTS, Plan, Shot
from kobrel.plan.sequence.shots import with_list
from kobrel.plan.staging import load_stage
from kobrel.plan.start import empty_plan
from kobrel.stage.pictures import pixels
from kobrel.stage.pictures.environment import load_environment
from kobrel.stage.pictures.pixels import open_image, read_pixels
from kobrel.stage.pictures.textures import pack
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Texture
from kobrel.stage.stage import Stage

NUMBERS = (float("nan"), float("inf"), -1e300, 1e300, -1.0)


def plan_file(tmp_path, change):
    content = json.loads(empty_plan().model_dump_json())
    change(content)
    path = tmp_path / "x.kobrel"
    path.write_text(json.dumps(content))
    return path


def refused(capsys, *arguments):
    status = run_command([str(a) for a in arguments])
    out, err = capsys.readouterr()
    assert (status, out) == (2, "")
    assert err.count("\n") == 1
    return err


# Plans


@pytest.mark.parametrize("number", NUMBERS)
@pytest.mark.parametrize(
    "place",
    [
        ("light", "key_strength"), ("light", "exposure_ev"), ("light", "zenith", 1), ("shots", 0, "fps"),
        ("shots", 0, "glass", "squeeze"), ("shots", 0, "glass", "cone_deg"), ("shots", 0, "marks", 0, "frame"),
        ("shots", 0, "camera", "near_clip_m"), ("shots", 0, "last"), ("shots", 0, "width_px"),
    ],
)  # fmt: skip
def test_numbers_of_a_plan_are_within_bounds(tmp_path, capsys, place, number):
    def put(content):
        here = content
        for part in place[:-1]:
            here = here[part]
        here[place[-1]] = number

    path = plan_file(tmp_path, put)
    if place == ("light", "zenith", 1) and number == -1.0:
        open_plan(path)  # a colour below nought is odd, but harmless
        return
    if place[-1] in ("frame", "exposure_ev") and number == -1.0:
        return  # so is a mark before the shot, and a darker picture
    assert str(path) in refused(capsys, "check", path)


@pytest.mark.parametrize("last", [25_000, 10**9, 10**15])
def test_a_shot_is_as_long_as_can_be_worked_with(tmp_path, capsys, last):
    path = plan_file(tmp_path, lambda c: c["shots"][0].update(first=0, last=last))
    told = refused(capsys, "survey", path)
    assert "20000 frames at most" in told or "1000000" in told


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (lambda c: c.update(shots=[{**c["shots"][0], "name": f"{k}"} for k in range(MOST_SHOTS + 1)]), "at most 2000"),
        (lambda c: c["shots"][0]["iris"].update(blades=100_000), "blades"),
        (lambda c: c.update(scenes=[{"name": "s", "path": "a\0b"}]), "path"),
        (lambda c: c.update(scenes=[{"name": "s", "path": "x" * 5000}]), "path"),
        (lambda c: c.update(format=True), "no format number"),
        (lambda c: c.update(format=-3), "format -3 is not known"),
        (lambda c: c.update(later=[[[[[[0] * 3]]]] * 2]), None),
    ],
)  # fmt: skip
def test_counts_and_paths_of_a_plan_are_within_bounds(tmp_path, change, why):
    path = plan_file(tmp_path, change)
    if why is None:
        assert open_plan(path).model_extra
        return
    with pytest.raises(PlanError, match=why):
        open_plan(path)


@pytest.mark.parametrize("name", ["/dev/zero", "/etc", "/etc/passwd", "gone.usda", ""])
def test_a_plan_names_what_is_no_scene(tmp_path, name):
    for put in (
        lambda c: c.update(scenes=[{"name": "s", "path": name}]),
        lambda c: c["light"].update(surround={"path": name}),
    ):
        plan = open_plan(plan_file(tmp_path, put))
        _stage, problems = load_stage(plan)
        assert len(problems) == 1
        assert survey(plan, plan.shots[0], Stage()) is not None


def test_edits_cannot_leave_the_bounds_either():
    shot = empty_plan().shots[0]
    with pytest.raises(PartError):
        shot.replace(fps=float("nan"))
    with pytest.raises(ValidationError):
        Shot.model_validate({**dict(shot), "last": 10**7})
    with pytest.raises(ValidationError):
        Plan(light={"key_strength": float("inf")})


# Lists


def clip(first, count, rate, name="c"):
    time = lambda value: {"OTIO_SCHEMA": "RationalTime.1", "rate": rate, "value": value}  # noqa: E731
    span = {"OTIO_SCHEMA": "TimeRange.1", "start_time": time(first), "duration": time(count)}
    return {
        "OTIO_SCHEMA": "Clip.1",
        "name": name,
        "source_range": span,
        "media_reference": None,
        "markers": [],
        "effects": [],
        "metadata": {},
    }


def listed(tmp_path, *clips):
    track = {
        "OTIO_SCHEMA": "Track.1",
        "name": "v",
        "kind": "Video",
        "children": list(clips),
        "markers": [],
        "effects": [],
        "metadata": {},
    }
    stack = {
        "OTIO_SCHEMA": "Stack.1",
        "name": "s",
        "children": [track],
        "markers": [],
        "effects": [],
        "metadata": {},
    }
    path = tmp_path / "x.otio"
    path.write_text(json.dumps({"OTIO_SCHEMA": "Timeline.1", "name": "t", "tracks": stack, "metadata": {}}))
    return path


@pytest.mark.parametrize(
    "odd",
    [
        clip(0, 10**9, 24.0),
        clip(10**15, 5, 24.0),
        clip(0, 5, 1e9),
        clip(float("nan"), 5, 24.0),
        clip(0, 5, 0.0),
    ],
)
def test_clips_that_no_shot_can_be_are_refused(tmp_path, odd):
    with pytest.raises(ExchangeError, match=r"x\.otio"):
        read_list(listed(tmp_path, odd))


def test_a_list_of_many_clips_is_quick_or_refused(tmp_path):
    found = read_list(listed(tmp_path, *[clip(0, 10, 24.0) for _ in range(MOST_SHOTS - 1)]))
    assert len({entry.name for entry in found}) == MOST_SHOTS - 1
    plan = empty_plan()
    assert len(with_list(plan, found, 0, Stage()).shots) == MOST_SHOTS
    with pytest.raises(ExchangeError, match="9000 clips; up to 2000"):
        read_list(listed(tmp_path, *[clip(0, 10, 24.0)] * 9000))


def test_unused_names_are_found_among_many():
    taken = {"a", *(f"a {k}" for k in range(2, 30_000))}
    assert unused("a", taken) == "a 30000"
    assert unused("a", ["a", "a 3"]) == "a 2"


def test_a_package_is_not_unpacked_to_burst(tmp_path):
    path = tmp_path / "bomb.otioz"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("content.otio", b" " * (65 << 20))
        made.writestr("../../escaped.txt", b"x")
    with pytest.raises(ExchangeError, match="too large"):
        read_list(path)
    assert not (tmp_path.parent.parent / "escaped.txt").exists()


def test_marks_lie_within_the_frames_that_there_are():
    with pytest.raises(ExchangeError, match="Line 1: frames lie within 1,000,000"):
        read_marks("99999999999\t3 m\n", empty_plan(), measure("m"))


@pytest.mark.parametrize("distance", ["0", "0 mm", "1e12 m", "1e-12 m"])
def test_a_mark_at_no_distance_is_told(distance):
    with pytest.raises(ExchangeError, match="Line 1"):
        read_marks(f"1001\t{distance}\n", empty_plan(), measure("m"))


# Pictures


@pytest.fixture
def head_only(tmp_path):
    """A picture that says it is as large as one likes, and holds nothing."""

    def make(width, height):
        path = tmp_path / "x.hdr"
        path.write_bytes(
            f"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y {height} +X {width}\n".encode() + bytes(100)
        )
        return path

    return make


@pytest.mark.parametrize("size", [(100_000, 10), (60_000, 60_000), (2**31 - 1, 1)])
def test_pictures_are_as_large_as_can_be_held(head_only, size):
    with pytest.raises(SceneError, match=r"x\.hdr"):
        load_environment(head_only(*size))


def test_memory_for_a_picture_is_asked_for(tmp_path, monkeypatch):
    from PIL import Image

    Image.new("RGB", (64, 64)).save(tmp_path / "x.png")

    def none(*_arguments):
        raise SceneError("there is not so much memory.")

    monkeypatch.setattr(pixels, "require_memory", none)
    for read in (read_pixels, open_image):
        with pytest.raises(SceneError, match="not so much memory"):
            read(tmp_path / "x.png")


def test_textures_that_cannot_be_read_are_drawn_grey(tmp_path):
    (tmp_path / "x.png").write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(40))
    block, told = pack(
        [Texture("a", path=tmp_path / "x.png"), Texture("b", content=b"no picture"), Texture("c")]
    )
    assert len(told) == 3
    assert np.unique(block.pixels).tolist() == [188]


# Scenes, and what the command line writes


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("x.obj", "v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"), ("x.obj", "f 1 2 3\n"), ("x.obj", "v 0 0\nv 1 0\nf 1 2\n"),
        ("x.ply", "ply\nformat ascii 1.0\nelement vertex 999999999999\nproperty float x\nend_header\n"),
        ("x.stl", bytes(80) + b"\xff\xff\xff\xff" + bytes(50)), ("x.gltf", "[" * 5000), ("x.glb", b"glTF" + bytes(9)),
        ("x.usdc", b"PXR-USDC" + bytes(200)), ("x.abc", b"Ogawa" + bytes(200)), ("x.usda", "#usda 1.0\ndef"),
    ],
)  # fmt: skip
def test_scenes_without_a_usable_face_are_refused_or_told(tmp_path, name, content):
    path = tmp_path / name
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    try:
        scene = load_scene(path)
    except KobrelError as error:
        assert name in str(error)
    else:
        assert scene.triangle_count == 0
        assert scene.warnings


def test_nothing_is_written_over_without_force(tmp_path, capsys):
    from tests.conftest import DEMO

    (tmp_path / "x.csv").write_text("mine")
    (tmp_path / "p.1040.png").write_text("mine")
    shared = ("--shot", "02", "-o")
    assert "--force" in refused(capsys, "export", DEMO, "--as", "csv", *shared, tmp_path / "x.csv")
    assert "p.1040.png" in refused(
        capsys, "movie", DEMO, "--first", 1040, "--last", 1040, "--size", "32x18", *shared, tmp_path / "p.png"
    )
    assert (tmp_path / "x.csv").read_text() == "mine"
    assert run_command(["export", str(DEMO), "--as", "csv", "--force", *shared, str(tmp_path / "x.csv")]) == 0
    assert (tmp_path / "x.csv").read_text() != "mine"


def test_folders_are_allowed_told_and_forgotten(tmp_path, capsys):
    assert run_command(["allow", str(tmp_path)]) == 0
    assert str(tmp_path) in capsys.readouterr().out.splitlines()
    assert run_command(["allow", "--forget", str(tmp_path)]) == 0
    assert str(tmp_path) not in capsys.readouterr().out


def test_a_fault_inside_is_one_line_and_another_status(monkeypatch, capsys, tmp_path):
    def broken(*_arguments, **_more):
        raise ZeroDivisionError("inside")

    monkeypatch.setattr("kobrel.plan.file.open_plan", broken)
    monkeypatch.delenv("KOBREL_DEBUG", raising=False)
    assert run_command(["check", str(tmp_path / "x.kobrel")]) == 70
    told = capsys.readouterr().err
    assert "something went wrong inside (ZeroDivisionError: inside)" in told
    assert told.count("\n") == 1
    monkeypatch.setenv("KOBREL_DEBUG", "1")
    with pytest.raises(ZeroDivisionError):
        run_command(["check", str(tmp_path / "x.kobrel")])

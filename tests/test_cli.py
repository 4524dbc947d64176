import contextlib
import json
import subprocess
import sys

import numpy as np
import OpenImageIO as oiio
import pytest
from pxr import Usd

from kobrel.cli import run_command
from kobrel.cli.manual import commands
from kobrel.exchange.cameras.back import read_camera
from kobrel.exchange.sheet import content
from kobrel.plan.edit import with_shot
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.keys import Keyed
from kobrel.plan.lens_sets.lenses import shipped_lens_sets
from kobrel.stage.pictures.pixels import read_pixels
from tests.conftest import DEMO

LIMITS = ["limits", "--focal", "50", "--stop", "8", "--focus", "10", "--sensor", "36x24"]


def header(path):
    """What the header of a picture says about its noise."""
    opened = oiio.ImageInput.open(str(path))
    return opened.spec().getattribute("ImageDescription")


def run(capsys, *arguments):
    status = run_command([str(a) for a in arguments])
    captured = capsys.readouterr()
    return status, captured.out, captured.err


def refused(capsys, *arguments):
    """Bad input: status 2, one line on stderr, nothing on stdout."""
    status, out, err = run(capsys, *arguments)
    assert (status, out) == (2, "")
    assert err.startswith("kobrel: ")
    assert err.count("\n") == 1
    return err


def test_limits_as_json(capsys):
    status, out, _ = run(capsys, *LIMITS, "--coc-mm", "0.03", "--at", "3", "--json")
    got = json.loads(out)
    assert status == 0
    assert got["near_m"] == pytest.approx(5.1020408, rel=1e-7)
    assert got["far_m"] == pytest.approx(250)
    assert got["blur_mm"] == pytest.approx(0.072916667, rel=1e-7)
    assert got["blur_px"] is None
    assert got["model"] == "render"
    assert set(got) == {
        "near_m", "far_m", "depth_m", "hyperfocal_m", "pupil_mm", "blur_mm", "blur_px", "background_blur_mm",
        "background_blur_px", "angle_h_deg", "angle_v_deg", "magnification", "model",
    }  # fmt: skip


def test_limits_at_a_blur_in_pixels(capsys):
    _, out, _ = run(
        capsys, *LIMITS, "--blur-px", "1.6", "--width", "1920", "--model", "thin", "--at", "3", "--json"
    )
    got = json.loads(out)
    assert got["near_m"] == pytest.approx(5.1145663, rel=1e-7)
    assert got["blur_px"] == pytest.approx(3.9084310, rel=1e-7)
    _, out, _ = run(capsys, *LIMITS, "--coc-mm", "0.05", "--json")
    assert json.loads(out)["far_m"] is None


def test_limits_in_words(capsys):
    _, out, _ = run(capsys, *LIMITS, "--coc-mm", "0.03", "--at", "3")
    assert "Near limit       5.10 m" in out
    assert "Far limit        250 m" in out


@pytest.mark.parametrize(
    ("more", "message"),
    [
        ([], "Give either --coc-mm, or --blur-px"),
        (["--coc-mm", "0.03", "--blur-px", "2"], "Give either"),
        (["--blur-px", "2"], "--width"),
        (["--coc-mm", "-1"], "above 0"),
        (["--coc-mm", "nan"], "above 0"),
        (["--coc-mm", "0.03", "--model", "pinhole"], "pinhole"),
        (["--coc-mm", "0.03", "--sensor", "36by24"], "not a size"),
        (["--coc-mm", "0.03", "--focus", "0.04", "--model", "thin"], "cannot focus nearer"),
        (["--coc-mm", "0.03", "--bokeh"], "--bokeh"),
    ],
)
def test_limits_refuse_bad_input(capsys, more, message):
    assert message in refused(capsys, *LIMITS, *more)


def test_new_survey_export_check_render(capsys, moving_scene, tmp_path):
    plan = tmp_path / "p.kobrel"
    assert run(capsys, "new", moving_scene, "-o", plan)[0] == 0
    assert open_plan(plan).shots[0].title == "Camera"

    status, out, _ = run(capsys, "survey", plan, "--json")
    got = json.loads(out)
    assert status == 0
    assert len(got["frames"]) == 11
    frame = got["frames"][0]
    assert {"frame", "focus_m", "f_number", "focal_mm", "near_m", "far_m", "subjects"} <= set(frame)
    assert frame["focus_m"] == pytest.approx(4.0)
    assert set(frame["subjects"][0]) == {"number", "name", "distance_m", "straight_m", "blur_px", "state"}

    _, out, _ = run(capsys, "survey", plan, "--csv")
    assert out.count("\n") == 12
    assert "Camera" in run(capsys, "survey", plan)[1]

    assert run(capsys, "export", plan, "--as", "usd", "-o", tmp_path / "c.usda")[0] == 0
    np.testing.assert_allclose(read_camera(tmp_path / "c.usda").focus_m[[0, -1]], [4, 3], rtol=1e-6)
    assert run(capsys, "export", plan, "--as", "csv", "-o", tmp_path / "c.csv")[0] == 0
    assert (tmp_path / "c.csv").read_text() == out

    assert run(capsys, "check", plan) == (0, f"{plan}: OK\n", "")

    for name in ("f.png", "f.exr"):
        assert (
            run(
                capsys, "render", plan, "--frame", 5, "--size", "60x40", "--samples", 4, "-o", tmp_path / name
            )[0]
            == 0
        )
    assert read_pixels(tmp_path / "f.png")[0].shape == (40, 60, 3)
    pixels, names = read_pixels(tmp_path / "f.exr")
    assert names == ("R", "G", "B", "Z", "blur")
    assert np.nanmin(pixels[..., 3]) > 2
    assert header(tmp_path / "f.exr") == "4 samples a pixel"

    more = ("--size", "60x40", "--samples", 4, "--denoise")
    for name in ("clean.png", "clean.exr"):
        assert run(capsys, "render", plan, "--frame", 5, *more, "-o", tmp_path / name)[0] == 0
        assert header(tmp_path / name) == "4 samples a pixel, denoised: to look at, not to measure"
    clean, _names = read_pixels(tmp_path / "clean.exr")
    assert not np.array_equal(clean[..., :3], pixels[..., :3])
    np.testing.assert_array_equal(clean[..., 3:], pixels[..., 3:])
    assert run(capsys, "movie", plan, "--first", 5, "--last", 5, *more, "-o", tmp_path / "m.exr")[0] == 0
    np.testing.assert_array_equal(read_pixels(tmp_path / "m.0005.exr")[0], clean)


def test_new_with_a_camera_and_a_unit(capsys, moving_scene, tmp_path):
    plan = tmp_path / "p.kobrel"
    assert run(capsys, "new", moving_scene, "-o", plan, "--camera", "/Camera", "--unit", "mm")[0] == 0
    assert open_plan(plan).scenes[0].unit_m == 0.001
    assert json.loads(run(capsys, "survey", plan, "--json")[1])["frames"][0]["focus_m"] == pytest.approx(0.4)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["new", "{tmp}/none.usd", "-o", "{tmp}/x.kobrel"], "none.usd: no such file"),
        (["new", "{scene}", "-o", "{tmp}/x.kobrel", "--camera", "/Other"], "no camera /Other"),
        (["new", "{scene}", "-o", "{tmp}/x.kobrel", "--unit", "parsec"], "parsec"),
        (["new", "{scene}", "-o", "{tmp}/nowhere/x.kobrel"], "cannot be saved"),
        (["survey", "{tmp}/none.kobrel"], "no such file"),
        (["survey", "{demo}", "--shot", "99"], "no shot “99”. Its shots: 01 Quay wide"),
        (["render", "{demo}", "-o", "{tmp}/x.jpg"], ".png or .exr"),
        (["render", "{demo}", "-o", "{tmp}/nowhere/x.png"], "no such folder"),
        (["render", "{demo}", "-o", "{tmp}/x.png", "--size", "big"], "not a size"),
        (["render", "{demo}", "-o", "{tmp}/x.png", "--size", "99999x2"], "16384"),
        (["render", "{demo}", "-o", "{tmp}/x.png", "--samples", "0"], "samples"),
        (["export", "{demo}", "--as", "fbx", "-o", "{tmp}/x.fbx"], "fbx"),
        (["frobnicate"], "no command"),
    ],
)
def test_bad_input_writes_nothing(capsys, moving_scene, tmp_path, arguments, message):
    places = {"tmp": tmp_path, "scene": moving_scene, "demo": DEMO}
    before = sorted(tmp_path.rglob("*"))
    assert message in refused(capsys, *(a.format(**places) for a in arguments))
    assert sorted(tmp_path.rglob("*")) == before


def test_check_tells_what_would_spoil_a_render(capsys):
    status, out, _ = run(capsys, "check", DEMO)
    assert status == 1
    assert "Shot 01 Quay wide: Ferry is hidden by Poles Posts at" in out


def test_check_names_faults_and_says_so_with_its_status(capsys, tmp_path):
    text = (
        DEMO.read_text()
        .replace("Ferryman/Head", "Ferryman/Hat")
        .replace('"night_ferry.usdc"', f'"{DEMO.parent}/night_ferry.usdc"')
    )
    (tmp_path / "p.kobrel").write_text(text)
    status, out, _ = run(capsys, "check", tmp_path / "p.kobrel")
    assert status == 1
    assert "Subject 2 Ferryman" in out


def test_solve_answers_a_brief_or_says_why_not(capsys, tmp_path):
    status, out, _ = run(capsys, "solve", DEMO, "--shot", "02", "-o", tmp_path / "solved.kobrel")
    assert status == 0
    assert out.startswith("Stops: f/0.5 to f/2.26")
    assert "Focus: " in out
    taken = open_plan(tmp_path / "solved.kobrel").shots[1]
    assert len(taken.marks) == out.count("Focus: ")
    status, out, _ = run(capsys, "solve", DEMO, "--shot", "02", "--frame", "1080")
    assert (status, out.splitlines()[-1]) == (0, "Focus: 5.97 m at 1080")
    text = DEMO.read_text().replace('"px": 16.0', '"px": 400.0')
    text = text.replace('"night_ferry.usdc"', f'"{DEMO.parent}/night_ferry.usdc"')
    (tmp_path / "hard.kobrel").write_text(text)
    status, out, _ = run(capsys, "solve", tmp_path / "hard.kobrel", "--shot", "02")
    assert status == 1
    assert "Background at least 400 px soft" in out
    assert "Suggestion: " in out
    plain = DEMO.read_text().replace('"brief": [', '"no": [')
    plain = plain.replace('"night_ferry.usdc"', f'"{DEMO.parent}/night_ferry.usdc"')
    (tmp_path / "plain.kobrel").write_text(plain)
    assert "has no brief" in refused(capsys, "solve", tmp_path / "plain.kobrel")


def test_a_plan_whose_scene_is_gone(capsys, moving_scene, tmp_path):
    plan = tmp_path / "p.kobrel"
    run(capsys, "new", moving_scene, "-o", plan)
    moving_scene.unlink()
    assert "moving.usda: no such file" in refused(capsys, "survey", plan)
    assert "moving.usda: no such file" in run(capsys, "check", plan)[1]


def test_help_and_no_display(capsys, monkeypatch):
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    assert "no display" in refused(capsys, DEMO)
    for command in ("limits", "new", "survey", "solve", "render", "export", "check", "rangefinder", "schema"):
        assert command in run(capsys, command, "--help")[1]


def test_schema_prints_json(capsys):
    assert json.loads(run(capsys, "schema")[1])["title"] == "Plan"


def test_the_installed_command_works_in_a_pipe():
    made = subprocess.run(
        [sys.executable, "-m", "kobrel", *LIMITS, "--coc-mm", "0.03", "--json"],
        capture_output=True,
        text=True,
        check=True,
    )
    assert json.loads(made.stdout)["pupil_mm"] == 6.25
    assert made.stderr == ""


def test_numbers_need_neither_window_nor_tracer():
    code = (
        "import sys; from kobrel.cli import run_command;"
        f"run_command({[*LIMITS, '--coc-mm', '0.03']!r});"
        "print([m for m in ('PySide6', 'numba', 'pxr', 'trimesh', 'OpenImageIO') if m in sys.modules])"
    )
    made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert made.stdout.endswith("[]\n")


def test_iris_tells_its_numbers_and_writes_it(capsys, tmp_path):
    assert run_command(["iris", str(DEMO), "--shot", "02"]) == 0
    told = capsys.readouterr().out
    assert "height over width" in told
    assert "squeeze" in told
    for name in ("iris.png", "iris.exr", "iris.csv", "iris.json"):
        assert run_command(["iris", str(DEMO), "--output", str(tmp_path / name), "--size", "64"]) == 0
        assert (tmp_path / name).stat().st_size > 100
    assert run_command(["iris", str(DEMO), "-o", str(tmp_path / "iris.gif")]) == 2
    assert "iris.gif" in capsys.readouterr().err


def test_a_movie_pictures_and_sound_without_a_window(capsys, tmp_path):
    import av

    small = ("--size", "64x36", "--samples", "1", "--first", "1040", "--last", "1043", "--shot", "02")
    movie = tmp_path / "x.mp4"
    assert run(capsys, "movie", DEMO, *small, "--burn", "frame, focus", "--sound", "-o", movie)[0] == 0
    with av.open(str(movie)) as container:
        assert sum(1 for _ in container.decode(video=0)) == 4
        assert container.streams.audio
    assert run(capsys, "movie", DEMO, *small, "--clay", "-o", tmp_path / "p.png")[0] == 0
    assert sorted(p.name for p in tmp_path.glob("p.*")) == [f"p.{f}.png" for f in range(1040, 1044)]
    assert read_pixels(tmp_path / "p.1041.png")[0].shape[:2] == (36, 64)
    assert run(capsys, "sound", DEMO, "--shot", "02", "-o", tmp_path / "x.wav")[0] == 0
    assert (tmp_path / "x.wav").stat().st_size > 100_000
    assert "ends in .mp4, .mov" in refused(capsys, "movie", DEMO, "-o", tmp_path / "x.avi")
    assert "not smoke" in refused(capsys, "movie", DEMO, "--burn", "smoke", "-o", movie)
    assert "x.mp3" in refused(capsys, "sound", DEMO, "-o", tmp_path / "x.mp3")


def test_shots_are_told_taken_from_an_edit_list_and_written(capsys, tmp_path):
    status, out, _ = run(capsys, "shots", DEMO)
    assert status == 0
    lines = out.splitlines()
    assert lines[0] == "01 Quay wide: 1001–1072 at 24, 0 cues"
    assert lines[1].startswith("  cut: ")
    assert len(lines) == 7
    otio, plan = tmp_path / "x.otio", tmp_path / "x.kobrel"
    assert run(capsys, "shots", DEMO, "-o", otio)[0] == 0
    edl = tmp_path / "x.edl"
    edl.write_text(
        "TITLE: X\n\n001  R  V  C  00:00:40:00 00:00:42:00 01:00:00:00 01:00:02:00\n* FROM CLIP NAME: 03\n"
    )
    assert run(capsys, "shots", DEMO, "--take", edl, "--fps", "25", "-o", plan)[0] == 0
    taken = open_plan(plan)
    assert [shot.name for shot in taken.shots] == ["03", "01", "02", "04"]
    assert (taken.shots[0].first, taken.shots[0].last, taken.shots[0].fps) == (1000, 1049, 25.0)
    assert "none.otio" in refused(capsys, "shots", DEMO, "--take", tmp_path / "none.otio")


@pytest.fixture
def rack(tmp_path):
    """The demo as a plan of its own, with the rack's shot alone."""
    plan = open_plan(DEMO)
    path = tmp_path / "rack.kobrel"
    save_plan(plan.replace(shots=plan.shots[1:2]), path)
    return path


def test_terms_are_told_and_taken_back(capsys, rack, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    status, out, _ = run(capsys, "terms", rack, "--unit", "cm", "--frame", 1050)
    assert status == 0
    assert "Aperture size  (aperture)" in out
    assert "lost: No squeeze: discs too wide by" in out
    told = json.loads(run(capsys, "terms", rack, "--unit", "cm", "--terms", "aperture,limits", "--json")[1])
    assert list(told) == ["aperture", "limits"]
    radius = float(told["aperture"]["values"]["Radius"]["value"])
    assert told["aperture"]["values"]["Radius"]["unit"] == "cm"
    (tmp_path / "v.txt").write_text(f"Radius: {radius / 2} cm\nFocus distance: 3 m\nodd: 1\n")
    again = tmp_path / "again.kobrel"
    status, out, errors = run(capsys, "import", rack, tmp_path / "v.txt", "-o", again)
    assert status == 0
    assert "f-number                     f/1.4 → f/2.8" in out
    assert "odd: unknown, ignored" in errors
    assert json.loads(run(capsys, "survey", again, "--json")[1])["frames"][0]["focus_m"] == pytest.approx(3.0)
    assert run(capsys, "import", again, tmp_path / "v.txt")[1].startswith("The shot has these values already")
    own = tmp_path / "mine.terms.json"
    own.write_text(json.dumps({"title": "Mine", "terms": [{"name": "ap", "quantity": "aperture_radius"}]}))
    assert "ap " in run(capsys, "terms", rack, "--terms", own)[1]
    for arguments, why in (
        (["terms", rack, "--terms", "none"], "there are no values “none”"),
        (["terms", rack, "--unit", "furlong"], "is not a unit"),
        (["import", rack, tmp_path / "none.csv"], "none.csv: no such file"),
    ):
        status, _, errors = run(capsys, *arguments)
        assert status == 2
        assert why in errors
    (tmp_path / "v.txt").write_text("Radius: -3 cm\n")
    status, _, errors = run(capsys, "import", rack, tmp_path / "v.txt", "-o", tmp_path / "no.kobrel")
    assert (status, (tmp_path / "no.kobrel").exists()) == (2, False)
    assert "v.txt: Radius cannot be -0.03" in errors


def test_everything_is_exported_and_a_camera_comes_back(capsys, rack, tmp_path, monkeypatch):
    monkeypatch.setattr(content, "_PICTURE_PX", 48)
    for kind, name, more in (
        ("usd-changes", "changes.usda", []), ("gltf", "cam.gltf", []), ("alembic", "cam.abc", []),
        ("csv", "a.csv", ["--terms", "aperture", "--unit", "in", "--frames", "1010-1020"]),
        ("json", "a.json", ["--unit", "0.1"]), ("otio", "cut.otio", []), ("edl", "cut.edl", []),
        ("tables", "depth.csv", ["--unit", "ft"]), ("tables", "kit.csv", ["--kit", shipped_lens_sets()[0].kit]),
        ("passes", "p.exr", ["--frames", "1001", "--size", "32x18", "--passes", "blur,mattes"]),
        ("sheet", "sheet.pdf", ["--page", "Letter", "--ring", "70"]), ("html", "sheet.html", ["--shot", "02"]),
    ):  # fmt: skip
        out = tmp_path / name
        status, _, errors = run(capsys, "export", rack, "--as", kind, "-o", out, *more)
        assert status == 0, (kind, errors)
        assert (tmp_path / "p.txt" if kind == "passes" else out).stat().st_size > 60, kind
    assert (tmp_path / "a.csv").read_text().splitlines()[0].startswith("frame,aperture_radius [in]")
    assert len((tmp_path / "a.csv").read_text().splitlines()) == 12
    assert json.loads((tmp_path / "a.json").read_text())["metres_in_unit"] == 0.1
    assert (
        run(capsys, "import", rack, tmp_path / "cam.abc")[1]
        == "It is the shot's own camera; nothing differs.\n"
    )
    other = tmp_path / "other.kobrel"
    plan = open_plan(rack)
    save_plan(
        with_shot(
            plan, 0, plan.shots[0].replace(glass=plan.shots[0].glass.replace(f_number=Keyed(value=4.0)))
        ),
        other,
    )
    status, out, _ = run(
        capsys, "import", other, tmp_path / "cam.gltf", "-o", tmp_path / "back.kobrel", "--take", "stop"
    )
    assert status == 0
    assert "Stop           f/4 → f/1.4" in out
    assert open_plan(tmp_path / "back.kobrel").shots[0].glass.f_number.value == pytest.approx(1.4)
    for more, why in (
        (
            ["export", rack, "--as", "csv", "-o", tmp_path / "x.csv", "--frames", "9-3"],
            "last frame comes before",
        ),
        (["export", rack, "--as", "csv", "-o", tmp_path / "x.csv", "--frames", "a"], "is not a frame range"),
        (
            ["export", rack, "--as", "passes", "-o", tmp_path / "x.exr", "--passes", "light"],
            "no pass named “light”",
        ),
        (
            ["export", rack, "--as", "tables", "-o", tmp_path / "x.csv", "--kit", "none"],
            "no lens set named “none”",
        ),
        (["export", rack, "--as", "gltf", "-o", tmp_path / "cam.gltf"], "Use --force to overwrite"),
        (["import", rack, tmp_path / "cam.gltf", "--take", "colour"], "no part named “colour”"),
        (["import", rack, tmp_path / "cam.gltf", "--camera", "/x"], "no camera named /x in it"),
    ):
        status, _, errors = run(capsys, *more)
        assert status == 2
        assert why in errors


@pytest.mark.parametrize(
    ("kind", "name", "told"),
    [
        ("tables", "x.pdf", ".csv"),
        ("otio", "x.edl", ".otio"),
        ("edl", "x.otio", ".edl"),
        ("csv", "x.json", ".csv"),
        ("usd", "x.gltf", ".usda or .usdc or .usd"),
        ("sheet", "x.html", ".pdf"),
    ],
)
def test_kind_and_ending_agree_or_a_sentence_says_so(tmp_path, capsys, kind, name, told):
    assert run_command(["export", str(DEMO), "--as", kind, "-o", str(tmp_path / name)]) == 2
    assert f"is written as {told}." in capsys.readouterr().err
    assert not (tmp_path / name).exists()


def test_a_camera_is_written_over_the_frames_that_are_named(tmp_path, capsys):
    def frames(kind, name):
        command = ["export", str(DEMO), "--shot", "02", "--as", kind, "-o", str(tmp_path / name)]
        assert run_command([*command, "--frames", "1010-1014"]) == 0
        return tmp_path / name

    stage = Usd.Stage.Open(str(frames("usd", "c.usda")))
    samples = {t for prim in stage.Traverse() for a in prim.GetAttributes() for t in a.GetTimeSamples()}
    assert samples == {1010.0, 1011.0, 1012.0, 1013.0, 1014.0}
    content = json.loads(frames("gltf", "c.gltf").read_text())
    times = [content["accessors"][s["input"]] for a in content["animations"] for s in a["samplers"]]
    assert {each["count"] for each in times} == {5}
    assert capsys.readouterr().err == ""
    command = ["export", str(DEMO), "--shot", "02", "--as", "csv", "-o", str(tmp_path / "far.csv")]
    assert run_command([*command, "--frames", "9000-9001"]) == 0
    assert "frames 9000 to 9001 lie outside shot 02" in capsys.readouterr().err


def test_an_answer_that_does_not_fit_is_told(capsys, monkeypatch):
    with open("/dev/full", "w", buffering=1) as full:
        monkeypatch.setattr(sys, "stdout", full)
        assert run_command(["survey", str(DEMO), "--shot", "02", "--csv"]) == 2
        monkeypatch.undo()
        with contextlib.suppress(OSError):
            full.close()
    assert "the answer cannot be written (No space left on device)." in capsys.readouterr().err


def test_farm_makes_the_folder_that_a_movie_goes_to(tmp_path, monkeypatch):
    monkeypatch.setattr("kobrel.cli.farm._run_all", lambda works, *_a, **_k: [])
    monkeypatch.setattr("kobrel.cli.farm._finish", lambda *_a: None)
    for kind in ("mp4", "exr"):
        assert run_command(["farm", str(DEMO), "--as", kind, "-o", str(tmp_path / kind / "deep")]) == 0
        assert (tmp_path / kind / "deep").is_dir()
    (tmp_path / "file").write_text("")
    assert run_command(["farm", str(DEMO), "--as", "mp4", "-o", str(tmp_path / "file" / "deep")]) == 2


def test_former_names_of_commands_and_options_are_still_understood(capsys):
    said = []
    for command, option in (("values", "--values"), ("terms", "--terms")):
        assert run_command([command, str(DEMO), option, "aperture"]) == 0
        said.append(capsys.readouterr().out)
    assert said[0] == said[1]
    assert "Radius" in said[0]
    assert "terms" not in commands()
    assert {"values", "terms"} <= commands(former=True).keys()

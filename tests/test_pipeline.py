"""What pipelines use: the names of ``import kobrel``, answers as JSON, and streams in the place of files."""

import ast
import dataclasses
import io
import json
import os
import pickle
import subprocess
import sys
import typing
from pathlib import Path

import numpy as np
import pytest
from pydantic import TypeAdapter, ValidationError

import kobrel
from kobrel import trust
from kobrel.cli import run_command
from kobrel.cli.manual import EXIT_CODES, commands
from kobrel.cli.reply import Reply
from kobrel.farm.work import Work
from kobrel.plan.edit import with_shot
from kobrel.plan.file import open_plan
from kobrel.plan.iris import MaskPicture
from kobrel.stage.pictures.pixels import read_pixels
from tests.conftest import DEMO

ROOT = Path(__file__).parents[1]
PUBLIC_OF_PROJECT = {
    "camera", "export", "movie", "path", "picture", "plan", "render", "save", "shot", "shots", "solve", "stage",
    "subjects", "survey", "told", "with_shot",
}  # fmt: skip


@pytest.fixture(scope="module")
def project():
    return kobrel.open(DEMO)


def test_the_public_names_are_these():
    assert set(kobrel.__all__) == {"KobrelError", "Project", "Work", "ignore_plugins", "make", "open"}
    fields = set(typing.get_type_hints(kobrel.Project))
    assert {name for name in dir(kobrel.Project) if not name.startswith("_")} | fields == PUBLIC_OF_PROJECT
    page = (ROOT / "docs" / "pipeline.md").read_text()
    for name in (*kobrel.__all__, *PUBLIC_OF_PROJECT):
        assert f"`{name}" in page or f".{name}" in page, name
    with pytest.raises(AttributeError, match="no attribute"):
        kobrel.anything  # noqa: B018


def test_importing_kobrel_loads_nothing_heavy():
    code = "import sys, kobrel; print([m for m in ('numpy', 'numba', 'pxr', 'PySide6') if m in sys.modules])"
    assert (
        subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
        == "[]\n"
    )


def test_the_library_leaves_the_environment_alone_and_the_command_line_does_not():
    names = (
        "PXR_PLUGINPATH_NAME",
        "OPENIMAGEIO_PLUGIN_PATH",
        "OIIO_LIBRARY_PATH",
        "OTIO_PLUGIN_MANIFEST_PATH",
    )
    given = {**os.environ, **dict.fromkeys(names, "/nowhere")}
    show = f"print([n for n in {names} if n in os.environ])"

    def left(code):
        command = [sys.executable, "-c", f"import os; before = dict(os.environ)\n{code}\n{show}"]
        done = subprocess.run(command, capture_output=True, text=True, check=True, env=given)
        return ast.literal_eval(done.stdout.splitlines()[-1])

    opened = "import kobrel, kobrel.demo; kobrel.open(kobrel.demo.PLAN); assert dict(os.environ) == before"
    assert left(opened) == list(names)
    assert left("import kobrel; kobrel.ignore_plugins()") == []
    assert left("import kobrel.cli") == []


def test_wrong_values_are_told_in_kobrels_own_error(project):
    with pytest.raises(kobrel.KobrelError, match="cannot be written as"):
        kobrel.Work(kind="movie", plan="a.kobrel", output="a.txt")
    work = kobrel.Work(kind="movie", plan="a.kobrel", output="a.mp4")
    with pytest.raises(kobrel.KobrelError, match="samples"):
        work.replace(samples=0)
    shot = project.shot("02")
    with pytest.raises(kobrel.KobrelError, match="first"):
        shot.replace(first=10**9)
    with pytest.raises(kobrel.KobrelError, match="squeeze"):
        shot.replace(glass=shot.glass.replace(squeeze=-1))
    for frame in (float("nan"), float("inf")):
        with pytest.raises(kobrel.KobrelError, match="is not a frame"):
            project.camera("02", frame)
        with pytest.raises(kobrel.KobrelError, match="is not a frame"):
            project.picture("02", frame, (16, 9), 1)
    with pytest.raises(kobrel.KobrelError, match="one frame or more"):
        project.survey("02", [])


def test_a_project_is_pickled_as_its_plan(project):
    again = pickle.loads(pickle.dumps(project))
    assert (again.plan, again.path, again.told) == (project.plan, project.path, project.told)
    one, other = (each.survey("02", [1050]).sight.axial_m for each in (project, again))
    np.testing.assert_array_equal(one, other)


def test_a_pickle_allows_nothing_that_may_not_be_read_here(project):
    strange = "/elsewhere/of/nobody/mask.png"
    hidden = project.plan.shots[0].iris.replace(mask=MaskPicture(path=strange))
    shot = project.plan.shots[0].replace(iris=hidden)
    made = dataclasses.replace(project, plan=with_shot(project.plan, 0, shot))
    allowed = made.__reduce__()[1][3]
    assert strange not in allowed
    assert all(trust.is_allowed(name) for name in allowed)


def test_a_project_is_surveyed_solved_drawn_and_written(project, tmp_path):
    assert project.survey("02", [1050]).frames.tolist() == [1050]
    assert float(project.camera("02", 1050).focal_mm) == pytest.approx(50, rel=0.5)
    solved = project.solve("03")
    assert solved is not None
    assert solved.shot("03").marks
    assert project.shot("03") != solved.shot("03")
    picture = project.picture("03", size=(32, 18), samples=2)
    assert (picture.shape, picture.dtype) == ((18, 32, 3), np.float32)
    assert project.picture("03", size=(32, 18), samples=1, shown=True).dtype == np.uint8
    target = project.render(tmp_path / "a.exr", "03", size=(32, 18), samples=2)
    np.testing.assert_array_equal(read_pixels(target)[0][..., :3], picture)
    assert project.export("csv", tmp_path / "a.csv", "03").read_text().startswith("frame,")
    movie = project.movie(tmp_path / "a.mp4", "03", first=1001, last=1002, width=32, height=18, passes=1)
    assert movie.stat().st_size > 0
    saved = solved.save(tmp_path / "solved.kobrel")
    assert open_plan(saved.path).shots[2] == solved.shot("03")


def test_a_scene_becomes_a_project(tmp_path):
    found = kobrel.open(DEMO.with_name("night_ferry.usdc"))
    assert found.path is None
    assert found.shots
    assert found.survey().frames.size > 1


def test_what_is_wrong_is_one_kind_of_error(project, tmp_path):
    for wrong in (
        lambda: kobrel.open(tmp_path / "none.kobrel"),
        lambda: project.shot("99"),
        lambda: project.render(tmp_path / "a.bmp"),
    ):
        with pytest.raises(kobrel.KobrelError):
            wrong()


def test_work_is_made(tmp_path):
    work = Work(kind="pictures", plan=str(DEMO), output=str(tmp_path / "a.png"), shot="03", first=1001, last=1002,
                width=32, height=18, samples=1)  # fmt: skip
    told = []
    assert kobrel.make(work, told=lambda made, total: told.append((made, total))) == 2
    assert told[-1] == (2, 2)
    assert len(list(tmp_path.glob("a.*.png"))) == 2


def test_the_page_of_examples_runs(tmp_path, monkeypatch):
    """Each block of Python in docs/pipeline.md, one after the other."""
    page = (ROOT / "docs" / "pipeline.md").read_text()
    blocks = [part.partition("```")[0] for part in page.split("```python\n")[1:]]
    assert len(blocks) >= 3
    monkeypatch.chdir(tmp_path)
    names: dict[str, object] = {}
    for block in blocks:
        exec(compile(block, "docs/pipeline.md", "exec"), names)
    assert list(tmp_path.iterdir())


def answer(capsys, *arguments):
    status = run_command([*map(str, arguments), "--json"])
    out = capsys.readouterr().out
    return status, json.loads(out)


ANSWERS = TypeAdapter(Reply)


@pytest.mark.parametrize(
    ("arguments", "status", "has"),
    [
        (("check", DEMO), 1, "findings"),
        (("solve", DEMO, "--shot", "03"), 0, "stops"),
        (("shots", DEMO), 0, "cuts"),
        (("iris", DEMO), 0, "numbers"),
        (("allow",), 0, "folders"),
        (("render", DEMO, "--shot", "03", "--size", "16x9", "--samples", "1", "-o", "OUT.png"), 0, ""),
        (("export", DEMO, "--as", "csv", "-o", "OUT.csv"), 0, "shots"),
        (("new", DEMO.with_name("night_ferry.usdc"), "-o", "OUT.kobrel"), 0, "cameras"),
        (("solve", DEMO, "--shot", "99"), 2, ""),
        (("render", "OUT_NONE.kobrel", "-o", "OUT.png"), 2, ""),
        (("render", DEMO), 2, ""),
    ],
)
def test_commands_answer_as_json(capsys, tmp_path, arguments, status, has):
    words = [str(tmp_path / word) if str(word).startswith("OUT") else word for word in arguments]
    got, found = answer(capsys, *words)
    ANSWERS.validate_json(json.dumps(found), strict=True)
    assert got == found["status"] == status
    assert found["command"] == arguments[0]
    assert ("error" in found) is (status == 2)
    if has:
        assert has in found["data"]
    if "-o" in words and status == 0:
        assert Path(found["output"]).is_file()
        assert found["output"] in found["files"]
        assert all(Path(file).is_file() for file in found["files"])


def test_answers_with_a_form_of_their_own_tell_errors_alike(capsys):
    got, found = answer(capsys, "survey", DEMO, "--shot", "99")
    assert got == 2
    assert found["error"]["what"] == "no shot “99”."
    ANSWERS.validate_json(json.dumps(found))
    assert "either --json or --csv" in answer(capsys, "survey", DEMO, "--csv")[1]["error"]["what"]


def test_schemas_are_told(capsys):
    for of, must in (("plan", "shots"), ("job", "kind"), ("reply", "status")):
        assert run_command(["schema", "--of", of]) == 0
        told = capsys.readouterr().out
        assert must in json.loads(told)["properties"]
        kept = ROOT / "docs" / f"{of}.schema.json"
        assert json.loads(kept.read_text()) == json.loads(told), (
            f"run: kobrel schema --of {of} > docs/{kept.name}"
        )
    with pytest.raises(ValidationError):
        ANSWERS.validate_python({"command": 1})


def test_streams_stand_for_files(capsysbinary, tmp_path, monkeypatch):
    monkeypatch.chdir(DEMO.parent)

    def give(content: bytes):
        monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BytesIO(content)))

    give(DEMO.read_bytes())
    assert run_command(["render", "-", "--shot", "03", "--size", "16x9", "--samples", "1", "-o", "-"]) == 0
    assert capsysbinary.readouterr().out.startswith(b"\x89PNG")
    assert (
        run_command(["render", str(DEMO), "--shot", "03", "--size", "16x9", "--samples", "1", "-o", "-.exr"])
        == 0
    )
    assert capsysbinary.readouterr().out.startswith(b"v/1\x01")
    assert run_command(["export", str(DEMO), "--as", "json", "-o", "-"]) == 0
    assert json.loads(capsysbinary.readouterr().out)
    job = {"kind": "pictures", "plan": str(DEMO), "output": str(tmp_path / "a.png"), "shot": "03", "first": 1001,
           "last": 1001, "width": 16, "height": 9, "samples": 1}  # fmt: skip
    give(json.dumps([job]).encode())
    assert run_command(["batch", "-", "--json"]) == 0
    assert json.loads(capsysbinary.readouterr().out)[0]["made"] == 1
    give(b"{")
    assert run_command(["survey", "-"]) == 2
    assert run_command(["export", str(DEMO), "--as", "passes", "-o", "-"]) == 2
    assert b"several files" in capsysbinary.readouterr().err
    assert run_command(["render", str(DEMO), "-o", "-", "--json"]) == 2
    assert not list(DEMO.parent.glob(".kobrel-in-*"))


def test_exit_codes_are_documented():
    page = (ROOT / "docs" / "pipeline.md").read_text()
    for code, meaning in EXIT_CODES.items():
        assert f"| {code} | {meaning}" in page
    assert all(f"kobrel {name}" in (ROOT / "README.md").read_text() for name in commands())


def test_farm_tells_what_it_made(capsys, tmp_path):
    words = ["farm", str(DEMO), "--shots", "03", "--frames", "1001-1002", "--size", "16x9", "--samples", "1",
             "--as", "png", "-o", str(tmp_path)]  # fmt: skip
    assert run_command(words) == 0
    assert "2 of 2 made" in capsys.readouterr().out
    status, found = answer(capsys, *words)
    assert (status, found[0]["made"], found[0]["found"], found[0]["why"]) == (0, 2, 2, "")
    assert run_command([*words[:4], "1-", *words[5:]]) == 2
    jobs = tmp_path / "jobs.json"
    jobs.write_text(json.dumps([{"kind": "pictures", "plan": "no.kobrel", "output": "a.png"}]))
    assert run_command(["batch", str(jobs)]) == 1
    assert run_command(["farm", str(DEMO), "--scheduler", "tcp://127.0.0.1:9", "-o", str(tmp_path)]) == 2
    assert "no scheduler answers" in capsys.readouterr().err


def test_the_answer_names_every_file_that_was_written(capsys, tmp_path):
    arguments = ("--frames", "1001-1002", "--passes", "depth", "--size", "16x9", "-o", tmp_path / "z.exr")
    status, found = answer(capsys, "export", DEMO, "--as", "passes", *arguments)
    assert status == 0
    assert sorted(found["files"]) == sorted(str(path) for path in tmp_path.iterdir())
    assert len(found["files"]) == 3
    assert found["data"]["shots"] == ["01"]

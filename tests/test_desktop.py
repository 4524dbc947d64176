"""Kobrel on the desktop: its files, thumbnails, the manual, completions, and the packages that bring them."""

import email
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ET
import zipfile
from importlib.metadata import version
from pathlib import Path

import numpy as np
import pytest
from packaging.requirements import Requirement
from PIL import Image

from kobrel.cli import COMMANDS, run_command
from kobrel.cli.desktop import desktop_files
from kobrel.cli.manual import bash_completion, commands, fish_completion, manual_page, zsh_completion
from kobrel.picture import ready
from kobrel.session.recent import note_recent
from tests.conftest import DEMO

ROOT = Path(__file__).parents[1]


def files_below(folder: Path) -> list[str]:
    return sorted(str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file())


def needs(tool: str):
    return pytest.mark.skipif(shutil.which(tool) is None, reason=f"{tool} is not installed")


def test_what_is_installed_is_removed(tmp_path, capsys):
    (tmp_path / "applications").mkdir()
    (tmp_path / "applications" / "other.desktop").write_text("")
    assert run_command(["desktop", "--install", "--root", str(tmp_path)]) == 0
    assert len(files_below(tmp_path)) == len(list(desktop_files("kobrel"))) + 1
    assert run_command(["desktop", "--remove", "--root", str(tmp_path)]) == 0
    assert files_below(tmp_path) == ["applications/other.desktop"]
    assert sorted(path.name for path in tmp_path.iterdir()) == ["applications"]
    assert run_command(["desktop"]) == 2
    assert "--install or --remove" in capsys.readouterr().err


def test_the_entry_runs_this_very_program(tmp_path):
    run_command(["desktop", "--install", "--root", str(tmp_path), "--program", "/with blanks/kobrel"])
    text = (tmp_path / "applications" / "kobrel.desktop").read_text()
    assert '\nExec="/with blanks/kobrel" %f\n' in text
    assert '\nExec="/with blanks/kobrel" --demo\n' in text
    assert "\nTryExec=/with blanks/kobrel\n" in text
    thumbnailer = (tmp_path / "thumbnailers" / "kobrel.thumbnailer").read_text()
    assert 'Exec="/with blanks/kobrel" thumbnail %i -o %o --size %s' in thumbnailer


@needs("desktop-file-validate")
def test_the_entry_is_valid(tmp_path):
    run_command(["desktop", "--install", "--root", str(tmp_path)])
    subprocess.run(["desktop-file-validate", tmp_path / "applications" / "kobrel.desktop"], check=True)


@needs("appstreamcli")
def test_the_description_for_software_centres_is_valid(tmp_path):
    run_command(["desktop", "--install", "--root", str(tmp_path)])
    path = tmp_path / "metainfo" / "kobrel.metainfo.xml"
    subprocess.run(["appstreamcli", "validate", "--no-net", path], check=True, capture_output=True)


def test_plans_are_a_kind_of_file():
    content = dict(desktop_files("kobrel"))[Path("mime/packages/kobrel.xml")]
    kind = ET.fromstring(content).find("{http://www.freedesktop.org/standards/shared-mime-info}mime-type")
    assert kind.get("type") == "application/x-kobrel-plan"
    assert kind.find("{*}glob").get("pattern") == "*.kobrel"


def test_icons_have_the_sizes_that_they_say():
    icons = {path: content for path, content in desktop_files("kobrel") if path.suffix == ".png"}
    assert len(icons) == 9
    for path, content in icons.items():
        wide = int(path.parts[2].partition("x")[0])
        assert content.startswith(b"\x89PNG")
        assert int.from_bytes(content[16:20], "big") == wide


def test_a_thumbnail_is_a_picture_of_the_first_shot(tmp_path, capsys):
    target = tmp_path / "thumb.large"  # file managers give names of their own
    assert run_command(["thumbnail", str(DEMO), "-o", str(target), "--size", "96"]) == 0
    with Image.open(target) as image:
        assert image.format == "PNG"
        assert max(image.size) == 96
        assert np.asarray(image).std() > 10
    broken = tmp_path / "broken.kobrel"
    broken.write_text("{")
    assert run_command(["thumbnail", str(broken), "-o", str(tmp_path / "x.png")]) == 2
    assert not (tmp_path / "x.png").exists()


def test_the_manual_tells_every_command_and_option():
    page = manual_page().replace("\\-", "-").replace("\\&", "")
    for name, command in commands().items():
        assert f"\n.SS {name}" in page
        for parameter in command.params:
            assert all(option in page for option in parameter.opts if option.startswith("-"))
    assert ".SH EXIT STATUS" in page


@needs("man")
def test_the_manual_is_without_faults(tmp_path):
    path = tmp_path / "kobrel.1"
    path.write_text(manual_page())
    made = subprocess.run(["man", "--warnings", "-l", path], capture_output=True, text=True, check=True)
    assert made.stderr == ""


def completed(*words: str) -> set[str]:
    script = (
        f"{bash_completion()}\nCOMP_WORDS=({' '.join(words)}); COMP_CWORD={len(words) - 1}; _kobrel; "
        'printf "%s\\n" "${COMPREPLY[@]}"'
    )
    return set(
        subprocess.run(["bash", "-c", script], capture_output=True, text=True, check=True).stdout.split()
    )


def test_bash_completes_commands_options_and_their_words():
    assert completed("kobrel", "fa") == {"farm"}
    assert completed("kobrel", "farm", "x.kobrel", "--sc") == {"--scheduler"}
    assert completed("kobrel", "export", "x", "--as", "usd") == {"usd", "usd-changes"}
    assert set(commands()) <= completed("kobrel", "''")


@pytest.mark.parametrize(("shell", "script"), [("zsh", zsh_completion), ("fish", fish_completion)])
def test_other_shells_take_their_completions(tmp_path, shell, script):
    text = script()
    assert all(name in text for name in COMMANDS)
    if shutil.which(shell):
        path = tmp_path / "completion"
        path.write_text(text)
        subprocess.run([shell, "-n", path], check=True)


def test_recent_files_are_on_the_desktops_own_list(tmp_path):
    listed, plan = tmp_path / "recently-used.xbel", tmp_path / "a b.kobrel"
    listed.write_text(
        '<xbel version="1.0"><bookmark href="file:///x" added="a" modified="a" visited="a"/></xbel>'
    )
    note_recent(plan, where=listed)
    note_recent(plan, where=listed)
    marks = ET.parse(listed).getroot().findall("bookmark")
    assert [mark.get("href") for mark in marks] == ["file:///x", plan.as_uri()]
    programs = marks[1].find("info/metadata/{*}applications")
    assert [program.get("count") for program in programs] == ["2"]
    assert marks[1].find("info/metadata/{*}mime-type").get("type") == "application/x-kobrel-plan"


@pytest.mark.parametrize("content", ["", "<a/>", "<xbel", '<!DOCTYPE x [<!ENTITY a "b">]><xbel>&a;</xbel>'])
def test_a_list_that_is_none_is_left_alone(tmp_path, content):
    listed = tmp_path / "recently-used.xbel"
    listed.write_text(content)
    note_recent(tmp_path / "a.kobrel", where=listed)
    assert listed.read_text() == content


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """A copy of the sources built as they are, so that nothing of an earlier build is in it."""
    folder = tmp_path_factory.mktemp("wheel")
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy(ROOT / name, folder)
    shutil.copytree(ROOT / "src", folder / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    command = [
        "-m",
        "pip",
        "--quiet",
        "wheel",
        "--no-deps",
        "--no-build-isolation",
        "-w",
        str(folder),
        str(folder),
    ]
    subprocess.run([sys.executable, *command], check=True, capture_output=True)
    return next(folder.glob("*.whl"))


def test_the_wheel_works_away_from_the_sources(wheel, tmp_path):
    """In an environment of its own that borrows what it depends on; `make check-packages` has an empty one and
    makes a movie.
    """
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", tmp_path / "empty"], check=True)
    place = next((tmp_path / "empty" / "lib").glob("python*")) / "site-packages"
    borrowed = next(path for path in map(Path, sys.path) if (path / "numba").is_dir())
    (place / "borrowed.pth").write_text(f"{borrowed}\n")
    shutil.unpack_archive(wheel, place, "zip")

    def run(*arguments: str) -> str:
        command = [tmp_path / "empty" / "bin" / "python", *arguments]
        return subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=True).stdout

    where = run("-c", "import kobrel.demo; print(kobrel.demo.__file__)").strip()
    assert where.startswith(str(place))
    demo = Path(where).with_name("night_ferry.kobrel")
    assert "Ferryman" in run("-m", "kobrel", "survey", str(demo), "--shot", "02", "--csv")
    run("-m", "kobrel", "desktop", "--install", "--root", "share")
    assert (tmp_path / "share" / "applications" / "kobrel.desktop").is_file()


def test_compiling_says_whether_it_is_kept(monkeypatch, capsys):
    monkeypatch.setattr(ready, "prepare", lambda: None)
    monkeypatch.setattr(ready, "prepare_rare", lambda: None)
    for kept, status, told in ((True, 0, "Ready"), (False, 2, "cannot be saved")):
        monkeypatch.setattr(ready, "is_kept", lambda _kernel, kept=kept: kept)
        assert run_command(["warm-up"]) == status
        assert told in "".join(capsys.readouterr())


def test_the_wheel_asks_for_versions_that_are_known_to_work(wheel):
    """Without constraints; the bounds hold what the suite runs with, and keep out what aborts Python."""
    with zipfile.ZipFile(wheel) as packed:
        metadata = next(name for name in packed.namelist() if name.endswith("METADATA"))
        told = email.message_from_bytes(packed.read(metadata))
    wanted = [Requirement(each) for each in told.get_all("Requires-Dist") if "extra ==" not in each]
    for each in wanted:
        assert version(each.name) in each.specifier, each
    window = next(each for each in wanted if each.name == "PySide6-Essentials")
    assert "6.12.0" not in window.specifier


@needs("dpkg-deb")
def test_the_package_is_installed_into_a_root_and_removed(tmp_path):
    """All of the Debian package but its environment, which takes minutes to build: see `make check-packages`."""
    subprocess.run(["bash", "scripts/deb.sh", "share"], cwd=ROOT, check=True, capture_output=True)
    package = max((ROOT / "dist").glob("kobrel_*.share.deb"), key=lambda path: path.stat().st_mtime)
    told = subprocess.run(["dpkg-deb", "-f", package], capture_output=True, text=True, check=True).stdout
    assert "Depends: python3 (>= 3." in told
    if subprocess.run(["id", "-u"], capture_output=True, text=True, check=True).stdout.strip() != "0":
        pytest.skip("installing takes the rights of root")
    root = tmp_path / "root"
    for name in ("updates", "info"):
        (root / "var/lib/dpkg" / name).mkdir(parents=True)
    (root / "var/lib/dpkg/status").touch()
    dpkg = ["dpkg", f"--root={root}", "--force-depends", "--force-script-chrootless", "--log=/dev/null"]
    subprocess.run([*dpkg, "-i", package], check=True, capture_output=True)
    assert (root / "usr/share/applications/kobrel.desktop").is_file()
    assert (root / "usr/share/man/man1/kobrel.1.gz").is_file()
    assert (root / "usr/bin/kobrel").is_symlink()
    subprocess.run([*dpkg, "--purge", "kobrel"], check=True, capture_output=True)
    left = [name for name in files_below(root) if not name.startswith("var/")]
    assert left == []

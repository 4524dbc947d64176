"""The house itself: kernels without a cache, a missing engine, what the repository promises."""

import ast
import pickle
import pkgutil
import re
import subprocess
import sys
from pathlib import Path

import numba
import pytest

from kobrel import compiled
from kobrel.errors import KobrelError

ROOT = Path(__file__).parents[1]


def test_kernels_work_where_nothing_can_be_kept(monkeypatch):
    real = numba.njit
    real(lambda a: a)(1)  # what Numba itself compiles, it compiles before

    def no_cache(**options):
        if options.get("cache"):
            raise RuntimeError("cannot cache function: no locator available")
        return real(**options)

    monkeypatch.setattr(numba, "njit", no_cache)

    @compiled.kernel
    def add(a, b):
        return a + b

    assert add(2, 3) == 5
    assert not compiled.is_kept(add)


def test_a_kernel_whose_cache_is_of_another_version_is_compiled_anew(tmp_path, monkeypatch):
    (tmp_path / "own_kernel.py").write_text("def add(a, b):\n    return a + b\n")
    monkeypatch.syspath_prepend(tmp_path)
    import own_kernel

    first = compiled.kernel(own_kernel.add)
    assert first(1, 2) == 3
    (index,) = (tmp_path / "__pycache__").glob("*.nbi")
    kept = index.read_bytes()
    index.write_bytes(pickle.dumps(numba.__version__) + b"cno.such\nName\n.")
    again = compiled.kernel(own_kernel.add)
    assert again(1, 2) == 3
    assert len(index.read_bytes()) == len(kept), "and kept for the next run"


_KERNELS = """
import numpy as np
from kobrel.compiled import kernel

SIZE, TABLE = 3, np.arange(4.0)

@kernel
def inner(a):
    return a * SIZE + TABLE[0]

@kernel
def outer(a, b=1.5):
    \"\"\"What it does.\"\"\"
    return inner(a) + 1.0
"""


@pytest.mark.parametrize(
    ("was", "is_now", "same"),
    [
        ("What it does.", "Something else.", True), ("import numpy", "# more\nimport numpy", True),
        ("SIZE, TABLE = 3", "SIZE, TABLE = 4", False), ("arange(4.0)", "arange(5.0)", False),
        ("a * SIZE", "a / SIZE", False), ("+ 1.0", "+ 2.0", False), ("+ 1.0", "- 1.0", False),
        ("b=1.5", "b=2.5", False),
    ],
)  # fmt: skip
def test_a_kernel_is_compiled_anew_when_what_it_consists_of_changes(was, is_now, same):
    def content(text):
        made = {"__name__": "made"}
        exec(compile(text, str(ROOT / "made.py"), "exec"), made)
        return compiled.content_of(made["outer"].py_func)

    assert was in _KERNELS
    assert (content(_KERNELS.replace(was, is_now)) == content(_KERNELS)) == same


def test_kernels_that_call_each_other_by_name_have_an_end():
    from kobrel.picture.tracing.rows import draw_rows

    assert len(compiled.content_of(draw_rows.py_func)) == 64


def test_a_missing_ray_engine_is_told_in_words(monkeypatch):
    from kobrel.stage.engine import embree

    embree.library_path.cache_clear()
    monkeypatch.setattr(embree.metadata, "files", lambda _name: [])
    with pytest.raises(KobrelError, match="install embreex"):
        embree.library_path()
    embree.library_path.cache_clear()


def test_the_window_opens_without_loading_the_heavy_packages():
    code = (
        "import sys, kobrel.desk.window.window;"
        "print([m for m in ('numba', 'pxr', 'trimesh', 'OpenImageIO', 'scipy', 'typer') if m in sys.modules])"
    )
    made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert made.stdout == "[]\n"


def test_all_that_is_installed_is_pinned():
    pinned = {
        line.split("==")[0].lower().replace("_", "-")
        for line in (ROOT / "constraints.txt").read_text().split()
    }
    text = (ROOT / "pyproject.toml").read_text()
    wanted = re.findall(
        r'"([A-Za-z][\w.-]*)"', text[text.index("dependencies = [") : text.index("[project.scripts]")]
    )
    missing = {name.lower().replace("_", "-") for name in wanted if name != "dev"} - pinned
    assert not missing


def test_links_in_the_docs_lead_somewhere():
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        for target in re.findall(r"\]\(([^)#]+)", page.read_text()):
            if not target.startswith("http"):
                assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_what_the_docs_name_is_there():
    rooms = "|".join(
        path.name for path in (ROOT / "src" / "kobrel").iterdir() if (path / "__init__.py").exists()
    )
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        for name in re.findall(rf"`((?:{rooms})\.[\w.]+)", page.read_text()):
            assert _is_there(f"kobrel.{name}"), f"{page.name}: {name}"


def _is_there(name):
    """Whether a dotted name is a module, or something in one."""
    try:
        return pkgutil.resolve_name(name) is not None
    except (ImportError, AttributeError):
        return False


def test_only_optics_multiplies_pupil_and_image_distance():
    """Blur and stops are worked out by one function each; whoever needs them asks the camera."""
    pupil, image = {"pupil_mm"}, {"image_distance_mm", "image_mm"}
    found = []
    for path in sorted((ROOT / "src" / "kobrel").rglob("*.py")):
        if "optics" not in path.parts:
            found += [
                f"{path.relative_to(ROOT)}:{line}" for line in _multiplied(path.read_text(), pupil, image)
            ]
    assert found == []
    assert _multiplied("a = c.image_mm / float(c.pupil_mm)", pupil, image) == [1]
    assert _multiplied("a = f(c.image_mm, c.pupil_mm)", pupil, image) == []


def _multiplied(text, ones, others):
    """Lines in which a product or ratio has one of these names and one of those."""

    def names(node):
        kinds = (ast.Attribute, ast.Name)
        return {
            n.attr if isinstance(n, ast.Attribute) else n.id for n in ast.walk(node) if isinstance(n, kinds)
        }

    lines = []
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult | ast.Div):
            sides = names(node.left), names(node.right)
            if any(a & ones and b & others for a, b in (sides, sides[::-1])):
                lines.append(node.lineno)
    return lines


def test_every_file_has_one_subject():
    long = {
        path.name: count
        for path in (ROOT / "src").rglob("*.py")
        if (count := len(path.read_text().splitlines())) > 500
    }
    assert not long


def test_no_folder_is_crowded():
    crowded = {
        str(folder.relative_to(ROOT)): count
        for folder in (ROOT / "src").rglob("*/")
        if (count := len([path for path in folder.glob("*.py") if path.name != "__init__.py"])) > 15
    }
    assert not crowded


def test_the_table_of_modules_is_as_the_modules_are():
    made = subprocess.run([sys.executable, ROOT / "scripts" / "list_modules.py", "--check"], check=False)
    assert made.returncode == 0, "run: python scripts/list_modules.py"


def test_only_the_session_tells_of_its_changes():
    """No other module sends the session's events, and only `watch` listens to them."""
    pattern = re.compile(
        r"session\.(changed|said|wanted|aimed|closing)\.emit|session\.changed\.connect|session\._set\("
    )
    found = [
        f"{path.name}: {line.strip()}"
        for path in (ROOT / "src").rglob("*.py")
        if path.parent.name != "session"
        for line in path.read_text().splitlines()
        if pattern.search(line)
    ]
    assert not found


def test_an_error_tells_file_place_and_remedy_and_has_them():
    error = KobrelError("not a number.", file=Path("kit.csv"), place="line 3", remedy="Write it like 50.")
    assert str(error) == "kit.csv: line 3: not a number. Write it like 50."
    assert (error.what, error.file, error.place) == ("not a number.", Path("kit.csv"), "line 3")
    assert str(KobrelError("There is no lens.")) == "There is no lens."


def test_the_demo_is_made_by_its_script_and_small(tmp_path, monkeypatch):
    from kobrel.demo import make

    monkeypatch.setattr(make, "FOLDER", tmp_path)
    make.main()
    kept = Path(make.__file__).parent
    for name in ("night_ferry.kobrel", "planks.png", "compass.png"):
        assert (tmp_path / name).read_bytes() == (kept / name).read_bytes(), f"run: make scene ({name})"
    files = [path for path in kept.iterdir() if path.suffix not in (".py", "") and path.is_file()]
    assert sum(path.stat().st_size for path in files) < 4_000_000

"""Small changes to the code, to see whether its tests notice: python -m campaign.mutate_code --count 200.

A change turns a comparison, swaps plus and minus, times and divided, and and or, the branches of a
condition, least and most, true and false. The tests that run the changed line are run with it; what was noticed
is told for each package.
"""

import argparse
import ast
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "kobrel"
ENOUGH = 0.95
_COMPARISONS = {
    ast.Lt: ("<", "<="), ast.LtE: ("<=", "<"), ast.Gt: (">", ">="), ast.GtE: (">=", ">"), ast.Eq: ("==", "!="),
    ast.NotEq: ("!=", "=="), ast.In: (" in ", " not in "), ast.NotIn: (" not in ", " in "),
    ast.Is: (" is ", " is not "), ast.IsNot: (" is not ", " is "),
}  # fmt: skip
_OPERATORS = {ast.Add: ("+", "-"), ast.Sub: ("-", "+"), ast.Mult: ("*", "/"), ast.Div: ("/", "*")}
_NAMES = {"min": "max", "max": "min", "all": "any", "any": "all", "minimum": "maximum", "maximum": "minimum",
          "floor": "ceil", "ceil": "floor", "sin": "cos", "cos": "sin"}  # fmt: skip
_MOST_TESTS = 25
_PATIENCE_S = 200


class Change(NamedTuple):
    """A change to a line: what it was and what it becomes, from a place in the text on."""

    path: Path
    line: int
    start: int
    end: int
    new: str
    words: str


def changes_of(path: Path) -> Iterator[Change]:
    """All changes that may be made to a module."""
    text = path.read_text()
    tree = ast.parse(text)
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))
    content = text.encode()

    def at(line: int, column: int) -> int:
        return starts[line - 1] + column

    passed: set[ast.AST] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Raise | ast.Assert | ast.JoinedStr | ast.AnnAssign):
            inner = [node.annotation] if isinstance(node, ast.AnnAssign) else [node]
            passed.update(child for part in inner for child in ast.walk(part))
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            notes = [a.annotation for a in ast.walk(node.args) if isinstance(a, ast.arg) and a.annotation]
            notes += [node.returns] if node.returns else []
            passed.update(child for note in notes for child in ast.walk(note))
        if isinstance(node, ast.FunctionDef | ast.ClassDef):  # declarations: frozen, eq, cached
            passed.update(child for decorator in node.decorator_list for child in ast.walk(decorator))
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test):
            passed.update(ast.walk(node))
    for node in ast.walk(tree):
        if node in passed:
            continue
        pair = None
        if isinstance(node, ast.Compare) and len(node.ops) == 1:
            pair = (_COMPARISONS.get(type(node.ops[0])), node.left, node.comparators[0])
        elif isinstance(node, ast.BinOp):
            pair = (_OPERATORS.get(type(node.op)), node.left, node.right)
        elif isinstance(node, ast.BoolOp):
            word = (" and ", " or ") if isinstance(node.op, ast.And) else (" or ", " and ")
            pair = (word, node.values[0], node.values[1])
        if pair is not None and pair[0] is not None:
            (old, new), left, right = pair
            low, high = at(left.end_lineno, left.end_col_offset), at(right.lineno, right.col_offset)
            between = content[low:high].decode()
            place = between.find(old.strip() if "\n" in between else old)
            if place >= 0:
                old = old.strip() if "\n" in between else old
                new = new.strip() if "\n" in between else new
                yield Change(
                    path,
                    left.end_lineno,
                    low + place,
                    low + place + len(old),
                    new,
                    f"{old.strip()} becomes {new.strip()}",
                )
        elif isinstance(node, ast.If | ast.IfExp | ast.While) and not isinstance(node.test, ast.Compare):
            test = node.test
            low, high = at(test.lineno, test.col_offset), at(test.end_lineno, test.end_col_offset)
            whole = content[low:high].decode()
            yield Change(path, test.lineno, low, high, f"(not ({whole}))", f"if {whole[:30]} is turned")
        elif isinstance(node, ast.Constant) and node.value in (True, False) and isinstance(node.value, bool):
            low, high = at(node.lineno, node.col_offset), at(node.end_lineno, node.end_col_offset)
            yield Change(
                path, node.lineno, low, high, str(not node.value), f"{node.value} becomes {not node.value}"
            )
        elif isinstance(node, ast.Call):
            name = node.func
            word = (
                name.id
                if isinstance(name, ast.Name)
                else name.attr
                if isinstance(name, ast.Attribute)
                else ""
            )
            if word in _NAMES:
                high = at(name.end_lineno, name.end_col_offset)
                yield Change(
                    path,
                    name.end_lineno,
                    high - len(word),
                    high,
                    _NAMES[word],
                    f"{word} becomes {_NAMES[word]}",
                )


def packages() -> list[str]:
    """All packages; "" has the modules beside them."""
    return ["", *sorted(path.parent.name for path in SOURCE.glob("*/__init__.py"))]


def package_of(path: Path) -> str:
    """The package that a module belongs to."""
    parts = path.relative_to(SOURCE).parts
    return parts[0] if len(parts) > 1 else ""


def sampled(count: int, seed: int, among: list[str] | None = None) -> list[Change]:
    """So many changes, as many of each package, drawn evenly from its modules."""
    among = packages() if among is None else among
    found: list[Change] = []
    for package in among:
        inside = (SOURCE / package).rglob("*.py") if package else SOURCE.glob("*.py")
        changes = [change for path in sorted(inside) for change in changes_of(path)]
        dice = random.Random(f"{seed} {package}")
        found += dice.sample(changes, min(-(-count // len(among)), len(changes)))
    return found


def tests_by_line(kept: Path) -> dict[str, dict[int, list[str]]]:
    """Which tests run which lines: made once, and kept in a file."""
    if kept.exists():
        return {
            name: {int(k): v for k, v in lines.items()}
            for name, lines in json.loads(kept.read_text()).items()
        }
    import coverage

    with tempfile.TemporaryDirectory() as folder:
        settings, data = Path(folder) / "rc", Path(folder) / "data"
        settings.write_text(f"[run]\nsource = kobrel\ndynamic_context = test_function\ndata_file = {data}\n")
        command = [
            sys.executable,
            "-m",
            "coverage",
            "run",
            f"--rcfile={settings}",
            "-m",
            "pytest",
            "-q",
            "-p",
            "no:xdist",
            "tests",
        ]
        subprocess.run(command, cwd=ROOT, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}, check=False)
        found = coverage.CoverageData(str(data))
        found.read()
        result: dict[str, dict[int, list[str]]] = {}
        for name in found.measured_files():
            lines = found.contexts_by_lineno(name)
            short = str(Path(name).resolve().relative_to(ROOT))
            result[short] = {
                line: [_node(c) for c in contexts if c.startswith("tests.")]
                for line, contexts in lines.items()
            }
    kept.parent.mkdir(exist_ok=True)
    kept.write_text(json.dumps(result))
    return result


def _node(context: str) -> str:
    """The test of a context, as pytest takes it."""
    parts = context.split(".")
    index = next(k for k, part in enumerate(parts) if part.startswith("test_"))
    return f"{'/'.join(parts[: index + 1])}.py::{'::'.join(parts[index + 1 :])}"


def tests_for(change: Change, known: dict[str, dict[int, list[str]]], reach: Counter[str]) -> list[str]:
    """The tests that run a changed line, those first that run little else; where none is known to, as in
    compiled code, those of the module's room.
    """
    lines = known.get(str(change.path.relative_to(ROOT)), {})
    near = [test for line in range(change.line - 3, change.line + 4) for test in lines.get(line, [])]
    whole = [test for tests in lines.values() for test in tests]  # of constants, all that use the module
    chosen = sorted(set(lines.get(change.line) or near or whole), key=lambda test: reach[test])[:_MOST_TESTS]
    own = ROOT / "tests" / package_of(change.path)
    if "@kernel" in change.path.read_text() or not chosen:
        chosen += [str(own.relative_to(ROOT)) if own.is_dir() else "tests/test_cli.py"]
    return [*chosen, "tests/test_expected.py"]


class Verdicts:
    """Tries changes in several copies of the code at once."""

    def __init__(self, changes: list[Change], known: dict[str, dict[int, list[str]]]) -> None:
        self._waiting, self._known = list(changes), known
        self._reach = Counter(test for lines in known.values() for tests in lines.values() for test in tests)
        self._lock = threading.Lock()
        self.noticed, self.tried = Counter[str](), Counter[str]()
        self.missed: list[Change] = []

    def run(self, workers: int) -> None:
        """Try them all."""
        threads = [threading.Thread(target=self._work) for _ in range(workers)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def _work(self) -> None:
        with tempfile.TemporaryDirectory(prefix="kobrel-mutant-") as folder:
            copy = Path(folder)
            for name in ("src", "tests", "campaign", "docs", "scripts"):
                shutil.copytree(ROOT / name, copy / name)
            for name in ("pyproject.toml", "README.md", "Makefile"):
                shutil.copy(ROOT / name, copy / name)
            while True:
                with self._lock:
                    if not self._waiting:
                        return
                    change = self._waiting.pop()
                begun = time.monotonic()
                noticed = self._tried(change, copy)
                with self._lock:
                    self.tried[package_of(change.path)] += 1
                    self.noticed[package_of(change.path)] += noticed
                    if not noticed:
                        self.missed.append(change)
                    where = f"{change.path.relative_to(SOURCE)}:{change.line}"
                    print(
                        f"{'noticed' if noticed else 'MISSED '} {where} {change.words} ({time.monotonic() - begun:.0f} s)",
                        flush=True,
                    )

    def _tried(self, change: Change, copy: Path) -> bool:
        """Whether a test fails with the change."""
        target = copy / change.path.relative_to(ROOT)
        whole = change.path.read_bytes()
        tests = tests_for(change, self._known, self._reach)
        target.write_bytes(whole[: change.start] + change.new.encode() + whole[change.end :])
        try:
            if not tests:
                return False
            command = [
                sys.executable,
                "-m",
                "pytest",
                "-q",
                "-x",
                "-p",
                "no:cacheprovider",
                "-p",
                "no:xdist",
                *tests,
            ]
            environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "QT_QPA_PLATFORM": "offscreen", "PYTHONDONTWRITEBYTECODE": "1",
                           "NUMBA_CACHE_DIR": str(copy / "numba")}  # fmt: skip
            done = subprocess.run(
                command, cwd=copy, env=environment, capture_output=True, timeout=_PATIENCE_S, check=False
            )
            return done.returncode not in (0, 5)  # a module that cannot even be loaded is noticed too
        except subprocess.TimeoutExpired:
            return False
        finally:
            target.write_bytes(whole)


def main() -> int:
    """Sample, try and tell; 1 if fewer than 95 of 100 are noticed in any package."""
    parser = argparse.ArgumentParser(prog="python -m campaign.mutate_code", description=__doc__)
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--package", action="append", help="only this one; may be given again")
    given = parser.parse_args()
    known = tests_by_line(ROOT / "build" / "tests_by_line.json")
    changes = sampled(given.count, given.seed, given.package)
    verdicts = Verdicts(changes, known)
    verdicts.run(given.workers)
    for package, tried in sorted(verdicts.tried.items()):
        print(f"{package or 'kobrel':10} {verdicts.noticed[package]:4} of {tried:4} noticed")
    for change in verdicts.missed:
        line = change.path.read_text().splitlines()[change.line - 1].strip()
        print(f"{change.path.relative_to(ROOT)}:{change.line}: {change.words}\n    {line}")
    enough = (verdicts.noticed[package] >= ENOUGH * tried for package, tried in verdicts.tried.items())
    return 0 if all(enough) else 1


if __name__ == "__main__":
    sys.exit(main())

"""Writes the table of modules into docs/architecture.md, from the first line of each docstring."""

import ast
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]
PAGE = ROOT / "docs" / "architecture.md"
START, END = "<!-- modules -->\n", "<!-- end of modules -->\n"


def job(path: Path) -> str:
    """What a module says that it is for."""
    text = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))) or ""
    return " ".join(text.split("\n\n")[0].split()).rstrip(".").replace("|", "\\|")


def table() -> str:
    """All modules, folder by folder."""
    source = ROOT / "src" / "kobrel"
    lines = []
    for folder in sorted({path.parent for path in source.rglob("*.py")}):
        name = ".".join(("kobrel", *folder.relative_to(source).parts))
        lines += [f"\n### `{name}`\n\n{job(folder / '__init__.py')}.\n\n| module | job |\n|---|---|\n"]
        modules = [path for path in sorted(folder.glob("*.py")) if not path.stem.startswith("__")]
        lines += [f"| `{path.stem}` | {job(path)} |\n" for path in modules]
        if not modules:
            lines.pop()
    return "".join(lines) + "\n"


def page() -> str:
    """The page as it has to be."""
    text = PAGE.read_text(encoding="utf-8")
    before, rest = text.split(START)
    return before + START + table() + END + rest.split(END)[1]


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if page() == PAGE.read_text(encoding="utf-8") else 1)
    PAGE.write_text(page(), encoding="utf-8")

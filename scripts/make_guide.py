"""Writes the guide that the window shows, from the README and docs/guide.md."""

import re
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent
GUIDE = ROOT / "src" / "kobrel" / "data" / "guide.md"
_SECTIONS = ("A tour of five minutes", "Without a scene", "On your own scene", "Keys")


def made() -> str:
    """The guide's text."""
    readme = (ROOT / "README.md").read_text()
    parts = re.split(r"^## ", readme, flags=re.MULTILINE)
    by_name = {part.split("\n", 1)[0]: part for part in parts[1:]}
    text = "\n\n".join(f"## {by_name[name].strip()}" for name in _SECTIONS)
    text += "\n\n" + (ROOT / "docs" / "guide.md").read_text().split("\n", 1)[1].strip() + "\n"
    lines = [line for line in text.splitlines() if "](docs/screenshots/" not in line]
    text = "\n".join(lines).replace("| | |\n|---|---|\n", "")
    return re.sub(r"\[([^\]]+)\]\([^)]+\)", r"\1", text).rstrip() + "\n"


def main() -> int:
    """Write it."""
    GUIDE.write_text(made())
    return 0


if __name__ == "__main__":
    sys.exit(main())

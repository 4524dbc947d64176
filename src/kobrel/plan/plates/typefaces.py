"""Typefaces for titles: the one that ships with Kobrel, and those of the system."""

import os
from functools import cache
from pathlib import Path
from typing import NamedTuple

from PIL import ImageFont

import kobrel
from kobrel.plan.pictures.drawn import PLAIN_STYLE, SHIPPED_FAMILY, Title

_ENDINGS = (".ttf", ".otf", ".ttc", ".otc")
_MOST_FILES, _MOST_IN_ONE = 5000, 32


class Face(NamedTuple):
    """A typeface in one weight: its file, and which of the file's faces."""

    path: Path
    number: int = 0


def face_of(title: Title) -> tuple[Face, str]:
    """The typeface of a title, and what stands for it where it is not on this machine, as a sentence or
    empty.
    """
    found = families() if title.family != SHIPPED_FAMILY else shipped()
    styles = found.get(title.family)
    if styles is None:
        return shipped()[SHIPPED_FAMILY][PLAIN_STYLE], (
            f"The typeface {title.family} is not installed; {SHIPPED_FAMILY} is used instead."
        )
    if title.style in styles:
        return styles[title.style], ""
    other = PLAIN_STYLE if PLAIN_STYLE in styles else next(iter(styles))
    return styles[other], f"{title.family} {title.style} is not installed; {other} is used instead."


@cache
def shipped() -> dict[str, dict[str, Face]]:
    """The families that ship with Kobrel, with their styles."""
    return _families_in([Path(kobrel.__file__).parent / "data" / "fonts"])


@cache
def families() -> dict[str, dict[str, Face]]:
    """All families by name, with their styles; looked up once, which takes a moment where there are many."""
    home = Path.home()
    data = os.environ.get("XDG_DATA_HOME") or str(home / ".local" / "share")
    shared = os.environ.get("XDG_DATA_DIRS") or "/usr/local/share:/usr/share"
    folders = [home / ".fonts", *(Path(each) / "fonts" for each in (data, *shared.split(":")) if each)]
    found = {**_families_in(folders), **shipped()}
    return dict(sorted(found.items(), key=lambda each: each[0].casefold()))


def _families_in(folders: list[Path]) -> dict[str, dict[str, Face]]:
    found: dict[str, dict[str, Face]] = {}
    files = (path for folder in folders for path in sorted(folder.rglob("*")))
    for number, path in enumerate(each for each in files if each.suffix.lower() in _ENDINGS):
        if number >= _MOST_FILES:
            break
        for index in range(_MOST_IN_ONE):
            try:
                family, style = ImageFont.truetype(path, 16, index).getname()
            except (OSError, ValueError):  # no font, or no further one in it
                break
            if family and style:
                found.setdefault(family, {}).setdefault(style, Face(path, index))
            if path.suffix.lower() not in (".ttc", ".otc"):
                break
    return found

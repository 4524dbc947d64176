"""The desktop's own list of recent files, which other programs show too (freedesktop.org, XBEL)."""

import contextlib
import fcntl
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from platformdirs import user_data_path

from kobrel.files import write_whole

KIND = "application/x-kobrel-plan"
_BOOKMARK = "http://www.freedesktop.org/standards/desktop-bookmarks"
_MIME = "http://www.freedesktop.org/standards/shared-mime-info"
_OWNER = "http://freedesktop.org"
_MOST_BYTES = 16 << 20


def list_path() -> Path:
    """Where the desktop keeps its list."""
    return user_data_path() / "recently-used.xbel"


def note_recent(path: Path, kind: str = KIND, where: Path | None = None) -> None:
    """Put a file on the list. A list that cannot be read is left alone.

    Parameters
    ----------
    kind : of the file, as MIME
    where : the list; the desktop's own if none
    """
    listed = where or list_path()
    with contextlib.suppress(OSError), _locked(listed):
        root = _read(listed)
        if root is None:
            return
        uri, now = path.absolute().as_uri(), datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        mark = next((each for each in root.findall("bookmark") if each.get("href") == uri), None)
        if mark is None:
            mark = ET.SubElement(root, "bookmark", href=uri, added=now)
            _describe(mark, kind)
        mark.set("modified", now)
        mark.set("visited", now)
        _count(mark, now)
        write_whole(listed, ET.tostring(root, encoding="UTF-8", xml_declaration=True), flush=False)


@contextlib.contextmanager
def _locked(listed: Path) -> Iterator[None]:
    """Keep other Kobrels from writing the list meanwhile."""
    listed.parent.mkdir(parents=True, exist_ok=True)
    with (listed.parent / ".kobrel-recent.lock").open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


def _read(listed: Path) -> ET.Element | None:
    """The list, a new one where there is none; None for what is no list, or odd."""
    for prefix, space in (("bookmark", _BOOKMARK), ("mime", _MIME)):
        ET.register_namespace(prefix, space)
    if not listed.exists():
        return ET.Element("xbel", version="1.0")
    content = listed.read_bytes()
    if len(content) > _MOST_BYTES or b"<!ENTITY" in content:
        return None
    try:
        root = ET.fromstring(content)
    except ET.ParseError:
        return None
    return root if root.tag == "xbel" else None


def _describe(mark: ET.Element, kind: str) -> None:
    metadata = ET.SubElement(ET.SubElement(mark, "info"), "metadata", owner=_OWNER)
    ET.SubElement(metadata, f"{{{_MIME}}}mime-type", type=kind)
    ET.SubElement(metadata, f"{{{_BOOKMARK}}}applications")


def _count(mark: ET.Element, now: str) -> None:
    """Note that Kobrel opened it once more."""
    programs = mark.find(f"info/metadata/{{{_BOOKMARK}}}applications")
    if programs is None:
        return
    tag = f"{{{_BOOKMARK}}}application"
    ours = next((each for each in programs.findall(tag) if each.get("name") == "Kobrel"), None)
    if ours is None:
        ours = ET.SubElement(programs, tag, name="Kobrel", exec="'kobrel %u'", count="0")
    ours.set("modified", now)
    known = ours.get("count", "0")
    ours.set("count", str(int(known) + 1 if known.isdecimal() else 1))

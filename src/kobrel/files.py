"""Files: read only if they are plain files within bounds, and written whole or not at all."""

import contextlib
import csv
import hashlib
import io
import json
import os
import re
import shutil
import stat
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from kobrel.errors import KobrelError

MOST_TEXT_BYTES = 64 << 20
"""The largest text file that is read: a plan, a list, a lens set."""
MOST_DEPTH = 100
"""How deep JSON may nest."""
_MOST_DIGITS = 400
_MOST_NAME = 255
_STRINGS = re.compile(rb'"[^"\\]*(?:\\.[^"\\]*)*"?', re.DOTALL)
_HALVES = re.compile(r"\\u[dD][89a-fA-F]")
_NUMBERS = re.compile(rb"[0-9]{%d}" % _MOST_DIGITS)


def make_folder(path: Path) -> None:
    """Make a folder, and those above it, where it is not there.

    Raises
    ------
    KobrelError
        It cannot be made.
    """
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise KobrelError(f"the folder cannot be made ({error.strerror}).", file=path) from None


def require_file(path: Path, kind: type[KobrelError] = KobrelError, most_bytes: int | None = None) -> int:
    """See that a path is a plain file that is not too large, and return its bytes.

    Raises
    ------
    KobrelError
        It is missing, no plain file (a folder, pipe or device), larger, or cannot be looked at.
    """
    try:
        found = path.stat()
    except (FileNotFoundError, NotADirectoryError):
        raise kind("no such file.", file=path) from None
    except (OSError, ValueError) as error:
        raise kind(f"cannot be read ({reason(error)}).", file=str(path).replace("\0", "�")) from None
    if not stat.S_ISREG(found.st_mode):
        raise kind("not a file but a folder, a pipe or a device.", file=path, remedy="Choose a file.")
    if most_bytes is not None and found.st_size > most_bytes:
        raise kind(
            f"the file is too large, {found.st_size >> 20} MB; {most_bytes >> 20} MB are read.", file=path
        )
    return found.st_size


def is_file(path: Path) -> bool:
    """Whether a path is a plain file; one that can be no path is none.

    >>> is_file(Path("x" * 5000)), is_file(Path("a\\0b"))
    (False, False)
    """
    return os.path.isfile(path)


def reason(error: OSError | ValueError) -> str:
    """Why the system refused, in words."""
    return (error.strerror if isinstance(error, OSError) else None) or str(error)


def bytes_of(
    path: Path, kind: type[KobrelError] = KobrelError, most_bytes: int | None = MOST_TEXT_BYTES
) -> bytes:
    """The content of a plain file.

    Raises
    ------
    KobrelError
        As :func:`require_file`.
    """
    require_file(path, kind, most_bytes)
    try:
        return path.read_bytes()
    except OSError as error:
        raise kind(f"cannot be read ({reason(error)}).", file=path) from None


def text_of(path: Path, kind: type[KobrelError] = KobrelError) -> str:
    """The text of a file in UTF-8.

    Raises
    ------
    KobrelError
        As :func:`require_file`, or it is of another encoding.
    """
    try:
        return bytes_of(path, kind).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise kind(
            f"not a text in UTF-8 (byte {error.start}).", file=path, remedy="Save it as UTF-8."
        ) from None


def json_of(path: Path, kind: type[KobrelError] = KobrelError, remedy: str = "") -> Any:
    """What a JSON file holds.

    Raises
    ------
    KobrelError
        As :func:`text_of`, or it is no JSON, nests too deep or has endless numbers; says where.
    """
    text = text_of(path, kind)
    fault = json_fault(text.encode("utf-8", "replace"))
    if fault:
        raise kind(fault, file=path)
    try:
        found = json.loads(text)
        if _HALVES.search(text):  # halves of characters, which no file can hold
            json.dumps(found, ensure_ascii=False).encode()
        return found
    except UnicodeEncodeError:
        raise kind("it has halves of characters in it.", file=path, remedy="Write it again.") from None
    except json.JSONDecodeError as error:
        raise kind(
            f"not valid JSON ({error.msg}).",
            file=path,
            place=f"line {error.lineno}, column {error.colno}",
            remedy=remedy,
        ) from None


def csv_lines(
    text: str, file: Path | str, kind: type[KobrelError] = KobrelError, delimiter: str = ","
) -> list[list[str]]:
    """The cells of each line of a table in text.

    Raises
    ------
    KobrelError
        It is no such table; says where.
    """
    reader = csv.reader(io.StringIO(text), delimiter=delimiter, skipinitialspace=True)
    try:
        return list(reader)
    except csv.Error as error:
        raise kind(f"no table in text ({error}).", file=file, place=f"line {reader.line_num}") from None


def json_fault(text: bytes) -> str:
    """Why JSON should not be parsed at all: it nests too deep, or has a number of endless digits.

    >>> json_fault(b"[" * 200)
    'its parts are nested more than 100 deep.'
    """
    if _NUMBERS.search(_STRINGS.sub(b"", text)):
        return f"it has a number of more than {_MOST_DIGITS} digits."
    return f"its parts are nested more than {MOST_DEPTH} deep." if nesting(text) > MOST_DEPTH else ""


def nesting(text: bytes) -> int:
    """How deep brackets and braces nest in text, but for those in quotes.

    >>> nesting(b'{"a": [1, "[["]}')
    2
    """
    signs = np.frombuffer(_STRINGS.sub(b"", text), np.uint8)
    step = np.zeros(256, np.int8)
    step[list(b"[{")], step[list(b"]}")] = 1, -1
    return int(np.cumsum(step[signs], dtype=np.int64).max(initial=0))


_UNSAFE = '/\\:*?"<>|\0'
_noted: list[list[Path]] = []


def note_written(path: Path) -> None:
    """Note that a file was written for the person, if somebody asks."""
    for each in _noted:
        each.append(path)


@contextlib.contextmanager
def noting_written() -> Iterator[list[Path]]:
    """The files that are written for the person from now on, in their order.

    >>> with noting_written() as found:
    ...     note_written(Path("a.exr"))
    >>> found
    [PosixPath('a.exr')]
    """
    found: list[Path] = []
    _noted.append(found)
    try:
        yield found
    finally:
        _noted[:] = [each for each in _noted if each is not found]


def write_whole(
    path: Path, content: bytes, versions: int = 0, flush: bool = True, follow: bool = True
) -> None:
    """Write a file atomically, see :func:`written_beside`.

    Raises
    ------
    OSError
        As the system says; `path` is then untouched.
    """
    with written_beside(path, versions, flush, follow) as beside:
        beside.write_bytes(content)


@contextlib.contextmanager
def written_beside(path: Path, versions: int = 0, flush: bool = True, follow: bool = True) -> Iterator[Path]:
    """A new, empty file beside a path, to be written to; it takes its place if nothing was raised meanwhile.

    It has a name that nobody can know before, and was made by this call: what a stranger left in the folder
    is not written to.

    Parameters
    ----------
    versions : how many earlier versions of the file are kept, see :func:`versions_of`
    flush : whether to wait until it is on the disk, so that it outlives a power cut
    follow : whether a link is followed, and what it leads to replaced; else the link itself is

    Raises
    ------
    OSError
        As the system says; `path` and its versions are then untouched.
    """
    target = real_place(path) if follow else path.absolute()
    # A name beside is never longer than a name may be, whatever the file is called.
    handle, name = tempfile.mkstemp(
        dir=target.parent, prefix=f".{cut_name(target.stem, 40)}.", suffix=cut_name(target.suffix, 16)
    )
    os.close(handle)
    beside = Path(name)
    try:
        yield beside
        os.chmod(beside, _mode_of(target))
        put_in_place(beside, target, versions, flush)
    finally:
        beside.unlink(missing_ok=True)


def real_place(path: Path) -> Path:
    """Where a file really is, links followed; the path itself where that cannot be known.

    >>> real_place(Path("/usr/../a\\0b"))
    PosixPath('/usr/../a\\x00b')
    """
    try:
        return Path(os.path.realpath(path))
    except (OSError, ValueError):
        return path.absolute()


def _mode_of(target: Path) -> int:
    """The rights of a file, or of one that will be made."""
    try:
        found = target.lstat().st_mode
    except OSError:
        return 0o644
    return found & 0o777 if stat.S_ISREG(found) else 0o644


def put_in_place(fresh: Path, target: Path, versions: int = 0, flush: bool = True) -> None:
    """Let a finished file take the place of another in the same folder, or one below.

    Raises
    ------
    OSError
        As the system says; `target` and its versions are then untouched.
    """
    if flush:
        _flush_file(fresh)
    if versions and target.is_file():
        _keep_version(target, versions)
    os.replace(fresh, target)
    if flush:
        flush_folder(target.parent)


def _flush_file(path: Path) -> None:
    """Wait until a file is on the disk.

    Raises
    ------
    OSError
        The disk did not take it, though the writing library may have said nothing.
    """
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def flush_folder(folder: Path) -> None:
    """Make sure that what was renamed in a folder is on the disk; where a system cannot, nothing happens."""
    try:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    except OSError:
        return
    with contextlib.suppress(OSError):
        os.fsync(handle)
    os.close(handle)


def plain_name(name: str, otherwise: str) -> str:
    """A name as a file may have it anywhere, without an ending.

    >>> plain_name("Lantern: f/2.8", "proof"), plain_name(" . ", "proof")
    ('Lantern_ f_2.8', 'proof')
    """
    return "".join("_" if letter in _UNSAFE else letter for letter in name).strip(" .")[:80] or otherwise


def cut_name(name: str, most: int) -> str:
    """The beginning of a name, of so many bytes at most.

    >>> cut_name("Wandlung", 4), cut_name("äöü", 3)
    ('Wand', 'ä')
    """
    return os.fsdecode(os.fsencode(name)[:most]) if name.isascii() else _whole_letters(name, most)


def _whole_letters(name: str, most: int) -> str:
    return os.fsencode(name)[:most].decode("utf-8", "ignore")


def beside_name(path: Path, before: str, after: str) -> Path:
    """A file that belongs to another, beside it: its name with something before and after.

    Where that would be longer than names may be, the middle is cut and a digest tells it from others.

    >>> beside_name(Path("ferry.kobrel"), ".", ".journal").name
    '.ferry.kobrel.journal'
    >>> len(beside_name(Path("x" * 255), ".", ".journal").name)
    255
    """
    name = f"{before}{path.name}{after}"
    if len(os.fsencode(name)) > _MOST_NAME:
        digest = hashlib.sha256(os.fsencode(path.name)).hexdigest()[:16]
        room = _MOST_NAME - len(os.fsencode(f"{before}-{digest}{after}"))
        name = f"{before}{cut_name(path.name, room)}-{digest}{after}"
    return path.with_name(name)


def _version(path: Path, number: int) -> Path:
    return beside_name(path, "", f"~{number if number > 1 else ''}")


def _keep_version(path: Path, most: int) -> None:
    """What is there becomes the last version, and each version the one before it.

    The new version is whole before any other is moved; a second name of the file takes no room.
    """
    last = _version(path, 1)
    if last.exists() and last.samefile(path):
        return  # kept by an attempt to save that failed afterwards
    with tempfile.TemporaryDirectory(prefix=".kobrel", dir=path.parent) as folder:
        kept = Path(folder) / "version"
        try:
            os.link(path, kept)
        except OSError:  # a file system without second names
            shutil.copy2(path, kept)
            _flush_file(kept)
        for number in range(most - 1, 0, -1):
            if _version(path, number).exists():
                os.replace(_version(path, number), _version(path, number + 1))
        os.replace(kept, last)


def versions_of(path: Path, most: int = 99) -> list[Path]:
    """Earlier versions of a file that are kept beside it, the latest first: NAME~, NAME~2 and so on."""
    real = real_place(path)
    return [found for number in range(1, most + 1) if is_file(found := _version(real, number))]

"""Whether a file that a library wrote is whole: not all libraries tell that the disk is full.

Each kind of file is known by its ending and looked at to its end. What is written by Python's own functions
raises by itself, and need not be looked at.
"""

import struct
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

from kobrel.errors import ExchangeError

_BLOCK = 1 << 20


def require_whole(path: Path, wanted: Path) -> None:
    """See that a file was written to its end.

    Parameters
    ----------
    wanted : where it is to be

    Raises
    ------
    ExchangeError
        It was not.
    """
    check = _CHECKS.get(path.suffix.lower(), _is_not_empty)
    try:
        whole = check(path)
    except (OSError, ValueError, struct.error):
        whole = False
    if not whole:
        raise ExchangeError(
            "cannot be written to its end.", file=wanted, remedy="The disk may be full: make room on it."
        )


def _is_not_empty(path: Path) -> bool:
    return path.stat().st_size > 0


def _is_whole_png(path: Path) -> bool:
    """Every chunk has its checksum, and the last one ends the file."""
    with path.open("rb") as file:
        if file.read(8) != b"\x89PNG\r\n\x1a\n":
            return False
        while len(head := file.read(8)) == 8:
            size, kind = struct.unpack(">I4s", head)
            if _checksum(file, size, zlib.crc32(kind)) != file.read(4):
                return False
            if kind == b"IEND":
                return not file.read(1)
    return False


def _checksum(file: BinaryIO, size: int, sum_: int) -> bytes:
    while size > 0 and (block := file.read(min(size, _BLOCK))):
        sum_, size = zlib.crc32(block, sum_), size - len(block)
    return struct.pack(">I", sum_)


def _is_whole_picture(path: Path) -> bool:
    """Every row of every part can be read."""
    import OpenImageIO as oiio  # noqa: N813

    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        return False
    try:
        part = 0
        while source.seek_subimage(part, 0):
            spec = source.spec()
            rows = max(1, _BLOCK * 16 // max(1, spec.scanline_bytes()))
            for row in range(spec.y, spec.y + spec.height, rows):
                last = min(row + rows, spec.y + spec.height)
                if source.read_scanlines(part, 0, row, last, 0, 0, spec.nchannels, oiio.UNKNOWN) is None:
                    return False
            part += 1
        return part > 0
    finally:
        source.geterror()
        source.close()


def _is_whole_jpeg(path: Path) -> bool:
    """It ends with its last marker; decoders make up what is missing before it."""
    return _end_of(path).endswith(b"\xff\xd9") and _is_whole_picture(path)


def _end_of(path: Path) -> bytes:
    with path.open("rb") as file:
        file.seek(max(0, path.stat().st_size - 64))
        return file.read()


def _is_whole_movie(path: Path) -> bool:
    """Its boxes fill it to the end, and its index is among them (ISO 14496-12)."""
    end, at, kinds = path.stat().st_size, 0, set()
    with path.open("rb") as file:
        while at < end:
            file.seek(at)
            size, kind = struct.unpack(">I4s", file.read(8))
            size = struct.unpack(">Q", file.read(8))[0] if size == 1 else size
            if size < 8:
                return False
            kinds.add(kind)
            at += size
    return at == end and {b"moov", b"mdat"} <= kinds


def _is_whole_sound(path: Path) -> bool:
    """What its head says is all there is (RIFF), and its samples are counted."""
    with path.open("rb") as file:
        kind, size, form = struct.unpack("<4sI4s", file.read(12))
    return bool(kind == b"RIFF" and form == b"WAVE" and size + 8 == path.stat().st_size > 44)


def _is_whole_usd(path: Path) -> bool:
    from pxr import Sdf, Tf

    try:
        return Sdf.Layer.OpenAsAnonymous(str(path)) is not None
    except Tf.ErrorException:
        return False


def _is_whole_alembic(path: Path) -> bool:
    """It was closed, and its root lies within it (the Ogawa container)."""
    with path.open("rb") as file:
        name, closed, _version, root = struct.unpack("<5sBHQ", file.read(16))
        file.seek(root)
        count = struct.unpack("<Q", file.read(8))[0]
        end = root + 8 + 8 * count
    return bool(name == b"Ogawa" and closed == 0xFF and count > 0 and end <= path.stat().st_size)


def _is_whole_pdf(path: Path) -> bool:
    return _end_of(path).rstrip().endswith(b"%%EOF")


def _is_whole_zip(path: Path) -> bool:
    try:
        with zipfile.ZipFile(path) as packed:
            return packed.testzip() is None
    except zipfile.BadZipFile:
        return False


_CHECKS: dict[str, Callable[[Path], bool]] = {
    ".png": _is_whole_png,
    **dict.fromkeys((".exr", ".tif", ".tiff"), _is_whole_picture),
    **dict.fromkeys((".jpg", ".jpeg"), _is_whole_jpeg),
    **dict.fromkeys((".mp4", ".mov"), _is_whole_movie),
    ".wav": _is_whole_sound,
    **dict.fromkeys((".usda", ".usdc", ".usd"), _is_whole_usd),
    ".abc": _is_whole_alembic,
    ".pdf": _is_whole_pdf,
    **dict.fromkeys((".ora", ".usdz", ".otioz"), _is_whole_zip),
}

"""Files on a worker: read where they lie if it sees them, else kept by their content as they arrive."""

import hashlib
import os
import shutil
import threading
import time
from collections.abc import Sequence
from pathlib import Path

from platformdirs import user_cache_path

from kobrel import trust
from kobrel.errors import KobrelError
from kobrel.farm.bundle import Bundle, File, digest_of

CACHE = "KOBREL_FARM_CACHE"
"""Variable of the environment: the folder that files are kept in."""
_UNUSED_DAYS = 14.0


def folder() -> Path:
    """Where files are kept that came over the network."""
    return Path(os.environ.get(CACHE) or user_cache_path("kobrel") / "farm")


def sees(file: File) -> bool:
    """Whether the very file lies here where it lies for whoever gave the job."""
    path = Path(file.path)
    try:
        return path.stat().st_size == file.size and digest_of(path) == file.digest
    except (OSError, KobrelError):
        return False


def _blob(digest: str) -> Path:
    return folder() / "files" / digest[:2] / digest


def missing(files: Sequence[File]) -> list[str]:
    """The digests of those files that are neither seen nor kept here."""
    lacking = [file.digest for file in files if not sees(file) and not _blob(file.digest).is_file()]
    return list(dict.fromkeys(lacking))


def keep_piece(digest: str, start: int, piece: bytes, last: bool) -> None:
    """Keep a piece of a file; with the last one the file is there, if it is what it should be.

    Raises
    ------
    KobrelError
        A piece is missing, or the content is another.
    """
    whole = _blob(digest)
    part = whole.with_name(f"{digest}.{os.getpid()}.part")
    whole.parent.mkdir(parents=True, exist_ok=True)
    with part.open("r+b" if start else "wb") as file:
        file.seek(start)
        file.write(piece)
    if not last:
        return
    with part.open("rb") as file:
        arrived = hashlib.file_digest(file, "sha256").hexdigest()
    if arrived != digest:
        part.unlink()
        raise KobrelError("a file arrived damaged.", file=whole, remedy="Run the job again.")
    part.replace(whole)


_laying = threading.Lock()


def laid_out(bundle: Bundle) -> Path | None:
    """A folder in which a bundle's files lie below their own paths; None where all are seen in their places.

    Raises
    ------
    KobrelError
        One is not here.
    """
    if all(sees(file) for file in bundle.files):
        trust.allow({Path(file.path).parent for file in bundle.files})
        return None
    root = folder() / "sets" / bundle.of_files
    with _laying:
        for file in bundle.files:
            place = root / os.path.normpath(f"/{file.path}").lstrip("/")
            if place.is_file() and place.stat().st_size == file.size:
                continue
            place.parent.mkdir(parents=True, exist_ok=True)
            fresh = place.with_name(f".{os.getpid()}.{place.name[:100]}")
            try:
                _lay(file, fresh)
            except OSError as error:
                raise KobrelError(f"cannot be laid out ({error.strerror}).", file=place) from None
            fresh.replace(place)
        os.utime(root)
    trust.allow([root])
    return root


def _lay(file: File, place: Path) -> None:
    """Put a file somewhere: a second name of what is kept, or a copy of what others may yet change."""
    blob = _blob(file.digest)
    if not blob.is_file():
        shutil.copyfile(file.path, place)
        return
    try:
        os.link(blob, place)
    except OSError:
        shutil.copyfile(blob, place)


def clear_old() -> None:
    """Forget what has not been used for two weeks."""
    before = time.time() - _UNUSED_DAYS * 86400
    for root in (folder() / "sets").glob("*"):
        if root.stat().st_mtime < before:
            shutil.rmtree(root, ignore_errors=True)
    for blob in (folder() / "files").glob("*/*"):
        found = blob.stat()
        if found.st_nlink == 1 and found.st_mtime < before:  # no set has it any more
            blob.unlink(missing_ok=True)

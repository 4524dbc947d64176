"""Files that other libraries write: whole or not at all."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kobrel.errors import ExchangeError


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """A path beside the wanted one to write to; it takes its place when all went well.

    Raises
    ------
    ExchangeError
        The folder is missing, or the system refuses.
    """
    if not path.absolute().parent.is_dir():
        raise ExchangeError(f"{path}: cannot be written, there is no folder {path.absolute().parent}.")
    beside = path.with_name(f".{path.stem}.part{path.suffix}")
    try:
        yield beside
        beside.replace(path)
    except OSError as error:
        raise ExchangeError(f"{path}: cannot be written ({error.strerror}). Choose another place.") from None
    finally:
        beside.unlink(missing_ok=True)

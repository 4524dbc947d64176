"""Files that other libraries write: whole or not at all."""

import csv
import errno
import filecmp
import io
import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import kobrel
from kobrel.errors import ExchangeError
from kobrel.exchange.writing.checks import require_whole
from kobrel.exchange.writing.dates import written_at
from kobrel.files import note_written, put_in_place, reason, write_whole, written_beside

FONTS = Path(kobrel.__file__).parent / "data" / "fonts"

_PDF_DATE = re.compile(rb"/CreationDate \([^)]*\)|/ID \[<\w+><\w+>\]")
"""What differs in two PDF of the same content: when they were written, and a name made from it."""


@contextmanager
def whole_file(path: Path, follow: bool = True) -> Iterator[Path]:
    """An empty file beside the wanted one to write to; it takes its place when all went well and it is whole.

    Parameters
    ----------
    follow : see :func:`kobrel.files.written_beside`

    Raises
    ------
    ExchangeError
        The folder is missing, the system refuses, or the file ends too early.
    """
    if not path.absolute().parent.is_dir():
        raise ExchangeError(f"cannot be written, no such folder: {path.absolute().parent}.", file=path)
    try:
        with written_beside(path, follow=follow) as beside:
            yield beside
            require_whole(beside, path)
        note_written(path)
    except OSError as error:
        raise not_written(error, path) from None


def not_written(error: OSError, path: Path) -> ExchangeError:
    """What is said of a file that the system refuses."""
    room = error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
    return ExchangeError(
        f"cannot be written ({reason(error)}).",
        file=path,
        remedy="Make room on that disk, or choose another." if room else "Choose another folder.",
    )


def new_pdf(title: str, size: tuple[float, float]) -> Any:
    """An empty PDF of pages, width and height in mm, with Kobrel's type."""
    from fpdf import FPDF

    pdf = FPDF(unit="mm", format=size)
    pdf.set_auto_page_break(False)
    pdf.set_title(title)
    pdf.set_creator("Kobrel")
    pdf.set_producer("Kobrel")
    pdf.set_creation_date(written_at())
    pdf.add_font("B612", "", FONTS / "B612-Regular.otf")
    pdf.add_font("B612", "B", FONTS / "B612-Bold.otf")
    return pdf


def csv_text(rows: Iterable[Iterable[object]]) -> str:
    """Rows as CSV, a line each."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue()


def write_text(path: Path, text: str) -> None:
    """Write text as UTF-8, whole or not at all.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    write_bytes(path, text.encode("utf-8"))


def write_bytes(path: Path, content: bytes) -> None:
    """Write a file, whole or not at all.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    try:
        write_whole(path, content)
        note_written(path)
    except OSError as error:
        raise not_written(error, path) from None


def _says_the_same(fresh: Path, target: Path) -> bool:
    if filecmp.cmp(fresh, target, shallow=False):
        return True
    if target.suffix.lower() != ".pdf" or fresh.stat().st_size != target.stat().st_size:
        return False
    return _PDF_DATE.sub(b"", fresh.read_bytes()) == _PDF_DATE.sub(b"", target.read_bytes())


def replaced_if_changed(fresh: Path, target: Path, versions: int) -> bool:
    """Put a fresh file in the place of another, unless that has the very same content but for when it was
    written; whether it was put.

    Parameters
    ----------
    versions : how many earlier ones are kept

    Raises
    ------
    ExchangeError
        The system refuses.
    """
    try:
        if target.is_file() and _says_the_same(fresh, target):
            return False
        put_in_place(fresh, target, versions)
        note_written(target)
    except OSError as error:
        raise not_written(error, target) from None
    return True

"""Files that other libraries write: whole or not at all."""

import csv
import filecmp
import io
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import kobrel
from kobrel.errors import ExchangeError
from kobrel.files import write_whole

FONTS = Path(kobrel.__file__).parent / "data" / "fonts"
_UNDATED = datetime(1980, 1, 1, tzinfo=UTC)


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """A path beside the wanted one to write to; it takes its place when all went well.

    Raises
    ------
    ExchangeError
        The folder is missing, or the system refuses.
    """
    if not path.absolute().parent.is_dir():
        raise ExchangeError(f"cannot be written, there is no folder {path.absolute().parent}.", file=path)
    beside = path.with_name(f".{path.stem[:40]}.part{path.suffix}")
    try:
        yield beside
        beside.replace(path)
    except OSError as error:
        raise ExchangeError(
            f"cannot be written ({error.strerror or error}).", file=path, remedy="Choose another place."
        ) from None
    finally:
        beside.unlink(missing_ok=True)


def new_pdf(title: str, size: tuple[float, float]) -> Any:
    """An empty PDF of pages, width and height in mm, with Kobrel's type; it says no date, so that the same
    content is the same file.
    """
    from fpdf import FPDF

    pdf = FPDF(unit="mm", format=size)
    pdf.set_auto_page_break(False)
    pdf.set_title(title)
    pdf.set_creator("Kobrel")
    pdf.set_producer("Kobrel")
    pdf.set_creation_date(_UNDATED)
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
    try:
        write_whole(path, text.encode("utf-8"))
    except OSError as error:
        raise ExchangeError(
            f"cannot be written ({error.strerror}).", file=path, remedy="Choose another place."
        ) from None


def replaced_if_changed(fresh: Path, target: Path) -> bool:
    """Put a fresh file in the place of another, unless that has the very same content; whether it was put.

    Raises
    ------
    ExchangeError
        The system refuses.
    """
    try:
        if target.is_file() and filecmp.cmp(fresh, target, shallow=False):
            return False
        fresh.replace(target)
    except OSError as error:
        raise ExchangeError(
            f"cannot be written ({error.strerror or error}).", file=target, remedy="Choose another place."
        ) from None
    return True

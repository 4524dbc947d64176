"""Contact sheets of proofs: PDF with words as type, or PNG, a file a page."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from PIL import Image, ImageDraw, ImageFont

from kobrel.errors import ExchangeError
from kobrel.exchange.proof.files import allowed_path, read_proof
from kobrel.exchange.writing.whole import FONTS, new_pdf, whole_file
from kobrel.optics.units import LengthUnit, Measure
from kobrel.plan.model import Proof
from kobrel.plan.variants.proofs import differences
from kobrel.stage.scene import Progress

Page = Literal["A4", "A3", "Letter"]
PAGES: dict[Page, tuple[float, float]] = {"A4": (210, 297), "A3": (297, 420), "Letter": (215.9, 279.4)}
"""Width and height of a page upright, mm."""
ENDINGS = (".pdf", ".png")
MOST_PROOFS = 1000
_MARGIN, _HEAD, _GAP, _NAME_PT, _TOLD_PT, _TITLE_PT = 10.0, 8.0, 4.0, 9.0, 7.5, 12.0
_LINE = 0.45
"""Height of a line in mm for each point of its type."""
_PRINT_DPI, _PNG_DPI, _MM = 300, 200, 25.4
_INK, _QUIET = (24, 30, 32), (84, 94, 96)


@dataclass(frozen=True)
class Sheet:
    """What a contact sheet is like.

    Parameters
    ----------
    columns : pictures in a row
    captions : whether names and what differs stand below the pictures
    unit : of distances
    """

    title: str
    page: Page = "A4"
    wide: bool = True
    columns: int = 3
    captions: bool = True
    unit: LengthUnit | Measure = "m"

    @property
    def size(self) -> tuple[float, float]:
        """Width and height of its pages, mm."""
        upright = PAGES[self.page]
        return (upright[1], upright[0]) if self.wide else upright


@dataclass(frozen=True)
class Cell:
    """A picture on a page: its box from the left and from the top, mm, and what stands below it."""

    proof: Proof
    left: float
    top: float
    width: float
    height: float
    lines: tuple[str, ...]


def laid_out(proofs: Sequence[Proof], sheet: Sheet) -> list[list[Cell]]:
    """The cells of each page.

    Raises
    ------
    ExchangeError
        There is nothing to lay out, or too much; or a page holds not a single row.
    """
    if not 1 <= len(proofs) <= MOST_PROOFS:
        raise ExchangeError(f"A contact sheet has 1 to {MOST_PROOFS} pictures; these are {len(proofs)}.")
    page_wide, page_tall = sheet.size
    width = (page_wide - 2 * _MARGIN - (sheet.columns - 1) * _GAP) / sheet.columns
    aspect = max(proof.width_px / proof.height_px for proof in proofs)
    height = width / aspect
    told = differences(proofs, sheet.unit)
    lines = [
        (proof.name, *_broken(words, width / (_TOLD_PT * 0.19))) if sheet.captions else ()
        for proof, words in zip(proofs, told, strict=True)
    ]
    most = max(len(each) for each in lines)
    below = _NAME_PT * _LINE + max(most - 1, 0) * _TOLD_PT * _LINE if most else 0.0
    step, top = height + below + _GAP, _MARGIN + _HEAD
    rows = int((page_tall - top - _MARGIN + _GAP) // step)
    if rows < 1:
        raise ExchangeError("A page holds not a single row of these pictures.", remedy="Take more columns.")
    pages: list[list[Cell]] = []
    for index, (proof, words) in enumerate(zip(proofs, lines, strict=True)):
        row, column = divmod(index, sheet.columns)
        if row % rows == 0 and column == 0:
            pages.append([])
        left = _MARGIN + column * (width + _GAP)
        pages[-1].append(Cell(proof, left, top + (row % rows) * step, width, height, words))
    return pages


def _broken(text: str, letters: float) -> list[str]:
    """What differs, in as many lines as it takes; broken between its parts."""
    lines: list[str] = []
    for part in filter(None, text.split("   ")):
        if lines and len(lines[-1]) + 3 + len(part) <= letters:
            lines[-1] += f"   {part}"
        else:
            lines.append(part)
    return lines


def write_sheet(path: Path, proofs: Sequence[Proof], sheet: Sheet, progress: Progress) -> list[Path]:
    """Write a contact sheet: .pdf, or .png with a number before the ending where there are several pages.

    Returns
    -------
    The files written.

    Raises
    ------
    KobrelError
        A proof cannot be read, or a file not written.
    Cancelled
        `progress` said so; nothing was written then but whole PNG pages.
    """
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise ExchangeError(f"contact sheets are written as {' or '.join(ENDINGS)}.", file=path)
    pages = laid_out(proofs, sheet)
    if ending == ".pdf":
        _write_pdf(path, pages, sheet, progress)
        return [path]
    paths = png_paths(path, len(pages))
    for number, (target, cells) in enumerate(zip(paths, pages, strict=True)):
        progress(f"Page {number + 1}", number / len(pages))
        image = _png_page(cells, sheet, number + 1, len(pages))
        with whole_file(target) as beside:
            image.save(beside, dpi=(_PNG_DPI, _PNG_DPI))
    return paths


def png_paths(path: Path, pages: int) -> list[Path]:
    """Where the pages of a sheet are written.

    >>> [each.name for each in png_paths(Path("sheet.png"), 2)]
    ['sheet.1.png', 'sheet.2.png']
    """
    return (
        [path] if pages == 1 else [path.with_name(f"{path.stem}.{k + 1}{path.suffix}") for k in range(pages)]
    )


def _picture(cell: Cell, dpi: int) -> Image.Image:
    """A proof as large as its cell at a resolution, no larger than it is."""
    _settings, kept = read_proof(allowed_path(cell.proof))
    image = Image.fromarray(kept.shown(cell.proof))
    most = round(cell.width / _MM * dpi), round(cell.height / _MM * dpi)
    image.thumbnail(most, Image.Resampling.LANCZOS)
    return image


def _placed(cell: Cell, image: Image.Image) -> tuple[float, float, float, float]:
    """Left, top, width and height of a picture in its cell, mm."""
    part = min(cell.width / image.width, cell.height / image.height)
    width, height = image.width * part, image.height * part
    return cell.left + (cell.width - width) / 2, cell.top + (cell.height - height) / 2, width, height


def _write_pdf(path: Path, pages: list[list[Cell]], sheet: Sheet, progress: Progress) -> None:
    pdf = new_pdf(sheet.title, sheet.size)

    def write(x: float, y: float, text: str, points: float, style: str, ink: tuple[int, int, int]) -> None:
        pdf.set_font("B612", style, points)
        pdf.set_text_color(*ink)
        pdf.text(x, y, text)

    done, count = 0, sum(map(len, pages))
    for number, cells in enumerate(pages):
        pdf.add_page()
        write(_MARGIN, _MARGIN + 4, sheet.title, _TITLE_PT, "B", _INK)
        folio = f"{number + 1} of {len(pages)}"
        write(sheet.size[0] - _MARGIN - 16, _MARGIN + 4, folio, _TOLD_PT, "", _QUIET)
        for cell in cells:
            progress(f"Page {number + 1}", done / count)
            image = _picture(cell, _PRINT_DPI)
            left, top, width, height = _placed(cell, image)
            pdf.image(image, left, top, width, height)
            for line, (y, points, style) in zip(cell.lines, _lines(cell), strict=True):
                write(cell.left, y, line, points, style, _INK if style else _QUIET)
            done += 1
    with whole_file(path) as beside:
        pdf.output(str(beside))


def _lines(cell: Cell) -> list[tuple[float, float, str]]:
    """Base line, points and style of each line below a picture."""
    first = cell.top + cell.height + _NAME_PT * _LINE * 0.9
    return [(first, _NAME_PT, "B")][: len(cell.lines)] + [
        (first + k * _TOLD_PT * _LINE, _TOLD_PT, "") for k in range(1, len(cell.lines))
    ]


def _png_page(cells: list[Cell], sheet: Sheet, number: int, pages: int) -> Image.Image:
    scale = _PNG_DPI / _MM
    size = tuple(math.ceil(side * scale) for side in sheet.size)
    page = Image.new("RGB", (size[0], size[1]), "white")
    draw = ImageDraw.Draw(page)

    def write(x: float, y: float, text: str, points: float, style: str, ink: tuple[int, int, int]) -> None:
        name = "B612-Bold.otf" if style else "B612-Regular.otf"
        font = ImageFont.truetype(str(FONTS / name), round(points * _PNG_DPI / 72))
        draw.text((x * scale, y * scale), text, fill=ink, font=font, anchor="ls")

    write(_MARGIN, _MARGIN + 4, sheet.title, _TITLE_PT, "B", _INK)
    write(sheet.size[0] - _MARGIN - 16, _MARGIN + 4, f"{number} of {pages}", _TOLD_PT, "", _QUIET)
    for cell in cells:
        image = _picture(cell, _PNG_DPI)
        left, top, width, height = (value * scale for value in _placed(cell, image))
        page.paste(
            image.resize((round(width), round(height)), Image.Resampling.LANCZOS), (round(left), round(top))
        )
        for line, (y, points, style) in zip(cell.lines, _lines(cell), strict=True):
            write(cell.left, y, line, points, style, _INK if style else _QUIET)
    return page

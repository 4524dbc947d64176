"""Writes docs/screenshots/sheet.png: two pages of the demo's sheet, beside each other."""

import sys
import tempfile
from pathlib import Path

import pypdfium2
from PIL import Image

import kobrel.demo
from kobrel.exchange.sheet.write import SheetOptions, write_sheet
from kobrel.plan.file import open_plan
from kobrel.plan.staging import load_stage
from kobrel.stage.scene import no_progress

DEMO = Path(kobrel.demo.__file__).parent / "night_ferry.kobrel"
TARGET = Path(__file__).parent.parent / "docs" / "screenshots" / "sheet.png"
_PAGES, _SCALE, _GAP, _DESK = (2, 5), 1.05, 18, (58, 64, 66)


def main() -> int:
    """Write it."""
    plan = open_plan(DEMO)
    stage, _problems = load_stage(plan)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "sheet.pdf"
        write_sheet(plan, plan.shots, stage, path, SheetOptions(), no_progress)
        pdf = pypdfium2.PdfDocument(str(path))
        pages = [pdf[number].render(scale=_SCALE).to_pil() for number in _PAGES]
        pdf.close()
    wide, tall = pages[0].size
    picture = Image.new("RGB", (len(pages) * (wide + _GAP) + _GAP, tall + 2 * _GAP), _DESK)
    for number, page in enumerate(pages):
        picture.paste(page, (_GAP + number * (wide + _GAP), _GAP))
    picture.save(TARGET)
    return 0


if __name__ == "__main__":
    sys.exit(main())

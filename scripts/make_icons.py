"""Draws the application's icon in the sizes that desktops want, from its two drawings."""

import os
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtGui import QGuiApplication, QIcon

from kobrel.cli.desktop import ICON_SIZES, SMALL

ICONS = Path(__file__).parents[1] / "src" / "kobrel" / "data" / "icons"


def main() -> None:
    """Write ``kobrel_SIZE.png`` beside the drawings."""
    application = QGuiApplication([])
    for size in ICON_SIZES:
        source = "kobrel_small.svg" if size <= SMALL else "kobrel.svg"
        QIcon(str(ICONS / source)).pixmap(size, size).save(str(ICONS / f"kobrel_{size}.png"))
    del application


if __name__ == "__main__":
    main()

"""Writes the tables of docs/terms.md: every quantity with its formula and traps."""

import sys
from collections.abc import Iterable
from pathlib import Path

from kobrel.plan.values.blocks import BLOCKS
from kobrel.plan.values.quantities import QUANTITIES, SYMBOLS, Quantity

TARGET = Path(__file__).parent.parent / "docs" / "terms.md"
_FROM = "## Every value\n"
_HEAD = "| value | key | unit | formula | what it is, and its trap |\n|---|---|---|---|---|\n"


def made() -> str:
    """The text of the page: what is written by hand, then a table for each block."""
    by_hand = TARGET.read_text(encoding="utf-8").split(_FROM)[0] + _FROM
    parts, told = [by_hand], set[str]()
    for block in BLOCKS:
        parts.append(f"\n### {block.title} (`{block.key}`)\n\n{_HEAD}{_rows(block.quantities, told)}")
    others = [quantity for key, quantity in QUANTITIES.items() if key not in told]
    parts.append(f"\n### In own terms and files alone\n\n{_HEAD}{_rows(others, told)}")
    return "".join(parts)


def _rows(quantities: Iterable[Quantity], told: set[str]) -> str:
    rows = []
    for quantity in quantities:
        unit = "length" if quantity.kind == "length" else SYMBOLS[quantity.kind]
        about = " ".join(filter(None, (quantity.meaning, quantity.trap)))
        about = "see above" if quantity.key in told else about
        formula = quantity.formula.replace("|", "\\|")
        rows.append(f"| {quantity.label} | `{quantity.key}` | {unit} | {formula} | {about} |\n")
        told.add(quantity.key)
    return "".join(rows)


def main() -> int:
    """Write it."""
    TARGET.write_text(made(), encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())

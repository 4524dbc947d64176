"""Values as people paste them: lines, tables and JSON in any convention."""

import csv
import io
import json
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from kobrel.errors import PlanError
from kobrel.files import json_fault
from kobrel.optics.lens import Numbers
from kobrel.optics.units import METRES, Measure
from kobrel.plan.values.own import CustomValue, CustomValues
from kobrel.plan.values.quantities import QUANTITIES, SYMBOLS, Quantity

MOST_VALUES = 2_000_000
_LINE = re.compile(r"^\s*(?P<name>.*?\S)\s*(?:[:=\t]|\s{2,})\s*(?P<value>.*\S)\s*$")
_VALUE = re.compile(
    r"^(?:f/)?\s*(?P<number>[-+−]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d+)?|[-+−]?(?:inf(?:inity)?|∞))\s*"
    r"(?P<unit>[^\d\s].*)?$", re.IGNORECASE,
)  # fmt: skip
_BRACKETS = re.compile(r"^(?P<name>.*?)\s*\[(?P<unit>[^\]]*)\]$")
_FRAME_NAMES = ("frame", "frames", "frame number")
_SPELLED = {"degrees": ("deg", "degrees"), "px": ("pixels", "pixel"), "seconds": ("seconds", "sec")}
_FORMER = {
    "full blur before": "full_before", "blur begins before": "begins_before",
    "blur begins behind": "begins_behind", "full blur behind": "full_behind", "view across": "angle_across",
    "view upward": "angle_up", "view, diagonal": "angle_diagonal", "turn, from the right": "turn_from_right",
    "turn, from the top": "turn_from_top", "turn, clockwise from right": "clockwise_from_right",
    "turn, back from the top": "back_from_top", "sharp depth": "sharp_depth",
    "brighter than metered": "brighter",
}  # fmt: skip
"""Labels of Kobrel 0.1, which stand in files and notes, with the keys of their quantities."""
_LENGTHS = {**METRES, "km": 1000.0, '"': METRES["in"], "'": METRES["ft"]}


@dataclass(frozen=True)
class Values:
    """What was given.

    Parameters
    ----------
    frames : (F,) where values are given over frames, else None
    given : by the keys of quantities, (F,) or (1,); lengths in metres
    written : name, in small letters, and number as they stand there, where that is in the unit of its value
        and given once
    unknown : names that mean nothing here
    """

    frames: Numbers | None
    given: Mapping[str, Numbers]
    written: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    unknown: tuple[str, ...] = ()


def read_values(text: str, unit: Measure, owns: Sequence[CustomValues] = ()) -> Values:
    """Values out of text: a line each (``f-number: 2.8``), a table with headings (commas, semicolons or
    tabs; a column “frame” for several frames), or JSON (an object, or a list of them).

    Names are those of quantities, on the screen or in files, or of custom values. Bare lengths are in the
    unit of the scene; others say theirs.

    Raises
    ------
    PlanError
        Nothing of it is known, or a value is none; names its line or field.
    """
    words = text.strip()
    if not words:
        raise PlanError("There is nothing to read.", remedy="Copy values first, such as: f-number: 2.8")
    rows = _from_json(words) if words[0] in "[{" else _from_table(words) or _from_lines(words)
    names = _names(owns)
    meant = {name: _meaning(name, names) for name in rows[0]}
    known = {name: term for name, term in meant.items() if term is not None}
    unknown = tuple(n for n in rows[0] if n not in known and n.strip().lower() not in _FRAME_NAMES)
    if not known:
        raise PlanError(
            f"none of these is a value that Kobrel knows: {', '.join(unknown[:5]) or 'no names'}.",
            remedy="Write a line each, such as: f-number: 2.8",
        )
    if len(rows) * len(known) > MOST_VALUES:
        raise PlanError(f"{len(rows)} frames of {len(known)} values are more than can be read.")
    given: dict[str, Numbers] = {}
    written: dict[str, tuple[str, str]] = {}
    for name, term in known.items():
        read = [_number(row.get(name), term, unit, k) for k, row in enumerate(rows, 1)]
        given[term.quantity] = term.back(np.asarray([value for value, _ in read]), unit)
        if len(read) == 1 and read[0][1]:
            written[term.quantity] = (term.name.lower(), read[0][1])
    return Values(_frames(rows), given, written, unknown)


def _names(owns: Sequence[CustomValues]) -> dict[str, Quantity | CustomValue]:
    """What names mean, in small letters; a person's own before Kobrel's."""
    found: dict[str, Quantity | CustomValue] = {}
    for quantity in QUANTITIES.values():
        for name in (quantity.key, quantity.label):
            found.setdefault(name.lower(), quantity)
    found |= {label: QUANTITIES[key] for label, key in _FORMER.items()}
    for own in owns:
        found |= {term.name.lower(): term for term in own.terms}
    return found


def _meaning(name: str, names: Mapping[str, Quantity | CustomValue]) -> CustomValue | None:
    """What a name means; a unit may stand behind it in brackets, as in ``near_limit [cm]``."""
    words, unit = name.strip().lower(), ""
    match = _BRACKETS.match(words)
    if words not in names and match is not None:
        words, unit = match["name"], match["unit"]
    found = names.get(words)
    if found is None or isinstance(found, CustomValue):
        return found
    if unit in METRES and found.kind == "length":
        return CustomValue.model_validate({"name": name.strip()[:80], "quantity": found.key, "unit": unit})
    return (
        CustomValue(name=name.strip()[:80], quantity=found.key)
        if unit in ("", "u", SYMBOLS.get(found.kind))
        else None
    )


def _from_json(words: str) -> list[dict[str, str]]:
    fault = json_fault(words.encode("utf-8", "replace"))
    try:
        content = None if fault else json.loads(words)
    except ValueError as error:
        fault = f"not valid JSON ({error})."
    if fault:
        raise PlanError(fault)
    unit = ""
    if isinstance(content, dict) and isinstance(content.get("frames"), list):
        unit = str(content.get("unit", ""))[:10]
        content = content["frames"]
    found = [
        {_with_unit(str(name), unit): _plain(value) for name, value in row.items()}
        for row in (content if isinstance(content, list) else [content])
        if isinstance(row, dict) and row
    ]
    if not found:
        raise PlanError("JSON of values is an object of them, or a list of such with “frame” in each.")
    return found


def _with_unit(name: str, unit: str) -> str:
    """A name with the unit of its file behind it, where that makes a difference."""
    known = QUANTITIES.get(name)
    return f"{name} [{unit}]" if unit and known is not None and known.kind == "length" else name


def _plain(value: object) -> str:
    if value is None:
        return "inf"
    if isinstance(value, float | int) and not isinstance(value, bool):
        return repr(value)
    return str(value)[:200]


def _from_table(words: str) -> list[dict[str, str]]:
    """Rows below headings; nothing where it is no table."""
    lines = [line for line in words.splitlines() if line.strip()]
    for delimiter in ("\t", ";", ","):
        if (
            len(lines) > 1
            and lines[0].count(delimiter)
            and _VALUE.match(lines[0].split(delimiter)[-1].strip()) is None
        ):
            table = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=delimiter))
            heads = [name.strip() for name in table[0]]
            if len({len(row) for row in table}) == 1 and len(set(heads)) == len(heads):
                return [dict(zip(heads, row, strict=True)) for row in table[1:]]
    return []


def _from_lines(words: str) -> list[dict[str, str]]:
    found: dict[str, str] = {}
    for number, line in enumerate(words.splitlines(), 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        match = _LINE.match(line)
        if match is None:
            continue  # a title between the lines
        name = match["name"]
        if found.get(name, match["value"]) != match["value"]:
            raise PlanError(f"{name} is given twice.", place=f"line {number}")
        found[name] = match["value"]
    if not found:
        raise PlanError("these are no values.", remedy="Write a line each, such as: f-number: 2.8")
    return [found]


def _number(text: str | None, term: CustomValue, unit: Measure, row: int) -> tuple[float, str]:
    """A value in the unit of its value, and as it is written if that is its unit."""
    words = (text or "").strip()
    match = _VALUE.match(words)
    if match is None:
        raise PlanError(
            f"{term.name}: “{words[:40]}” is not a number." if words else f"{term.name} is missing.",
            place=f"row {row}" if row > 1 else "",
        )
    number = match["number"].replace("−", "-").replace(",", ".").lstrip("+").lower()
    value = math.inf if number in ("inf", "infinity", "∞") else float(number)
    factor = _factor((match["unit"] or "").strip(), term, unit)
    plain = number.rstrip("0").rstrip(".") if "." in number and "e" not in number else number
    return value * factor, plain if factor == 1.0 else ""


def _factor(word: str, term: CustomValue, unit: Measure) -> float:
    """What a number with a unit behind it is multiplied by, to be in the unit of its value."""
    kind, own = term.what.kind, term.measure(unit)
    if word.lower() in _LENGTHS and kind in ("length", "mm"):
        return _LENGTHS[word.lower()] / (own.metres if kind == "length" else METRES["mm"])
    if word.lower() in ("", own.symbol if kind == "length" else SYMBOLS[kind], *_SPELLED.get(kind, ())):
        return 1.0
    raise PlanError(f"{term.name}: “{word[:20]}” is not a unit of it.")


def _frames(rows: list[dict[str, str]]) -> Numbers | None:
    """The frames of rows, in order; None where there are none.

    Raises
    ------
    PlanError
        They are missing where there are several rows, or not in order.
    """
    heads = [name for name in rows[0] if name.strip().lower() in _FRAME_NAMES]
    if not heads:
        if len(rows) > 1:
            raise PlanError("several rows of values need a column “frame”.")
        return None
    try:
        frames = np.asarray([float(row.get(heads[0], "")) for row in rows])
    except ValueError:
        raise PlanError("a frame is not a number.", place=f"column {heads[0]}") from None
    if not np.all(np.isfinite(frames)) or np.any(np.diff(frames) <= 0):
        raise PlanError("the frames are not in order, each once.", place=f"column {heads[0]}")
    return frames

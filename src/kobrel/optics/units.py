"""Lengths as people write them: "3.2 m", "320 cm", "10' 6\\"", and back; frame rates and timecodes."""

import math
import re
from collections.abc import Sequence
from fractions import Fraction
from typing import Literal, NamedTuple

from kobrel.errors import KobrelError

LengthUnit = Literal["m", "cm", "mm", "in", "ft"]

PlanUnit = Literal["m", "cm", "mm", "in", "ft", "scene"]
"""A unit of length, or whatever the scene is made in."""

METRES: dict[str, float] = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}
UNIT_NAMES: dict[str, str] = {
    "m": "Metres", "cm": "Centimetres", "mm": "Millimetres", "in": "Inches", "ft": "Feet and inches",
}  # fmt: skip


class Measure(NamedTuple):
    """A unit for showing and typing: its symbol and the metres in it."""

    symbol: str
    metres: float


METRE = Measure("m", 1.0)


def measure(unit: "LengthUnit | Measure") -> Measure:
    """The measure of a unit."""
    return unit if isinstance(unit, Measure) else Measure(unit, METRES[unit])


def scene_measure(unit_m: float) -> Measure:
    """A scene's own unit: a known one by its symbol, any other as "u".

    >>> scene_measure(0.01), scene_measure(0.1)
    (Measure(symbol='cm', metres=0.01), Measure(symbol='u', metres=0.1))
    """
    for symbol, metres in METRES.items():
        if math.isclose(metres, unit_m, rel_tol=1e-6):
            return Measure(symbol, metres)
    return Measure("u", unit_m)


_SPELLINGS = {
    "m": "m", "meter": "m", "meters": "m", "metre": "m", "metres": "m",
    "cm": "cm", "mm": "mm", "km": "km",
    "in": "in", "inch": "in", "inches": "in", '"': "in", "″": "in", "''": "in", "”": "in",
    "ft": "ft", "foot": "ft", "feet": "ft", "'": "ft", "′": "ft", "’": "ft",
}  # fmt: skip
_NUMBER = r"\d+(?:[.,]\d+)?|[.,]\d+"
_PART = re.compile(rf"\s*({_NUMBER})\s*([a-zA-Z]+|''|[\"'″′’”])?\s*")
_NTSC, _NTSC_ROUNDED = (24, 30, 48, 60, 120), 0.005
_DROP_FRAME = (Fraction(30000, 1001), Fraction(60000, 1001))
_LARGEST_DENOMINATOR = 10_000
_INFINITE = {"inf", "infinity", "∞"}


def parse_length(text: str, unit: "LengthUnit | Measure" = "m") -> float:
    """Metres from a length as it is typed; a bare number is in `unit`.

    >>> parse_length("320 cm"), parse_length("10' 6\\"")
    (3.2, 3.2004)

    Raises
    ------
    KobrelError
        The text is no length, with an example of one.
    """
    symbol, size = measure(unit)
    metres_in = {**METRES, "km": 1000.0, symbol: size}
    words = text.strip().lower()
    if words in _INFINITE:
        return math.inf
    total, at, parts = 0.0, 0, 0
    last_unit: str | None = None
    while at < len(words):
        match = _PART.match(words, at)
        spelled = match.group(2) if match else None
        if (
            match is None
            or (spelled is not None and spelled not in _SPELLINGS and spelled != symbol)
            or (parts and last_unit is None)
        ):
            raise KobrelError(
                f"“{text.strip()}” is not a length.", remedy="Write it like 3.2 m, 320 cm or 10' 6\"."
            )
        known = _SPELLINGS.get(spelled, spelled) if spelled else ("in" if last_unit == "ft" else symbol)
        total += float(match.group(1).replace(",", ".")) * metres_in[known]
        last_unit, at, parts = known if spelled else None, match.end(), parts + 1
    if parts == 0:
        raise KobrelError("A length is missing.", remedy="Write it like 3.2 m, 320 cm or 10' 6\".")
    return round(total, 12)


def parse_place(text: str, unit: "LengthUnit | Measure" = "m") -> float:
    """Metres from a coordinate, which may be negative; otherwise as :func:`parse_length`.

    >>> parse_place("-40 cm"), parse_place("1.5")
    (-0.4, 1.5)
    """
    words = text.strip()
    if words[:1] in ("-", "−"):
        return -parse_length(words[1:], unit)
    return parse_length(words.removeprefix("+"), unit)


_MOST_MORE = 6


def format_length(metres: float, unit: "LengthUnit | Measure" = "m") -> str:
    """A length for reading, with its unit; short, three to four figures.

    >>> format_length(2.3123), format_length(0.4211, "cm"), format_length(3.2004, "ft")
    ('2.31 m', '42.1 cm', '10\\' 6"')
    """
    if math.isnan(metres):
        return "–"
    if math.isinf(metres):
        return "∞"
    symbol, size = measure(unit)
    if symbol == "ft":
        return _feet_and_inches(metres)
    return f"{_figures(metres / size)} {symbol}"


def format_lengths(metres: Sequence[float], unit: "LengthUnit | Measure" = "m") -> list[str]:
    """Lengths for reading, each with as many figures more as tell them apart.

    >>> format_lengths([0.29996, 0.30004]), format_lengths([2.0, 3.0])
    (['0.29996 m', '0.30004 m'], ['2.00 m', '3.00 m'])
    """
    symbol, size = measure(unit)
    texts = [format_length(each, unit) for each in metres]
    if symbol == "ft" or len(set(texts)) == len(set(metres)):
        return texts
    finite = [each for each in metres if math.isfinite(each)]
    for more in range(1, _MOST_MORE + 1):
        told = {each: f"{_figures(each / size, more)} {symbol}" for each in finite}
        if len(set(told.values())) == len(told):
            return [told.get(each, text) for each, text in zip(metres, texts, strict=True)]
    return texts


def frame_rate(fps: float) -> Fraction:
    """A frame rate as the ratio that is meant by it: those of NTSC by their rounded numbers.

    >>> frame_rate(23.976), frame_rate(29.97), frame_rate(25.0), frame_rate(12.5)
    (Fraction(24000, 1001), Fraction(30000, 1001), Fraction(25, 1), Fraction(25, 2))
    """
    return _ntsc(fps) or Fraction(fps).limit_denominator(_LARGEST_DENOMINATOR)


def exact_fps(fps: float) -> float:
    """The rate that is meant by a rounded one, see :func:`frame_rate`; any other as it is."""
    exact = _ntsc(fps)
    return fps if exact is None else float(exact)


def _ntsc(fps: float) -> Fraction | None:
    counts = (count for count in _NTSC if abs(fps - count / 1.001) < _NTSC_ROUNDED)
    return next((Fraction(count * 1000, 1001) for count in counts), None)


def timecode(frame: float, fps: float) -> str:
    """A frame as hours, minutes, seconds and frames, counted from frame 0. At 30000/1001 and 60000/1001
    frames a second in drop-frame, with a semicolon (SMPTE ST 12-1): the first two or four numbers of a
    minute are left out, but for each tenth, so that it keeps up with the clock.

    >>> timecode(1001, 24), timecode(90, 29.97), timecode(1800, 29.97)
    ('00:00:41:17', '00:00:03;00', '00:01:00;02')
    """
    exact = frame_rate(fps)
    rate, number = max(round(exact), 1), abs(round(frame))
    drops = exact in _DROP_FRAME
    if drops:
        left_out, ten_minutes = rate // 15, 600 * rate - 9 * (rate // 15)
        tens, rest = divmod(number, ten_minutes)
        minutes = max(0, (rest - left_out) // (60 * rate - left_out))
        number += left_out * (9 * tens + minutes)
    seconds, rest = divmod(number, rate)
    minutes, seconds = divmod(seconds, 60)
    hours, minutes = divmod(minutes, 60)
    sign, mark = "-" if frame < 0 else "", ";" if drops else ":"
    return f"{sign}{hours:02d}:{minutes:02d}:{seconds:02d}{mark}{rest:02d}"


def _figures(value: float, more: int = 0) -> str:
    size = abs(value)
    decimals = 0 if size >= 100 else 1 if size >= 10 else 2 if size >= 1 else 3
    return f"{value:.{decimals + more}f}"


def _feet_and_inches(metres: float) -> str:
    sign = "−" if metres < 0 else ""
    inches = round(abs(metres) / METRES["in"], 1)
    feet, rest = divmod(inches, 12)
    rest_text = f"{rest:.1f}".removesuffix(".0")
    return f"{sign}{int(feet)}' {rest_text}\"" if feet else f'{sign}{rest_text}"'

"""Damage done to files: bytes, numbers, text, and the parts of JSON."""

import copy
import json
import random
import re
import struct
from typing import Any

_TEXT = (".usda", ".gltf", ".obj", ".mtl", ".kobrel", ".otio", ".edl", ".csv", ".txt", ".json", ".journal")
_JSON = (".gltf", ".kobrel", ".otio", ".json")
_NUMBER = re.compile(rb"-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?")
_NUMBERS = (
    "0", "-1", "1e308", "-1e308", "1e-308", "nan", "inf", "-inf", "NaN", "Infinity", "99999999999999999999",
    "2147483648", "4294967295", "1e15", "0.5", "65536", "-0.0", "1" * 50,
)  # fmt: skip
_FLOATS = (float("nan"), float("inf"), float("-inf"), 1e38, -1e38, 1e-45, 0.0, -1.0)
_VALUES: tuple[Any, ...] = (
    None, True, 0, -1, 1e308, float("nan"), float("inf"), 2**70, "", "x" * 300, "\0", "../../etc/passwd", "\ud800",
    [], {}, [[[]]], [0] * 50, {"kind": "x"}, 10**15, "nan", -0.0, 1e-300,
)  # fmt: skip


def damaged(content: bytes, suffix: str, dice: random.Random) -> bytes:
    """The content of a file of a kind, damaged in one to six ways."""
    for _ in range(dice.choice((1, 1, 1, 2, 3, 6))):
        ways = [_flip, _cut, _copy, _splice]
        if suffix in _TEXT:
            ways += [_number] * 6 + [_lines] * 2
        else:
            ways += [_floats] * 4
        if suffix in _JSON:
            ways += [_tree] * 10
        if suffix == ".glb":
            ways += [_glb] * 10
        if suffix == ".journal":
            ways += [_records] * 4
        content = dice.choice(ways)(content, dice) or content
    return content


def _flip(content: bytes, dice: random.Random) -> bytes:
    changed = bytearray(content)
    for _ in range(dice.randint(1, 12)):
        changed[dice.randrange(len(changed))] = dice.choice((0, 255, 127, 128, dice.randrange(256)))
    return bytes(changed)


def _cut(content: bytes, dice: random.Random) -> bytes:
    return content[: dice.randrange(1, len(content) + 1)] if dice.random() < 0.4 else content


def _copy(content: bytes, dice: random.Random) -> bytes:
    start = dice.randrange(len(content))
    part = content[start : start + dice.randint(1, 200)]
    at = dice.randrange(len(content))
    return content[:at] + part * dice.randint(1, 4) + content[at:]


def _splice(content: bytes, dice: random.Random) -> bytes:
    start = dice.randrange(len(content))
    return content[:start] + content[start + dice.randint(1, 60) :] or content


def _number(content: bytes, dice: random.Random) -> bytes:
    found = list(_NUMBER.finditer(content))
    if not found:
        return content
    where = dice.choice(found)
    return content[: where.start()] + dice.choice(_NUMBERS).encode() + content[where.end() :]


def _lines(content: bytes, dice: random.Random) -> bytes:
    lines = content.split(b"\n")
    at = dice.randrange(len(lines))
    if dice.random() < 0.5:
        del lines[at]
    else:
        lines.insert(dice.randrange(len(lines) + 1), lines[at])
    return b"\n".join(lines) or content


def _floats(content: bytes, dice: random.Random) -> bytes:
    changed = bytearray(content)
    for _ in range(dice.randint(1, 8)):
        if len(changed) > 8:
            at = dice.randrange(len(changed) - 4) & ~3
            kind = dice.choice(("<f", "<I", "<i"))
            value = dice.choice(_FLOATS) if kind == "<f" else dice.choice((0, 1, 2**31 - 1))
            changed[at : at + 4] = struct.pack(kind, value)
    return bytes(changed)


def _tree(content: bytes, dice: random.Random) -> bytes | None:
    try:
        whole = json.loads(content)
    except (ValueError, RecursionError):
        return None
    for _ in range(dice.randint(1, 4)):
        _change(whole, dice)
    return json.dumps(whole).encode("utf-8", "surrogatepass")


def _change(whole: Any, dice: random.Random) -> None:
    """Change one value somewhere in a tree."""
    here, places = whole, []
    while isinstance(here, dict | list) and here:
        key = dice.choice(list(here)) if isinstance(here, dict) else dice.randrange(len(here))
        places.append((here, key))
        if dice.random() < 0.15:
            break
        here = here[key]
    if not places:
        return
    parent, key = places[-1]
    chance = dice.random()
    if chance < 0.15:
        del parent[key]
    elif chance < 0.25 and isinstance(parent, list):
        parent += [parent[key]] * dice.randint(1, 30)
    elif chance < 0.35:
        deep: Any = 0
        for _ in range(dice.choice((5, 120, 800))):
            deep = [deep]
        parent[key] = deep
    elif isinstance(parent[key], int | float) and chance < 0.8:
        parent[key] = dice.choice([v for v in _VALUES if isinstance(v, int | float)])
    else:
        parent[key] = copy.deepcopy(dice.choice(_VALUES))


def _glb(content: bytes, dice: random.Random) -> bytes | None:
    if len(content) < 20 or content[:4] != b"glTF":
        return None
    length = struct.unpack_from("<I", content, 12)[0]
    text, rest = content[20 : 20 + length], content[20 + length :]
    if dice.random() < 0.7:
        text = _tree(text, dice) or text
        text += b" " * (-len(text) % 4)
    elif len(rest) > 12:
        rest = rest[:8] + _floats(rest[8:], dice)
    total = 20 + len(text) + len(rest)
    return struct.pack("<4sIII4s", b"glTF", 2, total, len(text), b"JSON") + text + rest


def _records(content: bytes, dice: random.Random) -> bytes | None:
    """A journal whose record says something else, with the right sum."""
    import zlib

    lines = content.splitlines()
    at = dice.randrange(len(lines))
    text = _tree(lines[at].partition(b" ")[2], dice)
    if text is None:
        return None
    lines[at] = b"%08x %s" % (zlib.crc32(text), text)
    return b"\n".join(lines) + b"\n"

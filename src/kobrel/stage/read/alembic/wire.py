"""What the process that reads an archive says: JSON, with numbers beside it. Nothing of it can run anything.

A message is eight bytes with the length of its JSON, the JSON, and the arrays that this lists. Parts of
scenes are objects with a name, and only such names are known as whoever listens gives.
"""

import json
from collections.abc import Callable, Mapping
from dataclasses import MISSING, fields, is_dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Parts = Mapping[str, Callable[..., Any]]
"""What makes each part of a scene, by its name."""
MOST_JSON = 1 << 30
_KINDS = ("<f4", "<f8", "<i4", "<i8", "<u4", "|u1", "|b1")


def packed(message: object) -> bytes:
    """A message as bytes.

    Raises
    ------
    TypeError
        Something in it cannot be said.
    """
    arrays: list[NDArray[Any]] = []
    said = _plain(message, arrays)
    kinds = [[array.dtype.str, list(array.shape)] for array in arrays]
    head = json.dumps([said, kinds]).encode()
    return b"".join([len(head).to_bytes(8, "little"), head, *(array.tobytes() for array in arrays)])


def _plain(value: Any, arrays: list[NDArray[Any]]) -> Any:
    if value is None or isinstance(value, bool | int | float | str):
        return value
    if isinstance(value, np.ndarray):
        arrays.append(np.ascontiguousarray(value))
        return {"array": len(arrays) - 1}
    if isinstance(value, tuple | list):
        return [_plain(each, arrays) for each in value]
    if is_dataclass(value) and not isinstance(value, type):
        told = {
            each.name: _plain(getattr(value, each.name), arrays)
            for each in fields(value)
            if each.default is MISSING or getattr(value, each.name) is not each.default
        }
        return {"part": type(value).__name__, "fields": told}
    raise TypeError(f"{type(value).__name__} cannot be said")


def unpacked(read: Callable[[int], bytes], parts: Parts, most_bytes: int) -> Any:
    """A message, from what reads so many bytes of it.

    Raises
    ------
    ValueError, TypeError, LookupError
        It is none, names other parts, or is longer than `most_bytes`.
    """
    length = int.from_bytes(read(8), "little")
    if length > min(MOST_JSON, most_bytes):
        raise ValueError("no message is so long")
    said, kinds = json.loads(read(length))
    arrays: list[NDArray[Any]] = []
    for kind, shape in kinds:
        if kind not in _KINDS or any(not isinstance(side, int) or side < 0 for side in shape):
            raise ValueError(f"{kind} is no kind of number")
        size = np.dtype(kind).itemsize * int(np.prod([int(side) for side in shape], dtype=object))
        most_bytes -= size
        if most_bytes < 0:
            raise ValueError("no message is so long")
        arrays.append(np.frombuffer(read(size), kind).reshape(shape))
    return _made(said, arrays, parts)


def _made(said: Any, arrays: list[NDArray[Any]], parts: Parts) -> Any:
    if isinstance(said, list):
        return tuple(_made(each, arrays, parts) for each in said)
    if not isinstance(said, dict):
        return said
    if "array" in said:
        return arrays[said["array"]]
    told = {name: _made(each, arrays, parts) for name, each in said["fields"].items()}
    return parts[said["part"]](**told)

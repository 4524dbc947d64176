"""Numba kernels that keep their compiled form where a folder lets them."""

from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

import numba

# All liberties but those that assume that no number is NaN or infinite: tests for these must hold.
_FAST = {"nsz", "arcp", "contract", "afn", "reassoc"}


def kernel(function: Callable[..., Any]) -> Any:
    """Compile for many threads (without the interpreter lock), cached on disk if possible.

    Where neither the package's folder nor the user's cache folder can be written the
    kernel works all the same, compiled anew in each run. So it does where what was kept
    cannot be read any more, as after an update that renames a type it was compiled for.
    """
    options = {"nogil": True, "fastmath": _FAST, "error_model": "numpy"}
    try:
        compiled = numba.njit(cache=True, **options)(function)
    except RuntimeError:
        return numba.njit(**options)(function)
    _mend_cache(compiled)
    return compiled


def callback(signature: Any) -> Callable[[Callable[..., Any]], Any]:
    """Compile a function that a library calls by its address; kept on disk as kernels are."""

    def compiled(function: Callable[..., Any]) -> Any:
        try:
            return numba.cfunc(signature, cache=True)(function)
        except Exception:  # no folder to keep it in, or what is kept there cannot be read
            return numba.cfunc(signature)(function)

    return compiled


@lru_cache(1)
def _stamp() -> tuple[float, int]:
    """When the newest of all sources with kernels was changed, and how long they are together."""
    root = Path(__file__).parent
    rooms = (root / room for room in ("optics", "picture", "stage"))
    found = [path.stat() for room in rooms for path in room.rglob("*.py")] + [Path(__file__).stat()]
    return max(each.st_mtime for each in found), sum(each.st_size for each in found)


def _mend_cache(compiled: Any) -> None:
    """Let a kernel empty its cache where that cannot be read, instead of failing; and compile it anew when
    any kernel's source has changed, since one may have another within it.
    """
    cache = compiled._cache
    cache._cache_file._source_stamp = _stamp()
    load = cache.load_overload

    def load_or_flush(signature: Any, context: Any) -> Any:
        try:
            return load(signature, context)
        except Exception:  # whatever unpickling an older version's classes raises
            cache.flush()
            return None

    cache.load_overload = load_or_flush


def is_kept(compiled: Any) -> bool:
    """Whether a kernel's compiled form is kept on disk for the next run."""
    return compiled.stats.cache_path is not None


@kernel
def index_of(place, count):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN201
    """The index, 0 to count - 1, of the cell that a place lies in: the nearest for a place outside, the
    first for NaN. Kernels turn numbers into indices by this alone.

    >>> index_of(2.7, 4), index_of(9.0, 4), index_of(float("-inf"), 4), index_of(float("nan"), 4)
    (2, 3, 0, 0)
    """
    if not place > 0.0:
        return 0
    return int(place) if place < count else count - 1

"""Numba kernels that keep their compiled form where a folder lets them."""

import hashlib
from collections.abc import Callable
from functools import cache
from types import CodeType, FunctionType
from typing import Any

import numba
import numpy as np
from numba.core.ccallback import CFunc
from numba.core.sigutils import normalize_signature

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
    _mend_cache(compiled, function)
    return compiled


def callback(signature: Any) -> Callable[[Callable[..., Any]], Any]:
    """Compile a function that a library calls by its address; kept on disk as kernels are."""

    def compiled(function: Callable[..., Any]) -> Any:
        try:
            made = CFunc(function, normalize_signature(signature), locals={}, options={})
            made.enable_caching()
            _mend_cache(made, function)
            made.compile()
        except Exception:  # no folder to keep it in, or what is kept there cannot be read
            return numba.cfunc(signature)(function)
        return made

    return compiled


@cache
def content_of(function: FunctionType) -> str:
    """What tells a kernel's compiled form from others, SHA-256: its own code, that of all kernels that it
    calls, and the constants that they were compiled with.
    """
    said = hashlib.sha256(repr(sorted(_FAST)).encode())
    reached = [function]
    for each in reached:  # grows by what is called
        codes, values = [each.__code__], [*(each.__defaults__ or ())]
        values += [cell.cell_contents for cell in each.__closure__ or ()]
        for code in codes:  # grows by what is nested
            values += [v for v in code.co_consts if not isinstance(v, CodeType) and v is not each.__doc__]
            values += [each.__globals__[name] for name in code.co_names if name in each.__globals__]
            codes += [nested for nested in code.co_consts if isinstance(nested, CodeType)]
            said.update(code.co_code + repr(code.co_names).encode())
        said.update(repr([_constant(value) for value in values]).encode())
        inner = (getattr(value, "py_func", None) or getattr(value, "_defn", None) for value in values)
        reached += [f for f in dict.fromkeys(inner) if isinstance(f, FunctionType) and f not in reached]
    return said.hexdigest()


def _constant(value: object) -> object:
    """What a value is for a kernel that was compiled with it; of what is called its name alone."""
    if isinstance(value, np.ndarray):
        return value.shape, value.dtype.str, value.tobytes()
    if isinstance(value, tuple):
        return tuple(_constant(each) for each in value)
    if isinstance(value, frozenset):
        return sorted(repr(_constant(each)) for each in value)
    if value is None or isinstance(value, int | float | complex | str | bytes | np.generic):
        return value
    return getattr(value, "__name__", type(value).__name__)


def _mend_cache(compiled: Any, function: Any) -> None:
    """Let a kernel empty its cache where that cannot be read, instead of failing; and compile it anew when
    what it consists of has changed.
    """
    cache = compiled._cache
    load = cache.load_overload

    def load_or_flush(signature: Any, context: Any) -> Any:
        cache._cache_file._source_stamp = content_of(function)  # all names that it uses are there by now
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

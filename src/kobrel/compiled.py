"""Numba kernels that keep their compiled form where a folder lets them."""

from collections.abc import Callable
from typing import Any

import numba


def kernel(function: Callable[..., Any]) -> Any:
    """Compile for many threads (without the interpreter lock), cached on disk if possible.

    Where neither the package's folder nor the user's cache folder can be written the
    kernel works all the same, compiled anew in each run.
    """
    options = {"nogil": True, "fastmath": True, "error_model": "numpy"}
    try:
        return numba.njit(cache=True, **options)(function)
    except RuntimeError:
        return numba.njit(**options)(function)


def is_kept(compiled: Any) -> bool:
    """Whether a kernel's compiled form is kept on disk for the next run."""
    return compiled.stats.cache_path is not None

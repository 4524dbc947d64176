"""Denoising of traced pictures, to look at them early: Open Image Denoise, where it is installed.

Nothing is measured in a denoised picture, and Kobrel works without the library.
"""

import contextlib
import importlib.util
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from kobrel.errors import KobrelError
from kobrel.stage.scene import Cancelled
from kobrel.turns import give_way

_LIBRARY = "pyoidn"
_MONITOR = "void oidnSetFilterProgressMonitorFunction(OIDNFilter, OIDNProgressMonitorFunction, void*);"
"""Of the library, but not declared by its binding: what stops a filter that runs."""
_ONE = ThreadPoolExecutor(1, thread_name_prefix="kobrel-denoise", initializer=give_way)
"""The thread that uses the library; the library's own threads come after the window's, as this one does."""
_FILTERS: LRUCache[tuple[int, int], "_Filter"] = LRUCache(2)
"""The picture's, and that of what is rendered beside it."""
_MOST_KEPT_PX = 8_000_000
"""Filters of larger pictures are not kept."""


@cache
def is_installed() -> bool:
    """Whether the library is there; it is not loaded for it."""
    return importlib.util.find_spec(_LIBRARY) is not None


@cache
def can_denoise() -> bool:
    """Whether the library is there and runs on this machine."""
    if not is_installed():
        return False
    try:
        _ONE.submit(_filter_for, 16, 16).result()
    except (ImportError, OSError, KobrelError):  # of another processor, or damaged
        return False
    return True


def require_denoise() -> None:
    """See that pictures can be denoised, before the work.

    Raises
    ------
    KobrelError
        They cannot.
    """
    if not can_denoise():
        raise KobrelError(
            "pictures cannot be denoised on this machine.",
            remedy="Install pyoidn for a 64-bit x86 processor, or render without denoising.",
        )


def denoised(colour: NDArray[np.float32], stop: Callable[[], bool]) -> NDArray[np.float32]:
    """A picture in linear light (H, W, 3) without its noise. It has the same bits on any number of threads.

    Raises
    ------
    Cancelled
        `stop` said so.
    KobrelError
        The library failed, or is not there; see :func:`can_denoise`.
    """
    require_denoise()
    return _ONE.submit(lambda: _filter_for(*colour.shape[:2]).run(colour, stop)).result()


def _filter_for(height: int, width: int) -> "_Filter":
    size = height, width
    if height * width > _MOST_KEPT_PX:
        return _Filter(height, width)
    if size not in _FILTERS:
        _FILTERS[size] = _Filter(height, width)
    return _FILTERS[size]


class _Filter:
    """A filter of the library for pictures of one size."""

    def __init__(self, height: int, width: int) -> None:
        import pyoidn
        from pyoidn.capi import oidn_Capi, oidn_ffi

        self._stop: Callable[[], bool] = bool
        self._noisy, self._clean = (np.zeros((height, width, 3), np.float32) for _ in range(2))
        self._device = pyoidn.Device()
        self._device.set_bool("setAffinity", False)
        self._device.commit()
        self._filter = pyoidn.Filter(self._device, "RT")
        self._filter.set_image("color", self._noisy, pyoidn.OIDN_FORMAT_FLOAT3)
        self._filter.set_image("output", self._clean, pyoidn.OIDN_FORMAT_FLOAT3)
        self._filter.set_bool("hdr", True)
        self._filter.set_quality(pyoidn.OIDN_QUALITY_FAST)
        oidn_ffi.cdef(_MONITOR, override=True)
        self._goes_on = oidn_ffi.callback("bool(void*, double)", lambda _user, _part: not self._stop())
        oidn_Capi.oidnSetFilterProgressMonitorFunction(self._filter._filter, self._goes_on, oidn_ffi.NULL)
        self._filter.commit()
        self._check()

    def run(self, colour: NDArray[np.float32], stop: Callable[[], bool]) -> NDArray[np.float32]:
        """See :func:`denoised`."""
        self._stop = stop
        np.copyto(self._noisy, colour)
        self._filter.execute()
        if stop():
            self._device.get_error()
            raise Cancelled("Denoising was stopped.")
        self._check()
        return self._clean.copy()

    def _check(self) -> None:
        error = self._device.get_error()
        if error is not None:
            raise KobrelError(f"Denoising failed: {error}.")

    def __del__(self) -> None:
        with contextlib.suppress(AttributeError):  # it was never whole
            self._filter.release()
            self._device.release()

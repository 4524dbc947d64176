"""Embree, the ray engine: building what rays can hit.

The library comes with the `embreex` package; this speaks to its public C interface
directly. That shares vertex buffers instead of copying them, builds without holding the
interpreter lock, and gives instances, so that a moving node costs a matrix and not a
rebuild. Kernels call ``rtcIntersect8`` and ``rtcOccluded8`` from compiled code, see
:mod:`kobrel.stage.engine.rays`.
"""

import ctypes
import os
from functools import cache
from importlib import metadata
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import KobrelError

_TRIANGLES, _INSTANCE = 0, 121
_INDEX_BUFFER, _VERTEX_BUFFER = 0, 1
_UINT3, _FLOAT3, _FLOAT3X4_COLUMN_MAJOR = 0x5003, 0x9003, 0x9234

_SIGNATURES: dict[str, tuple[Any, list[Any]]] = {
    "rtcNewDevice": (ctypes.c_void_p, [ctypes.c_char_p]),
    "rtcNewScene": (ctypes.c_void_p, [ctypes.c_void_p]),
    "rtcReleaseScene": (None, [ctypes.c_void_p]),
    "rtcCommitScene": (None, [ctypes.c_void_p]),
    "rtcNewGeometry": (ctypes.c_void_p, [ctypes.c_void_p, ctypes.c_int]),
    "rtcReleaseGeometry": (None, [ctypes.c_void_p]),
    "rtcCommitGeometry": (None, [ctypes.c_void_p]),
    "rtcAttachGeometry": (ctypes.c_uint, [ctypes.c_void_p, ctypes.c_void_p]),
    "rtcSetSharedGeometryBuffer": (
        None,
        [ctypes.c_void_p, ctypes.c_int, ctypes.c_uint, ctypes.c_int, ctypes.c_void_p] + [ctypes.c_size_t] * 3,
    ),
    "rtcSetGeometryInstancedScene": (None, [ctypes.c_void_p, ctypes.c_void_p]),
    "rtcSetGeometryTransform": (
        None,
        [ctypes.c_void_p, ctypes.c_uint, ctypes.c_int, ctypes.c_void_p],
    ),
}


@cache
def library_path() -> str:
    """Where the Embree library lies.

    Raises
    ------
    KobrelError
        The `embreex` package is not installed as its wheel installs it.
    """
    for file in metadata.files("embreex") or ():
        if file.name.startswith("libembree4"):
            return str(file.locate())
    raise KobrelError("The ray engine is missing: install embreex from its wheel (see constraints.txt).")


@cache
def _library() -> ctypes.CDLL:
    from embreex import rtcore_scene  # noqa: F401  loads Embree's own dependencies first

    library = ctypes.CDLL(library_path())
    for name, (result, arguments) in _SIGNATURES.items():
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    return library


@cache
def _device() -> int:
    device = _library().rtcNewDevice(f"threads={os.cpu_count() or 2}".encode())
    if not device:
        raise KobrelError("The ray engine does not start on this processor (it needs SSE2 or newer).")
    return int(device)


class _EmbreeScene:
    def __init__(self) -> None:
        self._library = _library()
        self.handle: int = self._library.rtcNewScene(_device())
        self._kept: list[object] = []

    def __del__(self) -> None:
        if getattr(self, "handle", 0):
            self._library.rtcReleaseScene(self.handle)

    def _attach(self, geometry: int) -> None:
        self._library.rtcCommitGeometry(geometry)
        self._library.rtcAttachGeometry(self.handle, geometry)
        self._library.rtcReleaseGeometry(geometry)


class TriangleScene(_EmbreeScene):
    """Meshes in one space, ready for rays once committed; the first is number 0.

    Build one mesh after the other with :meth:`add`, then :meth:`commit`.
    """

    def add(self, points: NDArray[np.floating], triangles: NDArray[np.uint32]) -> None:
        """Add a mesh of (V, 3) points and (T, 3) triangles."""
        # Embree reads vertices 16 bytes at a time, so the last needs room behind it.
        roomy = np.empty((len(points) + 2, 3), np.float32)
        roomy[: len(points)] = points
        triangles = np.ascontiguousarray(triangles)
        self._kept += [roomy, triangles]
        geometry = self._library.rtcNewGeometry(_device(), _TRIANGLES)
        for kind, layout, array, count in (
            (_VERTEX_BUFFER, _FLOAT3, roomy, len(points)),
            (_INDEX_BUFFER, _UINT3, triangles, len(triangles)),
        ):
            self._library.rtcSetSharedGeometryBuffer(
                geometry, kind, 0, layout, array.ctypes.data, 0, 12, count
            )
        self._attach(geometry)

    def commit(self) -> "TriangleScene":
        """Build; returns itself."""
        self._library.rtcCommitScene(self.handle)
        return self


class InstanceScene(_EmbreeScene):
    """Placed scenes; the number of an instance is its place in the list.

    Parameters
    ----------
    scenes : one for each instance, repeats allowed
    matrices : (I, 4, 4) transforms
    """

    def __init__(self, scenes: list[TriangleScene], matrices: NDArray[np.float64]) -> None:
        super().__init__()
        self._kept = list(scenes)
        columns = np.ascontiguousarray(np.swapaxes(matrices[:, :3, :], 1, 2), np.float32)
        for scene, matrix in zip(scenes, columns, strict=True):
            geometry = self._library.rtcNewGeometry(_device(), _INSTANCE)
            self._library.rtcSetGeometryInstancedScene(geometry, scene.handle)
            self._library.rtcSetGeometryTransform(geometry, 0, _FLOAT3X4_COLUMN_MAJOR, matrix.ctypes.data)
            self._attach(geometry)
        self._library.rtcCommitScene(self.handle)

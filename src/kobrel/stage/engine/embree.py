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
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import KobrelError

_TRIANGLES, _INSTANCE_ARRAY = 0, 122
_INDEX_BUFFER, _VERTEX_BUFFER, _TRANSFORM_BUFFER = 0, 1, 23
_UINT, _UINT3, _FLOAT3, _FLOAT3X4_COLUMN_MAJOR = 0x5001, 0x5003, 0x9003, 0x9234
_DYNAMIC_SCENE, _REFIT = 1, 3

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
    "rtcSetGeometryInstancedScenes": (None, [ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t]),
    "rtcSetSceneFlags": (None, [ctypes.c_void_p, ctypes.c_int]),
    "rtcSetGeometryBuildQuality": (None, [ctypes.c_void_p, ctypes.c_int]),
    "rtcGetGeometry": (ctypes.c_void_p, [ctypes.c_void_p, ctypes.c_uint]),
    "rtcUpdateGeometryBuffer": (None, [ctypes.c_void_p, ctypes.c_int, ctypes.c_uint]),
    "rtcSetGeometryUserData": (None, [ctypes.c_void_p, ctypes.c_void_p]),
    "rtcSetGeometryIntersectFilterFunction": (None, [ctypes.c_void_p, ctypes.c_void_p]),
    "rtcSetGeometryOccludedFilterFunction": (None, [ctypes.c_void_p, ctypes.c_void_p]),
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

    def _share(
        self, geometry: int, kind: int, layout: int, array: NDArray[Any], step: int, count: int
    ) -> None:
        self._library.rtcSetSharedGeometryBuffer(geometry, kind, 0, layout, array.ctypes.data, 0, step, count)

    def _attach(self, geometry: int) -> None:
        self._library.rtcCommitGeometry(geometry)
        self._library.rtcAttachGeometry(self.handle, geometry)
        self._library.rtcReleaseGeometry(geometry)


class TriangleScene(_EmbreeScene):
    """Meshes in one space, ready for rays once committed; the first is number 0.

    Build one mesh after the other with :meth:`add`, then :meth:`commit`.

    Parameters
    ----------
    deforms : whether the points will be changed, see :meth:`refit`
    """

    def __init__(self, deforms: bool = False) -> None:
        super().__init__()
        self._deforms = deforms
        self._points: list[NDArray[np.float32]] = []
        if deforms:
            self._library.rtcSetSceneFlags(self.handle, _DYNAMIC_SCENE)

    def add(
        self,
        points: NDArray[np.floating],
        triangles: NDArray[np.uint32],
        holes: "Holes | None" = None,
    ) -> None:
        """Add a mesh of (V, 3) points and (T, 3) triangles, which `holes` may let rays through."""
        # Embree reads vertices 16 bytes at a time, so the last needs room behind it.
        roomy = np.empty((len(points) + 2, 3), np.float32)
        roomy[: len(points)] = points
        triangles = np.ascontiguousarray(triangles)
        self._kept += [triangles, holes]
        self._points.append(roomy)
        geometry = self._library.rtcNewGeometry(_device(), _TRIANGLES)
        for kind, layout, array, count in (
            (_VERTEX_BUFFER, _FLOAT3, roomy, len(points)),
            (_INDEX_BUFFER, _UINT3, triangles, len(triangles)),
        ):
            self._share(geometry, kind, layout, array, 12, count)
        if holes is not None:
            self._library.rtcSetGeometryUserData(geometry, holes.address)
            self._library.rtcSetGeometryIntersectFilterFunction(geometry, holes.filter_address)
            self._library.rtcSetGeometryOccludedFilterFunction(geometry, holes.filter_address)
        if self._deforms:
            self._library.rtcSetGeometryBuildQuality(geometry, _REFIT)
        self._attach(geometry)

    def commit(self) -> "TriangleScene":
        """Build; returns itself."""
        self._library.rtcCommitScene(self.handle)
        return self

    def refit(self, points: NDArray[np.floating]) -> None:
        """Move the points of the first mesh, (V, 3), and fit the tree of boxes to them."""
        self._points[0][: len(points)] = points
        geometry = self._library.rtcGetGeometry(self.handle, 0)
        self._library.rtcUpdateGeometryBuffer(geometry, _VERTEX_BUFFER, 0)
        self._library.rtcCommitGeometry(geometry)
        self.commit()


class Holes(Protocol):
    """What lets rays through a mesh: see :class:`kobrel.stage.engine.cutouts.CutoutTable`."""

    @property
    def address(self) -> int:
        """Of the numbers that the filter reads."""

    @property
    def filter_address(self) -> int:
        """Of the filter, ``RTCFilterFunctionN``."""


class InstanceScene(_EmbreeScene):
    """Placed scenes; the number of an instance is its place in the list.

    Parameters
    ----------
    scenes : what is placed
    which : (I,) the scene of each instance
    matrices : (I, 4, 4) transforms
    """

    def __init__(
        self, scenes: list[TriangleScene], which: NDArray[np.integer], matrices: NDArray[np.float64]
    ) -> None:
        super().__init__()
        if len(which) == 1:  # Embree does not look at the index of an array of one
            scenes, which = [scenes[int(which[0])]], np.zeros(1, np.uint32)
        # Column by column, with room behind the last for reading 16 bytes at a time.
        columns = np.zeros((len(matrices) + 1, 4, 3), np.float32)
        columns[:-1] = np.swapaxes(matrices[:, :3, :], 1, 2)
        numbers = np.ascontiguousarray(which, np.uint32)
        handles = np.array([scene.handle for scene in scenes], np.uint64)
        self._kept = [list(scenes), columns, numbers, handles]
        if len(matrices):
            geometry = self._library.rtcNewGeometry(_device(), _INSTANCE_ARRAY)
            self._library.rtcSetGeometryInstancedScenes(geometry, handles.ctypes.data, len(handles))
            self._share(geometry, _INDEX_BUFFER, _UINT, numbers, 4, len(numbers))
            self._share(geometry, _TRANSFORM_BUFFER, _FLOAT3X4_COLUMN_MAJOR, columns, 48, len(matrices))
            self._attach(geometry)
        self._library.rtcCommitScene(self.handle)

"""Compiled ray queries: Embree called from kernels, one ray at a time, without the lock.

A ray's record is 24 numbers laid out as Embree's ``RTCRayHit``: origin 0-2, near 3,
direction 4-6, far 8; after a hit the face normal 12-14, barycentric 15-16, triangle 17,
mesh 18 and instance 19.

A stage's still meshes are merged into instance 0, the others are instances of one mesh
each from 1 on. A node's *row* counts through the merged meshes first, then the others.
"""

from typing import Any, NamedTuple

import llvmlite.binding as llvm
import numpy as np
from numba import types
from numpy.typing import NDArray

from kobrel.compiled import kernel
from kobrel.stage import embree

llvm.load_library_permanently(embree.library_path())
_intersect1 = types.ExternalFunction("rtcIntersect1", types.void(types.uintp, types.uintp, types.uintp))
_occluded1 = types.ExternalFunction("rtcOccluded1", types.void(types.uintp, types.uintp, types.uintp))

FAR = np.float32(3.0e38)
_FAR_AT, _MASK_AT, _TRIANGLE_AT, _GEOMETRY_AT, _INSTANCE_AT = 8, 9, 17, 18, 19


class Hits(NamedTuple):
    """What rays met; `row` is -1 where they met nothing.

    All arrays have one entry a ray: distance in units of the direction's length,
    triangle, row of the node, barycentric u and v.
    """

    distance: NDArray[np.float32]
    triangle: NDArray[np.int32]
    row: NDArray[np.int32]
    u: NDArray[np.float32]
    v: NDArray[np.float32]


@kernel
def new_record():  # type: ignore[no-untyped-def]
    """Room for one ray, aligned to 16 bytes: (its address, numbers, the same as integers)."""
    room = np.zeros(48, np.float32)
    start = ((16 - room.ctypes.data % 16) % 16) // 4
    part = room[start : start + 32]
    return part.ctypes.data, part, part.view(np.int32)


@kernel
def closest(scene, address, record, integers, ox, oy, oz, dx, dy, dz):  # type: ignore[no-untyped-def]
    """Trace one ray into its record; returns whether it met anything."""
    record[0], record[1], record[2], record[3] = ox, oy, oz, np.float32(0)
    record[4], record[5], record[6], record[7] = dx, dy, dz, np.float32(0)
    record[_FAR_AT] = FAR
    integers[_MASK_AT] = -1
    integers[10] = 0
    integers[11] = 0
    integers[_GEOMETRY_AT] = -1
    integers[_INSTANCE_AT] = -1
    _intersect1(scene, address, 0)
    return integers[_GEOMETRY_AT] != -1


@kernel
def blocked(scene, address, record, integers, ox, oy, oz, dx, dy, dz):  # type: ignore[no-untyped-def]
    """Whether anything at all stands in one ray's way."""
    record[0], record[1], record[2], record[3] = ox, oy, oz, np.float32(0)
    record[4], record[5], record[6], record[7] = dx, dy, dz, np.float32(0)
    record[_FAR_AT] = FAR
    integers[_MASK_AT] = -1
    integers[10] = 0
    integers[11] = 0
    _occluded1(scene, address, 0)
    return record[_FAR_AT] < np.float32(0)


@kernel
def row_of_hit(integers, merged):  # type: ignore[no-untyped-def]
    """The row of the node that a ray met, `merged` being how many nodes are merged."""
    instance = integers[_INSTANCE_AT]
    return integers[_GEOMETRY_AT] if instance <= 0 else merged - 1 + instance


@kernel
def _closest_many(scene, merged, origins, directions, distance, triangle, row, u, v):  # type: ignore[no-untyped-def]
    address, record, integers = new_record()
    for i in range(len(origins)):
        if closest(
            scene, address, record, integers, origins[i, 0], origins[i, 1], origins[i, 2],
            directions[i, 0], directions[i, 1], directions[i, 2],
        ):  # fmt: skip
            distance[i] = record[_FAR_AT]
            triangle[i] = integers[_TRIANGLE_AT]
            row[i] = row_of_hit(integers, merged)
            u[i], v[i] = record[15], record[16]
        else:
            distance[i], triangle[i], row[i] = np.inf, -1, -1


@kernel
def _blocked_many(scene, origins, directions, result):  # type: ignore[no-untyped-def]
    address, record, integers = new_record()
    for i in range(len(origins)):
        result[i] = blocked(
            scene, address, record, integers, origins[i, 0], origins[i, 1], origins[i, 2],
            directions[i, 0], directions[i, 1], directions[i, 2],
        )  # fmt: skip


def closest_hits(scene: int, merged: int, origins: Any, directions: Any) -> Hits:
    """The first thing that each ray meets.

    Parameters
    ----------
    scene : handle of a stage's Embree scene
    merged : how many of its nodes are merged
    origins, directions : (n, 3); directions need not have unit length
    """
    o, d = np.ascontiguousarray(origins, np.float32), np.ascontiguousarray(directions, np.float32)
    n = len(o)
    hits = Hits(
        np.empty(n, np.float32), np.empty(n, np.int32), np.empty(n, np.int32),
        np.empty(n, np.float32), np.empty(n, np.float32),
    )  # fmt: skip
    _closest_many(scene, merged, o, d, *hits)
    return hits


def blocked_rays(scene: int, origins: Any, directions: Any) -> NDArray[np.bool_]:
    """Whether each ray meets anything, (n,); parameters as :func:`closest_hits`."""
    o, d = np.ascontiguousarray(origins, np.float32), np.ascontiguousarray(directions, np.float32)
    result = np.empty(len(o), np.bool_)
    _blocked_many(scene, o, d, result)
    return result

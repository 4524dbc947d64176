"""Compiled ray queries: Embree called from kernels, eight rays at a time, without the lock.

A packet is laid out as Embree's ``RTCRayHit8``: eight floats each for origin (0, 8, 16), near
(24), direction (32, 40, 48), time (56), far (64), then mask, id and flags as integers (72, 80,
88); after a hit the face normal (96, 104, 112), barycentric (120, 128), triangle (136), mesh
(144), instance (152) and its number in an array of instances (160). Add the lane, 0 to 7.

Time is no time here: above 0 it marks a ray that a click means, see :func:`closest_hits`; below 0 it tells
which pass of the camera's the ray belongs to, see :func:`kobrel.stage.engine.random.pass_code`.

A stage's accelerator holds one array of instances: the merged still meshes of a piece, or one
mesh each. A drawn node's *row* counts through them all; `first_rows` tells where each begins.
"""

from typing import Any, NamedTuple

import llvmlite.binding as llvm
import numpy as np
from numba import types
from numpy.typing import NDArray

from kobrel.compiled import kernel
from kobrel.stage.engine import embree

llvm.load_library_permanently(embree.library_path())
_intersect8 = types.ExternalFunction("rtcIntersect8", types.void(*[types.uintp] * 4))
_occluded8 = types.ExternalFunction("rtcOccluded8", types.void(*[types.uintp] * 4))

LANES = 8
FAR = np.float32(3.0e38)
FAR_AT, NORMAL_AT, U_AT, V_AT, TRIANGLE_AT = 64, 96, 120, 128, 136
TIME_AT = 56
_MASK_AT, _GEOMETRY_AT, _INSTANCE_AT, _OF_ARRAY_AT = 72, 144, 152, 160
_ALIGNED_TO = 64
_VALID_AT = 176


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
def new_packet():  # type: ignore[no-untyped-def]
    """Room for eight rays: (address, numbers, the same as integers, which lanes count)."""
    room = np.zeros(_VALID_AT + LANES + 2 * _ALIGNED_TO // 4, np.float32)
    start = (_ALIGNED_TO - room.ctypes.data % _ALIGNED_TO) % _ALIGNED_TO // 4
    numbers = room[start : start + _VALID_AT + LANES]
    integers = numbers.view(np.int32)
    for lane in range(LANES):
        integers[_MASK_AT + lane] = -1
    return numbers.ctypes.data, numbers, integers, integers[_VALID_AT : _VALID_AT + LANES]


@kernel
def put_ray(numbers, integers, lane, ox, oy, oz, dx, dy, dz):  # type: ignore[no-untyped-def]
    """Lay a ray into a lane."""
    numbers[lane], numbers[8 + lane], numbers[16 + lane] = ox, oy, oz
    numbers[32 + lane], numbers[40 + lane], numbers[48 + lane] = dx, dy, dz
    numbers[TIME_AT + lane] = np.float32(0)
    numbers[FAR_AT + lane] = FAR
    integers[_GEOMETRY_AT + lane] = -1
    integers[_INSTANCE_AT + lane] = -1
    integers[_OF_ARRAY_AT + lane] = -1


@kernel
def put_rays(numbers, integers, origins, directions, first, count):  # type: ignore[no-untyped-def]
    """Lay rays of arrays, (n, 3) each, into the first `count` lanes."""
    for lane in range(count):
        i = first + lane
        put_ray(
            numbers, integers, lane, origins[i, 0], origins[i, 1], origins[i, 2],
            directions[i, 0], directions[i, 1], directions[i, 2],
        )  # fmt: skip


@kernel
def closest(scene, address, valid, count):  # type: ignore[no-untyped-def]
    """Trace the first `count` lanes to what they meet first."""
    for lane in range(LANES):
        valid[lane] = -1 if lane < count else 0
    _intersect8(address + 4 * _VALID_AT, scene, address, 0)


@kernel
def blocked(scene, address, valid, count):  # type: ignore[no-untyped-def]
    """Trace the first `count` lanes to anything at all; :func:`is_blocked` tells what came of it."""
    for lane in range(LANES):
        valid[lane] = -1 if lane < count else 0
    _occluded8(address + 4 * _VALID_AT, scene, address, 0)


@kernel
def is_blocked(numbers, lane):  # type: ignore[no-untyped-def]
    """Whether something stood in a lane's way."""
    return numbers[FAR_AT + lane] < np.float32(0)


@kernel
def row_of_hit(integers, lane, first_rows):  # type: ignore[no-untyped-def]
    """The row of the node that a lane met, -1 for none."""
    mesh = integers[_GEOMETRY_AT + lane]
    return first_rows[integers[_OF_ARRAY_AT + lane]] + mesh if mesh >= 0 else np.int32(-1)


@kernel
def _closest_many(scene, first_rows, origins, directions, whole, distance, triangle, row, u, v):  # type: ignore[no-untyped-def]
    address, numbers, integers, valid = new_packet()
    for first in range(0, len(origins), LANES):
        count = min(LANES, len(origins) - first)
        put_rays(numbers, integers, origins, directions, first, count)
        for lane in range(count):
            numbers[TIME_AT + lane] = whole
        closest(scene, address, valid, count)
        for lane in range(count):
            i = first + lane
            row[i] = row_of_hit(integers, lane, first_rows)
            distance[i] = numbers[FAR_AT + lane] if row[i] >= 0 else np.inf
            triangle[i] = integers[TRIANGLE_AT + lane] if row[i] >= 0 else -1
            u[i], v[i] = numbers[U_AT + lane], numbers[V_AT + lane]


@kernel
def _blocked_many(scene, origins, directions, result):  # type: ignore[no-untyped-def]
    address, numbers, integers, valid = new_packet()
    for first in range(0, len(origins), LANES):
        count = min(LANES, len(origins) - first)
        put_rays(numbers, integers, origins, directions, first, count)
        blocked(scene, address, valid, count)
        for lane in range(count):
            result[first + lane] = is_blocked(numbers, lane)


def closest_hits(
    scene: int, first_rows: NDArray[np.int32], origins: Any, directions: Any, whole: bool = False
) -> Hits:
    """The first thing that each ray meets.

    Parameters
    ----------
    scene : handle of a stage's Embree scene
    first_rows : (I,) row at which each of its instances begins
    origins, directions : (n, 3); directions need not have unit length
    whole : what is partly seen through, and can well be seen, stops them, as a click means it
    """
    o, d = np.ascontiguousarray(origins, np.float32), np.ascontiguousarray(directions, np.float32)
    n = len(o)
    hits = Hits(
        np.empty(n, np.float32), np.empty(n, np.int32), np.empty(n, np.int32),
        np.empty(n, np.float32), np.empty(n, np.float32),
    )  # fmt: skip
    _closest_many(scene, first_rows, o, d, np.float32(whole), *hits)
    return hits


def blocked_rays(scene: int, origins: Any, directions: Any) -> NDArray[np.bool_]:
    """Whether each ray meets anything, (n,); parameters as :func:`closest_hits`."""
    o, d = np.ascontiguousarray(origins, np.float32), np.ascontiguousarray(directions, np.float32)
    result = np.empty(len(o), np.bool_)
    _blocked_many(scene, o, d, result)
    return result

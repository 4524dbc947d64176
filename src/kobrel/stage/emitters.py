"""Small glowing parts of meshes: bulbs, lamps, lights of a string, each for itself."""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.motion import Array
from kobrel.stage.scene import Material, Mesh

NO_EMITTER = -1
_MOST_TRIANGLES = 200_000
_MOST_SPREAD = 3.0


@dataclass(frozen=True, eq=False)
class Glow:
    """The glowing parts of one mesh, E of them.

    Parameters
    ----------
    centres : (E, 3) in the node's space
    radii : (E,) of balls that look as large on the average: a quarter of a closed surface is
        what is seen of it (Cauchy)
    reach : (E,) how far their corners lie from their centres
    emission : (E, 3) linear
    ids : (T,) which of them each triangle belongs to, or -1
    """

    centres: Array
    radii: Array
    reach: Array
    emission: Array
    ids: NDArray[np.int32]


class Emitters(NamedTuple):
    """Glowing parts on the stage: centres (E, 3) relative to its origin, radii, how far they reach,
    and emission; see :class:`Glow`.
    """

    places: Array
    radii: Array
    reach: Array
    emission: Array


class _Shapes(NamedTuple):
    """The glowing parts of a mesh but for their light; `slots`, (E,), are those of their materials."""

    centres: Array
    radii: Array
    reach: Array
    slots: NDArray[np.int64]
    ids: NDArray[np.int32]


Known = dict[tuple[Mesh, tuple[bool, ...]], _Shapes | None]
"""The shapes of meshes by which of their slots glow: many lights share a mesh, each with its own colour."""


def glow_of(mesh: Mesh, materials: tuple[Material, ...], known: Known) -> Glow | None:
    """The compact glowing parts of a mesh, told apart by which triangles touch; None if there are
    none. Parts that glow by a texture, and plates, stay with the tracer.

    Parameters
    ----------
    known : shapes that were found before; a new one is added
    """
    glowing = tuple(sum(m.emission) > 0 and m.emission_texture is None and m.plate is None for m in materials)
    if not any(glowing):
        return None
    if (mesh, glowing) not in known:
        known[mesh, glowing] = _shapes_of(mesh, glowing)
    shapes = known[mesh, glowing]
    if shapes is None:
        return None
    emission = np.array([materials[slot].emission for slot in shapes.slots.tolist()])
    return Glow(shapes.centres, shapes.radii, shapes.reach, emission, shapes.ids)


def _shapes_of(mesh: Mesh, glowing: tuple[bool, ...]) -> _Shapes | None:
    last = len(glowing) - 1
    slots = np.zeros(len(mesh.triangles), int) if mesh.slots is None else mesh.slots.astype(int)
    which = np.flatnonzero(np.asarray(glowing)[np.minimum(slots, last)])
    if not 0 < len(which) <= _MOST_TRIANGLES:
        return None
    corners = mesh.points[mesh.triangles[which]].astype(float)
    parts = _touching(corners)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    count = int(parts.max()) + 1
    total = np.bincount(parts, area, count)
    middle = corners.mean(axis=1)
    weights = np.maximum(total, 1e-300)
    centres = np.stack([np.bincount(parts, area * middle[:, k], count) / weights for k in range(3)], axis=1)
    radii = np.sqrt(total / (4 * np.pi))
    far = np.zeros(count)
    np.maximum.at(far, parts, np.linalg.norm(corners - centres[parts][:, None], axis=2).max(axis=1))
    compact = (total > 0) & (far <= _MOST_SPREAD * radii)
    if not compact.any():
        return None
    number = np.where(compact, np.cumsum(compact) - 1, NO_EMITTER)
    ids = np.full(len(mesh.triangles), NO_EMITTER, np.int32)
    ids[which] = number[parts]
    first = np.zeros(count, int)
    first[parts[::-1]] = which[::-1]
    return _Shapes(
        centres[compact], radii[compact], far[compact], np.minimum(slots[first[compact]], last), ids
    )


def _touching(corners: Array) -> NDArray[np.int64]:
    """The part that each triangle, (T, 3, 3), belongs to: those that share a corner's place."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    size = max(float(np.ptp(corners.reshape(-1, 3), axis=0).max()), 1e-12)
    _, place = np.unique(np.round(corners.reshape(-1, 3) / size * 1e6), axis=0, return_inverse=True)
    place = place.reshape(-1, 3)
    rows = np.concatenate([place[:, 0], place[:, 1]])
    columns = np.concatenate([place[:, 1], place[:, 2]])
    count = int(place.max()) + 1
    graph = coo_matrix((np.ones(len(rows)), (rows, columns)), shape=(count, count))
    _, labels = connected_components(graph, directed=False)
    _, part = np.unique(labels[place[:, 0]], return_inverse=True)
    return np.asarray(part, np.int64)

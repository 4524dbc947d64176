"""All meshes of a stage as the tables that rays and shading read."""

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import kernel
from kobrel.stage.embree import TriangleScene
from kobrel.stage.motion import Array
from kobrel.stage.scene import Material, Mesh, Node, Progress, Texture
from kobrel.stage.textures import pack

ABSENT = -1


class Tables(NamedTuple):
    """Arrays for shading; I instances, M materials.

    `normals` (n, 3, 3), `uv` (n, 3, 2) and `slots` (n,) hold the corners of those meshes
    that have them, each mesh starting where its instances' `*_start` say, or -1.
    `material_start` is where an instance's materials begin in `slot_materials`.
    `base` and `emission` are (M, 3) linear; `base_texture` and `emission_texture` are (M,)
    numbers into `texture_sizes`, or -1.
    """

    normal_start: NDArray[np.int64]
    uv_start: NDArray[np.int64]
    slot_start: NDArray[np.int64]
    material_start: NDArray[np.int64]
    normals: NDArray[np.float32]
    uv: NDArray[np.float32]
    slots: NDArray[np.uint8]
    slot_materials: NDArray[np.int64]
    base: NDArray[np.float32]
    emission: NDArray[np.float32]
    base_texture: NDArray[np.int64]
    emission_texture: NDArray[np.int64]
    texture_sizes: NDArray[np.int64]
    texture_pixels: NDArray[np.uint8]


class Geometry(NamedTuple):
    """Meshes ready for rays.

    `merged` holds the meshes of the first nodes, in the stage's space less its origin;
    `placed` has a scene in its own space for each of the others.
    """

    merged: TriangleScene
    placed: list[TriangleScene]
    tables: Tables
    warnings: list[str]


@kernel
def _vertex_normals(points, triangles, corners):  # type: ignore[no-untyped-def]
    total = np.zeros((len(points), 3), np.float32)
    for t in range(len(triangles)):
        a, b, c = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]]
        ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        for k in range(3):
            row = triangles[t, k]
            total[row, 0] += nx
            total[row, 1] += ny
            total[row, 2] += nz
    for t in range(len(triangles)):
        for k in range(3):
            n = total[triangles[t, k]]
            corners[t, k, 0], corners[t, k, 1], corners[t, k, 2] = n[0], n[1], n[2]


def corner_normals(mesh: Mesh) -> NDArray[np.float32] | None:
    """Normals for shading at each corner, (T, 3, 3), not of unit length; None for flat faces."""
    if mesh.normals is not None or not mesh.smooth:
        return mesh.normals
    corners = np.empty((len(mesh.triangles), 3, 3), np.float32)
    _vertex_normals(
        np.require(mesh.points, requirements="W"), np.require(mesh.triangles, requirements="W"), corners
    )
    return corners


def build(nodes: list[Node], still: Array, progress: Progress) -> Geometry:
    """Build accelerators and tables for nodes that each have a mesh.

    Parameters
    ----------
    nodes : first those to be merged, then those to be placed
    still : (m, 4, 4) transforms of the nodes to be merged
    progress : told how far it is; may raise to cancel
    """
    merged = TriangleScene()
    own: dict[int, TriangleScene] = {}
    placed: list[TriangleScene] = []
    normals, uvs, slots = _Joined((3, 3), np.float32), _Joined((3, 2), np.float32), _Joined((), np.uint8)
    starts: list[tuple[int, int, int, int]] = []
    slot_materials: list[int] = []
    materials: dict[Material, int] = {}
    total = sum(len(node.mesh.triangles) for node in nodes if node.mesh) or 1
    done = 0
    for row, node in enumerate(nodes):
        mesh = node.mesh
        assert mesh is not None
        progress("Preparing rays", done / total)
        done += len(mesh.triangles)
        key = id(mesh)
        if key not in normals.start:
            normals.add(key, corner_normals(mesh))
            uvs.add(key, mesh.uv)
            slots.add(key, mesh.slots)
        if row < len(still):
            merged.add(mesh.points @ still[row, :3, :3].T + still[row, :3, 3], mesh.triangles)
        else:
            if key not in own:
                own[key] = TriangleScene()
                own[key].add(mesh.points, mesh.triangles)
                own[key].commit()
            placed.append(own[key])
        starts.append((normals.start[key], uvs.start[key], slots.start[key], len(slot_materials)))
        slot_materials += [materials.setdefault(material, len(materials)) for material in node.materials]
    progress("Preparing rays", 1.0)
    columns = np.asarray(starts, np.int64).reshape(-1, 4)
    shading, warnings = _material_tables(list(materials))
    normal_start, uv_start, slot_start, material_start = (np.ascontiguousarray(c) for c in columns.T)
    tables = Tables(
        normal_start, uv_start, slot_start, material_start,
        normals.joined(), uvs.joined(), slots.joined(), np.asarray(slot_materials, np.int64), *shading,
    )  # fmt: skip
    return Geometry(merged.commit(), placed, tables, warnings)


class _Joined:
    """Arrays of several meshes end to end."""

    def __init__(self, shape: tuple[int, ...], dtype: type) -> None:
        self._empty: NDArray = np.zeros((0, *shape), dtype)
        self._parts: list[NDArray] = []
        self._length = 0
        self.start: dict[int, int] = {}

    def add(self, key: int, array: NDArray | None) -> None:
        self.start[key] = ABSENT if array is None else self._length
        if array is not None:
            self._parts.append(array)
            self._length += len(array)

    def joined(self) -> NDArray:
        return np.concatenate([self._empty, *self._parts])


def _material_tables(materials: list[Material]) -> tuple[Any, list[str]]:
    textures: dict[Texture, int] = {}

    def number(texture: Texture | None) -> int:
        return ABSENT if texture is None else textures.setdefault(texture, len(textures))

    base = np.asarray([m.base for m in materials], np.float32).reshape(-1, 3)
    emission = np.asarray([m.emission for m in materials], np.float32).reshape(-1, 3)
    base_texture = np.asarray([number(m.base_texture) for m in materials], np.int64)
    emission_texture = np.asarray([number(m.emission_texture) for m in materials], np.int64)
    block, warnings = pack(list(textures))
    return (base, emission, base_texture, emission_texture, block.sizes, block.pixels), warnings

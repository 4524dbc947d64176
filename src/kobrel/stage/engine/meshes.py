"""Meshes made ready for rays and shading, each once."""

from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import kernel
from kobrel.stage.engine.embree import TriangleScene
from kobrel.stage.scene import Mesh


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


_SCENES: WeakKeyDictionary[Mesh, TriangleScene] = WeakKeyDictionary()


def triangle_scene(mesh: Mesh) -> TriangleScene:
    """A mesh in its own space, ready for rays; built once as long as the mesh lives."""
    known = _SCENES.get(mesh)
    if known is None:
        known = TriangleScene()
        known.add(mesh.points, mesh.triangles)
        known.commit()
        _SCENES[mesh] = known
    return known

"""Compiled: the points of a skin, and the normals of a mesh that deforms."""

import numpy as np

from kobrel.compiled import kernel


@kernel
def bend(points, joints, weights, matrices, out):  # type: ignore[no-untyped-def]
    """Linear blend skinning of points (V, 3) to `out`; matrices (J, 3, 4), the rest as
    :class:`kobrel.stage.deform.Skin`.
    """
    for i in range(len(points)):
        px, py, pz = np.float64(points[i, 0]), np.float64(points[i, 1]), np.float64(points[i, 2])
        x = y = z = 0.0
        for k in range(joints.shape[1]):
            w = np.float64(weights[i, k])
            if w == 0.0:
                continue
            j = joints[i, k]
            x += w * (
                matrices[j, 0, 0] * px + matrices[j, 0, 1] * py + matrices[j, 0, 2] * pz + matrices[j, 0, 3]
            )
            y += w * (
                matrices[j, 1, 0] * px + matrices[j, 1, 1] * py + matrices[j, 1, 2] * pz + matrices[j, 1, 3]
            )
            z += w * (
                matrices[j, 2, 0] * px + matrices[j, 2, 1] * py + matrices[j, 2, 2] * pz + matrices[j, 2, 3]
            )
        out[i, 0], out[i, 1], out[i, 2] = x, y, z


@kernel
def shared_normals(points, triangles, shared, count, corners):  # type: ignore[no-untyped-def]
    """Normals at the corners of triangles (T, 3), not of unit length, to `corners` (T, 3, 3): the sum of
    the faces that share the corner's number in `shared` (T, 3), of `count` numbers.
    """
    total = np.zeros((count, 3), np.float32)
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        for k in range(3):
            row = shared[t, k]
            total[row, 0] += nx
            total[row, 1] += ny
            total[row, 2] += nz
    for t in range(len(triangles)):
        for k in range(3):
            row = shared[t, k]
            corners[t, k, 0], corners[t, k, 1], corners[t, k, 2] = total[row, 0], total[row, 1], total[row, 2]

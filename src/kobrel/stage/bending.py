"""Compiled: joints, the points of a skin, and the normals of a mesh that deforms."""

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
def bend_some(places, joints, weights, rest, out):  # type: ignore[no-untyped-def]
    """Some points of a skin over time to `out` (F, n, 3): `places` (F, J, 3, 4) of all joints, `joints` and
    `weights` (n, K), and each point at rest in the space of each of its joints, `rest` (F or 1, n, K, 3).
    """
    for f in range(len(out)):
        at, of = min(f, len(places) - 1), min(f, len(rest) - 1)
        for i in range(out.shape[1]):
            x = y = z = 0.0
            for k in range(joints.shape[1]):
                w = weights[i, k]
                if w == 0.0:
                    continue
                j = joints[i, k]
                p, q, r = rest[of, i, k, 0], rest[of, i, k, 1], rest[of, i, k, 2]
                x += w * (
                    places[at, j, 0, 0] * p
                    + places[at, j, 0, 1] * q
                    + places[at, j, 0, 2] * r
                    + places[at, j, 0, 3]
                )
                y += w * (
                    places[at, j, 1, 0] * p
                    + places[at, j, 1, 1] * q
                    + places[at, j, 1, 2] * r
                    + places[at, j, 1, 3]
                )
                z += w * (
                    places[at, j, 2, 0] * p
                    + places[at, j, 2, 1] * q
                    + places[at, j, 2, 2] * r
                    + places[at, j, 2, 3]
                )
            out[f, i, 0], out[f, i, 1], out[f, i, 2] = x, y, z


@kernel
def _turn(aw, ax, ay, az, bw, bx, by, bz, t):  # type: ignore[no-untyped-def]
    """A quaternion between two, turned evenly along the shorter arc, of unit length."""
    if t > 0.0:
        dot = aw * bw + ax * bx + ay * by + az * bz
        if dot < 0.0:
            bw, bx, by, bz, dot = -bw, -bx, -by, -bz, -dot
        one, two = 1.0 - t, t
        angle = np.arccos(min(dot, 1.0))
        if angle >= 1e-6:
            sine = np.sin(angle)
            one, two = np.sin(one * angle) / sine, np.sin(two * angle) / sine
        aw, ax, ay, az = one * aw + two * bw, one * ax + two * bx, one * ay + two * by, one * az + two * bz
    inverse = 1.0 / np.sqrt(aw * aw + ax * ax + ay * ay + az * az)
    return aw * inverse, ax * inverse, ay * inverse, az * inverse


@kernel
def place_joints(  # type: ignore[no-untyped-def]
    parents, needed, low, part, moves, move_start, move_group, turns, turn_start, turn_group, scales,
    scale_start, scale_group, own, others, out,
):  # fmt: skip
    """Places of joints over time to `out` (F, J, 3, 4), those above before those below; see
    :class:`kobrel.stage.joints.Joints`.

    No array is handed on or cut within: that counts references, which takes longer than the sums.
    """
    for f in range(len(out)):
        for j in range(len(parents)):
            if not needed[j]:
                continue
            if own[j] >= 0:
                k = own[j]
                m00, m01, m02, m03 = (
                    others[f, k, 0, 0],
                    others[f, k, 0, 1],
                    others[f, k, 0, 2],
                    others[f, k, 0, 3],
                )
                m10, m11, m12, m13 = (
                    others[f, k, 1, 0],
                    others[f, k, 1, 1],
                    others[f, k, 1, 2],
                    others[f, k, 1, 3],
                )
                m20, m21, m22, m23 = (
                    others[f, k, 2, 0],
                    others[f, k, 2, 1],
                    others[f, k, 2, 2],
                    others[f, k, 2, 3],
                )
            else:
                m03 = m13 = m23 = 0.0
                if move_start[j] >= 0:
                    i, t = move_start[j] + low[f, move_group[j]], part[f, move_group[j]]
                    n = i + 1 if t > 0.0 else i
                    m03 = moves[i, 0] + (moves[n, 0] - moves[i, 0]) * t
                    m13 = moves[i, 1] + (moves[n, 1] - moves[i, 1]) * t
                    m23 = moves[i, 2] + (moves[n, 2] - moves[i, 2]) * t
                w, x, y, z = 1.0, 0.0, 0.0, 0.0
                if turn_start[j] >= 0:
                    i, t = turn_start[j] + low[f, turn_group[j]], part[f, turn_group[j]]
                    n = i + 1 if t > 0.0 else i
                    w, x, y, z = _turn(
                        turns[i, 0], turns[i, 1], turns[i, 2], turns[i, 3],
                        turns[n, 0], turns[n, 1], turns[n, 2], turns[n, 3], t,
                    )  # fmt: skip
                m00, m01, m02 = 1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)
                m10, m11, m12 = 2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)
                m20, m21, m22 = 2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)
                if scale_start[j] >= 0:
                    i, t = scale_start[j] + low[f, scale_group[j]], part[f, scale_group[j]]
                    n = i + 1 if t > 0.0 else i
                    sx = scales[i, 0] + (scales[n, 0] - scales[i, 0]) * t
                    sy = scales[i, 1] + (scales[n, 1] - scales[i, 1]) * t
                    sz = scales[i, 2] + (scales[n, 2] - scales[i, 2]) * t
                    m00, m10, m20 = m00 * sx, m10 * sx, m20 * sx
                    m01, m11, m21 = m01 * sy, m11 * sy, m21 * sy
                    m02, m12, m22 = m02 * sz, m12 * sz, m22 * sz
            up = parents[j]
            for a in range(3):
                if up >= 0:
                    p, q, r, away = out[f, up, a, 0], out[f, up, a, 1], out[f, up, a, 2], out[f, up, a, 3]
                else:
                    p, q, r = 1.0 * (a == 0), 1.0 * (a == 1), 1.0 * (a == 2)
                    away = 0.0
                out[f, j, a, 0] = p * m00 + q * m10 + r * m20
                out[f, j, a, 1] = p * m01 + q * m11 + r * m21
                out[f, j, a, 2] = p * m02 + q * m12 + r * m22
                out[f, j, a, 3] = p * m03 + q * m13 + r * m23 + away


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

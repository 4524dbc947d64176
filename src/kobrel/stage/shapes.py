"""Simple solids as meshes, for shapes that scene files keep as formulas and for stand-ins."""

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.scene import Mesh


def _mesh(points: NDArray[np.float64], triangles: object, smooth: bool = False) -> Mesh:
    return Mesh(
        np.ascontiguousarray(points, np.float32), np.ascontiguousarray(triangles, np.uint32), smooth=smooth
    )


def box(size: tuple[float, float, float] = (1.0, 1.0, 1.0)) -> Mesh:
    """A box about the origin."""
    corners = np.array([[x, y, z] for x in (-0.5, 0.5) for y in (-0.5, 0.5) for z in (-0.5, 0.5)])
    quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
    triangles = [t for a, b, c, d in quads for t in ([a, b, c], [a, c, d])]
    return _mesh(corners * size, triangles)


def lathe(profile: NDArray[np.float64], around: int = 32, smooth: bool = True) -> Mesh:
    """A profile of (n, 2) radii and heights, from bottom to top, turned about the Y axis."""
    angle = np.linspace(0, 2 * np.pi, around, endpoint=False)
    radii, heights = profile[:, 0], profile[:, 1]
    points = np.stack(
        [
            radii[:, None] * np.cos(angle),
            np.broadcast_to(heights[:, None], (len(profile), around)),
            -radii[:, None] * np.sin(angle),
        ],
        axis=-1,
    ).reshape(-1, 3)
    row, column = np.meshgrid(np.arange(len(profile) - 1), np.arange(around), indexing="ij")
    after = (column + 1) % around
    a, b = row * around + column, row * around + after
    c, d = (row + 1) * around + after, (row + 1) * around + column
    triangles = np.concatenate(
        [np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)]
    )
    sides = points[triangles]
    area = np.linalg.norm(np.cross(sides[:, 1] - sides[:, 0], sides[:, 2] - sides[:, 0]), axis=1)
    return _mesh(points, triangles[area > 1e-12], smooth)


def sphere(radius: float = 1.0, around: int = 32) -> Mesh:
    """A ball about the origin."""
    turn = np.linspace(-np.pi / 2, np.pi / 2, around // 2 + 1)
    return lathe(np.stack([radius * np.cos(turn), radius * np.sin(turn)], -1), around)


def cylinder(radius: float = 1.0, height: float = 2.0, around: int = 32) -> Mesh:
    """A closed cylinder about the origin, along Y, with flat faces."""
    half = height / 2
    return lathe(
        np.array([[0, -half], [radius, -half], [radius, half], [0, half]], float), around, smooth=False
    )


def cone(radius: float = 1.0, height: float = 2.0, around: int = 32) -> Mesh:
    """A closed cone about the origin, pointing along Y, with flat faces."""
    half = height / 2
    return lathe(np.array([[0, -half], [radius, -half], [0, half]], float), around, smooth=False)


def plane(width: float = 1.0, length: float = 1.0) -> Mesh:
    """A rectangle in the XZ plane, facing Y."""
    x, z = width / 2, length / 2
    return _mesh(np.array([[-x, 0, -z], [-x, 0, z], [x, 0, z], [x, 0, -z]]), [[0, 1, 2], [0, 2, 3]])

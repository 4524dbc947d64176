"""Simple solids as meshes, for shapes that scene files keep as formulas and for stand-ins."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

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
    return _mesh(points, triangles[area > 1e-12 * np.abs(profile).max() ** 2], smooth)


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


def tapered(bottom: float, top: float, height: float, around: int = 32) -> Mesh:
    """A closed cylinder about the origin, along Y, with two radii and flat faces."""
    half = height / 2
    profile = np.array([[0, -half], [bottom, -half], [top, half], [0, half]], float)
    return lathe(profile, around, smooth=False)


def tapered_capsule(bottom: float, top: float, height: float, around: int = 32) -> Mesh:
    """A cylinder about the origin, along Y, with two radii and half a ball at each end."""
    low, high = np.linspace(-np.pi / 2, 0, 9), np.linspace(0, np.pi / 2, 9)
    radii = np.concatenate([bottom * np.cos(low), top * np.cos(high)])
    heights = np.concatenate([bottom * np.sin(low) - height / 2, top * np.sin(high) + height / 2])
    return lathe(np.stack([radii, heights], -1), around)


def capsule(radius: float = 0.5, height: float = 1.0, around: int = 32) -> Mesh:
    """A cylinder about the origin, along Y, with half a ball at each end."""
    return tapered_capsule(radius, radius, height, around)


def cone(radius: float = 1.0, height: float = 2.0, around: int = 32) -> Mesh:
    """A closed cone about the origin, pointing along Y, with flat faces."""
    half = height / 2
    return lathe(np.array([[0, -half], [radius, -half], [0, half]], float), around, smooth=False)


def plane(width: float = 1.0, length: float = 1.0) -> Mesh:
    """A rectangle in the XZ plane, facing Y."""
    x, z = width / 2, length / 2
    return _mesh(np.array([[-x, 0, -z], [-x, 0, z], [x, 0, z], [x, 0, -z]]), [[0, 1, 2], [0, 2, 3]])


def disc(radius: float = 1.0, around: int = 32) -> Mesh:
    """A disc in the XZ plane, facing Y."""
    return lathe(np.array([[radius, 0.0], [0.0, 0.0]]), around, smooth=False)


def upright(flat: Mesh) -> Mesh:
    """A shape in the XZ plane that faces Y, turned into the XY plane to face -Z."""
    return moved(flat, turn_deg=(-90, 0, 0))


def moved(
    mesh: Mesh, by: ArrayLike = (0, 0, 0), scale: ArrayLike = 1.0, turn_deg: ArrayLike = (0, 0, 0)
) -> Mesh:
    """A mesh scaled, turned about X, Y and Z in this order, then moved."""
    matrix = np.eye(3)
    for (first, second), angle in zip(
        ((1, 2), (2, 0), (0, 1)), np.radians(np.asarray(turn_deg, float)), strict=True
    ):
        about = np.eye(3)
        about[first, first] = about[second, second] = np.cos(angle)
        about[second, first], about[first, second] = np.sin(angle), -np.sin(angle)
        matrix = about @ matrix
    points = (mesh.points * np.asarray(scale, float)) @ matrix.T + np.asarray(by, float)
    return Mesh(points.astype(np.float32), mesh.triangles, smooth=mesh.smooth, uv=mesh.uv)


def joined(*meshes: Mesh) -> Mesh:
    """Several meshes as one, without their texture coordinates."""
    starts = np.cumsum([0, *(len(mesh.points) for mesh in meshes)])
    return Mesh(
        np.concatenate([mesh.points for mesh in meshes]),
        np.concatenate([m.triangles + np.uint32(s) for m, s in zip(meshes, starts, strict=False)]).astype(
            np.uint32
        ),
        smooth=meshes[0].smooth,
    )


def limb(start: ArrayLike, end: ArrayLike, radius: float) -> Mesh:
    """A bar with round ends, shaded smoothly."""
    a, b = np.asarray(start, float), np.asarray(end, float)
    half = float(np.linalg.norm(b - a)) / 2
    turn = np.linspace(-np.pi / 2, np.pi / 2, 13)
    profile = np.stack([radius * np.cos(turn), radius * np.sin(turn) + np.sign(turn + 1e-9) * half], -1)
    bar = lathe(profile, 16)
    up = (b - a) / (2 * half)
    side = np.cross([0.0, 0.0, 1.0], up)
    side /= np.linalg.norm(side)
    frame = np.stack([side, up, np.cross(side, up)], axis=1)
    return Mesh((bar.points @ frame.T + (a + b) / 2).astype(np.float32), bar.triangles, smooth=True)

"""Where a rendered image was taken from, by the standard attributes of its OpenEXR header."""

from pathlib import Path
from typing import NamedTuple

import numpy as np

from kobrel.errors import SceneError
from kobrel.stage.motion import Array
from kobrel.stage.pictures.pixels import open_source

_ROUND = 1e-3
"""How far the axes of a camera may be from even and square."""


class Taken(NamedTuple):
    """The camera of a picture.

    Parameters
    ----------
    pose : (4, 4) from the camera, which looks along -Z with Y up, to the picture's world, in its unit
    half_width : half its sensor over its focal length, or None where the header does not say
    shift : how far the middle of the frame lies beside the axis, to the right and up, in half widths and
        heights
    """

    pose: Array
    half_width: float | None
    shift: tuple[float, float] = (0.0, 0.0)


def taken_from(path: Path) -> Taken | None:
    """Where the camera of a picture stood: `worldToCamera`, and `worldToScreen` where that is there, which
    tells the field of view and along which axis the renderer's cameras look; without it a mirrored matrix is
    one of a camera that looks along +Z. None where the header does not say, or what it says is no camera.

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    source = open_source(path)
    try:
        spec = source.spec()
        to_camera, to_screen = (
            _matrix(spec.getattribute(name)) for name in ("worldToCamera", "worldToScreen")
        )
    finally:
        source.close()
    if to_camera is None or not np.allclose(to_camera[3], (0, 0, 0, 1), atol=_ROUND):
        return None
    axes = to_camera[:3, :3]
    size = float(np.cbrt(abs(np.linalg.det(axes))))
    if size == 0 or not np.allclose(axes @ axes.T, np.eye(3) * size**2, atol=_ROUND * size**2):
        return None
    screen = None if to_screen is None else to_screen @ np.linalg.inv(to_camera)
    flips, half_width, shift = np.array([1.0, 1.0, np.sign(np.linalg.det(axes))]), None, (0.0, 0.0)
    if screen is not None and abs(screen[3, 2]) > 0 and screen[0, 0] != 0 and screen[1, 1] != 0:
        flips = np.array([np.sign(screen[0, 0]), np.sign(screen[1, 1]), -np.sign(screen[3, 2])])
        half_width = float(abs(screen[3, 2] / screen[0, 0]))
        shift = -float(screen[0, 2] / screen[3, 2]), -float(screen[1, 2] / screen[3, 2])
    turn = flips[:, None] * axes / size
    if np.linalg.det(turn) < 0:
        return None
    pose = np.eye(4)
    pose[:3, :3] = turn.T
    pose[:3, 3] = -axes.T @ to_camera[:3, 3] / size**2
    return Taken(pose, half_width, shift)


def poses_of(paths: dict[float, Path]) -> dict[float, Array]:
    """The poses of pictures by their frames; those whose header does not say are left out."""
    found = {}
    for frame, path in paths.items():
        try:
            taken = taken_from(path)
        except SceneError:  # told where its pixels are read
            continue
        if taken is not None:
            found[frame] = taken.pose
    return found


def _matrix(values: object) -> Array | None:
    """A matrix of 16 numbers in rows that takes rows of points, as one that takes columns."""
    try:
        matrix = np.asarray(values, float).reshape(4, 4).T
    except (TypeError, ValueError):
        return None
    return matrix if np.isfinite(matrix).all() and abs(np.linalg.det(matrix)) > 0 else None

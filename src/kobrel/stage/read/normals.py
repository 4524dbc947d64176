"""Which corners of a mesh share a normal."""

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.scene import Mesh

_STEPS = 1 << 12


def shared_corners(mesh: Mesh) -> NDArray[np.uint32]:
    """(T, 3) numbers of the corners' normals: equal where place and given normal are the same.

    So a mesh that deforms stays smooth where it is smooth, over seams of texture too, and keeps its edges.
    """
    assert mesh.normals is not None
    places = mesh.points[mesh.triangles].reshape(-1, 3)
    normals = mesh.normals.reshape(-1, 3).astype(float)
    lengths = np.linalg.norm(normals, axis=1, keepdims=True)
    coarse = np.rint(normals / np.where(lengths > 0, lengths, 1.0) * _STEPS).astype(np.int32)
    rows = np.ascontiguousarray(np.concatenate([(places + np.float32(0.0)).view(np.int32), coarse], axis=1))
    keys = rows.view(np.dtype((np.void, rows.dtype.itemsize * rows.shape[1]))).ravel()
    _, numbers = np.unique(keys, return_inverse=True)
    return numbers.reshape(-1, 3).astype(np.uint32)

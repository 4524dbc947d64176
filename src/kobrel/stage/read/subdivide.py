"""Catmull-Clark subdivision, as a matrix from a cage's points to those of the finer surface."""

from dataclasses import replace
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.deform import Deformation, Still
from kobrel.stage.scene import Mesh

if TYPE_CHECKING:
    from scipy.sparse import csr_matrix

MOST_FACES = 4_000_000
"""Quads beyond which no further level is made."""


class Corners(Protocol):
    """Where the triangles' corners lie among those of all faces; see the readers of meshes."""

    corners: NDArray[np.int64]

    def by_face(self, values: NDArray[Any]) -> NDArray[Any]:
        """Values of faces at their triangles."""


def refined(
    mesh: Mesh, counts: NDArray[np.int32], indices: NDArray[np.int32], spread: Corners, levels: int
) -> Mesh:
    """A mesh with each face split so many times and smoothed; its deformation goes by the cage's points.

    Parameters
    ----------
    mesh : the cage as triangles
    counts, indices : the cage's faces: corners each (P,), and their vertices (C,)
    spread : how its triangles were made of them

    Borders are smooth curves; creases that the file sharpens are rounded (Catmull and Clark, "Recursively
    generated B-spline surfaces on arbitrary topological meshes", 1978; DeRose, Kass and Truong, 1998).
    """
    slots = None if mesh.slots is None else _of_faces(mesh.slots, spread, len(counts))
    corner_values = [_of_corners(v, spread, len(indices)) for v in (mesh.uv, mesh.colours)]
    matrix: csr_matrix | None = None
    sizes, vertices = counts.astype(np.int64), indices.astype(np.int64)
    vertex_count = len(mesh.points)
    for _ in range(levels):
        if int(sizes.sum()) > MOST_FACES:
            break
        step, new_vertices, faces = _step(sizes, vertices, vertex_count)
        matrix = step if matrix is None else step @ matrix
        corner_values = [None if v is None else _split(v, sizes) for v in corner_values]
        slots = None if slots is None else slots[faces]
        sizes, vertices, vertex_count = np.full(len(faces), 4, np.int64), new_vertices, step.shape[0]
    if matrix is None:
        return mesh
    quads = vertices.reshape(-1, 4)
    halves = [0, 1, 2], [0, 2, 3]

    def corners(values: NDArray[Any] | None) -> NDArray[Any] | None:
        if values is None:
            return None
        by_quad = values.reshape(-1, 4, values.shape[-1])
        return np.stack([by_quad[:, half] for half in halves], axis=1).reshape(-1, 3, values.shape[-1])

    uv, colours = (corners(values) for values in corner_values)
    triangles = np.stack([quads[:, half] for half in halves], axis=1).reshape(-1, 3).astype(np.uint32)
    source = Deformation(Still(mesh.points), refined=matrix)
    return replace(
        mesh,
        points=np.asarray(matrix @ mesh.points, np.float32),
        triangles=triangles,
        normals=None,
        smooth=True,
        uv=None if uv is None else uv.astype(np.float32),
        colours=None if colours is None else np.rint(colours).astype(np.uint8),
        slots=None if slots is None else np.repeat(slots, 2),
        deformation=source,
    )


def _of_faces(values: NDArray[Any], spread: Corners, count: int) -> NDArray[Any]:
    """Values of triangles, as those of the faces that they are of."""
    result = np.zeros(count, values.dtype)
    result[spread.by_face(np.arange(count))] = values
    return result


def _of_corners(values: NDArray[Any] | None, spread: Corners, count: int) -> NDArray[Any] | None:
    """Values at the corners of triangles, as those at the corners of faces, (C, n)."""
    if values is None:
        return None
    result = np.zeros((count, values.shape[-1]))
    result[spread.corners.ravel()] = values.reshape(-1, values.shape[-1])
    return result


def _after(counts: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each corner of all faces, the next one of its face."""
    starts = np.repeat(np.cumsum(counts) - counts, counts)
    place = np.arange(len(starts)) - starts
    return starts + (place + 1) % np.repeat(counts, counts)


def _before(counts: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each corner of all faces, the one before it in its face."""
    after = _after(counts)
    before = np.empty_like(after)
    before[after] = np.arange(len(after))
    return before


def _split(values: NDArray[Any], counts: NDArray[np.int64]) -> NDArray[Any]:
    """Values at the corners of faces (C, n) at those of the quads they are split into, (4 C, n)."""
    faces = np.repeat(np.arange(len(counts)), counts)
    middle = np.zeros((len(counts), values.shape[1]))
    np.add.at(middle, faces, values)
    middle /= counts[:, None]
    next_half = (values + values[_after(counts)]) / 2
    last_half = (values + values[_before(counts)]) / 2
    return np.stack([values, next_half, middle[faces], last_half], axis=1).reshape(-1, values.shape[1])


def _step(
    counts: NDArray[np.int64], indices: NDArray[np.int64], vertices: int
) -> "tuple[csr_matrix, NDArray[np.int64], NDArray[np.int64]]":
    """One level: the matrix to the new points, the new quads' vertices (4 C,), and the face of each quad."""
    from scipy.sparse import coo_matrix, csr_matrix, vstack

    corner_count, face_count = len(indices), len(counts)
    faces = np.repeat(np.arange(face_count), counts)
    ends = np.sort(np.stack([indices, indices[_after(counts)]], axis=1), axis=1)
    edges, edge_of_corner = np.unique(ends, axis=0, return_inverse=True)
    edge_of_corner = edge_of_corner.ravel()
    edge_count = len(edges)

    def matrix(
        rows: NDArray[Any], columns: NDArray[Any], values: NDArray[Any], shape: tuple[int, int]
    ) -> "csr_matrix":
        return coo_matrix((values, (rows, columns)), shape=shape).tocsr()

    of_faces = matrix(faces, indices, 1.0 / counts[faces], (face_count, vertices))
    edge_rows = np.repeat(np.arange(edge_count), 2)
    middles = matrix(edge_rows, edges.ravel(), np.full(2 * edge_count, 0.5), (edge_count, vertices))
    uses = np.bincount(edge_of_corner, minlength=edge_count)
    inner = uses == 2
    beside = matrix(edge_of_corner, faces, np.ones(corner_count), (edge_count, face_count))
    half = np.where(inner, 0.5, 1.0)
    about = matrix(
        np.arange(edge_count), np.arange(edge_count), np.where(inner, 0.25, 0.0), (edge_count,) * 2
    )
    of_edges = middles.multiply(half[:, None]).tocsr() + about @ (beside @ of_faces)
    # Vertices: (F + 2 R + (n - 3) P) / n within, (Q + 6 P + S) / 8 on a border.
    degree = np.bincount(indices, minlength=vertices)
    around_faces = matrix(indices, faces, np.ones(corner_count), (vertices, face_count))
    at_ends = matrix(edges.ravel(), edge_rows, np.ones(2 * edge_count), (vertices, edge_count))
    valence = np.asarray(at_ends.sum(axis=1)).ravel()
    border = matrix(
        edges[~inner].ravel(),
        edges[~inner][:, ::-1].ravel(),
        np.ones(2 * int((~inner).sum())),
        (vertices,) * 2,
    )
    on_border = np.asarray(border.sum(axis=1)).ravel()
    n = np.maximum(degree, 1).astype(float)
    within = (on_border == 0) & (degree > 0)
    curve = on_border == 2
    kept = np.where(within, (n - 3) / n, np.where(curve, 0.75, 1.0))

    def rows_times(values: NDArray[Any], of: "csr_matrix") -> "csr_matrix":
        return csr_matrix(of.multiply(values[:, None]))

    own = matrix(np.arange(vertices), np.arange(vertices), kept, (vertices,) * 2)
    of_vertices = (
        own
        + rows_times(np.where(within, 1 / n**2, 0.0), around_faces @ of_faces)
        + rows_times(np.where(within, 2 / (n * np.maximum(valence, 1)), 0.0), at_ends @ middles)
        + rows_times(np.where(curve, 0.125, 0.0), border)
    )
    quads = np.stack([
        indices, vertices + edge_of_corner, vertices + edge_count + faces,
        vertices + edge_of_corner[_before(counts)],
    ], axis=1).ravel()  # fmt: skip
    return csr_matrix(vstack([of_vertices, of_edges, of_faces])), quads, faces

"""The point of a mesh that is nearest to another point."""

from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from kobrel.stage.motion import Array
from kobrel.stage.scene import Mesh

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

_SAME_SCALE = 1e-9


class Closest:
    """Nearest points of one mesh, exactly, wherever it is placed."""

    def __init__(self, mesh: Mesh) -> None:
        self._points = mesh.points.astype(float)
        self._triangles = mesh.triangles
        self._deformation = mesh.deformation

    def nearest(self, goals: Array, worlds: Array, frames: Array) -> Array:
        """The mesh's points nearest to goals (F, 3), both on the stage, at frames (F,); `worlds` is
        (F, 4, 4).
        """
        result = np.empty_like(goals)
        at = np.broadcast_to(frames, len(goals))
        for i, (goal, world, frame) in enumerate(zip(goals, worlds, at, strict=True)):
            if self._deformation is not None:
                points = self._deformation.points(float(frame)) @ world[:3, :3].T + world[:3, 3]
                result[i] = _of_triangles(goal, _near(goal, points[self._triangles]))
                continue
            lengths = np.linalg.norm(world[:3, :3], axis=0)
            square = world[:3, :3].T @ world[:3, :3] - np.diag(lengths**2)
            even = np.ptp(lengths) < _SAME_SCALE * lengths.max() and np.all(
                np.abs(square) < _SAME_SCALE * lengths.max() ** 2
            )
            if even:
                local = np.linalg.solve(world, np.append(goal, 1.0))[:3]
                result[i] = world[:3, :3] @ self._own_nearest(local) + world[:3, 3]
            else:  # what is nearest in a stretched space is not nearest on the stage
                corners = (self._points @ world[:3, :3].T + world[:3, 3])[self._triangles]
                result[i] = _of_triangles(goal, corners)
        return result

    def _own_nearest(self, goal: Array) -> Array:
        """Only triangles whose middle is near enough to matter are looked at."""
        away, _vertex = self._vertices.query(goal)
        reach = float(away) + self._largest
        chosen = self._middles.query_ball_point(goal, reach * (1 + 1e-9))
        return _of_triangles(goal, self._points[self._triangles[chosen]])

    @cached_property
    def _vertices(self) -> "cKDTree":
        from scipy.spatial import cKDTree

        return cKDTree(self._points[np.unique(self._triangles)])

    @cached_property
    def _middles(self) -> "cKDTree":
        from scipy.spatial import cKDTree

        return cKDTree(self._points[self._triangles].mean(axis=1))

    @cached_property
    def _largest(self) -> float:
        """The farthest that any triangle reaches from its middle."""
        corners = self._points[self._triangles]
        return float(np.linalg.norm(corners - corners.mean(axis=1, keepdims=True), axis=2).max())


def nearest_of(goal: Array, corners: Array) -> int:
    """Which of triangles (n, 3, 3) is nearest to a point."""
    point = _of_triangles(goal, _near(goal, corners))
    chosen = np.flatnonzero(np.linalg.norm(corners.mean(axis=1) - point, axis=1) <= _reach(corners))
    away = [float(np.linalg.norm(_of_triangles(goal, corners[[t]]) - goal)) for t in chosen]
    return int(chosen[int(np.argmin(away))])


def weights_in(corners: Array, point: Array) -> Array:
    """Weights (3,), with the sum 1, of a triangle's corners (3, 3) for the point of its plane nearest to
    another.
    """
    sides = np.stack([corners[1] - corners[0], corners[2] - corners[0]], axis=1)
    across, up = np.linalg.lstsq(sides, point - corners[0], rcond=None)[0]
    return np.array([1.0 - across - up, across, up])


def _reach(corners: Array) -> Array:
    """(n,) how far the corners of triangles lie from their middles, and a little more."""
    away = np.linalg.norm(corners - corners.mean(axis=1, keepdims=True), axis=2)
    return np.asarray(away.max(axis=1) * (1 + 1e-6) + 1e-12)


def _near(goal: Array, corners: Array) -> Array:
    """Those of triangles (n, 3, 3) that can hold the point nearest to a goal."""
    away = np.linalg.norm(corners - goal, axis=2)
    widest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    return np.asarray(corners[away.min(axis=1) - widest <= away.min()])


def _of_triangles(goal: Array, corners: Array) -> Array:
    """The point of triangles (n, 3, 3) nearest to a point."""
    from trimesh.triangles import closest_point

    every = np.asarray(closest_point(corners, np.broadcast_to(goal, (len(corners), 3))))
    return np.asarray(every[int(np.argmin(np.linalg.norm(every - goal, axis=1)))])

"""One scene on the stage: what of it is drawn, and what rays need of that, built once.

A piece is in its scene's own space, metres with Y up, so that placing the scene elsewhere
costs a matrix. Rows count its drawn nodes: first those that stand still, which are merged
into one accelerator, then those that move or share a mesh.
"""

import threading
from collections import Counter
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.emitters import Glow, glow_of
from kobrel.stage.motion import Array
from kobrel.stage.scene import Material, Mesh, Progress, Scene, no_progress

if TYPE_CHECKING:
    from kobrel.stage.engine.embree import TriangleScene

# A still mesh that is used many times is merged, which rays like, up to this size.
_MOST_TRIANGLES_TO_REPEAT = 2000
_CORNERS = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])


class Piece:
    """See the module.

    Parameters
    ----------
    scene : as loaded
    hidden : paths of nodes that are not drawn, with all below them
    apart : merge nothing; for small scenes that are often exchanged
    """

    def __init__(self, scene: Scene, hidden: frozenset[str] = frozenset(), apart: bool = False) -> None:
        self.scene, self.hidden, self.apart = scene, hidden, apart
        gone = _hidden_nodes(scene, hidden)
        drawn = [
            index
            for index, node in enumerate(scene.nodes)
            if node.mesh is not None and len(node.mesh.triangles) and index not in gone
        ]
        uses = Counter(scene.nodes[index].mesh for index in drawn)
        moving = {index for index in drawn if scene.moves(index)}
        placed = [i for i in drawn if apart or i in moving or _worth_sharing(scene.nodes[i].mesh, uses)]
        separate = set(placed)
        self.nodes = [i for i in drawn if i not in separate] + placed
        self.merged = len(drawn) - len(placed)
        self.moving = [row for row, index in enumerate(self.nodes) if index in moving]
        self._below: dict[int, list[int]] = {}
        self._bounds: dict[int, tuple[Array, Array]] = {}
        self._lock = threading.Lock()
        self._accelerators: list[TriangleScene] | None = None

    @property
    def built(self) -> bool:
        """Whether rays can hit it without further work; small scenes cost too little to matter."""
        return self._accelerators is not None or self.apart

    @property
    def first_rows(self) -> list[int]:
        """The first row of each of its accelerators."""
        start = [0] if self.merged else []
        return start + list(range(self.merged, len(self.nodes)))

    def matrices(self, frame: float) -> Array:
        """(R, 4, 4) places of the rows' nodes; only those that move are worked out anew."""
        if not self.moving:
            return self._still_matrices
        result = self._still_matrices.copy()
        at = np.array([float(frame)])
        for row in self.moving:
            result[row] = self.scene.world(self.nodes[row], at)[0]
        return result

    @cached_property
    def _still_matrices(self) -> Array:
        at = np.zeros(1)
        worlds = [self.scene.world(index, at)[0] for index in self.nodes]
        return np.asarray(worlds, dtype=float).reshape(-1, 4, 4)

    @cached_property
    def local_boxes(self) -> Array:
        """(R, 8, 3) corners of the box about each row's mesh, in its node's space."""
        boxes = np.zeros((len(self.nodes), 8, 3))
        seen: dict[Mesh, Array] = {}
        for row, mesh in enumerate(self.meshes):
            if mesh not in seen:
                seen[mesh] = np.stack(mesh.bounds())[_CORNERS, [0, 1, 2]]
            boxes[row] = seen[mesh]
        return boxes

    def boxes(self, frame: float) -> Array:
        """(R, 8, 3) corners of the box about each mesh at a frame."""
        matrices = self.matrices(frame)
        turned = np.einsum("rij,rkj->rki", matrices[:, :3, :3], self.local_boxes)
        return np.asarray(turned + matrices[:, None, :3, 3])

    def rows_below(self, index: int) -> list[int]:
        """Rows that belong to a node or to one below it."""
        if index not in self._below:
            within = {index}
            for number, node in enumerate(self.scene.nodes):
                if node.parent in within:
                    within.add(number)
            self._below[index] = [row for row, node in enumerate(self.nodes) if node in within]
        return self._below[index]

    def local_bounds(self, index: int) -> tuple[Array, Array]:
        """Lowest and highest corner of a node and all below it, in its own space; its origin twice
        where there is no mesh.
        """
        if index not in self._bounds:
            at = np.array([float(self.scene.first_frame or 0)])
            inverse = np.linalg.inv(self.scene.world(index, at)[0])
            corners = [np.zeros((0, 3))]
            for row in self.rows_below(index):
                matrix = inverse @ self.scene.world(self.nodes[row], at)[0]
                corners.append(self.local_boxes[row] @ matrix[:3, :3].T + matrix[:3, 3])
            joined = np.concatenate(corners)
            ends = (joined.min(axis=0), joined.max(axis=0)) if len(joined) else (np.zeros(3), np.zeros(3))
            self._bounds[index] = ends
        return self._bounds[index]

    @cached_property
    def meshes(self) -> list[Mesh]:
        """The mesh of each row."""
        return [mesh for index in self.nodes if (mesh := self.scene.nodes[index].mesh) is not None]

    @cached_property
    def materials(self) -> tuple[list[Material], NDArray[np.int64], NDArray[np.int64]]:
        """Its materials, the number of each row's slot's material, and where a row's slots begin."""
        numbers: dict[Material, int] = {}
        slots: list[int] = []
        starts = []
        for index in self.nodes:
            starts.append(len(slots))
            slots += [numbers.setdefault(m, len(numbers)) for m in self.scene.nodes[index].materials]
        return list(numbers), np.asarray(slots, np.int64), np.asarray(starts, np.int64)

    @cached_property
    def glows(self) -> list[Glow | None]:
        """The small glowing parts of each row's mesh."""
        known: dict[tuple[Mesh, tuple[Material, ...]], Glow | None] = {}
        found = []
        for index, mesh in zip(self.nodes, self.meshes, strict=True):
            key = mesh, tuple(self.scene.nodes[index].materials)
            if key not in known:
                known[key] = glow_of(*key)
            found.append(known[key])
        return found

    @cached_property
    def origin(self) -> Array:
        """Where the merged accelerator's own coordinates begin, so that they stay precise: (3,)."""
        if not self.merged:
            return np.zeros(3)
        corners = self.boxes(0.0)[: self.merged].reshape(-1, 3)
        return np.round((corners.min(axis=0) + corners.max(axis=0)) / 2)

    def accelerators(self, progress: Progress = no_progress) -> "list[TriangleScene]":
        """What rays hit: the merged meshes, if any, less :attr:`origin`; then one for each other row."""
        with self._lock:
            if self._accelerators is None:
                self._accelerators = self._build(progress)
            return self._accelerators

    def _build(self, progress: Progress) -> "list[TriangleScene]":
        from kobrel.stage.engine.embree import TriangleScene
        from kobrel.stage.engine.meshes import triangle_scene

        result = []
        total = sum(len(mesh.triangles) for mesh in self.meshes) or 1
        done = 0
        merged = TriangleScene()
        for row, mesh in enumerate(self.meshes):
            progress("Preparing rays", done / total)
            done += len(mesh.triangles)
            if row < self.merged:
                matrix = self._still_matrices[row]
                merged.add(mesh.points @ matrix[:3, :3].T + (matrix[:3, 3] - self.origin), mesh.triangles)
            else:
                result.append(triangle_scene(mesh))
        if self.merged:
            result.insert(0, merged.commit())
        progress("Preparing rays", 1.0)
        return result


def _worth_sharing(mesh: Mesh | None, uses: Counter[Mesh | None]) -> bool:
    return mesh is not None and uses[mesh] > 1 and len(mesh.triangles) > _MOST_TRIANGLES_TO_REPEAT


def _hidden_nodes(scene: Scene, hidden: frozenset[str]) -> set[int]:
    """Nodes that are hidden themselves or lie below one that is."""
    gone: set[int] = set()
    if hidden:
        for index, node in enumerate(scene.nodes):
            if node.path in hidden or node.parent in gone:
                gone.add(index)
    return gone

"""The stage: every scene of a plan, at any frame, and what rays find there."""

import threading
from collections import Counter, OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.stage.motion import Array
from kobrel.stage.scene import Progress, Scene, no_progress

if TYPE_CHECKING:
    from kobrel.stage.embree import InstanceScene
    from kobrel.stage.geometry import Geometry, Tables

_KEPT_SNAPSHOTS = 12
# A still mesh that is used many times is merged, which rays like, up to this size.
_MOST_TRIANGLES_TO_REPEAT = 2000


@dataclass(frozen=True)
class Place:
    """A node of a scene by the names that a plan uses."""

    scene: str
    path: str


@dataclass(frozen=True, eq=False)
class Snapshot:
    """The stage at one frame, ready for rays.

    Parameters
    ----------
    origin : (3,) where the rays' own coordinates begin, so that they stay precise far out
    matrices : (R, 4, 4) place of each row's node, metres
    normal_matrices : (R, 3, 3) float32, from a mesh's normals to the stage's
    merged : how many rows are merged into the accelerator's instance 0
    """

    frame: float
    origin: Array
    matrices: Array
    normal_matrices: NDArray[np.float32]
    merged: int
    accelerator: "InstanceScene"
    tables: "Tables"

    @property
    def handle(self) -> int:
        """The accelerator, for kernels."""
        return self.accelerator.handle


@dataclass(frozen=True)
class Pick:
    """What a ray met.

    `point` is in metres on the stage, `local` in the node's own space; `along` is the
    distance in units of the ray's direction.
    """

    place: Place
    triangle: int
    point: Array
    local: Array
    along: float


class Stage:
    """Scenes by name. Cheap to make; the rays' structures are built when first needed."""

    def __init__(self, scenes: Sequence[tuple[str, Scene]] = ()) -> None:
        self.scenes: dict[str, Scene] = dict(scenes)
        rows = [
            (name, index)
            for name, scene in self.scenes.items()
            for index, node in enumerate(scene.nodes)
            if node.mesh is not None and len(node.mesh.triangles)
        ]
        uses = Counter(id(self.scenes[name].nodes[index].mesh) for name, index in rows)
        moving = {row for row in rows if self.scenes[row[0]].moves(row[1])}
        placed = [row for row in rows if row in moving or self._worth_sharing(row, uses)]
        apart = set(placed)
        self._merged = len(rows) - len(placed)
        self._rows = [row for row in rows if row not in apart] + placed
        self._moving_rows = [number for number, row in enumerate(self._rows) if row in moving]
        self._snapshots: OrderedDict[float, Snapshot] = OrderedDict()
        self._geometry: Geometry | None = None
        self._centres: dict[Place, Array | None] = {}
        self._lock = threading.RLock()

    def _worth_sharing(self, row: tuple[str, int], uses: Counter[int]) -> bool:
        mesh = self.scenes[row[0]].nodes[row[1]].mesh
        return mesh is not None and uses[id(mesh)] > 1 and len(mesh.triangles) > _MOST_TRIANGLES_TO_REPEAT

    @property
    def warnings(self) -> list[str]:
        """What was skipped or assumed, scene by scene."""
        built = self._geometry.warnings if self._geometry else []
        return [warning for scene in self.scenes.values() for warning in scene.warnings] + built

    @property
    def triangle_count(self) -> int:
        """Triangles in all scenes."""
        return sum(scene.triangle_count for scene in self.scenes.values())

    def prepare(self, progress: Progress = no_progress) -> None:
        """Build what rays need; does nothing the second time."""
        with self._lock:
            if self._geometry is None:
                from kobrel.stage.geometry import build

                still = self._matrices(0.0)[: self._merged]
                still[:, :3, 3] -= self.origin
                nodes = [self.scenes[name].nodes[index] for name, index in self._rows]
                self._geometry = build(nodes, still, progress)

    def snapshot(self, frame: float) -> Snapshot:
        """The stage at a frame; kept for the last few frames, or for all if nothing moves."""
        key = float(frame) if self._moving_rows else 0.0
        with self._lock:
            if key in self._snapshots:
                self._snapshots.move_to_end(key)
            else:
                self._snapshots[key] = self._make_snapshot(frame)
                if len(self._snapshots) > _KEPT_SNAPSHOTS:
                    self._snapshots.popitem(last=False)
            return self._snapshots[key]

    def _make_snapshot(self, frame: float) -> Snapshot:
        from kobrel.stage.embree import InstanceScene

        self.prepare()
        assert self._geometry is not None
        matrices = self._matrices(frame)
        placed = matrices[self._merged - 1 :].copy() if self._merged else np.insert(matrices, 0, np.eye(4), 0)
        placed[:, :3, 3] -= self.origin
        placed[0] = np.eye(4)
        return Snapshot(
            frame,
            self.origin,
            matrices,
            np.ascontiguousarray(np.swapaxes(np.linalg.inv(matrices[:, :3, :3]), 1, 2), np.float32),
            self._merged,
            InstanceScene([self._geometry.merged, *self._geometry.placed], placed),
            self._geometry.tables,
        )

    def _matrices(self, frame: float) -> Array:
        """(R, 4, 4) places of all rows' nodes, metres; only those that move are worked out anew."""
        result = self._still_matrices.copy()
        at = np.array([float(frame)])
        for row in self._moving_rows:
            name, index = self._rows[row]
            result[row] = self.scenes[name].world(index, at)[0]
        return result

    @cached_property
    def _still_matrices(self) -> Array:
        at = np.zeros(1)
        worlds = [self.scenes[name].world(index, at)[0] for name, index in self._rows]
        return np.asarray(worlds, dtype=float).reshape(-1, 4, 4)

    @cached_property
    def origin(self) -> Array:
        """Middle of the stage, to the metre: (3,)."""
        low, high = self.bounds()
        return np.round((low + high) / 2)

    def bounds(self, frame: float | None = None) -> tuple[Array, Array]:
        """Lowest and highest corner of all meshes, metres; a metre about nothing if empty."""
        corners = self.boxes(frame).reshape(-1, 3)
        if not len(corners):
            return np.full(3, -0.5), np.full(3, 0.5)
        return corners.min(axis=0), corners.max(axis=0)

    def boxes(self, frame: float | None = None) -> Array:
        """(R, 8, 3) corners of the box about each mesh, metres."""
        matrices = self._matrices(0.0 if frame is None else frame)
        turned = np.einsum("rij,rkj->rki", matrices[:, :3, :3], self._local_boxes)
        return np.asarray(turned + matrices[:, None, :3, 3])

    @cached_property
    def _local_boxes(self) -> Array:
        pick = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
        boxes = np.zeros((len(self._rows), 8, 3))
        seen: dict[int, Array] = {}
        for row, (name, index) in enumerate(self._rows):
            mesh = self.scenes[name].nodes[index].mesh
            assert mesh is not None
            if id(mesh) not in seen:
                ends = np.stack(mesh.bounds())
                seen[id(mesh)] = ends[pick, [0, 1, 2]]
            boxes[row] = seen[id(mesh)]
        return boxes

    def world(self, place: Place, frames: ArrayLike) -> Array | None:
        """Transforms of a node to metres, (F, 4, 4) or (1, 4, 4); None if it is not there."""
        scene = self.scenes.get(place.scene)
        index = scene.find(place.path) if scene else -1
        return scene.world(index, frames) if scene and index >= 0 else None

    def centre(self, place: Place) -> Array | None:
        """Middle of the bounds of a node and all below it, in its own space; None if absent.

        For what lies below, the places at the first frame count.
        """
        if place not in self._centres:
            self._centres[place] = self._find_centre(place)
        return self._centres[place]

    def _find_centre(self, place: Place) -> Array | None:
        scene = self.scenes.get(place.scene)
        index = scene.find(place.path) if scene else -1
        if scene is None or index < 0:
            return None
        at = np.array([float(scene.first_frame or 0)])
        inverse = np.linalg.inv(scene.world(index, at)[0])
        corners = []
        for row, (name, node) in enumerate(self._rows):
            if name == place.scene and _within(scene, node, index):
                matrix = inverse @ scene.world(node, at)[0]
                corners.append(self._local_boxes[row] @ matrix[:3, :3].T + matrix[:3, 3])
        if not corners:
            return np.zeros(3)
        joined = np.concatenate(corners)
        return np.asarray((joined.min(axis=0) + joined.max(axis=0)) / 2)

    def pick(self, frame: float, origin: ArrayLike, direction: ArrayLike) -> Pick | None:
        """The first surface along a ray.

        Parameters
        ----------
        frame : when
        origin, direction : (3,) metres on the stage; the direction of any length
        """
        from kobrel.stage.rays import closest_hits

        snapshot = self.snapshot(frame)
        start, toward = np.asarray(origin, dtype=float), np.asarray(direction, dtype=float)
        hits = closest_hits(snapshot.handle, snapshot.merged, (start - snapshot.origin)[None], toward[None])
        if hits.row[0] < 0:
            return None
        name, index = self._rows[int(hits.row[0])]
        node = self.scenes[name].nodes[index]
        assert node.mesh is not None
        triangle = int(hits.triangle[0])
        corners = node.mesh.points[node.mesh.triangles[triangle]].astype(float)
        matrix = snapshot.matrices[int(hits.row[0])]
        along = _exact_distance(corners @ matrix[:3, :3].T + matrix[:3, 3], start, toward)
        point = start + toward * (float(hits.distance[0]) if along is None else along)
        local = np.linalg.solve(matrix, np.append(point, 1.0))[:3]
        along = float(hits.distance[0]) if along is None else along
        return Pick(Place(name, node.path), triangle, point, local, along)


def _exact_distance(corners: Array, origin: Array, direction: Array) -> float | None:
    """Where a ray crosses a triangle's plane, in double precision."""
    normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
    slope = float(normal @ direction)
    return float(normal @ (corners[0] - origin)) / slope if slope else None


def _within(scene: Scene, node: int, above: int) -> bool:
    while node >= 0:
        if node == above:
            return True
        node = scene.nodes[node].parent
    return False

"""The stage: every scene of a plan, at any frame, and what rays find there."""

import threading
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from cachetools import LRUCache
from numpy.typing import ArrayLike, NDArray

from kobrel.stage.copies import copy_of_path
from kobrel.stage.motion import Array
from kobrel.stage.nearest import Closest, nearest_of, weights_in
from kobrel.stage.piece import NO_COPY, Piece
from kobrel.stage.plates import Eye
from kobrel.stage.scene import Mesh, Progress, Scene, no_progress
from kobrel.stage.snapshot import PlacedPiece, Snapshot, snapshot_of

if TYPE_CHECKING:
    from kobrel.stage.geometry import Geometry
    from kobrel.stage.pictures.environment import Environment

_KEPT_SNAPSHOTS = 12
# Each holds a tree of boxes of each mesh that deforms.
_KEPT_LIVE = 3
_MOST_KEPT = 256
_MANY_ROWS = 16
_NOWHERE_M = 1e12
_EXTENT_FRAMES = 9


@dataclass(frozen=True)
class Place:
    """A node of a scene by the names that a plan uses."""

    scene: str
    path: str


class Setting(NamedTuple):
    """A scene on the stage.

    `placement` (4, 4) carries the scene, in metres, to its place on the stage; None is where
    it is. `hidden` are paths of nodes that are not drawn; `apart` is for small scenes that
    are often exchanged.
    """

    name: str
    scene: Scene
    placement: Array | None = None
    hidden: frozenset[str] = frozenset()
    apart: bool = False


@dataclass(frozen=True)
class Pick:
    """What a ray met.

    `point` is in metres on the stage, `local` in the node's own space; `corners` (3, 3) are
    the triangle's in that space; `along` is the distance in units of the ray's direction.
    `vertices` are the triangle's, where its mesh deforms.
    """

    place: Place
    triangle: int
    point: Array
    local: Array
    corners: Array
    along: float
    vertices: tuple[int, ...] | None = None

    def weights_at(self, local: ArrayLike) -> Array:
        """(3,) of the triangle's corners for a point of its plane, in the node's space."""
        return weights_in(self.corners, np.asarray(local, float))


class Stage:
    """Scenes by name. Cheap to make; the rays' structures are built when first needed.

    Parameters
    ----------
    scenes : a (name, scene) pair will do
    environment : picture all about
    like : another stage, whose pieces are kept where they are the same
    """

    def __init__(
        self,
        scenes: Sequence[Setting | tuple[str, Scene]] = (),
        environment: "Environment | None" = None,
        like: "Stage | None" = None,
    ) -> None:
        settings = [s if isinstance(s, Setting) else Setting(*s) for s in scenes]
        self.scenes: dict[str, Scene] = {setting.name: setting.scene for setting in settings}
        self.environment = environment
        self.family: object = like.family if like else object()
        known = {(p.scene, p.hidden): p for p in like._pieces} if like else {}
        self._pieces: list[Piece] = [
            known.get((s.scene, s.hidden)) or Piece(s.scene, s.hidden, s.apart) for s in settings
        ]
        self._names = [setting.name for setting in settings]
        self._placements = [np.eye(4) if s.placement is None else s.placement for s in settings]
        self._starts = np.cumsum([0, *(len(piece.nodes) for piece in self._pieces)])
        self._snapshots: LRUCache[Hashable, Snapshot] = LRUCache(_KEPT_SNAPSHOTS)
        self._like: Geometry | None = like._geometry or like._like if like else None
        self._geometry: Geometry | None = None
        self._boxes: tuple[float, Array] | None = None
        self._kept: dict[Hashable, Array] = {}
        self._closest: dict[Mesh, Closest] = {}
        self._whole: Stage | None = None
        self._of_shots: dict[str, Stage] = {}
        self._lock = threading.RLock()

    @property
    def whole(self) -> "Stage":
        """The stage that this one is a shot's own form of, or itself."""
        return self._whole or self

    def put_for_shot(self, shot: str, stage: "Stage") -> None:
        """Let a shot have a form of this stage of its own."""
        self._of_shots[shot], stage._whole = stage, self

    def of_shot(self, shot: str) -> "Stage":
        """The stage as a shot has it, by the shot's name: with the rendered image before its own camera."""
        return self.whole._of_shots.get(shot, self.whole)

    def only(self, names: Sequence[str], surrounded: bool = True) -> "Stage":
        """A stage of some of its scenes alone, whose pieces are shared.

        Parameters
        ----------
        surrounded : whether the picture all about is there as well
        """
        chosen = [
            Setting(name, piece.scene, placement, piece.hidden, piece.apart)
            for name, piece, placement in zip(self._names, self._pieces, self._placements, strict=True)
            if name in names
        ]
        return Stage(chosen, self.environment if surrounded else None, self)

    def kept(self, key: Hashable, make: Callable[[], Array]) -> Array:
        """What was worked out on this stage before, or else now; not to be written to."""
        found = self._kept.get(key)
        if found is None:
            found = make()
            found.setflags(write=False)
            if len(self._kept) >= _MOST_KEPT:
                self._kept.clear()
            self._kept[key] = found
        return found

    @property
    def moves(self) -> bool:
        """Whether anything changes over time."""
        return any(piece.changes for piece in self._pieces)

    @cached_property
    def deforms(self) -> bool:
        """Whether any mesh changes its shape."""
        return any(piece.live for piece in self._pieces)

    @property
    def built(self) -> bool:
        """Whether all that is costly for rays is there."""
        return all(piece.built for piece in self._pieces)

    @property
    def warnings(self) -> list[str]:
        """What was skipped or assumed, scene by scene."""
        built = self._geometry.pictures.warnings if self._geometry else []
        return [warning for scene in self.scenes.values() for warning in scene.warnings] + built

    @property
    def triangle_count(self) -> int:
        """Triangles in all scenes."""
        return sum(scene.triangle_count for scene in self.scenes.values())

    # For rays

    def prepare(self, progress: Progress = no_progress) -> None:
        """Build what rays need; does nothing the second time."""
        with self._lock:
            if self._geometry is None:
                from kobrel.stage.geometry import Geometry

                for piece in self._pieces:
                    piece.accelerators(progress)
                self._geometry, self._like = Geometry(self._pieces, self._like), None

    @cached_property
    def needs_eye(self) -> bool:
        """Whether any plate depends on the camera that sees it; several may lie in one plane."""
        faces = [face for piece in self._pieces for face in piece.plates.values()]
        return len(faces) > 1 or any(face.needs_eye for face in faces)

    def _eye_key(self, eye: Eye) -> Hashable:
        """What of a camera the plates depend on: its place, and its focus only where one fades by blur."""
        faces = (face for piece in self._pieces for face in piece.plates.values())
        by_blur = any(face.fade is not None and face.fade.by == "blur" for face in faces)
        return eye.key if by_blur else eye.pose.tobytes()

    def snapshot(self, frame: float, keep: bool = True, eye: Eye | None = None) -> Snapshot:
        """The stage at a frame; kept for the last few frames, or for all if nothing moves.

        Parameters
        ----------
        eye : the camera that sees it, for plates that turn to it or fade by it
        """
        seen_by = eye if self.needs_eye else None
        key = float(frame) if self.moves else 0.0, None if seen_by is None else self._eye_key(seen_by)
        with self._lock:
            if key in self._snapshots:
                return self._snapshots[key]
            if self.deforms and keep:  # what no kept frame needs any more is fitted to this one
                while len(self._snapshots) >= _KEPT_LIVE:
                    self._snapshots.popitem()
            made = self._make_snapshot(frame, seen_by)
            if keep or not (self.moves or seen_by is not None):
                self._snapshots[key] = made
            return made

    def _make_snapshot(self, frame: float, eye: Eye | None) -> Snapshot:
        self.prepare()
        assert self._geometry is not None
        return snapshot_of(self._placed, frame, self.origin, self._geometry.tables, self.environment, eye)

    @cached_property
    def _placed(self) -> list[PlacedPiece]:
        """The pieces with where they stand and their first rows."""
        return [
            PlacedPiece(piece, placement, int(start))
            for piece, placement, start in zip(self._pieces, self._placements, self._starts, strict=False)
        ]

    def _node_of(self, row: int) -> tuple[int, int]:
        """The piece that a row belongs to, and the index of its node."""
        piece = int(np.searchsorted(self._starts, row, side="right")) - 1
        return piece, int(self._pieces[piece].nodes[row - int(self._starts[piece])])

    def pick(
        self, frame: float, origin: ArrayLike, direction: ArrayLike, eye: Eye | None = None
    ) -> Pick | None:
        """The first surface along a ray.

        Parameters
        ----------
        frame : when
        origin, direction : (3,) metres on the stage; the direction of any length
        eye : see :meth:`snapshot`
        """
        from kobrel.stage.engine.rays import closest_hits

        snapshot = self.snapshot(frame, eye=eye)
        start, toward = np.asarray(origin, dtype=float), np.asarray(direction, dtype=float)
        hits = closest_hits(
            snapshot.handle, snapshot.first_rows, (start - snapshot.origin)[None], toward[None], whole=True
        )
        row = int(hits.row[0])
        if row < 0:
            return None
        piece, index = self._node_of(row)
        mesh = self._pieces[piece].mesh_of(index)
        triangle = int(hits.triangle[0])
        vertices = mesh.triangles[triangle]
        if mesh.deformation is None:
            corners = mesh.points[vertices].astype(float)
        else:
            corners = mesh.deformation.points(frame)[vertices].astype(float)
        matrix = snapshot.matrices[row]
        along = _exact_distance(corners @ matrix[:3, :3].T + matrix[:3, 3], start, toward)
        along = float(hits.distance[0]) if along is None else along
        point = start + toward * along
        local = np.linalg.solve(matrix, np.append(point, 1.0))[:3]
        rides_on = tuple(int(v) for v in vertices) if mesh.deformation is not None or mesh.rides else None
        return Pick(self.place_of(row), triangle, point, local, corners, along, rides_on)

    # Where things are

    @cached_property
    def origin(self) -> Array:
        """Middle of the stage, to the metre: (3,)."""
        low, high = self.bounds()
        return np.round((low + high) / 2)

    def bounds(self, frame: float | None = None) -> tuple[Array, Array]:
        """Lowest and highest corner of all meshes, metres; a metre about nothing if empty."""
        corners = self.boxes(frame).reshape(-1, 3)
        corners = corners[np.isfinite(corners[:, 0])]
        if not len(corners):
            return np.full(3, -0.5), np.full(3, 0.5)
        return corners.min(axis=0), corners.max(axis=0)

    def extent(self) -> tuple[Array, Array]:
        """Lowest and highest corner of all meshes over the frames of all scenes, at a few of them."""
        ends = [(s.first_frame, s.last_frame) for s in self.scenes.values() if s.moving]
        known = [end for pair in ends for end in pair if end is not None]
        frames = np.linspace(min(known), max(known), _EXTENT_FRAMES) if known else [0.0]
        lows, highs = zip(*(self.bounds(float(frame)) for frame in frames), strict=True)
        return np.min(lows, axis=0), np.max(highs, axis=0)

    def boxes(self, frame: float | None = None) -> Array:
        """(R, 8, 3) corners of the box about each mesh, metres, not-a-number where it is not seen; the
        last frame's are kept.
        """
        at = 0.0 if frame is None else float(frame)
        known = self._boxes
        if known is None or known[0] != at:
            parts = [
                piece.boxes(at) @ placement[:3, :3].T + placement[:3, 3]
                for piece, placement in zip(self._pieces, self._placements, strict=True)
            ]
            known = self._boxes = at, np.concatenate([np.zeros((0, 8, 3)), *parts])
        return known[1]

    def place_of(self, row: int) -> Place:
        """The node that a row belongs to."""
        number, index = self._node_of(row)
        piece = self._pieces[number]
        copy = int(piece.copies[row - int(self._starts[number])])
        path = piece.scene.nodes[index].path
        return Place(self._names[number], path if copy == NO_COPY else f"{path}[{copy}]")

    def _find(self, place: Place) -> tuple[Piece, Array, int, int | None] | None:
        """The piece, placement, index and copy of a node."""
        if place.scene not in self._names:
            return None
        number, scene = self._names.index(place.scene), self.scenes[place.scene]
        index = scene.find(place.path)
        if index < 0:
            return None
        copy = None if scene.nodes[index].path == place.path else copy_of_path(place.path)[1]
        return self._pieces[number], self._placements[number], index, copy

    def world(self, place: Place, frames: ArrayLike) -> Array | None:
        """Transforms of a node to metres, (F, 4, 4) or (1, 4, 4); None if it is not there."""
        found = self._find(place)
        return self.node_world(place.scene, found[2], frames, found[3]) if found else None

    def node_world(self, scene: str, index: int, frames: ArrayLike, copy: int | None = None) -> Array:
        """Transforms of a node, by its index in a scene that is there, to metres on the stage."""
        return np.asarray(self.placement_of(scene) @ self.scenes[scene].world(index, frames, copy))

    def surface_point(
        self, place: Place, vertices: Sequence[int], weights: ArrayLike, frames: ArrayLike
    ) -> Array | None:
        """A point that rides on a triangle of a mesh that deforms or is read otherwise, in its node's own
        space.

        Parameters
        ----------
        vertices, weights : of its three corners

        Returns
        -------
        (F, 3) or (1, 3), or None where the node is not there or has no such triangle to ride on.
        """
        found = self._find(place)
        mesh = found[0].scene.nodes[found[2]].mesh if found else None
        if mesh is None or max(vertices) >= len(mesh.points):
            return None
        if mesh.deformation is None:
            whole = np.asarray(weights, float) @ mesh.points[list(vertices)].astype(float)
            return whole[None] if mesh.rides else None
        return mesh.deformation.mean_of(frames, vertices, np.asarray(weights, float))

    def nearest_triangle(
        self, place: Place, local: ArrayLike, frame: float
    ) -> tuple[tuple[int, ...], Array] | None:
        """The corners' numbers, and their weights (3,), of what is nearest to a point in the space of a node
        on whose triangles places ride; None for any other node.
        """
        found = self._find(place)
        mesh = found[0].scene.nodes[found[2]].mesh if found else None
        if mesh is None or (mesh.deformation is None and not mesh.rides):
            return None
        points = (mesh.points if mesh.deformation is None else mesh.deformation.points(frame)).astype(float)
        triangle = nearest_of(np.asarray(local, float), points[mesh.triangles])
        vertices = mesh.triangles[triangle]
        corners = points[vertices]
        return tuple(int(v) for v in vertices), weights_in(corners, np.asarray(local, float))

    def placement_of(self, scene: str) -> Array:
        """The matrix that carries a scene, in metres, to its place, (4, 4)."""
        return self._placements[self._names.index(scene)] if scene in self._names else np.eye(4)

    def scale_of(self, scene: str) -> float:
        """How much larger a scene stands on the stage than its file says."""
        return float(np.cbrt(abs(np.linalg.det(self.placement_of(scene)[:3, :3]))))

    def rows_below(self, place: Place) -> list[int]:
        """Rows of a node and of all below it; none where it is not there."""
        found = self._find(place)
        if found is None:
            return []
        start = int(self._starts[self._names.index(place.scene)])
        piece, _, index, copy = found
        rows = piece.rows_below(index)
        return [start + row for row in rows if copy is None or piece.copies[row] == copy]

    def centre(self, place: Place, frames: ArrayLike) -> Array | None:
        """Middle of the bounds of a node and all below it, in its own space: (F, 3), or (1, 3) where they
        do not change; None if absent.
        """
        box = self.local_bounds(place, frames)
        return None if box is None else np.asarray((box[0] + box[1]) / 2)

    def local_bounds(self, place: Place, frames: ArrayLike) -> tuple[Array, Array] | None:
        """Lowest and highest corner of a node and all below it over time, in its own space: (F, 3) each,
        or (1, 3) where they do not change; None if absent.
        """
        found = self._find(place)
        at = np.atleast_1d(np.asarray(frames, float))
        return found[0].local_bounds(found[2], found[3], at) if found else None

    def nearest(self, place: Place, points: ArrayLike, frames: ArrayLike) -> Array | None:
        """The points of a node and all below it that are nearest to given points over time.

        Parameters
        ----------
        points : (F, 3) metres on the stage
        frames : (F,)

        Returns
        -------
        (F, 3) metres on the stage, or None where the node is not there or has no mesh. What is not there
        at a frame does not count, but where nothing is.
        """
        found = self._find(place)
        if found is None:
            return None
        piece, placement, index, copy = found
        rows = [row for row in piece.rows_below(index) if copy is None or piece.copies[row] == copy]
        goals = np.asarray(points, dtype=float)
        at = np.broadcast_to(np.asarray(frames, dtype=float), len(goals))
        if len(rows) > _MANY_ROWS:
            rows = self._within_reach(place.scene, rows, goals, at)
        if not rows:
            return None
        drawn = piece.drawn_over(np.asarray(rows), at)
        best, least = np.full((len(goals), 3), np.nan), np.full(len(goals), np.inf)
        for row, there in zip(rows, drawn.T, strict=True):
            number, mesh = int(piece.copies[row]), piece.mesh_of(int(piece.nodes[row]))
            if mesh not in self._closest:
                self._closest[mesh] = Closest(mesh)
            closest = self._closest[mesh]
            own = None if number == NO_COPY else number
            when = np.flatnonzero(there)
            worlds = placement @ piece.scene.world(int(piece.nodes[row]), at[when], own)
            here = closest.nearest(goals[when], np.broadcast_to(worlds, (len(when), 4, 4)), at[when])
            distance = np.linalg.norm(here - goals[when], axis=1)
            nearer = distance < least[when]
            best[when[nearer]], least[when[nearer]] = here[nearer], distance[nearer]
        return best

    def is_drawn(self, place: Place, frames: ArrayLike) -> NDArray[np.bool_] | None:
        """(F,) whether a node, or anything below it, is there at frames; None where it has no mesh."""
        rows = self.rows_below(place)
        if not rows:
            return None
        found = self._find(place)
        assert found is not None
        own = np.asarray(rows) - int(self._starts[self._names.index(place.scene)])
        seen = [found[0].seen(float(frame)) for frame in np.atleast_1d(np.asarray(frames, float))]
        return np.array([there is None or bool(there[own].any()) for there in seen])

    def _within_reach(self, scene: str, rows: list[int], goals: Array, frames: Array) -> list[int]:
        """Those of a scene's rows that can hold the point nearest to a goal (F, 3) at any frame."""
        chosen = np.asarray(rows) + int(self._starts[self._names.index(scene)])
        kept = np.zeros(len(rows), bool)
        for goal, frame in zip(goals, frames, strict=True):
            boxes = self.boxes(float(frame))[chosen]
            if np.isnan(boxes).all():
                return rows
            boxes = np.nan_to_num(boxes, nan=_NOWHERE_M)
            low, high = boxes.min(axis=1), boxes.max(axis=1)
            nearest = np.linalg.norm(np.maximum(np.maximum(low - goal, goal - high), 0.0), axis=1)
            farthest = np.linalg.norm(np.maximum(np.abs(low - goal), np.abs(high - goal)), axis=1)
            kept |= nearest <= farthest.min()
        return [row for row, keep in zip(rows, kept, strict=True) if keep]


def _exact_distance(corners: Array, origin: Array, direction: Array) -> float | None:
    """Where a ray crosses a triangle's plane, in double precision."""
    normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
    slope = float(normal @ direction)
    return float(normal @ (corners[0] - origin)) / slope if slope else None

"""One scene on the stage: what of it is drawn, and what rays need of that, built once.

A piece is in its scene's own space, metres with Y up, so that placing the scene elsewhere
costs a matrix. Rows count its drawn nodes: first those that stand still, which are merged
into one accelerator, then those that change over time or share a mesh, a row for each copy.
"""

import threading
from collections import Counter
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.copies import Copies
from kobrel.stage.emitters import Glow, Known, glow_of
from kobrel.stage.joints import NONE, Joints
from kobrel.stage.motion import Array, Track
from kobrel.stage.plates import PlateFace
from kobrel.stage.scene import Material, Mesh, Progress, Scene, no_progress

if TYPE_CHECKING:
    from kobrel.stage.engine.meshes import Accelerator

# A still mesh that is used many times is merged, which rays like, up to this size.
_MOST_TRIANGLES_TO_REPEAT = 2000
NO_COPY = -1
_CORNERS = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])


class Piece:
    """One scene on the stage: what of it is drawn, and what rays need of that, built once.

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
        placed = [i for i in drawn if apart or _stands_apart(scene, i, uses)]
        separate = set(placed)
        merged = [i for i in drawn if i not in separate]
        self.merged = len(merged)
        self.placed = placed
        self._starts = len(merged) + np.cumsum([0, *(_copies(scene, i) for i in placed)])
        counts = np.diff(self._starts)
        self.nodes = np.concatenate(
            [np.asarray(merged, np.int64), np.repeat(np.asarray(placed, np.int64), counts)]
        )
        self.copies = np.concatenate(
            [np.full(len(merged), NO_COPY), *(_numbers(scene, i) for i in placed)]
        ).astype(np.int64)
        self.moving = [i for i in placed if scene.moves(i)]
        self._flickering = {i: _sights(scene, i) for i in placed if _flickers(scene, i)}
        self._below: dict[int, list[int]] = {}
        self._bounds: dict[int, tuple[Array, Array]] = {}
        self._lock = threading.Lock()
        self._accelerators: list[Accelerator] | None = None

    @property
    def changes(self) -> bool:
        """Whether anything changes over time."""
        return (
            bool(self.moving or self._flickering or self.live)
            or any(face.changes for face in self.plates.values())
            or any(track is not None and track.moves for track in self.opacities)
        )

    @cached_property
    def opacities(self) -> list[Track | None]:
        """How each drawn node fades, by its place among :attr:`drawn`."""
        return [self.scene.nodes[index].opacity for index in self.drawn]

    @cached_property
    def plates(self) -> dict[int, PlateFace]:
        """The plates among the nodes that are placed by themselves."""
        found = {index: self.scene.nodes[index].materials[0].plate for index in self.placed}
        return {index: face for index, face in found.items() if face is not None}

    @property
    def built(self) -> bool:
        """Whether rays can hit it without further work; small scenes cost too little to matter."""
        return self._accelerators is not None or self.apart

    def rows_of(self, index: int) -> slice:
        """The rows of a node that is placed by itself: one, or one a copy."""
        number = self._number_of[index]
        return slice(int(self._starts[number]), int(self._starts[number + 1]))

    def first_row(self, number: int) -> int:
        """The first row of a drawn node, by its place among :attr:`drawn`."""
        return number if number < self.merged else int(self._starts[number - self.merged])

    @cached_property
    def _number_of(self) -> dict[int, int]:
        return {index: number for number, index in enumerate(self.placed)}

    @cached_property
    def live(self) -> list[int]:
        """Nodes whose meshes deform."""
        return [index for index in self.placed if self.mesh_of(index).deformation is not None]

    def mesh_of(self, index: int) -> Mesh:
        """The mesh of a drawn node."""
        mesh = self.scene.nodes[index].mesh
        assert mesh is not None
        return mesh

    @property
    def drawn(self) -> list[int]:
        """All drawn nodes, the merged ones first."""
        return [*self.nodes[: self.merged].tolist(), *self.placed]

    @cached_property
    def numbers(self) -> NDArray[np.int64]:
        """(R,) the place of each row's node among :attr:`drawn`."""
        counts = np.diff(self._starts)
        late = np.repeat(np.arange(self.merged, self.merged + len(counts)), counts)
        return np.concatenate([np.arange(self.merged), late])

    def matrices(self, frame: float) -> Array:
        """(R, 4, 4) places of the rows' nodes; only those that move are worked out anew."""
        if not self.moving:
            return self._still_matrices
        result = self._still_matrices.copy()
        for index in self.moving:
            if self.scene.nodes[index].copies is not None:
                result[self.rows_of(index)] = self._placed_at(index, frame)
        rows, tree, wanted = self._movers
        if len(rows):
            places = tree.places(np.array([float(frame)]), wanted)[0, wanted]
            result[rows, :3] = self.scene.root[:3, :3] @ places
            result[rows, :3, 3] += self.scene.root[:3, 3]
        return result

    @cached_property
    def _movers(self) -> tuple[list[int], Joints, list[int]]:
        """Rows of the nodes without copies that move; a tree of them and of all above; their places in it."""
        scene = self.scene
        movers = [index for index in self.moving if scene.nodes[index].copies is None]
        above = {index: NONE if node.resets else node.parent for index, node in enumerate(scene.nodes)}
        within: set[int] = set()
        for mover in movers:
            index = mover
            while index >= 0 and index not in within:
                within.add(index)
                index = above[index]
        order = sorted(within)
        number = {index: place for place, index in enumerate(order)} | {NONE: NONE}
        tree = Joints(
            tuple(number[above[index]] for index in order),
            tuple(scene.nodes[index].motion for index in order),
        )
        return [self.rows_of(index).start for index in movers], tree, [number[index] for index in movers]

    def _placed_at(self, index: int, frame: float) -> Array:
        """(1, 4, 4) or (N, 4, 4): a node's place, or those of its copies."""
        node, at = self.scene.nodes[index], np.array([float(frame)])
        if node.copies is None:
            return self.scene.world(index, at)
        above = self.scene.world(node.parent, at)[0] if node.parent >= 0 else self.scene.root
        return np.asarray(above @ node.copies.at(frame) @ node.motion.matrices(at)[0])

    @cached_property
    def _still_matrices(self) -> Array:
        at = np.zeros(1)
        worlds = [self.scene.world(index, at) for index in self.nodes[: self.merged]]
        worlds += [self._placed_at(index, 0.0) for index in self.placed]
        return np.concatenate([np.zeros((0, 4, 4)), *worlds])

    def seen(self, frame: float) -> NDArray[np.bool_] | None:
        """(R,) which rows are there at a frame; None is all of them."""
        if not self._flickering:
            return None
        result = np.ones(len(self.nodes), bool)
        for index, (tracks, copies) in self._flickering.items():
            there = all(float(track.at([frame])[0, 0]) > 0 for track in tracks)
            result[self.rows_of(index)] = there if copies is None else copies.seen_at(frame) & there
        return result

    def drawn_over(self, rows: NDArray[np.int64], frames: Array) -> NDArray[np.bool_]:
        """(F, n) which of some rows count for where their node is: those that are there at a frame, or all
        of them where none is.
        """
        seen = [self.seen(float(frame)) for frame in frames] if self._flickering else []
        drawn = np.ones((len(frames), len(rows)), bool)
        for at, there in enumerate(seen):
            if there is not None and there[rows].any():
                drawn[at] = there[rows]
        return drawn

    def local_boxes(self, frame: float = 0.0) -> Array:
        """(D, 8, 3) corners of the box about the mesh of each drawn node, in its node's space."""
        if not self.live:
            return self._rest_boxes
        boxes = self._rest_boxes.copy()
        for index in self.live:
            boxes[self.merged + self._number_of[index]] = _box(self.mesh_of(index).bounds(frame))
        return boxes

    @cached_property
    def _rest_boxes(self) -> Array:
        boxes = np.zeros((len(self.drawn), 8, 3))
        seen: dict[Mesh, Array] = {}
        for row, mesh in enumerate(map(self.mesh_of, self.drawn)):
            if mesh not in seen:
                first = 0.0 if self.scene.first_frame is None else float(self.scene.first_frame)
                seen[mesh] = _box(mesh.bounds(first))
            boxes[row] = seen[mesh]
        return boxes

    def _corners(self, frame: float) -> Array:
        """(R, 8, 3) corners of the box about each mesh at a frame, seen or not."""
        matrices = self.matrices(frame)
        turned = np.einsum("rij,rkj->rki", matrices[:, :3, :3], self.local_boxes(frame)[self.numbers])
        return np.asarray(turned + matrices[:, None, :3, 3])

    def boxes(self, frame: float) -> Array:
        """(R, 8, 3) corners of the box about each mesh at a frame; one corner, at its node, for a row that
        is not there.
        """
        corners = self._corners(frame)
        seen = self.seen(frame)
        if seen is not None and not seen.all():
            corners[~seen] = np.nan
        return corners

    def rows_below(self, index: int) -> list[int]:
        """Rows that belong to a node or to one below it."""
        if index not in self._below:
            within = {index}
            for number, node in enumerate(self.scene.nodes):
                if node.parent in within:
                    within.add(number)
            self._below[index] = np.flatnonzero(np.isin(self.nodes, list(within))).tolist()
        return self._below[index]

    def local_bounds(self, index: int, copy: int | None, frames: Array) -> tuple[Array, Array]:
        """Lowest and highest corner of a node and all below it over time, in its own space, (F, 3) each,
        or (1, 3) where nothing changes; its origin twice where there is no mesh. What is not there at a
        frame does not count, but where nothing is.
        """
        rows = self.rows_below(index)
        if copy is not None:
            rows = [row for row in rows if self.copies[row] == copy] or rows
        nodes = set(self.nodes[rows].tolist())
        changing = nodes & {*self.live, *self._flickering}
        if not changing and all(self._held(index, node) for node in nodes):
            frames = frames[:1]
        inverse = np.linalg.inv(self.scene.world(index, frames, copy))
        low, high = np.full((len(frames), 3), np.inf), np.full((len(frames), 3), -np.inf)
        drawn = self.drawn_over(np.asarray(rows, np.int64), frames)
        if len(rows) > len(frames):  # frame by frame, all rows at once
            for at, frame in enumerate(frames):
                matrix = inverse[min(at, len(inverse) - 1)]
                corners = self._corners(float(frame))[np.asarray(rows)[drawn[at]]].reshape(-1, 3)
                corners = corners @ matrix[:3, :3].T + matrix[:3, 3]
                low[at], high[at] = corners.min(axis=0), corners.max(axis=0)
            return low, high
        for number, row in enumerate(rows):
            node = int(self.nodes[row])
            own = self.copies[row] if self.copies[row] != NO_COPY else None
            matrix = inverse @ self.scene.world(node, frames, own)
            if self.mesh_of(node).deformation is not None:
                boxes = np.stack([_box(self.mesh_of(node).bounds(frame)) for frame in frames])
            else:
                boxes = self._rest_boxes[self.numbers[row]][None]
            corners = boxes @ np.swapaxes(matrix[:, :3, :3], 1, 2) + matrix[:, None, :3, 3]
            corners = np.where(drawn[:, number, None, None], corners, np.nan)
            low, high = np.fmin(low, corners.min(axis=1)), np.fmax(high, corners.max(axis=1))
        none = ~np.isfinite(low)
        return np.where(none, 0.0, low), np.where(none, 0.0, high)

    def _held(self, index: int, below: int) -> bool:
        """Whether a node below another keeps its place in that one's space."""
        while below not in (index, -1):
            node = self.scene.nodes[below]
            if node.motion.moves or (node.copies is not None and node.copies.moves) or node.resets:
                return False
            below = node.parent
        return True

    @cached_property
    def meshes(self) -> list[Mesh]:
        """The mesh of each drawn node."""
        return [self.mesh_of(index) for index in self.drawn]

    @cached_property
    def materials(self) -> tuple[list[Material], NDArray[np.int64], NDArray[np.int64]]:
        """Its materials, the number of each drawn node's slots' materials, and where each one's begin."""
        numbers: dict[Material, int] = {}
        slots: list[int] = []
        starts = []
        for index in self.drawn:
            starts.append(len(slots))
            slots += [numbers.setdefault(m, len(numbers)) for m in self.scene.nodes[index].materials]
        return list(numbers), np.asarray(slots, np.int64), np.asarray(starts, np.int64)

    @cached_property
    def glows(self) -> list[Glow | None]:
        """The small glowing parts of each drawn node's mesh; what deforms stays with the tracer."""
        known: Known = {}
        nodes = [self.scene.nodes[index] for index in self.drawn]
        return [
            None
            if mesh.deformation is not None or node.copies is not None
            else glow_of(mesh, tuple(node.materials), known)
            for node, mesh in zip(nodes, self.meshes, strict=True)
        ]

    @cached_property
    def origin(self) -> Array:
        """Where the merged accelerator's own coordinates begin, so that they stay precise: (3,)."""
        if not self.merged:
            return np.zeros(3)
        corners = self.boxes(0.0)[: self.merged].reshape(-1, 3)
        result: Array = np.round((corners.min(axis=0) + corners.max(axis=0)) / 2)
        return result

    def accelerators(self, progress: Progress = no_progress) -> "list[Accelerator]":
        """What rays hit: the merged meshes, if any, less :attr:`origin`; then one for each other node."""
        with self._lock:
            if self._accelerators is None:
                self._accelerators = self._build(progress)
            return self._accelerators

    def _build(self, progress: Progress) -> "list[Accelerator]":
        from kobrel.stage.engine.cutouts import cutouts
        from kobrel.stage.engine.embree import TriangleScene
        from kobrel.stage.engine.meshes import FadingMesh, LiveMesh, PlateMesh, triangle_scene

        result: list[Accelerator] = []
        total = sum(len(mesh.triangles) for mesh in self.meshes) or 1
        done = 0
        merged = TriangleScene()
        for number, (index, mesh) in enumerate(zip(self.drawn, self.meshes, strict=True)):
            progress("Preparing rays", done / total)
            done += len(mesh.triangles)
            materials = self.scene.nodes[index].materials
            if number < self.merged:
                matrix = self._still_matrices[number]
                points = mesh.points @ matrix[:3, :3].T + (matrix[:3, 3] - self.origin)
                merged.add(points, mesh.triangles, cutouts(mesh, materials))
            elif index in self.plates:
                result.append(PlateMesh(mesh, materials, self.plates[index]))
            elif mesh.deformation is not None:
                live = LiveMesh(mesh, materials)
                live.prepare()
                result.append(live)
            elif (opacity := self.opacities[number]) is not None:
                result.append(FadingMesh(mesh, materials, opacity))
            else:
                result.append(triangle_scene(mesh, materials))
        if self.merged:
            result.insert(0, merged.commit())
        progress("Preparing rays", 1.0)
        return result


def _box(ends: tuple[Array, Array]) -> Array:
    """(8, 3) corners between a lowest and a highest one."""
    return np.asarray(np.stack(ends)[_CORNERS, [0, 1, 2]])


def _copies(scene: Scene, index: int) -> int:
    copies = scene.nodes[index].copies
    return 1 if copies is None else copies.count


def _numbers(scene: Scene, index: int) -> NDArray[np.int64]:
    copies = scene.nodes[index].copies
    return np.full(1, NO_COPY) if copies is None else np.arange(copies.count)


def _sights(scene: Scene, index: int) -> tuple[list[Track], Copies | None]:
    """What tells when a node is seen, and when its copies are."""
    copies = scene.nodes[index].copies
    return scene.shown(index), copies if copies is not None and _comes_and_goes(copies) else None


def _comes_and_goes(copies: Copies | None) -> bool:
    return copies is not None and (copies.flickers or not bool(copies.seen_at(0.0).all()))


def _flickers(scene: Scene, index: int) -> bool:
    return bool(scene.shown(index)) or _comes_and_goes(scene.nodes[index].copies)


def _stands_apart(scene: Scene, index: int, uses: Counter[Mesh | None]) -> bool:
    """Whether a node has an instance of its own: it changes over time, or shares a large mesh."""
    node = scene.nodes[index]
    mesh = node.mesh
    assert mesh is not None
    changes = mesh.deformation is not None or node.opacity is not None or _flickers(scene, index)
    if changes or node.copies is not None:
        return True
    return scene.moves(index) or (uses[mesh] > 1 and len(mesh.triangles) > _MOST_TRIANGLES_TO_REPEAT)


def _hidden_nodes(scene: Scene, hidden: frozenset[str]) -> set[int]:
    """Nodes that are hidden themselves or lie below one that is."""
    gone: set[int] = set()
    if hidden:
        for index, node in enumerate(scene.nodes):
            if node.path in hidden or node.parent in gone:
                gone.add(index)
    return gone

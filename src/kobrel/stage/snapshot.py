"""The stage at one frame, ready for rays."""

from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.emitters import Emitters
from kobrel.stage.motion import Array
from kobrel.stage.piece import Piece
from kobrel.stage.plates import Eye

if TYPE_CHECKING:
    from kobrel.stage.engine.embree import InstanceScene, TriangleScene
    from kobrel.stage.engine.meshes import PlatePose, Pose
    from kobrel.stage.geometry import Tables
    from kobrel.stage.pictures.environment import Environment

_FLAT = 1e-30
_PARALLEL, _ONE_PLANE, _APART = 1.0 - 1e-9, 1e-6, 2e-5
"""How alike normals of plates in one plane are, how near they lie to each other, and how far apart they are
brought, in parts of their distance.
"""
_DIGITS = 16 * float(np.finfo(np.float32).eps)
"""What rays tell apart, in parts of the distance from the stage's middle."""
"""Volume of a transform below which a thing is not seen at all."""


@dataclass(frozen=True, eq=False)
class Snapshot:
    """The stage at one frame, ready for rays.

    Parameters
    ----------
    origin : (3,) where the rays' own coordinates begin, so that they stay precise far out
    matrices : (R, 4, 4) place of each row's node, metres
    normal_matrices : (2R, 3, 3) float32, to the stage's space: for each row from the normals
        of its mesh, then from those of the faces that rays meet
    first_rows : (I,) row at which each of the accelerator's instances begins
    live_normals : (n, 3, 3) normals of the corners of meshes that deform, see
        :class:`kobrel.stage.geometry.Tables`
    plates : (P, 5) where the pixels of plates lie, see :func:`kobrel.stage.engine.cutouts.plate_row`
    held : what of it other frames must not change
    """

    frame: float
    origin: Array
    matrices: Array
    normal_matrices: NDArray[np.float32]
    first_rows: NDArray[np.int32]
    accelerator: "InstanceScene"
    tables: "Tables"
    environment: "Environment | None"
    emitters: Emitters
    live_normals: NDArray[np.float32]
    plates: NDArray[np.uint64]
    held: "tuple[Pose | PlatePose, ...]" = ()

    @property
    def handle(self) -> int:
        """The accelerator, for kernels."""
        return self.accelerator.handle


class PlacedPiece(NamedTuple):
    """A piece, the matrix that places it, and its first row among those of all pieces."""

    piece: Piece
    placement: Array
    start: int


def rows_at(placed: list[PlacedPiece], frame: float) -> Array:
    """(R, 4, 4) places of all rows' nodes at a frame, metres."""
    parts = [each.placement @ each.piece.matrices(frame) for each in placed]
    return np.concatenate([np.zeros((0, 4, 4)), *parts])


def snapshot_of(
    placed: list[PlacedPiece],
    frame: float,
    origin: Array,
    tables: "Tables",
    environment: "Environment | None",
    eye: Eye | None = None,
) -> Snapshot:
    """Pieces at a frame, as a camera has them; what is not seen then, or squeezed to nothing, rays do not
    meet.
    """
    from kobrel.stage.engine.embree import InstanceScene

    matrices = rows_at(placed, frame)
    if eye is not None:
        _turn_plates(placed, frame, eye, matrices)
        _part_plates(placed, eye, origin, matrices)
    faces = matrices.copy()
    found = _Instances(eye)
    for piece, placement, start in placed:
        faces[start : start + piece.merged] = placement
        found.add(PlacedPiece(piece, placement, start), frame, matrices)
    places = np.concatenate(found.places)
    places[:, :3, 3] -= origin
    both = np.stack([matrices, faces], axis=1).reshape(-1, 4, 4)[:, :3, :3]
    normals = [pose.normals for pose in found.held if pose.normals is not None]
    return Snapshot(
        frame,
        origin,
        matrices,
        np.ascontiguousarray(np.swapaxes(_inverses(both), 1, 2), np.float32),
        np.concatenate(found.first_rows).astype(np.int32),
        InstanceScene(found.scenes, np.concatenate(found.which), places),
        tables,
        environment,
        _emitters(placed, frame, matrices, origin),
        np.concatenate([np.zeros((0, 3, 3), np.float32), *normals]),
        np.asarray([pose.row for pose in found.plates], np.uint64).reshape(-1, 5),
        (*found.held, *found.plates),
    )


def _turn_plates(placed: list[PlacedPiece], frame: float, eye: Eye, matrices: Array) -> None:
    """Turn the plates that face the camera, in the rows' places (R, 4, 4)."""
    for piece, _placement, start in placed:
        for index, face in piece.plates.items():
            if face.faces:
                row = start + piece.rows_of(index).start
                matrices[row] = face.turned(frame, matrices[row], eye)


def _part_plates(placed: list[PlacedPiece], eye: Eye, origin: Array, matrices: Array) -> None:
    """Bring plates that lie in one plane a trace nearer than those before them in the list, in the rows'
    places (R, 4, 4): they look the same, and the later one is in front.
    """
    rows = [start + piece.rows_of(index).start for piece, _there, start in placed for index in piece.plates]
    lens = eye.pose[:3, 3]
    normals, places = matrices[rows, :3, 2], matrices[rows, :3, 3]
    normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), _FLAT)
    away = np.linalg.norm(places - lens, axis=1)
    ranks = np.zeros(len(rows), int)
    for own in range(1, len(rows)):
        same = np.abs(normals[:own] @ normals[own]) > _PARALLEL
        same &= np.abs((places[:own] - places[own]) @ normals[own]) <= _ONE_PLANE * away[own]
        ranks[own] = ranks[:own][same].max(initial=-1) + 1
    for row, rank, far in zip(rows, ranks, away, strict=True):
        if rank and far > 0:
            step = max(_APART * far, _DIGITS * float(np.abs(matrices[row, :3, 3] - origin).max()))
            nearer = max(1.0 - rank * step / far, 0.5)
            matrices[row, :3, 3] = lens + (matrices[row, :3, 3] - lens) * nearer
            matrices[row, :3, :3] *= nearer


class _Instances:
    """What the accelerator is made of: scenes, which of them each instance is of, and where it stands."""

    def __init__(self, eye: Eye | None) -> None:
        self._eye = eye
        self.scenes: list[TriangleScene] = []
        self.held: list[Pose] = []
        self.plates: list[PlatePose] = []
        self.first_rows: list[NDArray[np.int64]] = [np.zeros(0, np.int64)]
        self.which: list[NDArray[np.int64]] = [np.zeros(0, np.int64)]
        self.places: list[Array] = [np.zeros((0, 4, 4))]

    def add(self, placed: PlacedPiece, frame: float, matrices: Array) -> None:
        """Add a piece: its merged meshes as one, then each other row that is seen."""
        from kobrel.stage.engine.meshes import FadingMesh, LiveMesh, PlateMesh

        piece, placement, start = placed
        accelerators = iter(piece.accelerators())
        if piece.merged:
            there = placement.copy()
            there[:3, 3] = placement[:3, :3] @ piece.origin + placement[:3, 3]
            self._add_rows(np.array([start]), np.array([len(self.scenes)]), there[None])
            merged = next(accelerators)
            assert not isinstance(merged, LiveMesh | PlateMesh | FadingMesh)
            self.scenes.append(merged)
        rows = np.arange(piece.merged, len(piece.nodes))
        rows = rows[np.abs(np.linalg.det(matrices[start + rows, :3, :3])) > _FLAT]
        plates = iter(piece.plates)
        seen = piece.seen(frame)
        if seen is not None:
            rows = rows[seen[rows]]
        numbers = piece.numbers[rows]
        self._add_rows(start + rows, len(self.scenes) + numbers - piece.merged, matrices[start + rows])
        for accelerator in accelerators:
            if isinstance(accelerator, LiveMesh):
                pose = accelerator.at(frame)
                self.held.append(pose)
                self.scenes.append(pose.scene)
            elif isinstance(accelerator, PlateMesh):
                matrix = matrices[start + piece.rows_of(next(plates)).start]
                plate = accelerator.at(frame, accelerator.face.opacity_at(frame, matrix, self._eye))
                self.plates.append(plate)
                self.scenes.append(plate.scene)
            elif isinstance(accelerator, FadingMesh):
                self.scenes.append(accelerator.at(frame))
            else:
                self.scenes.append(accelerator)

    def _add_rows(self, rows: NDArray[np.int64], which: NDArray[np.int64], places: Array) -> None:
        self.first_rows.append(rows)
        self.which.append(which)
        self.places.append(places)


def _emitters(placed: list[PlacedPiece], frame: float, matrices: Array, origin: Array) -> Emitters:
    """The small glowing parts of all rows, in the order of the tables' numbers; those not seen are dark."""
    places, radii, emission = [np.zeros((0, 3))], [np.zeros((2, 0))], [np.zeros((0, 3))]
    for piece, _placement, start in placed:
        seen = piece.seen(frame)
        for number, glow in enumerate(piece.glows):
            if glow is None:
                continue
            row = piece.first_row(number)
            matrix = matrices[start + row]
            places.append(glow.centres @ matrix[:3, :3].T + matrix[:3, 3] - origin)
            size = abs(float(np.linalg.det(matrix[:3, :3]))) ** (1 / 3)
            radii.append(np.stack([glow.radii, glow.reach]) * size)
            emission.append(glow.emission * (1.0 if seen is None else float(seen[row])))
            if (opacity := piece.opacities[number]) is not None:
                emission[-1] = emission[-1] * float(np.clip(opacity.at([frame])[0, 0], 0.0, 1.0))
    size_m, reach = np.concatenate(radii, axis=1)
    return Emitters(np.concatenate(places), size_m, reach, np.concatenate(emission))


def _inverses(matrices: Array) -> Array:
    """Inverses of (n, 3, 3); what has none, as a thing at a size of nothing, becomes nothing."""
    flat = (np.abs(np.linalg.det(matrices)) < _FLAT)[:, None, None]
    return np.where(flat, 0.0, np.linalg.inv(np.where(flat, np.eye(3), matrices)))

"""Meshes of glTF: the parts of each joined to one mesh, with its morph targets and joints."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.pictures.colours import as_bytes
from kobrel.stage.read.checks import mesh_fault
from kobrel.stage.read.gltf.compression import draco_mesh
from kobrel.stage.read.gltf.container import Container
from kobrel.stage.read.gltf.document import Primitive
from kobrel.stage.read.gltf.materials import Materials
from kobrel.stage.scene import Material, Mesh

_MOST_SLOTS = 256
_TRIANGLES, _STRIP, _FAN = 4, 5, 6


@dataclass(frozen=True, eq=False)
class MeshOf:
    """A mesh of the file, before it is posed.

    Parameters
    ----------
    targets : for each morph target which points it moves (n,), and how far (n, 3)
    joints, weights : (V, K), or None without a skin
    """

    mesh: Mesh
    materials: tuple[Material, ...]
    targets: tuple[tuple[NDArray[np.int64], NDArray[np.float32]], ...]
    joints: NDArray[np.int32] | None
    weights: NDArray[np.float32] | None


@dataclass(frozen=True, eq=False)
class _Part:
    """One primitive with its triangles (T, 3); other arrays have a row for each of its V points."""

    points: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    normals: NDArray[np.float32] | None
    uv: NDArray[np.float32] | None
    colours: NDArray[np.uint8] | None
    joints: NDArray[np.int32] | None
    weights: NDArray[np.float32] | None
    targets: tuple[NDArray[np.float32] | None, ...]
    material: int | None


class Meshes:
    """Reads meshes, each once.

    Parameters
    ----------
    variant : number of the file's material variant, if one is chosen
    """

    def __init__(
        self, container: Container, materials: Materials, warnings: list[str], variant: int | None = None
    ) -> None:
        self._container, self._materials, self._warnings = container, materials, warnings
        self._variant = variant
        self._known: dict[int, MeshOf | None] = {}

    def read(self, index: int) -> MeshOf | None:
        """A mesh by its number; None where nothing of it can be drawn.

        Raises
        ------
        SceneError
            The file is damaged there.
        """
        if index not in self._known:
            self._known[index] = self._read(index)
        return self._known[index]

    def _read(self, index: int) -> MeshOf | None:
        source = self._container.of(self._container.document.meshes, index, "mesh")
        name = source.name or f"mesh {index}"
        parts = [part for p in source.primitives if (part := self._part(p, name)) is not None]
        return _joined(parts, self._materials) if parts else None

    def _part(self, primitive: Primitive, name: str) -> _Part | None:
        if primitive.mode not in (_TRIANGLES, _STRIP, _FAN):
            kind = "points" if primitive.mode == 0 else "lines"
            self._warnings.append(f"{name}: its {kind} are skipped.")
            return None
        faces, values = self._attributes(primitive)
        points = values.get("POSITION")
        if points is None or points.ndim != 2 or points.shape[1] != 3:
            self._warnings.append(f"{name}: skipped, it has no points.")
            return None
        points = np.ascontiguousarray(points, np.float32)
        fault = mesh_fault(points, faces)
        if fault:
            self._warnings.append(f"{name}: skipped, {fault}.")
            return None
        count = len(points)
        material = self._material(primitive)
        number, change = self._materials.coordinates(material)
        uv = _fitting(values.get(f"TEXCOORD_{number}"), count, 2)
        if uv is not None:
            uv = uv if change is None else change(uv)
            uv = np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1)
        colours = values.get("COLOR_0")
        joints, weights = _influences(values, count)
        targets = tuple(
            _fitting(self._container.numbers(t["POSITION"]), count, 3) if "POSITION" in t else None
            for t in primitive.targets
        )
        return _Part(
            points,
            faces,
            _fitting(values.get("NORMAL"), count, 3),
            uv,
            None if colours is None or len(colours) != count else as_bytes(colours[:, :3]),
            joints,
            weights,
            targets,
            material,
        )

    def _attributes(self, primitive: Primitive) -> tuple[NDArray[np.uint32], dict[str, NDArray[Any]]]:
        """Triangles (T, 3) and the values of points by their names."""
        draco = primitive.extensions.KHR_draco_mesh_compression
        wanted = {
            name: accessor
            for name, accessor in primitive.attributes.items()
            if name.split("_")[0] in ("POSITION", "NORMAL", "TEXCOORD", "COLOR", "JOINTS", "WEIGHTS")
        }
        if draco is not None:
            content = bytes(self._container.view(draco.bufferView))
            faces, values = draco_mesh(self._container.path, content, draco.attributes)
            unpacked = {
                name: _normalised(self._container, wanted[name], found)
                for name, found in values.items()
                if name in wanted
            }
            plain = {name: a for name, a in wanted.items() if name not in unpacked}
            return faces, unpacked | {name: self._container.numbers(a) for name, a in plain.items()}
        values = {name: self._container.numbers(accessor) for name, accessor in wanted.items()}
        count = len(values["POSITION"]) if "POSITION" in values else 0
        if primitive.indices is None:
            order = np.arange(count, dtype=np.uint32)
        else:
            order = np.asarray(self._container.numbers(primitive.indices), np.uint32).ravel()
        return _triangles(order, primitive.mode), values

    def _material(self, primitive: Primitive) -> int | None:
        variants = primitive.extensions.KHR_materials_variants
        if self._variant is not None and variants is not None:
            for mapping in variants.mappings:
                if self._variant in mapping.variants:
                    return mapping.material
        return primitive.material


def _triangles(order: NDArray[np.uint32], mode: int) -> NDArray[np.uint32]:
    """Triangles (T, 3) of a list, a strip or a fan of vertices."""
    if mode == _TRIANGLES:
        return np.ascontiguousarray(order[: len(order) // 3 * 3].reshape(-1, 3))
    count = max(len(order) - 2, 0)
    k = np.arange(count)
    if mode == _FAN:
        return np.stack([np.broadcast_to(order[:1], count), order[k + 1], order[k + 2]], axis=1)
    odd = k % 2
    return np.ascontiguousarray(np.stack([order[k], order[k + 1 + odd], order[k + 2 - odd]], axis=1))


def _normalised(container: Container, accessor: int, values: NDArray[Any]) -> NDArray[Any]:
    """Values out of Draco as the accessor says that they count."""
    said = container.of(container.document.accessors, accessor, "accessor")
    if len(values) != said.count:
        raise SceneError(
            f"accessor {accessor} counts {said.count}, {len(values)} are there.",
            file=container.path, remedy="Export the scene again, or without compression.",
        )  # fmt: skip
    if said.normalized and np.issubdtype(values.dtype, np.integer):
        return np.maximum(values / np.iinfo(values.dtype).max, -1.0)
    return values


def _fitting(values: NDArray[Any] | None, count: int, width: int) -> NDArray[np.float32] | None:
    """Values as single precision, if there is one for each point."""
    if values is None or values.shape != (count, width):
        return None
    return np.ascontiguousarray(values, np.float32)


def _influences(
    values: dict[str, NDArray[Any]], count: int
) -> tuple[NDArray[np.int32] | None, NDArray[np.float32] | None]:
    """The joints of each point and their weights with the sum 1, (V, K) each."""
    joints, weights, number = [], [], 0
    while f"JOINTS_{number}" in values and f"WEIGHTS_{number}" in values:
        joints.append(values[f"JOINTS_{number}"])
        weights.append(values[f"WEIGHTS_{number}"])
        number += 1
    if not joints or any(a.shape != (count, 4) for a in (*joints, *weights)):
        return None, None
    each = np.maximum(np.concatenate(weights, axis=1).astype(np.float32), 0.0)
    total = each.sum(axis=1, keepdims=True)
    weight = np.asarray(each / np.where(total > 0, total, 1.0), np.float32)
    return np.concatenate(joints, axis=1).astype(np.int32), weight


def _joined(parts: list[_Part], materials: Materials) -> MeshOf:
    """The parts of a mesh as one."""
    if len(parts) == 1:
        return _alone(parts[0], materials)
    starts = np.cumsum([0, *(len(part.points) for part in parts)])
    numbers = list(dict.fromkeys(part.material for part in parts))[:_MOST_SLOTS]
    triangles = np.concatenate([p.triangles + np.uint32(s) for p, s in zip(parts, starts, strict=False)])
    slot_of = {number: slot for slot, number in enumerate(numbers)}
    slots = np.concatenate(
        [np.full(len(p.triangles), slot_of.get(p.material, len(numbers) - 1), np.uint8) for p in parts]
    )
    shaded = any(part.normals is not None for part in parts)
    coloured = any(part.colours is not None for part in parts)
    textured = any(part.uv is not None for part in parts)
    mesh = Mesh(
        np.concatenate([part.points for part in parts]),
        triangles,
        np.concatenate([_corner_normals(part) for part in parts]) if shaded else None,
        uv=np.concatenate([_at_corners(p.uv, p, np.float32, 2) for p in parts]) if textured else None,
        slots=slots if len(numbers) > 1 else None,
        colours=np.concatenate([_at_corners(p.colours, p, np.uint8, 3) for p in parts]) if coloured else None,
    )
    return MeshOf(
        mesh,
        tuple(materials.material(n) for n in numbers),
        _joined_targets(parts, starts),
        *_joined_skin(parts),
    )


def _alone(part: _Part, materials: Materials) -> MeshOf:
    """The only part of a mesh; nothing is copied that need not be."""
    corners = part.triangles
    mesh = Mesh(
        part.points,
        corners,
        None if part.normals is None else part.normals[corners],
        uv=None if part.uv is None else part.uv[corners],
        colours=None if part.colours is None else part.colours[corners],
    )
    starts = np.zeros(1, np.int64)
    targets = _joined_targets([part], starts)
    return MeshOf(mesh, (materials.material(part.material),), targets, part.joints, part.weights)


def _at_corners(values: NDArray[Any] | None, part: _Part, kind: type, width: int) -> NDArray[Any]:
    """Values of points at the corners of triangles, (T, 3, n); white or nought where there are none."""
    if values is None:
        return np.full((len(part.triangles), 3, width), 255 if kind is np.uint8 else 0, kind)
    return np.asarray(values[part.triangles], kind)


def _corner_normals(part: _Part) -> NDArray[np.float32]:
    if part.normals is not None:
        return part.normals[part.triangles]
    corners = part.points[part.triangles]
    faces = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.repeat(faces[:, None], 3, axis=1).astype(np.float32)


def _joined_targets(
    parts: list[_Part], starts: NDArray[np.int64]
) -> tuple[tuple[NDArray[np.int64], NDArray[np.float32]], ...]:
    count = max(len(part.targets) for part in parts)
    result = []
    for target in range(count):
        vertices, shifts = [np.zeros(0, np.int64)], [np.zeros((0, 3), np.float32)]
        for part, start in zip(parts, starts, strict=False):
            moved = part.targets[target] if target < len(part.targets) else None
            if moved is not None:
                which = np.flatnonzero(moved.any(axis=1))
                vertices.append(which + start)
                shifts.append(moved[which])
        result.append((np.concatenate(vertices), np.concatenate(shifts)))
    return tuple(result)


def _joined_skin(parts: list[_Part]) -> tuple[NDArray[np.int32] | None, NDArray[np.float32] | None]:
    widths = [part.joints.shape[1] for part in parts if part.joints is not None]
    if not widths:
        return None, None
    shape = max(widths)
    joints, weights = [], []
    for part in parts:
        own_joints, own_weights = (
            np.zeros((len(part.points), shape), np.int32),
            np.zeros((len(part.points), shape)),
        )
        if part.joints is not None and part.weights is not None:
            own_joints[:, : part.joints.shape[1]] = part.joints
            own_weights[:, : part.joints.shape[1]] = part.weights
        joints.append(own_joints)
        weights.append(own_weights.astype(np.float32))
    return np.concatenate(joints), np.concatenate(weights)

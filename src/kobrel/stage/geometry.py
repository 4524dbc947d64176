"""All meshes of a stage as the tables that rays and shading read."""

from collections.abc import Collection
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.engine.meshes import corner_normals
from kobrel.stage.pictures.textures import pack
from kobrel.stage.piece import Piece
from kobrel.stage.scene import Material, Mesh, Texture

ABSENT, LIVE = -1, -2
_NONE = np.zeros(0, np.int64)


class Tables(NamedTuple):
    """Arrays for shading; R rows, M materials.

    `normals` (n, 3, 3), `uv` (n, 3, 2), `slots` (n,) and `colours` (n, 3, 3) hold the corners of
    those meshes that have them, each mesh starting where its rows' `*_start` say, or -1. Where
    `normal_start` is below that, the mesh deforms, and its normals begin at -2 less it among those
    of the snapshot.
    `material_start` is where an instance's materials begin in `slot_materials`.
    `light_ids` says which emitter of the stage each triangle of a row belongs to, or -1, from
    where `light_start` says; a start of -1 means none. `base` and `emission` are (M, 3) linear;
    `gloss` is (M, 2), roughness and metal. `base_texture`, `emission_texture` and `gloss_texture` are (M,)
    numbers into `texture_sizes`, or -1; `textured` (M,) says who has any. An `emission_texture` of -2 or
    less is the plate of number -2 less it among those of the snapshot.
    """

    normal_start: NDArray[np.int64]
    uv_start: NDArray[np.int64]
    slot_start: NDArray[np.int64]
    material_start: NDArray[np.int64]
    normals: NDArray[np.float32]
    uv: NDArray[np.float32]
    slots: NDArray[np.uint8]
    slot_materials: NDArray[np.int64]
    base: NDArray[np.float32]
    emission: NDArray[np.float32]
    base_texture: NDArray[np.int64]
    emission_texture: NDArray[np.int64]
    gloss: NDArray[np.float32]
    gloss_texture: NDArray[np.int64]
    textured: NDArray[np.bool_]
    texture_sizes: NDArray[np.int64]
    texture_pixels: NDArray[np.uint8]
    light_start: NDArray[np.int64]
    light_ids: NDArray[np.int32]
    colour_start: NDArray[np.int64]
    colours: NDArray[np.uint8]


class Corners:
    """What the corners of some meshes' triangles say, end to end.

    `normals` is (n, 3, 3), `uv` (n, 3, 2), `slots` (n,) and `colours` (n, 3, 3); :meth:`starts` tells
    where each mesh begins.
    """

    def __init__(self, meshes: Collection[Mesh]) -> None:
        normals, uvs, slots = _Joined((3, 3), np.float32), _Joined((3, 2), np.float32), _Joined((), np.uint8)
        colours = _Joined((3, 3), np.uint8)
        self._starts = {
            mesh: (
                normals.add(corner_normals(mesh)), uvs.add(mesh.uv), slots.add(mesh.slots),
                colours.add(mesh.colours),
            )
            for mesh in meshes
        }  # fmt: skip
        self.normals, self.uv, self.slots = normals.joined(), uvs.joined(), slots.joined()
        self.colours = colours.joined()

    @property
    def meshes(self) -> Collection[Mesh]:
        """The meshes that it holds."""
        return self._starts.keys()

    def starts(self, meshes: list[Mesh]) -> NDArray[np.int64]:
        """(4, D) where normals, uv, slots and colours of each of some meshes begin, or -1."""
        found = np.asarray([self._starts[mesh] for mesh in meshes], np.int64).reshape(-1, 4)
        return np.ascontiguousarray(found.T)


class _Joined:
    """Arrays of several meshes end to end."""

    def __init__(self, shape: tuple[int, ...], dtype: type) -> None:
        self._empty: NDArray[Any] = np.zeros((0, *shape), dtype)
        self._parts: list[NDArray[Any]] = []
        self._length = 0

    def add(self, array: NDArray[Any] | None) -> int:
        """Where the array begins."""
        if array is None:
            return ABSENT
        self._parts.append(array)
        self._length += len(array)
        return self._length - len(array)

    def joined(self) -> NDArray[Any]:
        return np.concatenate([self._empty, *self._parts])


class Pictures:
    """The textures of some materials, decoded; `warnings` tells which could not be."""

    def __init__(self, textures: Collection[Texture]) -> None:
        self.numbers = {texture: number for number, texture in enumerate(textures)}
        self.block, self.warnings = pack(list(textures))

    def number(self, texture: Texture | None) -> int:
        """A texture's place in the block, or -1 for none."""
        return ABSENT if texture is None else self.numbers[texture]


class Geometry:
    """All that shading reads of some pieces; what did not change is taken from another.

    Stages are exchanged while a stand-in is dragged: corners and textures, which are
    large, are then kept, and only the rows, which are short, are put together anew.
    """

    def __init__(self, pieces: list[Piece], like: "Geometry | None" = None) -> None:
        meshes = dict.fromkeys(mesh for piece in pieces for mesh in piece.meshes)
        same = like is not None and like.corners.meshes == meshes.keys()
        self.corners: Corners = like.corners if like is not None and same else Corners(meshes)
        materials = [material for piece in pieces for material in piece.materials[0]]
        textures = dict.fromkeys(texture for m in materials for texture in _textures(m))
        same = like is not None and like.pictures.numbers.keys() == textures.keys()
        self.pictures: Pictures = like.pictures if like is not None and same else Pictures(textures)
        self.tables = self._tables(pieces, materials)

    def _tables(self, pieces: list[Piece], materials: list[Material]) -> Tables:
        numbers, slots_before, materials_before = [], 0, 0
        starts = []
        for piece in pieces:
            own, slots, start = piece.materials
            numbers.append(slots + materials_before)
            starts.append(start + slots_before)
            slots_before += len(slots)
            materials_before += len(own)
        corners, pictures = self.corners, self.pictures
        of_meshes = corners.starts([m for piece in pieces for m in piece.meshes])
        light_start, light_ids = _light_ids(pieces)
        by_node = np.stack([
            _with_live(of_meshes[0], pieces), *of_meshes[1:], np.concatenate([_NONE, *starts]), light_start
        ])  # fmt: skip
        before = np.cumsum([0, *(len(piece.meshes) for piece in pieces)])
        rows = [piece.numbers + start for piece, start in zip(pieces, before, strict=False)]
        by_row = np.ascontiguousarray(by_node[:, np.concatenate([_NONE, *rows])])
        return Tables(
            normal_start=by_row[0],
            uv_start=by_row[1],
            slot_start=by_row[2],
            material_start=by_row[4],
            normals=corners.normals,
            uv=corners.uv,
            slots=corners.slots,
            slot_materials=np.concatenate([_NONE, *numbers]),
            base=np.asarray([m.base for m in materials], np.float32).reshape(-1, 3),
            emission=np.asarray([m.emission for m in materials], np.float32).reshape(-1, 3),
            base_texture=np.asarray([pictures.number(m.base_texture) for m in materials], np.int64),
            emission_texture=_emission_textures(materials, pictures),
            gloss=np.asarray([(m.rough, m.metal) for m in materials], np.float32).reshape(-1, 2),
            gloss_texture=np.asarray([pictures.number(m.gloss_texture) for m in materials], np.int64),
            textured=np.asarray([bool(_textures(m)) or m.plate is not None for m in materials], np.bool_),
            texture_sizes=pictures.block.sizes,
            texture_pixels=pictures.block.pixels,
            light_start=by_row[5],
            light_ids=light_ids,
            colour_start=by_row[3],
            colours=corners.colours,
        )


def _emission_textures(materials: list[Material], pictures: Pictures) -> NDArray[np.int64]:
    """(M,) numbers of the pictures that materials glow by; of plates see :class:`Tables`."""
    result, plates = [], 0
    for material in materials:
        if material.plate is not None:
            result.append(LIVE - plates)
            plates += 1
        else:
            result.append(pictures.number(material.emission_texture))
    return np.asarray(result, np.int64)


def _textures(material: Material) -> list[Texture]:
    named = (material.base_texture, material.emission_texture, material.gloss_texture)
    return [texture for texture in named if texture is not None]


def _with_live(starts: NDArray[np.int64], pieces: list[Piece]) -> NDArray[np.int64]:
    """Where the normals of each drawn node's mesh begin; of those that deform, in the snapshot's order."""
    result, before = starts.copy(), 0
    for number, mesh in enumerate(mesh for piece in pieces for mesh in piece.meshes):
        if mesh.deformation is not None and mesh.smooth:
            result[number] = LIVE - before
            before += len(mesh.triangles)
    return result


def _light_ids(pieces: list[Piece]) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """Where the emitters' numbers of each drawn node's triangles begin, and these numbers."""
    joined, starts, before = _Joined((), np.int32), [], 0
    for piece in pieces:
        for glow in piece.glows:
            if glow is None:
                starts.append(ABSENT)
                continue
            starts.append(joined.add(np.where(glow.ids >= 0, glow.ids + before, glow.ids).astype(np.int32)))
            before += len(glow.radii)
    return np.asarray(starts, np.int64), joined.joined()

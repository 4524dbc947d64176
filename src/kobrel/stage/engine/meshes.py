"""Meshes made ready for rays and shading, each once."""

import weakref
from collections import OrderedDict
from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.bending import shared_normals
from kobrel.stage.engine.cutouts import CutoutTable, cutouts, plate_row
from kobrel.stage.engine.embree import TriangleScene
from kobrel.stage.motion import Track
from kobrel.stage.plates import PlateFace, PlatePixels
from kobrel.stage.scene import Material, Mesh


def corner_normals(mesh: Mesh) -> NDArray[np.float32] | None:
    """Normals for shading at each corner, (T, 3, 3), not of unit length; None for flat faces and for
    meshes that deform, whose normals are of a frame.
    """
    if mesh.normals is not None or not mesh.smooth or mesh.deformation is not None:
        return mesh.normals
    return normals_of(mesh, mesh.points)


def normals_of(mesh: Mesh, points: NDArray[np.float32]) -> NDArray[np.float32]:
    """Normals for smooth shading at each corner, (T, 3, 3), with the mesh's points at given places."""
    corners = np.empty((len(mesh.triangles), 3, 3), np.float32)
    shared = mesh.triangles if mesh.shared is None else mesh.shared
    count = len(points) if mesh.shared is None else int(shared.max(initial=0)) + 1
    given = (np.require(array, requirements="W") for array in (points, mesh.triangles, shared))
    shared_normals(*given, count, corners)
    return corners


_SCENES: WeakKeyDictionary[Mesh, dict[object, TriangleScene]] = WeakKeyDictionary()


def triangle_scene(mesh: Mesh, materials: tuple[Material, ...] = ()) -> TriangleScene:
    """A mesh in its own space, ready for rays; built once as long as the mesh lives.

    The materials count where they let rays through.
    """
    holes = tuple(material.cutout for material in materials)
    key = holes if any(holes) else None
    kept = _SCENES.setdefault(mesh, {})
    if key not in kept:
        scene = TriangleScene()
        scene.add(mesh.points, mesh.triangles, cutouts(mesh, materials))
        kept[key] = scene.commit()
    return kept[key]


class LiveMesh:
    """A mesh that deforms, ready for rays at several frames at once.

    A tree of boxes that no frame holds any more is fitted to the next frame, so there are no more
    of them than frames that are held.
    """

    def __init__(self, mesh: Mesh, materials: tuple[Material, ...]) -> None:
        assert mesh.deformation is not None
        self.mesh, self._deformation = mesh, mesh.deformation
        self._holes = cutouts(mesh, materials)
        self._free: list[TriangleScene] = []

    def prepare(self) -> None:
        """Build trees for two frames, so that the next frame needs none."""
        self._free += [self._built(self.mesh.points) for _ in range(2 - len(self._free))]

    def at(self, frame: float) -> "Pose":
        """What rays and shading need of it at a frame."""
        points = self._deformation.points(frame)
        scene = self._free.pop() if self._free else None
        if scene is None:
            scene = self._built(points)
        else:
            scene.refit(points)
        normals = normals_of(self.mesh, points) if self.mesh.smooth else None
        pose = Pose(scene, normals)
        weakref.finalize(pose, self._free.append, scene).atexit = False
        return pose

    def _built(self, points: NDArray[np.float32]) -> TriangleScene:
        scene = TriangleScene(deforms=True)
        scene.add(points, self.mesh.triangles, self._holes)
        return scene.commit()


@dataclass(frozen=True, eq=False)
class Pose:
    """A mesh that deforms, at one frame: for rays, and its corners' normals (T, 3, 3)."""

    scene: TriangleScene
    normals: NDArray[np.float32] | None


class FadingMesh:
    """A mesh whose opacity changes, ready for rays at a frame; the last few are kept as long as it lives."""

    def __init__(self, mesh: Mesh, materials: tuple[Material, ...], opacity: Track) -> None:
        self._mesh, self._materials, self._opacity = mesh, materials, opacity

    def at(self, frame: float) -> TriangleScene:
        """What rays need of it at a frame."""
        opacity = float(np.clip(self._opacity.at([frame])[0, 0], 0.0, 1.0))
        if opacity >= 1.0:
            return triangle_scene(self._mesh, self._materials)
        key = opacity, *(material.cutout for material in self._materials)
        kept = _FADED.setdefault(self._mesh, OrderedDict())
        scene = kept.get(key)
        if scene is None:
            scene = TriangleScene()
            holes = CutoutTable(self._mesh, self._materials, opacity=opacity)
            scene.add(self._mesh.points, self._mesh.triangles, holes)
            kept[key] = scene.commit()
            if len(kept) > _MOST_POSES:
                kept.popitem(last=False)
        return scene


_FADED: WeakKeyDictionary[Mesh, OrderedDict[tuple[object, ...], TriangleScene]] = WeakKeyDictionary()


class PlateMesh:
    """A plate, ready for rays with the picture and the opacity that it has at a frame; the last few are kept
    as long as the mesh lives.
    """

    def __init__(self, mesh: Mesh, materials: tuple[Material, ...], face: PlateFace) -> None:
        self._mesh, self._materials, self.face = mesh, materials, face

    def at(self, frame: float, opacity: float) -> "PlatePose":
        """What rays and shading need of it at a frame."""
        face = self.face
        deformation = self._mesh.deformation
        key = face.source.at(frame), opacity, face.beyond, 0.0 if deformation is None else frame
        kept = _POSES.setdefault(self._mesh, OrderedDict())
        pose = kept.get(key)
        if pose is None:
            scene = TriangleScene()
            holes = CutoutTable(self._mesh, self._materials, key[:2])
            points = self._mesh.points if deformation is None else deformation.points(frame)
            scene.add(points, self._mesh.triangles, holes)
            pose = kept[key] = PlatePose(scene.commit(), key[0], plate_row(key[0], face.beyond))
            if len(kept) > _MOST_POSES:
                kept.popitem(last=False)
        return pose


_MOST_POSES = 3
_POSES: WeakKeyDictionary[Mesh, OrderedDict[tuple[PlatePixels, float, int, float], "PlatePose"]] = (
    WeakKeyDictionary()
)


Accelerator = TriangleScene | LiveMesh | PlateMesh | FadingMesh
"""What rays hit of a node."""


@dataclass(frozen=True, eq=False)
class PlatePose:
    """A plate at one frame: for rays, and where its pixels lie, see
    :func:`kobrel.stage.engine.cutouts.plate_row`.
    """

    scene: TriangleScene
    pixels: PlatePixels
    row: list[int]

"""A loaded scene file: nodes, meshes, materials and cameras as plain arrays."""

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.errors import KobrelError
from kobrel.optics.iris import Iris
from kobrel.optics.lens import FocusSurface, LensModel
from kobrel.optics.projection import Projection
from kobrel.stage.motion import Array, Motion, Track

USD_SUFFIXES = (".usd", ".usda", ".usdc", ".usdz")
MESH_SUFFIXES = (".gltf", ".glb", ".obj", ".ply", ".stl")
SCENE_SUFFIXES = USD_SUFFIXES + MESH_SUFFIXES

Progress = Callable[[str, float], None]
"""Called with what is being done and the part done, 0 to 1; may raise :class:`Cancelled`."""


class Cancelled(KobrelError):
    """The person asked for long work to stop."""


def no_progress(_what: str, _part: float) -> None:
    """Ignore progress."""


@dataclass(frozen=True, eq=False)
class Texture:
    """A picture on a surface; decoded when the stage is first drawn.

    The picture is a file, the bytes of one that lives inside another file, or (H, W, 3)
    pixels of 8 bits in sRGB.
    """

    name: str
    path: Path | None = None
    content: bytes | None = None
    pixels: NDArray[np.uint8] | None = None


@dataclass(frozen=True)
class Material:
    """Base colour and emission, linear RGB, each with an optional texture that replaces it."""

    name: str = "default"
    base: tuple[float, float, float] = (0.5, 0.5, 0.5)
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)
    base_texture: Texture | None = None
    emission_texture: Texture | None = None


@dataclass(frozen=True, eq=False)
class Mesh:
    """Triangles in their node's own space.

    Parameters
    ----------
    points : (V, 3) float32
    triangles : (T, 3) uint32, counter-clockwise seen from outside
    normals : (T, 3, 3) float32 at each corner, or None for flat faces
    smooth : compute normals from the points when none are given
    uv : (T, 3, 2) float32, v upward, or None
    slots : (T,) uint8 index into the node's materials, or None for the first
    """

    points: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    normals: NDArray[np.float32] | None = None
    smooth: bool = False
    uv: NDArray[np.float32] | None = None
    slots: NDArray[np.uint8] | None = None

    def bounds(self) -> tuple[Array, Array]:
        """Lowest and highest corner of the points, in the node's space: (3,) each."""
        if not len(self.points):
            return np.zeros(3), np.zeros(3)
        return self.points.min(axis=0).astype(float), self.points.max(axis=0).astype(float)


@dataclass(frozen=True)
class Node:
    """A named place in the scene, with at most one mesh.

    `parent` is the index of an earlier node, or -1. `materials` are the scene's
    materials for the mesh's slots.
    """

    path: str
    parent: int = -1
    motion: Motion = Motion()
    resets: bool = False
    mesh: Mesh | None = None
    materials: tuple[Material, ...] = (Material(),)

    @property
    def name(self) -> str:
        """Last part of the path."""
        return self.path.rstrip("/").rsplit("/", 1)[-1] or self.path


@dataclass(frozen=True)
class CameraSource:
    """A camera of the file. Lengths: lens and sensor mm, distances m; times are frames.

    A track is None where the file says nothing.
    """

    path: str
    node: int
    focal_mm: Track
    width_mm: Track
    height_mm: Track
    f_number: Track | None = None
    focus_m: Track | None = None
    near_clip_m: float = 0.0
    squeeze: float = 1.0
    model: LensModel = "render"
    surface: FocusSurface = "plane"
    projection: Projection = "perspective"
    field_m: float = 4.0
    cone_deg: float = 1.0
    iris: Iris = Iris()


@dataclass(frozen=True, eq=False)
class Scene:
    """One scene file.

    Parameters
    ----------
    path : the file
    root : (4, 4) from the file's axes and unit to metres with Y up
    unit_m : metres in one unit of the file
    up : the file's up axis, "Y" or "Z"
    fps, first_frame, last_frame : the file's own rate and range, where it has one
    warnings : what was skipped or assumed, for a person
    """

    path: Path
    nodes: tuple[Node, ...]
    cameras: tuple[CameraSource, ...] = ()
    root: Array = field(default_factory=lambda: np.eye(4))
    unit_m: float = 1.0
    up: str = "Y"
    fps: float = 24.0
    first_frame: int | None = None
    last_frame: int | None = None
    warnings: tuple[str, ...] = ()

    def world(self, node: int, frames: ArrayLike) -> Array:
        """Transforms of a node to metres, Y up: (F, 4, 4), or (1, 4, 4) where nothing moves."""
        result = np.eye(4)[None]
        while node >= 0:
            here = self.nodes[node]
            result = here.motion.matrices(frames) @ result
            node = -1 if here.resets else here.parent
        return self.root @ result

    def moves(self, node: int) -> bool:
        """Whether a node's place changes over time."""
        while node >= 0:
            here = self.nodes[node]
            if here.motion.moves:
                return True
            node = -1 if here.resets else here.parent
        return False

    def find(self, path: str) -> int:
        """Index of a node by its path, or -1."""
        return self._index.get(path, -1)

    @cached_property
    def _index(self) -> dict[str, int]:
        return {node.path: index for index, node in enumerate(self.nodes)}

    def camera(self, path: str) -> CameraSource | None:
        """A camera by its path."""
        return next((camera for camera in self.cameras if camera.path == path), None)

    @property
    def triangle_count(self) -> int:
        """Triangles in all nodes."""
        return sum(len(node.mesh.triangles) for node in self.nodes if node.mesh is not None)

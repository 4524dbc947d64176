"""A loaded scene file: nodes, meshes, materials and cameras as plain arrays."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.errors import KobrelError
from kobrel.optics.iris import Iris
from kobrel.optics.lens import FocusSurface, LensModel
from kobrel.optics.projection import Projection
from kobrel.stage.copies import Copies, copy_of_path
from kobrel.stage.deform import Deformation
from kobrel.stage.motion import Array, Motion, Track
from kobrel.stage.plates import PlateFace

USD_SUFFIXES = (".usd", ".usda", ".usdc", ".usdz")
GLTF_SUFFIXES = (".gltf", ".glb")
ALEMBIC_SUFFIX = ".abc"
OWN_SQUEEZE = "kobrel:squeeze"
"""Property of cameras for the squeeze, in formats that know none or whose readers pass over it."""
MESH_SUFFIXES = (".obj", ".ply", ".stl")
SCENE_SUFFIXES = USD_SUFFIXES + GLTF_SUFFIXES + (ALEMBIC_SUFFIX,) + MESH_SUFFIXES

UpAxis = Literal["Y", "Z"]
Choices = tuple[tuple[str, str], ...]
"""For the keys of some of a file's choices, the option that is wanted."""
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


Channel = Literal["red", "alpha"]


@dataclass(frozen=True)
class Cutout:
    """How far a surface can be seen through.

    Parameters
    ----------
    opacity : of all of it, 0 to 1; times the texture where there is one
    channel : of the texture, that holds the opacity
    cutoff : opacity below which nothing is there, above which everything is; 0 lets that part of the
        rays through
    """

    opacity: float = 1.0
    texture: Texture | None = None
    channel: Channel = "alpha"
    cutoff: float = 0.0


@dataclass(frozen=True)
class Material:
    """Base colour and emission, linear RGB, each times its texture where it has one.

    `rough` and `metal` are 0 to 1, times green and blue of `gloss_texture` where there is one. A `plate`
    glows by its own picture, times the emission.
    """

    name: str = "default"
    base: tuple[float, float, float] = (0.5, 0.5, 0.5)
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)
    base_texture: Texture | None = None
    emission_texture: Texture | None = None
    rough: float = 0.7
    metal: float = 0.0
    gloss_texture: Texture | None = None
    cutout: Cutout | None = None
    plate: PlateFace | None = None


@dataclass(frozen=True, eq=False)
class Mesh:
    """Triangles in their node's own space.

    Parameters
    ----------
    points : (V, 3) float32; where it deforms, those at some frame
    triangles : (T, 3) uint32, counter-clockwise seen from outside
    normals : (T, 3, 3) float32 at each corner, or None for flat faces
    smooth : compute normals from the points when none are given
    uv : (T, 3, 2) float32, v upward, or None
    slots : (T,) uint8 index into the node's materials, or None for the first
    colours : (T, 3, 3) uint8 sRGB at each corner, times the material's base, or None
    deformation : where its points are at each frame, or None where they never change
    shared : (T, 3) uint32 numbers of the corners' normals, equal where smooth faces meet, for a mesh
        that deforms; None is one for each point
    rides : whether places on it are kept by its triangles, though it does not deform: its points may be
        read otherwise, as those of a rendered image are
    """

    points: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    normals: NDArray[np.float32] | None = None
    smooth: bool = False
    uv: NDArray[np.float32] | None = None
    slots: NDArray[np.uint8] | None = None
    colours: NDArray[np.uint8] | None = None
    deformation: Deformation | None = None
    shared: NDArray[np.uint32] | None = None
    rides: bool = False

    def bounds(self, frame: float = 0.0) -> tuple[Array, Array]:
        """Lowest and highest corner of the points at a frame, in the node's space: (3,) each."""
        points = self.points if self.deformation is None else self.deformation.points(frame)
        if not len(points):
            return np.zeros(3), np.zeros(3)
        return points.min(axis=0).astype(float), points.max(axis=0).astype(float)


@dataclass(frozen=True)
class Node:
    """A named place in the scene, with at most one mesh.

    `parent` is the index of an earlier node, or -1. `materials` are the scene's
    materials for the mesh's slots. `shown` is above 0 while the node and all below it are seen.
    `copies` are placed between the parent and the node's own motion. `opacity`, 0 to 1, fades its own mesh.
    """

    path: str
    parent: int = -1
    motion: Motion = Motion()
    resets: bool = False
    mesh: Mesh | None = None
    materials: tuple[Material, ...] = (Material(),)
    shown: Track | None = None
    copies: Copies | None = None
    opacity: Track | None = None

    @property
    def name(self) -> str:
        """Last part of the path."""
        return self.path.rstrip("/").rsplit("/", 1)[-1] or self.path


@dataclass(frozen=True)
class CameraSource:
    """A camera of the file. Lengths: lens and sensor mm, distances m; times are frames.

    A track is None where the file says nothing. `shift_mm` is how far the picture's middle lies to
    the right of and above the lens's axis, on the sensor.
    """

    path: str
    node: int
    focal_mm: Track
    width_mm: Track
    height_mm: Track
    f_number: Track | None = None
    focus_m: Track | None = None
    near_clip_m: float = 0.0
    far_clip_m: float = math.inf
    squeeze: float = 1.0
    model: LensModel = "render"
    surface: FocusSurface = "plane"
    projection: Projection = "perspective"
    field_m: float = 4.0
    cone_deg: float = 1.0
    iris: Iris = Iris()
    shift_mm: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class FileLight:
    """What the file lights its scene with: one far lamp, and what is all about.

    Parameters
    ----------
    toward : (3,) from the scene to the far lamp, in the file's axes; None without one
    colour : (3,) linear: what a white surface that faces the lamp reflects, as radiance
    about : (3,) linear radiance of an even sky, or what the picture is multiplied by
    picture : equirectangular, or None
    turn_deg : of the picture, counter-clockwise from above
    """

    toward: tuple[float, float, float] | None = None
    colour: tuple[float, float, float] = (0.0, 0.0, 0.0)
    about: tuple[float, float, float] = (0.0, 0.0, 0.0)
    picture: Path | None = None
    turn_deg: float = 0.0


@dataclass(frozen=True)
class Choice:
    """A part of a file that comes in several versions, and which one was read."""

    key: str
    label: str
    options: tuple[str, ...]
    chosen: str


_UNITS = (("one metre", 1.0), ("one centimetre", 0.01), ("one millimetre", 0.001))
_Z_TO_Y = np.array([[1, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1]], dtype=float)


def root_matrix(unit_m: float, up: UpAxis) -> Array:
    """(4, 4) from a file's axes and unit to metres with Y up."""
    return np.asarray((_Z_TO_Y if up == "Z" else np.eye(4)) @ np.diag([unit_m] * 3 + [1.0]))


@dataclass(frozen=True, eq=False)
class Scene:
    """One scene file.

    Parameters
    ----------
    path : the file
    unit_m, up : metres in one unit, and the up axis, as it was read
    fps, first_frame, last_frame : the file's own rate and range, where it has one
    warnings : what was skipped or assumed, for a person
    light : what the file lights it with, where it does
    choices : what else could have been read
    cameras_in : the cameras, and what was assumed of them, for metres in one unit
    says_unit, says_up, says_rate : whether the file itself tells its unit, up axis and frame rate
    """

    path: Path
    nodes: tuple[Node, ...]
    cameras: tuple[CameraSource, ...] = ()
    unit_m: float = 1.0
    up: UpAxis = "Y"
    fps: float = 24.0
    first_frame: int | None = None
    last_frame: int | None = None
    warnings: tuple[str, ...] = ()
    light: FileLight | None = None
    choices: tuple[Choice, ...] = ()
    cameras_in: Callable[[float], tuple[tuple[CameraSource, ...], list[str]]] | None = None
    says_unit: bool = True
    says_up: bool = True
    says_rate: bool = True

    @property
    def assumed(self) -> list[str]:
        """What the file does not say, and what is taken instead, for a person."""
        name = self.path.name
        unit = next((text for text, metres in _UNITS if metres == self.unit_m), f"{self.unit_m:g} m")
        told = [] if self.says_unit else [f"{name} does not say its unit; one unit is taken as {unit}."]
        if not self.says_rate and self.moving:
            told.append(f"{name} counts in seconds; {self.fps:g} fps are assumed.")
        return told

    @cached_property
    def root(self) -> Array:
        """(4, 4) from the file's axes and unit to metres with Y up."""
        return root_matrix(self.unit_m, self.up)

    def read_as(self, unit_m: float, up: UpAxis) -> "Scene":
        """The same file in another unit or with another axis up; meshes are shared."""
        if (unit_m, up) == (self.unit_m, self.up):
            return self
        cameras = self.cameras
        if self.cameras_in is not None and unit_m != self.unit_m:
            cameras = self.cameras_in(unit_m)[0]
        return replace(self, unit_m=unit_m, up=up, cameras=cameras)

    def world(self, node: int, frames: ArrayLike, copy: int | None = None) -> Array:
        """Transforms of a node to metres, Y up: (F, 4, 4), or (1, 4, 4) where nothing moves."""
        result = np.eye(4)[None]
        while node >= 0:
            here = self.nodes[node]
            result = here.motion.matrices(frames) @ result
            if here.copies is not None and copy is not None:
                result = here.copies.one(copy, frames) @ result
            node = -1 if here.resets else here.parent
        return self.root @ result

    def moves(self, node: int) -> bool:
        """Whether a node's place changes over time."""
        while node >= 0:
            here = self.nodes[node]
            if here.motion.moves or (here.copies is not None and here.copies.moves):
                return True
            node = -1 if here.resets else here.parent
        return False

    @cached_property
    def moving(self) -> bool:
        """Whether anything of it changes over time."""
        return any(
            node.motion.moves
            or any(track is not None and track.moves for track in (node.shown, node.opacity))
            or (node.copies is not None and (node.copies.moves or node.copies.flickers))
            or (node.mesh is not None and node.mesh.deformation is not None)
            or any(material.plate is not None and material.plate.changes for material in node.materials)
            for node in self.nodes
        )

    def shown(self, node: int) -> list[Track]:
        """What tells when a node is seen: it is while all of these are above 0."""
        tracks = []
        while node >= 0:
            track = self.nodes[node].shown
            if track is not None:
                tracks.append(track)
            node = self.nodes[node].parent
        return tracks

    def find(self, path: str) -> int:
        """Index of a node by its path, or that of one of its copies; or -1."""
        found = self._index.get(path, -1)
        return self._index.get(copy_of_path(path)[0], -1) if found < 0 else found

    @cached_property
    def _index(self) -> dict[str, int]:
        return {node.path: index for index, node in enumerate(self.nodes)}

    def camera(self, path: str) -> CameraSource | None:
        """A camera by its path."""
        return next((camera for camera in self.cameras if camera.path == path), None)

    @property
    def triangle_count(self) -> int:
        """Triangles in all nodes."""
        return sum(
            len(node.mesh.triangles) * (node.copies.count if node.copies else 1)
            for node in self.nodes
            if node.mesh is not None
        )

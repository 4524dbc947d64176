"""The one way in for glTF: its nodes become Kobrel's."""

from collections import Counter
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.optics.iris import Iris
from kobrel.optics.lens import closest_focus_m, image_distance_mm
from kobrel.stage import shapes
from kobrel.stage.copies import Copies
from kobrel.stage.deform import Blend, Deformation, Skin, Still
from kobrel.stage.joints import Joints
from kobrel.stage.motion import Array, Motion, Track
from kobrel.stage.read.gltf.container import Container
from kobrel.stage.read.gltf.document import CameraPart, Instancing, NodePart, OwnClock, OwnLens, own
from kobrel.stage.read.gltf.materials import Materials
from kobrel.stage.read.gltf.meshes import Meshes, MeshOf
from kobrel.stage.read.gltf.motion import Animations
from kobrel.stage.read.normals import shared_corners
from kobrel.stage.scene import (
    CameraSource,
    Choice,
    Choices,
    FileLight,
    Material,
    Mesh,
    Node,
    Progress,
    Scene,
)

_SCENE, _ANIMATION, _VARIANT = "scene", "animation", "material variant"
_READ = {
    "EXT_meshopt_compression", "KHR_meshopt_compression", "KHR_draco_mesh_compression",
    "KHR_mesh_quantization", "KHR_lights_punctual", "EXT_mesh_gpu_instancing", "KHR_node_visibility",
    "KHR_materials_variants", "KHR_texture_transform", "KHR_materials_unlit",
    "KHR_materials_emissive_strength", "KHR_materials_transmission", "KHR_materials_pbrSpecularGlossiness",
    "EXT_texture_webp", "EXT_texture_avif",
}  # fmt: skip
# What these add to a surface is not drawn; where things are is not touched by them.
_PLAIN = (
    "KHR_materials_", "KHR_texture_basisu", "KHR_xmp", "EXT_lights_image_based", "KHR_animation_pointer",
    "ADOBE_", "AGI_", "EXT_materials_", "MSFT_", "NV_", "KHR_audio", "OMI_", "FB_", "VRM", "VRMC_",
)  # fmt: skip
_COPY_PARTS = {"TRANSLATION": 3, "ROTATION": 4, "SCALE": 3}
_BULB_M = 0.01
_NEVER = Track.constant([0.0])
_FLAT = 1e-12
_SAME_VIEW = 1e-4


def load_gltf(path: Path, progress: Progress, choices: Choices = ()) -> Scene:
    """Read a glTF scene, in metres with Y up.

    Parameters
    ----------
    path : the file
    progress : told how far it is; may raise to cancel
    choices : "scene", "animation" and "material variant" by name

    Raises
    ------
    SceneError
        It is not glTF 2.0, damaged, or requires what is not known.
    """
    progress(f"Opening {path.name}", 0.0)
    container = Container(path)
    unknown = [
        name
        for name in container.document.extensionsRequired
        if name not in _READ and not name.startswith(_PLAIN)
    ]
    if unknown:
        raise SceneError(
            f"it requires {', '.join(sorted(unknown))}, which is not read.",
            file=path, remedy="Export the scene without it.",
        )  # fmt: skip
    return _Reader(container, dict(choices)).read(progress)


@dataclass(frozen=True)
class _Placed:
    """A node of the file in Kobrel's tree: its number there, its path, and where its mesh goes."""

    node: int
    path: str


class _Reader:
    def __init__(self, container: Container, wanted: dict[str, str]) -> None:
        self._container, self._document = container, container.document
        self.warnings: list[str] = []
        self._nodes: list[Node] = []
        self._placed: dict[int, _Placed] = {}
        self._lights: list[tuple[str, int, Array]] = []
        self._choices: list[Choice] = []
        self._scene = self._chosen(_SCENE, "Scene", [s.name for s in self._document.scenes], wanted)
        animations = self._document.animations
        clash = Counter(
            target for a in animations for target in {(c.target.node, c.target.path) for c in a.channels}
        )
        meet = any(count > 1 for count in clash.values())
        names = [a.name for a in animations] if meet else []
        chosen = self._chosen(_ANIMATION, "Animation", names, wanted)
        self._animations = Animations(container, chosen, self.warnings)
        variants = self._document.extensions.KHR_materials_variants.variants
        names = ["as it is", *(v.name for v in variants)] if variants else []
        variant = self._chosen(_VARIANT, "Materials", names, wanted)
        self._meshes = Meshes(
            container, Materials(container, self.warnings), self.warnings, variant - 1 if variant else None
        )

    def _chosen(self, key: str, label: str, names: list[str], wanted: dict[str, str]) -> int | None:
        """Which of several parts is wanted; None where there is no choice."""
        if len(names) < 2:
            return None
        options = _told_apart([name or f"{key} {number}" for number, name in enumerate(names)])
        first = self._document.scene or 0 if key == _SCENE else 0
        number = options.index(wanted[key]) if wanted.get(key) in options else min(first, len(options) - 1)
        self._choices.append(Choice(key, label, tuple(options), options[number]))
        return number

    def read(self, progress: Progress) -> Scene:
        self._lay_out()
        self._joints, self._joint_of = self._skeleton()
        order = list(self._placed.items())
        for count, (index, placed) in enumerate(order):
            if count % 16 == 0:
                progress(f"Reading {self._container.path.name}", count / len(order))
            self._dress(index, placed)
        cameras = [
            camera
            for index, placed in order
            if (camera := self._camera(self._document.nodes[index], placed)) is not None
        ]
        plain = sorted({n for n in self._document.extensionsUsed if n not in _READ})
        if plain:
            self.warnings.append(f"Left out of its surfaces and lights: {', '.join(plain)}.")
        ends = self._animations.ends
        return Scene(
            self._container.path,
            tuple(self._nodes),
            tuple(cameras),
            fps=self._animations.clock.fps,
            first_frame=ends[0] if ends else None,
            last_frame=ends[1] if ends else None,
            warnings=tuple(dict.fromkeys(self.warnings + self._container.beside.warnings)),
            light=self._light(),
            says_rate=own(OwnClock, self._document.asset.extras) is not None,
            choices=tuple(self._choices),
            cameras_in=lambda unit_m: (tuple(_scaled(camera, unit_m) for camera in cameras), []),
        )

    # The tree

    def _lay_out(self) -> None:
        """Nodes with their paths, those above before those below; parts in a circle are left out."""
        scenes, parts = self._document.scenes, self._document.nodes
        if scenes:
            number = self._scene if self._scene is not None else self._document.scene or 0
            roots = list(self._container.of(scenes, number, "scene").nodes)
        else:
            below = {child for part in parts for child in part.children}
            roots = [index for index in range(len(parts)) if index not in below]
        waiting = [(index, -1, path) for index, path in self._named(roots, "")][::-1]
        while waiting:
            index, parent, path = waiting.pop()
            if index in self._placed:
                self.warnings.append(f"{path}: skipped, it stands in the scene twice.")
                continue
            part = parts[index]
            self._placed[index] = _Placed(len(self._nodes), path)
            shown = _NEVER if _is_hidden(part) else None
            motion = self._animations.motion(index, part)
            self._nodes.append(Node(path, parent, motion, shown=shown))
            here = len(self._nodes) - 1
            waiting += [(child, here, name) for child, name in self._named(list(part.children), path)][::-1]

    def _named(self, indices: list[int], above: str) -> list[tuple[int, str]]:
        """Paths of the nodes below another: by name, and by position where names are missing or double."""
        parts = [self._container.of(self._document.nodes, index, "node") for index in indices]
        names = [part.name.replace("/", "_").strip() or f"#{n}" for n, part in enumerate(parts, start=1)]
        return [(i, f"{above}/{name}") for i, name in zip(indices, _told_apart(names), strict=True)]

    def _skeleton(self) -> tuple[Joints, dict[int, int]]:
        """The joints of all skins with those above them, and the joint of each such node."""
        wanted = [self._placed[j].node for s in self._document.skins for j in s.joints if j in self._placed]
        needed: set[int] = set()
        for node in wanted:
            at = node
            while at >= 0 and at not in needed:
                needed.add(at)
                at = self._nodes[at].parent
        number = {node: k for k, node in enumerate(sorted(needed))}
        parents = tuple(number.get(self._nodes[node].parent, -1) for node in number)
        return Joints(parents, tuple(self._nodes[node].motion for node in number)), number

    # What stands there

    def _dress(self, index: int, placed: _Placed) -> None:
        """Give a node its mesh, copies and light; what has a transform of its own goes below it."""
        part = self._document.nodes[index]
        light = part.extensions.KHR_lights_punctual
        if light is not None:
            self._add_light(light.light, placed)
        if part.mesh is None or _is_never(self._nodes, placed.node):
            return
        found = self._meshes.read(part.mesh)
        if found is None:
            return
        mesh, skinned = self._posed(index, part, found, placed.path)
        instancing = part.extensions.EXT_mesh_gpu_instancing
        copies = None if instancing is None else self._copies(instancing, placed.path)
        node = self._nodes[placed.node]
        dressed = replace(node, mesh=mesh, materials=found.materials)
        if copies is not None:
            own = Node(f"{placed.path}/copies", placed.node, mesh=mesh, materials=found.materials)
            self._nodes.append(replace(own, copies=copies))
        elif not skinned:
            self._nodes[placed.node] = dressed
        elif part.children:  # a skin stands where its joints are, what lies below where its node is
            bent = replace(dressed, path=f"{placed.path}/skin", parent=placed.node)
            self._nodes.append(replace(bent, motion=Motion(), resets=True))
        else:
            self._nodes[placed.node] = replace(dressed, motion=Motion(), resets=True)

    def _posed(self, index: int, part: NodePart, found: MeshOf, path: str) -> tuple[Mesh, bool]:
        """A mesh with its morph targets and skin, and whether it has the latter."""
        blend = self._blend(index, part, found)
        skin = self._skin(part, found, path) if part.skin is not None else None
        if blend is None and skin is None:
            return found.mesh, False
        mesh = found.mesh
        if mesh.normals is not None:
            mesh = replace(mesh, normals=None, smooth=True, shared=shared_corners(mesh))
        return replace(mesh, deformation=Deformation(Still(mesh.points), blend, skin)), skin is not None

    def _blend(self, index: int, part: NodePart, found: MeshOf) -> Blend | None:
        if not found.targets or part.mesh is None:
            return None
        rest = part.weights or self._document.meshes[part.mesh].weights
        track = self._animations.weights(index, rest, len(found.targets))
        return None if track is None else Blend.of(found.targets, track.at)

    def _skin(self, part: NodePart, found: MeshOf, path: str) -> Skin | None:
        assert part.skin is not None
        source = self._container.of(self._document.skins, part.skin, "skin")
        joints = [self._joint_of[self._placed[j].node] for j in source.joints if j in self._placed]
        if found.joints is None or found.weights is None or len(joints) != len(source.joints):
            self.warnings.append(f"{path}: its skin has no joints in the scene; it is drawn stiff.")
            return None
        if int(found.joints.max(initial=0)) >= len(joints):
            self.warnings.append(f"{path}: its skin names joint {int(found.joints.max())} of {len(joints)}.")
            return None
        bound = np.tile(np.eye(4), (len(joints), 1, 1))
        if source.inverseBindMatrices is not None:
            given = np.asarray(self._container.numbers(source.inverseBindMatrices), float)
            if given.shape[0] >= len(joints) and given.size == 16 * len(given):
                bound = np.swapaxes(given[: len(joints)].reshape(-1, 4, 4), 1, 2)
        return Skin(found.joints, found.weights, self._joints, np.asarray(joints, np.int64), bound)

    def _copies(self, instancing: Instancing, path: str) -> Copies | None:
        """The places of a mesh's copies (EXT_mesh_gpu_instancing)."""
        values = {
            name: np.asarray(self._container.numbers(accessor), float)
            for name, accessor in instancing.attributes.items()
            if name in _COPY_PARTS
        }
        counts = {len(v) for v in values.values()}
        if len(counts) != 1 or any(v.shape[1:] != (_COPY_PARTS[name],) for name, v in values.items()):
            self.warnings.append(f"{path}: its copies are skipped, their numbers do not fit each other.")
            return None
        count = counts.pop()

        def track(values: NDArray[Any] | None) -> Track | None:
            return None if values is None else Track.constant(values)

        turns = values.get("ROTATION")
        return Copies(
            Track.constant(values.get("TRANSLATION", np.zeros((count, 3)))),
            None if turns is None else track(turns[:, [3, 0, 1, 2]]),
            track(values.get("SCALE")),
        )

    # Lights and cameras

    def _add_light(self, number: int, placed: _Placed) -> None:
        lights = self._document.extensions.KHR_lights_punctual.lights
        if number >= len(lights):
            self.warnings.append(f"{placed.path}: its light is not in the file.")
            return
        light = lights[number]
        colour = np.asarray(light.color) * light.intensity
        if light.type == "directional":
            self._lights.append((placed.path, placed.node, colour / np.pi))
            return
        if light.type == "spot":
            self.warnings.append(f"{placed.path}: a spot light, drawn as a bulb that shines all round.")
        red, green, blue = (float(part) for part in colour / (np.pi * _BULB_M**2))
        glow = Material(placed.path, base=(0.0, 0.0, 0.0), emission=(red, green, blue))
        bulb = Node(f"{placed.path}/light", placed.node, mesh=shapes.sphere(_BULB_M), materials=(glow,))
        self._nodes.append(bulb)

    def _light(self) -> FileLight | None:
        """The brightest far lamp of the file."""
        if not self._lights:
            return None
        self._lights.sort(key=lambda light: -float(light[2].sum()))
        for path, _, _ in self._lights[1:]:
            self.warnings.append(f"{path}: skipped, only the brightest distant light becomes the key light.")
        _, node, colour = self._lights[0]
        world = Scene(self._container.path, tuple(self._nodes)).world(node, [0.0])[0]
        back = world[:3, 2] / max(float(np.linalg.norm(world[:3, 2])), _FLAT)
        return FileLight(_tuple(back), _tuple(colour))

    def _camera(self, part: NodePart, placed: _Placed) -> CameraSource | None:
        """A node's camera, on a 36 mm wide sensor that gives its angles of view."""
        if part.camera is None:
            return None
        camera = self._container.of(self._document.cameras, part.camera, "camera")
        lens = own(OwnLens, camera.extras)
        if lens is not None and (found := self._own_camera(camera, lens, placed)) is not None:
            return found
        if camera.perspective is not None:
            view = camera.perspective
            aspect, half = view.aspectRatio or 16 / 9, min(view.yfov / 2, 1.55)
            focal = 18.0 / (aspect * np.tan(half))
            return CameraSource(
                placed.path, placed.node, Track.constant([focal]), Track.constant([36.0]),
                Track.constant([36.0 / aspect]), near_clip_m=max(view.znear, 0.0),
            )  # fmt: skip
        flat = camera.orthographic
        if flat is None or flat.xmag == 0 or flat.ymag == 0:
            self.warnings.append(f"{placed.path}: its camera has no angle of view; it is skipped.")
            return None
        aspect = abs(flat.xmag / flat.ymag)
        return CameraSource(
            placed.path, placed.node, Track.constant([50.0]), Track.constant([36.0]),
            Track.constant([36.0 / aspect]), near_clip_m=max(flat.znear, 0.0), projection="orthographic",
            field_m=2 * abs(flat.xmag),
        )  # fmt: skip

    def _own_camera(self, camera: CameraPart, lens: OwnLens, placed: _Placed) -> CameraSource | None:
        """A camera with the lens that Kobrel wrote; None where its angle of view was changed since."""
        flat, view = camera.orthographic, camera.perspective

        def track(values: tuple[float, ...]) -> Track:
            return Track(
                self._animations.clock.first + np.arange(len(values), dtype=float), np.array(values)[:, None]
            )

        focal, focus = track(lens.focalMm), track(lens.focusM)
        if view is not None:
            first = float(focal.values[0, 0])
            closest = float(closest_focus_m(first, lens.lensModel))
            image = image_distance_mm(first, max(float(focus.values[0, 0]), closest), lens.lensModel)
            wanted = lens.sensorHeightMm / 2 / float(image)
            if abs(float(np.tan(min(view.yfov, 3.1) / 2)) / wanted - 1) > _SAME_VIEW:
                self.warnings.append(
                    f"{placed.path}: its angle of view was changed since Kobrel wrote it; the angle counts, "
                    "the lens beside it is passed over."
                )
                return None
        elif flat is None:
            return None
        near = view.znear if view is not None else flat.znear if flat is not None else 0.0
        return CameraSource(
            placed.path, placed.node, focal, Track.constant([lens.sensorWidthMm]),
            Track.constant([lens.sensorHeightMm]), track(lens.fNumber), focus, near_clip_m=max(near, 0.0),
            squeeze=lens.squeeze, model=lens.lensModel, surface=lens.focusSurface,
            projection="perspective" if flat is None else "orthographic",
            field_m=4.0 if flat is None else 2 * abs(flat.xmag), cone_deg=lens.coneDeg,
            iris=Iris(lens.irisBlades, lens.irisRoundness, lens.irisRotationDeg), shift_mm=lens.shiftMm,
        )  # fmt: skip


def _told_apart(names: list[str]) -> list[str]:
    """The names, with a number behind those that are there more than once."""
    counts, met, result = Counter(names), Counter[str](), []
    for name in names:
        met[name] += 1
        result.append(f"{name}#{met[name]}" if counts[name] > 1 else name)
    return result


def _is_hidden(part: NodePart) -> bool:
    return not part.extensions.KHR_node_visibility.visible


def _is_never(nodes: list[Node], index: int) -> bool:
    while index >= 0:
        if nodes[index].shown is _NEVER:
            return True
        index = nodes[index].parent
    return False


def _scaled(camera: CameraSource, unit_m: float) -> CameraSource:
    """A camera with the metres of one unit; angles and sensor stay."""
    return replace(camera, near_clip_m=camera.near_clip_m * unit_m, field_m=camera.field_m * unit_m)


def _tuple(values: Array) -> tuple[float, float, float]:
    x, y, z = (float(part) for part in values)
    return x, y, z

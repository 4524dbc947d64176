"""The one way in for USD: prims become nodes, one after the other."""

from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom, UsdLux, UsdUtils

from kobrel.errors import KobrelError, SceneError
from kobrel.stage import shapes
from kobrel.stage.motion import Track
from kobrel.stage.read.usd.camera import read_camera
from kobrel.stage.read.usd.instancers import copies_of_points, placed_prototypes
from kobrel.stage.read.usd.layers import Admitted, admit_layers
from kobrel.stage.read.usd.lights import glowing_shape, scene_light
from kobrel.stage.read.usd.materials import Materials
from kobrel.stage.read.usd.meshes import read_mesh, topology_codes
from kobrel.stage.read.usd.motion import READING, Clock, clock_of, motion_from_root, motion_of
from kobrel.stage.read.usd.skel import Skins, points_of
from kobrel.stage.read.usd.solids import solid_mesh
from kobrel.stage.scene import (
    CameraSource,
    Choice,
    Choices,
    Mesh,
    Node,
    Progress,
    Scene,
    UpAxis,
    root_matrix,
)

_PURPOSE, _PAYLOADS, _SUBDIVISION = "purpose", "payloads", "subdivision"
_LEVELS = ("cage", "1 level", "2 levels")
_MOST_CHOICES = 40
NEVER = Track.constant([0.0])


def load_usd(path: Path, progress: Progress, choices: Choices = ()) -> Scene:
    """Read a USD scene.

    Parameters
    ----------
    path : the file
    progress : told how far it is; may raise to cancel
    choices : variants ("/Prim{set}", "option"), "purpose", "payloads" and "subdivision"

    Raises
    ------
    SceneError
        The file cannot be opened as USD.
    """
    progress(f"Opening {path.name}", 0.0)
    quiet = UsdUtils.CoalescingDiagnosticDelegate()
    try:
        load = Usd.Stage.LoadNone if dict(choices).get(_PAYLOADS) == "leave out" else Usd.Stage.LoadAll
        with READING:
            admitted = admit_layers(path, progress)
            stage = Usd.Stage.Open(str(path), load)
            return _Reader(path, stage, dict(choices), admitted).read(progress)
    except KobrelError:
        raise
    except Exception:  # a damaged file makes USD fail in many ways
        raise SceneError(
            "not readable as USD, it is damaged.", file=path, remedy="Export the scene again."
        ) from None
    finally:
        quiet.TakeUncoalescedDiagnostics()  # what matters is among the scene's own warnings


class _Reader:
    def __init__(self, path: Path, stage: Usd.Stage, wanted: dict[str, str], admitted: Admitted) -> None:
        self.path, self.stage, self._wanted = path, stage, wanted
        self.unit_m = float(UsdGeom.GetStageMetersPerUnit(stage))
        self._admitted = admitted
        self.warnings = list(admitted.told)
        self.nodes: list[Node] = []
        self._clock: Clock = clock_of(stage)
        self._cameras: list[tuple[UsdGeom.Camera, int]] = []
        self._lights: list[Usd.Prim] = []
        self._index: dict[str, int] = {}
        self._never: set[str] = set()
        self._meshes: dict[str, Mesh | None] = {}
        self._materials = Materials(path.parent, self.warnings)
        self._purposes: set[str] = set()

    def read(self, progress: Progress) -> Scene:
        if not np.isfinite(self.unit_m) or self.unit_m <= 0:
            self.warnings.append(f"{self.path.name}: its unit makes no sense; one centimetre is assumed.")
            self.unit_m = 0.01
        choices = self._variants()
        choices += self._option(_PAYLOADS, "Payloads", ("load", "leave out"), bool(self.stage.FindLoadable()))
        for error in self.stage.GetCompositionErrors():
            self.warnings.append(_composition_warning(str(error)))
        self._skins = Skins(self.stage, self._clock, self.warnings)
        prims = list(self._prims())
        for count, prim in enumerate(prims):
            if count % 32 == 0:
                progress(f"Reading {self.path.name}", count / len(prims))
            try:
                self._add(prim)
            except KobrelError:
                raise
            except Exception:  # one damaged part leaves the others whole
                self.warnings.append(f"{prim.GetPath()}: skipped, it is damaged.")
        choices += self._option(
            _PURPOSE, "Drawn parts", ("render", "proxy", "guide"), bool(self._purposes - {"default"})
        )
        smooth = any(prim.IsA(UsdGeom.Mesh) and _is_smooth(prim) for prim in prims)
        choices += self._option(_SUBDIVISION, "Round surfaces", _LEVELS, smooth)
        up: UpAxis = "Z" if UsdGeom.GetStageUpAxis(self.stage) == UsdGeom.Tokens.z else "Y"
        ranged = self.stage.HasAuthoredTimeCodeRange()
        ends = self._clock.frames([self.stage.GetStartTimeCode(), self.stage.GetEndTimeCode()])
        ranged = ranged and bool(np.isfinite(ends).all()) and bool((np.abs(ends) < 1e9).all())
        rate = float(self.stage.GetTimeCodesPerSecond()) * self._clock.rate
        cameras, assumed = self._read_cameras(self.unit_m)
        light = scene_light(
            self._lights, root_matrix(1.0, up)[:3, :3], path=self.path, warnings=self.warnings
        )
        return Scene(
            path=self.path,
            nodes=tuple(self.nodes),
            cameras=cameras,
            unit_m=self.unit_m,
            up=up,
            fps=rate if np.isfinite(rate) and 0 < rate <= 1000 else 24.0,
            first_frame=round(float(ends[0])) if ranged else None,
            last_frame=round(float(ends[1])) if ranged else None,
            warnings=tuple(self.warnings + assumed),
            light=light,
            choices=tuple(choices),
            cameras_in=self._read_cameras,
            says_unit=UsdGeom.StageHasAuthoredMetersPerUnit(self.stage),
            says_up=self.stage.HasAuthoredMetadata(UsdGeom.Tokens.upAxis),
        )

    def _prims(self) -> list[Usd.Prim]:
        """The prims to be drawn, without what instancers copy."""
        found = []
        within = iter(Usd.PrimRange(self.stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()))
        for prim in within:
            found.append(prim)
            if prim.IsA(UsdGeom.PointInstancer):
                within.PruneChildren()
        return found[1:]

    # Choices

    def _variants(self) -> list[Choice]:
        """Switch the variants that are wanted, in a layer of the session's; tell which there are."""
        found: list[Choice] = []
        seen: set[str] = set()
        self.stage.SetEditTarget(Usd.EditTarget(self.stage.GetSessionLayer()))
        while True:  # a variant may bring others with it
            fresh = None
            for prim in self.stage.Traverse():
                sets = prim.GetVariantSets()
                for name in sets.GetNames():
                    key = f"{prim.GetPath()}{{{name}}}"
                    if key not in seen:
                        seen.add(key)
                        fresh = key, prim, sets.GetVariantSet(name)
                        break
                if fresh:
                    break
            if fresh is None or len(found) >= _MOST_CHOICES:
                return found
            key, prim, variants = fresh
            options = tuple(variants.GetVariantNames())
            if self._wanted.get(key) in options:
                variants.SetVariantSelection(self._wanted[key])
            chosen = variants.GetVariantSelection()
            if len(options) > 1:
                label = f"{prim.GetName()}: {variants.GetName()}"
                found.append(Choice(key, label, options, chosen))

    def _option(self, key: str, label: str, options: tuple[str, ...], there: bool) -> list[Choice]:
        if not there:
            return []
        wanted = self._wanted.get(key, options[0])
        return [Choice(key, label, options, wanted if wanted in options else options[0])]

    @property
    def _level(self) -> int:
        wanted = self._wanted.get(_SUBDIVISION, _LEVELS[0])
        return _LEVELS.index(wanted) if wanted in _LEVELS else 0

    # Prims

    def _add(self, prim: Usd.Prim) -> None:
        imageable = UsdGeom.Imageable(prim)
        if not imageable:
            return
        motion, resets, lost = motion_of(prim, self._clock)
        self.warnings += lost
        shown = self._shown(prim, imageable)
        node = Node(str(prim.GetPath()), self._parent(prim), motion, resets, shown=shown)
        camera = UsdGeom.Camera(prim)
        if camera:
            self._cameras.append((camera, len(self.nodes)))
        elif self._seen(prim, imageable):
            self._add_drawn(prim, node)
            return
        self._append(node)

    def _append(self, node: Node) -> int:
        self._index[node.path] = len(self.nodes)
        self.nodes.append(node)
        return len(self.nodes) - 1

    def _add_drawn(self, prim: Usd.Prim, node: Node) -> None:
        """The node with what is drawn of it, or nodes below it; a skin is bent where its skeleton stands."""
        lamp = glowing_shape(prim)
        if self._is_far_light(prim):
            self._lights.append(prim)
            self._append(node)
        elif lamp is not None:
            self._append(replace(node, mesh=lamp[0], materials=(lamp[1],)))
        elif prim.IsA(UsdGeom.PointInstancer):
            self._add_copies(prim, self._append(node))
        elif prim.IsA(UsdGeom.Points):
            above, copies = self._append(node), copies_of_points(prim, self._clock)
            if copies is not None:
                ball = Node(f"{node.path}/point", above, mesh=shapes.sphere(0.5, 8), copies=copies)
                self._append(replace(ball, materials=self._materials.of_slots(prim)))
        elif prim.IsA(UsdGeom.Mesh) and topology_codes(UsdGeom.Mesh(prim)):
            self._add_stages(prim, node.path, self._append(node))
        else:
            self._add_mesh(prim, node)

    def _add_mesh(self, prim: Usd.Prim, node: Node) -> None:
        mesh = self._mesh(prim)
        if mesh is None:
            self._append(node)
            return
        materials = self._materials.of_slots(prim)
        mesh, motion = self._skins.skinned(prim, mesh, points_of(prim) if prim.IsA(UsdGeom.Mesh) else 0)
        if motion is None:
            self._append(replace(node, mesh=mesh, materials=materials))
            return
        bent = replace(node, motion=motion, resets=True, mesh=mesh, materials=materials)
        if any(UsdGeom.Imageable(child) for child in prim.GetChildren()):
            above = self._append(node)  # what lies below keeps the prim's own place
            bent = replace(bent, path=f"{node.path}/skin", parent=above)
        self._append(bent)

    def _add_stages(self, prim: Usd.Prim, path: str, above: int) -> None:
        """A mesh whose faces change: one node below its own for each time, seen in its turn."""
        mesh = UsdGeom.Mesh(prim)
        codes = sorted({*topology_codes(mesh), *mesh.GetPointsAttr().GetTimeSamples()})
        materials = self._materials.of_slots(prim)
        frames = self._clock.frames(codes)
        for number, code in enumerate(codes):
            made = read_mesh(prim, self._clock, 0, Usd.TimeCode(code))
            if isinstance(made, str):
                if made != "it is empty":
                    self.warnings.append(f"{prim.GetPath()}: skipped at frame {frames[number]:g}, {made}.")
                continue
            seen = (np.arange(len(codes)) == number).astype(float)
            turn = Track(frames, seen[:, None], held=True)
            own = f"{path}/at {frames[number]:g}"
            self._append(Node(own, above, mesh=made, materials=materials, shown=turn))

    def _add_copies(self, prim: Usd.Prim, above: int) -> None:
        """Nodes below an instancer for each mesh that it copies."""
        own = str(prim.GetPath())
        for each, prototype, copies in placed_prototypes(prim, self._clock, self.warnings):
            if not self._seen(each, UsdGeom.Imageable(each)):
                continue
            mesh = self._mesh(each)
            if mesh is None:
                continue
            path = str(each.GetPath())
            if not path.startswith(f"{own}/"):
                path = f"{own}/{prototype.GetName()}{path.removeprefix(str(prototype.GetPath()))}"
            motion = motion_from_root(each, self._clock, prototype)
            materials = self._materials.of_slots(each)
            self._append(Node(path, above, motion, mesh=mesh, materials=materials, copies=copies))

    def _parent(self, prim: Usd.Prim) -> int:
        above = prim.GetParent()
        while above and not above.IsPseudoRoot():
            found = self._index.get(str(above.GetPath()))
            if found is not None:
                return found
            above = above.GetParent()
        return -1

    def _shown(self, prim: Usd.Prim, imageable: UsdGeom.Imageable) -> Track | None:
        """When a prim is seen; None is always, as far as it is up to the prim itself."""
        attribute = imageable.GetVisibilityAttr()
        codes = attribute.GetTimeSamples()
        values = [attribute.Get(code) for code in codes] or [attribute.Get()]
        seen = np.array([[value != UsdGeom.Tokens.invisible] for value in values], float)
        if str(prim.GetParent().GetPath()) in self._never or not seen.any():
            self._never.add(str(prim.GetPath()))
            return NEVER
        return None if seen.all() else Track(self._clock.frames(codes), seen, held=True)

    def _seen(self, prim: Usd.Prim, imageable: UsdGeom.Imageable) -> bool:
        """Whether a prim is ever drawn."""
        purpose = str(imageable.ComputePurpose()) if imageable else UsdGeom.Tokens.default_
        self._purposes.add(purpose)
        wanted = self._wanted.get(_PURPOSE, "render")
        return str(prim.GetPath()) not in self._never and purpose in (UsdGeom.Tokens.default_, wanted)

    def _is_far_light(self, prim: Usd.Prim) -> bool:
        return any(prim.IsA(kind) for kind in (UsdLux.DistantLight, UsdLux.DomeLight, UsdLux.DomeLight_1))

    def _mesh(self, prim: Usd.Prim) -> Mesh | None:
        source = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        key = str(source.GetPath())
        if key not in self._meshes:
            self._meshes[key] = self._read_mesh(prim)
        return self._meshes[key]

    def _read_mesh(self, prim: Usd.Prim) -> Mesh | None:
        if not prim.IsA(UsdGeom.Mesh):
            solid = solid_mesh(prim, self._clock)
            left_out = prim.IsA(UsdGeom.Gprim) or prim.HasAPI(UsdLux.LightAPI)
            if solid is None and left_out:
                self.warnings.append(f"{prim.GetPath()}: skipped, a {prim.GetTypeName()} is not drawn.")
            return solid
        made = read_mesh(prim, self._clock, self._level)
        if isinstance(made, str):
            self.warnings.append(f"{prim.GetPath()}: skipped, {made}.")
            return None
        known = made.deformation
        in_skeleton = self._skins.knows(prim)
        return made if known is None or known.moves or in_skeleton else replace(made, deformation=None)

    def _read_cameras(self, unit_m: float) -> tuple[tuple[CameraSource, ...], list[str]]:
        """The cameras, and what had to be assumed, with metres in one unit."""
        with READING:
            read = [read_camera(camera, node, unit_m, self._clock) for camera, node in self._cameras]
        return tuple(source for source, _ in read), [text for _, texts in read for text in texts]


def _is_smooth(prim: Usd.Prim) -> bool:
    return bool(UsdGeom.Mesh(prim).GetSubdivisionSchemeAttr().Get() == UsdGeom.Tokens.catmullClark)


def _composition_warning(text: str) -> str:
    """What USD says about a part that it could not put in, without its own grammar."""
    first = " ".join(text.strip().split())
    return f"Left out while putting the file together: {first}"

"""Scenes from USD: usda, usdc, usd and usdz."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pxr import Ar, Gf, Usd, UsdGeom, UsdShade, UsdUtils

from kobrel.errors import KobrelError, SceneError
from kobrel.stage import shapes
from kobrel.stage.motion import Motion, OpKind, Track, TransformOp
from kobrel.stage.read.checks import fan_corners, mesh_fault, polygon_of_triangle
from kobrel.stage.read.usd_camera import read_camera
from kobrel.stage.read.usd_lights import sphere_light
from kobrel.stage.scene import CameraSource, Material, Mesh, Node, Progress, Scene, Texture

_Z_TO_Y = np.array([[1, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1]], dtype=float)
_DEFAULT = Material()


def load_usd(path: Path, unit_m: float | None, progress: Progress) -> Scene:
    """Read a USD scene.

    Parameters
    ----------
    path : the file
    unit_m : metres in one scene unit, instead of what the file says
    progress : told how far it is; may raise to cancel

    Raises
    ------
    SceneError
        The file cannot be opened as USD.
    """
    progress(f"Opening {path.name}", 0.0)
    quiet = UsdUtils.CoalescingDiagnosticDelegate()
    try:
        stage = Usd.Stage.Open(str(path))
        return _Reader(path, stage, unit_m).read(progress)
    except KobrelError:
        raise
    except Exception as error:  # a damaged file makes USD fail in many ways
        raise SceneError(
            f"not readable as USD ({_reason(error)}).", file=path, remedy="Export the scene again."
        ) from None
    finally:
        quiet.TakeUncoalescedDiagnostics()  # what matters is among the scene's own warnings


def _reason(error: Exception) -> str:
    """The last line of what USD says, if it can be read at all."""
    try:
        return str(error).strip().splitlines()[-1].strip()
    except (UnicodeDecodeError, IndexError):
        return "damaged"


class _Reader:
    def __init__(self, path: Path, stage: Usd.Stage, unit_m: float | None) -> None:
        self.path = path
        self.stage = stage
        self.unit_m = unit_m or float(UsdGeom.GetStageMetersPerUnit(stage))
        self.warnings: list[str] = []
        self.nodes: list[Node] = []
        self.cameras: list[CameraSource] = []
        self._index: dict[str, int] = {}
        self._materials: dict[str, Material] = {}
        self._meshes: dict[str, Mesh | None] = {}

    def read(self, progress: Progress) -> Scene:
        for error in self.stage.GetCompositionErrors():
            self.warnings.append(_composition_warning(str(error)))
        prims = list(self.stage.Traverse(Usd.TraverseInstanceProxies()))
        for count, prim in enumerate(prims):
            if count % 32 == 0:
                progress(f"Reading {self.path.name}", count / len(prims))
            try:
                self._add(prim)
            except KobrelError:
                raise
            except Exception as error:  # one damaged part leaves the others whole
                self.warnings.append(f"{prim.GetPath()}: left out, it cannot be read ({_reason(error)}).")
        z_up = UsdGeom.GetStageUpAxis(self.stage) == UsdGeom.Tokens.z
        root = (_Z_TO_Y if z_up else np.eye(4)) @ np.diag([self.unit_m] * 3 + [1.0])
        ranged = self.stage.HasAuthoredTimeCodeRange()
        return Scene(
            path=self.path,
            nodes=tuple(self.nodes),
            cameras=tuple(self.cameras),
            root=root,
            unit_m=self.unit_m,
            up="Z" if z_up else "Y",
            fps=float(self.stage.GetTimeCodesPerSecond()),
            first_frame=round(self.stage.GetStartTimeCode()) if ranged else None,
            last_frame=round(self.stage.GetEndTimeCode()) if ranged else None,
            warnings=tuple(self.warnings),
        )

    def _add(self, prim: Usd.Prim) -> None:
        imageable = UsdGeom.Imageable(prim)
        if not imageable:
            return
        path = str(prim.GetPath())
        motion, resets = self._motion(prim)
        node = Node(path, self._parent(prim), motion, resets)
        camera = UsdGeom.Camera(prim)
        if camera:
            source, warnings = read_camera(camera, len(self.nodes), self.unit_m)
            self.cameras.append(source)
            self.warnings += warnings
        elif self._seen(imageable):
            lamp = sphere_light(prim)
            mesh = None if lamp else self._mesh(prim)
            if lamp is not None:
                node = Node(path, node.parent, motion, resets, lamp[0], (lamp[1],))
            elif mesh is not None:
                node = Node(path, node.parent, motion, resets, mesh, self._slot_materials(prim))
        self._index[path] = len(self.nodes)
        self.nodes.append(node)

    def _parent(self, prim: Usd.Prim) -> int:
        above = prim.GetParent()
        while above and not above.IsPseudoRoot():
            found = self._index.get(str(above.GetPath()))
            if found is not None:
                return found
            above = above.GetParent()
        return -1

    def _seen(self, imageable: UsdGeom.Imageable) -> bool:
        return imageable.ComputeVisibility(
            Usd.TimeCode.EarliestTime()
        ) != UsdGeom.Tokens.invisible and imageable.ComputePurpose() in (
            UsdGeom.Tokens.default_,
            UsdGeom.Tokens.render,
        )

    def _motion(self, prim: Usd.Prim) -> tuple[Motion, bool]:
        xform = UsdGeom.Xformable(prim)
        if not xform:
            return Motion(), False
        ops = []
        for op in xform.GetOrderedXformOps():
            step = _transform_op(op)
            if step is None:
                self.warnings.append(f"{prim.GetPath()}: transform step {op.GetOpName()} is left out.")
            else:
                ops.append(step)
        return Motion(tuple(ops)), bool(xform.GetResetXformStack())

    def _mesh(self, prim: Usd.Prim) -> Mesh | None:
        source = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        key = str(source.GetPath())
        if key not in self._meshes:
            self._meshes[key] = self._read_mesh(prim)
        return self._meshes[key]

    def _read_mesh(self, prim: Usd.Prim) -> Mesh | None:
        if prim.IsA(UsdGeom.PointInstancer):
            self.warnings.append(f"{prim.GetPath()}: point instancers are not drawn.")
            return None
        mesh = UsdGeom.Mesh(prim)
        if not mesh:
            return _implicit_shape(prim)
        now = Usd.TimeCode.EarliestTime()
        # A copy: points that still lie in the file's mapping make closing the file slow.
        points = _array(mesh.GetPointsAttr().Get(now), np.float32, 3).copy()
        counts = _array(mesh.GetFaceVertexCountsAttr().Get(now), np.int32)
        indices = _array(mesh.GetFaceVertexIndicesAttr().Get(now), np.int32)
        fault = mesh_fault(points, indices, int(counts.sum()))
        if fault:
            self.warnings.append(f"{prim.GetPath()}: left out, {fault}.")
            return None
        if mesh.GetPointsAttr().GetNumTimeSamples() > 1:
            self.warnings.append(f"{prim.GetPath()}: its points move; the first shape is used.")
        corners = None if np.all(counts == 3) else fan_corners(counts.astype(np.int64))
        triangles = indices.reshape(-1, 3) if corners is None else indices[corners]
        flip = mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded
        order = slice(None, None, -1) if flip else slice(None)
        normals = self._corner_values(*_normals(mesh), indices, corners, counts)
        uv = self._corner_values(*_texture_coordinates(prim), indices, corners, counts)
        return Mesh(
            points,
            np.ascontiguousarray(triangles[:, order]).view(np.uint32),
            normals=None if normals is None else np.ascontiguousarray(normals[:, order]),
            smooth=mesh.GetSubdivisionSchemeAttr().Get() != UsdGeom.Tokens.none,
            uv=None if uv is None else np.ascontiguousarray(uv[:, order]),
            slots=_slots(prim, counts, corners is None),
        )

    def _corner_values(
        self,
        values: NDArray[np.float32] | None,
        interpolation: str,
        indices: NDArray[np.int32],
        corners: NDArray[np.int64] | None,
        counts: NDArray[np.int32],
    ) -> NDArray[np.float32] | None:
        """Values at the corners of triangles, (T, 3, n), from how the file spreads them."""
        if values is None or len(values) == 0:
            return None
        if interpolation in ("vertex", "varying") and len(values) > int(indices.max()):
            flat = indices.reshape(-1, 3) if corners is None else indices[corners]
            return values[flat]
        if interpolation == "faceVarying" and len(values) == len(indices):
            return values.reshape(-1, 3, values.shape[-1]) if corners is None else values[corners]
        if interpolation == "uniform" and len(values) == len(counts):
            return np.repeat(values[polygon_of_triangle(counts.astype(np.int64))][:, None], 3, axis=1)
        return None

    def _slot_materials(self, prim: Usd.Prim) -> tuple[Material, ...]:
        main = self._bound_material(prim)
        subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
        return (main, *(self._bound_material(subset.GetPrim()) for subset in subsets[:254]))

    def _bound_material(self, prim: Usd.Prim) -> Material:
        bound, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
        if not bound:
            return _display_material(prim)
        key = str(bound.GetPath())
        if key not in self._materials:
            self._materials[key] = self._read_material(bound)
        return self._materials[key]

    def _read_material(self, bound: UsdShade.Material) -> Material:
        name = str(bound.GetPath())
        shader = bound.ComputeSurfaceSource()[0]
        if not shader:
            self.warnings.append(f"{name}: no surface that Kobrel can read; drawn grey.")
            return Material(name)
        base, base_texture = self._colour(shader, ("diffuseColor", "base_color"), _DEFAULT.base)
        glow, glow_texture = self._colour(shader, ("emissiveColor", "emission_color"), (0.0, 0.0, 0.0))
        return Material(name, base, glow, base_texture, glow_texture)

    def _colour(
        self, shader: UsdShade.Shader, names: tuple[str, ...], default: tuple[float, float, float]
    ) -> tuple[tuple[float, float, float], Texture | None]:
        for name in names:
            entry = shader.GetInput(name)
            if not entry:
                continue
            for attribute in entry.GetValueProducingAttributes():
                source = UsdShade.Shader(attribute.GetPrim())
                if attribute.GetPrim() != shader.GetPrim() and source and source.GetInput("file"):
                    return default, self._texture(source)
                value = attribute.Get()
                if isinstance(value, Gf.Vec3f):
                    return (float(value[0]), float(value[1]), float(value[2])), None
        return default, None

    def _texture(self, shader: UsdShade.Shader) -> Texture | None:
        asset = shader.GetInput("file").Get()
        where = asset.resolvedPath if asset else ""
        if not where:
            self.warnings.append(f"{shader.GetPath()}: texture {asset.path if asset else ''} is missing.")
            return None
        if "[" not in where:
            return Texture(where, path=Path(where))
        opened = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(where))
        return Texture(where, content=bytes(opened.GetBuffer())) if opened else None


def _array(value: object, dtype: type, width: int | None = None) -> NDArray:
    if value is None:
        return np.zeros((0, width) if width else 0, dtype)
    return np.ascontiguousarray(np.asarray(value), dtype)


def _composition_warning(text: str) -> str:
    first = text.strip().splitlines()[0]
    return f"Left out while putting the file together: {first}"


def _normals(mesh: UsdGeom.Mesh) -> tuple[NDArray[np.float32] | None, str]:
    primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("normals")
    now = Usd.TimeCode.EarliestTime()
    if primvar and primvar.HasValue():
        return _array(primvar.ComputeFlattened(now), np.float32, 3), str(primvar.GetInterpolation())
    value = mesh.GetNormalsAttr().Get(now)
    return (None, "") if not value else (_array(value, np.float32, 3), str(mesh.GetNormalsInterpolation()))


def _texture_coordinates(prim: Usd.Prim) -> tuple[NDArray[np.float32] | None, str]:
    found = [
        primvar
        for primvar in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues()
        if str(primvar.GetTypeName()) in ("texCoord2f[]", "float2[]")
    ]
    if not found:
        return None, ""
    best = next((primvar for primvar in found if primvar.GetPrimvarName() in ("st", "UVMap")), found[0])
    flat = best.ComputeFlattened(Usd.TimeCode.EarliestTime())
    return _array(flat, np.float32, 2), str(best.GetInterpolation())


def _slots(prim: Usd.Prim, counts: NDArray[np.int32], triangles_only: bool) -> NDArray[np.uint8] | None:
    subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
    if not subsets:
        return None
    faces = np.zeros(len(counts), np.uint8)
    for number, subset in enumerate(subsets[:254], start=1):
        chosen = _array(subset.GetIndicesAttr().Get(Usd.TimeCode.EarliestTime()), np.int64)
        faces[chosen[(chosen >= 0) & (chosen < len(faces))]] = number
    return faces if triangles_only else faces[polygon_of_triangle(counts.astype(np.int64))]


def _display_material(prim: Usd.Prim) -> Material:
    gprim = UsdGeom.Gprim(prim)
    colours = gprim.GetDisplayColorAttr().Get(Usd.TimeCode.EarliestTime()) if gprim else None
    if not colours:
        return _DEFAULT
    mean = np.asarray(colours, dtype=float).mean(axis=0)
    return Material("display colour", base=(float(mean[0]), float(mean[1]), float(mean[2])))


_AXIS_TURNS = {"X": np.eye(3)[[1, 0, 2]], "Y": np.eye(3), "Z": np.eye(3)[[0, 2, 1]]}


def _implicit_shape(prim: Usd.Prim) -> Mesh | None:
    """Meshes for the solids that USD keeps as formulas."""
    if prim.IsA(UsdGeom.Cube):
        size = float(UsdGeom.Cube(prim).GetSizeAttr().Get())
        return shapes.box((size, size, size))
    if prim.IsA(UsdGeom.Sphere):
        return shapes.sphere(float(UsdGeom.Sphere(prim).GetRadiusAttr().Get()))
    for kind, make in ((UsdGeom.Cylinder, shapes.cylinder), (UsdGeom.Cone, shapes.cone)):
        if prim.IsA(kind):
            solid = kind(prim)
            upright = make(float(solid.GetRadiusAttr().Get()), float(solid.GetHeightAttr().Get()))
            turn = _AXIS_TURNS[str(solid.GetAxisAttr().Get())]
            triangles = upright.triangles if np.linalg.det(turn) > 0 else upright.triangles[:, ::-1]
            points = np.ascontiguousarray(upright.points @ turn.T, np.float32)
            return Mesh(points, np.ascontiguousarray(triangles))
    return None


_ROTATIONS = {f"TypeRotate{axes}": axes for axes in ("X", "Y", "Z", "XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")}


def _transform_op(op: UsdGeom.XformOp) -> TransformOp | None:
    kinds: dict[str, OpKind] = {
        "TypeTranslate": "translate", "TypeScale": "scale",
        "TypeOrient": "quaternion", "TypeTransform": "matrix",
    }  # fmt: skip
    name = op.GetOpType().name
    axes = _ROTATIONS.get(name, "")
    kind: OpKind | None = "rotate" if axes else kinds.get(name)
    if kind is None:
        if name.startswith(("TypeTranslate", "TypeScale")):
            return _single_axis_op(op, name)
        return None
    return TransformOp(kind, _op_track(op), axes, bool(op.IsInverseOp()))


def _single_axis_op(op: UsdGeom.XformOp, name: str) -> TransformOp:
    track = _op_track(op)
    kind: OpKind = "translate" if name.startswith("TypeTranslate") else "scale"
    values = np.full((len(track.times), 3), 0.0 if kind == "translate" else 1.0)
    values[:, "XYZ".index(name[-1])] = track.values[:, 0]
    return TransformOp(kind, Track(track.times, values), inverse=bool(op.IsInverseOp()))


def _op_track(op: UsdGeom.XformOp) -> Track:
    attribute = op.GetAttr()
    times = attribute.GetTimeSamples()
    values = [attribute.Get(time) for time in times] if times else [attribute.Get()]
    return Track(np.asarray(times or [0.0], dtype=float), np.stack([_plain(value) for value in values]))


def _plain(value: object) -> NDArray[np.float64]:
    if isinstance(value, Gf.Quatf | Gf.Quatd | Gf.Quath):
        return np.array([value.GetReal(), *value.GetImaginary()], dtype=float)
    if isinstance(value, Gf.Matrix4d):
        return np.asarray(value, dtype=float).T
    return np.atleast_1d(np.asarray(value, dtype=float))

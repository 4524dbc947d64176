"""Meshes of USD: polygons, their corners' values, and points that move."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdGeom, UsdShade

from kobrel.stage.deform import Deformation, Sampled
from kobrel.stage.pictures.colours import as_bytes
from kobrel.stage.read.checks import fan_corners, mesh_fault, polygon_of_triangle
from kobrel.stage.read.normals import shared_corners
from kobrel.stage.read.subdivide import refined
from kobrel.stage.read.usd.materials import material_subsets
from kobrel.stage.read.usd.motion import FIRST, READING, Clock
from kobrel.stage.scene import Mesh


@dataclass(frozen=True)
class Polygons:
    """The faces of a mesh at one time: corners a face (P,), vertices (C,), points (V, 3)."""

    counts: NDArray[np.int32]
    indices: NDArray[np.int32]
    points: NDArray[np.float32]

    @property
    def fault(self) -> str | None:
        """Why they cannot be drawn, or None."""
        return mesh_fault(self.points, self.indices, int(self.counts.sum()), self.counts)


def polygons_at(mesh: UsdGeom.Mesh, code: Usd.TimeCode) -> Polygons:
    """A mesh's faces at a time."""
    return Polygons(
        as_array(mesh.GetFaceVertexCountsAttr().Get(code), np.int32),
        as_array(mesh.GetFaceVertexIndicesAttr().Get(code), np.int32),
        # A copy: points that still lie in the file's mapping make closing the file slow.
        as_array(mesh.GetPointsAttr().Get(code), np.float32, 3).copy(),
    )


def topology_codes(mesh: UsdGeom.Mesh) -> list[float]:
    """The times at which a mesh's faces change."""
    counts, indices = mesh.GetFaceVertexCountsAttr(), mesh.GetFaceVertexIndicesAttr()
    codes = sorted({*counts.GetTimeSamples(), *indices.GetTimeSamples()})
    return codes if len(codes) > 1 else []


def read_mesh(prim: Usd.Prim, clock: Clock, level: int, code: Usd.TimeCode = FIRST) -> Mesh | str:
    """A mesh as it is at a time, moving with its points where those change; or why it cannot be drawn."""
    mesh = UsdGeom.Mesh(prim)
    faces = polygons_at(mesh, code)
    if faces.fault:
        return faces.fault
    made = _drawn(prim, mesh, faces, level, code)
    codes = mesh.GetPointsAttr().GetTimeSamples()
    if len(codes) < 2 or code != FIRST:
        return made
    count = len(faces.points)

    def points(number: int) -> NDArray[np.float32]:
        with READING:
            found = as_array(mesh.GetPointsAttr().Get(Usd.TimeCode(codes[number])), np.float32, 3).copy()
        return found if len(found) == count and np.isfinite(found).all() else faces.points

    known = made.deformation
    deformation = Deformation(Sampled(clock.frames(codes), points), refined=known.refined if known else None)
    return replace(deformed(made), deformation=deformation)


def deformed(mesh: Mesh) -> Mesh:
    """A mesh made ready to deform: its normals are made anew from those faces that share them now."""
    if mesh.normals is None:
        return mesh
    return replace(mesh, normals=None, smooth=True, shared=shared_corners(mesh))


def _drawn(prim: Usd.Prim, mesh: UsdGeom.Mesh, faces: Polygons, level: int, code: Usd.TimeCode) -> Mesh:
    """Triangles with what the file says of their corners."""
    scheme = mesh.GetSubdivisionSchemeAttr().Get()
    smooth = scheme != UsdGeom.Tokens.none
    spread = Spread(faces)
    normals = None if smooth and level else spread.values(*_normals(mesh, code))
    uv = spread.values(*_texture_coordinates(prim, code))
    colours = spread.values(*_colours(prim, code))
    slots = _slots(prim, faces.counts, code)
    triangles = spread.triangles
    made = Mesh(
        faces.points, triangles, normals, smooth, uv, slots,
        None if colours is None else as_bytes(colours),
    )  # fmt: skip
    if smooth and level and scheme == UsdGeom.Tokens.catmullClark:
        made = refined(made, faces.counts, faces.indices, spread, level)
    if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
        return turned_over(made)
    return made


def turned_over(mesh: Mesh) -> Mesh:
    """The same mesh with its faces the other way round."""

    def other(values: NDArray[Any] | None) -> NDArray[Any] | None:
        return None if values is None else np.ascontiguousarray(values[:, ::-1])

    return replace(
        mesh, triangles=np.ascontiguousarray(mesh.triangles[:, ::-1]), normals=other(mesh.normals),
        uv=other(mesh.uv), colours=other(mesh.colours), shared=other(mesh.shared),
    )  # fmt: skip


class Spread:
    """Brings values of points, faces or corners to the corners of triangles.

    Attributes
    ----------
    triangles : (T, 3) uint32 vertices
    corners : (T, 3) places among all polygons' corners
    """

    def __init__(self, faces: Polygons) -> None:
        self._faces = faces
        counts = faces.counts.astype(np.int64)
        self._all_three = bool(np.all(counts == 3))
        self.corners = np.arange(counts.sum()).reshape(-1, 3) if self._all_three else fan_corners(counts)
        chosen = faces.indices.reshape(-1, 3) if self._all_three else faces.indices[self.corners]
        self.triangles = np.ascontiguousarray(chosen).view(np.uint32)

    def by_face(self, values: NDArray[Any]) -> NDArray[Any]:
        """Values of the faces, (P, ...), at the triangles made of them: (T, ...)."""
        if self._all_three:
            return values
        return np.asarray(values[polygon_of_triangle(self._faces.counts.astype(np.int64))])

    def values(self, values: NDArray[np.float32] | None, interpolation: str) -> NDArray[np.float32] | None:
        """Values at the corners of triangles, (T, 3, n), from how the file spreads them."""
        if values is None or len(values) == 0:
            return None
        faces = self._faces
        if interpolation in ("vertex", "varying") and len(values) > int(faces.indices.max()):
            return np.ascontiguousarray(values[self.triangles])
        if interpolation == "faceVarying" and len(values) == len(faces.indices):
            return np.ascontiguousarray(values[self.corners])
        if interpolation == "uniform" and len(values) == len(faces.counts):
            return np.repeat(self.by_face(values)[:, None], 3, axis=1)
        return None


def as_array(value: object, dtype: type, width: int | None = None) -> NDArray[Any]:
    """A value of USD as numbers, (n,) or (n, width); none is empty."""
    if value is None:
        return np.zeros((0, width) if width else 0, dtype)
    return np.ascontiguousarray(np.asarray(value), dtype)


def _normals(mesh: UsdGeom.Mesh, code: Usd.TimeCode) -> tuple[NDArray[np.float32] | None, str]:
    primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("normals")
    if primvar and primvar.HasValue():
        return as_array(primvar.ComputeFlattened(code), np.float32, 3), str(primvar.GetInterpolation())
    value = mesh.GetNormalsAttr().Get(code)
    return (None, "") if not value else (as_array(value, np.float32, 3), str(mesh.GetNormalsInterpolation()))


def _texture_coordinates(prim: Usd.Prim, code: Usd.TimeCode) -> tuple[NDArray[np.float32] | None, str]:
    found = [
        primvar
        for primvar in UsdGeom.PrimvarsAPI(prim).FindPrimvarsWithInheritance()
        if primvar.HasValue() and str(primvar.GetTypeName()) in ("texCoord2f[]", "float2[]")
    ]
    if not found:
        return None, ""
    best = next((primvar for primvar in found if primvar.GetPrimvarName() in ("st", "UVMap")), found[0])
    return as_array(best.ComputeFlattened(code), np.float32, 2), str(best.GetInterpolation())


def _colours(prim: Usd.Prim, code: Usd.TimeCode) -> tuple[NDArray[np.float32] | None, str]:
    """Display colours that differ over the mesh, where no material is bound."""
    primvar = UsdGeom.Gprim(prim).GetDisplayColorPrimvar()
    if not primvar or not primvar.HasValue():
        return None, ""
    bound, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
    if bound:
        return None, ""
    values = as_array(primvar.ComputeFlattened(code), np.float32, 3)
    return (values, str(primvar.GetInterpolation())) if len(values) > 1 else (None, "")


def _slots(prim: Usd.Prim, counts: NDArray[np.int32], code: Usd.TimeCode) -> NDArray[np.uint8] | None:
    """(T,) which material each triangle has, or None where there is one."""
    subsets = material_subsets(prim)
    if not subsets:
        return None
    faces = np.zeros(len(counts), np.uint8)
    for number, subset in enumerate(subsets, start=1):
        chosen = as_array(subset.GetIndicesAttr().Get(code), np.int64)
        faces[chosen[(chosen >= 0) & (chosen < len(faces))]] = number
    return faces if np.all(counts == 3) else faces[polygon_of_triangle(counts.astype(np.int64))]

"""The solids that USD keeps as formulas, as meshes; their sizes may change over time."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from pxr import Usd, UsdGeom

from kobrel.stage import shapes
from kobrel.stage.deform import Deformation, Sampled
from kobrel.stage.read.usd.motion import FIRST, READING, Clock
from kobrel.stage.scene import Mesh

_AXIS_TURNS = {"X": np.eye(3)[[1, 0, 2]], "Y": np.eye(3), "Z": np.eye(3)[[0, 2, 1]]}
_CORNERS_OF_PLANE = np.array([[0, 0], [0, 1], [1, 1], [1, 0], [0, 0], [0, 1]], np.float32)[[0, 1, 2, 0, 2, 3]]


def solid_mesh(prim: Usd.Prim, clock: Clock) -> Mesh | None:
    """The mesh of a cube, sphere, cylinder, cone, capsule or plane, in its own unit; None for others."""
    found = _maker(prim)
    if found is None:
        return None
    names, make = found
    attributes = [prim.GetAttribute(name) for name in names]

    def at(code: Usd.TimeCode) -> Mesh:
        with READING:
            return _along_axis(make(*(float(attribute.Get(code)) for attribute in attributes)), prim)

    first = at(FIRST)
    codes = sorted({code for attribute in attributes for code in attribute.GetTimeSamples()})
    if len(codes) < 2:
        return first
    whole = _along_axis(make(*(1.0 for _ in names)), prim)  # none of its faces is lost where a size is 0
    source = Sampled(clock.frames(codes), lambda number: at(Usd.TimeCode(codes[number])).points)
    return replace(whole, points=first.points, deformation=Deformation(source))


def _maker(prim: Usd.Prim) -> tuple[tuple[str, ...], Callable[..., Mesh]] | None:
    """The attributes that size a solid, and what makes it of them."""
    if prim.IsA(UsdGeom.Cube):
        return ("size",), lambda size: shapes.box((size, size, size))
    if prim.IsA(UsdGeom.Sphere):
        return ("radius",), shapes.sphere
    if prim.IsA(UsdGeom.Cylinder):
        return ("radius", "height"), shapes.cylinder
    if prim.IsA(UsdGeom.Cone):
        return ("radius", "height"), shapes.cone
    if prim.IsA(UsdGeom.Capsule):
        return ("radius", "height"), shapes.capsule
    for kind, names in (
        (UsdGeom.Cylinder_1, ("radiusBottom", "radiusTop", "height")),
        (UsdGeom.Capsule_1, ("radiusBottom", "radiusTop", "height")),
    ):
        if prim.IsA(kind):
            make = shapes.tapered if kind is UsdGeom.Cylinder_1 else shapes.tapered_capsule
            return names, make
    if prim.IsA(UsdGeom.Plane):
        return ("width", "length"), _plane
    return None


def _plane(width: float, length: float) -> Mesh:
    return replace(shapes.plane(width, length), uv=_CORNERS_OF_PLANE.reshape(2, 3, 2))


def _along_axis(upright: Mesh, prim: Usd.Prim) -> Mesh:
    """A solid that stands along Y, turned to the axis that the prim names."""
    axis = prim.GetAttribute("axis")
    if not axis or not axis.HasValue():
        return upright
    turn = _AXIS_TURNS[str(axis.Get())]
    mirrored = np.linalg.det(turn) < 0
    triangles = upright.triangles[:, ::-1] if mirrored else upright.triangles
    uv = upright.uv[:, ::-1] if upright.uv is not None and mirrored else upright.uv
    points = np.ascontiguousarray(upright.points @ turn.T, np.float32)
    return replace(upright, points=points, triangles=np.ascontiguousarray(triangles), uv=uv)

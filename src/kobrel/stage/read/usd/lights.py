"""Lights of USD: small ones as glowing shapes, far ones as the scene's own light."""

import math
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom, UsdLux

from kobrel import trust
from kobrel.stage import shapes
from kobrel.stage.motion import Array
from kobrel.stage.read.usd.motion import FIRST
from kobrel.stage.scene import FileLight, Material, Mesh

Colour = tuple[float, float, float]
_POINT_RADIUS = 1e-3
_SUN_DEG = 0.53


def glowing_shape(prim: Usd.Prim) -> tuple[Mesh, Material] | None:
    """The shape of a sphere, disk, rectangle or cylinder light, in the prim's own unit, and its glow; None
    for anything else.

    Its radiance is intensity times 2^exposure times colour (and the colour of its temperature), over its
    area where it is normalised: UsdLux, as at the scene's first moment. A sphere without a radius keeps
    its power as a very small one.
    """
    scale = _size_of(prim)
    if prim.IsA(UsdLux.SphereLight):
        given = _number(UsdLux.SphereLight(prim).GetRadiusAttr())
        radius = given or _POINT_RADIUS / scale
        area = 4.0 * math.pi * (radius * scale) ** 2
        mesh, radiant = shapes.sphere(radius), _radiance(prim, area, always=given == 0.0)
    elif prim.IsA(UsdLux.DiskLight):
        radius = _number(UsdLux.DiskLight(prim).GetRadiusAttr())
        mesh = shapes.upright(shapes.disc(radius))
        radiant = _radiance(prim, math.pi * (radius * scale) ** 2)
    elif prim.IsA(UsdLux.RectLight):
        light = UsdLux.RectLight(prim)
        width, height = _number(light.GetWidthAttr()), _number(light.GetHeightAttr())
        mesh = shapes.upright(shapes.plane(width, height))
        radiant = _radiance(prim, width * height * scale**2)
    elif prim.IsA(UsdLux.CylinderLight):
        light = UsdLux.CylinderLight(prim)
        radius, length = _number(light.GetRadiusAttr()), _number(light.GetLengthAttr())
        mesh = shapes.moved(shapes.cylinder(radius, length), turn_deg=(0, 0, 90))
        radiant = _radiance(prim, 2.0 * math.pi * radius * length * scale**2)
    else:
        return None
    return mesh, Material(str(prim.GetPath()), base=(0.0, 0.0, 0.0), emission=radiant)


def scene_light(prims: list[Usd.Prim], y_up: Array, path: Path, warnings: list[str]) -> FileLight | None:
    """The scene's own light from its distant and dome lights: the brightest of each counts.

    Parameters
    ----------
    y_up : (3, 3) from the file's axes to those with Y up
    path : of the file
    """
    distant = [(prim, _falling(prim)) for prim in prims if prim.IsA(UsdLux.DistantLight)]
    domes = [(p, _radiance(p, 1.0)) for p in prims if p.IsA(UsdLux.DomeLight) or p.IsA(UsdLux.DomeLight_1)]
    kinds = ((distant, "distant light", "key light"), (domes, "dome light", "surroundings"))
    for lights, kind, use in kinds:
        lights.sort(key=lambda light: -sum(light[1]))
        for prim, _ in lights[1:]:
            warnings.append(f"{prim.GetPath()}: skipped, only the brightest {kind} becomes the {use}.")
    if not distant and not domes:
        return None
    toward, colour = None, (0.0, 0.0, 0.0)
    if distant:
        prim, falling = distant[0]
        axis = _turn(prim)[:, 2]
        toward = _tuple(axis / max(float(np.linalg.norm(axis)), 1e-12))
        colour = _tuple(np.asarray(falling) / math.pi)
    about, picture, turn = (0.0, 0.0, 0.0), None, 0.0
    if domes:
        prim, about = domes[0]
        picture = _picture(prim, path.parent, warnings)
        middle = y_up @ _turn(prim)[:, 2]  # the middle of the picture lies along the light's +Z
        turn = math.degrees(math.atan2(-middle[0], -middle[2]))
    return FileLight(toward, colour, about, picture, turn)


def _picture(prim: Usd.Prim, folder: Path, warnings: list[str]) -> Path | None:
    """The file of a dome's picture, where there is one that can be read."""
    asset = UsdLux.DomeLight(prim).GetTextureFileAttr().Get(FIRST)
    if not asset or not asset.path:
        return None
    if not asset.resolvedPath or "[" in asset.resolvedPath:
        why = "is inside the package" if asset.resolvedPath else "is missing"
        warnings.append(f"{prim.GetPath()}: its picture {asset.path} {why}; an even sky takes its place.")
        return None
    if not trust.is_allowed(asset.resolvedPath, folder):
        warnings.append(f"{prim.GetPath()}: picture {asset.path}: {trust.refusal(asset.resolvedPath)}")
        return None
    return Path(asset.resolvedPath)


def _falling(prim: Usd.Prim) -> Colour:
    """What a distant light brings to a surface that faces it: its radiance times its solid angle, or its
    intensity as it is where it is normalised.
    """
    light = UsdLux.DistantLight(prim)
    if _is_on(light.GetNormalizeAttr()):
        return _radiance(prim, 1.0)
    angle = math.radians(_number(light.GetAngleAttr()) or _SUN_DEG)
    solid = math.pi * math.sin(min(angle, math.pi) / 2) ** 2
    red, green, blue = _radiance(prim, 1.0)
    return red * solid, green * solid, blue * solid


def _radiance(prim: Usd.Prim, area: float, always: bool = False) -> Colour:
    """A light's radiance; `always` shares it over the area even where it is not normalised."""
    light = UsdLux.LightAPI(prim)
    strength = _number(light.GetIntensityAttr()) * 2.0 ** _number(light.GetExposureAttr())
    if always or _is_on(light.GetNormalizeAttr()):
        strength /= max(area, 1e-12)
    colour = [float(part) for part in light.GetColorAttr().Get(FIRST) or (1.0, 1.0, 1.0)]
    if _is_on(light.GetEnableColorTemperatureAttr()):
        warm = UsdLux.BlackbodyTemperatureAsRgb(_number(light.GetColorTemperatureAttr()))
        colour = [part * float(by) for part, by in zip(colour, warm, strict=True)]
    return _tuple(np.maximum(np.nan_to_num(strength * np.asarray(colour), posinf=0.0), 0.0))


def _number(attribute: Usd.Attribute) -> float:
    value = attribute.Get(FIRST)
    return 0.0 if value is None or not math.isfinite(value) else float(value)


def _is_on(attribute: Usd.Attribute) -> bool:
    return bool(attribute.Get(FIRST))


def _tuple(values: Array) -> Colour:
    red, green, blue = (float(part) for part in values)
    return red, green, blue


def _turn(prim: Usd.Prim) -> Array:
    """(3, 3) from a light's own axes to the scene's, at its first moment."""
    matrix = UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(FIRST)
    return np.asarray(matrix, float).T[:3, :3]


def _size_of(prim: Usd.Prim) -> float:
    """How much larger a light is in the scene than in its own space."""
    return float(max(abs(float(np.linalg.det(_turn(prim)))) ** (1 / 3), 1e-12))

"""Sphere lights of USD as glowing balls."""

import math

from pxr import Usd, UsdLux

from kobrel.stage import shapes
from kobrel.stage.scene import Material, Mesh

_POINT_RADIUS = 1e-3


def sphere_light(prim: Usd.Prim) -> tuple[Mesh, Material] | None:
    """The ball of a sphere light, in the prim's own unit, and its glow; None for anything else.

    Its radiance is intensity times 2^exposure times colour (and the colour of its temperature),
    over its area where it is normalised: UsdLux, as at the scene's first moment. A light that
    stands for a point keeps a radius.
    """
    light = UsdLux.SphereLight(prim)
    if not light:
        return None
    at = Usd.TimeCode.EarliestTime()
    radius = max(float(light.GetRadiusAttr().Get(at)), _POINT_RADIUS)
    strength = float(light.GetIntensityAttr().Get(at)) * 2.0 ** float(light.GetExposureAttr().Get(at))
    if light.GetNormalizeAttr().Get(at):
        strength /= 4.0 * math.pi * radius**2
    colour = [float(part) for part in light.GetColorAttr().Get(at)]
    if light.GetEnableColorTemperatureAttr().Get(at):
        warm = UsdLux.BlackbodyTemperatureAsRgb(float(light.GetColorTemperatureAttr().Get(at)))
        colour = [part * float(by) for part, by in zip(colour, warm, strict=True)]
    red, green, blue = (strength * part for part in colour)
    name = str(prim.GetPath())
    return shapes.sphere(radius), Material(name, base=(0.0, 0.0, 0.0), emission=(red, green, blue))

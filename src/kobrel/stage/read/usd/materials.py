"""Surfaces of USD: preview surfaces and what is like them, and display colours."""

from pathlib import Path

import numpy as np
from pxr import Ar, Gf, Usd, UsdGeom, UsdShade

from kobrel import trust
from kobrel.stage.read.usd.motion import FIRST
from kobrel.stage.scene import Channel, Cutout, Material, Texture

_DEFAULT = Material()
_WHITE = (1.0, 1.0, 1.0)
_BLACK = (0.0, 0.0, 0.0)
_MOST_SUBSETS = 254
Colour = tuple[float, float, float]


class Materials:
    """Reads materials, each once.

    Parameters
    ----------
    folder : of the scene
    warnings : where it is told what could not be read
    """

    def __init__(self, folder: Path, warnings: list[str]) -> None:
        self._folder = folder
        self._warnings = warnings
        self._known: dict[str, Material] = {}

    def of_slots(self, prim: Usd.Prim) -> tuple[Material, ...]:
        """The materials of a mesh: its own, then those of its subsets."""
        subsets = material_subsets(prim)
        return (self._bound(prim), *(self._bound(subset.GetPrim(), prim) for subset in subsets))

    def _bound(self, prim: Usd.Prim, mesh: Usd.Prim | None = None) -> Material:
        bound, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
        if not bound:
            return _display_material(prim if mesh is None else mesh)
        key = str(bound.GetPath())
        if key not in self._known:
            self._known[key] = self._read(bound)
        return self._known[key]

    def _read(self, bound: UsdShade.Material) -> Material:
        name = str(bound.GetPath())
        shader = bound.ComputeSurfaceSource()[0] or bound.ComputeSurfaceSource("mtlx")[0]
        if not shader:
            self._warnings.append(f"{name}: no surface that Kobrel can read; drawn grey.")
            return Material(name)
        base, base_texture = self._colour(shader, ("diffuseColor", "base_color"), _DEFAULT.base)
        glow, glow_texture = self._colour(shader, ("emissiveColor", "emission_color"), _BLACK)
        strength = _number(shader, "emission", 1.0)
        glow = (glow[0] * strength, glow[1] * strength, glow[2] * strength)
        rough, metal, gloss = self._gloss(shader)
        return Material(
            name, base, glow, base_texture, glow_texture, rough, metal, gloss, self._cutout(shader)
        )

    def _gloss(self, shader: UsdShade.Shader) -> tuple[float, float, Texture | None]:
        """Roughness, metal, and the picture that has them in green and blue, where there is one."""
        found: list[tuple[float, Texture | None]] = []
        for names, channel, default in (
            (("roughness", "specular_roughness"), ":g", 0.5), (("metallic", "metalness"), ":b", 0.0),
        ):  # fmt: skip
            value, texture = default, None
            for attribute in (each for name in names for each in _producing(shader, name)):
                source = UsdShade.Shader(attribute.GetPrim())
                given = attribute.Get(FIRST)
                if attribute.GetPrim() != shader.GetPrim() and source and source.GetInput("file"):
                    texture = self._texture(source) if attribute.GetName().endswith(channel) else None
                    if texture is None:
                        self._warnings.append(f"{source.GetPath()}: its picture of gloss is skipped.")
                elif isinstance(given, int | float):
                    value = float(given)
            found.append((value, texture))
        (rough, of_rough), (metal, of_metal) = found
        if of_rough is not None and of_metal is not None and of_rough.name == of_metal.name:
            return 1.0, 1.0, of_rough
        if of_rough is not None and metal == 0.0:
            return 1.0, 0.0, of_rough  # whatever its blue is
        if of_rough is not None or of_metal is not None:
            self._warnings.append(f"{shader.GetPath()}: its pictures of gloss are skipped.")
        return rough, metal, None

    def _cutout(self, shader: UsdShade.Shader) -> Cutout | None:
        """How far the surface can be seen through, where at all."""
        cutoff = min(max(_number(shader, "opacityThreshold", 0.0), 0.0), 1.0)
        for attribute in _producing(shader, "opacity"):
            source = UsdShade.Shader(attribute.GetPrim())
            if attribute.GetPrim() != shader.GetPrim() and source and source.GetInput("file"):
                channel: Channel = "alpha" if attribute.GetName().endswith(":a") else "red"
                texture = self._texture(source)
                return None if texture is None else Cutout(1.0, texture, channel, cutoff)
            value = attribute.Get(FIRST)
            if isinstance(value, int | float) and value < 1.0:
                return Cutout(max(float(value), 0.0), cutoff=cutoff)
        return None

    def _colour(
        self, shader: UsdShade.Shader, names: tuple[str, ...], default: Colour
    ) -> tuple[Colour, Texture | None]:
        for name in names:
            for attribute in _producing(shader, name):
                source = UsdShade.Shader(attribute.GetPrim())
                if attribute.GetPrim() != shader.GetPrim() and source and source.GetInput("file"):
                    texture = self._texture(source)
                    return (default, None) if texture is None else (self._scale(source), texture)
                value = attribute.Get(FIRST)
                if isinstance(value, Gf.Vec3f | Gf.Vec3d | Gf.Vec3h):
                    return (float(value[0]), float(value[1]), float(value[2])), None
        return default, None

    def _scale(self, source: UsdShade.Shader) -> Colour:
        """What a texture is multiplied by."""
        entry = source.GetInput("scale")
        value = entry.Get(FIRST) if entry else None
        bias = source.GetInput("bias")
        if bias and bias.Get(FIRST) is not None and any(list(bias.Get(FIRST))[:3]):
            self._warnings.append(f"{source.GetPath()}: its bias is skipped.")
        if source.GetInput("st") and any(
            UsdShade.Shader(attribute.GetPrim()).GetIdAttr().Get() == "UsdTransform2d"
            for attribute in _producing(source, "st")
        ):
            self._warnings.append(
                f"{source.GetPath()}: its texture is not turned or scaled as the file says."
            )
        return _WHITE if value is None else (float(value[0]), float(value[1]), float(value[2]))

    def _texture(self, shader: UsdShade.Shader) -> Texture | None:
        asset = shader.GetInput("file").Get(FIRST)
        where = asset.resolvedPath if asset else ""
        if not where:
            told = asset.path if asset else "without a name"
            tiles = " Textures in tiles are not read." if "<UDIM>" in str(told) else ""
            self._warnings.append(f"{shader.GetPath()}: texture {told} is missing.{tiles}")
            return None
        if not trust.is_allowed(where.partition("[")[0], self._folder):
            self._warnings.append(f"{shader.GetPath()}: texture {where}: {trust.refusal(where)}")
            return None
        if "[" not in where:
            return Texture(where, path=Path(where))
        opened = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(where))
        return Texture(where, content=bytes(opened.GetBuffer())) if opened else None


def material_subsets(prim: Usd.Prim) -> list[UsdGeom.Subset]:
    """The parts of a mesh that have materials of their own."""
    return list(UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()[:_MOST_SUBSETS])


def _producing(shader: UsdShade.Shader, name: str) -> list[Usd.Attribute]:
    """The attributes that an input's value comes from."""
    entry = shader.GetInput(name)
    return list(entry.GetValueProducingAttributes()) if entry else []


def _number(shader: UsdShade.Shader, name: str, default: float) -> float:
    """The value of an input that is a number."""
    values = [attribute.Get(FIRST) for attribute in _producing(shader, name)]
    return next((float(value) for value in values if isinstance(value, int | float)), default)


def _display_material(prim: Usd.Prim) -> Material:
    """What a thing without a material looks like: its display colour and opacity."""
    gprim = UsdGeom.Gprim(prim)
    opacity = gprim.GetDisplayOpacityAttr().Get(FIRST) if gprim else None
    seen = float(np.mean(opacity)) if opacity else 1.0
    cutout = Cutout(max(seen, 0.0)) if seen < 1.0 else None
    colours = gprim.GetDisplayColorAttr().Get(FIRST) if gprim else None
    if not colours:
        return Material(cutout=cutout) if cutout else _DEFAULT
    if len(colours) > 1:
        return Material("display colours", base=_WHITE, cutout=cutout)
    red, green, blue = (float(part) for part in colours[0])
    return Material("display colour", base=(red, green, blue), cutout=cutout)

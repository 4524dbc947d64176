"""Surfaces of glTF, as Kobrel draws them."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.read.gltf.container import Container
from kobrel.stage.read.gltf.document import Picture, Surface, TextureInfo, TextureTransform
from kobrel.stage.scene import Cutout, Material, Texture

_MOST_SEEN_THROUGH = 0.9
Change = Callable[[NDArray[np.float32]], NDArray[np.float32]]


class Materials:
    """The materials of a file, each read once.

    Parameters
    ----------
    warnings : where it is told what could not be read
    """

    def __init__(self, container: Container, warnings: list[str]) -> None:
        self._container, self._warnings = container, warnings
        self._known: dict[int | None, Material] = {None: Material(base=(0.8, 0.8, 0.8))}
        self._textures: dict[int, Texture | None] = {}

    def material(self, index: int | None) -> Material:
        """A material by its number; None is the format's default."""
        if index not in self._known:
            assert index is not None
            self._known[index] = self._read(index)
        return self._known[index]

    def coordinates(self, index: int | None) -> tuple[int, Change | None]:
        """Which set of texture coordinates a material uses, and how they are changed before."""
        if index is None:
            return 0, None
        surface = self._surface(index)
        info = self._base(surface)[1] or surface.emissiveTexture
        if info is None:
            return 0, None
        transform = info.extensions.KHR_texture_transform
        if transform is None:
            return info.texCoord, None
        own = transform.texCoord
        return info.texCoord if own is None else own, _change(transform)

    def _surface(self, index: int) -> Surface:
        return self._container.of(self._container.document.materials, index, "material")

    def _base(self, surface: Surface) -> tuple[tuple[float, ...], TextureInfo | None]:
        """Base colour with opacity, and its texture."""
        diffuse = surface.extensions.KHR_materials_pbrSpecularGlossiness
        if diffuse is not None:
            return diffuse.diffuseFactor, diffuse.diffuseTexture
        rough = surface.pbrMetallicRoughness
        return rough.baseColorFactor, rough.baseColorTexture

    def _read(self, index: int) -> Material:
        surface = self._surface(index)
        name = surface.name or f"material {index}"
        factor, info = self._base(surface)
        base = (factor[0], factor[1], factor[2])
        texture = self._texture(info)
        stronger = surface.extensions.KHR_materials_emissive_strength
        strength = 1.0 if stronger is None else stronger.emissiveStrength
        red, green, blue = (part * strength for part in surface.emissiveFactor)
        glow, glow_texture = (red, green, blue), self._texture(surface.emissiveTexture)
        cutout = self._cutout(surface, factor[3], texture)
        if surface.extensions.KHR_materials_unlit is not None:
            return Material(name, (0.0, 0.0, 0.0), base, None, texture, rough=1.0, cutout=cutout)
        rough = surface.pbrMetallicRoughness
        if surface.extensions.KHR_materials_pbrSpecularGlossiness is not None:
            return Material(name, base, glow, texture, glow_texture, cutout=cutout)
        return Material(
            name, base, glow, texture, glow_texture, rough.roughnessFactor, rough.metallicFactor,
            self._texture(rough.metallicRoughnessTexture), cutout,
        )  # fmt: skip

    def _cutout(self, surface: Surface, opacity: float, texture: Texture | None) -> Cutout | None:
        transmission = surface.extensions.KHR_materials_transmission
        if transmission is not None and transmission.transmissionFactor > 0:
            return Cutout(1.0 - _MOST_SEEN_THROUGH * min(transmission.transmissionFactor, 1.0))
        if surface.alphaMode == "OPAQUE":
            return None
        # With a cutoff of nought all of a masked surface is there.
        cutoff = min(max(surface.alphaCutoff, 1e-6), 1.0) if surface.alphaMode == "MASK" else 0.0
        opacity = min(max(opacity, 0.0), 1.0)
        return None if texture is None and opacity == 1.0 else Cutout(opacity, texture, "alpha", cutoff)

    def _texture(self, info: TextureInfo | None) -> Texture | None:
        if info is None:
            return None
        if info.index not in self._textures:
            self._textures[info.index] = self._read_texture(info.index)
        return self._textures[info.index]

    def _read_texture(self, index: int) -> Texture | None:
        container = self._container
        picture = container.of(container.document.textures, index, "texture")
        source = _source(picture)
        if source is None:
            self._warnings.append(f"texture {index}: it has no picture.")
            return None
        image = container.of(container.document.images, source, "image")
        name = image.name or image.uri or f"image {source}"
        if image.bufferView is not None:
            return Texture(name, content=bytes(container.view(image.bufferView)))
        if image.uri is None:
            return None
        try:
            content = container.named(image.uri, f"image {source}")
        except SceneError:  # told by what looks beside the scene
            return None
        return Texture(name[:80], content=content)


def _source(picture: Picture) -> int | None:
    """Which image a texture is: of a kind with more to it, where there is one; KTX2 last."""
    others = picture.extensions
    sources = (
        others.EXT_texture_avif.source, others.EXT_texture_webp.source, picture.source,
        others.KHR_texture_basisu.source,
    )  # fmt: skip
    return next((source for source in sources if source is not None), None)


def _change(transform: TextureTransform) -> Change:
    """Texture coordinates scaled, turned and moved (KHR_texture_transform); v runs downward."""
    move = np.asarray(transform.offset)
    cosine, sine = np.cos(transform.rotation), np.sin(transform.rotation)
    matrix = np.array([[cosine, sine], [-sine, cosine]]) @ np.diag(transform.scale)

    def change(uv: NDArray[np.float32]) -> NDArray[np.float32]:
        return np.asarray(uv @ matrix.T + move, np.float32)

    return change

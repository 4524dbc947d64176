"""The JSON of a glTF file, checked against what the format and its extensions allow.

Source: glTF 2.0 specification, chapter 5, and the registry of its extensions.

What an object's `extensions` holds is named as in the file; what is not named here is not read.
"""

from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, ValidationError

from kobrel.optics.lens import FocusSurface, LensModel

Index = Annotated[int, Field(ge=0, lt=2**31)]
Count = Annotated[int, Field(ge=0, lt=2**40)]
Numbers = tuple[FiniteFloat, ...]
_InTexture = Annotated[FiniteFloat, Field(ge=-1e6, le=1e6)]
_AcrossTexture = tuple[_InTexture, _InTexture]
Vector3 = tuple[FiniteFloat, FiniteFloat, FiniteFloat]
Vector4 = tuple[FiniteFloat, FiniteFloat, FiniteFloat, FiniteFloat]
Kind = Literal["SCALAR", "VEC2", "VEC3", "VEC4", "MAT2", "MAT3", "MAT4"]
OwnTrack = Annotated[
    tuple[Annotated[FiniteFloat, Field(gt=0, le=1e9)], ...], Field(min_length=1, max_length=60_000)
]
ComponentType = Literal[5120, 5121, 5122, 5123, 5125, 5126]


class _Object(BaseModel):
    model_config = ConfigDict(frozen=True)

    name: str = ""


class OwnClock(BaseModel):
    """How frames are counted in a file that Kobrel wrote, under ``kobrel`` in the asset's extras."""

    fps: Annotated[FiniteFloat, Field(ge=0.1, le=1000)]
    first: Annotated[FiniteFloat, Field(ge=-1e6, le=1e6)]


class OwnLens(BaseModel):
    """A lens in a file that Kobrel wrote, under ``kobrel`` in its camera's extras: a number for each frame,
    or one that does not change.
    """

    focalMm: OwnTrack
    fNumber: OwnTrack
    focusM: OwnTrack
    sensorWidthMm: Annotated[FiniteFloat, Field(gt=0, le=1e5)]
    sensorHeightMm: Annotated[FiniteFloat, Field(gt=0, le=1e5)]
    squeeze: Annotated[FiniteFloat, Field(ge=1, le=4)] = 1.0
    lensModel: LensModel = "render"
    focusSurface: FocusSurface = "plane"
    coneDeg: Annotated[FiniteFloat, Field(gt=0, lt=90)] = 1.0
    shiftMm: tuple[FiniteFloat, FiniteFloat] = (0.0, 0.0)
    irisBlades: Annotated[int, Field(ge=0, le=100)] = 0
    irisRoundness: Annotated[FiniteFloat, Field(ge=0, le=1)] = 0.0
    irisRotationDeg: FiniteFloat = 0.0


class Asset(BaseModel):
    version: str
    generator: str = ""
    extras: Any = None


class Version(BaseModel):
    version: str | float | None = None


class Versioned(BaseModel):
    """What a file of any version says of its own."""

    asset: Version | None = None


class Buffer(_Object):
    byteLength: Count
    uri: str | None = None


class Packed(BaseModel):
    """How a buffer view is compressed with meshopt."""

    buffer: Index
    byteLength: Count
    byteStride: Annotated[int, Field(ge=1, le=256)]
    count: Count
    mode: Literal["ATTRIBUTES", "TRIANGLES", "INDICES"]
    byteOffset: Count = 0
    filter: Literal["NONE", "OCTAHEDRAL", "QUATERNION", "EXPONENTIAL", "COLOR"] = "NONE"


class BufferViewExtensions(BaseModel):
    EXT_meshopt_compression: Packed | None = None
    KHR_meshopt_compression: Packed | None = None


class BufferView(_Object):
    buffer: Index
    byteLength: Count
    byteOffset: Count = 0
    byteStride: Annotated[int, Field(ge=1, le=65535)] | None = None
    extensions: BufferViewExtensions = BufferViewExtensions()

    @property
    def packed(self) -> Packed | None:
        """How it is compressed, or None."""
        return self.extensions.EXT_meshopt_compression or self.extensions.KHR_meshopt_compression


class SparseIndices(BaseModel):
    bufferView: Index
    componentType: ComponentType
    byteOffset: Count = 0


class SparseValues(BaseModel):
    bufferView: Index
    byteOffset: Count = 0


class Sparse(BaseModel):
    count: Count
    indices: SparseIndices
    values: SparseValues


class Accessor(_Object):
    componentType: ComponentType
    count: Count
    type: Kind
    bufferView: Index | None = None
    byteOffset: Count = 0
    normalized: bool = False
    sparse: Sparse | None = None


class Draco(BaseModel):
    bufferView: Index
    attributes: dict[str, Index]


class VariantMapping(BaseModel):
    material: Index
    variants: tuple[Index, ...] = ()


class VariantMappings(BaseModel):
    mappings: tuple[VariantMapping, ...] = ()


class PrimitiveExtensions(BaseModel):
    KHR_draco_mesh_compression: Draco | None = None
    KHR_materials_variants: VariantMappings | None = None


class Primitive(_Object):
    extensions: PrimitiveExtensions = PrimitiveExtensions()
    attributes: dict[str, Index]
    indices: Index | None = None
    material: Index | None = None
    mode: int = 4
    targets: tuple[dict[str, Index], ...] = ()


class MeshPart(_Object):
    primitives: tuple[Primitive, ...]
    weights: Numbers = ()


class TextureTransform(BaseModel):
    offset: _AcrossTexture = (0.0, 0.0)
    rotation: FiniteFloat = 0.0
    scale: _AcrossTexture = (1.0, 1.0)
    texCoord: Index | None = None


class TextureInfoExtensions(BaseModel):
    KHR_texture_transform: TextureTransform | None = None


class TextureInfo(_Object):
    extensions: TextureInfoExtensions = TextureInfoExtensions()
    index: Index
    texCoord: Index = 0


class Roughness(_Object):
    baseColorFactor: Vector4 = (1.0, 1.0, 1.0, 1.0)
    baseColorTexture: TextureInfo | None = None
    metallicFactor: FiniteFloat = 1.0
    roughnessFactor: FiniteFloat = 1.0
    metallicRoughnessTexture: TextureInfo | None = None


class EmissiveStrength(BaseModel):
    emissiveStrength: Annotated[FiniteFloat, Field(ge=0)] = 1.0


class Transmission(BaseModel):
    transmissionFactor: FiniteFloat = 0.0


class Diffuse(BaseModel):
    diffuseFactor: Vector4 = (1.0, 1.0, 1.0, 1.0)
    diffuseTexture: TextureInfo | None = None


class Unlit(BaseModel):
    pass


class SurfaceExtensions(BaseModel):
    KHR_materials_unlit: Unlit | None = None
    KHR_materials_emissive_strength: EmissiveStrength | None = None
    KHR_materials_transmission: Transmission | None = None
    KHR_materials_pbrSpecularGlossiness: Diffuse | None = None


class Surface(_Object):
    extensions: SurfaceExtensions = SurfaceExtensions()
    pbrMetallicRoughness: Roughness = Roughness()
    emissiveFactor: Vector3 = (0.0, 0.0, 0.0)
    emissiveTexture: TextureInfo | None = None
    alphaMode: Literal["OPAQUE", "MASK", "BLEND"] = "OPAQUE"
    alphaCutoff: FiniteFloat = 0.5


class OtherSource(BaseModel):
    source: Index | None = None


class PictureExtensions(BaseModel):
    EXT_texture_webp: OtherSource = OtherSource()
    EXT_texture_avif: OtherSource = OtherSource()
    KHR_texture_basisu: OtherSource = OtherSource()


class Picture(_Object):
    extensions: PictureExtensions = PictureExtensions()
    source: Index | None = None


class Image(_Object):
    uri: str | None = None
    bufferView: Index | None = None


class NodeLight(BaseModel):
    light: Index


class Instancing(BaseModel):
    attributes: dict[str, Index] = {}


class Visibility(BaseModel):
    visible: bool = True


class NodeExtensions(BaseModel):
    KHR_lights_punctual: NodeLight | None = None
    EXT_mesh_gpu_instancing: Instancing | None = None
    KHR_node_visibility: Visibility = Visibility()


class NodePart(_Object):
    extensions: NodeExtensions = NodeExtensions()
    children: tuple[Index, ...] = ()
    mesh: Index | None = None
    skin: Index | None = None
    camera: Index | None = None
    matrix: Annotated[Numbers, Field(min_length=16, max_length=16)] | None = None
    translation: Vector3 | None = None
    rotation: Vector4 | None = None
    scale: Vector3 | None = None
    weights: Numbers = ()


class ScenePart(_Object):
    nodes: tuple[Index, ...] = ()


class SkinPart(_Object):
    joints: tuple[Index, ...]
    inverseBindMatrices: Index | None = None


class Sampler(BaseModel):
    input: Index
    output: Index
    interpolation: Literal["LINEAR", "STEP", "CUBICSPLINE"] = "LINEAR"


class Target(_Object):
    path: str
    node: Index | None = None


class Channel(BaseModel):
    sampler: Index
    target: Target


class Animation(_Object):
    channels: tuple[Channel, ...]
    samplers: tuple[Sampler, ...]


class Perspective(BaseModel):
    yfov: Annotated[FiniteFloat, Field(gt=0, lt=3.15)]
    aspectRatio: Annotated[FiniteFloat, Field(gt=0)] | None = None
    znear: FiniteFloat = 0.0


class Orthographic(BaseModel):
    xmag: FiniteFloat
    ymag: FiniteFloat
    znear: FiniteFloat = 0.0


class CameraPart(_Object):
    extras: Any = None
    perspective: Perspective | None = None
    orthographic: Orthographic | None = None


class PunctualLight(_Object):
    type: str = "point"
    color: Vector3 = (1.0, 1.0, 1.0)
    intensity: FiniteFloat = 1.0


class Lights(BaseModel):
    lights: tuple[PunctualLight, ...] = ()


class Variants(BaseModel):
    variants: tuple[_Object, ...] = ()


class DocumentExtensions(BaseModel):
    KHR_lights_punctual: Lights = Lights()
    KHR_materials_variants: Variants = Variants()


class Document(BaseModel):
    """The whole file."""

    asset: Asset
    extensions: DocumentExtensions = DocumentExtensions()
    extensionsUsed: tuple[str, ...] = ()
    extensionsRequired: tuple[str, ...] = ()
    scene: Index | None = None
    scenes: tuple[ScenePart, ...] = ()
    nodes: tuple[NodePart, ...] = ()
    meshes: tuple[MeshPart, ...] = ()
    materials: tuple[Surface, ...] = ()
    textures: tuple[Picture, ...] = ()
    images: tuple[Image, ...] = ()
    accessors: tuple[Accessor, ...] = ()
    bufferViews: tuple[BufferView, ...] = ()
    buffers: tuple[Buffer, ...] = ()
    skins: tuple[SkinPart, ...] = ()
    animations: tuple[Animation, ...] = ()
    cameras: tuple[CameraPart, ...] = ()


Own = TypeVar("Own", OwnClock, OwnLens)


def own(kind: type[Own], extras: Any) -> Own | None:
    """What Kobrel wrote into extras; None where there is nothing, or somebody broke it."""
    if not isinstance(extras, dict) or "kobrel" not in extras:
        return None
    try:
        return kind.model_validate(extras["kobrel"])
    except ValidationError:
        return None

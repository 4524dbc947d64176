"""The JSON of a glTF file, checked against what the format allows (glTF 2.0 specification, chapter 5)."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat

Index = Annotated[int, Field(ge=0, lt=2**31)]
Count = Annotated[int, Field(ge=0, lt=2**40)]
Numbers = tuple[FiniteFloat, ...]
Extensions = dict[str, Any]
Vector3 = tuple[FiniteFloat, FiniteFloat, FiniteFloat]
Vector4 = tuple[FiniteFloat, FiniteFloat, FiniteFloat, FiniteFloat]
Kind = Literal["SCALAR", "VEC2", "VEC3", "VEC4", "MAT2", "MAT3", "MAT4"]
ComponentType = Literal[5120, 5121, 5122, 5123, 5125, 5126]


class _Object(BaseModel):
    model_config = ConfigDict(frozen=True)

    name: str = ""
    extensions: Extensions = {}


class Asset(BaseModel):
    version: str
    generator: str = ""


class Buffer(_Object):
    byteLength: Count
    uri: str | None = None


class BufferView(_Object):
    buffer: Index
    byteLength: Count
    byteOffset: Count = 0
    byteStride: Annotated[int, Field(ge=1, le=65535)] | None = None


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


class Primitive(_Object):
    attributes: dict[str, Index]
    indices: Index | None = None
    material: Index | None = None
    mode: int = 4
    targets: tuple[dict[str, Index], ...] = ()


class MeshPart(_Object):
    primitives: tuple[Primitive, ...]
    weights: Numbers = ()


class TextureInfo(_Object):
    index: Index
    texCoord: Index = 0


class Roughness(_Object):
    baseColorFactor: Vector4 = (1.0, 1.0, 1.0, 1.0)
    baseColorTexture: TextureInfo | None = None


class Surface(_Object):
    pbrMetallicRoughness: Roughness = Roughness()
    emissiveFactor: Vector3 = (0.0, 0.0, 0.0)
    emissiveTexture: TextureInfo | None = None
    alphaMode: Literal["OPAQUE", "MASK", "BLEND"] = "OPAQUE"
    alphaCutoff: FiniteFloat = 0.5


class Picture(_Object):
    source: Index | None = None


class Image(_Object):
    uri: str | None = None
    bufferView: Index | None = None


class NodePart(_Object):
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
    perspective: Perspective | None = None
    orthographic: Orthographic | None = None


class Document(BaseModel):
    """The whole file."""

    asset: Asset
    extensions: Extensions = {}
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

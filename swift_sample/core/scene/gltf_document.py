"""What a glTF 2.0 document may say, checked: the parts of its JSON that are read, with bounds.

Names follow the standard (Khronos glTF 2.0, and the ratified extensions) in lower case with
underscores.
"""

from typing import Any, Literal, TypeVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

from swift_sample.core.budget import FILE_BYTES

Vec3 = tuple[float, float, float]


class Part(BaseModel):
    """Unknown members are ignored, as the standard asks; numbers must be finite."""

    model_config = ConfigDict(extra="ignore", allow_inf_nan=False, alias_generator=to_camel)


class SparseIndices(Part):
    buffer_view: int = Field(ge=0)
    byte_offset: int = Field(0, ge=0)
    component_type: int


class SparseValues(Part):
    buffer_view: int = Field(ge=0)
    byte_offset: int = Field(0, ge=0)


class Sparse(Part):
    count: int = Field(ge=1)
    indices: SparseIndices
    values: SparseValues


class Accessor(Part):
    buffer_view: int | None = Field(None, ge=0)
    byte_offset: int = Field(0, ge=0)
    component_type: int
    count: int = Field(ge=1, le=1 << 30)
    type: str
    normalized: bool = False
    sparse: Sparse | None = None


class View(Part):
    buffer: int = Field(ge=0)
    byte_offset: int = Field(0, ge=0)
    byte_length: int = Field(ge=1)
    byte_stride: int | None = Field(None, ge=4, le=252)


class Buffer(Part):
    byte_length: int = Field(ge=1, le=FILE_BYTES)
    uri: str | None = None


class VariantMapping(Part):
    variants: list[int] = []
    material: int = Field(ge=0)


class Variants(Part):
    mappings: list[VariantMapping] = []


class Primitive(Part):
    attributes: dict[str, int]
    indices: int | None = Field(None, ge=0)
    material: int | None = Field(None, ge=0)
    mode: int = 4
    extensions: dict[str, Any] = {}


class MeshPart(Part):
    name: str = "mesh"
    primitives: list[Primitive]


class Node(Part):
    name: str = ""
    children: list[int] = []
    matrix: list[float] | None = Field(None, min_length=16, max_length=16)
    translation: list[float] = Field([0, 0, 0], min_length=3, max_length=3)
    rotation: list[float] = Field([0, 0, 0, 1], min_length=4, max_length=4)
    scale: list[float] = Field([1, 1, 1], min_length=3, max_length=3)
    mesh: int | None = Field(None, ge=0)
    camera: int | None = Field(None, ge=0)
    extensions: dict[str, Any] = {}


class Perspective(Part):
    yfov: float = Field(gt=0, lt=np.pi)


class Orthographic(Part):
    ymag: float = Field(gt=0, le=1e9)


class CameraPart(Part):
    name: str = ""
    type: Literal["perspective", "orthographic"] = "perspective"
    perspective: Perspective | None = None
    orthographic: Orthographic | None = None


class Transform(Part):
    """KHR_texture_transform."""

    offset: tuple[float, float] = (0, 0)
    rotation: float = 0
    scale: tuple[float, float] = (1, 1)
    tex_coord: int | None = Field(None, ge=0)


class TextureInfo(Part):
    index: int = Field(ge=0)
    tex_coord: int = Field(0, ge=0)
    scale: float = 1
    extensions: dict[str, Any] = {}


class TexturePart(Part):
    source: int | None = Field(None, ge=0)
    sampler: int | None = Field(None, ge=0)


class Sampler(Part):
    mag_filter: int | None = None
    wrap_s: int = 10497
    wrap_t: int = 10497


class Image(Part):
    name: str = ""
    uri: str | None = None
    buffer_view: int | None = Field(None, ge=0)


class Surface(Part):
    base_color_factor: tuple[float, float, float, float] = (1, 1, 1, 1)
    base_color_texture: TextureInfo | None = None
    metallic_factor: float = Field(1, ge=0, le=1)
    roughness_factor: float = Field(1, ge=0, le=1)
    metallic_roughness_texture: TextureInfo | None = None


class MaterialPart(Part):
    name: str = "material"
    pbr_metallic_roughness: Surface = Field(default_factory=lambda: Surface.model_validate({}))
    normal_texture: TextureInfo | None = None
    emissive_texture: TextureInfo | None = None
    emissive_factor: Vec3 = (0, 0, 0)
    alpha_mode: Literal["OPAQUE", "MASK", "BLEND"] = "OPAQUE"
    alpha_cutoff: float = Field(0.5, ge=0)
    double_sided: bool = False
    extensions: dict[str, Any] = {}


class EmissiveStrength(Part):
    emissive_strength: float = Field(1, ge=0, le=1e9)


class Ior(Part):
    ior: float = Field(1.5, ge=0, le=100)


class Specular(Part):
    specular_factor: float = Field(1, ge=0, le=1)
    specular_texture: TextureInfo | None = None
    specular_color_factor: Vec3 = (1, 1, 1)
    specular_color_texture: TextureInfo | None = None


class Transmission(Part):
    transmission_factor: float = Field(0, ge=0, le=1)
    transmission_texture: TextureInfo | None = None


class Volume(Part):
    thickness_factor: float = Field(0, ge=0, le=1e9)
    attenuation_distance: float = Field(1e30, gt=0)
    attenuation_color: Vec3 = (1, 1, 1)


class Clearcoat(Part):
    clearcoat_factor: float = Field(0, ge=0, le=1)
    clearcoat_texture: TextureInfo | None = None
    clearcoat_roughness_factor: float = Field(0, ge=0, le=1)
    clearcoat_roughness_texture: TextureInfo | None = None
    clearcoat_normal_texture: TextureInfo | None = None


class Sheen(Part):
    sheen_color_factor: Vec3 = (0, 0, 0)
    sheen_color_texture: TextureInfo | None = None
    sheen_roughness_factor: float = Field(0, ge=0, le=1)
    sheen_roughness_texture: TextureInfo | None = None


class DiffuseTransmission(Part):
    diffuse_transmission_factor: float = Field(0, ge=0, le=1)
    diffuse_transmission_texture: TextureInfo | None = None
    diffuse_transmission_color_factor: Vec3 = (1, 1, 1)
    diffuse_transmission_color_texture: TextureInfo | None = None


class Spot(Part):
    inner_cone_angle: float = Field(0, ge=0, le=np.pi / 2)
    outer_cone_angle: float = Field(np.pi / 4, ge=0, le=np.pi / 2)


class LightPart(Part):
    type: Literal["point", "spot", "directional"]
    color: Vec3 = (1, 1, 1)
    intensity: float = Field(1, ge=0, le=1e12)
    name: str = ""
    spot: Spot = Field(default_factory=lambda: Spot.model_validate({}))


class Lights(Part):
    lights: list[LightPart] = []


class LightOfNode(Part):
    light: int = Field(ge=0)


class Instancing(Part):
    attributes: dict[str, int] = {}


class VariantName(Part):
    name: str


class VariantNames(Part):
    variants: list[VariantName] = []


class Channel(Part):
    class Target(Part):
        node: int | None = Field(None, ge=0)
        path: str

    sampler: int = Field(ge=0)
    target: Target


class AnimationSampler(Part):
    input: int = Field(ge=0)
    output: int = Field(ge=0)
    interpolation: Literal["LINEAR", "STEP", "CUBICSPLINE"] = "LINEAR"


class Animation(Part):
    channels: list[Channel] = []
    samplers: list[AnimationSampler] = []


class ScenePart(Part):
    nodes: list[int] = []


class Document(Part):
    asset: dict[str, Any]
    extensions_required: list[str] = []
    extensions_used: list[str] = []
    extensions: dict[str, Any] = {}
    extras: Any = None
    scene: int = Field(0, ge=0)
    scenes: list[ScenePart] = []
    nodes: list[Node] = []
    meshes: list[MeshPart] = []
    cameras: list[CameraPart] = []
    materials: list[MaterialPart] = []
    accessors: list[Accessor] = []
    buffer_views: list[View] = []
    buffers: list[Buffer] = []
    textures: list[TexturePart] = []
    samplers: list[Sampler] = []
    images: list[Image] = []
    animations: list[Animation] = []


P = TypeVar("P", bound=Part)


def extension(extensions: dict[str, Any], name: str, kind: type[P]) -> P:
    """An extension's object, or its defaults where it is not used. Raises ValidationError."""
    return kind.model_validate(extensions.get(name, {}))

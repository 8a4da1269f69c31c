"""The scene model: plain data, in metres, right-handed, +Y up, the camera looking along its own -Z.

Everything is in world space, at one moment. Colours are linear Rec. 709; light units follow glTF:
emission is radiance, point and spot lights are radiant intensity, directional lights are
irradiance.
"""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from swift_sample.core.errors import SceneError

Colour = tuple[float, float, float]

MEDIUM_PRIORITY_WALL = 2
"""Closed volumes nest: where two overlap, the one of higher priority rules. Walls of vessels use
this."""
MEDIUM_PRIORITY_CONTENT = 1

OPAQUE = "opaque"
MASK = "mask"
BLEND = "blend"
"""What a material's opacity means: nothing, all or none at the cut-off, or the share of light that
is stopped."""

REPEAT, MIRROR, CLAMP = 0, 1, 2
"""What a texture shows beyond its edges."""


@dataclass(frozen=True)
class PictureSource:
    """Pixels that are made or decoded only when they are needed; `key` names their content.

    `make` returns uint8[h, w, 4] of `size` (width, height) and may raise SceneError.
    """

    key: str
    size: tuple[int, int]
    make: Callable[[], np.ndarray]

    def __reduce__(self) -> tuple[object, ...]:
        """Pickled with its pixels: what makes them may be anything."""
        return PictureSource, (self.key, self.size, _Pixels(self.make()))


@dataclass(frozen=True)
class _Pixels:
    """Makes pixels that are there."""

    pixels: np.ndarray

    def __call__(self) -> np.ndarray:
        return self.pixels


@dataclass
class Texture:
    """A picture on a surface: uint8[h, w, 4], row 0 at v = 0. `srgb` says how its first three
    channels are coded."""

    name: str
    source: np.ndarray | PictureSource
    srgb: bool = True
    wrap: tuple[int, int] = (REPEAT, REPEAT)
    nearest: bool = False

    @property
    def pixels(self) -> np.ndarray:
        """uint8[h, w, 4], made anew at each call where the source is deferred. Raises
        SceneError."""
        return self.source if isinstance(self.source, np.ndarray) else self.source.make()

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in texels."""
        return (
            (self.source.shape[1], self.source.shape[0])
            if isinstance(self.source, np.ndarray)
            else self.source.size
        )

    @property
    def key(self) -> str:
        """Names the content: equal keys, equal pixels."""
        if isinstance(self.source, np.ndarray):
            return hashlib.sha256(np.ascontiguousarray(self.source).tobytes()).hexdigest()
        return self.source.key


@dataclass
class TextureUse:
    """A texture with its place on the surface: `transform` float[2, 3] is applied to (u, v, 1) of a
    set of coordinates."""

    texture: Texture
    transform: np.ndarray = field(default_factory=lambda: np.array([[1.0, 0, 0], [0, 1, 0]]))
    uv_set: int = 0


def repeated(texture: Texture, u: float, v: float) -> TextureUse:
    """A texture that appears this often along each coordinate."""
    return TextureUse(texture, np.array([[u, 0.0, 0], [0, v, 0]]))


@dataclass
class Subsurface:
    """Scattering below the surface: mean free path in metres and the share of light kept at each
    scattering."""

    mean_free_path: Colour
    albedo: Colour


@dataclass
class Displacement:
    """Moves a surface along its normal by (brightness of the first channel - 0.5) times `scale`
    metres."""

    use: TextureUse
    scale: float


@dataclass(kw_only=True)
class Material:
    """A surface, and the inside of a closed volume where `transmission` > 0 and `thin` is false.

    Roughnesses are perceptual (their square is the GGX alpha). `absorption` is per metre and
    colour, `ior` is relative to air. `emission` is radiance, leaving the front side only.
    `textures` maps the names of TEXTURE_SLOTS to uses, which multiply the factor of that name.
    """

    name: str
    base_colour: Colour = (0.8, 0.8, 0.8)
    metallic: float = 0.0
    roughness: float = 0.5
    ior: float = 1.5
    transmission: float = 0.0
    thin: bool = False
    absorption: Colour = (0.0, 0.0, 0.0)
    priority: int = MEDIUM_PRIORITY_WALL
    emission: Colour = (0.0, 0.0, 0.0)
    opacity: float = 1.0
    opacity_mode: str = OPAQUE
    opacity_cutoff: float = 0.5
    specular: float = 1.0
    specular_colour: Colour = (1.0, 1.0, 1.0)
    coat: float = 0.0
    coat_roughness: float = 0.0
    sheen_colour: Colour = (0.0, 0.0, 0.0)
    sheen_roughness: float = 0.0
    diffuse_transmission: float = 0.0
    diffuse_transmission_colour: Colour = (1.0, 1.0, 1.0)
    normal_scale: float = 1.0
    coat_normal_scale: float = 1.0
    subsurface: Subsurface | None = None
    displacement: Displacement | None = None
    unlit: bool = False
    double_sided: bool = True
    textures: dict[str, TextureUse] = field(default_factory=dict)


TEXTURE_SLOTS = (
    "base",
    "metal_rough",
    "normal",
    "emission",
    "transmission",
    "coat",
    "coat_roughness",
    "coat_normal",
    "sheen_colour",
    "sheen_roughness",
    "specular",
    "specular_colour",
    "diffuse_transmission",
    "diffuse_transmission_colour",
)
"""What a texture can change; channels are those of glTF."""


def _none(width: int) -> np.ndarray:
    return np.zeros((0, width), np.float32)


@dataclass(kw_only=True)
class Mesh:
    """Triangles of one object.

    positions: float32[n, 3]; corners: int32[t, 3], counter-clockwise seen from the front. The rest
    may be empty: normals float32[n, 3], unit, else flat shading; uvs and second_uvs float32[n, 2];
    colours float32[n, 4], linear; motion float32[n, 3], how far each vertex moves while the shutter
    is open. `camera_only` meshes are met by rays from the camera alone; those that are not
    `divided` stay as they are where the scene is cut finer.
    """

    name: str
    material: int
    positions: np.ndarray
    corners: np.ndarray
    normals: np.ndarray = field(default_factory=lambda: _none(3))
    uvs: np.ndarray = field(default_factory=lambda: _none(2))
    second_uvs: np.ndarray = field(default_factory=lambda: _none(2))
    colours: np.ndarray = field(default_factory=lambda: _none(4))
    motion: np.ndarray = field(default_factory=lambda: _none(3))
    camera_only: bool = False
    divided: bool = True

    @property
    def memory_bytes(self) -> int:
        return sum(
            a.nbytes
            for a in (
                self.positions,
                self.corners,
                self.normals,
                self.uvs,
                self.second_uvs,
                self.colours,
                self.motion,
            )
        )


@dataclass
class Pose:
    """Where a camera stands and where it looks."""

    position: Colour = (0.0, 1.0, 4.0)
    target: Colour = (0.0, 0.0, 0.0)
    up: Colour = (0.0, 1.0, 0.0)


@dataclass(kw_only=True)
class Camera:
    """A camera at `position` looking at `target`.

    `vertical_field` is in radians; where `half_height` is given, the camera is orthographic and
    sees that far up and down, in metres. A lens of radius `aperture` metres is sharp at
    `focus_distance`; 0 is a pinhole. `closing` is the pose when the shutter closes, where the
    camera moves.
    """

    position: Colour = (0.0, 1.0, 4.0)
    target: Colour = (0.0, 0.0, 0.0)
    up: Colour = (0.0, 1.0, 0.0)
    vertical_field: float = 0.7
    half_height: float | None = None
    aperture: float = 0.0
    focus_distance: float = 1.0
    closing: Pose | None = None


POINT = "point"
SPOT = "spot"
DIRECTIONAL = "directional"


@dataclass(kw_only=True)
class Light:
    """A light without size. `colour` includes its strength; cones are angles in radians from
    `direction`. Without `shadow` nothing stands in its way."""

    kind: str
    colour: Colour
    position: Colour = (0.0, 0.0, 0.0)
    direction: Colour = (0.0, 0.0, -1.0)
    inner_cone: float = 0.0
    outer_cone: float = 0.7853981633974483
    shadow: bool = True
    name: str = ""


@dataclass
class Environment:
    """Light from everywhere: float32[h, w, 3] radiance. First row +Y, centre towards -Z, columns to
    the right.

    `turn` rotates it around +Y, in radians, counter-clockwise seen from above.
    """

    pixels: np.ndarray = field(default_factory=lambda: np.zeros((1, 1, 3), np.float32))
    turn: float = 0.0


@dataclass(kw_only=True)
class Haze:
    """A medium that fills a box in air: coefficients per metre, times `density`, float32[z, y, x]
    over the box."""

    low: Colour
    high: Colour
    scattering: Colour
    absorption: Colour = (0.0, 0.0, 0.0)
    anisotropy: float = 0.0
    density: np.ndarray = field(default_factory=lambda: np.ones((1, 1, 1), np.float32))


@dataclass(kw_only=True)
class Scene:
    """All that is rendered. `notes` are sentences about what was added or left out while
    reading."""

    name: str
    meshes: list[Mesh]
    materials: list[Material]
    camera: Camera
    environment: Environment
    notes: list[str] = field(default_factory=list)
    lights: list[Light] = field(default_factory=list)
    haze: Haze | None = None
    variants: tuple[str, ...] = ()
    frames: int = 1
    cameras: dict[str, Camera] = field(default_factory=dict)
    """those of the file by name, `camera` the first of them"""

    @property
    def triangle_count(self) -> int:
        return sum(len(mesh.corners) for mesh in self.meshes)

    @property
    def textures(self) -> list[Texture]:
        """Every texture once."""
        uses = [use for m in self.materials for use in m.textures.values()]
        uses += [m.displacement.use for m in self.materials if m.displacement]
        return list({id(use.texture): use.texture for use in uses}.values())

    @property
    def memory_bytes(self) -> int:
        """Memory held by geometry and the environment."""
        return sum(m.memory_bytes for m in self.meshes) + self.environment.pixels.nbytes


@dataclass(frozen=True)
class Choices:
    """What of a scene is shown: the settings that change it before anything is built.

    `variant` is the name of one of the scene's variants, empty for the file's default. `frame`
    counts from 0; the shutter is open for the share `shutter` of a frame. Each step of
    `subdivision` cuts every triangle into four.
    """

    variant: str = ""
    subdivision: int = 0
    displacement: bool = True
    frame: int = 0
    shutter: float = 0.0


def check_variant(scene: str, wanted: str, names: tuple[str, ...]) -> None:
    """Raises SceneError with the names that there are, where `wanted` is none of them."""
    if wanted and wanted not in names:
        there = f"there are {', '.join(names)}" if names else "it has none"
        raise SceneError(f"{scene}: geometry.variant={wanted} is not one of its variants; {there}")

"""The scene model: plain data, in metres, right-handed, +Y up, the camera looking along its own -Z.

Everything is in world space. Colours are linear Rec. 709; light units follow glTF: emission is radiance.
"""

from dataclasses import dataclass, field

import numpy as np

Colour = tuple[float, float, float]

MEDIUM_PRIORITY_WALL = 2
"""Closed volumes nest: where two overlap, the one of higher priority rules. Walls of vessels use this."""
MEDIUM_PRIORITY_CONTENT = 1


@dataclass
class Texture:
    """A picture on a surface: linear RGB, float32[h, w, 3], row 0 at v = 0; repeats in both directions."""

    name: str
    pixels: np.ndarray


@dataclass
class Material:
    """A surface, and the inside of a closed volume where `transmission` > 0 and `thin` is false.

    `roughness` is perceptual (its square is the GGX alpha). `absorption` is per metre and colour, `ior` is relative
    to air. `emission` is radiance, leaving the front side only.
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
    base_texture: Texture | None = None
    texture_repeat: tuple[float, float] = (1.0, 1.0)


@dataclass
class Mesh:
    """Triangles of one object.

    positions: float32[n, 3]; normals: float32[n, 3], unit, or empty for flat shading; uvs: float32[n, 2], or empty;
    corners: int32[t, 3], counter-clockwise seen from the front.
    """

    name: str
    material: int
    positions: np.ndarray
    corners: np.ndarray
    normals: np.ndarray = field(default_factory=lambda: np.zeros((0, 3), np.float32))
    uvs: np.ndarray = field(default_factory=lambda: np.zeros((0, 2), np.float32))


@dataclass
class Camera:
    """A pinhole camera at `position` looking at `target`; `vertical_field` in radians."""

    position: Colour = (0.0, 1.0, 4.0)
    target: Colour = (0.0, 0.0, 0.0)
    up: Colour = (0.0, 1.0, 0.0)
    vertical_field: float = 0.7


@dataclass
class Environment:
    """Light from everywhere: float32[h, w, 3] radiance. First row +Y, centre towards -Z, columns to the right."""

    pixels: np.ndarray = field(default_factory=lambda: np.zeros((1, 1, 3), np.float32))


@dataclass
class Scene:
    """All that is rendered. `notes` are sentences about what was added or left out while reading."""

    name: str
    meshes: list[Mesh]
    materials: list[Material]
    camera: Camera
    environment: Environment
    notes: list[str] = field(default_factory=list)

    @property
    def triangle_count(self) -> int:
        return sum(len(mesh.corners) for mesh in self.meshes)

    @property
    def memory_bytes(self) -> int:
        """Memory held by geometry and textures."""
        geometry = sum(m.positions.nbytes + m.normals.nbytes + m.uvs.nbytes + m.corners.nbytes for m in self.meshes)
        textures = {id(m.base_texture): m.base_texture.pixels.nbytes for m in self.materials if m.base_texture}
        return geometry + sum(textures.values()) + self.environment.pixels.nbytes

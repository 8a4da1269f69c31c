"""How much light everything in a scene sends out, in watts of luminance-weighted radiant flux."""

import numpy as np

from swift_sample.core.picture.colour import LUMINANCE, srgb_decoded
from swift_sample.core.scene.model import DIRECTIONAL, SPOT, Light, Mesh, Scene, Texture

CLOSED = 1e-3
"""A surface whose areas add up, as vectors, to less than this share of their sizes has an
inside."""


def mean_of(texture: Texture) -> np.ndarray:
    """The mean of a texture's linear values, float[4]."""
    pixels = texture.pixels.astype(np.float64) / 255
    colour = srgb_decoded(pixels[..., :3]) if texture.srgb else pixels[..., :3]
    return np.array([*colour.mean(axis=(0, 1)), pixels[..., 3].mean()])


def areas_of(mesh: Mesh) -> np.ndarray:
    """Of every triangle, square metres."""
    a, b, c = (mesh.positions[mesh.corners[:, k]].astype(float) for k in range(3))
    areas: np.ndarray = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
    return areas


def sent_from(scene: Scene, mesh: Mesh) -> np.ndarray:
    """Flux over pi that a glowing object sends out, float[3]: area times mean radiance, on both
    sides where it is open and its material has two."""
    material = scene.materials[mesh.material]
    glow = np.asarray(material.emission, float)
    areas = areas_of(mesh)
    use = material.textures.get("emission")

    if use is not None:
        glow = glow * mean_of(use.texture)[:3]

    a, b, c = (mesh.positions[mesh.corners[:, k]].astype(float) for k in range(3))
    is_open = np.linalg.norm(np.cross(b - a, c - a).sum(axis=0)) / 2 > CLOSED * areas.sum()
    sent: np.ndarray = glow * areas.sum() * (2 if material.double_sided and is_open else 1)

    return sent


def sky_mean(scene: Scene) -> np.ndarray:
    """Mean radiance of the environment over all directions, float[3]."""
    pixels = scene.environment.pixels
    rows = len(pixels)
    edges = np.cos(np.pi * np.arange(rows + 1) / rows)
    weights = (edges[:-1] - edges[1:]) / 2
    mean: np.ndarray = (pixels.mean(axis=1) * weights[:, None]).sum(axis=0)

    return mean


def material_power(scene: Scene, names: set[str]) -> float:
    """Of all glowing surfaces with materials of these names."""
    lit = (mesh for mesh in scene.meshes if scene.materials[mesh.material].name in names)
    return float(
        sum(
            np.pi * float(sent_from(scene, mesh) @ LUMINANCE)
            for mesh in lit
            if is_glowing(scene, mesh)
        )
    )


def is_glowing(scene: Scene, mesh: Mesh) -> bool:
    return max(scene.materials[mesh.material].emission) > 0


def light_power(scene: Scene, light: Light) -> float:
    """Of a lamp; of a directional one, what falls into the scene's bounding sphere."""
    strength = float(np.asarray(light.colour, float) @ LUMINANCE)
    if light.kind == DIRECTIONAL:
        return strength * np.pi * _radius(scene) ** 2
    if light.kind == SPOT:
        return strength * 2 * np.pi * (1 - np.cos((light.inner_cone + light.outer_cone) / 2))

    return strength * 4 * np.pi


def total_power(scene: Scene) -> float:
    """Of everything; of the sky, what falls into the scene's bounding sphere."""
    sky = float(sky_mean(scene) @ LUMINANCE) * 4 * np.pi**2 * _radius(scene) ** 2
    lamps = sum(light_power(scene, light) for light in scene.lights)
    return sky + lamps + material_power(scene, {material.name for material in scene.materials})


def _radius(scene: Scene) -> float:
    ends = [
        (mesh.positions.min(axis=0), mesh.positions.max(axis=0))
        for mesh in scene.meshes
        if len(mesh.positions)
    ]
    if not ends:
        return 0.0

    low, high = (pick([end[k] for end in ends], axis=0) for k, pick in enumerate((np.min, np.max)))
    return float(np.linalg.norm(high - low)) / 2

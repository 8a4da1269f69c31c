"""A scene for benchmarks: a lime tree's branches over a meadow, leaves cut out of squares, under
sun and sky."""

import numpy as np

from swift_sample.core.scene.honey_textures import with_opacity
from swift_sample.core.scene.model import (
    DIRECTIONAL,
    MASK,
    Camera,
    Environment,
    Light,
    Material,
    Mesh,
    Scene,
    Texture,
    TextureUse,
)
from swift_sample.core.scene.shapes import lathe, placed, sheet

LEAVES, BLADES, SEED = 5000, 9000, 11


def foliage() -> Scene:
    """The tree."""
    rng = np.random.default_rng(SEED)
    leaf = TextureUse(Texture("leaf", _leaf(64)))
    blade = TextureUse(Texture("blade", _blade(32)))

    materials = [
        Material(name="earth", base_colour=(0.16, 0.11, 0.07), roughness=0.9),
        Material(name="bark", base_colour=(0.17, 0.12, 0.08), roughness=0.9),
        Material(
            name="leaves",
            roughness=0.45,
            opacity_mode=MASK,
            textures={"base": leaf},
            diffuse_transmission=0.4,
            diffuse_transmission_colour=(0.45, 0.75, 0.12),
        ),
        Material(name="grass", roughness=0.6, opacity_mode=MASK, textures={"base": blade}),
    ]
    ground = sheet("ground", 0, 8, 8, lambda u, v: ((u - 0.5) * 30, 0 * u, (0.5 - v) * 30))
    trunk = lathe(
        "trunk", 1, [(0.34, 0.0), (0.26, 0.5), (0.22, 1.4), (0.16, 2.4), (0.05, 3.6)], 24, 4
    )
    turns = rng.uniform(0, 2 * np.pi, LEAVES)
    heights = rng.uniform(0, 1, LEAVES)
    reach = (
        1.7
        * np.sqrt(np.clip(np.sin(np.pi * (0.1 + 0.85 * heights)), 0, 1))
        * np.cbrt(rng.uniform(0.15, 1, LEAVES))
    )
    crown = np.stack([reach * np.cos(turns), 1.5 + 2.9 * heights, reach * np.sin(turns)], axis=1)
    far = 9 * np.sqrt(rng.uniform(0, 1, BLADES))
    where = rng.uniform(0, 2 * np.pi, BLADES)
    lawn = np.stack([far * np.cos(where), np.full(BLADES, 0.11), far * np.sin(where)], axis=1)

    meshes = [
        ground,
        placed(trunk, (0, 0, 0)),
        _squares("crown", 2, crown, 0.16, rng.normal(size=(LEAVES, 3)) + (0, 0.6, 0), rng),
        _squares(
            "meadow",
            3,
            lawn,
            0.24,
            np.stack([np.cos(where * 7), 0.15 + 0 * where, np.sin(where * 7)], 1),
            None,
        ),
    ]
    tall = 32
    wide = 64
    up = np.sin(np.linspace(np.pi / 2, -np.pi / 2, tall))[:, None, None]
    sky = np.where(
        up > 0, (0.35, 0.55, 1.0) + np.exp(-4 * up) * np.array([0.7, 0.5, 0.1]), (0.12, 0.11, 0.09)
    )
    pixels = np.broadcast_to(sky, (tall, wide, 3)).astype(np.float32).copy()
    sun = Light(kind=DIRECTIONAL, colour=(5.5, 4.9, 3.8), direction=(-0.55, -0.62, -0.56))
    camera = Camera(position=(3.2, 1.2, 5.4), target=(0.0, 2.3, 0.0), vertical_field=0.85)

    return Scene(
        name="foliage",
        meshes=meshes,
        materials=materials,
        camera=camera,
        environment=Environment(pixels),
        lights=[sun],
    )


def _squares(
    name: str,
    material: int,
    middles: np.ndarray,
    side: float,
    normals: np.ndarray,
    rng: np.random.Generator | None,
) -> Mesh:
    """Squares around points, turned at random, or upright."""
    normals = normals / np.linalg.norm(normals, axis=1, keepdims=True)
    up = (
        rng.normal(size=normals.shape)
        if rng is not None
        else np.broadcast_to([0.0, 1.0, 0.0], normals.shape)
    )
    across = np.cross(up, normals)
    across /= np.linalg.norm(across, axis=1, keepdims=True)
    down = np.cross(across, normals)
    corners = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)], float) * side / 2
    points = (
        middles[:, None]
        + corners[None, :, :1] * across[:, None]
        + corners[None, :, 1:] * down[:, None]
    )
    count = len(middles)
    first = 4 * np.arange(count)[:, None]
    faces = np.concatenate([first + (0, 2, 1), first + (0, 3, 2)]).astype(np.int32)
    uvs = np.tile(np.array([(0, 0), (1, 0), (1, 1), (0, 1)], np.float32), (count, 1))

    return Mesh(
        name=name,
        material=material,
        positions=points.reshape(-1, 3).astype(np.float32),
        corners=faces,
        normals=np.repeat(normals, 4, 0).astype(np.float32),
        uvs=uvs,
    )


def _leaf(size: int) -> np.ndarray:
    """A pointed leaf with its veins."""
    x, y = np.meshgrid(np.linspace(-1, 1, size), np.linspace(0, 1, size))
    inside = np.abs(x) < 0.82 * np.sin(np.pi * y**0.8) ** 0.9
    vein = np.exp(-((x / 0.05) ** 2)) + 0.5 * np.exp(
        -((np.mod(6 * y - 2 * np.abs(x), 1) / 0.12) ** 2)
    )
    shade = np.clip(0.75 + 0.35 * vein, 0, 1.3)[..., None] * np.array([92, 138, 38])

    return with_opacity(np.clip(shade, 0, 255), np.where(inside, 255, 0))


def _blade(size: int) -> np.ndarray:
    """Three blades of grass."""
    x, y = np.meshgrid(np.linspace(-1, 1, size), np.linspace(1, 0, size))
    inside = np.zeros_like(x, bool)
    for root, lean, wide in ((-0.5, -0.25, 0.16), (0.05, 0.15, 0.2), (0.55, 0.3, 0.15)):
        inside |= np.abs(x - root - lean * y**2) < wide * (1 - y)

    shade = (0.55 + 0.6 * y)[..., None] * np.array([82, 128, 44])
    return with_opacity(np.clip(shade, 0, 255), np.where(inside, 255, 0))

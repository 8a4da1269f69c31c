"""The second demo scene, "the honey room": a pantry that a small window lights from the side.

Nearly all light that reaches the camera has bounced off the walls, so few bounces darken the far
corner, and where neither sun nor sky is seen directly there is much grain.
"""

import numpy as np

from swift_sample.core.scene import honey_textures as textures
from swift_sample.core.scene.honey_parts import SEED, SIZES, Builder, jar, jar_materials
from swift_sample.core.scene.kept import kept
from swift_sample.core.scene.model import (
    DIRECTIONAL,
    Camera,
    Choices,
    Environment,
    Light,
    Material,
    Scene,
    check_variant,
    repeated,
)
from swift_sample.core.scene.shapes import ball, box, lathe, placed

LEFT = -0.80
RIGHT = 0.72
FLOOR = -0.52
CEILING = 0.86
BACK = -0.52
FRONT = 1.45
WALL = 0.12
WINDOW_Y = (0.02, 0.62)
WINDOW_Z = (-0.22, 0.34)


def honey_room(choices: Choices | None = None) -> Scene:
    """The pantry. Raises SceneError for an unknown variant."""
    check_variant("honey room", (choices or Choices()).variant, ())
    return kept("honey room", _modelled)


def _modelled() -> Scene:
    b = Builder(SIZES["standard"])
    _walls(b)
    _shelves(b)
    camera = Camera(
        position=(0.26, 0.28, 0.98),
        target=(-0.06, 0.150, -0.40),
        vertical_field=0.46,
        aperture=0.003,
        focus_distance=1.38,
    )
    sun = Light(kind=DIRECTIONAL, colour=(22.0, 17.5, 12.0), direction=(0.80, -0.42, -0.43))

    return Scene(
        name="honey room",
        meshes=b.meshes,
        materials=b.materials,
        camera=camera,
        environment=_sky(),
        lights=[sun],
    )


def _sky() -> Environment:
    """A bright sky over a lawn."""
    rise = np.linspace(np.pi / 2, -np.pi / 2, 32)[:, None, None]
    up = np.clip(np.sin(rise), 0, 1)
    sky = np.array([5.2, 5.8, 6.4]) * (1 - up) + np.array([1.8, 2.9, 5.2]) * up

    return Environment(
        np.broadcast_to(np.where(rise > 0, sky, np.array([0.42, 0.62, 0.22])), (32, 64, 3)).astype(
            np.float32
        )
    )


def _walls(b: Builder) -> None:
    plaster = b.material(Material(name="plaster", base_colour=(0.80, 0.76, 0.68), roughness=0.9))
    tiles = b.material(Material(name="floor tiles", base_colour=(0.36, 0.17, 0.10), roughness=0.35))
    frame = b.material(Material(name="window frame", base_colour=(0.62, 0.60, 0.55), roughness=0.4))
    wide, tall, deep = (side + 2 * WALL for side in (RIGHT - LEFT, CEILING - FLOOR, FRONT - BACK))
    middle = ((LEFT + RIGHT) / 2, (FLOOR + CEILING) / 2, (BACK + FRONT) / 2)

    def slab(
        name: str, low: tuple[float, float, float], high: tuple[float, float, float], material: int
    ) -> None:
        size = np.subtract(high, low)
        b.add(placed(box(name, material, size.tolist(), 0.001), np.add(low, size / 2)))

    b.add(
        placed(
            box("floor", tiles, (wide, WALL, deep), 0.001), (middle[0], FLOOR - WALL / 2, middle[2])
        ),
        placed(
            box("ceiling", plaster, (wide, WALL, deep), 0.001),
            (middle[0], CEILING + WALL / 2, middle[2]),
        ),
        placed(
            box("back wall", plaster, (wide, tall, WALL), 0.001),
            (middle[0], middle[1], BACK - WALL / 2),
        ),
        placed(
            box("front wall", plaster, (wide, tall, WALL), 0.001),
            (middle[0], middle[1], FRONT + WALL / 2),
        ),
        placed(
            box("right wall", plaster, (WALL, tall, deep), 0.001),
            (RIGHT + WALL / 2, middle[1], middle[2]),
        ),
    )
    outside, (low, high), (back, front) = LEFT - WALL, WINDOW_Y, WINDOW_Z
    slab("left wall", (outside, FLOOR - WALL, BACK - WALL), (LEFT, low, FRONT + WALL), plaster)
    slab("left wall", (outside, high, BACK - WALL), (LEFT, CEILING + WALL, FRONT + WALL), plaster)
    slab("left wall", (outside, low, BACK - WALL), (LEFT, high, back), plaster)
    slab("left wall", (outside, low, front), (LEFT, high, FRONT + WALL), plaster)
    bar = 0.022
    half = (back + front) / 2
    slab(
        "window bar", (LEFT - 0.08, low, half - bar / 2), (LEFT - 0.05, high, half + bar / 2), frame
    )
    slab(
        "window bar",
        (LEFT - 0.08, (low + high - bar) / 2, back),
        (LEFT - 0.05, (low + high + bar) / 2, front),
        frame,
    )
    slab(
        "window sill",
        (LEFT - 0.02, low - 0.02, back - 0.04),
        (LEFT + 0.06, low, front + 0.04),
        frame,
    )


def _shelves(b: Builder) -> None:
    planks = textures.wood_texture(21, b.detail.texture, (0.16, 0.09, 0.045), (0.46, 0.30, 0.16))
    wood = b.material(
        Material(name="shelf wood", roughness=0.42, textures={"base": repeated(planks, 1.4, 1.4)})
    )
    clay = b.material(Material(name="glazed clay", base_colour=(0.30, 0.10, 0.045), roughness=0.25))
    cream = b.material(Material(name="enamel", base_colour=(0.74, 0.71, 0.62), roughness=0.18))
    copper = b.material(
        Material(name="copper", base_colour=(0.93, 0.52, 0.36), metallic=1.0, roughness=0.18)
    )
    linen = b.material(Material(name="linen", base_colour=(0.44, 0.50, 0.55), roughness=0.95))
    wide = RIGHT - LEFT
    deep = 0.30

    for height in (0.0, 0.335):
        b.add(
            placed(
                box("shelf", wood, (wide - 0.004, 0.024, deep), 0.003),
                ((LEFT + RIGHT) / 2, height - 0.012, BACK + deep / 2),
            )
        )

    honey = jar_materials(b)
    acacia = honey("acacia honey", (0.8, 4.5, 24.0))
    blossom = honey("blossom honey", (2.0, 13.0, 70.0))
    forest = honey("forest honey", (9.0, 42.0, 160.0))
    jar(b, acacia, (-0.36, 0.0, -0.36), 0.056, 0.150, 0.80, -0.2)
    jar(b, blossom, (-0.215, 0.0, -0.315), 0.056, 0.150, 0.82, 0.1)
    jar(b, forest, (-0.075, 0.0, -0.37), 0.056, 0.150, 0.79, -0.1)
    jar(b, acacia, (0.055, 0.0, -0.305), 0.045, 0.112, 0.80, 0.3)
    jar(b, blossom, (-0.02, 0.335, -0.36), 0.050, 0.125, 0.80, 0.2)
    n = b.detail.segments
    jug = [
        (0.0, 0.0),
        (0.045, 0.0),
        (0.062, 0.035),
        (0.066, 0.08),
        (0.045, 0.130),
        (0.033, 0.158),
        (0.040, 0.180),
    ]
    bowl = [(0.0, 0.0), (0.034, 0.0), (0.062, 0.026), (0.078, 0.062), (0.081, 0.078)]
    pot = [(0.0, 0.0), (0.066, 0.0), (0.072, 0.006), (0.074, 0.085), (0.078, 0.088), (0.076, 0.092)]

    b.add(
        placed(lathe("jug", clay, jug, n, 5), (0.225, 0.0, -0.36)),
        placed(lathe("bowl", cream, bowl, n, 4), (0.43, 0.0, -0.33)),
        placed(lathe("copper pot", copper, pot, n, 3), (-0.24, 0.335, -0.36)),
        placed(box("folded linen", linen, (0.20, 0.05, 0.18), 0.018), (0.30, 0.361, -0.36)),
    )
    rng = np.random.default_rng([SEED, 4])

    for k in range(5):
        angle = k * 2 * np.pi / 5 + rng.uniform(-0.2, 0.2)
        b.add(
            placed(
                ball("apple", clay, 0.027, n // 2),
                (0.43 + 0.034 * np.cos(angle), 0.068, -0.33 + 0.034 * np.sin(angle)),
            )
        )

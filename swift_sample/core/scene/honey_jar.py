"""The third demo scene, "the honey jar": a product picture, one jar on pale stone under a studio's
sky of soft boxes.

Everything is bright and lit directly: a few bounces and little denoising do, and what can be lost
is the texture of label and wood, and the sparkle in the glass.
"""

import numpy as np

from swift_sample.core.scene import honey_textures as textures
from swift_sample.core.scene.honey_parts import SIZES, Builder, jar, jar_materials
from swift_sample.core.scene.kept import kept
from swift_sample.core.scene.model import (
    Camera,
    Choices,
    Environment,
    Material,
    Scene,
    check_variant,
    repeated,
)
from swift_sample.core.scene.shapes import box, lathe, placed, sheet


def honey_jar(choices: Choices | None = None) -> Scene:
    """The jar. Raises SceneError for an unknown variant."""
    check_variant("honey jar", (choices or Choices()).variant, ())
    return kept("honey jar", _modelled)


def _modelled() -> Scene:
    b = Builder(SIZES["standard"])
    paper = b.material(Material(name="backdrop", base_colour=(0.62, 0.56, 0.47), roughness=0.85))

    def sweep(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        bend = np.clip((v - 0.45) / 0.15, 0, 1) * np.pi / 2
        y = -0.02 + 0.25 * (1 - np.cos(bend)) + np.maximum(v - 0.6, 0) * 3.0
        return (u - 0.5) * 4.0, y, 0.7 - np.minimum(v, 0.45) * 2.4 - 0.25 * np.sin(bend)

    backdrop = sheet("backdrop", paper, 8, 96, sweep)
    b.add(backdrop)
    planks = textures.wood_texture(31, b.detail.texture, (0.20, 0.11, 0.05), (0.55, 0.36, 0.19))
    wood = b.material(
        Material(
            name="olive wood",
            roughness=0.3,
            coat=0.4,
            coat_roughness=0.1,
            textures={"base": repeated(planks, 3, 3)},
        )
    )
    beech = b.material(Material(name="beech", base_colour=(0.52, 0.33, 0.17), roughness=0.45))
    b.add(placed(box("board", wood, (0.36, 0.02, 0.22), 0.006), (0.0, -0.0101, 0.0), turn=0.12))
    honey = jar_materials(b)
    jar(b, honey("blossom honey", (1.2, 8.0, 46.0)), (-0.035, 0.0, -0.01), 0.055, 0.145, 0.82, 0.12)
    jar(b, honey("forest honey", (9.0, 42.0, 160.0)), (0.075, 0.0, -0.05), 0.038, 0.092, 0.80, -0.2)
    head = [(0.0, 0.0)]

    for k in range(6):
        y = 0.004 + 0.0062 * k
        r = (0.0085, 0.0125, 0.0145, 0.0145, 0.0125, 0.0085)[k]
        head += [(r * 0.62, y - 0.0012), (r, y), (r, y + 0.0026), (r * 0.62, y + 0.0038)]

    shaft = [
        (0.0042, 0.044),
        (0.0036, 0.075),
        (0.0042, 0.135),
        (0.0058, 0.150),
        (0.0040, 0.157),
        (0.0, 0.158),
    ]
    dipper = lathe("honey dipper", beech, head + shaft, b.detail.segments // 2)
    b.add(placed(dipper, (0.035, 0.0150, 0.072), lean=-1.52, turn=0.35))
    camera = Camera(
        position=(0.05, 0.155, 0.62),
        target=(0.008, 0.060, 0.0),
        vertical_field=0.36,
        aperture=0.0025,
        focus_distance=0.62,
    )

    return Scene(
        name="honey jar",
        meshes=b.meshes,
        materials=b.materials,
        camera=camera,
        environment=_studio(),
    )


def _studio() -> Environment:
    """A dim room with a large soft box at the left, a narrow one at the right, and one overhead."""
    turn, rise = np.meshgrid(
        np.linspace(-np.pi, np.pi, 128, endpoint=False) + np.pi / 128,
        np.linspace(np.pi / 2, -np.pi / 2, 64),
    )
    pixels = np.full((64, 128, 3), 0.16)

    for at, up, wide, tall, colour in (
        (-1.25, 0.55, 0.55, 0.40, (9.0, 8.2, 7.2)),
        (1.35, 0.40, 0.18, 0.55, (6.0, 6.4, 7.0)),
        (0.0, 1.30, 3.2, 0.20, (3.0, 3.0, 3.0)),
        (2.85, 0.45, 0.35, 0.25, (4.0, 3.4, 2.6)),
    ):
        inside = np.clip((wide - np.abs(turn - at)) / 0.06, 0, 1) * np.clip(
            (tall - np.abs(rise - up)) / 0.06, 0, 1
        )
        pixels += inside[..., None] * np.asarray(colour)

    return Environment(pixels.astype(np.float32))

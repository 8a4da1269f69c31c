"""Render one small scene for each material, medium and light into a sheet, for looking: `make
gallery`."""

import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.rendering.building import (
    Stopwatch,
    build_scene,
    choices_of,
)
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.scene.model import (
    MASK,
    POINT,
    SPOT,
    Camera,
    Displacement,
    Environment,
    Haze,
    Light,
    Material,
    Mesh,
    Scene,
    Subsurface,
    Texture,
    repeated,
)
from swift_sample.core.scene.shapes import ball, box, lathe

SIDE, COLUMNS, SAMPLES = 192, 7, 192
TARGET = Path("build/gallery.png")


def texture(kind: str) -> Texture:
    """Stripes, holes or bumps, 128 pixels square."""
    y, x = np.mgrid[0:128, 0:128] / 128
    pixels = np.full((128, 128, 4), 255, np.uint8)

    if kind == "checker":
        pixels[..., :3] = np.where((np.floor(8 * x) + np.floor(8 * y)) % 2, 200, 120)[..., None]
    elif kind == "holes":
        pixels[..., 3] = np.where(
            (np.mod(8 * x, 1) - 0.5) ** 2 + (np.mod(8 * y, 1) - 0.5) ** 2 < 0.1, 0, 255
        )
    elif kind == "waves":
        slope = 0.6 * np.cos(2 * np.pi * 8 * x)
        normal = np.stack([-slope, np.zeros_like(slope), np.ones_like(slope)], -1)
        pixels[..., :3] = (
            normal / np.linalg.norm(normal, axis=-1, keepdims=True) * 0.5 + 0.5
        ) * 255
    else:
        pixels[..., :3] = ((0.5 + 0.5 * np.sin(12 * np.pi * x) * np.sin(12 * np.pi * y)) * 255)[
            ..., None
        ]

    return Texture(kind, pixels, srgb=kind == "checker")


def stage(
    subject: list[Mesh], materials: list[Material], lamp: float = 9.0, environment: float = 0.5
) -> Scene:
    """A checkered table with a lamp above to the left; `materials` start at place 2."""
    table = Mesh(
        name="table",
        material=0,
        positions=np.array([[-6, 0, 6], [6, 0, 6], [6, 0, -6], [-6, 0, -6]], np.float32),
        corners=np.array([[0, 1, 2], [0, 2, 3]], np.int32),
    )
    table.uvs = np.array([[0, 0], [3, 0], [3, 3], [0, 3]], np.float32)
    wood = Material(
        name="table",
        base_colour=(0.7, 0.62, 0.52),
        roughness=0.6,
        textures={"base": repeated(texture("checker"), 2, 2)},
    )
    meshes = [table, *subject]

    if lamp:
        shade = ball("lamp", 1, 0.45, 32)
        shade.positions += np.array([-2.2, 3.4, 1.6], np.float32)
        meshes.append(shade)

    rows = np.linspace(1.0, 0.25, 16)[:, None, None] * np.array([0.75, 0.9, 1.1]) * environment
    sky = Environment(np.repeat(rows, 32, axis=1).astype(np.float32))
    lamp_material = Material(
        name="lamp", base_colour=(0, 0, 0), emission=(lamp, lamp * 0.85, lamp * 0.65)
    )

    return Scene(
        name="gallery",
        meshes=meshes,
        materials=[wood, lamp_material, *materials],
        camera=Camera(position=(0.9, 1.7, 3.6), target=(0, 0.78, 0), vertical_field=0.52),
        environment=sky,
    )


def one_ball(**material: object) -> Scene:
    subject = ball("subject", 2, 0.8, 96)
    subject.positions[:, 1] += 0.801
    return stage([subject], [Material(name="subject", **material)])  # type: ignore[arg-type]


def vessel() -> Scene:
    glass = lathe(
        "jar", 2, [(0.0, 0.0), (0.7, 0.0), (0.7, 1.5), (0.64, 1.5), (0.64, 0.06), (0.0, 0.06)], 96
    )
    liquid = lathe("liquid", 3, [(0.0, 0.05), (0.65, 0.05), (0.65, 1.0), (0.0, 1.0)], 96)

    return stage(
        [glass, liquid],
        [
            Material(name="glass", base_colour=(1, 1, 1), roughness=0, transmission=1),
            Material(
                name="liquid",
                base_colour=(1, 1, 1),
                roughness=0,
                ior=1.36,
                transmission=1,
                priority=1,
                absorption=(0.3, 1.6, 6.0),
            ),
        ],
    )


def hazy(grid: bool) -> Scene:
    scene = one_ball(base_colour=(0.6, 0.25, 0.15))
    z, y, x = np.mgrid[0:20, 0:20, 0:20] / 20 - 0.5
    ripples = 0.5 * np.sin(14 * x) * np.sin(11 * y + 1) * np.sin(13 * z)
    cloud = np.clip(1.2 - 2.6 * np.sqrt(x**2 + y**2 + z**2) + ripples, 0, 1)
    density = cloud if grid else np.ones((1, 1, 1))
    strength = 3.0 if grid else 0.35
    scene.haze = Haze(
        low=(-1.6, 0.0, -1.2),
        high=(1.6, 2.4, 1.6),
        scattering=(strength,) * 3,
        absorption=(0, 0, 0),
        anisotropy=0.3,
        density=density.astype(np.float32),
    )

    return scene


def many_lights() -> Scene:
    scene = one_ball(base_colour=(0.7, 0.7, 0.7), roughness=0.25)
    rng = np.random.default_rng(4)
    places = rng.uniform((-3, 0.05, -2), (3, 0.3, 2), (300, 3))
    scene.lights = [
        Light(kind=POINT, colour=tuple(0.05 * rng.random(3)), position=tuple(place))
        for place in places
    ]
    scene.meshes = scene.meshes[:2]
    scene.environment.pixels *= np.float32(0.05)

    return scene


def spotted() -> Scene:
    scene = one_ball(base_colour=(0.7, 0.7, 0.7))
    scene.lights = [
        Light(
            kind=SPOT,
            colour=(30, 20, 10),
            position=(2.2, 3.2, 1.5),
            direction=(-0.5, -0.72, -0.36),
            inner_cone=0.15,
            outer_cone=0.35,
        )
    ]
    scene.meshes = scene.meshes[:2]
    scene.environment.pixels *= np.float32(0.15)

    return scene


def moving() -> Scene:
    scene = one_ball(base_colour=(0.15, 0.35, 0.7))
    scene.meshes[1].motion = np.tile(
        np.array([[0.5, 0, 0]], np.float32), (len(scene.meshes[1].positions), 1)
    )
    return scene


def out_of_focus() -> Scene:
    scene = stage(
        [box(f"box {k}", 2, (0.5, 0.9, 0.5), 0.03) for k in range(3)],
        [Material(name="box", base_colour=(0.7, 0.4, 0.2))],
    )
    for k, mesh in enumerate(scene.meshes[1:4]):
        mesh.positions += np.array([0.8 * (k - 1), 0.46, 1.1 - 1.4 * k], np.float32)

    scene.camera.aperture = 0.09
    scene.camera.focus_distance = 3.6
    return scene


SHEET: dict[str, Callable[[], Scene]] = {
    "matt": lambda: one_ball(base_colour=(0.6, 0.25, 0.15), ior=1.0),
    "plastic 0.1": lambda: one_ball(base_colour=(0.5, 0.08, 0.06), roughness=0.1),
    "plastic 0.4": lambda: one_ball(base_colour=(0.5, 0.08, 0.06), roughness=0.4),
    "mirror": lambda: one_ball(base_colour=(0.95, 0.93, 0.88), metallic=1.0, roughness=0.0),
    "metal 0.2": lambda: one_ball(base_colour=(0.9, 0.62, 0.28), metallic=1.0, roughness=0.2),
    "metal 0.5": lambda: one_ball(base_colour=(0.9, 0.62, 0.28), metallic=1.0, roughness=0.5),
    "metal 1.0": lambda: one_ball(base_colour=(0.9, 0.62, 0.28), metallic=1.0, roughness=1.0),
    "glass": lambda: one_ball(base_colour=(1, 1, 1), roughness=0.0, transmission=1.0),
    "glass 0.2": lambda: one_ball(base_colour=(1, 1, 1), roughness=0.2, transmission=1.0),
    "glass 0.5": lambda: one_ball(base_colour=(1, 1, 1), roughness=0.5, transmission=1.0),
    "thin glass": lambda: one_ball(
        base_colour=(0.7, 0.95, 0.8), roughness=0.0, transmission=1.0, thin=True
    ),
    "tinted glass": lambda: one_ball(
        base_colour=(1, 1, 1), roughness=0.0, transmission=1.0, absorption=(0.2, 0.8, 2.0)
    ),
    "jar with liquid": vessel,
    "clear coat": lambda: one_ball(
        base_colour=(0.35, 0.04, 0.03), metallic=0.6, roughness=0.5, coat=1.0, coat_roughness=0.03
    ),
    "sheen": lambda: one_ball(
        base_colour=(0.12, 0.05, 0.18),
        roughness=0.9,
        sheen_colour=(0.8, 0.5, 0.9),
        sheen_roughness=0.4,
    ),
    "leaf": lambda: one_ball(
        base_colour=(0.2, 0.5, 0.1),
        thin=True,
        diffuse_transmission=0.6,
        diffuse_transmission_colour=(0.5, 0.8, 0.1),
    ),
    "wax": lambda: one_ball(
        base_colour=(0.9, 0.7, 0.4), subsurface=Subsurface((0.3, 0.16, 0.07), (0.998, 0.99, 0.94))
    ),
    "skin-like": lambda: one_ball(
        base_colour=(0.8, 0.5, 0.4),
        roughness=0.4,
        subsurface=Subsurface((0.12, 0.05, 0.03), (0.985, 0.93, 0.86)),
    ),
    "cut-out": lambda: one_ball(
        base_colour=(0.7, 0.6, 0.4),
        metallic=1.0,
        roughness=0.3,
        opacity_mode=MASK,
        textures={"base": repeated(texture("holes"), 4, 2)},
    ),
    "normal map": lambda: one_ball(
        base_colour=(0.5, 0.5, 0.55),
        roughness=0.3,
        textures={"normal": repeated(texture("waves"), 3, 1)},
    ),
    "displacement": lambda: one_ball(
        base_colour=(0.55, 0.5, 0.45),
        roughness=0.7,
        displacement=Displacement(repeated(texture("bumps"), 2, 1), 0.12),
    ),
    "glow": lambda: one_ball(base_colour=(0, 0, 0), emission=(1.6, 0.9, 0.3)),
    "even haze": lambda: hazy(False),
    "haze in a grid": lambda: hazy(True),
    "300 point lights": many_lights,
    "spot": spotted,
    "motion blur": moving,
    "depth of field": out_of_focus,
}


def main() -> None:
    """Render everything, or the names given."""
    names = [name for name in SHEET if not sys.argv[1:] or name in sys.argv[1:]]
    rows = -(-len(names) // COLUMNS)
    sheet = Image.new("RGB", (COLUMNS * SIDE, rows * (SIDE + 18)), (24, 24, 24))
    draw = ImageDraw.Draw(sheet)
    font = ImageFont.load_default(12)
    view = View(0.0, "soft")

    for number, name in enumerate(names):
        configuration = configured(
            {
                "samples.max": SAMPLES,
                "bounces.total": 12,
                "geometry.subdivision": 1 if name == "displacement" else 0,
            }
        )
        built = build_scene(SHEET[name](), Stopwatch(), choices_of(configuration))
        watch = Stopwatch()
        picture, _ = render(built, configuration, (SIDE, SIDE), 1, view, watch)
        x, y = number % COLUMNS * SIDE, number // COLUMNS * (SIDE + 18)
        sheet.paste(Image.fromarray(view.eight_bit(picture.beauty)), (x, y))
        draw.text(
            (x + 4, y + SIDE + 2),
            f"{name}  {watch.wall['sampling']:.1f} s",
            fill=(220, 220, 220),
            font=font,
        )
        print(f"{name}: {watch.wall['sampling']:.1f} s")

    TARGET.parent.mkdir(exist_ok=True)
    sheet.save(TARGET)
    print(TARGET)


if __name__ == "__main__":
    main()

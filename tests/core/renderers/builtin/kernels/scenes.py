"""Small scenes whose pictures are known in closed form."""

import numpy as np

from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.lowlevel.records import BOTH
from swift_sample.core.renderers.builtin.rendering.building import (
    Stopwatch,
    build_scene,
    choices_of,
)
from swift_sample.core.renderers.builtin.rendering.render import RenderRecord, render
from swift_sample.core.scene.model import Camera, Environment, Material, Mesh, Scene, Texture
from swift_sample.core.scene.shapes import ball


def quad(name: str, material: int, corners: list[tuple[float, float, float]]) -> Mesh:
    """A flat square, seen from the side where its corners go counter-clockwise."""
    return Mesh(
        name=name,
        material=material,
        positions=np.array(corners, np.float32),
        corners=np.array([[0, 1, 2], [0, 2, 3]], np.int32),
    )


def floor(size: float = 50.0) -> Mesh:
    return quad(
        "floor", 0, [(-size, 0, size), (size, 0, size), (size, 0, -size), (-size, 0, -size)]
    )


def sky(radiance: float) -> Environment:
    return Environment(np.full((1, 1, 3), radiance, np.float32))


def ball_under_sky(material: Material, radiance: float = 0.5) -> Scene:
    return Scene(
        name="ball",
        meshes=[ball("ball", 0, 1.0, 128)],
        materials=[material],
        camera=Camera(position=(0, 0, 4), target=(0, 0, 0)),
        environment=sky(radiance),
    )


def take(
    scene: Scene,
    size: tuple[int, int] = (24, 24),
    seed: int = 1,
    view: View | None = None,
    record: bool = True,
    technique: int = BOTH,
    **settings: object,
) -> tuple[Picture, RenderRecord]:
    """Render with `group__key=value` settings."""
    configuration = configured({key.replace("__", "."): value for key, value in settings.items()})
    built = build_scene(scene, Stopwatch(), choices_of(configuration))
    return render(
        built,
        configuration,
        size,
        seed,
        view or View(),
        Stopwatch(),
        record=record,
        technique=technique,
    )


def checker(squares: int, opacity: bool = False) -> Texture:
    """Black and white squares, or clear and opaque ones."""
    pattern = (
        np.kron(np.indices((squares, squares)).sum(axis=0) % 2, np.ones((8, 8))).astype(np.uint8)
        * 255
    )
    pixels = np.full((*pattern.shape, 4), 255, np.uint8)

    if opacity:
        pixels[..., 3] = pattern
    else:
        pixels[..., :3] = pattern[..., None]

    return Texture("checker", pixels)

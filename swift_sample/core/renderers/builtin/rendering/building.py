"""From a scene to tables that can be rendered: its phases `textures` and `build`."""

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from swift_sample.core.budget import over_memory
from swift_sample.core.errors import SceneError
from swift_sample.core.renderers.builtin.rendering.visibility import learn_visibility
from swift_sample.core.renderers.builtin.tables.lights import compile_lights
from swift_sample.core.renderers.builtin.tables.scene import CompiledScene, join_tables
from swift_sample.core.renderers.builtin.tables.surfaces import (
    TextureChoices,
    build_trees,
    compile_surfaces,
    compile_textures,
)
from swift_sample.core.scene.facts import memory_to_build
from swift_sample.core.scene.model import Choices, Scene
from swift_sample.core.scene.refine import refined
from swift_sample.core.settings import Configuration


@dataclass
class Stopwatch:
    """Wall and processor seconds by phase."""

    wall: dict[str, float] = field(default_factory=dict)
    processor: dict[str, float] = field(default_factory=dict)

    @contextmanager
    def phase(self, name: str) -> Iterator[None]:
        wall = time.perf_counter()
        processor = time.process_time()

        try:
            yield
        finally:
            self.wall[name] = self.wall.get(name, 0.0) + time.perf_counter() - wall
            self.processor[name] = self.processor.get(name, 0.0) + time.process_time() - processor


@dataclass(frozen=True)
class BuiltScene:
    """A compiled scene with what is needed to aim its camera; what `scene.keep_built` keeps."""

    scene: Scene
    compiled: CompiledScene

    @property
    def memory_bytes(self) -> dict[str, int]:
        return self.compiled.memory_bytes


def choices_of(configuration: Configuration, frame: int = 0) -> Choices:
    """What of the scene a configuration shows."""
    moving = bool(configuration["camera.motion_blur"])
    return Choices(
        variant=str(configuration["geometry.variant"]),
        subdivision=int(configuration["geometry.subdivision"]),
        displacement=bool(configuration["geometry.displacement"]),
        frame=frame,
        shutter=float(configuration["camera.shutter"]) if moving else 0.0,
    )


def texture_choices_of(configuration: Configuration) -> TextureChoices:
    """How a configuration holds textures."""
    return TextureChoices(
        bool(configuration["textures.prepared"]), int(configuration["textures.max_size"])
    )


def build_scene(
    scene: Scene,
    stopwatch: Stopwatch,
    choices: Choices | None = None,
    textures_kept: TextureChoices | None = None,
) -> BuiltScene:
    """Compile a scene, with its phases `textures` and `build`, and learn which lights arrive where
    its camera looks.

    Raises SceneError where it would not fit into memory.
    """
    built = compile_scene(scene, stopwatch, choices, textures_kept)
    with stopwatch.phase("build"):
        learn_visibility(built.compiled, built.scene.camera, built.scene.environment.turn)

    return built


def compile_scene(
    scene: Scene,
    stopwatch: Stopwatch,
    choices: Choices | None = None,
    textures_kept: TextureChoices | None = None,
) -> BuiltScene:
    """A scene that can be rendered, before anything is learned of its lights. Raises SceneError."""
    choices = choices or Choices()
    words = over_memory(memory_to_build(scene, choices))
    if words:
        raise SceneError(
            f"{scene.name}: building its {scene.triangle_count * 4**choices.subdivision:,} "
            f"triangles {words}"
        )

    with stopwatch.phase("textures"):
        textures = compile_textures(scene, textures_kept or TextureChoices())

    with stopwatch.phase("build"):
        shown = refined(scene, choices)
        surfaces = compile_surfaces(shown, textures)
        trees = build_trees(surfaces)
        compiled = join_tables(
            shown, surfaces, textures, trees, compile_lights(shown, surfaces, textures)
        )

    return BuiltScene(shown, compiled)


def with_textures(built: BuiltScene, stopwatch: Stopwatch, kept: TextureChoices) -> BuiltScene:
    """The same geometry with its textures held in another way."""
    old = built.compiled
    with stopwatch.phase("textures"):
        textures = compile_textures(built.scene, kept)
        compiled = join_tables(
            built.scene, old.surfaces, textures, old.trees, old.lights, old.visibility
        )

    return BuiltScene(built.scene, compiled)

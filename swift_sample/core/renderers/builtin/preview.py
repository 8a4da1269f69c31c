"""A picture of a scene while it is being set up: soon, coarse at first, and cleaner as long as
nobody changes anything.

Nothing of it is timed or kept. What was built stays, so that another light or camera is seen at
once.
"""

from collections.abc import Callable
from dataclasses import replace

from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.denoise import denoise_picture
from swift_sample.core.renderers.builtin.film.film import finish_film, light_cells
from swift_sample.core.renderers.builtin.rendering.building import (
    BuiltScene,
    Stopwatch,
    choices_of,
    compile_scene,
    texture_choices_of,
)
from swift_sample.core.renderers.builtin.rendering.sampling import Sampling
from swift_sample.core.renderers.builtin.tables.lights import compile_lights
from swift_sample.core.renderers.builtin.tables.scene import join_tables
from swift_sample.core.renderers.port import SMOOTH, ShowStage, Stop
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.scene.model import Scene
from swift_sample.core.scene.open import open_scene, scene_fingerprint
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging, staged
from swift_sample.core.settings import Configuration

COARSE = 4
"""The first stage has a pixel for a square of so many."""
COARSE_SAMPLES = 2
QUICK = {
    "tiles.mode": "progressive",
    "samples.noise_threshold": 0.0,
    "samples.stop_at_grain": 0.0,
    "output.scale": 1.0,
    "scene.keep_built": True,
    "device.kind": "processor",
}
"""Of a study's base, what a preview has otherwise."""


class Preview:
    """Keeps the scene that was previewed last."""

    def __init__(self) -> None:
        self._key: tuple[object, ...] = ()
        self._opened: Scene | None = None
        self._built: BuiltScene | None = None
        self._staged_as = AS_IN_THE_FILE

    def run(
        self, spec: RenderSpec, samples: int, show: ShowStage, started: Callable[[Stop], None]
    ) -> Picture:
        """Show the scene with up to so many samples a pixel, stage by stage, and return the last
        one with its halves and guides, its light by bounce, and denoised as its layer SMOOTH.
        Raises SceneError or RenderStoppedError."""
        configuration = spec.configuration(CATALOGUE).replace({**QUICK, "samples.max": samples})
        built = self._build(spec)
        coarse = (max(1, spec.size[0] // COARSE), max(1, spec.size[1] // COARSE))
        self._sample(
            built,
            configuration.replace({"samples.max": COARSE_SAMPLES}),
            coarse,
            spec,
            show,
            started,
        )
        picture = self._sample(built, configuration, spec.size, spec, show, started)
        smooth = denoise_picture(
            picture, configuration.replace({"denoise.method": "wavelet", "denoise.strength": 1.0})
        )
        picture.layers[SMOOTH] = smooth.beauty

        return picture

    def _sample(
        self,
        built: BuiltScene,
        configuration: Configuration,
        size: tuple[int, int],
        spec: RenderSpec,
        show: ShowStage,
        started: Callable[[Stop], None],
    ) -> Picture:
        sampling = Sampling(
            built, configuration, size, spec.seed, spec.view, record=False, passes=False
        )
        sampling.after_pass = lambda: show(
            (sampling.film.half_a + sampling.film.half_b) / sampling.rounds.done,
            sampling.rounds.done,
        )
        started(sampling.stop)
        sampling.run()
        picture = finish_film(sampling.film, 0.0, sampling.rounds.error)
        light = light_cells(sampling.film)
        picture.reduced = {f"light.{k}": light[:, :, k] for k in range(light.shape[2])}

        return picture

    def _build(self, spec: RenderSpec) -> BuiltScene:
        """What was built for the last preview as far as it can stay, without what is learned of
        where lights arrive."""
        configuration = spec.configuration(CATALOGUE)
        choices = choices_of(configuration, spec.frame)
        textures = texture_choices_of(configuration)
        key = (spec.scene, scene_fingerprint(spec.scene), choices, textures)

        if key != self._key or self._opened is None or self._built is None:
            self._key = ()
            self._built = None
            self._opened = open_scene(spec.scene, choices)
            self._built = compile_scene(
                staged(self._opened, spec.staging), Stopwatch(), choices, textures
            )
            self._key = key
            self._staged_as = spec.staging
        elif spec.staging != self._staged_as:
            old = self._built.compiled
            shown = staged(self._opened, spec.staging)
            light = replace(
                self._built.scene,
                environment=shown.environment,
                camera=shown.camera,
                notes=shown.notes,
            )

            if not _same_light(spec.staging, self._staged_as):
                lights = compile_lights(light, old.surfaces, old.textures)
                old = join_tables(light, old.surfaces, old.textures, old.trees, lights)

            self._built = BuiltScene(light, old)
            self._staged_as = spec.staging

        return self._built


def _same_light(one: Staging, other: Staging) -> bool:
    return replace(one, camera="", viewpoint=None) == replace(other, camera="", viewpoint=None)

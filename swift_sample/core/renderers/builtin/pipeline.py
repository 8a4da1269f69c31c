"""One render from the name of a scene to a written picture, with every phase timed: what the worker
and `swift-sample render` both do."""

import gc
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from swift_sample.core.kernels.cache import is_compiled, mark_compiled
from swift_sample.core.kernels.compiling import compile_parts
from swift_sample.core.machine import (
    LoadMeter,
    available_processors,
    peak_memory_bytes,
    reset_peak_memory,
)
from swift_sample.core.measure.compare import measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.formats import (
    OUTPUT_FORMATS,
    OutputFormat,
    read_display,
    write_display,
)
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.denoise import denoise_picture
from swift_sample.core.renderers.builtin.lowlevel.records import PASSES
from swift_sample.core.renderers.builtin.prediction import shift_by_cap
from swift_sample.core.renderers.builtin.rendering.building import (
    BuiltScene,
    Stopwatch,
    build_scene,
    choices_of,
    texture_choices_of,
    with_textures,
)
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.renderers.builtin.rendering.sampling import Progress, Sampling
from swift_sample.core.renderers.builtin.tables.surfaces import TextureChoices
from swift_sample.core.renderers.headers import put_record
from swift_sample.core.renderers.records import PHASES, RenderRecord, RenderSpec, RunRecord
from swift_sample.core.scene.environment import environment_fingerprint
from swift_sample.core.scene.features import with_changes
from swift_sample.core.scene.open import open_scene, scene_fingerprint
from swift_sample.core.scene.staging import staged


class SceneCache:
    """Keeps the scene that was built last, for renders that ask for it (`scene.keep_built`).

    A scene is built anew when its file, what it refers to, its light from everywhere, or the scene
    choices change; textures alone when only the way they are held changes. All other settings leave
    it as it is.
    """

    def __init__(self) -> None:
        self._key: tuple[object, ...] | None = None
        self._textures: TextureChoices | None = None
        self._built: BuiltScene | None = None
        self._prepared: set[object] = set()

    def make_ready(self, spec: RenderSpec) -> float:
        """Do what caches spare every render but the first, so that first and later ones never mix.
        Returns the seconds that it took, 0 where all was ready."""
        stopwatch = Stopwatch()
        configuration = spec.configuration(CATALOGUE)

        if configuration["scene.keep_built"]:
            self.get(spec, True, stopwatch)
        elif configuration["textures.prepared"]:
            key = (
                scene_fingerprint(spec.scene),
                texture_choices_of(configuration),
                tuple(sorted(spec.changes.items())),
            )
            if key not in self._prepared:
                self.get(spec, False, stopwatch)
                self._prepared.add(key)

        return sum(stopwatch.wall.values())

    def get(
        self, spec: RenderSpec, keep: bool, stopwatch: Stopwatch
    ) -> tuple[BuiltScene, list[str]]:
        """The built scene, and what of it was there already."""
        configuration = spec.configuration(CATALOGUE)
        choices = choices_of(configuration, spec.frame)
        textures = texture_choices_of(configuration)
        light = (
            environment_fingerprint(spec.staging.environment)
            if spec.staging.environment is not None
            else ""
        )
        changes = tuple(sorted(spec.changes.items()))
        key = (spec.scene, scene_fingerprint(spec.scene), spec.staging, light, choices, changes)

        if keep and self._built is not None and key == self._key:
            if textures == self._textures:
                return self._built, ["file", "geometry", "acceleration", "textures"]
            self._built = with_textures(self._built, stopwatch, textures)
            self._textures = textures
            return self._built, ["file", "geometry", "acceleration"]

        self._key = None
        self._built = None
        with stopwatch.phase("load"):
            scene = with_changes(
                staged(open_scene(spec.scene, choices), spec.staging), spec.changes
            )

        built = build_scene(scene, stopwatch, choices, textures)
        if keep:
            self._key = key
            self._textures = textures
            self._built = built

        return built, []


def run_render(
    spec: RenderSpec,
    scene_cache: SceneCache,
    picture_path: Path | None,
    progress: Progress | None = None,
    on_start: Callable[[Sampling], None] | None = None,
    layers: tuple[str, ...] | None = None,
    identity: Mapping[str, object] | None = None,
) -> tuple[Picture, RunRecord]:
    """Render, denoise and write; `layers` are those that are written, None for all. `identity` goes
    into the header beside the record, with room for what is known only once the file is written
    (`complete_record`).

    Raises SceneError, PictureError or RenderStoppedError.
    """
    configuration = spec.configuration(CATALOGUE)
    stopwatch = Stopwatch()
    meter = LoadMeter()
    gc.collect()
    reset_peak_memory()
    for phase in PHASES:
        stopwatch.wall[phase] = stopwatch.processor[phase] = 0.0

    built, reused = scene_cache.get(spec, bool(configuration["scene.keep_built"]), stopwatch)
    picture, record = render(
        built,
        configuration,
        spec.size,
        spec.seed,
        spec.view,
        stopwatch,
        progress,
        on_start,
        passes=picture_path is not None and (layers is None or bool(set(layers) & set(PASSES))),
    )
    with stopwatch.phase("denoise"):
        picture = denoise_picture(picture, configuration)

    size_bytes = 0
    if picture_path is not None:
        result = _result(spec, picture, record, stopwatch, 0, 0.0, reused, built)
        put_record(picture, result, identity)
        size_bytes = deliver(
            picture,
            OUTPUT_FORMATS[str(configuration["output.format"])],
            spec.view,
            picture_path,
            layers,
            stopwatch,
        )

    return picture, _result(
        spec, picture, record, stopwatch, size_bytes, meter.share(), reused, built
    )


def deliver(
    picture: Picture,
    form: OutputFormat,
    view: View,
    path: Path,
    layers: tuple[str, ...] | None,
    stopwatch: Stopwatch,
) -> int:
    """Write the picture in its format, timed as `write`, and return its bytes.

    Light and layers always go to the EXR at `path`. A display format is written beside it with its
    own suffix; the beauty of the EXR is then what that file shows, so that what is measured is what
    was delivered, and the picture before it is kept as `raw`.
    """
    if not form.is_display:
        with stopwatch.phase("write"):
            return write_exr(path, picture, layers, form.compression)

    shown = path.with_suffix(form.suffix)
    with stopwatch.phase("write"):
        size_bytes = write_display(shown, form, picture.beauty, view)

    kept = Picture(
        read_display(shown, form, view),
        {"raw": picture.beauty, **picture.layers},
        picture.reduced,
        picture.notes,
    )
    write_exr(path, kept, layers)
    return size_bytes


def _result(
    spec: RenderSpec,
    picture: Picture,
    record: RenderRecord,
    stopwatch: Stopwatch,
    picture_bytes: int,
    load_of_others: float,
    reused: list[str],
    built: BuiltScene,
) -> RunRecord:
    seconds = {phase: stopwatch.wall[phase] for phase in PHASES}
    seconds["first_picture"] = stopwatch.wall["first_picture"]
    seconds["total"] = sum(stopwatch.wall[phase] for phase in PHASES)
    configuration = spec.configuration(CATALOGUE)

    return RunRecord(
        **dict(record),
        size=(picture.width, picture.height),
        seconds=seconds,
        phase_cpu_seconds=dict(stopwatch.processor),
        cpu_seconds=sum(stopwatch.processor.values()),
        peak_memory_bytes=peak_memory_bytes(),
        shift_by_bounces=shift_by_cap(picture.reduced, spec.view),
        threads=int(configuration["device.threads"]),
        device=str(configuration["device.kind"]),
        settings=dict(configuration),
        changes=spec.changes,
        seed=spec.seed,
        picture_bytes=picture_bytes,
        load_of_others=load_of_others,
        reused_scene=bool(reused),
        reused=reused,
        notes=built.scene.notes,
    )


def warm_up(tell: Callable[[float, str], None]) -> float:
    """Compile every kernel that a measured job needs, by doing all of it once on a small scene;
    returns seconds."""
    started = time.perf_counter()
    tell(0.0, "Preparing the renderer")

    if not is_compiled():
        words = "Preparing the renderer for the first time"
        compile_parts(
            Sampling.__module__, lambda share: tell(0.8 * share, words), available_processors()
        )

    spec = RenderSpec(
        scene="honey-stall-small",
        size=(16, 9),
        settings={
            "samples.max": 32,
            "samples.noise_threshold": 0.01,
            "bounces.total": 2,
            "denoise.method": "wavelet",
        },
        seed=1,
    )
    picture, _ = run_render(spec, SceneCache(), None)
    measure(
        Comparison(
            [picture.beauty, picture.beauty], picture.beauty, spec.view, None, picture.halves
        )
    )
    mark_compiled()
    tell(1.0, "Ready")

    return time.perf_counter() - started

"""One render from the name of a scene to a written picture, with every phase timed: what the worker and
`swift-sample render` both do."""

import gc
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from numba.core.event import Event, Listener, install_listener

from swift_sample.core.denoise import denoise_picture
from swift_sample.core.exchange.exr import RECORD_ATTRIBUTE, write_exr
from swift_sample.core.measure.compare import measure
from swift_sample.core.measure.figures import Comparison
from swift_sample.core.render.film import Picture
from swift_sample.core.render.render import BuiltScene, Progress, RenderRecord, Sampling, Stopwatch, build_scene, render
from swift_sample.core.scene import open_scene, parse_environment, scene_fingerprint
from swift_sample.core.study.machine import LoadMeter, peak_memory_bytes, reset_peak_memory
from swift_sample.core.study.messages import RenderSpec, RunResult, Samples

PHASES = ("load", "textures", "build", "sampling", "denoise", "write")
"""In the order in which they run; together they make up `total`."""


EXPECTED_COMPILATIONS = 190
"""Functions that a first start compiles, nested ones included; only the progress shown depends on it."""


class SceneShelf:
    """Keeps the scene that was built last, for renders that ask for it (`scene.keep_built`)."""

    def __init__(self) -> None:
        self._key: tuple[str, str, str | None] | None = None
        self._built: BuiltScene | None = None

    def get(self, spec: RenderSpec, keep: bool, stopwatch: Stopwatch) -> tuple[BuiltScene, bool]:
        """The built scene, and whether it was there already. A changed scene file is always read anew."""
        key = (spec.scene, scene_fingerprint(spec.scene), spec.environment)
        if keep and self._built is not None and key == self._key:
            return self._built, True
        if not keep or key != self._key:
            self._key, self._built = None, None
        with stopwatch.phase("load"):
            scene = open_scene(spec.scene)
            if spec.environment is not None:
                scene = replace(scene, environment=parse_environment(spec.environment))
        built = build_scene(scene, stopwatch)
        if keep:
            self._key, self._built = key, built
        return built, False


def run_render(spec: RenderSpec, shelf: SceneShelf, picture_path: Path | None, progress: Progress | None = None,
               on_start: Callable[[Sampling], None] | None = None) -> tuple[Picture, RunResult]:
    """Render, denoise and write. Raises SceneError, PictureError or RenderStoppedError."""
    configuration, stopwatch, meter = spec.configuration, Stopwatch(), LoadMeter()
    gc.collect()
    reset_peak_memory()
    for phase in PHASES:
        stopwatch.wall[phase] = stopwatch.processor[phase] = 0.0
    built, reused = shelf.get(spec, bool(configuration["scene.keep_built"]), stopwatch)
    picture, record = render(built, configuration, spec.size, spec.seed, spec.view, stopwatch, progress, on_start)
    with stopwatch.phase("denoise"):
        picture = denoise_picture(picture, configuration)
    size_bytes = 0
    if picture_path is not None:
        picture.notes[RECORD_ATTRIBUTE] = _result(spec, picture, record, stopwatch, 0, 0.0, reused, built).model_dump_json()
        with stopwatch.phase("write"):
            size_bytes = write_exr(picture_path, picture)
    return picture, _result(spec, picture, record, stopwatch, size_bytes, meter.share(), reused, built)


def _result(spec: RenderSpec, picture: Picture, record: RenderRecord, stopwatch: Stopwatch, picture_bytes: int,
            load_of_others: float, reused: bool, built: BuiltScene) -> RunResult:
    seconds = {phase: stopwatch.wall[phase] for phase in PHASES}
    seconds["first_picture"] = stopwatch.wall["first_picture"]
    seconds["total"] = sum(stopwatch.wall[phase] for phase in PHASES)
    by_kind = {kind: sum(r[kind] for r in record.rays_by_bounce) for kind in ("path", "shadow")}
    configuration = spec.configuration
    return RunResult(
        size=(picture.width, picture.height), seconds=seconds, phase_cpu_seconds=dict(stopwatch.processor),
        cpu_seconds=sum(stopwatch.processor.values()), peak_memory_bytes=peak_memory_bytes(),
        memory_bytes=record.memory_bytes,
        samples=Samples(mean=record.samples_mean, min=record.samples_min, max=record.samples_max,
                        share_at_max=record.share_at_max, min_used=record.samples_min_used),
        rays={"total": sum(by_kind.values()), **by_kind, "by_bounce": record.rays_by_bounce},
        light_by_bounce=record.light_by_bounce, seconds_by_bounce=record.seconds_by_bounce,
        threads=int(configuration["device.threads"]), device="processor", settings=dict(configuration), seed=spec.seed,
        picture_bytes=picture_bytes, dropped_samples=record.dropped_samples, load_of_others=load_of_others,
        reused_scene=reused, notes=built.scene.notes)


def merge_reference(old: Picture | None, old_samples: int, new: Picture, new_samples: int) -> Picture:
    """The reference with more samples: halves are averaged by their number of samples."""
    if old is None or old.halves is None or new.halves is None:
        merged = new
    else:
        share = np.float32(new_samples / (old_samples + new_samples))
        half_a, half_b = (a + (b - a) * share for a, b in zip(old.halves, new.halves, strict=True))
        merged = Picture((half_a + half_b) / 2, {"half_a": half_a, "half_b": half_b})
    assert merged.halves is not None
    half_a, half_b = merged.halves
    return Picture(((half_a + half_b) / 2).astype(np.float32), {"half_a": half_a, "half_b": half_b})


class _CompileProgress(Listener):
    """Tells how much of the compiling is done, by counting the functions compiled so far."""

    def __init__(self, tell: Callable[[float, str], None]) -> None:
        self._tell, self._count = tell, 0

    def on_start(self, event: Event) -> None:
        pass

    def on_end(self, event: Event) -> None:
        self._count += 1
        self._tell(min(0.95, self._count / EXPECTED_COMPILATIONS), "Preparing the renderer for the first time")


def warm_up(tell: Callable[[float, str], None]) -> float:
    """Compile every kernel that a measured job needs, by doing all of it once on a small scene; returns seconds."""
    started = time.perf_counter()
    tell(0.0, "Preparing the renderer")
    spec = RenderSpec(scene="honey-stall-small", size=(16, 9), settings={
        "samples.max": 32, "samples.noise_threshold": 0.01, "bounces.total": 2, "denoise.method": "wavelet"}, seed=1)
    with install_listener("numba:compile", _CompileProgress(tell)):
        picture, _ = run_render(spec, SceneShelf(), None)
        measure(Comparison([picture.beauty, picture.beauty], picture.beauty, spec.view, None, picture.halves))
    tell(1.0, "Ready")
    return time.perf_counter() - started

"""One render from scene to picture: phases, threads, rounds of sampling, and the records that explain them."""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

import numpy as np

from swift_sample.core.compiling import kernel
from swift_sample.core.errors import SwiftSampleError
from swift_sample.core.render.adaptive import automatic_minimum, next_target, pixel_error
from swift_sample.core.render.compiled import (
    CompiledScene,
    Lens,
    build_accelerator,
    compile_camera,
    compile_lights,
    compile_surfaces,
)
from swift_sample.core.render.film import FilmArrays, Picture, film_memory_bytes, finish_film, new_film
from swift_sample.core.render.path import PATH_RAY, SHADOW_RAY, PathSettings, Scratch, new_scratch, render_tiles
from swift_sample.core.render.sampler import EVEN, RANDOM
from swift_sample.core.render.simd import read_cycles
from swift_sample.core.scene.model import Scene
from swift_sample.core.settings import Configuration
from swift_sample.core.view import View

PATTERNS = {"even": EVEN, "random": RANDOM}
MAX_PIXELS = 1 << 27
POLL_SECONDS = 0.02

Progress = Callable[[float], None]
"""Told the share of the sampling that is done, 0 to 1, while it goes on."""


class RenderStoppedError(SwiftSampleError):
    """The render was stopped on request."""


@dataclass
class Stopwatch:
    """Wall and processor seconds by phase."""

    wall: dict[str, float] = field(default_factory=dict)
    processor: dict[str, float] = field(default_factory=dict)

    @contextmanager
    def phase(self, name: str) -> Iterator[None]:
        wall, processor = time.perf_counter(), time.process_time()
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
        surfaces, lights = self.compiled.surfaces, self.compiled.lights
        textures = surfaces.texels.nbytes + lights.environment.nbytes
        return {
            "geometry": sum(a.nbytes for a in surfaces) - surfaces.texels.nbytes,
            "acceleration": self.compiled.tree.memory_bytes,
            "textures": textures,
        }


@dataclass(frozen=True)
class RenderRecord:
    """Why a render took as long as it did. Seconds are wall time; see the field names for units."""

    seconds: dict[str, float]
    processor_seconds: dict[str, float]
    samples_mean: float
    samples_min: int
    samples_max: int
    share_at_max: float
    samples_min_used: int
    rays_by_bounce: list[dict[str, int]]
    seconds_by_bounce: list[float]
    light_by_bounce: list[list[float]]
    memory_bytes: dict[str, int]
    dropped_samples: int


def build_scene(scene: Scene, stopwatch: Stopwatch) -> BuiltScene:
    """Compile a scene, with its phases `textures` and `build`."""
    with stopwatch.phase("textures"):
        surfaces = compile_surfaces(scene)
    with stopwatch.phase("build"):
        tree = build_accelerator(surfaces)
        lights = compile_lights(surfaces, scene.environment)
    return BuiltScene(scene, CompiledScene(tree, surfaces, lights))


def picture_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """The size after `output.scale`: each side is rounded half up and is at least 1."""
    width, height = (max(1, int(np.floor(side * scale + 0.5))) for side in size)
    if width * height > MAX_PIXELS:
        raise SwiftSampleError(f"size={width}x{height}: at most {MAX_PIXELS} pixels can be rendered; use a smaller one")
    return width, height


class Sampling:
    """The sampling of one picture: hands tiles to threads, round after round."""

    def __init__(self, built: BuiltScene, configuration: Configuration, size: tuple[int, int], seed: int, view: View,
                 record: bool = True) -> None:
        self._configuration, self._view = configuration, view
        self._width, self._height = picture_size(size, float(configuration["output.scale"]))
        self._compiled = built.compiled
        self._lens: Lens = compile_camera(built.scene.camera, self._width, self._height)
        self._bounces = int(configuration["bounces.total"])
        self._maximum = int(configuration["samples.max"])
        self._threshold = float(configuration["samples.noise_threshold"])
        self.minimum = min(self._maximum, int(configuration["samples.min"]) or automatic_minimum(self._maximum))
        self._settings = PathSettings(
            seed=seed, pattern=PATTERNS[str(configuration["samples.pattern"])], bounces=self._bounces,
            roulette_start=int(configuration["bounces.roulette_start"]),
            clamp_direct=np.float32(configuration["light.clamp_direct"]),
            clamp_indirect=np.float32(configuration["light.clamp_indirect"]), target=0, record=record)
        self.film: FilmArrays = new_film(self._width, self._height, self._bounces, self._threshold > 0)
        self._scratches: list[Scratch] = [new_scratch(self._bounces) for _ in range(int(configuration["device.threads"]))]
        self._cancel = np.zeros(1, np.int32)
        self.first_tile_cycles = 0
        self.error = np.zeros((self._height, self._width), np.float32)

    def stop(self) -> None:
        """Make `run` end soon with RenderStoppedError; may be called from any thread."""
        self._cancel[0] = 1

    def run(self, progress: Progress | None = None) -> None:
        """Take all samples. Raises RenderStoppedError after `stop`."""
        done = 0
        while done < self._maximum:
            target = next_target(done, self.minimum, self._maximum) if self._threshold > 0 else self._maximum
            self._run_round(target, done, progress)
            done = target
            if self._threshold > 0 and done < self._maximum:
                self.error = pixel_error(self.film, self._view)
                self.film.active[...] &= self.error > self._threshold
                if not self.film.active.any():
                    break
        self.error = pixel_error(self.film, self._view)

    def _run_round(self, target: int, done: int, progress: Progress | None) -> None:
        tiles = cut_tiles(self._width, self._height, int(self._configuration["tiles.size"]))
        counter, finished = np.zeros(1, np.int64), np.zeros(len(tiles), np.uint64)
        settings = self._settings._replace(target=target)
        threads = [
            threading.Thread(target=render_tiles, name=f"render-{i}", daemon=True,
                             args=(self._compiled, self._lens, settings, self.film, tiles, counter, finished,
                                   self._cancel, scratch))
            for i, scratch in enumerate(self._scratches)
        ]
        for thread in threads:
            thread.start()
        try:
            for thread in threads:
                while thread.is_alive():
                    thread.join(POLL_SECONDS)
                    if progress is not None:
                        share = float(np.count_nonzero(finished)) / len(tiles)
                        progress((done + share * (target - done)) / self._maximum)
        except BaseException:
            self.stop()
            for thread in threads:
                thread.join()
            raise
        if self._cancel[0]:
            raise RenderStoppedError("the render was stopped")
        if not self.first_tile_cycles:
            self.first_tile_cycles = int(finished[finished > 0].min())

    def light_by_bounce(self) -> np.ndarray:
        """Mean radiance that each bounce brings, float64[bounces + 1, 3]; adds up to the mean of the beauty."""
        pixels = self._width * self._height
        if self.film.light.size:
            per_pixel = self.film.light / np.maximum(self.film.samples, 1)[..., None, None]
            return per_pixel.sum(axis=(0, 1), dtype=np.float64) / pixels
        return np.sum([s.light for s in self._scratches], axis=0) / (pixels * self._maximum)

    def rays_by_bounce(self) -> np.ndarray:
        """int64[bounces + 2, 2]: rays cast by bounce and kind (path, shadow)."""
        return np.sum([s.rays for s in self._scratches], axis=0)

    def cycles_by_bounce(self) -> np.ndarray:
        """uint64[bounces + 2]: processor cycles by bounce, summed over threads."""
        return np.sum([s.cycles for s in self._scratches], axis=0)

    def dropped_samples(self) -> int:
        return int(sum(s.dropped[0] for s in self._scratches))


def cut_tiles(width: int, height: int, size: int) -> np.ndarray:
    """All tiles in reading order, int32[n, 4]: x0, y0, x1, y1."""
    return np.array([(x, y, min(x + size, width), min(y + size, height))
                     for y in range(0, height, size) for x in range(0, width, size)], np.int32)


@kernel
def cycles_now():  # type: ignore[no-untyped-def]
    """The cycle counter, callable from Python."""
    return read_cycles()  # type: ignore[call-arg]


def render(built: BuiltScene, configuration: Configuration, size: tuple[int, int], seed: int, view: View,
           stopwatch: Stopwatch, progress: Progress | None = None, on_start: Callable[[Sampling], None] | None = None,
           record: bool = True) -> tuple[Picture, RenderRecord]:
    """Take the samples of one picture; everything before and after it has its own phase elsewhere.

    `stopwatch` already holds the earlier phases; `on_start` receives the sampling so that it can be stopped.
    Raises RenderStoppedError.
    """
    before = sum(stopwatch.wall.values())
    started, start_cycles = time.perf_counter(), int(cycles_now())
    with stopwatch.phase("sampling"):
        sampling = Sampling(built, configuration, size, seed, view, record)
        if on_start is not None:
            on_start(sampling)
        sampling.run(progress)
    seconds_per_cycle = (time.perf_counter() - started) / max(1, int(cycles_now()) - start_cycles)
    stopwatch.wall["first_picture"] = before + (sampling.first_tile_cycles - start_cycles) * seconds_per_cycle
    picture = finish_film(sampling.film, seconds_per_cycle, sampling.error)
    return picture, _record_of(sampling, built, configuration, stopwatch, seconds_per_cycle)


def _record_of(sampling: Sampling, built: BuiltScene, configuration: Configuration, stopwatch: Stopwatch,
               seconds_per_cycle: float) -> RenderRecord:
    samples, maximum = sampling.film.samples, int(configuration["samples.max"])
    rays = sampling.rays_by_bounce()
    return RenderRecord(
        seconds=stopwatch.wall, processor_seconds=stopwatch.processor,
        samples_mean=float(samples.mean()), samples_min=int(samples.min()), samples_max=int(samples.max()),
        share_at_max=float((samples >= maximum).mean()), samples_min_used=sampling.minimum,
        rays_by_bounce=[{"path": int(r[PATH_RAY]), "shadow": int(r[SHADOW_RAY])} for r in rays],
        seconds_by_bounce=[float(c) * seconds_per_cycle for c in sampling.cycles_by_bounce()],
        light_by_bounce=sampling.light_by_bounce().tolist(),
        memory_bytes={**built.memory_bytes, "film": film_memory_bytes(sampling.film)},
        dropped_samples=sampling.dropped_samples(),
    )

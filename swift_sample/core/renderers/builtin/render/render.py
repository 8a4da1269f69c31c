"""One render from scene to picture: phases, threads, rounds of sampling, and the records that explain them."""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from swift_sample.core.budget import over_memory
from swift_sample.core.errors import RenderStoppedError, SceneError, SwiftSampleError
from swift_sample.core.kernels.compiling import from_python, kernel
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.render.accelerator import (
    EVERYTHING,
    PROCESSOR,
    Accelerator,
    Simulated,
    read_accelerator,
    simulate,
)
from swift_sample.core.renderers.builtin.render.adaptive import AUTOMATIC_MINIMUM, next_target, pixel_error, samples_wanted
from swift_sample.core.renderers.builtin.render.compile_lights import compile_lights
from swift_sample.core.renderers.builtin.render.compile_surfaces import (
    SurfaceTable,
    TextureChoices,
    build_trees,
    compile_surfaces,
    compile_textures,
)
from swift_sample.core.renderers.builtin.render.compiled import CompiledScene, compile_camera, join_tables, pixel_cone
from swift_sample.core.renderers.builtin.render.detail import texels_a_pixel
from swift_sample.core.renderers.builtin.render.film import (
    FilmArrays,
    film_memory_bytes,
    finish_film,
    grain_cells,
    halves_of,
    light_cells,
    mean_light,
    new_film,
    pixels_by_cell,
)
from swift_sample.core.renderers.builtin.render.limits import (
    CLAMP_KEYS,
    by_threshold,
    grain_by_setting,
    least_clamp,
    light_clamped,
    shift_by_setting,
)
from swift_sample.core.renderers.builtin.render.orders import cut_tiles
from swift_sample.core.renderers.builtin.render.pyramids import TILE
from swift_sample.core.renderers.builtin.render.records import (
    BOTH,
    CELL,
    JOB,
    KEEP_REFLECTED,
    KEEP_REFRACTED,
    KINDS,
    MARCHED,
    PATH,
    RAY_KINDS,
    UNBIASED,
    UNSCATTERED,
)
from swift_sample.core.renderers.builtin.render.sampler import BLUE_NOISE, EVEN, RANDOM
from swift_sample.core.renderers.builtin.render.schema import Records, address_of, check_outside
from swift_sample.core.renderers.builtin.render.simd import read_cycles
from swift_sample.core.renderers.builtin.render.textures import make_room_for_tiles
from swift_sample.core.renderers.builtin.render.tiles import BELL, BOX, TENT, render_tiles
from swift_sample.core.renderers.builtin.render.traverse import STACK_BYTES
from swift_sample.core.renderers.builtin.render.visibility import learn_visibility
from swift_sample.core.renderers.records import RenderRecord, Samples, TextureHeld
from swift_sample.core.scene.facts import memory_to_build
from swift_sample.core.scene.model import Choices, Scene, Texture
from swift_sample.core.scene.refine import refined
from swift_sample.core.settings import Configuration

PATTERNS = {"even": EVEN, "random": RANDOM, "blue noise": BLUE_NOISE}
FILTERS = {"box": BOX, "tent": TENT, "bell": BELL}
CAUSTICS = {"all": KEEP_REFLECTED | KEEP_REFRACTED, "reflected": KEEP_REFLECTED, "refracted": KEEP_REFRACTED, "none": 0}
HAZE_METHODS = {"exact": UNBIASED, "stepped": MARCHED, "off": UNSCATTERED}
MAX_PIXELS = 1 << 27
POLL_SECONDS = 0.02
MEBIBYTE = 1 << 20
LONGEST_PASS = 16
"""Passes of the progressive mode grow from one sample a pixel to this many."""
LEAST_JUDGED = 8
"""Samples that a picture has before its grain is judged."""
MANY_PIXELS = 0.002
"""Share of the picture from which it is told how fine an object's triangles are in it."""
MOST_TEXTURES = 40
"""Whose size is recorded."""

Progress = Callable[[float], None]
"""Told the share of the sampling that is done, 0 to 1, while it goes on."""


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
    return TextureChoices(bool(configuration["textures.prepared"]), int(configuration["textures.max_size"]))


def build_scene(
    scene: Scene, stopwatch: Stopwatch, choices: Choices | None = None, textures_kept: TextureChoices | None = None
) -> BuiltScene:
    """Compile a scene, with its phases `textures` and `build`, and learn which lights arrive where its camera looks.

    Raises SceneError where it would not fit into memory.
    """
    built = compile_scene(scene, stopwatch, choices, textures_kept)
    with stopwatch.phase("build"):
        learn_visibility(built.compiled, built.scene.camera, built.scene.environment.turn)
    return built


def compile_scene(
    scene: Scene, stopwatch: Stopwatch, choices: Choices | None = None, textures_kept: TextureChoices | None = None
) -> BuiltScene:
    """A scene that can be rendered, before anything is learned of its lights. Raises SceneError."""
    choices = choices or Choices()
    words = over_memory(memory_to_build(scene, choices))
    if words:
        raise SceneError(f"{scene.name}: building its {scene.triangle_count * 4**choices.subdivision:,} triangles {words}")
    with stopwatch.phase("textures"):
        textures = compile_textures(scene, textures_kept or TextureChoices())
    with stopwatch.phase("build"):
        shown = refined(scene, choices)
        surfaces = compile_surfaces(shown, textures)
        trees = build_trees(surfaces)
        compiled = join_tables(shown, surfaces, textures, trees, compile_lights(shown, surfaces, textures))
    return BuiltScene(shown, compiled)


def with_textures(built: BuiltScene, stopwatch: Stopwatch, kept: TextureChoices) -> BuiltScene:
    """The same geometry with its textures held in another way."""
    old = built.compiled
    with stopwatch.phase("textures"):
        textures = compile_textures(built.scene, kept)
        compiled = join_tables(built.scene, old.surfaces, textures, old.trees, old.lights, old.visibility)
    return BuiltScene(built.scene, compiled)


def picture_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """The size after `output.scale`: each side is rounded half up and is at least 1."""
    width, height = (max(1, int(np.floor(side * scale + 0.5))) for side in size)
    if width * height > MAX_PIXELS:
        raise SwiftSampleError(f"size={width}x{height}: at most {MAX_PIXELS} pixels can be rendered; use a smaller one")
    return width, height


class Sampling:
    """The sampling of one picture: hands tiles to threads, round after round."""

    def __init__(
        self,
        built: BuiltScene,
        configuration: Configuration,
        size: tuple[int, int],
        seed: int,
        view: View,
        record: bool = True,
        passes: bool = True,
        technique: int = BOTH,
    ) -> None:
        self._configuration, self.view, self._built = configuration, view, built
        self._width, self._height = picture_size(size, float(configuration["output.scale"]))
        self._lens = compile_camera(
            built.scene.camera,
            self._width,
            self._height,
            bool(configuration["camera.depth_of_field"]),
            bool(configuration["camera.motion_blur"]),
            any(len(mesh.motion) for mesh in built.scene.meshes),
        )
        self._bounces = int(configuration["bounces.total"])
        self._maximum = int(configuration["samples.max"])
        self._threshold = float(configuration["samples.noise_threshold"])
        self.minimum = min(self._maximum, int(configuration["samples.min"]) or AUTOMATIC_MINIMUM)
        smooths = configuration["denoise.method"] != "none" and configuration["denoise.strength"] != 0
        per_pass = smooths and bool(configuration["denoise.per_pass"])
        self.film: FilmArrays = new_film(
            self._width,
            self._height,
            self._bounces,
            self._threshold > 0,
            passes or per_pass,
            per_pass,
            smooths and bool(configuration["denoise.guides"]),
            record,
        )
        self._paths = Records(PATH, int(configuration["device.threads"]))
        for number in range(len(self._paths)):
            self._paths.bind("working", np.zeros(STACK_BYTES, np.uint8), number)
        memory_bytes = int(configuration["textures.memory"]) * MEBIBYTE
        make_room_for_tiles(self._paths, built.compiled.textures.tiles_on_disk, memory_bytes)
        self._cancel = np.zeros(1, np.int32)
        self._job = self._describe(seed, record, technique)
        self._tiles = cut_tiles(
            self._width, self._height, int(configuration["tiles.size"]), str(configuration["tiles.order"])
        )
        self._finishing = False
        self.after_pass: Callable[[], None] = lambda: None
        """called whenever all pixels have had their samples of a round"""
        self.done = 0
        """Samples that every pixel has, unless it stopped earlier"""
        self.stopped = ""
        """Why sampling ended before its most samples: "clean", "by hand", or empty"""
        self.idle_cycles = 0
        """Cycles that threads waited for the last tile of a round"""
        self.tile_cycles: list[np.ndarray] = []
        """For each round, what each tile took"""
        self.first_tile_cycles = 0
        self.error = np.zeros((self._height, self._width), np.float32)

    def tile_pixels(self) -> np.ndarray:
        """int64[n]: pixels of each tile."""
        return (self._tiles[:, 2] - self._tiles[:, 0]).astype(np.int64) * (self._tiles[:, 3] - self._tiles[:, 1])

    def texture_memory_bytes(self) -> int:
        """What the tiles read from disk take."""
        return int(self._paths.records["tile_held"].sum()) * TILE * TILE * 4

    def _describe(self, seed: int, record: bool, technique: int) -> Records:
        """The JOB record, without its tiles."""
        c, film = self._configuration, self.film
        job = Records(JOB, height=self._height, width=self._width, entries=self._bounces + 1)
        job.bind("scene", self._built.compiled.record)
        job.bind("lens", self._lens)
        job.bind("cancel", self._cancel)
        for name in FilmArrays._fields:
            job.bind(name, getattr(film, name))
        fields = job.records[0]
        fields["width"], fields["height"], fields["cell_columns"] = self._width, self._height, -(-self._width // CELL)
        fields["seed"], fields["record"], fields["technique"] = seed, record, technique
        fields["pattern"], fields["filter"] = PATTERNS[str(c["samples.pattern"])], FILTERS[str(c["samples.pixel_filter"])]
        fields["index_bits"] = (max(1, -(-self._maximum // 2)) - 1).bit_length()
        fields["bounces"], fields["roulette_start"] = self._bounces, c["bounces.roulette_start"]
        fields["caps"] = [c[f"bounces.{kind}"] for kind in KINDS]
        fields["caustics"], fields["indirect"] = CAUSTICS[str(c["light.caustics"])], c["light.indirect"]
        fields["haze_method"], fields["haze_step"] = HAZE_METHODS[str(c["volume.scattering"])], c["volume.step"]
        angle, width = pixel_cone(self._built.scene.camera, self._height)
        fields["pixel_spread"], fields["pixel_width"] = angle, width
        fields["clamp_direct"], fields["clamp_indirect"] = c["light.clamp_direct"], c["light.clamp_indirect"]
        fields["roughness_floor"] = c["light.roughness_floor"]
        fields["curve"], fields["exposure_gain"] = self.view.curve == "soft", 2.0**self.view.exposure
        fields["least_clamp"] = least_clamp(self.view)
        return job

    def stop(self) -> None:
        """Make `run` end soon with RenderStoppedError; may be called from any thread."""
        self._cancel[0] = 1

    def run(self, progress: Progress | None = None) -> None:
        """Take all samples. Raises RenderStoppedError after `stop`."""
        progressive = self._configuration["tiles.mode"] == "progressive"
        judged = self.done
        while self.done < self._maximum:
            if self.done == judged:  # passes in between change nothing about where the noise is looked at
                judged = next_target(self.done, self.minimum, self._maximum) if self._threshold > 0 else self._maximum
            target = min(judged, self.done + min(max(1, self.done), LONGEST_PASS)) if progressive else judged
            self._run_round(target, self.done, progress)
            self.done = target
            self.after_pass()
            if self._threshold > 0 and target == judged < self._maximum:
                self.error = pixel_error(self.film, self.view)
                self.film.active[...] &= self.film.samples < samples_wanted(self.error, self.film.samples, self._threshold)
                if not self.film.active.any():
                    break
            if progressive and self.done < self._maximum and self._enough():
                break
        self.error = pixel_error(self.film, self.view)

    def finish(self) -> bool:
        """Make `run` end after the pass in hand and keep the picture; False where there are no passes to end after."""
        self._finishing = self._configuration["tiles.mode"] == "progressive"
        return self._finishing

    def _enough(self) -> bool:
        """Whether the picture may stay as it is, and `stopped` says why."""
        limit = float(self._configuration["samples.stop_at_grain"])
        if self._finishing:
            self.stopped = "by hand"
        elif limit > 0 and self.done >= LEAST_JUDGED and self.grain() <= limit:
            self.stopped = "clean"
        return bool(self.stopped)

    def grain(self) -> float:
        """The grain so far in levels, from the two halves of the samples."""
        a, b = (self.view.levels(half) for half in halves_of(self.film))
        return float(np.sqrt(np.mean((a - b) ** 2)) / 2)

    def _run_round(self, target: int, done: int, progress: Progress | None) -> None:
        tiles, counter = self._tiles, np.zeros(1, np.int64)
        finished, spent = np.zeros(len(tiles), np.uint64), np.zeros(len(tiles), np.uint64)
        job = self._job.records[0]
        for name, array in (("tiles", tiles), ("counter", counter), ("finished", finished), ("spent", spent)):
            self._job.bind(name, array)
        job["tile_count"], job["target"] = len(tiles), target
        work = from_python(render_tiles)
        threads = [
            threading.Thread(
                target=work,
                name=f"render-{i}",
                daemon=True,
                args=(self._job.address, address_of(self._paths.records[i : i + 1])),
            )
            for i in range(len(self._paths))
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
        check_outside()
        if self._cancel[0]:
            raise RenderStoppedError("the render was stopped")
        if not self.first_tile_cycles:
            self.first_tile_cycles = int(finished.min())
        ended = self._paths.records["thread"]["ended"]
        self.idle_cycles += int((ended.max() - ended).sum())
        self.tile_cycles.append(spent)

    def rays_by_bounce(self) -> np.ndarray:
        """int64[bounces + 2, 8]: rays cast by bounce and kind, in the order of RAY_KINDS."""
        return self._paths.records["thread"]["rays"].sum(axis=0)[: self._bounces + 2]

    def cycles_by_bounce(self) -> np.ndarray:
        """uint64[bounces + 2, 8]: processor cycles by bounce and by the kind of ray that led there, over all threads."""
        return self._paths.records["thread"]["cycles"].sum(axis=0)[: self._bounces + 2]

    def grain_by_samples(self) -> dict[int, float]:
        """Grain in levels at every power of two of samples; empty where pixels stop at different counts."""
        if self._threshold > 0:
            return {}
        counts = pixels_by_cell(self._height, self._width) / (self._width * self._height)
        return {n: float(np.sqrt((grain.astype(np.float64) ** 2 * counts).sum())) for n, grain in self.grain_cells().items()}

    def grain_cells(self) -> dict[int, np.ndarray]:
        """The same as reduced pictures."""
        return {} if self._threshold > 0 else grain_cells(self.film, self.done)

    def texture_reads(self) -> int:
        return int(self._paths.records["thread"]["reads"].sum())

    def texture_misses(self) -> int:
        """How often a tile was read from disk."""
        return int(self._paths.records["thread"]["misses"].sum())

    def dropped_samples(self) -> int:
        return int(self._paths.records["thread"]["dropped"].sum())


@kernel
def cycles_now():  # type: ignore[no-untyped-def]
    """The cycle counter, callable from Python."""
    return read_cycles()  # type: ignore[call-arg]


def render(
    built: BuiltScene,
    configuration: Configuration,
    size: tuple[int, int],
    seed: int,
    view: View,
    stopwatch: Stopwatch,
    progress: Progress | None = None,
    on_start: Callable[[Sampling], None] | None = None,
    record: bool = True,
    passes: bool = True,
    technique: int = BOTH,
) -> tuple[Picture, RenderRecord]:
    """Take the samples of one picture; everything before and after it has its own phase elsewhere.

    `record` keeps what explains the time and the noise, `passes` the light passes.
    `stopwatch` already holds the earlier phases; `on_start` receives the sampling so that it can be stopped.
    Raises RenderStoppedError.
    """
    device = None if configuration["device.kind"] == PROCESSOR else read_accelerator()
    before = sum(stopwatch.wall.values())
    started, start_cycles = time.perf_counter(), int(cycles_now())
    with stopwatch.phase("sampling"):
        sampling = Sampling(built, configuration, size, seed, view, record, passes, technique)
        if on_start is not None:
            on_start(sampling)
        if device is not None:
            device.check_memory(
                sum(built.memory_bytes.values()) + film_memory_bytes(sampling.film), int(sampling.tile_pixels().max())
            )
        sampling.run(progress)
    seconds_per_cycle = (time.perf_counter() - started) / max(1, int(cycles_now()) - start_cycles)
    first = (sampling.first_tile_cycles - start_cycles) * seconds_per_cycle
    if device is not None:
        simulated = _on_device(sampling, device, configuration, seconds_per_cycle)
        first, stopwatch.wall["sampling"] = simulated.first_tile, simulated.seconds
        stopwatch.processor["sampling"] = simulated.processor_seconds
    stopwatch.wall["first_picture"] = before + first
    picture = finish_film(sampling.film, seconds_per_cycle, sampling.error)
    if record:
        picture.reduced = {f"light.{k}": light for k, light in enumerate(np.moveaxis(light_cells(sampling.film), 2, 0))}
        picture.reduced |= {f"grain.{n}": grain for n, grain in sampling.grain_cells().items()}
    return picture, _record_of(sampling, built, configuration, stopwatch, seconds_per_cycle)


def _on_device(sampling: Sampling, device: Accelerator, configuration: Configuration, seconds_per_cycle: float) -> Simulated:
    """The time of the stand-in for the work that the processor's threads just did."""
    pixels = sampling.tile_pixels()
    threads = int(configuration["device.threads"]) if configuration["device.kind"] == EVERYTHING else 0
    return simulate(device, [(pixels, cycles * seconds_per_cycle) for cycles in sampling.tile_cycles], threads)


def _record_of(
    sampling: Sampling, built: BuiltScene, configuration: Configuration, stopwatch: Stopwatch, seconds_per_cycle: float
) -> RenderRecord:
    film, maximum = sampling.film, int(configuration["samples.max"])
    samples, compiled = film.samples, built.compiled
    seconds = film.cycles * seconds_per_cycle
    by_bounce = [_by_kind(row, int) for row in sampling.rays_by_bounce()]
    by_kind = {kind: sum(kinds.get(kind, 0) for kinds in by_bounce) for kind in RAY_KINDS}
    return RenderRecord(
        samples=Samples(
            mean=float(samples.mean()),
            min=int(samples.min()),
            max=int(samples.max()),
            share_at_max=float((samples >= maximum).mean()),
            min_used=sampling.minimum,
        ),
        rays={"total": sum(by_kind.values()), **by_kind, "by_bounce": by_bounce},
        seconds_by_bounce=[_by_kind(row * seconds_per_cycle, float) for row in sampling.cycles_by_bounce()],
        light_by_bounce=mean_light(film).tolist(),
        grain_by_samples=sampling.grain_by_samples(),
        seconds_by_material=_by_name(film.material, seconds, compiled.materials),
        seconds_by_object=_by_name(film.object, seconds, compiled.surfaces.objects),
        picture_by_material=_by_name(film.material, np.full(film.material.shape, 1 / film.material.size), compiled.materials),
        triangles_a_pixel=_triangles_a_pixel(film.object, compiled.surfaces),
        texels_a_pixel=texels_a_pixel(built.scene, film.samples.shape[1], film.samples.shape[0]),
        numbers={"material": _numbers(compiled.materials), "object": _numbers(compiled.surfaces.objects)},
        textures=_textures_held(built.scene, configuration),
        texture_reads=sampling.texture_reads(),
        texture_misses=sampling.texture_misses(),
        memory_bytes={
            **built.memory_bytes,
            "textures": built.memory_bytes["textures"] + sampling.texture_memory_bytes(),
            "film": film_memory_bytes(film),
        },
        dropped_samples=sampling.dropped_samples(),
        **_limits_of(sampling, configuration),
        tail_seconds=sampling.idle_cycles * seconds_per_cycle,
        simulated=configuration.is_simulated,
        stopped=sampling.stopped,
        saved_seconds=stopwatch.wall["sampling"] * (maximum / sampling.done - 1) if sampling.stopped else 0.0,
    )


def _limits_of(sampling: Sampling, configuration: Configuration) -> dict[str, Any]:
    """What the render says of tighter limits, where it was recorded."""
    if not sampling.film.clamped.size:
        return {}
    direct, indirect = (float(configuration[key]) for key in CLAMP_KEYS)
    own, maximum = float(configuration["samples.noise_threshold"]), int(configuration["samples.max"])
    most = sampling.done if sampling.stopped else maximum
    replayed = by_threshold(sampling.film, sampling.error, sampling.minimum, most, own)
    return {
        "light_clamped": light_clamped(sampling.film),
        "shift_by_setting": shift_by_setting(sampling.film, sampling.view, (direct, indirect)),
        "grain_by_setting": grain_by_setting(sampling.film, sampling.view, (direct, indirect)),
        "samples_by_setting": {"samples.noise_threshold": replayed} if replayed else {},
    }


def _by_kind(row: np.ndarray, number: type) -> dict[str, Any]:
    return {kind: number(value) for kind, value in zip(RAY_KINDS, row, strict=True) if value}


def _numbers(names: list[str]) -> dict[str, list[int]]:
    """Under which numbers the film's layers hold each name; several things may have one."""
    found: dict[str, list[int]] = {"background": [-1]}
    for number, name in enumerate(names):
        found.setdefault(name, []).append(number)
    return found


def _textures_held(scene: Scene, configuration: Configuration) -> list[TextureHeld]:
    """The largest textures with the materials that use them, as this configuration holds them."""
    most = int(configuration["textures.max_size"])
    used: dict[int, tuple[Texture, list[str]]] = {}
    for material in scene.materials:
        for use in material.textures.values():
            used.setdefault(id(use.texture), (use.texture, []))[1].append(material.name)
    held = []
    for texture, materials in used.values():
        width, height = texture.size
        while most and max(width, height) > most:
            width, height = max(1, width // 2), max(1, height // 2)
        levels = 1 if texture.nearest else 4 / 3
        names = list(dict.fromkeys(materials))
        held.append(
            TextureHeld(
                name=texture.name, width=width, height=height, bytes=int(4 * width * height * levels), materials=names
            )
        )
    return sorted(held, key=lambda one: -one.bytes)[:MOST_TEXTURES]


def _triangles_a_pixel(shown: np.ndarray, surfaces: SurfaceTable) -> dict[str, float]:
    """Half of each object's triangles, for the others face away, over the pixels that show it first, where many do."""
    pixels = np.bincount(shown.ravel() + 1, minlength=len(surfaces.objects) + 1)[1:]
    triangles = np.bincount(surfaces.faces["object"], minlength=len(surfaces.objects))
    return {
        name: t / 2 / p
        for name, t, p in zip(surfaces.objects, triangles.tolist(), pixels.tolist(), strict=True)
        if p > MANY_PIXELS * shown.size
    }


def _by_name(places: np.ndarray, amounts: np.ndarray, names: list[str]) -> dict[str, float]:
    """What the pixels that show each thing first add up to, the most first; `background` where there is none."""
    sums = np.bincount(places.ravel() + 1, weights=amounts.ravel(), minlength=len(names) + 1)
    found: dict[str, float] = {}
    for name, value in zip(["background", *names], sums, strict=True):
        if value > 0:
            found[name] = found.get(name, 0.0) + float(value)
    return dict(sorted(found.items(), key=lambda item: -item[1]))

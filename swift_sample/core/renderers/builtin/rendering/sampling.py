"""The sampling of one picture: threads that take tiles, round after round."""

import threading
from collections.abc import Callable, Sequence

import numpy as np

from swift_sample.core.budget import MEBIBYTE
from swift_sample.core.errors import RenderStoppedError, SwiftSampleError
from swift_sample.core.kernels.compiling import from_python
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.film import (
    FilmArrays,
    grain_cells,
    new_film,
    pixels_by_cell,
)
from swift_sample.core.renderers.builtin.film.limits import least_clamp
from swift_sample.core.renderers.builtin.film.recording import RecordedSums
from swift_sample.core.renderers.builtin.film.rounds import Rounds, Schedule
from swift_sample.core.renderers.builtin.kernels.camera import BELL, BOX, TENT
from swift_sample.core.renderers.builtin.kernels.sampler import BLUE_NOISE, EVEN, RANDOM
from swift_sample.core.renderers.builtin.kernels.textures import make_room_for_tiles
from swift_sample.core.renderers.builtin.kernels.tiles import render_tiles
from swift_sample.core.renderers.builtin.kernels.traverse import STACK_BYTES
from swift_sample.core.renderers.builtin.lowlevel.records import (
    BOTH,
    CELL,
    JOB,
    KEEP_REFLECTED,
    KEEP_REFRACTED,
    KINDS,
    MARCHED,
    PATH,
    UNBIASED,
    UNSCATTERED,
)
from swift_sample.core.renderers.builtin.lowlevel.schema import Records, address_of, check_outside
from swift_sample.core.renderers.builtin.rendering.building import BuiltScene
from swift_sample.core.renderers.builtin.rendering.orders import cut_tiles
from swift_sample.core.renderers.builtin.stems import index_bits
from swift_sample.core.renderers.builtin.tables.pyramids import TILE
from swift_sample.core.renderers.builtin.tables.scene import compile_camera, pixel_cone
from swift_sample.core.settings import Configuration

PATTERNS = {"even": EVEN, "random": RANDOM, "blue noise": BLUE_NOISE}
FILTERS = {"box": BOX, "tent": TENT, "bell": BELL}
CAUSTICS = {
    "all": KEEP_REFLECTED | KEEP_REFRACTED,
    "reflected": KEEP_REFLECTED,
    "refracted": KEEP_REFRACTED,
    "none": 0,
}
HAZE_METHODS = {"exact": UNBIASED, "stepped": MARCHED, "off": UNSCATTERED}
MAX_PIXELS = 1 << 27
POLL_SECONDS = 0.02
Progress = Callable[[float], None]
"""Told the share of the sampling that is done, 0 to 1, while it goes on."""


def picture_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """The size after `output.scale`: each side is rounded half up and is at least 1."""
    width, height = (max(1, int(np.floor(side * scale + 0.5))) for side in size)
    if width * height > MAX_PIXELS:
        raise SwiftSampleError(
            f"size={width}x{height}: at most {MAX_PIXELS} pixels can be rendered; use a smaller one"
        )

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
        recorded: RecordedSums | None = None,
    ) -> None:
        self._configuration = configuration
        self.view = view
        self._built = built
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
        schedule = Schedule.of(configuration)
        smooths = (
            configuration["denoise.method"] != "none" and configuration["denoise.strength"] != 0
        )
        per_pass = smooths and bool(configuration["denoise.per_pass"])

        self.film: FilmArrays = new_film(
            self._width,
            self._height,
            self._bounces,
            schedule.threshold > 0,
            passes or per_pass,
            per_pass,
            recorded is not None or (smooths and bool(configuration["denoise.guides"])),
            record,
        )
        self.rounds = Rounds(schedule, self.film, view)
        """in which samples are taken, and what they came to"""
        self._paths = Records(PATH, int(configuration["device.threads"]))
        for number in range(len(self._paths)):
            self._paths.bind("working", np.zeros(STACK_BYTES, np.uint8), number)

        memory_bytes = int(configuration["textures.memory"]) * MEBIBYTE
        make_room_for_tiles(self._paths, built.compiled.textures.tiles_on_disk, memory_bytes)
        self._cancel = np.zeros(1, np.int32)
        self._job = self._describe(seed, record, technique)
        if recorded is not None:
            self._record(recorded)
        self._tiles = cut_tiles(
            self._width,
            self._height,
            int(configuration["tiles.size"]),
            str(configuration["tiles.order"]),
        )
        self.after_pass: Callable[[], None] = lambda: None
        """called whenever all pixels have had their samples of a round"""
        self.idle_cycles = 0
        """Cycles that threads waited for the last tile of a round"""
        self.tile_cycles: list[np.ndarray] = []
        """For each round, what each tile took"""
        self.first_tile_cycles = 0

    def tile_pixels(self) -> np.ndarray:
        """int64[n]: pixels of each tile."""
        return (self._tiles[:, 2] - self._tiles[:, 0]).astype(np.int64) * (
            self._tiles[:, 3] - self._tiles[:, 1]
        )

    def texture_memory_bytes(self) -> int:
        """What the tiles read from disk take."""
        return int(self._paths.records["tile_held"].sum()) * TILE * TILE * 4

    def _describe(self, seed: int, record: bool, technique: int) -> Records:
        """The JOB record, without its tiles."""
        c = self._configuration
        film = self.film
        job = Records(JOB, height=self._height, width=self._width, entries=self._bounces + 1)
        job.bind("scene", self._built.compiled.record)
        job.bind("lens", self._lens)
        job.bind("cancel", self._cancel)
        for name in FilmArrays._fields:
            job.bind(name, getattr(film, name))

        fields = job.records[0]
        fields["width"] = self._width
        fields["height"] = self._height
        fields["cell_columns"] = -(-self._width // CELL)
        fields["seed"] = seed
        fields["record"] = record
        fields["technique"] = technique
        fields["pattern"] = PATTERNS[str(c["samples.pattern"])]
        fields["filter"] = FILTERS[str(c["samples.pixel_filter"])]
        fields["index_bits"] = index_bits(int(c["samples.max"]))
        fields["bounces"] = self._bounces
        fields["roulette_start"] = c["bounces.roulette_start"]
        fields["caps"] = [c[f"bounces.{kind}"] for kind in KINDS]
        fields["caustics"] = CAUSTICS[str(c["light.caustics"])]
        fields["indirect"] = c["light.indirect"]
        fields["haze_method"] = HAZE_METHODS[str(c["volume.scattering"])]
        fields["haze_step"] = c["volume.step"]
        angle, width = pixel_cone(self._built.scene.camera, self._height)
        fields["pixel_spread"] = angle
        fields["pixel_width"] = width
        fields["clamp_direct"] = c["light.clamp_direct"]
        fields["clamp_indirect"] = c["light.clamp_indirect"]
        fields["roughness_floor"] = c["light.roughness_floor"]
        fields["curve"] = self.view.curve == "soft"
        fields["exposure_gain"] = 2.0**self.view.exposure
        fields["least_clamp"] = least_clamp(self.view)

        return job

    def record(
        self, counts: Sequence[int], keep: Callable[[int], None], progress: Progress | None = None
    ) -> None:
        """Take all samples, and call `keep` whenever every pixel has one of these numbers of them,
        which rise up to the most. Raises RenderStoppedError after `stop`."""
        for count in counts:
            self._run_round(count, self.rounds.done, progress)
            self.rounds.done = count
            keep(count)

    def _record(self, recorded: RecordedSums) -> None:
        """Add the films of other limits up beside the own one."""
        for name, array in recorded.arrays().items():
            self._job.bind(name, array)

        plan = recorded.plan
        fields = self._job.records[0]
        fields["end_count"] = len(plan.ends)
        fields["clamp_count"] = len(plan.clamps)
        fields["least_direct"] = min((c.direct for c in plan.clamps if c.direct), default=np.inf)
        fields["least_indirect"] = min(
            (c.indirect for c in plan.clamps if c.indirect), default=np.inf
        )

    def stop(self) -> None:
        """Make `run` end soon with RenderStoppedError; may be called from any thread."""
        self._cancel[0] = 1

    def run(self, progress: Progress | None = None) -> None:
        """Take all samples. Raises RenderStoppedError after `stop`."""
        self.rounds.run(
            lambda target, done: self._run_round(target, done, progress), lambda: self.after_pass()
        )

    def _run_round(self, target: int, done: int, progress: Progress | None) -> None:
        tiles = self._tiles
        counter = np.zeros(1, np.int64)
        finished = np.zeros(len(tiles), np.uint64)
        spent = np.zeros(len(tiles), np.uint64)
        job = self._job.records[0]
        for name, array in (
            ("tiles", tiles),
            ("counter", counter),
            ("finished", finished),
            ("spent", spent),
        ):
            self._job.bind(name, array)

        job["tile_count"] = len(tiles)
        job["target"] = target
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
                        progress((done + share * (target - done)) / self.rounds.schedule.maximum)
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
        """uint64[bounces + 2, 8]: processor cycles by bounce and by the kind of ray that led there,
        over all threads."""
        return self._paths.records["thread"]["cycles"].sum(axis=0)[: self._bounces + 2]

    def grain_by_samples(self) -> dict[int, float]:
        """Grain in levels at every power of two of samples; empty where pixels stop at different
        counts."""
        if self.rounds.schedule.threshold > 0:
            return {}

        counts = pixels_by_cell(self._height, self._width) / (self._width * self._height)
        return {
            n: float(np.sqrt((grain.astype(np.float64) ** 2 * counts).sum()))
            for n, grain in self.grain_cells().items()
        }

    def grain_cells(self) -> dict[int, np.ndarray]:
        """The same as reduced pictures."""
        if self.rounds.schedule.threshold > 0:
            return {}
        return grain_cells(self.film, self.rounds.done)

    def texture_reads(self) -> int:
        return int(self._paths.records["thread"]["reads"].sum())

    def texture_misses(self) -> int:
        """How often a tile was read from disk."""
        return int(self._paths.records["thread"]["misses"].sum())

    def dropped_samples(self) -> int:
        return int(self._paths.records["thread"]["dropped"].sum())

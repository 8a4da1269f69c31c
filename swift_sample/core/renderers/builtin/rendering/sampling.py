"""The sampling of one picture: threads that take tiles, round after round."""

import threading
from collections.abc import Callable

import numpy as np

from swift_sample.core.budget import MEBIBYTE
from swift_sample.core.errors import RenderStoppedError, SwiftSampleError
from swift_sample.core.kernels.compiling import from_python
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.adaptive import (
    AUTOMATIC_MINIMUM,
    next_target,
    pixel_error,
    samples_wanted,
)
from swift_sample.core.renderers.builtin.film.film import (
    FilmArrays,
    grain_cells,
    halves_of,
    new_film,
    pixels_by_cell,
)
from swift_sample.core.renderers.builtin.film.limits import least_clamp
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
LONGEST_PASS = 16
"""Passes of the progressive mode grow from one sample a pixel to this many."""
LEAST_JUDGED = 8
"""Samples that a picture has before its grain is judged."""
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
        self._maximum = int(configuration["samples.max"])
        self._threshold = float(configuration["samples.noise_threshold"])
        self.minimum = min(self._maximum, int(configuration["samples.min"]) or AUTOMATIC_MINIMUM)
        smooths = (
            configuration["denoise.method"] != "none" and configuration["denoise.strength"] != 0
        )
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
            self._width,
            self._height,
            int(configuration["tiles.size"]),
            str(configuration["tiles.order"]),
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
        fields["index_bits"] = (max(1, -(-self._maximum // 2)) - 1).bit_length()
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

    def stop(self) -> None:
        """Make `run` end soon with RenderStoppedError; may be called from any thread."""
        self._cancel[0] = 1

    def run(self, progress: Progress | None = None) -> None:
        """Take all samples. Raises RenderStoppedError after `stop`."""
        progressive = self._configuration["tiles.mode"] == "progressive"
        judged = self.done

        while self.done < self._maximum:
            if (
                self.done == judged
            ):  # passes in between change nothing about where the noise is looked at
                judged = (
                    next_target(self.done, self.minimum, self._maximum)
                    if self._threshold > 0
                    else self._maximum
                )

            target = (
                min(judged, self.done + min(max(1, self.done), LONGEST_PASS))
                if progressive
                else judged
            )
            self._run_round(target, self.done, progress)
            self.done = target
            self.after_pass()

            if self._threshold > 0 and target == judged < self._maximum:
                self.error = pixel_error(self.film, self.view)
                self.film.active[...] &= self.film.samples < samples_wanted(
                    self.error, self.film.samples, self._threshold
                )
                if not self.film.active.any():
                    break

            if progressive and self.done < self._maximum and self._enough():
                break

        self.error = pixel_error(self.film, self.view)

    def finish(self) -> bool:
        """Make `run` end after the pass in hand and keep the picture; False where there are no
        passes to end after."""
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
        """uint64[bounces + 2, 8]: processor cycles by bounce and by the kind of ray that led there,
        over all threads."""
        return self._paths.records["thread"]["cycles"].sum(axis=0)[: self._bounces + 2]

    def grain_by_samples(self) -> dict[int, float]:
        """Grain in levels at every power of two of samples; empty where pixels stop at different
        counts."""
        if self._threshold > 0:
            return {}

        counts = pixels_by_cell(self._height, self._width) / (self._width * self._height)
        return {
            n: float(np.sqrt((grain.astype(np.float64) ** 2 * counts).sum()))
            for n, grain in self.grain_cells().items()
        }

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

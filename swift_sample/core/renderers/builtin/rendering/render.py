"""One render from scene to picture: phases, threads, rounds of sampling, and the records that
explain them."""

import time
from collections.abc import Callable

import numpy as np

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.film import (
    film_memory_bytes,
    finish_film,
    light_cells,
)
from swift_sample.core.renderers.builtin.lowlevel.records import BOTH
from swift_sample.core.renderers.builtin.lowlevel.simd import read_cycles
from swift_sample.core.renderers.builtin.rendering.accelerator import (
    EVERYTHING,
    PROCESSOR,
    Accelerator,
    Simulated,
    read_accelerator,
    simulate,
)
from swift_sample.core.renderers.builtin.rendering.building import BuiltScene, Stopwatch
from swift_sample.core.renderers.builtin.rendering.record import record_of
from swift_sample.core.renderers.builtin.rendering.sampling import Progress, Sampling
from swift_sample.core.renderers.records import RenderRecord
from swift_sample.core.settings import Configuration


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

    `record` keeps what explains the time and the noise, `passes` the light passes. `stopwatch`
    already holds the earlier phases; `on_start` receives the sampling so that it can be stopped.
    Raises RenderStoppedError.
    """
    device = None if configuration["device.kind"] == PROCESSOR else read_accelerator()
    before = sum(stopwatch.wall.values())
    started = time.perf_counter()
    start_cycles = int(cycles_now())

    with stopwatch.phase("sampling"):
        sampling = Sampling(built, configuration, size, seed, view, record, passes, technique)
        if on_start is not None:
            on_start(sampling)

        if device is not None:
            device.check_memory(
                sum(built.memory_bytes.values()) + film_memory_bytes(sampling.film),
                int(sampling.tile_pixels().max()),
            )

        sampling.run(progress)

    seconds_per_cycle = (time.perf_counter() - started) / max(1, int(cycles_now()) - start_cycles)
    first = (sampling.first_tile_cycles - start_cycles) * seconds_per_cycle

    if device is not None:
        simulated = _on_device(sampling, device, configuration, seconds_per_cycle)
        first = simulated.first_tile
        stopwatch.wall["sampling"] = simulated.seconds
        stopwatch.processor["sampling"] = simulated.processor_seconds

    stopwatch.wall["first_picture"] = before + first
    picture = finish_film(sampling.film, seconds_per_cycle, sampling.rounds.error)

    if record:
        picture.reduced = {
            f"light.{k}": light
            for k, light in enumerate(np.moveaxis(light_cells(sampling.film), 2, 0))
        }
        picture.reduced |= {f"grain.{n}": grain for n, grain in sampling.grain_cells().items()}

    return picture, record_of(sampling, built, configuration, stopwatch, seconds_per_cycle)


def _on_device(
    sampling: Sampling, device: Accelerator, configuration: Configuration, seconds_per_cycle: float
) -> Simulated:
    """The time of the stand-in for the work that the processor's threads just did."""
    pixels = sampling.tile_pixels()
    threads = (
        int(configuration["device.threads"]) if configuration["device.kind"] == EVERYTHING else 0
    )
    return simulate(
        device, [(pixels, cycles * seconds_per_cycle) for cycles in sampling.tile_cycles], threads
    )

"""What stopping clean pixels early spares: processor time at equal grain, against equal samples for
all pixels."""

import time

import numpy as np
from scipy.ndimage import uniform_filter

from benchmarks.speed.efficiency import SCENES
from swift_sample.core.measure.cells import cell_side
from swift_sample.core.measure.worst import WORST_SHARE
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.rendering.building import (
    BuiltScene,
    Stopwatch,
    build_scene,
    choices_of,
)
from swift_sample.core.renderers.builtin.rendering.render import render

SIZE = (240, 135)
SEEDS = 3
EVEN = (16, 32, 64, 128, 256)
THRESHOLDS = (0.08, 0.04, 0.02)
MOST = 1024
VIEW = View(0.0, "soft")


def taken(built: BuiltScene, values: dict) -> tuple[float, float, float]:
    """Median seconds, grain in the worst places, and grain of the whole picture in levels."""
    configuration = configured({"bounces.total": 12, **values})
    squared = np.zeros((SIZE[1], SIZE[0]))
    seconds = []

    for seed in range(SEEDS):
        started = time.process_time()
        picture, _ = render(built, configuration, SIZE, seed, VIEW, Stopwatch(), passes=False)
        seconds.append(time.process_time() - started)
        a, b = (VIEW.levels(half) for half in picture.halves)
        squared += ((a - b) ** 2).mean(axis=2) / 4 / SEEDS

    cells = np.sort(uniform_filter(squared, round(cell_side(SIZE[1])), mode="reflect").ravel())
    worst = cells[-round(WORST_SHARE * cells.size) :].mean()
    return float(np.median(seconds)), float(worst**0.5), float(squared.mean() ** 0.5)


def seconds_for(even: np.ndarray, column: int, grain: float) -> float:
    """Seconds in which even sampling has a grain, between the counts tried; beyond the last by its
    root."""
    times = np.log(even[:, 0])
    grains = np.log(even[:, column])
    if np.log(grain) < grains[-1]:
        return float(np.exp(times[-1] + 2 * (grains[-1] - np.log(grain))))

    return float(np.exp(np.interp(-np.log(grain), -grains, times)))


def main() -> None:
    """Print the time with each threshold over that of even sampling with the same grain."""
    for name, make in SCENES.items():
        built = build_scene(make(), Stopwatch(), choices_of(configured({})))
        even = np.array([taken(built, {"samples.max": n}) for n in EVEN])
        print(
            f"  {name}: even "
            + ", ".join(
                f"{n}: {s:.2f} s, {w:.1f} worst, {g:.2f}"
                for n, (s, w, g) in zip(EVEN, even, strict=True)
            )
        )

        for threshold in THRESHOLDS:
            seconds, worst, whole = taken(
                built, {"samples.max": MOST, "samples.noise_threshold": threshold}
            )
            print(
                f"    threshold {threshold:g}: {seconds:5.2f} s, grain {worst:5.2f} in the worst "
                f"places, {whole:.2f} of the "
                "whole; time over even sampling at equal worst "
                f"{seconds / seconds_for(even, 1, worst):.2f}, at equal whole "
                f"{seconds / seconds_for(even, 2, whole):.2f}",
                flush=True,
            )

"""Do the measures hold on the renderer's own noise? Many seeds of three scenes, raw and denoised,
with all their light and with a third of the bounces; what a few runs say beside what all of them
say.

Pictures are kept in build/noise, so that a change of a formula is looked at in a minute; the first
run renders for half an hour. Printed by measure and number of runs: how far the mean over seeds is
off the figure of all runs, and the share of 95 % intervals that hold it, in the whole picture and
in places of 32 pixels.
"""

from collections import defaultdict
from pathlib import Path

import numpy as np

from swift_sample.core.measure.compare import Area, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RenderSpec

KEPT = Path("build/noise")
SIZE = (160, 90)
VIEW = View(0.0, "soft")
SIDE = 32
SCENES = {"honey-stall": 16, "honey-jar": 16, "honey-room": 96}
"""Samples a pixel of a run, by scene."""
SEEDS, FEW_SEEDS, REFERENCE_PARTS, REFERENCE_SAMPLES = 24, 12, 4, 1000
ALL_BOUNCES = 10
FEW_BOUNCES = 3
SHOWN = (
    "grain",
    "light_shift",
    "detail_kept",
    "stray_pixels",
    "rms",
    "grain_worst",
    "light_shift_worst",
    "detail_kept_worst",
)
RUNS = (2, 3, 6)
Pictures = dict[str, np.ndarray]


def rendered(scene: str, samples: int) -> Pictures:
    """Every picture of a scene, from the file where it is kept."""
    path = KEPT / f"{scene}.npz"
    if path.is_file():
        return dict(np.load(path))

    engine = RENDERER.engine()

    def one(seed: int, count: int, bounces: int) -> Picture:
        settings = {"samples.max": count, "bounces.total": bounces}
        spec = RenderSpec(scene=scene, size=SIZE, settings=settings, seed=seed)
        return engine.render(spec, None, lambda share: None, lambda stop: None)[0]

    print(f"  rendering {scene} ...", flush=True)
    denoiser = configured({"denoise.method": "wavelet", "samples.max": samples})
    whole = [one(1000 + k, samples, ALL_BOUNCES) for k in range(SEEDS)]
    few = [one(2000 + k, samples, FEW_BOUNCES) for k in range(FEW_SEEDS)]
    clean = [one(5000 + k, REFERENCE_SAMPLES, ALL_BOUNCES).beauty for k in range(REFERENCE_PARTS)]
    half = REFERENCE_PARTS // 2

    found = {
        "raw": np.array([p.beauty for p in whole]),
        "denoised": np.array([engine.denoise(p, denoiser).beauty for p in whole]),
        "few bounces": np.array([p.beauty for p in few]),
        "few bounces, denoised": np.array([engine.denoise(p, denoiser).beauty for p in few]),
        "half_a": np.mean(clean[:half], axis=0),
        "half_b": np.mean(clean[half:], axis=0),
    }
    KEPT.mkdir(parents=True, exist_ok=True)
    np.savez(path, **found)

    return found


def main() -> None:
    """Print the table."""
    width, height = SIZE
    areas = tuple(
        Area(f"{x} {y}", x, y, SIDE, min(SIDE, height - y))
        for x in range(0, width - SIDE + 1, SIDE)
        for y in range(0, height - SIDE // 2, SIDE)
    )

    off: dict[tuple[str, int], list[float]] = defaultdict(list)
    held: dict[tuple[str, int, bool], list[bool]] = defaultdict(list)

    for scene, samples in SCENES.items():
        pictures = rendered(scene, samples)
        halves = pictures.pop("half_a"), pictures.pop("half_b")
        clean = np.asarray((halves[0] + halves[1]) / 2, np.float32)

        def look(
            some: np.ndarray,
            clean: np.ndarray = clean,
            halves: tuple[np.ndarray, np.ndarray] = halves,
        ) -> dict[str, dict[str, Figure | None]]:
            return measure(Comparison(list(some), clean, VIEW, None, halves), areas)

        for runs in pictures.values():
            truth = look(runs)
            for count in RUNS:
                few = [look(runs[k : k + count]) for k in range(0, len(runs) - count + 1, count)]
                for place, figures in truth.items():
                    for key in SHOWN:
                        true = figures.get(key)
                        said = [f for one in few if (f := one[place].get(key)) is not None]
                        if true is None or not said:
                            continue
                        held[key, count, place == ""] += [
                            f.low <= true.value <= f.high for f in said
                        ]
                        if place == "":
                            off[key, count].append(
                                float(np.mean([f.value for f in said])) - true.value
                            )

    print(
        "| measure | "
        + " | ".join(f"off, {n} runs | held in the picture | held in places" for n in RUNS)
        + " |"
    )
    print("|---|" + "---:|---:|---:|" * len(RUNS))

    for key in SHOWN:
        cells = []
        for count in RUNS:
            most = max(off[key, count], key=abs)
            inside = held[key, count, True]
            places = held[key, count, False]
            cells.append(
                f"{np.mean(off[key, count]):+.2f}, at most {most:+.2f} | {np.mean(inside):.0%} "
                f"of {len(inside)}"
            )
            cells.append(f"{np.mean(places):.0%} of {len(places)}" if places else "–")

        print(f"| {KINDS[key].label} | " + " | ".join(cells) + " |")

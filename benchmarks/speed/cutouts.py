"""Leaves and grass in four ways: half see-through, cut out by a mask, cut out as geometry, and not
at all. Time, memory and error of each against the mask in many samples, and their pictures in
`build/cutouts.png`."""

from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

from benchmarks.alternate import alternate
from benchmarks.speed.foliage import foliage
from swift_sample.core.measure.compare import WHOLE, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.rendering.building import (
    Stopwatch,
    build_scene,
    choices_of,
)
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.scene.features import with_changes
from swift_sample.core.scene.model import BLEND, MASK, Scene

SIZE = (320, 180)
SAMPLES = 32
REFERENCE_SAMPLES = 1024
ROUNDS = 5
VIEW = View(curve="soft")
CROP = (100, 20, 100, 100)
TARGET = Path("build/cutouts.png")


def main() -> None:
    """Print the table, and write the pictures."""
    configuration = configured({"samples.max": SAMPLES, "device.threads": 2})
    masked = foliage()
    scenes = {"see-through": _blended(masked), "mask": masked}
    for value in ("geometry", "opaque"):
        scenes[value] = with_changes(
            masked, {f"feature.{name}.cutout": value for name in ("leaves", "grass")}
        )

    many = configuration.replace({"samples.max": REFERENCE_SAMPLES})
    clean, _ = render(
        build_scene(masked, Stopwatch(), choices_of(many)), many, SIZE, 99, VIEW, Stopwatch()
    )
    pictures: dict[str, list[Picture]] = {name: [] for name in scenes}
    told: dict[str, list[tuple[float, float]]] = {name: [] for name in scenes}
    held: dict[str, int] = {}

    def run(name: str) -> float:
        stopwatch = Stopwatch()
        built = build_scene(scenes[name], stopwatch, choices_of(configuration))
        picture, record = render(
            built, configuration, SIZE, len(pictures[name]) + 1, VIEW, stopwatch
        )
        pictures[name].append(picture)
        told[name].append((stopwatch.wall["build"], stopwatch.wall["sampling"]))
        held[name] = sum(record.memory_bytes.values())

        return stopwatch.wall["sampling"]

    alternate({name: lambda name=name: run(name) for name in scenes}, ROUNDS)  # type: ignore[misc]
    for name, scene in scenes.items():
        build, sampling = np.median(told[name], axis=0)
        figures = measure(
            Comparison([p.beauty for p in pictures[name]], clean.beauty, VIEW, None, clean.halves)
        )[WHOLE]
        grain, shift, detail = (
            figures[key].value for key in ("grain", "light_shift", "detail_kept")
        )  # type: ignore[union-attr]
        print(
            f"  {name:12s} {scene.triangle_count:8,d} triangles, build {build:.2f} s, sampling "
            f"{sampling:.2f} s, "
            f"{held[name] / 2**20:5.1f} MiB, grain {grain:.1f}, light shift {shift:.2f}, detail "
            f"kept {detail:.1f} %"
        )

    x, y, width, height = CROP
    shown = [
        np.mean([p.beauty for p in pictures[name]], axis=0)[y : y + height, x : x + width]
        for name in scenes
    ]
    levels = VIEW.eight_bit(np.concatenate(shown, axis=1).astype(np.float32))
    TARGET.parent.mkdir(exist_ok=True)
    Image.fromarray(levels).resize(
        (3 * levels.shape[1], 3 * levels.shape[0]), Image.Resampling.NEAREST
    ).save(TARGET)


def _blended(scene: Scene) -> Scene:
    """The same with see-through surfaces in place of masks."""
    return replace(
        scene,
        materials=[
            replace(m, opacity_mode=BLEND) if m.opacity_mode == MASK else m for m in scene.materials
        ],
    )

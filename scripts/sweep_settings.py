"""Try every value of every setting alone on the demo scene and print the table of docs/guide.md:
`make sweep`.

About twenty minutes. Two seeds each; errors are against a reference of this run. Figures of a
stand-in are marked.
"""

import argparse
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from swift_sample.core.measure.compare import WHOLE, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.reading import delivered
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render, warm_up
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.headers import STUDY_LAYERS
from swift_sample.core.renderers.records import RenderSpec, RunRecord
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.plan.demo import demo_study

FRAME = 12
"""A moment in which the camera moves."""
PHASES = ("load", "textures", "build", "sampling", "denoise", "write", "total")


class Sweeper:
    """Renders and measures one value after the other against one reference."""

    def __init__(self, reference_samples: int) -> None:
        plan = demo_study()
        self._base = configured(
            {"samples.max": plan.base["samples.max"], "bounces.total": plan.base["bounces.total"]}
        )
        self._plan = replace(plan, base=self._base)
        self._folder = Path(tempfile.mkdtemp())
        self._scene_cache = SceneCache()
        _, self._reference, _ = self._take(
            self._plan.reference_configuration(reference_samples), 99
        )

    def _take(
        self, configuration: Configuration, seed: int
    ) -> tuple[RunRecord, object, np.ndarray]:
        plan = self._plan
        spec = RenderSpec(
            scene=plan.scene,
            size=plan.size,
            settings=dict(configuration),
            seed=seed,
            frame=FRAME,
            exposure=plan.view.exposure,
            curve=plan.view.curve,
        )

        path = self._folder / "picture.exr"
        scene_cache = self._scene_cache if configuration["scene.keep_built"] else SceneCache()
        _, result = run_render(spec, scene_cache, path, layers=STUDY_LAYERS)
        picture = read_exr(path)

        return result, picture, picture.beauty

    def row(self, changes: dict[str, Value]) -> dict[str, object]:
        """Figures of one configuration, the mean of two runs."""
        configuration = self._base.replace(changes)
        if configuration["scene.keep_built"]:
            self._take(configuration, 1)

        runs = [self._take(configuration, seed) for seed in (1, 2)]
        reference = self._reference
        pictures = [
            delivered(Picture(beauty), (reference.width, reference.height)).beauty
            for _, _, beauty in runs
        ]
        found = measure(
            Comparison(pictures, reference.beauty, self._plan.view, None, reference.halves)
        )[WHOLE]
        results = [result for result, _, _ in runs]

        return {
            **{phase: float(np.mean([r.seconds[phase] for r in results])) for phase in PHASES},
            **{key: figure.value if figure else None for key, figure in found.items()},
            "memory": results[0].peak_memory_bytes,
            "bytes": results[0].picture_bytes,
            "simulated": results[0].simulated,
        }


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "--only", default="", help="keys or beginnings of keys, separated by commas"
    )
    parser.add_argument("--reference-samples", type=int, default=512)
    given = parser.parse_args()
    wanted = tuple(filter(None, given.only.split(",")))
    warm_up(lambda share, text: None)
    sweeper = Sweeper(given.reference_samples)
    facts = RENDERER.facts("honey-stall", configured(), FRAME)

    needed = {
        "samples.min": {"samples.noise_threshold": 0.05},
        "denoise.strength": {"denoise.method": "patches"},
        "denoise.guides": {"denoise.method": "patches"},
        "denoise.per_pass": {"denoise.method": "patches"},
        "samples.stop_at_grain": {"tiles.mode": "progressive"},
        "textures.memory": {"textures.prepared": True},
        "volume.step": {"volume.scattering": "stepped"},
    }
    print(
        "| setting | value | total s | load | textures | build | sample | denoise | write | grain "
        "| light shift | "
        "detail % | memory MiB | file KiB |\n|---|---|" + "---:|" * 12
    )

    for key, declared in CATALOGUE.items():
        if wanted and not key.startswith(wanted):
            continue
        tried = (*declared.suggested, *facts.choices.get(key, ()))
        for value in dict.fromkeys(tried):
            print(
                _line(key, declared.show(value), sweeper.row({**needed.get(key, {}), key: value})),
                flush=True,
            )
            print(f"{key} {value}", file=sys.stderr)


def _line(key: str, value: str, row: dict[str, object]) -> str:
    def number(name: str, digits: int, per: float = 1.0) -> str:
        found = row[name]
        return "" if found is None else f"{float(found) / per:.{digits}f}"  # type: ignore[arg-type]

    cells = [
        number("total", 2),
        *(number(phase, 2) for phase in PHASES[:-1]),
        number("grain", 2),
        number("light_shift", 2),
        number("detail_kept", 1),
        number("memory", 0, 2**20),
        number("bytes", 0, 2**10),
    ]
    return f"| `{key}` | {value} | " + " | ".join(cells) + " |"


if __name__ == "__main__":
    main()

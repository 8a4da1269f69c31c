"""Measures on the renderer's own noise: heavy tails, highlights and blacks, in linear light, with few samples."""

import numpy as np
import pytest

from swift_sample.core.measure.figures import Comparison, LightShift
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RenderSpec

SIZE, SAMPLES, RUNS, VIEW = (64, 36), 24, 12, View(0.0, "soft")


def rendered(samples: int, bounces: int, seeds: range) -> list[Picture]:
    engine = RENDERER.engine()
    settings = {"samples.max": samples, "bounces.total": bounces}
    return [
        engine.render(
            RenderSpec(scene="honey-stall-small", size=SIZE, settings=settings, seed=seed),
            None,
            lambda share: None,
            lambda stop: None,
        )[0]
        for seed in seeds
    ]


@pytest.fixture(scope="module")
def reference() -> Picture:
    return rendered(600, 12, range(1, 2))[0]


@pytest.mark.parametrize("bounces", [12, 2])
def test_light_shift_does_not_lean_on_the_number_of_runs(reference: Picture, bounces: int) -> None:
    """Smoothed behind the view, pairs of runs read more than all twelve. Mean squares are compared: the root of what may be
    nothing cannot be without bias."""
    pictures = rendered(SAMPLES, bounces, range(100, 100 + RUNS))

    def square_of(runs: list[Picture]) -> float:
        beauty = [picture.beauty for picture in runs]
        return float(LightShift().maps(Comparison(beauty, reference.beauty, VIEW, None, reference.halves))["shift"].mean())

    of_all, of_pairs = square_of(pictures), np.mean([square_of(pictures[k : k + 2]) for k in range(0, RUNS, 2)])
    if bounces == 12:
        assert abs(of_all) < 0.3
        assert abs(of_pairs) < 0.3
    else:
        assert of_all > 16
        assert of_pairs == pytest.approx(of_all, rel=0.06)

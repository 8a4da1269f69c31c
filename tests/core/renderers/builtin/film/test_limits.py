"""What one render says of tighter limits, against renders with them: the same samples, so they
differ by that alone."""

import numpy as np
import pytest

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.lowlevel.records import CELL
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.builtin.prediction import CELL_LOSS
from swift_sample.core.renderers.records import RenderSpec, RunRecord

SETTINGS = {"samples.max": 32, "bounces.total": 8, "bounces.roulette_start": 64}


def rendered(**changes: float) -> tuple[np.ndarray, RunRecord]:
    settings = {**SETTINGS, **{key.replace("__", "."): value for key, value in changes.items()}}
    spec = RenderSpec(
        scene="honey-stall-small", size=(64, 32), settings=dict(configured(settings)), seed=3
    )
    picture, record = run_render(spec, SceneCache(), None)
    return picture.beauty, record


@pytest.fixture(scope="module")
def unlimited() -> tuple[np.ndarray, RunRecord]:
    return rendered()


def shift_between(one: np.ndarray, other: np.ndarray) -> float:
    """Levels between means over the cells in which light is kept."""
    height, width = (side // CELL * CELL for side in one.shape[:2])
    cells = [
        p[:height, :width].reshape(height // CELL, CELL, width // CELL, CELL, 3).mean(axis=(1, 3))
        for p in (one, other)
    ]
    first, second = (View().levels(cell.astype(np.float32)) for cell in cells)

    return float(np.sqrt(((first - second) ** 2).mean()))


@pytest.mark.parametrize(
    ("key", "value"),
    [("light.clamp_indirect", 0.25), ("light.clamp_indirect", 1.0), ("light.clamp_direct", 0.5)],
)
def test_what_a_clamp_would_take_is_told_before_it_is_set(
    unlimited: tuple[np.ndarray, RunRecord], key: str, value: float
) -> None:
    whole, record = unlimited
    clamped, own = rendered(**{key.replace(".", "__"): value})
    measured = shift_between(clamped, whole)
    assert measured > 0.2
    assert record.shift_by_setting[key][value] / CELL_LOSS == pytest.approx(measured, rel=0.02)
    assert own.shift_by_setting[key][value] / CELL_LOSS == pytest.approx(measured, rel=0.02), (
        "and by a render that has it"
    )
    lost = whole.mean(axis=(0, 1), dtype=np.float64) - clamped.mean(axis=(0, 1), dtype=np.float64)
    assert own.light_clamped[key] == pytest.approx(lost, rel=1e-3)
    assert not record.light_clamped
    grain = own.grain_by_samples[32] / record.grain_by_samples[32]
    assert grain < 0.97
    assert record.grain_by_setting[key][value] == pytest.approx(grain, rel=1e-3)
    assert own.grain_by_setting[key][0.0] == pytest.approx(1 / grain, rel=1e-3)
    assert own.grain_by_setting[key][value] == 1.0


@pytest.mark.parametrize(
    ("kind", "cap"), [("diffuse", 0), ("diffuse", 1), ("glossy", 0), ("transmission", 1)]
)
def test_what_a_cap_by_kind_would_take_is_told_before_it_is_set(
    unlimited: tuple[np.ndarray, RunRecord], kind: str, cap: int
) -> None:
    whole, record = unlimited
    capped, _ = rendered(**{f"bounces__{kind}": cap})
    measured = shift_between(capped, whole)
    assert measured > 0.1
    assert record.shift_by_setting[f"bounces.{kind}"][cap] / CELL_LOSS == pytest.approx(
        measured, rel=0.02
    )


@pytest.mark.parametrize("threshold", [0.032, 0.064])
def test_samples_and_grain_of_a_noise_threshold_are_told_before_it_is_set(
    unlimited: tuple[np.ndarray, RunRecord], threshold: float
) -> None:
    _, record = unlimited
    _, stopped = rendered(samples__noise_threshold=threshold)
    told = record.samples_by_setting["samples.noise_threshold"]
    samples, grain, going = told[min(told, key=lambda t: abs(t - threshold))]
    assert stopped.samples is not None
    assert stopped.samples.mean < 30
    assert samples == pytest.approx(stopped.samples.mean, rel=0.12)
    assert going == pytest.approx(stopped.samples.share_at_max, abs=0.1)
    grains = list(record.grain_by_samples.values())
    assert min(grains) <= grain <= max(grains)
    assert min(stopped.samples_by_setting["samples.noise_threshold"]) == threshold, (
        "its own, and what stops more"
    )

import numpy as np
import pytest
from scipy.ndimage import uniform_filter

from swift_sample.core.measure.cells import cell_side
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.adaptive import next_target, samples_wanted
from swift_sample.core.scene.model import Material
from swift_sample.core.scene.open import open_scene
from tests.core.renderers.builtin.kernels.scenes import ball_under_sky, take

STALL = open_scene("honey-stall-small")


def test_targets_grow_to_the_maximum() -> None:
    target = 0
    targets = []

    while target < 100:
        target = next_target(target, 16, 100)
        targets.append(target)

    assert targets[0] == 16
    assert targets[-1] == 100
    assert all(t % 2 == 0 for t in targets)


def test_a_noise_threshold_saves_samples_where_it_is_even() -> None:
    _, record = take(
        ball_under_sky(Material(name="m", base_colour=(0.5, 0.5, 0.5))),
        (32, 32),
        samples__max=128,
        samples__noise_threshold=0.02,
    )
    assert record.samples.min == 16 == record.samples.min_used
    assert record.samples.mean < 128
    _, full = take(ball_under_sky(Material(name="m")), (32, 32), samples__max=128)
    assert full.samples.mean == 128
    assert full.samples.share_at_max == 1.0


def test_samples_go_where_they_lower_the_error_of_a_place_most() -> None:
    # Half of the pixels are four times as noisy; whatever was taken so far, the same is wanted.
    deviation = np.where(np.indices((96, 96)).sum(axis=0) % 2, 0.4, 0.1)
    for taken in (16, 64):
        wanted = samples_wanted(
            (deviation / np.sqrt(taken)).astype(np.float32), np.full((96, 96), taken), 0.02
        )
        assert (deviation**2 / wanted).mean() == pytest.approx(0.02**2, rel=0.01)
        assert wanted[0, 1] == pytest.approx(4 * wanted[0, 0], rel=1e-4)
        evenly = (deviation**2).mean() / 0.02**2
        assert wanted.mean() == pytest.approx(0.735 * evenly, rel=0.01), (
            "25 / 34, by Cauchy and Schwarz"
        )


def test_a_threshold_leaves_the_worst_place_cleaner_than_even_samples() -> None:
    """On the renderer's own noise: with a tenth fewer samples, the worst cell of the demo has under
    0.8 of the grain."""

    def worst(picture) -> float:
        a, b = (View(0, "soft").levels(half) for half in picture.halves)
        cells = uniform_filter(
            ((a - b) ** 2 / 4).mean(axis=2), round(cell_side(90)), mode="reflect"
        )
        return float(np.sort(np.sqrt(cells.ravel()))[-cells.size // 50 :].mean())

    stopping, record = take(
        STALL, (160, 90), samples__max=1024, samples__min=16, samples__noise_threshold=0.04
    )
    even, full = take(STALL, (160, 90), samples__max=round(record.samples.mean * 1.1))
    assert record.samples.mean < 0.95 * full.samples.mean
    assert worst(stopping) < 0.8 * worst(even)

"""The measures' row kernels against plain NumPy."""

import numpy as np
import pytest

from swift_sample.core.measure.blurring import weights_of
from swift_sample.core.measure.comparison import luminance, mean_square
from swift_sample.core.measure.rows import enlarged, mirrored, reduced
from swift_sample.core.picture.colour import LUMINANCE

RNG = np.random.default_rng(21)


@pytest.mark.parametrize("channels", [1, 3])
@pytest.mark.parametrize("shape", [(8, 12), (9, 13), (3, 3)])
def test_reducing_averages_squares_and_what_is_left(channels: int, shape: tuple[int, int]) -> None:
    step, (height, width) = 4, shape
    picture = RNG.uniform(0, 255, (height, width, channels)).astype(np.float32)
    found = reduced(picture.reshape(height, -1), channels, step).reshape(
        -(-height // step), -(-width // step), channels
    )

    for j in range(found.shape[0]):
        for i in range(found.shape[1]):
            block = picture[j * step : (j + 1) * step, i * step : (i + 1) * step]
            assert found[j, i] == pytest.approx(block.mean(axis=(0, 1), dtype=float), rel=1e-5)


def test_enlarging_repeats_and_cuts() -> None:
    small = RNG.uniform(0, 1, (3, 4, 3)).astype(np.float32)
    found = enlarged(small.reshape(3, -1), 10, 14, 3, 4).reshape(10, 14, 3)
    assert (found == small.repeat(4, axis=0).repeat(4, axis=1)[:10, :14]).all()


def test_places_beyond_the_edge_are_mirrored_as_often_as_needed() -> None:
    row = np.arange(5)
    assert [row[mirrored(place, 5)] for place in range(-12, 17)] == np.pad(
        row, 12, mode="symmetric"
    ).tolist()


@pytest.mark.parametrize("sigma", [0.4, 1.5, 8.0])
def test_weights_are_those_of_a_gaussian_and_sum_to_one(sigma: float) -> None:
    weights = weights_of(sigma, 3.0)
    assert len(weights) == int(3 * sigma + 0.5) + 1
    assert weights[0] + 2 * weights[1:].sum() == pytest.approx(1.0, abs=1e-6)
    assert weights[1] / weights[0] == pytest.approx(np.exp(-0.5 / sigma**2), rel=1e-5)


def test_means_over_channels() -> None:
    pictures = [RNG.normal(100, 20, (6, 7, 3)).astype(np.float32) for _ in range(4)]
    assert mean_square(pictures[0], 0.5) == pytest.approx(
        (pictures[0] / 2) ** 2 @ np.full(3, 1 / 3), rel=1e-4
    )
    assert luminance(pictures[0]) == pytest.approx(pictures[0] @ LUMINANCE, rel=1e-5)

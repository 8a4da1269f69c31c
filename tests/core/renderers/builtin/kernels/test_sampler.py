import numpy as np
import pytest
from scipy.stats import chisquare, qmc

from swift_sample.core.renderers.builtin.kernels.sampler import (
    EVEN,
    RANDOM,
    curve_place,
    pixel_seed,
    sample_pair,
    scramble_low_to_high,
    sobol_second_reversed,
)


def reversed_bits(value: int) -> int:
    return int(f"{value:032b}"[::-1], 2)


def test_second_dimension_is_the_published_sobol_sequence() -> None:
    points = qmc.Sobol(2, scramble=False).random_base2(8)
    own = [reversed_bits(int(sobol_second_reversed(np.uint32(i)))) / 2**32 for i in range(256)]
    # SciPy walks in Gray code order, so the sets of points are compared.
    pairs = {(reversed_bits(i) / 2**32, own[i]) for i in range(256)}
    assert pairs == {(float(a), float(b)) for a, b in points}


def test_scrambling_lets_higher_bits_depend_on_lower_ones_only() -> None:
    rng = np.random.default_rng(1)
    for value in rng.integers(0, 2**32, 200):
        low = rng.integers(1, 31)
        other = (int(value) & ((1 << low) - 1)) | (int(rng.integers(0, 2**31)) << low) & 0xFFFFFFFF
        a, b = (int(scramble_low_to_high(np.uint32(v), np.uint32(77))) for v in (value, other))
        assert (a ^ b) & ((1 << low) - 1) == 0


@pytest.mark.parametrize("count", [16, 64])
def test_even_pairs_fill_every_elementary_cell_once(count: int) -> None:
    points = np.array([sample_pair(pixel_seed(3, 5, 9), k, 2, EVEN) for k in range(count)])
    power = int(np.log2(count))

    for a in range(power + 1):
        cells = np.floor(points * [2**a, 2 ** (power - a)]).astype(int)
        assert len({tuple(c) for c in cells}) == count


def test_pixels_of_each_block_stand_together_on_the_curve() -> None:
    """So that with one sequence over the whole picture each block of 2, 4, 8 ... pixels a side has
    an even part of it."""
    places = np.array([[curve_place(x, y) for x in range(16)] for y in range(16)])
    assert sorted(places.ravel()) == list(range(256))

    for side in (2, 4, 8):
        blocks = (
            places.reshape(16 // side, side, 16 // side, side)
            .transpose(0, 2, 1, 3)
            .reshape(-1, side * side)
        )
        assert (np.ptp(blocks, axis=1) == side * side - 1).all()

    assert int(curve_place(65535, 65535)) == 2**32 - 1


@pytest.mark.parametrize("pattern", [EVEN, RANDOM])
def test_numbers_are_uniform(pattern: int) -> None:
    values = np.array(
        [sample_pair(pixel_seed(x, 1, 4), k, 7, pattern) for x in range(400) for k in range(10)]
    )
    assert ((values >= 0) & (values < 1)).all()

    for column in values.T:
        # False alarm rate 1e-4 for each, seeds fixed.
        assert chisquare(np.histogram(column, 16, (0, 1))[0]).pvalue > 1e-4


def test_pixels_dimensions_and_seeds_differ() -> None:
    found = {
        sample_pair(pixel_seed(x, y, s), 0, d, EVEN)
        for x in (0, 1)
        for y in (0, 1)
        for s in (1, 2)
        for d in (0, 1)
    }
    assert len(found) == 16

import numpy as np
import pytest

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import common_spread, factor, is_difference, median_seconds


def test_intervals_cover_the_truth_in_simulated_studies() -> None:
    # 600 studies of 20 trials with 3 runs each; with 95 % true coverage the count stays within 92
    # to 98 % but for about one seed in a thousand.
    rng = np.random.default_rng(11)
    covered = []

    for _ in range(600):
        truth = rng.uniform(1, 20, 20)
        trials = [t * np.exp(rng.normal(0, 0.04, 3)) for t in truth]
        spread = common_spread(trials)
        figure = factor(trials[0], trials[1], spread)
        covered.append(figure.low <= truth[0] / truth[1] <= figure.high)

    assert 0.92 <= np.mean(covered) <= 0.98


def test_a_real_difference_is_seen_and_a_small_one_is_not() -> None:
    spread = common_spread([[1.0, 1.02, 0.98], [2.0, 2.03, 1.99], [4.0, 4.1, 3.95]])
    assert is_difference(factor([4.0, 4.1, 3.95], [2.0, 2.03, 1.99], spread))
    assert not is_difference(factor([1.0, 1.02, 0.98], [0.99, 1.01, 1.0], spread))


def test_a_single_run_has_an_interval_too() -> None:
    figure = median_seconds([2.0], common_spread([[1.0, 1.1], [3.0, 3.2], [2.0]]))
    assert figure.low < 2.0 < figure.high


def test_median_ignores_one_odd_run() -> None:
    assert median_seconds([2.0, 2.1, 9.0], common_spread([[1.0, 1.01]])).value == pytest.approx(2.1)


@pytest.mark.parametrize("trials", [[], [[1.0], [2.0]]])
def test_without_repeats_the_spread_is_assumed_wide(trials: list) -> None:
    assert common_spread(trials).variance == pytest.approx(0.05**2)


@pytest.mark.parametrize(
    ("low", "high", "differs"),
    [(1.0, 2.0, False), (0.5, 1.0, False), (1.01, 2.0, True), (0.5, 0.99, True)],
)
def test_an_interval_that_reaches_one_is_no_difference(
    low: float, high: float, differs: bool
) -> None:
    assert is_difference(Figure((low + high) / 2, low, high)) == differs

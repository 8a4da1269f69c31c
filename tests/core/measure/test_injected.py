import math

import numpy as np
import pytest

from swift_sample.core.measure.compare import WHOLE, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.measure.knee import knee
from swift_sample.core.picture.view import View
from tests.core.measure.injected import CASES, SHOWN, TOLERANCES, expected_of, found


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_each_measure_finds_its_own_error_and_is_blind_to_the_others(case) -> None:
    figures = found(case)
    expected = expected_of(case)

    for key in SHOWN:
        share, floor = TOLERANCES[key]
        assert figures[key] == pytest.approx(expected[key], rel=share, abs=floor), key


def test_intervals_of_grain_cover_the_truth_in_simulated_pictures() -> None:
    """1,000 pictures with grain that differs over regions: 95 % intervals hold the true grain in
    92.5 to 97.5 %.

    Blocks of 16 pixels, grain independent from pixel to pixel; four standard errors of the share
    are 2.8 %.
    """
    view = View()
    shape = (96, 128)
    sigma = (
        2.0
        + np.kron(np.random.default_rng(1).uniform(-0.5, 0.5, (6, 8)), np.ones((16, 16)))[..., None]
    )
    truth = math.sqrt(float((sigma**2).mean()))
    reference = view.light(np.full((*shape, 3), 128.0))
    hits = 0

    for seed in range(250):
        rng = np.random.default_rng(seed)
        pictures = [view.light(128 + sigma * rng.normal(size=(*shape, 3))) for _ in range(3)]
        figure = _grain(Comparison(pictures, reference, view))
        hits += figure.low <= truth <= figure.high

    assert hits >= 0.90 * 250


def _grain(pair: Comparison):
    return measure(pair, only=("grain",))[WHOLE]["grain"]


def test_the_knee_is_where_more_stops_paying() -> None:
    # Error falls as one over time until it meets a floor that more time cannot lower.
    points = [(t, 1 / t + 0.2) for t in (1, 2, 4, 8, 16, 32)]
    assert knee(points) == 2
    assert knee(list(reversed(points))) == 3
    assert knee([(t, 1 / t) for t in (1, 2, 4, 8)]) is None
    assert knee(points[:2]) is None
    assert knee([(1, 1), (2, 1.1), (4, 1.3)]) is None

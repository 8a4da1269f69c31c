"""What settings took from runs, told by the same samples with everything open, on made errors."""

import numpy as np
import pytest

from swift_sample.core.measure.compare import WHOLE, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.picture.view import View

SHAPE = (72, 128, 3)
VIEW = View()
GRAIN = 0.05
"""Of the samples, in linear light."""
DARKER = 0.96


def made(seed: int, runs: int, factor: float) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """Pictures of a grey that settings darken, and the same samples before that."""
    rng = np.random.default_rng(seed)
    opened = [(0.2 + GRAIN * rng.standard_normal(SHAPE)).astype(np.float32) for _ in range(runs)]
    return [np.float32(factor) * picture for picture in opened], opened


def shift(seed: int, factor: float, grain_of_reference: float, paired: bool):
    rng = np.random.default_rng(seed + 1000)
    pictures, opened = made(seed, 3, factor)
    halves = tuple(
        (0.2 + grain_of_reference * rng.standard_normal(SHAPE)).astype(np.float32) for _ in range(2)
    )
    pair = Comparison(
        pictures,
        (halves[0] + halves[1]) / 2,
        VIEW,
        reference_halves=halves,
        opened=opened if paired else (),
    )
    return measure(pair, only=("light_shift", "brightness"))[WHOLE]


def wanted() -> float:
    grey = np.full((1, 1, 3), 0.2, np.float32)
    return float((VIEW.levels(grey) - VIEW.levels(np.float32(DARKER) * grey)).mean())


def test_what_was_taken_is_found_and_its_sign() -> None:
    found = shift(1, DARKER, 0.05, paired=True)
    assert found["light_shift"].value == pytest.approx(wanted(), rel=0.01)
    assert found["brightness"].value == pytest.approx(-wanted(), rel=0.01)


def test_where_nothing_was_taken_nothing_is_found() -> None:
    found = shift(2, 1.0, 0.05, paired=True)
    assert found["light_shift"].value == pytest.approx(0, abs=1e-3)


def test_it_carries_no_noise_of_the_reference() -> None:
    """The same runs beside a clean reference and a grainy one, and the interval's upper end beside
    that of the plain comparison."""
    clean = shift(3, DARKER, 0.01, paired=True)["light_shift"]
    grainy = shift(3, DARKER, 0.2, paired=True)["light_shift"]
    assert grainy.value == clean.value

    plain = shift(3, DARKER, 0.2, paired=False)["light_shift"]
    assert grainy.high - grainy.value < 0.2 * (plain.high - plain.value)


def test_intervals_hold_as_often_as_they_say() -> None:
    """Of 40 made pictures 95 % should; 33 or fewer would be chance once in 1,000."""
    inside = 0
    for seed in range(40):
        figure = shift(100 + seed, DARKER, 0.05, paired=True)["light_shift"]
        inside += figure.low <= wanted() * 1.001 and figure.high >= wanted() * 0.999

    assert inside > 33

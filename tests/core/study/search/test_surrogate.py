from itertools import product

import numpy as np
import pytest

from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.settings import Configuration
from swift_sample.core.study.search.surrogate import (
    COMMON,
    ERRORS,
    PAIRS,
    Axes,
    _covariance,
    predict,
)

SPACE = {
    "samples.max": (16, 32, 64, 128),
    "denoise.method": ("none", "wavelet", "patches"),
    "scene.keep_built": (False, True),
}
ALL = [configured(dict(zip(SPACE, values, strict=True))) for values in product(*SPACE.values())]
AXES = Axes(CATALOGUE, SPACE)


def truth(configuration: Configuration) -> float:
    """How far a quantity lies from what was expected: effects of single settings alone."""
    return (
        0.3 * np.log2(configuration["samples.max"] / 16)
        - 0.4 * (configuration["denoise.method"] == "patches")
        - 0.5 * bool(configuration["scene.keep_built"])
    )


def test_likeness_is_by_distance_for_numbers_and_by_being_the_same_for_others() -> None:
    likeness = AXES.likeness(ALL, ALL)
    assert likeness.shape == (3, 24, 24)
    assert np.allclose(likeness[:, range(24), range(24)], 1)
    by_samples = {c["samples.max"]: likeness[0, 0, k] for k, c in enumerate(ALL)}
    assert by_samples[16] > by_samples[32] > by_samples[64] > by_samples[128] > 0
    assert set(np.unique(likeness[1])) == set(np.unique(likeness[2])) == {0, 1}


def test_values_outside_the_space_are_like_none() -> None:
    odd = configured({"samples.max": 99, "denoise.method": "regression"})
    assert AXES.likeness([odd], [odd])[:2].max() == 0


def test_a_zero_among_values_is_a_case_of_its_own() -> None:
    axes = Axes(CATALOGUE, {"samples.noise_threshold": (0.0, 0.01, 0.02)})
    group = [configured({"samples.noise_threshold": v}) for v in (0.0, 0.01, 0.02)]
    assert np.array_equal(axes.likeness(group, group)[0], np.eye(3))


def test_effects_of_single_settings_are_learned_from_a_few() -> None:
    seen = [ALL[0], *(c for c in ALL if sum(c[k] != ALL[0][k] for k in SPACE) == 1)]
    off = np.array([truth(c) for c in seen])
    mean, spread = predict(AXES, seen, off, np.full(len(seen), 0.01), ALL)
    error = mean - np.array([truth(c) for c in ALL])
    assert len(seen) == 7
    assert np.abs(error).max() < 0.35
    assert np.abs(error)[[c in seen for c in ALL]].max() < 0.02
    assert np.mean(np.abs(error) <= 1.96 * spread) >= 0.9


def test_what_was_seen_is_surer_than_what_was_not() -> None:
    mean, spread = predict(AXES, ALL[:1], np.array([0.2]), np.array([0.02]), ALL)
    assert np.argmin(spread) == 0
    assert spread[-1] > 5 * spread[0]
    assert mean[0] == pytest.approx(0.2, abs=0.01)
    assert 0 <= mean[-1] < 0.1


def test_predictions_are_those_of_the_textbook() -> None:
    """With the error that fits best, mean and variance by plain inversion (Rasmussen and Williams
    2006, eq. 2.25, 2.26)."""
    rng = np.random.default_rng(4)
    seen = [ALL[k] for k in (0, 3, 8, 14, 20)]
    off = rng.normal(0, 0.2, 5)
    noise = np.full(5, 0.05)
    mean, spread = predict(AXES, seen, off, noise, ALL)
    fits = []

    for error in ERRORS:
        k = error**2 * _covariance(AXES.likeness(seen, seen), PAIRS) + np.diag(noise**2 + 1e-8)
        cross = error**2 * _covariance(AXES.likeness(ALL, seen), PAIRS)
        own = error**2 * (COMMON**2 + 1 + PAIRS**2)
        fits.append(
            np.allclose(mean, cross @ np.linalg.solve(k, off))
            and np.allclose(
                spread**2,
                own - np.einsum("ij,ji->i", cross, np.linalg.solve(k, cross.T)),
                atol=1e-6,
            )
        )

    assert sum(fits) == 1

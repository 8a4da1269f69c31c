"""What few trials say of all others: effects of settings, alone and in pairs, with their
uncertainty.

A Gaussian process (Rasmussen and Williams 2006, algorithm 2.1) on how far the logarithm of a
quantity lies from what was expected. Its covariance adds up over settings, so that a value that
proved slow is slow everywhere, and over pairs of settings, as in additive models (Duvenaud et al.
2011, NeurIPS 24). How far expectations err is chosen by marginal likelihood.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.linalg import cho_solve, cholesky

from swift_sample.core.settings import Catalogue, Configuration, Setting, Value

REACH = 0.5
"""How far along a setting's values, from the first to the last on a logarithmic axis, one tells of
another."""
COMMON = 0.3
PAIRS = 0.3
PAIRS_UNTOLD = 0.8
"""Of the error of expectations: the part that all trials share, and that of pairs beside that of
single settings, where the renderer's records tell what settings do and where they do not."""
ERRORS = (0.03, 0.06, 0.12, 0.25, 0.5, 1.0)
"""Standard deviations of log expectations that are tried,"""
USUAL_ERROR = 0.2
ERROR_SPREAD = 0.7
"""around the one that is usual, by so many in log."""


@dataclass(frozen=True)
class Axes:
    """Configurations as places: for every setting of a space its values and where each lies."""

    catalogue: Catalogue
    space: Mapping[str, tuple[Value, ...]]

    def likeness(self, one: Sequence[Configuration], other: Sequence[Configuration]) -> np.ndarray:
        """How alike settings are, from 0 to 1: float64[settings, one, other]. Numbers above zero by
        their distance on a logarithmic axis, everything else by being the same."""
        alike = np.empty((len(self.space), len(one), len(other)))
        for row, (key, values) in enumerate(self.space.items()):
            table = _likeness_of(self.catalogue[key], values)
            places = {value: place for place, value in enumerate(values)}
            a, b = ([places.get(c[key], -1) for c in group] for group in (one, other))
            alike[row] = np.where(np.asarray(a)[:, None] < 0, 0.0, table[np.ix_(a, b)])

        return alike


def _likeness_of(declared: Setting, values: tuple[Value, ...]) -> np.ndarray:
    numbers = [float(v) for v in values if isinstance(v, int | float) and not isinstance(v, bool)]
    if declared.kind not in ("whole", "number") or len(numbers) < len(values) or min(numbers) <= 0:
        return np.eye(len(values))

    place = np.log(numbers)
    span = float(np.ptp(place)) or 1.0
    likeness: np.ndarray = np.exp(-0.5 * ((place[:, None] - place[None, :]) / (span * REACH)) ** 2)

    return likeness


def _covariance(likeness: np.ndarray, by_pairs: float) -> np.ndarray:
    """Of expectations' errors, for a standard deviation of 1 by single settings."""
    count = len(likeness)
    together = likeness.sum(axis=0)
    pairs = (together**2 - (likeness**2).sum(axis=0)) / max(count * (count - 1), 1)
    covariance: np.ndarray = COMMON**2 + together / max(count, 1) + by_pairs**2 * pairs

    return covariance


def predict(
    axes: Axes,
    seen: Sequence[Configuration],
    off: np.ndarray,
    noise: np.ndarray,
    wanted: Sequence[Configuration],
    by_pairs: float = PAIRS,
) -> tuple[np.ndarray, np.ndarray]:
    """How far wanted configurations lie from what is expected of them, and the standard deviation
    of that, in log.

    off, noise: float64[seen], how far the seen ones lie from theirs, and the standard deviation of
    each measurement. by_pairs: the part of errors that comes from pairs of settings.
    """
    shape = _covariance(axes.likeness(seen, seen), by_pairs)
    best: tuple[float, float, np.ndarray] | None = None

    for error in ERRORS:
        lower = cholesky(error**2 * shape + np.diag(noise**2 + 1e-8), lower=True)
        fit = float(off @ cho_solve((lower, True), off))
        unusual = math.log(error / USUAL_ERROR) / ERROR_SPREAD
        likelihood = -0.5 * fit - float(np.log(np.diag(lower)).sum()) - 0.5 * unusual**2

        if best is None or likelihood > best[0]:
            best = likelihood, error, lower

    assert best is not None
    _, error, lower = best
    cross = error**2 * _covariance(axes.likeness(wanted, seen), by_pairs)
    mean: np.ndarray = cross @ cho_solve((lower, True), off)
    own = error**2 * (COMMON**2 + 1 + by_pairs**2 * (len(axes.space) > 1))
    explained = np.einsum("ij,ji->i", cross, cho_solve((lower, True), cross.T))

    return mean, np.sqrt(np.maximum(own - explained, 1e-6))

"""The worst place of a picture: a clean sky must not vouch for a grainy object.

A figure is taken in cells of an eighth of the picture's height, half over one another; what is told
is the mean of the worst 2 % of them. The worst of many measured values is worse than the worst of
the true ones, for it is also the unluckiest. So each cell is drawn towards the mean of all by as
much as its noise tells (empirical Bayes: Efron and Morris 1973, "Stein's Estimation Rule and Its
Competitors"), and value and interval are those of the worst cells among draws of what the true ones
may be.
"""

import numpy as np
from scipy.ndimage import uniform_filter
from scipy.optimize import brentq
from scipy.special import gammaincinv

from swift_sample.core.measure.cells import cell_side
from swift_sample.core.measure.figures import LocalMeasure, Sums
from swift_sample.core.measure.intervals import Regions, Summed, drawn
from swift_sample.core.measure.kinds import Figure

WORST_SHARE = 0.02
MUCH = 1e12
"""A variance of the true cells beside which no noise counts."""
DRAWS = 200
OVERLAP = 16
"""Cells that vary together: a pixel lies in four, and what is wrong with a place reaches further
than that."""
LEAST_STRUCTURE = 0.25
"""Cells with less than this share of what the average cell has to be kept, in detail, tell
nothing."""


def half_cells(width: int, height: int) -> Regions:
    """The quarters of which cells are made: four that meet are a cell."""
    return Regions.even(width, height, cell_side(height) / 2)


def _cells(quarters: np.ndarray) -> np.ndarray:
    """Sums over cells, [..., rows - 1, columns - 1], of sums over their quarters."""
    down = quarters[..., :-1, :] + quarters[..., 1:, :]
    cells: np.ndarray = down[..., :-1] + down[..., 1:]
    return cells


def worst_place(one: Summed, quarters: Regions, measure: LocalMeasure) -> Figure | None:
    """The figure in the worst place with that place; None for a picture of less than a cell, or
    where nothing can be told."""
    if min(quarters.shape) < 2:
        return None

    sums = {name: _cells(values) for name, values in one.sums.items()}
    found = measure.quantity(sums)
    known = ~np.isnan(found) & _has_enough(sums)

    if not known.any():
        return None

    off = {name: _cells(values) for name, values in drawn(one, DRAWS).items()}
    again = measure.quantity(
        {name: values + off[name] if name in off else values for name, values in sums.items()}
    )
    again = np.broadcast_to(np.where(np.isnan(again), found, again), (DRAWS, *found.shape))
    known &= again.std(axis=0) <= measure.most_noise

    if not known.any():
        return None

    own = np.where(known, again.var(axis=0), 0.0)
    # One cell alone may look quieter than it is. Running sums leave a little less than nothing
    # where all around is even.
    noise = np.maximum((own + uniform_filter(own, 3, mode="nearest")) / 2, 0)[known]
    value = found[known]
    again = again[:, known]
    even = (again - again.mean(axis=0)) * np.sqrt(noise / np.maximum(again.var(axis=0), 1e-12))
    count = max(1, round(WORST_SHARE * value.size))
    worse_first = -1 if measure.kind.higher_is_better else 1

    def worst_of(real: float) -> tuple[np.ndarray, np.ndarray]:
        """The worst in each draw, were this the variance of the true cells; and what each cell is
        likely to have."""
        middle = _middle(value, noise, real)
        trust = real / np.maximum(real + noise, 1e-12)
        likely = middle + trust * (value - middle)
        ordered = np.sort(worse_first * (likely + np.sqrt(trust) * even), axis=1)[:, -count:]

        return measure.shown(worse_first * ordered).mean(axis=1), likely

    reals = _variances_of_truth(value, noise)
    found_worst, likely = worst_of(reals[1])
    # Between cells that truly differ as little as they may, and all that they show being true.
    ends = [
        end
        for real in (reals[0], reals[2], MUCH)
        for end in np.percentile(worst_of(real)[0], (2.5, 97.5))
    ]
    at = np.flatnonzero(known)[np.argmax(worse_first * likely)]
    row, column = divmod(int(at), found.shape[1])
    x, y = int(quarters.columns[column]), int(quarters.rows[row])
    place = (x, y, int(quarters.columns[column + 2]) - x, int(quarters.rows[row + 2]) - y)
    value = float(found_worst.mean())

    return Figure(value, min(value, *map(float, ends)), max(value, *map(float, ends)), place)


def _middle(value: np.ndarray, noise: np.ndarray, real: float) -> float:
    weight = 1 / np.maximum(real + noise, 1e-12)
    return float((weight * value).sum() / weight.sum())


def _variances_of_truth(value: np.ndarray, noise: np.ndarray) -> tuple[float, float, float]:
    """The variance of what cells truly have, where each was measured with a noise of its own,
    between the ends of its 95 % interval: that at which the sum of squares over what is expected of
    them is as large as it should be, or as chance could have made it (Paule and Mandel 1982;
    Viechtbauer 2007 for the interval). Cells that overlap count once."""
    free = max(1.0, value.size / OVERLAP - 1)

    def surplus(real: float, wanted: float) -> float:
        weight = 1 / np.maximum(real + noise, 1e-12)
        return float((weight * (value - _middle(value, noise, real)) ** 2).sum()) / OVERLAP - wanted

    def solved(wanted: float) -> float:
        most = OVERLAP * float(((value - value.mean()) ** 2).sum()) / wanted + 1e-9
        return float(brentq(surplus, 0.0, most, (wanted,))) if surplus(0.0, wanted) > 0 else 0.0

    low, high = (
        2 * float(gammaincinv(free / 2, share)) for share in (0.975, 0.025)
    )  # percentiles of chi-squared
    return solved(low), solved(free), solved(high)


def _has_enough(sums: Sums) -> np.ndarray:
    """Cells with enough of what may be lost, where a measure asks how much of something is kept."""
    there = [values for name, values in sums.items() if name.startswith("there_")]
    if not there:
        return np.ones(next(iter(sums.values())).shape, bool)

    total = np.maximum(np.sum(there, axis=0), 0)
    enough: np.ndarray = total >= LEAST_STRUCTURE * total.mean()
    return enough

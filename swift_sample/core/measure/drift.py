"""What a machine that drifts or is busy does to times: corrections from neighbouring runs, and runs
that are left out.

Runs are shuffled, so a run's neighbours in time are of other trials; how far they lie from their
own trials' medians tells how fast the machine was just then. That mean of neighbours, scaled by how
well it predicts, is taken out: the neighbour adjustment of field trials (Papadakis 1937; Bartlett
1978, J. R. Stat. Soc. B 40(2), 147-174). How many neighbours count is chosen by how well they
predict the runs that they leave out, so slow drifts and short bursts are both followed, and a
steady machine is left alone. Controls, repeats of the base spread over every block, are the surest
neighbours.
"""

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

ODD_SHARE = 0.15
"""A run that differs from its trial's median by more than this share is repeated and left out,"""
ODD_SPREADS = 3.5
"""and by more than so many standard deviations: on a restless machine 15 % is nothing odd, and
leaving out what is usual would make intervals too narrow (0.80 instead of 0.95 at a scatter of
0.11)."""
DRIFT_WARNING = 0.05
"""A correction by more than this share is worth a warning."""
MOST_LEFT_OUT = 2
"""Runs of one trial that may be left out; a machine that needs more is too restless to be
correction."""
REACHES = (1, 2, 4, 8, 16)
"""Numbers of neighbours to each side that are tried."""
WORTH_CORRECTING = 8.0
"""By how much a drift must raise twice the log likelihood of the runs; 4 % of steady studies are
corrected by chance, by a hundredth."""
LEAST_RUNS = 8
"""Fewer runs with repeats tell nothing of a drift."""
FURTHEST = 0.5
"""Log time beyond which a run counts no further for its neighbours: an outlier is not a drift."""
ROUNDS = 4
"""Medians and drift are found in turn; they settle to a hundredth of the drift in so many."""
NORMAL_MEDIAN = 0.6745
"""The median of |x| for a normal x with a standard deviation of 1."""


@dataclass(frozen=True)
class TimedRun:
    """One run as far as steadying needs it; numbers rise in the order in which runs were made. Only
    runs of one `host` are neighbours: machines of a kind drift each by itself."""

    number: int
    trial: int
    seconds: float
    host: str = ""


@dataclass(frozen=True)
class DriftCorrection:
    """`drift` by number of run: how many times slower than usual the machine was then; empty where
    it was steady. `left_out` are the numbers of odd runs."""

    drift: Mapping[int, float] = field(default_factory=dict)
    left_out: frozenset[int] = frozenset()

    def factor(self, number: int) -> float:
        """What the time of this run is divided by."""
        return self.drift.get(number, 1.0)

    @property
    def largest_drift(self) -> float:
        """The largest correction as a share: 0.08 for 8 % slower or faster."""
        return max((abs(drift - 1) for drift in self.drift.values()), default=0.0)


def correct_drift(runs: Iterable[TimedRun]) -> DriftCorrection:
    """Corrections of all runs, and which runs to leave out after them."""
    runs = sorted(runs, key=lambda run: (run.host, run.number))
    if not runs:
        return DriftCorrection()

    _, trials = np.unique([run.trial for run in runs], return_inverse=True)
    logs = np.log([run.seconds for run in runs])
    _, first = np.unique([run.host for run in runs], return_index=True)
    drift = _drift(logs, trials, first[1:])
    numbers = [run.number for run in runs]
    left_out = frozenset(numbers[place] for place in _odd_ones(logs - drift, trials))

    return DriftCorrection(
        {n: math.exp(d) for n, d in zip(numbers, drift, strict=True)} if drift.any() else {},
        left_out,
    )


def _medians(values: np.ndarray, groups: np.ndarray) -> np.ndarray:
    """The median of its group for every value; groups are numbered from 0."""
    order = np.lexsort((values, groups))
    counts = np.bincount(groups)
    first = np.concatenate(([0], np.cumsum(counts)[:-1]))
    in_order = values[order]
    medians: np.ndarray = (in_order[first + (counts - 1) // 2] + in_order[first + counts // 2]) / 2

    return medians[groups]


def _drift(logs: np.ndarray, trials: np.ndarray, hosts: np.ndarray) -> np.ndarray:
    """Log slowness at every run, float64[n]; zero where no drift can be told from chance. At
    `hosts` runs of another host begin, int64[h - 1]."""
    counts = np.bincount(trials)[trials]
    weights = np.where(
        counts > 1, 1 - 1 / counts, 0.0
    )  # a run alone is its own median and tells nothing
    used = weights > 0
    none = np.zeros_like(logs)

    if used.sum() < LEAST_RUNS:
        return none

    off = _off(logs, none, trials)
    gains = {
        reach: _gain(off, weights, _neighbours(off, weights, reach, hosts))
        for reach in REACHES
        if 2 * reach < len(logs)
    }
    reach = max(gains, key=lambda reach: gains[reach])

    if gains[reach] < WORTH_CORRECTING:
        return none

    drift = none
    for _ in range(ROUNDS):
        off = _off(logs, drift, trials)
        near = _neighbours(off, weights, reach, hosts)
        drift = _slope(off, weights, near) * near

    return drift - float(np.median(drift))


def _off(logs: np.ndarray, drift: np.ndarray, trials: np.ndarray) -> np.ndarray:
    """How far every run lies from its trial's median of corrected times, drift and chance
    together."""
    return np.clip(logs - _medians(logs - drift, trials), -FURTHEST, FURTHEST)


def _neighbours(off: np.ndarray, weights: np.ndarray, reach: int, hosts: np.ndarray) -> np.ndarray:
    """The weighted mean of the others within `reach` runs to each side on the same host, nearer
    ones counting more."""
    shape = 1 - np.abs(np.arange(-reach, reach + 1)) / (reach + 1)
    shape[reach] = 0

    def sums(values: np.ndarray) -> np.ndarray:
        parts = np.split(values, hosts)
        return np.concatenate(
            [np.convolve(part, shape)[reach : reach + len(part)] for part in parts]
        )

    return sums(off * weights) / np.maximum(sums(weights), 1e-9)


def _slope(off: np.ndarray, weights: np.ndarray, near: np.ndarray) -> float:
    """How much of what neighbours show is found in a run itself: least squares, from 0 to 1."""
    return float(
        np.clip((weights * near * off).sum() / max((weights * near**2).sum(), 1e-12), 0, 1)
    )


def _gain(off: np.ndarray, weights: np.ndarray, near: np.ndarray) -> float:
    """By how much the neighbours raise twice the log likelihood of normal scatter."""
    before = (weights * off**2).sum()
    after = (weights * (off - _slope(off, weights, near) * near) ** 2).sum()
    return float((weights > 0).sum() * math.log(max(before, 1e-12) / max(after, 1e-12)))


def _odd_ones(logs: np.ndarray, trials: np.ndarray) -> list[int]:
    """Places of runs far from their trial's median, the farthest first, as long as most of the
    trial's runs stay."""
    off = np.abs(logs - _medians(logs, trials))
    counts = np.bincount(trials)
    odd = max(math.log(1 + ODD_SHARE), ODD_SPREADS * _robust_spread(off, trials))
    far = np.flatnonzero((off > odd) & (counts[trials] > 2))
    by_trial: dict[int, list[int]] = defaultdict(list)

    for place in far[np.argsort(-off[far], kind="stable")]:
        own = by_trial[int(trials[place])]
        if len(own) < min(MOST_LEFT_OUT, (counts[trials[place]] - 1) // 2):
            own.append(int(place))

    return [place for own in by_trial.values() for place in own]


def _robust_spread(off: np.ndarray, trials: np.ndarray) -> float:
    """Standard deviation of one run's log time, which outliers hardly move: the median distance
    from the trials' medians, without the one run that is the median of an odd number. Trials of
    fewer than three runs do not count.

    For normal times it is right within 2 % where trials have an odd number of runs, and 28 % low
    where all have four.
    """
    counts = np.bincount(trials)
    middle_runs = int(((counts > 2) & (counts % 2 == 1)).sum())
    distances = np.sort(off[counts[trials] > 2])[middle_runs:]

    return float(np.median(distances)) / NORMAL_MEDIAN if len(distances) else 0.0

"""Time with intervals: medians on the logarithm of time, and factors between trials.

The scatter of one trial's few runs is a poor guide, so it is combined with the scatter of all
trials of the study, as an empirical Bayes estimate does (Smyth 2004, SAGMB 3(1), section 5): own
and common variances weighted by their degrees of freedom. Intervals use Student's t with the
degrees of freedom of both.
"""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cache

from swift_sample.core.measure.kinds import Figure

CONFIDENCE = 0.95
COMMON_WEIGHT = 8.0
"""At most this many degrees of freedom are borrowed from the other trials."""
LEAST_SPREAD = 0.002
"""Standard deviation of log time below which no clock here can be trusted."""
ASSUMED_SPREAD = 0.05
ASSUMED_FREEDOM = 4.0
"""Standard deviation of log time that is assumed to begin with, and how many degrees of freedom it
counts for."""


MEDIAN_VARIANCE = {1: 1.0, 2: 1.0, 3: 1.346, 4: 1.193, 5: 1.434, 6: 1.288}
"""Variance of the median of n normal values over that of their mean (Sarhan and Greenberg 1962); pi
/ 2 for many."""


@dataclass(frozen=True)
class Spread:
    """The common scatter of log time over all trials: variance and its degrees of freedom."""

    variance: float
    freedom: float


NO_SPREAD = Spread(0.0, ASSUMED_FREEDOM)
"""Where nothing was repeated, and nothing may be assumed of how it was timed: times have no
intervals."""


def common_spread(trials: Iterable[Sequence[float]]) -> Spread:
    """Pool the scatter of log seconds within trials; each trial is a list of positive seconds."""
    squares = 0.0
    freedom = 0

    for seconds in trials:
        if len(seconds) > 1:
            squares += _squares(seconds)
            freedom += len(seconds) - 1

    total = freedom + ASSUMED_FREEDOM
    return Spread(
        max((squares + ASSUMED_FREEDOM * ASSUMED_SPREAD**2) / total, LEAST_SPREAD**2), total
    )


# Trials have a handful of runs, and studies thousands of trials: plain numbers are ten times faster
# here than arrays.


def _squares(seconds: Sequence[float]) -> float:
    """The sum of squared deviations of log seconds from their mean."""
    logs = [math.log(value) for value in seconds]
    middle = sum(logs) / len(logs)
    return sum((value - middle) ** 2 for value in logs)


def _median(values: Sequence[float]) -> float:
    ordered = sorted(values)
    count = len(values)
    return ordered[count // 2] if count % 2 else (ordered[count // 2 - 1] + ordered[count // 2]) / 2


def _scatter(seconds: Sequence[float], common: Spread) -> tuple[float, float]:
    """Variance of one run's log time and its degrees of freedom."""
    borrowed = min(common.freedom, COMMON_WEIGHT)
    freedom = borrowed + len(seconds) - 1
    return (_squares(seconds) + borrowed * common.variance) / freedom, freedom


@cache
def student_reach(freedom: float) -> float:
    """How many standard deviations reach to either end of the interval."""
    from scipy.special import stdtrit  # takes as long to load as half the window

    return float(stdtrit(freedom, 0.5 + CONFIDENCE / 2))


def _variance_of_median(variance: float, count: int) -> float:
    return variance / count * MEDIAN_VARIANCE.get(count, math.pi / 2)


def log_median(seconds: Sequence[float], common: Spread) -> tuple[float, float, float]:
    """The logarithm of the median, its variance, and the degrees of freedom of that."""
    variance, freedom = _scatter(seconds, common)
    return math.log(_median(seconds)), _variance_of_median(variance, len(seconds)), freedom


def median_seconds(seconds: Sequence[float], common: Spread) -> Figure:
    """The median of at least one run with its 95 % interval."""
    variance, freedom = _scatter(seconds, common)
    reach = student_reach(freedom) * math.sqrt(_variance_of_median(variance, len(seconds)))
    middle = _median(seconds)

    return Figure(middle, middle * math.exp(-reach), middle * math.exp(reach))


def factor(base: Sequence[float], seconds: Sequence[float], common: Spread) -> Figure:
    """How many times faster than `base`: above 1 is faster. The 95 % interval is Welch's on log
    time."""
    variance_a, freedom_a = _scatter(base, common)
    variance_b, freedom_b = _scatter(seconds, common)
    a = _variance_of_median(variance_a, len(base))
    b = _variance_of_median(variance_b, len(seconds))
    value = _median(base) / _median(seconds)

    if a + b == 0:
        return Figure(value, value, value)

    freedom = (a + b) ** 2 / (a**2 / freedom_a + b**2 / freedom_b)
    reach = student_reach(freedom) * math.sqrt(a + b)
    return Figure(value, value * math.exp(-reach), value * math.exp(reach))


def is_difference(times_faster: Figure) -> bool:
    """Whether a factor differs measurably from 1."""
    return not times_faster.low <= 1 <= times_faster.high

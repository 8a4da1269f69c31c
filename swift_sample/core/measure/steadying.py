"""What a machine that drifts or is busy does to times: block corrections from controls, and runs that are left out.

Controls are repeats of the base, spread over every block. Their median in a block against their median over all blocks is
the block's drift; where it stands out of the controls' own scatter, the block's times are divided by it.
"""

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

from swift_sample.core.measure.timing import MEDIAN_VARIANCE

ODD_SHARE = 0.15
"""A run that differs from its trial's median by more than this share is repeated and left out."""
DRIFT_WARNING = 0.05
"""A drift of a block by more than this share is worth a warning."""
STANDS_OUT = 2.0
"""Standard errors by which a block's drift must differ from none to be corrected."""
MOST_LEFT_OUT = 2
"""Runs of one trial that may be left out; a machine that needs more is too restless to be steadied."""


@dataclass(frozen=True)
class TimedRun:
    """One run as far as steadying needs it; `is_base` holds for controls and for the base's own runs."""

    number: int
    trial: int
    block: int
    is_base: bool
    seconds: float


@dataclass(frozen=True)
class Steadied:
    """`drift` by block: how many times slower than usual its controls were, 1 where that cannot be told from chance.
    `left_out` are the numbers of odd runs."""

    drift: Mapping[int, float] = field(default_factory=dict)
    left_out: frozenset[int] = frozenset()

    def factor(self, block: int) -> float:
        """What a time of this block is divided by."""
        return self.drift.get(block, 1.0)

    @property
    def largest_drift(self) -> float:
        """The largest correction as a share: 0.08 for 8 % slower or faster."""
        return max((abs(drift - 1) for drift in self.drift.values()), default=0.0)


def steadied(runs: Iterable[TimedRun], spread: float) -> Steadied:
    """Corrections of all blocks, and which runs to leave out after them.

    spread: the standard deviation of one run's log time.
    """
    runs = list(runs)
    drift = _drifts([run for run in runs if run.is_base], spread)
    by_trial: dict[int, list[TimedRun]] = defaultdict(list)
    for run in runs:
        by_trial[run.trial].append(run)
    left_out: set[int] = set()
    for own in by_trial.values():
        left_out |= _odd_ones({run.number: run.seconds / drift.get(run.block, 1.0) for run in own})
    return Steadied(drift, frozenset(left_out))


def _drifts(base_runs: list[TimedRun], spread: float) -> dict[int, float]:
    logs: dict[int, list[float]] = defaultdict(list)
    for run in base_runs:
        logs[run.block].append(math.log(run.seconds))
    if len(logs) < 2:
        return {}
    usual = float(np.median([np.median(values) for values in logs.values()]))
    found = {}
    for block, values in logs.items():
        off = float(np.median(values)) - usual
        error = spread * math.sqrt(MEDIAN_VARIANCE.get(len(values), math.pi / 2) / len(values))
        if abs(off) > STANDS_OUT * error:
            found[block] = math.exp(off)
    return found


def _odd_ones(seconds: Mapping[int, float]) -> set[int]:
    """Runs far from the median, the farthest first, as long as most of the trial's runs stay."""
    if len(seconds) < 3:
        return set()
    middle = math.log(float(np.median(list(seconds.values()))))
    off = {number: abs(math.log(value) - middle) for number, value in seconds.items()}
    odd = sorted((number for number, far in off.items() if far > math.log(1 + ODD_SHARE)), key=lambda number: -off[number])
    return set(odd[: min(MOST_LEFT_OUT, (len(seconds) - 1) // 2)])

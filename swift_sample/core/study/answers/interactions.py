"""Whether the effects of two settings on time multiply, or hinder or help one another."""

import math
from dataclasses import dataclass

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import (
    Spread,
    common_spread,
    is_difference,
    log_median,
    student_reach,
)
from swift_sample.core.settings import Value
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult


@dataclass(frozen=True)
class Interaction:
    """`factor` is how many times faster both changes together are than their effects multiplied; 1
    if independent."""

    changes: dict[str, Value]
    factor: Figure

    @property
    def words(self) -> str:
        """What that means, for a person."""
        both = " and ".join(f"{key}={value}" for key, value in self.changes.items())
        if not is_difference(self.factor):
            return (
                f"{both}: their effects multiply, as far as can be told ({self.factor.low:.2f} "
                f"to {self.factor.high:.2f})"
            )

        kind = "more" if self.factor.value > 1 else "less"
        share = abs(self.factor.value - 1)

        return (
            f"{both}: together they save {share:.0%} {kind} time than their effects multiplied "
            f"({self.factor.low:.2f} to {self.factor.high:.2f})"
        )


def interactions(results: Results) -> list[Interaction]:
    """For every measured trial with two changes of which each was also measured alone; those that
    stand out come first."""
    base = results.base
    if base is None or not base.times:
        return []

    alone: dict[tuple[str, Value], TrialResult] = {}
    pairs: list[tuple[TrialResult, dict[str, Value]]] = []

    for trial in results.trials:
        changes = trial.configuration.differences(results.study.base)
        if trial.times and len(changes) == 1:
            alone[next(iter(changes.items()))] = trial
        elif trial.times and len(changes) == 2:
            pairs.append((trial, changes))

    spread = common_spread([trial.times for trial in results.trials])
    found = [
        Interaction(changes, _factor((alone[one], alone[other]), (base, trial), spread))
        for trial, changes in pairs
        for one, other in [tuple(changes.items())]
        if one in alone and other in alone
    ]

    return sorted(
        found, key=lambda i: (not is_difference(i.factor), -abs(math.log(i.factor.value)))
    )


def _factor(
    alone: tuple[TrialResult, TrialResult], ends: tuple[TrialResult, TrialResult], spread: Spread
) -> Figure:
    """t_a t_b / (t_base t_ab) with a 95 % interval on its logarithm; Welch's degrees of freedom."""
    logs = [(1, *log_median(t.times, spread)) for t in alone] + [
        (-1, *log_median(t.times, spread)) for t in ends
    ]
    value = sum(sign * middle for sign, middle, _, _ in logs)
    variance = sum(v for _, _, v, _ in logs)
    freedom = variance**2 / sum(v**2 / f for _, _, v, f in logs)
    reach = student_reach(freedom) * math.sqrt(variance)

    return Figure(math.exp(value), math.exp(value - reach), math.exp(value + reach))

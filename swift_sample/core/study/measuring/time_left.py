"""How long measuring will go on: runs, what is left of the reference, and comparing, between two
ends."""

from swift_sample.core.study.answers.costs import measuring_seconds
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.policies.reference import (
    REFERENCE_SHARE,
    reference_is_good,
    wanted_floor,
)

UNSURE = 0.15
"""Either way, of what runs like those before will take."""


def reference_seconds_left(state: StudyState, rendering: float) -> tuple[float, float]:
    """Between which seconds the reference is still extended, where runs of `rendering` seconds are
    still to be made: until it is clean enough, its grain falling with the root of its samples, but
    no longer than all runs take together."""
    known = state.reference
    if known is None:
        return 0.0, REFERENCE_SHARE * rendering
    if reference_is_good(state) or known.floor is None:
        return 0.0, 0.0

    spent = sum(run.result.seconds["total"] for run in state.results.runs if run.result is not None)
    paced = max(0.0, REFERENCE_SHARE * (spent + rendering) - known.seconds)
    wanted = known.seconds * max(0.0, (known.floor / wanted_floor(state.plan)) ** 2 - 1)

    return 0.8 * min(paced, wanted), min(paced, 1.2 * wanted)


def seconds_left(state: StudyState, rendering: float, runs: int) -> tuple[float, float]:
    """Between which seconds measuring goes on, where so many runs are still to be made that take
    `rendering` seconds."""
    low, high = reference_seconds_left(state, rendering)
    comparing = runs * measuring_seconds(state.plan.size)
    return (1 - UNSURE) * rendering + low + 0.7 * comparing, (
        1 + UNSURE
    ) * rendering + high + 1.3 * comparing

"""The pick: the fastest acceptable trial, or where several take that time as far as can be told,
the one with the fewest changes; and what speaks for it.

A setting that does nothing is never recommended: among trials that tie, "16 samples" goes before
"16 samples, clamp 4".
"""

from collections.abc import Mapping
from dataclasses import dataclass
from heapq import nlargest
from typing import Any, Protocol

from swift_sample.core.measure.kinds import WORST_MARK, Figure, place_words
from swift_sample.core.measure.timing import Spread, factor, is_difference
from swift_sample.core.settings import Value
from swift_sample.core.study.answers.acceptance import (
    ACCEPTABLE,
    NOT_ACCEPTABLE,
    UNDECIDED,
    is_cost,
    quantity,
    show_limit,
)
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.plan.model import AREA_MARK, Study

LOOKED_AT = 16
"""Of the trials that are faster than the pick, so many of the nearest are looked at before all
are."""


class Judged(Protocol):
    """All trials of a study with their verdicts: `results.Results`."""

    @property
    def study(self) -> Study: ...

    @property
    def trials(self) -> tuple[TrialResult, ...]: ...

    @property
    def by_id(self) -> Mapping[str, TrialResult]: ...

    @property
    def by_effect(self) -> Mapping[Any, TrialResult]: ...

    @property
    def alone(self) -> Mapping[str, Mapping[Value, str]]: ...

    @property
    def spread(self) -> Spread: ...

    @property
    def line(self) -> float: ...

    @property
    def wanted(self) -> Mapping[str, float]: ...


@dataclass(frozen=True)
class Pick:
    """`ties` are the acceptable trials whose time cannot be told apart from the fastest one's.
    `next_faster` is the nearest trial that is measurably faster, and `reason` why it is not the
    pick."""

    trial: TrialResult
    ties: tuple[TrialResult, ...]
    next_faster: TrialResult | None
    reason: str


@dataclass(frozen=True)
class Contribution:
    """What one change of a trial does for its time, where that was measured: how many times faster
    it is than without it (`alone` False), else the base with only this change than the base
    (`alone` True). None where neither was measured."""

    key: str
    value: Value
    times_faster: Figure | None
    alone: bool = False


def choose(results: Judged) -> Pick | None:
    """The pick under the results' acceptance line, or None yet."""
    acceptable = [t for t in results.trials if t.verdict == ACCEPTABLE and t.seconds is not None]
    if not acceptable:
        return None

    fastest = min(acceptable, key=_time_then_share)
    assert fastest.seconds is not None
    # Where intervals do not touch, times differ measurably: the interval of the factor is narrower
    # than both together.
    reach = fastest.seconds.high
    close = [
        t
        for t in acceptable
        if t is not fastest and t.seconds is not None and t.seconds.low <= reach
    ]
    tied = [t for t in close if not is_difference(factor(t.times, fastest.times, results.spread))]
    base = results.study.base
    pick = min(
        [fastest, *tied],
        key=lambda t: (len(t.configuration.differences(base)), *_time_then_share(t)),
    )
    ties = tuple(sorted((t for t in (fastest, *tied) if t is not pick), key=_time_then_share))
    nearest = _next_faster(results, pick, {t.id for t in ties})

    return Pick(
        pick,
        ties,
        nearest,
        why_not(nearest, results) if nearest else "no measurably faster one was measured",
    )


def _next_faster(results: Judged, pick: TrialResult, ties: set[str]) -> TrialResult | None:
    """The slowest of the trials that are measurably faster than the pick."""
    assert pick.seconds is not None
    limit = pick.seconds.value
    faster = [
        t
        for t in results.trials
        if t.is_on_map and t.seconds is not None and t.seconds.value < limit
    ]

    for count in (LOOKED_AT, len(faster)):
        for trial in nlargest(count, faster, key=_seconds):
            measurable = is_difference(factor(pick.times, trial.times, results.spread))
            if trial.id not in ties and measurable:
                return trial

    return None


def why_not(trial: TrialResult, results: Judged) -> str:
    """Why a trial is not acceptable, and in which place."""
    if trial.forbidden:
        return trial.forbidden

    can = results.study.catalogue.capabilities
    more = can.starts and can.seeds

    if (
        more
        and trial.verdict == UNDECIDED
        and trial.standing.unknown
        and trial.share is not None
        and trial.share.high <= results.line
    ):
        return "one run cannot tell all of its errors; a second one would"

    key = trial.worst_limit()
    figure = trial.figures[key]
    assert figure is not None
    words = {
        NOT_ACCEPTABLE: "is over its limit",
        UNDECIDED: "is too close to its limit to say" + ("; more runs would tell" if more else ""),
    }.get(trial.verdict, "is not measured yet")

    return (
        f"{quantity(key).label} {show_limit(key, figure, results.wanted[key])} "
        f"{words}{place_of(trial, key, results)}"
    )


def place_of(trial: TrialResult, key: str, results: Judged) -> str:
    """Where an error is largest, in words: ", most of it at the upper left"; "" where that is not
    known."""
    measure, mark, _ = key.partition(AREA_MARK)
    if mark or is_cost(key):
        return ""

    worst = trial.figures.get(measure if measure.endswith(WORST_MARK) else measure + WORST_MARK)
    if worst is None or worst.place is None:
        return ""

    there = place_words(worst.place, results.study.size)
    if measure.endswith(WORST_MARK):
        return f", {there}"

    return f", {'least' if quantity(key).higher_is_better else 'most of it'} {there}"


def contributions(results: Judged, trial: TrialResult) -> tuple[Contribution, ...]:
    """What each change of a trial from the base contributes to its time."""
    base = results.study.base
    found = []
    changes = trial.configuration.differences(base)

    for key, value in changes.items():
        without = (
            results.by_effect.get(trial.configuration.replace({key: base[key]}).effective())
            if len(changes) > 1
            else None
        )
        if without is not None and without.times and without is not trial:
            found.append(
                Contribution(key, value, factor(without.times, trial.times, results.spread))
            )
            continue

        name = results.alone.get(key, {}).get(value)
        alone = results.by_id[name].times_faster if name is not None else None
        found.append(Contribution(key, value, alone, alone=True))

    return tuple(found)


def edges(results: Judged, trial: TrialResult) -> tuple[str, ...]:
    """Settings of which a trial has the cheapest value that was tried, although the setting has
    cheaper ones."""
    found = []
    for key, values in results.study.space().items():
        declared = results.study.catalogue[key]
        own = trial.configuration[key]
        if not declared.more_takes_longer or isinstance(own, str) or declared.minimum is None:
            continue
        at_the_end = own == min(float(v) for v in values) and float(own) > declared.minimum
        if at_the_end and not trial.configuration.is_idle(declared):
            found.append(key)

    return tuple(found)


def _seconds(trial: TrialResult) -> float:
    assert trial.seconds is not None
    return trial.seconds.value


def _time_then_share(trial: TrialResult) -> tuple[float, float]:
    assert trial.share is not None
    return _seconds(trial), trial.share.value

"""The pick in words and as data: what the verdict strip, the terminal and `pick --json` say."""

import math
from collections.abc import Mapping
from typing import Any

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import is_difference
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.answers.acceptance import quantity
from swift_sample.core.study.answers.field import FieldPoint
from swift_sample.core.study.answers.guidance import Help
from swift_sample.core.study.answers.interactions import interactions
from swift_sample.core.study.answers.pick import Pick, contributions, edges
from swift_sample.core.study.answers.results import Results, show_error
from swift_sample.core.study.answers.taking_back import worth_words
from swift_sample.core.study.answers.trial import PROCESSOR_SECONDS, TrialResult
from swift_sample.core.study.plan.model import FIRST_PICTURE

TIES_NAMED = 4
LEAST_PHASE_TOLD = 0.005
"""Seconds under which a phase is not worth a word."""


def show_seconds(seconds: float) -> str:
    """A duration as a person would write it: 0.85 s, 4.1 s, 2 min 5 s, 1 h 4 min."""
    if seconds < 0.995:
        return f"{seconds:.2f} s"
    if seconds < 99.5:
        return f"{seconds:.1f} s"

    whole = round(seconds)
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"

    return f"{whole // 3600} h {whole % 3600 // 60} min"


def show_time_left(low: float, high: float) -> str:
    """A time between two ends, as a person would say it: about 40 s, about 3 to 5 min, about 1 h 4
    min to 1 h 20 min."""
    if high < 60:
        return f"about {max(1, round((low + high) / 2))} s"

    if high < 3600:
        fewest = max(1, round(low / 60))
        most = max(1, round(high / 60))
        return f"about {most} min" if fewest >= most else f"about {fewest} to {most} min"

    return f"about {show_seconds(low)} to {show_seconds(high)}"


def show_with_interval(figure: Figure) -> str:
    """A time with half the width of its interval, as far as that is known: "4.1 s ± 0.2"."""
    shown = show_seconds(figure.value)
    if not figure.has_interval:
        return shown

    reach = max(figure.high - figure.value, figure.value - figure.low)
    return (
        f"{shown} ± "
        f"{show_seconds(reach) if reach >= 99.5 or figure.value >= 99.5 else f'{reach:.1g}'}"
    )


def show_with_half(figure: Figure) -> str:
    """A time with half the width of its interval as one number, as far as that is known."""
    half = f" ± {(figure.high - figure.low) / 2:.1g}" if figure.has_interval else ""
    return show_seconds(figure.value) + half


def show_factor(times_faster: Figure | None, intervals: bool = False) -> str:
    """How a trial compares with the base: "3.4× faster than base", or that there is no measurable
    difference."""
    if times_faster is None:
        return "not compared with the base yet"
    if not is_difference(times_faster):
        return "no measurable difference from base"

    value = times_faster.value
    low = times_faster.low
    high = times_faster.high

    if not times_faster.has_interval:
        return (
            f"{value:.1f}× faster than base, by one time each"
            if value >= 1
            else f"{1 / value:.1f}× slower than base, by one time each"
        )

    between = f" ({low:.1f} to {high:.1f})" if intervals else ""
    if value >= 1.05:
        return f"{value:.1f}×{between} faster than base"

    if value >= 1:
        between = f" ({(low - 1) * 100:.0f} to {(high - 1) * 100:.0f})" if intervals else ""
        return f"{(value - 1) * 100:.0f} %{between} faster than base"

    between = f" ({1 / high:.1f} to {1 / low:.1f})" if intervals else ""
    return f"{1 / value:.1f}×{between} slower than base"


def show_phases(trial: TrialResult) -> str:
    """Where the time goes, with half the width of each interval: "sampling 0.92 s ± 0.03, denoise
    0.10 s ± 0.01"."""
    shown = [
        f"{phase.replace('_', ' ')} {show_with_half(spent)}"
        for phase, spent in trial.phases.items()
        if phase not in ("total", PROCESSOR_SECONDS) and spent.value >= LEAST_PHASE_TOLD
    ]
    return ", ".join([*shown, *([words] if (words := cache_words(trial)) else [])])


def cache_words(trial: TrialResult) -> str:
    """What a trial's renders take cold and warm, side by side, where a cache spares later ones
    something; "" where none does."""
    first = trial.first_render_seconds
    if first is None:
        return ""

    warm = show_seconds(trial.phases["total"].value)
    if trial.preparing_seconds:
        return (
            f"cold {show_seconds(first)}, once for good: what it prepares stays on disk; warm "
            f"{warm}, every later render"
        )

    return (
        f"cold {show_seconds(first)}, the first render after opening; warm {warm}, every later one"
    )


def runs_words(trial: TrialResult) -> str:
    """How often a trial was rendered, and what its figures are measured of, where that are not
    these renders."""
    runs = len(trial.runs)
    times = f"{runs} {'time' if runs == 1 else 'times'}"
    if not trial.derived:
        return f"measured {times}"

    return f"timed {times}, its figures measured of {trial.pictures} derived pictures"


def pick_sentences(
    results: Results, pick: Pick, without: Mapping[str, FieldPoint] | None = None
) -> list[str]:
    """The pick as a few lines of text. `without` is what was derived of it without each of its
    changes, by the setting."""
    trial = pick.trial
    base = results.study.base
    assert trial.seconds is not None
    settings = (
        trial.configuration.describe(most=12)
        if trial.is_base
        else trial.configuration.describe(base, most=12)
    )
    factor = show_factor(trial.times_faster, True)

    if trial.is_base:
        factor = "today's settings are the fastest acceptable"
        if alone_so_far(results):
            factor = "today's settings are acceptable, nothing else is measured yet"

    lines = [
        f"{so_far(results)}{show_with_interval(trial.seconds)}, {factor}: {settings}",
        "  "
        + ", ".join(
            f"{quantity(key).label} {show_error(key, trial, results)}" for key in trial.shares
        ),
        *([f"  {phases}"] if (phases := show_phases(trial)) else []),
        f"  {runs_words(trial)}, {show_ties(pick, base)}",
    ]
    if trial.failed:
        lines.append(f"  {failure_words(trial)}")
    if not trial.is_base:
        worth = show_contributions(results, trial, without or {})
        lines.append(f"  what each change does: {'; '.join(worth)}")

    if pick.next_faster is not None and pick.next_faster.seconds is not None:
        lines.append(
            f"  the next {'measurably ' if pick.next_faster.seconds.has_interval else ''}faster "
            f"one takes {show_seconds(pick.next_faster.seconds.value)} "
            f"({pick.next_faster.configuration.describe(base)}): {pick.reason}"
        )

    return lines + [f"  {words}" for words in edge_words(results, trial)]


def failure_words(trial: TrialResult) -> str:
    """How many renders of a trial failed, and why the last one did; "" where none did."""
    if not trial.failed:
        return ""

    tried = len(trial.runs) + len(trial.failed)
    return f"{len(trial.failed)} of its {tried} renders failed: {trial.failed[-1]}"


def alone_so_far(results: Results) -> bool:
    """Whether nothing but the base is measured, although other trials are planned."""
    return len(results.trials) > 1 and len(results.on_map) <= 1


def other_goal_words(results: Results) -> str:
    """The pick for the other goal in one line, given the results under it; "" where it has none."""
    pick = results.pick()
    if pick is None or pick.trial.seconds is None:
        return ""

    goal = "the first picture" if results.study.goal == FIRST_PICTURE else "the final render"
    base = results.study.base
    trial = pick.trial
    settings = "today's settings" if trial.is_base else trial.configuration.describe(base, most=12)
    factor = "" if trial.is_base else f", {show_factor(trial.times_faster, True)}"
    assert trial.seconds is not None

    return f"for {goal} the pick is {settings}: {show_with_interval(trial.seconds)}{factor}"


def answer_words(results: Results) -> str:
    """The pick's time and factor as a short sentence, for a notification; "" without a pick."""
    pick = results.pick()
    if pick is None or pick.trial.seconds is None:
        return ""

    words = show_seconds(pick.trial.seconds.value)
    return (
        f"{words}, "
        f"{'as it is today' if pick.trial.is_base else show_factor(pick.trial.times_faster)}."
    )


def so_far(results: Results) -> str:
    """ "so far, 3 of 24 trials measured: " while a part of the plan is not; "" then."""
    measured = len(results.on_map)
    planned = len(results.trials)
    return (
        ""
        if measured == planned or results.sought
        else f"so far, {measured} of {planned} trials measured: "
    )


def show_contributions(
    results: Results, trial: TrialResult, without: Mapping[str, FieldPoint]
) -> list[str]:
    """What each change of a trial does for its time, one after the other: measured, or where that
    was not done as recordings tell it."""
    told = []
    for one in contributions(results, trial):
        what = _one_value(results, one.key, one.value)
        if (one.times_faster is None or one.alone) and one.key in without:
            told.append(f"{what} {worth_words(trial, without[one.key], results.wanted)}")
        elif one.times_faster is None:
            told.append(f"{what} not measured on its own")
        else:
            words = (
                show_factor(one.times_faster, True)
                .removesuffix(" than base")
                .removesuffix(" from base")
            )
            told.append(f"{what} {words}{' (alone, beside the base)' if one.alone else ''}")

    return told


def _one_value(results: Results, key: str, value: Value) -> str:
    """A value as a trial with nothing else changed would be named: "12 samples"."""
    base = results.study.base
    changed = base.replace({key: value})
    return changed.describe(base) if changed != base else base.catalogue[key].told(value)


def edge_words(results: Results, trial: TrialResult) -> list[str]:
    """Where a trial stands at the edge of what was tried."""
    return [
        (
            "at the edge of what was tried, with "
            f"{_one_value(results, key, trial.configuration[key])}: less may do as well"
        )
        for key in edges(results, trial)
    ]


def show_ties(pick: Pick, base: Configuration | None = None) -> str:
    """How many others tie with the pick, and with a base what they are."""
    count = len(pick.ties)
    if not count:
        return "no ties"

    told = f"ties with {count} other{'s' if count > 1 else ''}"
    if base is None:
        return told

    named = [t.configuration.describe(base) for t in pick.ties[:TIES_NAMED]]
    return (
        f"{told}: {'; '.join(named)}{f'; {count - TIES_NAMED} more' if count > TIES_NAMED else ''}"
    )


def help_sentences(results: Results, found: Help) -> list[str]:
    """What stands between the trials and a pick, and what may meet the limits."""
    closest = found.closest
    base = results.study.base
    name = "the base" if closest.is_base else closest.configuration.describe(base)
    lines = [f"{so_far(results)}no acceptable configuration yet", f"  closest: {name}"]
    lines += [f"  {one}" for one in found.failing]

    if found.proposal is not None:
        lines.append(f"  to try next: {found.proposal.describe(base, most=12)}: {found.words}")
    elif found.words:
        lines.append(f"  what may help: {found.words}")

    return lines


def pick_as_data(results: Results, pick: Pick | None, found: Help | None = None) -> dict[str, Any]:
    """The pick for `--json`; "pick" is null where there is none, and "help" then says what may lead
    to one."""
    measured = sum(1 for t in results.trials if t.is_on_map)
    head: dict[str, Any] = {
        "study": results.study.name,
        "goal": results.study.goal,
        "limits": dict(results.wanted),
        "trials": {"planned": len(results.trials), "measured": measured},
    }

    head["interactions"] = [
        {"changes": found.changes, "factor": _figure(found.factor), "words": found.words}
        for found in interactions(results)
    ]
    head["drift_corrected"] = results.correction.largest_drift
    head["runs_left_out"] = sorted(results.correction.left_out)

    if pick is None:
        return {
            **head,
            "pick": None,
            "help": None if found is None else _help_as_data(results, found),
        }

    nearest = pick.next_faster
    return {
        **head,
        "pick": {
            **trial_as_data(pick.trial, results),
            "ties": [
                {
                    "configuration": dict(t.configuration.differences(results.study.base)),
                    "seconds": _figure(t.seconds),
                }
                for t in pick.ties
            ],
            "contributions": [
                {
                    "setting": one.key,
                    "value": one.value,
                    "times_faster": _figure(one.times_faster),
                    "alone": one.alone,
                }
                for one in contributions(results, pick.trial)
            ],
            "at_the_edge": list(edges(results, pick.trial)),
            "next_faster": None
            if nearest is None
            else {**trial_as_data(nearest, results), "reason": pick.reason},
        },
    }


def _help_as_data(results: Results, found: Help) -> dict[str, Any]:
    return {
        "closest": trial_as_data(found.closest, results),
        "failing": list(found.failing),
        "to_try_next": None
        if found.proposal is None
        else dict(found.proposal.differences(results.study.base)),
        "why": found.words,
    }


def trial_as_data(trial: TrialResult, results: Results) -> dict[str, Any]:
    """One trial for `--json` and for others to read."""
    return {
        "configuration": dict(trial.configuration),
        "differs_from_base": dict(trial.configuration.differences(results.study.base)),
        "seconds": _figure(trial.seconds),
        "first_render_seconds": trial.first_render_seconds,
        "times_faster_than_base": _figure(trial.times_faster),
        "measurable_difference": (
            trial.times_faster is not None
            and trial.times_faster.has_interval
            and is_difference(trial.times_faster)
        ),
        "phases": figures_as_data(trial.phases),
        "simulated": trial.is_simulated,
        "runs": len(trial.runs),
        "figures_of": {
            "pictures": trial.pictures,
            "kind": "derived" if trial.derived else "rendered",
        },
        "runs_left_out": len(trial.left_out),
        "verdict": trial.verdict,
        "not_measured_yet": sorted(trial.unmeasured),
        "limit_share": _figure(trial.share),
        "limit_shares": {key: _figure(figure) for key, figure in trial.shares.items()},
        "figures": figures_as_data(trial.all_figures),
    }


def figures_as_data(figures: Mapping[str, Figure | None]) -> dict[str, Any]:
    return {key: _figure(figure) for key, figure in figures.items()}


def _figure(figure: Figure | None) -> dict[str, float | None] | None:
    """JSON knows no infinity, which is the signal to noise of a perfect picture: null stands for
    it."""
    return (
        None
        if figure is None
        else {
            end: value if math.isfinite(value) else None
            for end, value in (("value", figure.value), ("low", figure.low), ("high", figure.high))
        }
    )

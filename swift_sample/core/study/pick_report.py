"""The pick in words and as data: what the verdict strip, the terminal and `pick --json` say."""

import math
from collections.abc import Mapping
from typing import Any

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import is_difference
from swift_sample.core.study.interactions import interactions
from swift_sample.core.study.results import PROCESSOR_SECONDS, Pick, Results, TrialResult, quantity, show_error, wanted_limits

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


def show_factor(times_faster: Figure | None) -> str:
    """How a trial compares with the base: "3.4× faster than base", or that there is no measurable difference."""
    if times_faster is None:
        return "not compared with the base yet"
    if not is_difference(times_faster):
        return "no measurable difference from base"
    if times_faster.value >= 1:
        return (
            f"{times_faster.value:.1f}× faster than base"
            if times_faster.value >= 1.05
            else f"{(times_faster.value - 1) * 100:.0f} % faster than base"
        )
    return f"{1 / times_faster.value:.1f}× slower than base"


def show_phases(trial: TrialResult) -> str:
    """Where the time goes, with half the width of each interval: "sampling 0.92 s ± 0.03, denoise 0.10 s ± 0.01"."""
    shown = [
        f"{phase.replace('_', ' ')} {show_seconds(spent.value)} ± {(spent.high - spent.low) / 2:.1g}"
        for phase, spent in trial.phases.items()
        if phase not in ("total", PROCESSOR_SECONDS) and spent.value >= LEAST_PHASE_TOLD
    ]
    first = trial.first_render_seconds
    if first is not None:
        shown.append(f"the first render after opening {show_seconds(first)}")
    return ", ".join(shown)


def pick_sentences(results: Results, pick: Pick) -> list[str]:
    """The pick as a few lines of text."""
    trial = pick.trial
    assert trial.seconds is not None
    settings = (
        trial.configuration.describe(most=12) if trial.is_base else trial.configuration.describe(results.study.base, most=12)
    )
    runs = len(trial.runs)
    lines = [
        f"{show_seconds(trial.seconds.value)}, {show_factor(trial.times_faster)}: {settings}",
        "  " + ", ".join(f"{quantity(key).label} {show_error(key, trial, results)}" for key in trial.shares),
        f"  {show_phases(trial)}",
        f"  measured {runs} {'time' if runs == 1 else 'times'}, {show_ties(pick)}",
    ]
    if pick.next_faster is not None and pick.next_faster.seconds is not None:
        lines.append(
            f"  the next faster one takes {show_seconds(pick.next_faster.seconds.value)} "
            f"({pick.next_faster.configuration.describe(results.study.base)}): {pick.reason}"
        )
    return lines


def show_ties(pick: Pick) -> str:
    count = len(pick.ties)
    return "ties with none" if not count else f"ties with {count} other{'s' if count > 1 else ''}"


def pick_as_data(results: Results, pick: Pick | None) -> dict[str, Any]:
    """The pick for `--json`; "pick" is null where there is none."""
    measured = sum(1 for t in results.trials if t.is_on_map)
    head: dict[str, Any] = {
        "study": results.study.name,
        "goal": results.study.goal,
        "limits": wanted_limits(results.study, results.limits),
        "trials": {"planned": len(results.trials), "measured": measured},
    }
    head["interactions"] = [
        {"changes": found.changes, "factor": _figure(found.factor), "words": found.words} for found in interactions(results)
    ]
    head["drift_corrected"] = results.correction.largest_drift
    head["runs_left_out"] = sorted(results.correction.left_out)
    if pick is None:
        return {**head, "pick": None}
    nearest = pick.next_faster
    return {
        **head,
        "pick": {
            **trial_as_data(pick.trial, results),
            "ties": [
                {"configuration": dict(t.configuration.differences(results.study.base)), "seconds": _figure(t.seconds)}
                for t in pick.ties
            ],
            "next_faster": None if nearest is None else {**trial_as_data(nearest, results), "reason": pick.reason},
        },
    }


def trial_as_data(trial: TrialResult, results: Results) -> dict[str, Any]:
    """One trial for `--json` and for others to read."""
    return {
        "configuration": dict(trial.configuration),
        "differs_from_base": dict(trial.configuration.differences(results.study.base)),
        "seconds": _figure(trial.seconds),
        "first_render_seconds": trial.first_render_seconds,
        "times_faster_than_base": _figure(trial.times_faster),
        "measurable_difference": trial.times_faster is not None and is_difference(trial.times_faster),
        "phases": figures_as_data(trial.phases),
        "simulated": trial.is_simulated,
        "runs": len(trial.runs),
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
    """JSON knows no infinity, which is the signal to noise of a perfect picture: null stands for it."""
    return (
        None
        if figure is None
        else {
            end: value if math.isfinite(value) else None
            for end, value in (("value", figure.value), ("low", figure.low), ("high", figure.high))
        }
    )

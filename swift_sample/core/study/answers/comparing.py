"""How two configurations of a study differ, and what each difference did as far as trials show
it."""

from dataclasses import dataclass
from itertools import chain

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import factor, is_difference
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.answers.acceptance import quantity
from swift_sample.core.study.answers.pick_report import show_factor
from swift_sample.core.study.answers.results import Results, show_error
from swift_sample.core.study.answers.trial import TrialResult

LEAST_CHANGE = 0.05
"""Of a limit: an error that changes by less is not told."""


@dataclass(frozen=True)
class Difference:
    """A setting that two configurations have otherwise, and two trials that differ in nothing else;
    None where none are measured."""

    key: str
    here: Value
    there: Value
    trials: tuple[TrialResult, TrialResult] | None
    times_faster: Figure | None
    """the second over the first"""


def differences(results: Results, here: Configuration, there: Configuration) -> list[Difference]:
    """Every setting in which `there` differs from `here`, with the pair of trials nearest to `here`
    that shows it alone."""
    found = []
    for key, value in there.differences(here).items():
        pair = _pair(results, key, here, value)
        times = factor(pair[0].times, pair[1].times, results.spread) if pair is not None else None
        found.append(Difference(key, here[key], value, pair, times))

    return found


def _pair(
    results: Results, key: str, here: Configuration, value: Value
) -> tuple[TrialResult, TrialResult] | None:
    """Two timed trials, of the value here and the other one, that differ in nothing else."""
    best: tuple[int, TrialResult, TrialResult] | None = None
    for trial in results.trials:
        if not trial.times or trial.configuration[key] != here[key]:
            continue

        other = results.by_effect.get(trial.configuration.replace({key: value}).effective())
        if other is None or not other.times or other is trial:
            continue

        far = len(trial.configuration.differences(here))
        if best is None or far < best[0]:
            best = far, trial, other

    return None if best is None else best[1:]


def show_difference(one: Difference, results: Results) -> str:
    """In words: "Samples, most 48 → 16: 2.1× faster (1.9 to 2.3), grain 1.2 → 2.0 of 2.0
    levels"."""
    declared = results.study.catalogue[one.key]
    what = f"{declared.label} {declared.show(one.here)} → {declared.show(one.there)}"
    if one.trials is None or one.times_faster is None:
        return f"{what}: not measured alone"

    faster = one.times_faster
    words = show_factor(faster, True).removesuffix(" than base").removesuffix(" from base")
    told = [words if is_difference(faster) else "no measurable difference in time"]
    first, second = one.trials

    changed = {
        key: abs(second.shares[key].value - first.shares[key].value)
        for key in first.shares.keys() & second.shares.keys()
        if key in first.figures
    }
    key = max(changed, key=lambda each: changed[each], default=None)

    if key is not None and changed[key] >= LEAST_CHANGE:
        figure = first.figures[key]
        if figure is not None:
            told.append(
                f"{quantity(key).label} {figure.value:.1f} → {show_error(key, second, results)}"
            )

    return f"{what}: {', '.join(told)}"


def show_differences(results: Results, here: Configuration, there: Configuration) -> list[str]:
    """Every difference in words, those of which most is known first; one line where there are
    none."""
    found = differences(results, here, there)
    found.sort(
        key=lambda one: -abs(one.times_faster.value - 1) if one.times_faster is not None else 1.0
    )
    own, other = (_measured(results, one) for one in (here, there))
    whole = []

    if own is not None and other is not None and own.times and other.times:
        times = factor(own.times, other.times, results.spread)
        words = show_factor(times, True).removesuffix(" than base").removesuffix(" from base")
        whole = [
            f"as a whole: {words if is_difference(times) else 'no measurable difference in time'}"
        ]

    return list(chain(whole, (show_difference(one, results) for one in found))) or [
        "they are the same"
    ]


def _measured(results: Results, configuration: Configuration) -> TrialResult | None:
    return results.by_effect.get(configuration.effective())

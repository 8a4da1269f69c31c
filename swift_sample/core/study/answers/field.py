"""The field: every combination of the values that a plan tries, with what recordings say of it.

Its figures are measurements, of pictures that were derived; its times are foreseen.
"""

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import product
from typing import Any

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration, Derivation
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.study.answers.acceptance import (
    Standing,
    forbidden_words,
    is_cost,
    is_unknown,
    surely_over,
    worst,
)
from swift_sample.core.study.answers.derived import derived_figures
from swift_sample.core.study.answers.foreseen import Pace, Timed
from swift_sample.core.study.answers.results import Results, results_of
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.events import Derived
from swift_sample.core.study.log.identity import appearance_identity
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.plan.model import Study


def recorded_for(state: StudyState, configuration: Configuration) -> list[int]:
    """The chunks of the reference whose recordings were made for a configuration."""
    name = state.reference_name
    samples = configuration.number_in_role(SAMPLES)
    if configuration.stem() != state.plan.reference_configuration(1).stem():
        return []

    wanted = {
        key: configuration[key]
        for key, declared in configuration.catalogue.items()
        if declared.derived is not None and declared.derived is not Derivation.FILM
    }
    return sorted(
        chunk
        for (reference, chunk), kept in state.recordings.items()
        if reference == name
        and (samples is None or samples <= kept.samples)
        and all(value in kept.made_for.get(key, ()) for key, value in wanted.items())
    )


def combinations(study: Study) -> Iterator[Configuration]:
    """Every combination of the values that a plan tries, each picture and time once."""
    space = study.space()
    seen = set()

    for values in product(*space.values()):
        made = study.base.replace(dict(zip(space, values, strict=True))).effective()
        if made not in seen:
            seen.add(made)
            yield made


@dataclass(frozen=True, kw_only=True)
class FieldPoint:
    """One combination. `share` is its limit share, measured of derived pictures; `seconds` is
    foreseen, a 90 % interval, and None where nothing was timed that it could be told by. `trial` is
    the same configuration timed, None where it was not."""

    configuration: Configuration
    figures: Mapping[str, Figure | None]
    shares: Mapping[str, Figure]
    share: Figure | None
    standing: Standing
    verdict: str
    seconds: Figure | None
    trial: TrialResult | None

    @property
    def all_figures(self) -> Mapping[str, Figure | None]:
        """As of a trial."""
        return self.figures


def field_of(
    state: StudyState, results: Results, configurations: Iterable[Configuration]
) -> list[FieldPoint]:
    """What recordings say of these configurations, as far as it was derived."""
    trials = {t.configuration.effective(): t for t in results.trials if t.is_on_map}
    pace = pace_of(state, results)
    points = []

    for configuration in configurations:
        derived = derived_of(state, configuration)
        if derived is None or not derived.areas:
            continue

        figures = derived_figures(state, derived)
        limited = {k: v for k, v in results.acceptance.wanted.items() if not is_cost(k)}
        shares = {
            key: share
            for key, share in results.acceptance.shares(figures).items()
            if key in limited
        }
        standing = Standing(
            share=worst(list(shares.values())),
            surely=surely_over(shares, len(derived.chunks)),
            forbidden=bool(forbidden_words(configuration, state.plan)),
            unmeasured=not limited.keys() <= figures.keys(),
            unknown=is_unknown(figures, limited),
        )
        points.append(
            FieldPoint(
                configuration=configuration,
                figures=figures,
                shares=shares,
                share=standing.share,
                standing=standing,
                verdict=standing.verdict(results.line),
                seconds=pace.seconds(configuration, derived) if pace is not None else None,
                trial=trials.get(configuration.effective()),
            )
        )

    return points


def foreseen(state: StudyState, pace: Pace | None, configuration: Configuration) -> Figure | None:
    """The time of a configuration that a recording holds, derived or not, with its 90 % interval;
    None where it is not recorded or nothing was timed."""
    if pace is None or not recorded_for(state, configuration):
        return None

    derived = derived_of(state, configuration)
    if derived is not None and derived.areas:
        return pace.seconds(configuration, derived)

    return pace.seconds_of_work(configuration, work_of(state, configuration))


def derived_points(state: StudyState) -> list[FieldPoint]:
    """All combinations of the plan that were derived, in the order of foreseen time."""
    name = state.reference_name
    if not any(reference == name for reference, _ in state.recordings):
        return []

    points = field_of(state, results_of(state), combinations(state.plan))
    return sorted(points, key=foreseen_seconds)


def foreseen_seconds(point: FieldPoint) -> float:
    """The foreseen time; infinity where there is none."""
    return point.seconds.value if point.seconds is not None else math.inf


def point_as_data(point: FieldPoint, base: Configuration) -> dict[str, Any]:
    """For `--json` and for others to read; intervals as value, low and high."""
    seconds = point.seconds
    share = point.share
    timed = point.trial.seconds if point.trial is not None else None

    return {
        "changes": dict(point.configuration.differences(base)),
        "foreseen_seconds": list(seconds.numbers) if seconds is not None else None,
        "timed_seconds": list(timed.numbers) if timed is not None else None,
        "limit_share": list(share.numbers) if share is not None else None,
        "verdict": point.verdict,
        "figures": {
            key: list(figure.numbers) if figure is not None else None
            for key, figure in point.figures.items()
        },
    }


def derived_of(state: StudyState, configuration: Configuration) -> Derived | None:
    """What recordings say of a configuration; None where nothing was derived."""
    return state.derived_of(appearance_identity(configuration, state.plan.view).name)


def work_of(state: StudyState, configuration: Configuration) -> float:
    """The work of a configuration without thresholds, as recordings tell it, in shares of that for
    a chunk's own picture; 1 where they do not."""
    name = state.reference_name
    for (reference, _), kept in sorted(state.recordings.items()):
        if reference != name:
            continue
        for values, work in kept.work:
            if all(configuration[key] == value for key, value in values.items()):
                return work

    return 1.0


def pace_of(state: StudyState, results: Results) -> Pace | None:
    """What trials that were timed, and derived as well, teach of the time of others; None before
    the base is one of them."""
    base = results.base
    timed = [
        Timed(trial, derived.work)
        for trial in results.trials
        if trial.is_on_map
        and "sampling" in trial.phases
        and (derived := derived_of(state, trial.configuration)) is not None
        and derived.work > 0
    ]
    if base is None or not any(one.trial.is_base for one in timed):
        return None

    return Pace(base, timed, state.plan.renders_per_opening)

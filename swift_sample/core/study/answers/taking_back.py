"""What each change of a configuration is worth, as recordings tell it: the same without it."""

from collections.abc import Mapping

from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import NOT_ACCEPTABLE, quantity, show_limit
from swift_sample.core.study.answers.field import FieldPoint, field_of
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.state import StudyState

TELLING = 0.03
"""The share of its time by which a change has to make a render faster to be told to."""


def without_each(configuration: Configuration, base: Configuration) -> dict[str, Configuration]:
    """A configuration with one change from the base taken back, by the setting; nothing where there
    is only one change."""
    changes = configuration.differences(base)
    if len(changes) < 2:
        return {}

    return {key: configuration.replace({key: base[key]}).effective() for key in changes}


def taken_back(
    state: StudyState, results: Results, configuration: Configuration
) -> dict[str, FieldPoint]:
    """What was derived of a configuration without each of its changes, by the setting."""
    wanted = without_each(configuration, state.plan.base)
    points = {one.configuration: one for one in field_of(state, results, wanted.values())}
    return {key: points[one] for key, one in wanted.items() if one in points}


def worth_words(trial: TrialResult, without: FieldPoint, wanted: Mapping[str, float]) -> str:
    """What a change is worth, from the same configuration without it: that a limit needs it, or how
    much faster it is foreseen to make a render."""
    if without.verdict == NOT_ACCEPTABLE and without.shares:
        key = max(without.shares, key=lambda one: without.shares[one].value)
        figure = without.figures[key]
        assert figure is not None
        told = show_limit(key, figure, wanted[key])
        return f"needed: {quantity(key).label} would be {told} without it"

    if without.seconds is None or trial.seconds is None:
        return "not measured on its own"

    times = without.seconds.value / trial.seconds.value
    if times > 1 + TELLING:
        return f"{times:.2g}× faster, foreseen"

    return "no faster, foreseen" if times > 1 - TELLING else f"{1 / times:.2g}× slower, foreseen"

"""Bases beside one another, and what was measured with one that is not planned any more."""

from dataclasses import replace

from swift_sample.core.study.answers.comparing import differences, show_differences
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.events import PlanEdited
from tests.core.study.answers.test_results import BASE, STUDY
from tests.core.study.states import measured, only_limits

FEWER = BASE.replace({"samples.max": 50})
SHORTER = BASE.replace({"bounces.total": 3})
BOTH = BASE.replace({"samples.max": 50, "bounces.total": 3})


def made(*configurations: tuple):
    return measured(
        replace(STUDY, limits=only_limits(grain=2.0)),
        {configuration: seconds for configuration, seconds, _ in configurations},
        {
            configuration: {"grain": (grain, grain, grain)}
            for configuration, _, grain in configurations
        },
    )


def test_each_difference_is_told_with_what_it_did_alone() -> None:
    happened = made(
        (BASE, [10.0, 10.1, 9.9], 1.0), (FEWER, [5.0, 5.1, 5.0], 1.8), (BOTH, [4.0, 4.0, 4.1], 1.8)
    )
    results = collect(happened.state)
    by_key = {one.key: one for one in differences(results, BASE, BOTH)}
    assert by_key["samples.max"].trials is not None
    assert [t.configuration for t in by_key["samples.max"].trials] == [BASE, FEWER]
    shorter = by_key["bounces.total"].trials
    assert shorter is not None
    assert [t.configuration for t in shorter] == [FEWER, BOTH], (
        "no trial has the bounces alone beside the base"
    )
    whole, first, second = show_differences(results, BASE, BOTH)
    assert whole.startswith("as a whole: 2.5×")
    assert "50" in first
    assert "2.0×" in first
    assert "grain 1.0 → 1.8 of 2.0 levels" in first
    assert "grain" not in second, "grain did not change with the bounces"
    assert show_differences(results, BASE, BASE) == ["as a whole: no measurable difference in time"]


def test_what_was_not_measured_alone_says_so() -> None:
    results = collect(made((BASE, [10.0], 1.0)).state)
    (words,) = show_differences(results, BASE, SHORTER)
    assert words.endswith("not measured alone")


def test_trials_of_another_base_stay_and_are_never_the_pick() -> None:
    happened = made((BASE, [10.0, 10.0], 1.0), (FEWER, [5.0, 5.0], 1.8), (BOTH, [4.0, 4.0], 1.8))
    records = happened.state.results
    plan = replace(happened.state.plan, base=FEWER, sweeps=())
    happened.happen(PlanEdited("Other base", plan))
    values = {happened.state.trial_of(each).id: each for each in (BASE, FEWER, BOTH)}
    snapshot = replace(
        happened.snapshot(),
        values_of=lambda names: {
            name: values[name].identity_values() for name in names if name in values
        },
    )

    earlier = {trial.configuration: trial for trial in snapshot.earlier}
    assert BASE in earlier
    assert FEWER not in earlier, "it is planned now"
    assert earlier[BASE].seconds is not None
    assert earlier[BASE].seconds.value == 10.0
    assert earlier[BASE].times_faster is not None
    assert earlier[BASE].times_faster.value == 0.5
    assert snapshot.trial(earlier[BASE].id) is earlier[BASE]
    assert snapshot.picture_of(earlier[BASE].id) is not None
    assert all(t.id != earlier[BASE].id for t in snapshot.results.trials)
    assert len(records.runs) == len(snapshot.runs)

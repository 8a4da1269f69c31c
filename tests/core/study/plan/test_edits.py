"""Edits of the plan: what a person chooses is what counts, whichever way they choose it."""

import json
from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.errors import UsageError
from swift_sample.core.study.answers.acceptance import Acceptance
from swift_sample.core.study.log.store import create_study
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.edits import set_limit, worst_limit
from swift_sample.core.study.plan.model import FIRST_PICTURE, Limits, Study


def test_the_limits_of_a_new_study_stand_in_the_proportions_that_are_kept() -> None:
    new = Limits()
    for key in edits.WORST_TIMES:
        assert getattr(new, f"{key}_worst") == worst_limit(key, getattr(new, key))


@pytest.mark.parametrize(
    ("key", "value", "worst"),
    [("grain", 8.0, 16.0), ("light_shift", 2.0, 4.0), ("detail_kept", 85.0, 55.0)],
)
def test_a_limit_of_the_picture_moves_that_of_its_worst_place(
    tiny_study: Study, key: str, value: float, worst: float
) -> None:
    """U1: the worst place's limit stayed, so that the one that was set could never count."""
    plan = set_limit(key, value).change(replace(tiny_study, limits=Limits()))
    assert getattr(plan.limits, key) == value
    assert getattr(plan.limits, f"{key}_worst") == worst


def test_a_limit_of_the_worst_place_that_was_set_apart_stays(tiny_study: Study) -> None:
    plan = set_limit("grain_worst", 5.0).change(replace(tiny_study, limits=Limits()))
    plan = set_limit("grain", 8.0).change(plan)
    assert (plan.limits.grain, plan.limits.grain_worst) == (8.0, 5.0)
    plan = set_limit("grain_worst", None).change(plan)
    plan = set_limit("grain", 3.0).change(plan)
    assert (plan.limits.grain, plan.limits.grain_worst) == (3.0, None)


def test_lifting_a_limit_lifts_that_of_the_worst_place_and_both_come_back(
    tiny_study: Study,
) -> None:
    plan = set_limit("grain", None).change(replace(tiny_study, limits=Limits()))
    assert (plan.limits.grain, plan.limits.grain_worst) == (None, None)
    plan = set_limit("grain", 3.0).change(plan)
    assert (plan.limits.grain, plan.limits.grain_worst) == (3.0, 6.0)


def test_limits_go_to_the_goal_that_has_its_own(tiny_study: Study) -> None:
    """C1: *Begin* changed the limits of the other goal."""
    plan = replace(tiny_study, limits=Limits(), first_picture_limits=Limits(), goal=FIRST_PICTURE)
    plan = set_limit("grain", 8.0).change(plan)
    assert plan.first_picture_limits is not None
    assert plan.first_picture_limits.grain == 8.0
    assert plan.limits == Limits()


def test_under_no_worse_than_the_base_a_limit_keeps_the_others_as_they_are_in_force(
    tiny_study: Study,
) -> None:
    plan = replace(tiny_study, limits=Limits(), no_worse_than_base=True)
    in_force = Limits(grain=3.3, grain_worst=7.0, light_shift=0.4)
    after = set_limit("light_shift", 2.0, in_force).change(plan)
    assert not after.no_worse_than_base
    assert (after.limits.light_shift, after.limits.grain, after.limits.grain_worst) == (
        2.0,
        3.3,
        7.0,
    )
    assert Acceptance.of(after, {}).wanted["light_shift"] == 2.0
    assert set_limit("memory", 4000.0, in_force).change(plan).no_worse_than_base, (
        "a cost is no error of the picture"
    )


def test_the_command_line_edits_as_the_window_does(
    tmp_path: Path, tiny_study: Study, capsys: pytest.CaptureFixture
) -> None:
    """C1: three copies of each edit differed."""
    plan = replace(tiny_study, limits=Limits(), no_worse_than_base=True)
    path = str(create_study(tmp_path / "a.study", plan))

    def told(*command: str) -> dict:
        assert run([*command, "--json"]) == 0
        return json.loads(capsys.readouterr().out)

    assert told("limit", path, "memory", "4000")["no_worse_than_base"]
    after = told("limit", path, "grain", "8", "detail_kept", "90")
    assert not after["no_worse_than_base"]
    assert (after["limits"]["grain"], after["limits"]["grain_worst"]) == (8.0, 16.0)
    assert (after["limits"]["detail_kept"], after["limits"]["detail_kept_worst"]) == (90.0, 70.0)
    told("try", path, "samples.max", "2", "4")
    after = told("set", path, "samples.max=3")
    tried = next(sweep for sweep in after["sweep"] if "samples.max" in json.dumps(sweep))
    before = plan.base["samples.max"]
    assert {2, 4, before, 3} <= set(next(iter(v for k, v in _flat(tried) if k == "samples.max")))
    assert run(["limit", path, "grain"]) == 2
    assert "expected a measure and its value" in capsys.readouterr().err


def _flat(data: object) -> list[tuple[str, list]]:
    """All lists in data by their keys."""
    if not isinstance(data, dict):
        return []

    own = [(key, value) for key, value in data.items() if isinstance(value, list)]
    return own + [one for value in data.values() for one in _flat(value)]


def test_what_cannot_be_is_said(tiny_study: Study) -> None:
    with pytest.raises(UsageError, match="no such limit"):
        set_limit("grains", 1.0)

    with pytest.raises(UsageError, match="there is none of that name"):
        edits.remove_area("jar").change(tiny_study)

    with pytest.raises(UsageError, match="no such name"):
        edits.forget_base("x").change(tiny_study)


def test_values_that_are_typed_are_undone_one_by_one() -> None:
    """U13: two typed additions were one step of undoing, as those of a drag are."""
    assert edits.set_values("samples.max", (8,)).field == ""
    assert edits.set_limit("grain", 3.0).field != "", "a limit is dragged"

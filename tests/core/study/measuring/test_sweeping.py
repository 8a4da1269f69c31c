"""What is measured next, in a simulated study: every step is absorbed as if a worker had done
it."""

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import pytest

from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import (
    FailuresForgiven,
    Measured,
    Measurement,
    PlanEdited,
    RecordingRefused,
    ReferenceGrew,
)
from swift_sample.core.study.log.state import FEW_PICTURES, StudyState, validate
from swift_sample.core.study.measuring.policies import Policy, Sweeping, Trying
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand
from swift_sample.core.study.measuring.policies.sweep import block_order, predicted_seconds
from swift_sample.core.study.measuring.policies.trying import one_more_run
from swift_sample.core.study.measuring.steps import MeasureStep, ReferenceStep, RunStep, Step
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.model import Remark, Study
from tests.core.study.states import Happenings

STUDY = replace(demo_study(), base=demo_study().base.replace({"device.threads": 2}))


def simulate(
    study: Study,
    fail: Configuration | None = None,
    policy: Policy | None = None,
    made: Happenings | None = None,
    most: int = 2000,
) -> tuple[list[Step], Happenings]:
    """Do what the policy says until it is content; the reference's floor falls with every chunk."""
    made = made or without_recordings(study)
    policy = policy or Sweeping()
    steps = []

    while len(steps) < most:
        step = policy.propose(made.state, 0.0).step
        if step is None:
            break
        steps.append(step)
        absorb(made, step, fail)

    validate(made.state)
    return steps, made


def without_recordings(study: Study) -> Happenings:
    """A study whose machine has no room for recordings: every picture is rendered."""
    made = Happenings(study)
    made.happen(RecordingRefused(made.state.reference_name, "no room"))
    return made


def absorb(made: Happenings, step: Step, fail: Configuration | None = None) -> None:
    if isinstance(step, ReferenceStep):
        made.happen(
            ReferenceGrew(
                reference=step.reference,
                samples=96 + 128 * step.chunk,
                chunks=step.chunk + 1,
                floor=4.0 / (step.chunk + 1) ** 0.5,
                seconds=1.0,
            )
        )
    elif isinstance(step, MeasureStep):
        from swift_sample.core.measure.kinds import KINDS, Figure

        figures = {kind: Figure(1.0, 0.9, 1.1) for kind in KINDS} | {
            "detail_kept": Figure(99.0, 98.0, 99.5)
        }
        versions = {kind: one.version for kind, one in KINDS.items()}

        made.happen(
            Measured(
                tuple(
                    Measurement(
                        place=step.place,
                        key=key,
                        pictures=step.pictures,
                        reference_samples=step.reference_samples,
                        figures=figures,
                        versions=versions,
                    )
                    for key in step.keys
                )
            )
        )
    else:
        fails = step.configuration == fail and not step.control
        made.run(
            step.configuration,
            "it failed" if fails else 1.0,
            step.block,
            step.control,
            picture="" if fails else step.picture,
        )


def test_everything_is_measured_in_shuffled_blocks_with_controls() -> None:
    steps, _ = simulate(STUDY)
    runs = [s for s in steps if isinstance(s, RunStep)]
    planned = STUDY.planned()
    assert isinstance(steps[0], ReferenceStep)
    assert runs[0].configuration == STUDY.base

    for block in range(STUDY.repeats):
        own = [s for s in runs if s.block == block]
        assert {s.configuration for s in own if not s.control} == set(planned)
        assert sum(s.control for s in own) >= 2
        assert all(s.configuration == STUDY.base for s in own if s.control)

    orders = [[s.configuration for s in runs if s.block == b and not s.control] for b in range(3)]
    assert orders[0] != orders[1] != orders[2]
    assert [s.block for s in runs] == sorted(s.block for s in runs)
    assert len({s.picture for s in runs}) == len(runs), (
        "every run has a seed and a picture of its own"
    )


def test_the_first_mark_comes_right_after_the_first_run() -> None:
    assert [type(s) for s in simulate(STUDY)[0][:3]] == [ReferenceStep, RunStep, MeasureStep]


def test_the_reference_is_extended_between_runs_until_its_grain_is_small() -> None:
    steps, made = simulate(STUDY)
    chunks = [k for k, s in enumerate(steps) if isinstance(s, ReferenceStep)]
    # 4 / sqrt(n) falls to a quarter of the grain limit at the first whole n from here on.
    assert len(chunks) == math.ceil((4 / (0.25 * STUDY.limits.grain)) ** 2)
    assert sum(isinstance(s, RunStep) for s in steps[: chunks[-1]]) > 0
    assert made.state.grown() == [], "in the end everything is measured against all of it"


def test_pictures_are_measured_at_once_while_few_and_in_the_end_all() -> None:
    steps, made = simulate(STUDY)
    base = made.state.base.appearance
    counts = [
        len(s.pictures) for s in steps if isinstance(s, MeasureStep) and s.key.appearance == base
    ]
    assert counts[:FEW_PICTURES] == [1, 2, 3]
    assert counts[-1] == len(made.state.results.pictures[base]) > 10
    assert len(counts) < 8, "not after every run of a trial that renders the same pixels"


def test_a_trial_that_keeps_failing_is_given_up_until_it_is_asked_for_again() -> None:
    bad = STUDY.planned()[5]
    steps, made = simulate(STUDY, fail=bad)
    assert sum(isinstance(s, RunStep) and s.configuration == bad for s in steps) == 2
    made.happen(FailuresForgiven(made.state.here))
    made.happen(RecordingRefused(made.state.reference_name, "no room"))
    again, made = simulate(STUDY, made=made)
    assert [s.configuration for s in again if isinstance(s, RunStep) and not s.control] == [bad] * 3


def test_a_base_that_always_fails_ends_measuring() -> None:
    """Controls are repeats of the base; where it fails they are not made for ever."""
    made = without_recordings(STUDY)
    runs = 0

    for _ in range(600):
        step = Sweeping().propose(made.state, 0.0).step
        if step is None:
            break

        if isinstance(step, RunStep) and step.configuration == STUDY.base:
            made.run(step.configuration, "it failed", step.block, step.control)
            runs += 1
        else:
            absorb(made, step)
    else:
        pytest.fail("measuring goes on for ever")

    assert runs <= 4


def test_work_done_before_is_not_repeated_and_order_does_not_depend_on_history() -> None:
    whole, _ = simulate(STUDY)
    part, made = simulate(STUDY, most=25)
    fresh = without_recordings(STUDY)
    fresh.state = replace(made.state)  # without anything that was worked out on the way
    rest, _ = simulate(STUDY, made=fresh)
    assert part + rest == whole


def test_added_values_are_measured_in_all_blocks() -> None:
    _, made = simulate(STUDY)
    wider = STUDY.with_values_to_try({**STUDY.values_to_try(), "samples.max": (16, 32, 20)})
    made.state = replace(made.state, plan=wider)
    left, _ = simulate(wider, made=made)
    runs = [s for s in left if isinstance(s, RunStep)]
    assert {s.block for s in runs} == {0, 1, 2}
    assert {s.configuration["samples.max"] for s in runs if not s.control} == {20}


def test_long_trials_are_measured_twice() -> None:
    study = replace(STUDY, sweeps=())
    made = without_recordings(study)
    made.reference(floor=0.1)
    for block in range(2):
        made.run(study.base, 61.0, block)

    made.measure(study.base, {})
    assert not list(Sweeping().waiting(made.state))
    made.run(study.base, 20.0, 2)


def test_an_order_is_the_same_every_time_and_begins_with_the_base() -> None:
    assert block_order(20, 1) == block_order(20, 1) != block_order(20, 2)
    assert block_order(20, 0)[0] == 0
    assert sorted(n for n in block_order(20, 1) if n >= 0) == list(range(20))


def test_predictions_scale_from_the_base() -> None:
    made = without_recordings(STUDY)
    half = made.state.trial_of(STUDY.base.replace({"samples.max": 24}))
    base = made.state.base
    assert predicted_seconds(STUDY, half, {}) is None
    assert predicted_seconds(STUDY, half, {base.id: 10.0}) == pytest.approx(6.0)
    assert predicted_seconds(STUDY, half, {base.id: 10.0, half.id: 5.0}) == 5.0


def test_steps_say_why() -> None:
    made = without_recordings(STUDY)
    made.reference(floor=0.1)

    def why() -> str:
        return Sweeping().propose(made.state, 0.0).why

    assert why() == "run 1 of 3"
    made.run(STUDY.base, "it failed")
    assert why() == "run 1 of 3, tried again after a failure"
    grainy = without_recordings(STUDY)
    grainy.reference(floor=9.0)
    for block in range(3):
        grainy.run(STUDY.base, 1.0, block)

    grainy.measure(STUDY.base, {})
    wanted = f"{STUDY.limits.grain / 4:.2f}"
    proposal = Sweeping().propose(grainy.state, 0.0)
    assert proposal.why == f"its own grain is 9.00 levels, {wanted} are wanted for the grain limit"
    reasons = [p.why for p in _proposals(STUDY)]
    assert any(
        why.startswith("control 1 of block 1: repeats of the base show drift") for why in reasons
    )


def _proposals(study: Study):
    made = without_recordings(study)
    while (proposal := Sweeping().propose(made.state, 0.0)).step is not None:
        yield proposal
        absorb(made, proposal.step)


def test_within_a_budget_the_shortest_come_first_and_what_is_too_long_is_not_begun() -> None:
    study = replace(STUDY, sweeps=()).with_values_to_try(
        {"samples.max": (8, 24, 256), "bounces.total": (2,)}
    )
    assert study.base["samples.max"] == 48
    steps, made = simulate(study, policy=Sweeping(budget_seconds=100.0), most=16)
    samples = [
        s.configuration["samples.max"] for s in steps if isinstance(s, RunStep) and not s.control
    ]
    assert samples[0] == 48, "the base"
    assert samples[1] == 8
    assert samples.index(24) < samples.index(256)
    policy = Sweeping(budget_seconds=100.0)
    while isinstance(
        (proposal := policy.propose(made.state, 99.9)).step, MeasureStep | ReferenceStep
    ):
        absorb(made, proposal.step)

    assert proposal.step is None
    assert "would take longer than the time that is left" in proposal.why
    assert policy.propose(made.state, 0.0).step is not None


def test_one_trial_is_measured_now_and_nothing_else() -> None:
    hoped_for = STUDY.base.replace({"samples.max": 20})
    steps, made = simulate(STUDY, policy=Trying(hoped_for, 2))
    runs = [s for s in steps if isinstance(s, RunStep)]
    assert [s.configuration for s in runs] == [STUDY.base, hoped_for, hoped_for]
    assert len({s.block for s in runs[1:]}) == 2
    again = Trying(hoped_for, one_more_run(made.state, hoped_for))
    steps, _ = simulate(STUDY, policy=again, made=made)
    assert [s.configuration for s in steps if isinstance(s, RunStep)] == [hoped_for]
    later, _ = simulate(STUDY, made=made)
    of_it = [s for s in later if isinstance(s, RunStep) and s.configuration == hoped_for]
    assert not of_it, "it has its runs, whichever policy made them"


def test_a_trial_that_is_left_out_is_not_rendered_any_more() -> None:
    first, *_, last = STUDY.planned()
    made = without_recordings(STUDY)
    name = made.state.trial_of(last).id
    made.happen(PlanEdited("Leave out", STUDY.remarked(name, Remark(left_out="wrong cloth"))))
    steps, made = simulate(STUDY, made=made)
    rendered = {s.configuration for s in steps if isinstance(s, RunStep)}
    assert first in rendered
    assert last not in rendered
    assert Sweeping().propose(made.state, 0.0).step is None


def test_a_question_changes_nothing() -> None:
    """C3: the same state has the same answer again, on several threads, for an equal state that was
    never asked, and however much has happened since. Also for one of several machines, which has
    nothing but what it is given."""

    def asked(state: StudyState) -> object:
        waiting = [(run.trial.id, run.block, run.control) for run in Sweeping().waiting(state)]
        steps = [
            policy.propose(state, 0.0, hand).step
            for policy in (Sweeping(), Sweeping(budget_seconds=90.0))
            for hand in (ALONE, Hand("left"), Hand("left"))
        ]
        return waiting, steps

    made = without_recordings(STUDY)
    seen = []

    with ThreadPoolExecutor(2) as pool:
        while (step := Sweeping().propose(made.state, 0.0).step) is not None and len(seen) < 90:
            answer = asked(made.state)
            assert list(pool.map(asked, [made.state, made.state])) == [answer, answer]
            assert asked(replace(made.state)) == answer
            seen.append((made.state, answer))
            absorb(made, step)

    assert len(seen[0][1][0]) > 60, "there is much to be asked for"
    for state, answer in seen[::7]:
        assert asked(state) == answer

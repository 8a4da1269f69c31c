import math
from dataclasses import replace

import pytest

from swift_sample.core.settings import Configuration
from swift_sample.core.study.demo import demo_study
from swift_sample.core.study.model import Study
from swift_sample.core.study.schedule import (
    Done,
    MeasureStep,
    ReferenceStep,
    RunStep,
    Wanted,
    block_order,
    decide,
    predicted_seconds,
    remaining_runs,
)

STUDY = demo_study()
NOTHING = Done({}, {}, {}, (), (), 0, None, 0)


def simulate(study: Study, fail: Configuration | None = None) -> list:
    """Do what the schedule says until it is content; the reference's floor falls with every chunk."""
    runs: dict = {}
    controls: dict = {}
    failures: dict = {}
    steps, chunks, since = [], 0, 0
    measured: dict = {}
    while True:
        counts = {c: len(b) for c, b in runs.items()}
        done = Done(runs, controls, failures, [c for c, n in counts.items() if measured.get(c, (0, 0))[0] != n],
                    [c for c in counts if measured.get(c, (0, 0))[1] != chunks], chunks,
                    4.0 / chunks**0.5 if chunks else None, since)
        decision = decide(study, done)
        if decision is None:
            return steps
        step = decision.step
        steps.append(step)
        assert len(steps) < 2000
        if isinstance(step, ReferenceStep):
            chunks, since = chunks + 1, 0
        elif isinstance(step, MeasureStep):
            measured[step.configuration] = (counts[step.configuration], chunks)
        elif step.configuration == fail and not step.control:
            failures[fail] = failures.get(fail, 0) + 1
        elif step.control:
            controls[step.block] = controls.get(step.block, 0) + 1
            since += 1
        else:
            runs.setdefault(step.configuration, []).append(step.block)
            since += 1


def test_everything_is_measured_in_shuffled_blocks_with_controls() -> None:
    steps = simulate(STUDY)
    runs = [s for s in steps if isinstance(s, RunStep)]
    planned = STUDY.planned()
    assert steps[0] == ReferenceStep(0)
    assert runs[0].configuration == STUDY.base
    for block in range(STUDY.repeats):
        own = [s for s in runs if s.block == block]
        assert {s.configuration for s in own if not s.control} == set(planned)
        assert sum(s.control for s in own) >= 2
        assert all(s.configuration == STUDY.base for s in own if s.control)
    orders = [[s.configuration for s in runs if s.block == b and not s.control] for b in range(3)]
    assert orders[0] != orders[1] != orders[2]
    assert [s.block for s in runs] == sorted(s.block for s in runs)


def test_the_first_mark_comes_right_after_the_first_run() -> None:
    kinds = [type(s) for s in simulate(STUDY)[:3]]
    assert kinds == [ReferenceStep, RunStep, MeasureStep]


def test_every_run_has_a_seed_of_its_own() -> None:
    seeds = [s.seed for s in remaining_runs(STUDY, NOTHING)]
    assert len(set(seeds)) == len(seeds)


def test_the_reference_is_extended_between_runs_until_its_grain_is_small() -> None:
    steps = simulate(STUDY)
    chunks = [k for k, s in enumerate(steps) if isinstance(s, ReferenceStep)]
    # 4 / sqrt(n) falls to a quarter of the grain limit at the first whole n from here on.
    assert len(chunks) == math.ceil((4 / (0.25 * STUDY.limits.grain)) ** 2)
    runs_before = sum(isinstance(s, RunStep) for s in steps[: chunks[-1]])
    assert runs_before > 0
    last = [s for s in steps if isinstance(s, MeasureStep)][-len(STUDY.planned()):]
    assert {s.configuration for s in last} == set(STUDY.planned())


def test_a_trial_that_keeps_failing_is_given_up() -> None:
    bad = STUDY.planned()[5]
    steps = simulate(STUDY, fail=bad)
    assert sum(isinstance(s, RunStep) and s.configuration == bad for s in steps) == 2


def test_work_done_before_is_not_repeated() -> None:
    first = remaining_runs(STUDY, NOTHING)[:10]
    runs: dict = {}
    for step in first:
        if not step.control:
            runs.setdefault(step.configuration, []).append(step.block)
    done = replace(NOTHING, runs=runs, controls={0: sum(s.control for s in first)})
    assert remaining_runs(STUDY, done) == remaining_runs(STUDY, NOTHING)[10:]


def test_added_values_are_measured_in_all_blocks() -> None:
    done = replace(NOTHING, runs={c: [0, 1, 2] for c in STUDY.planned()}, controls={0: 9, 1: 9, 2: 9})
    wider = STUDY.with_values_to_try({**STUDY.values_to_try(), "samples.max": (16, 32, 20)})
    left = remaining_runs(wider, done)
    assert {s.block for s in left} == {0, 1, 2}
    assert {s.configuration["samples.max"] for s in left if not s.control} == {20}


def test_orders_do_not_change_between_calls() -> None:
    assert block_order(STUDY, 1) == block_order(STUDY, 1)


def test_predictions_scale_from_the_base() -> None:
    half = RunStep(STUDY.base.replace({"samples.max": 16}), 0, False, 1)
    assert predicted_seconds(STUDY, half, {}) is None
    assert predicted_seconds(STUDY, half, {STUDY.base: 10.0}) == pytest.approx(6.0)
    assert predicted_seconds(STUDY, half, {STUDY.base: 10.0, half.configuration: 5.0}) == 5.0


def test_decisions_say_why() -> None:
    begun = replace(NOTHING, reference_floor=0.1)
    assert decide(STUDY, begun).why == "run 1 of 3"
    again = replace(begun, failures={STUDY.base: 1})
    assert decide(STUDY, again).why == "run 1 of 3, tried again after a failure"
    first = remaining_runs(STUDY, NOTHING)
    before_control = next(k for k, step in enumerate(first) if step.control)
    runs = {step.configuration: [0] for step in first[:before_control]}
    assert decide(STUDY, replace(begun, runs=runs)).why.startswith("control 1 of block 1")
    grainy = decide(STUDY, replace(begun, reference_floor=9.0, reference_chunks=1, runs_since_extension=3))
    assert grainy.why == "its own grain is 9.00 levels, 1.50 are wanted for the grain limit"
    done = replace(begun, runs={c: [0, 1, 2] for c in STUDY.planned()}, controls={0: 9, 1: 9, 2: 9},
                   wanted={STUDY.planned()[1]: Wanted(4, "1 odd run is left out")})
    assert decide(STUDY, replace(done, controls={0: 9, 1: 9, 2: 9, 3: 1})).why == "run 4 of 4: 1 odd run is left out"

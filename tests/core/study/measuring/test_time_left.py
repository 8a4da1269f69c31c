from dataclasses import replace

import pytest
from immutables import Map

from swift_sample.core.study.answers.costs import measuring_seconds
from swift_sample.core.study.log.records import ReferenceState
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.time_left import reference_seconds_left, seconds_left
from tests.core.study.answers.test_results import THREE, three_runs


def state_with(reference: ReferenceState | None) -> StudyState:
    """Runs of 52 s, and a reference."""
    state = three_runs(THREE).state
    return replace(
        state, references=Map({state.reference_name: reference} if reference is not None else {})
    )


def test_a_clean_reference_needs_no_more_time() -> None:
    state = state_with(ReferenceState(samples=1000, floor=0.1, seconds=60.0))
    assert reference_seconds_left(state, 100.0) == (0.0, 0.0)
    low, high = seconds_left(state, 100.0, 10)
    comparing = 10 * measuring_seconds(state.plan.size)
    assert low == pytest.approx(85 + 0.7 * comparing)
    assert high == pytest.approx(115 + 1.3 * comparing)


def test_a_grainy_reference_is_counted_but_never_beyond_the_runs() -> None:
    spent = sum(run.result.seconds["total"] for run in state_with(None).results.runs)
    low, high = reference_seconds_left(
        state_with(ReferenceState(samples=100, floor=4.0, seconds=10.0, chunks=4)), 60.0
    )
    assert 0 < low < high == pytest.approx(spent + 60.0 - 10.0)
    assert reference_seconds_left(
        state_with(ReferenceState(samples=100, floor=4.0, seconds=spent + 9, chunks=4)), 5.0
    ) == (0.0, 0.0), "as long as the runs"
    assert reference_seconds_left(state_with(None), 60.0) == (0.0, 60.0)

"""The reference: its next chunk, and when it is clean enough."""

import math
from collections.abc import Iterator
from dataclasses import replace

from swift_sample.core.study.answers.costs import measuring_seconds
from swift_sample.core.study.answers.results import MAX_REFERENCE_CHUNKS
from swift_sample.core.study.log.identity import CHUNK_SAMPLES, Place
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.policies.proposal import Hand
from swift_sample.core.study.measuring.policies.recording import record_spec
from swift_sample.core.study.measuring.policies.specs import chunk_spec
from swift_sample.core.study.measuring.steps import ChunkStep, ReferenceStep
from swift_sample.core.study.plan.model import Limits, Study

FLOOR_SHARE = 0.25
"""The reference is good enough once its own grain is this share of the grain limit."""
LEAST_REFERENCE_CHUNKS = 3
REFERENCE_SHARE = 1.0
"""Of the time that all runs have taken: the reference takes no longer, however grainy it is."""


def reference_step(state: StudyState, place: Place) -> ReferenceStep:
    """The next chunk of the reference."""
    known = state.reference
    chunk, samples = (known.chunks, known.samples) if known is not None else (0, 0)

    return ReferenceStep(
        reference=state.reference_name_at(place),
        chunk=chunk,
        spec=chunk_spec(state.plan, chunk)[0],
        samples=samples,
        seconds=known.seconds if known is not None else 0.0,
        digest=known.digest if known is not None else "",
        record=record_spec(state, chunk),
    )


def reference_steps(
    state: StudyState, place: Place, hand: Hand
) -> Iterator[ReferenceStep | ChunkStep]:
    """The next chunk of the reference, or where several render chunks side by side those that none
    has in hand, as many as are likely to be wanted."""
    if not hand.shares:
        yield reference_step(state, place)
        return

    known = state.reference
    name = state.reference_name_at(place)
    first = known.chunks if known is not None else 0

    for chunk in range(first, first + chunks_wanted(state)):
        if (name, chunk) not in hand.others.chunks and (name, chunk) not in state.chunks:
            spec, many = chunk_spec(state.plan, chunk)
            yield ChunkStep(name, chunk, spec, many)


def chunks_wanted(state: StudyState) -> int:
    """How many more chunks the reference is likely to need: its grain falls as one over the root of
    its samples."""
    known = state.reference
    if known is None:
        return LEAST_REFERENCE_CHUNKS if state.plan.catalogue.capabilities.extends_reference else 1
    if known.floor is None:
        return 1

    needed = known.samples * (known.floor / wanted_floor(state.plan)) ** 2 - known.samples
    return max(1, min(math.ceil(needed / CHUNK_SAMPLES), MAX_REFERENCE_CHUNKS - known.chunks))


def merge_step(state: StudyState, place: Place) -> ReferenceStep | None:
    """The next chunk of the reference, where it was rendered by itself and is to be merged."""
    if not state.chunks:
        return None

    step = reference_step(state, place)
    rendered = state.chunks.get((step.reference, step.chunk))
    return replace(step, rendered=rendered) if rendered is not None else None


def wanted_floor(study: Study) -> float:
    """The grain, in levels, under which the reference is good enough."""
    return FLOOR_SHARE * (
        study.limits.grain if study.limits.grain is not None else Limits().grain or 2.0
    )


def reference_is_good(state: StudyState) -> bool:
    """Whether the reference's own grain is small enough for the grain limit, or has taken as long
    as all runs so far: what is left of it is in every interval, so that more of it and more runs
    are worth about the same."""
    known = state.reference
    if (
        known is None
        or known.floor is None
        or not state.plan.catalogue.capabilities.extends_reference
    ):
        return known is not None
    if known.floor <= wanted_floor(state.plan) or known.chunks >= MAX_REFERENCE_CHUNKS:
        return True

    return (
        known.chunks >= LEAST_REFERENCE_CHUNKS
        and known.seconds >= REFERENCE_SHARE * _seconds_for_reference(state)
    )


def _seconds_for_reference(state: StudyState) -> float:
    """How long the reference may take: together with comparing pictures no longer than the runs
    have taken, but half of that in any case."""
    spent = _seconds_spent(state)
    comparing = len(state.results.measurements) * measuring_seconds(state.plan.size)
    return max(spent - comparing, spent / 2)


def _seconds_spent(state: StudyState) -> float:
    """What all runs in the place that is looked at took; only those since it was last asked are
    looked at."""
    runs = state.results.runs
    key = ("spent", state.place)
    done, spent = state.progress.get(key, (0, 0.0))

    for number in range(int(done), len(runs)):
        result = runs[number].result
        spent += result.seconds["total"] if result is not None else 0.0

    state.progress[key] = (len(runs), spent)
    return spent

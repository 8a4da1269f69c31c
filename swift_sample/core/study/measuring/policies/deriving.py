"""What recorded chunks of the reference can say of configurations: which are recorded, and which
steps derive figures from them."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.field import recorded_for
from swift_sample.core.study.log.identity import Place, appearance_identity
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.measuring.policies.recording import (
    JUDGING_CHUNKS,
    record_step,
    why_nothing_is_recorded,
)
from swift_sample.core.study.measuring.policies.reference import reference_step
from swift_sample.core.study.measuring.steps import DeriveStep

SCREENED = 2
"""Recordings from which a picture is derived where it is only asked whether it may do."""

ALL = 1 << 20


@dataclass(frozen=True)
class Deriving:
    """Makes recordings, with a reference to compare with, and derives figures of these
    configurations from them."""

    configurations: Sequence[Configuration]
    budget_seconds = None

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        """The next step; the same for the same state."""
        place = state.here
        if place is None or not state.can_render:
            why = state.problem or "results of an earlier version of the scene are looked at"
            return Proposal(None, why)

        reason = why_nothing_is_recorded(state)
        if reason:
            return Proposal(None, reason)

        known = state.reference
        if known is None or known.chunks < JUDGING_CHUNKS:
            return Proposal(reference_step(state, place), "figures are told against it")

        record = record_step(state)
        if record is not None:
            return Proposal(record, "pictures of other settings are derived from it")

        # What is derived stays so while the plan does: each look begins where the last one ended.
        count = len(self.configurations)
        key = ("deriving", tuple(self.configurations))
        first = int(state.progress.get(key, (0, 0.0))[0])

        for number in range(first, count):
            state.progress[key] = (number, 0.0)
            step = derive_step(state, place, self.configurations[number])
            if step is not None:
                step = replace(step, place_in=(number + 1, count))
                return Proposal(step, "a recording holds its picture")

        return Proposal(None, "everything that was asked for is derived")


def derive_step(
    state: StudyState, place: Place, configuration: Configuration, most: int = SCREENED
) -> DeriveStep | None:
    """What derives figures of a configuration from so many recordings at most; None where they are
    there already, or cannot be derived."""
    known = state.reference
    study = state.plan
    appearance = appearance_identity(configuration, study.view).name
    there = state.derived_of(appearance)
    if known is None or (there is not None and not there.areas):
        return None

    # What is left of the reference has to judge: half of it, and a chunk at least.
    most = min(most, max(2, known.chunks // 2), known.chunks - 1)
    pieces = recorded_for(state, configuration)[:most]
    if not pieces or (there is not None and len(there.chunks) >= len(pieces)):
        return None

    name = state.reference_name
    recordings = {chunk: state.recordings[name, chunk] for chunk in pieces}

    return DeriveStep(
        place=place,
        configuration=configuration,
        keys=tuple(state.measurement_key(appearance, area) for area in state.areas_measured),
        pieces=tuple((chunk, kept.samples) for chunk, kept in recordings.items()),
        reference_samples=known.samples,
        size=study.size,
        machine=state.machine,
        digests={chunk: kept.digest for chunk, kept in recordings.items()} | {name: known.digest},
    )

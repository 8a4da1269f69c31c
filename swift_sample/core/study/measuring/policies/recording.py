"""Which chunks of the reference are recorded, and for which values."""

from swift_sample.core.budget import RECORDING_BYTES
from swift_sample.core.renderers.records import RecordSpec
from swift_sample.core.settings import Derivation, Value
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.study.log.identity import CHUNK_SAMPLES
from swift_sample.core.study.log.records import KeptRecording
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.policies.specs import chunk_spec
from swift_sample.core.study.measuring.steps import RecordStep
from swift_sample.core.study.measuring.steps.run import NOT_AS_DERIVED

MOST_RECORDED = 4
"""Chunks of a reference: each is a run of every configuration, and takes as much of the disk."""

JUDGING_CHUNKS = 4
"""Chunks of the reference before pictures are derived: from two of them, beside the others."""

LEAST_RECORDED = 3
"""However much they take."""


def why_nothing_is_recorded(state: StudyState) -> str:
    """Why recordings are of no use here, in words; "" where they are."""
    study = state.plan
    if not study.catalogue.capabilities.records:
        return study.catalogue.capabilities.why_not("records")
    if state.are_disproved:
        return NOT_AS_DERIVED

    reference = study.reference_configuration(1).stem()
    base = study.base.stem()
    for key in sorted(reference.keys() | base.keys()):
        if reference.get(key) != base.get(key):
            label = study.catalogue[key].full_label.lower()
            return f"the reference has another {label} than the base, which has to be rendered"

    samples = study.base.number_in_role(SAMPLES)
    if samples is not None and samples > CHUNK_SAMPLES:
        return (
            f"the base takes {samples:.0f} samples, more than the {CHUNK_SAMPLES} of a recording: "
            "it has to be rendered"
        )

    name = state.reference_name
    return state.unrecorded.get(name, "")


def most_recorded(state: StudyState) -> int:
    """How many chunks of the reference are recorded: as many as find room in what recordings may
    take of the disk, by the size of the first."""
    first = state.recordings.get((state.reference_name, 0))
    if first is None:
        return LEAST_RECORDED

    return max(LEAST_RECORDED, min(MOST_RECORDED, RECORDING_BYTES // max(first.size_bytes, 1)))


def values_to_record(state: StudyState) -> dict[str, tuple[Value, ...]]:
    """The values that a recording holds apart: all that the plan tries, and the base's."""
    study = state.plan
    space = study.space()

    return {
        key: space.get(key, (study.base[key],))
        for key, declared in study.catalogue.items()
        if declared.derived is not None and declared.derived is not Derivation.FILM
    }


def record_spec(state: StudyState, chunk: int) -> RecordSpec | None:
    """What a chunk of the reference is to hold apart; None where it is only rendered."""
    if chunk >= most_recorded(state) or why_nothing_is_recorded(state):
        return None

    values = {key: list(some) for key, some in values_to_record(state).items()}
    base = state.plan.base.of_renderer()
    return RecordSpec(spec=chunk_spec(state.plan, chunk)[0], base=base, values=values)


def record_step(state: StudyState) -> RecordStep | None:
    """The recording of a chunk that the reference has and that was not recorded, or for other
    values."""
    known = state.reference
    if known is None:
        return None

    name = state.reference_name
    wanted = values_to_record(state)

    for chunk in range(min(known.chunks, most_recorded(state))):
        kept = state.recordings.get((name, chunk))
        if kept is not None and _holds(kept, wanted):
            continue

        spec = record_spec(state, chunk)
        if spec is not None:
            return RecordStep(name, chunk, chunk_spec(state.plan, chunk)[1], spec)

    return None


def _holds(kept: KeptRecording, wanted: dict[str, tuple[Value, ...]]) -> bool:
    return all(set(values) <= set(kept.made_for.get(key, ())) for key, values in wanted.items())

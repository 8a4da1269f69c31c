"""Pictures that are gone or are not what was written: they are set aside, told, and made again."""

import os
import time
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from swift_sample.core.errors import StudyError
from swift_sample.core.picture.stored import length_told_by
from swift_sample.core.study.log.events import (
    ChunkLost,
    Event,
    PictureLost,
    RecordingLost,
    RecordingRefused,
    ReferenceLost,
    Said,
)
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.steps import (
    DeriveStep,
    MeasureStep,
    RecordStep,
    ReferenceStep,
    Step,
)


def lost_pictures(state: StudyState, place: Place, folder: Folder) -> list[Event]:
    """Runs of a place whose pictures are gone, or have another length than was written: what can be
    seen without reading them. Whatever uses a picture looks closer (see core.picture.stored)."""
    try:
        with os.scandir(folder.pictures) as entries:
            there = {entry.name: entry.stat(follow_symlinks=False).st_size for entry in entries}
    except OSError:
        there = {}

    lost: list[Event] = []
    for run in state.at(place).runs:
        if run.picture and run.result is not None:
            if run.picture not in there:
                lost.append(PictureLost(place, run.number, "its picture is missing"))
            elif length_told_by(run.digest) not in (None, there[run.picture]):
                _set_aside(folder.picture(run.picture))
                lost.append(PictureLost(place, run.number, "its picture is damaged"))

    return lost


def unfit_pictures(
    state: StudyState, step: Step, faults: Mapping[str, str], folder: Folder
) -> list[Event]:
    """What to do where a step found that pictures cannot be used: each is set aside, and made
    again. `faults` says by path what is wrong.

    Raises StudyError where none of them is the step's own.
    """
    events: list[Event] = []
    if isinstance(step, MeasureStep):
        for name in step.pictures:
            fault = faults.get(str(folder.picture(name)))
            if fault is not None:
                _set_aside(folder.picture(name))
                runs = [run for run in state.at(step.place).runs if run.picture == name]
                events += [
                    PictureLost(step.place, run.number, f"its picture {fault}") for run in runs
                ]

    if isinstance(step, ReferenceStep) and step.rendered is not None:
        chunk = folder.chunk(step.reference, step.chunk)
        if str(chunk) in faults:
            _set_aside(chunk)
            events.append(
                ChunkLost(
                    step.reference, step.chunk, f"samples of the reference: {faults[str(chunk)]}"
                )
            )

    if isinstance(step, DeriveStep):
        for number, _ in step.pieces:
            recording = folder.recording(step.key.reference, number)
            fault = faults.get(str(recording))
            if fault is not None:
                recording.unlink(missing_ok=True)
                reason = f"a recording {fault}: it is made again"
                events.append(RecordingLost(step.key.reference, number, reason))

    if isinstance(step, MeasureStep | DeriveStep):
        name = step.key.reference
    elif isinstance(step, ReferenceStep):
        name = step.reference
    else:
        name = ""

    fault = faults.get(str(folder.reference(name))) if name else None

    if fault is not None:
        _set_aside(folder.reference(name))
        events.append(
            ReferenceLost(name, f"the reference {fault}: it was set aside, and is rendered again")
        )

    if not events:
        raise StudyError("; ".join(f"{path} {fault}" for path, fault in faults.items()))

    return events


def without_figures(state: StudyState, step: Step, reason: str) -> list[Event]:
    """What to do where measuring failed: denoising that cannot be tried is not asked for any more.

    Raises StudyError with the reason for anything else.
    """
    if isinstance(step, DeriveStep):
        return [Said("search", f"{step.words(state.plan.base)}: {reason}"), step.without_figures()]
    if isinstance(step, RecordStep):
        return [RecordingRefused(step.reference, reason)]
    if isinstance(step, MeasureStep) and step.key.recipe:
        return [Said("search", f"{step.words(state.plan.base)}: {reason}"), step.without_figures()]

    raise StudyError(reason)


def _set_aside(path: Path) -> None:
    with suppress(OSError):
        path.replace(path.with_suffix(f".damaged-{int(time.time())}"))

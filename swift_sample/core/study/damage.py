"""Pictures that are gone or cannot be read: they are set aside, told, and made again."""

import time
from contextlib import suppress
from pathlib import Path

from swift_sample.core.errors import StudyError, SwiftSampleError
from swift_sample.core.study.events import Event, PictureLost, ReferenceLost, Said
from swift_sample.core.study.folder import Folder
from swift_sample.core.study.identity import Place
from swift_sample.core.study.state import StudyState
from swift_sample.core.study.steps import MeasureStep, ReferenceStep, RunStep, Step


def missing_pictures(state: StudyState, place: Place, folder: Folder) -> list[Event]:
    """Runs of a place whose pictures are gone."""
    there = {path.name for path in folder.pictures.glob("*.exr")}
    return [
        PictureLost(place, run.number, "its picture is missing")
        for run in state.at(place).runs
        if run.picture and run.picture not in there
    ]


def lost_pictures(state: StudyState, step: Step, folder: Folder) -> list[Event]:
    """Runs whose pictures a step would measure, and that are gone."""
    if not isinstance(step, MeasureStep):
        return []
    missing = {name for name in step.pictures if not folder.picture(name).is_file()}
    return _lost(state, step.place, missing, "its picture is missing") if missing else []


def sort_out(state: StudyState, step: Step, reason: str, folder: Folder) -> list[Event]:
    """What to do where a step failed that measures, or that extends the reference. A picture that cannot be read is set aside
    and rendered again; denoising that cannot be tried is not asked for any more.

    Raises StudyError with the reason where there is no culprit.
    """
    events: list[Event] = []
    if isinstance(step, MeasureStep):
        damaged = {name for name in step.pictures if not _is_readable(folder.picture(name))}
        events += _lost(state, step.place, damaged, "its picture is damaged")
    name = "" if isinstance(step, RunStep) else step.key.reference if isinstance(step, MeasureStep) else step.reference
    if name and name in state.references:
        path = folder.reference(name)
        if (isinstance(step, ReferenceStep) and not events) or not _is_readable(path):
            with suppress(OSError):
                path.replace(path.with_suffix(f".damaged-{int(time.time())}"))
            events.append(ReferenceLost(name, f"it was set aside ({reason}), and is rendered again"))
    if not events and isinstance(step, MeasureStep) and step.key.recipe:
        return [Said("search", f"{step.words(state.plan.base)}: {reason}"), step.without_figures()]
    if not events:
        raise StudyError(reason)
    return events


def _lost(state: StudyState, place: Place, names: set[str], reason: str) -> list[Event]:
    return [PictureLost(place, run.number, reason) for run in state.at(place).runs if run.picture in names and run.picture]


def _is_readable(path: Path) -> bool:
    from swift_sample.core.picture.exr import read_exr

    try:
        read_exr(path)
        return True
    except SwiftSampleError:
        return False

"""A study of renders that are finished: their pictures are copied into it, with what is known of
each, and then measured like any others. Its renderer cannot be started."""

import json
import shutil
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from datetime import UTC, datetime
from pathlib import Path

from swift_sample.core.errors import PictureError, UsageError
from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.reading import read_picture, size_of_picture
from swift_sample.core.picture.stored import digest_of_picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.finished.rows import Row, catalogue_of, configuration_of
from swift_sample.core.renderers.headers import complete_record, put_record
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import Event, ReferenceGrew, TrialChosen
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.measuring.steps.run import RunStep
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.plan.starting import NO_SEEDS
from swift_sample.core.worker.messages import Rendered

WHY = "a finished render"
TOGETHER = 20
"""Rows whose pictures are copied before they are kept at once."""


def finished_plan(name: str, source: Path, rows: Sequence[Row], base: int = -1) -> Study:
    """The plan of a study of these rows, of which one is today's: the slowest unless told
    otherwise. Raises UsageError."""
    if not rows:
        raise UsageError(f"{source}: there are no finished renders")

    catalogue = catalogue_of(rows)
    today = rows[base] if base >= 0 else max(rows, key=lambda row: row.seconds)

    return Study(
        name=name,
        scene=str(source),
        size=size_of_picture(today.picture),
        view=View(),
        limits=NO_SEEDS,
        repeats=1,
        base=configuration_of(today, catalogue),
    )


def make_finished_study(
    path: Path,
    plan: Study,
    rows: Sequence[Row],
    reference: Path,
    tell: Callable[[int, int], None] = lambda done, all_: None,
) -> None:
    """Make the study's folder and copy every picture into it; `tell` hears how many are there.
    Nothing is measured yet.

    Raises UsageError, PictureError or StudyError, and whatever `tell` raises to end it; pictures of
    another size than the base's are refused by name. Nothing is left of the folder then.
    """
    true = _read(reference)
    for picture in (reference, *(row.picture for row in rows)):
        width, height = size_of_picture(picture)
        if (width, height) != plan.size:
            wanted = f"{plan.size[0]}x{plan.size[1]}"
            raise UsageError(
                f"{picture}: is {width}x{height}, today's render {wanted}; use pictures of one size"
            )

    create_study(path, plan)
    try:
        _copy(Driver(Store.open(path)), plan, rows, true, tell)
    except BaseException:
        shutil.rmtree(path, ignore_errors=True)
        raise


def _copy(
    driver: Driver,
    plan: Study,
    rows: Sequence[Row],
    true: Picture,
    tell: Callable[[int, int], None],
) -> None:
    try:
        _kept(driver, [_reference(driver, true)])
        place = driver.state.here
        assert place is not None
        others = dict.fromkeys(configuration_of(row, plan.catalogue) for row in rows)
        chosen = [TrialChosen(place, c.identity_values(), WHY) for c in others if c != plan.base]
        _kept(driver, chosen)
        waiting: list[Event] = []
        counts: dict[Configuration, int] = {}

        for number, row in enumerate(rows, 1):
            configuration = configuration_of(row, plan.catalogue)
            block = counts[configuration] = counts.get(configuration, -1) + 1
            waiting += _run(driver, row, configuration, block)

            if len(waiting) >= TOGETHER or number == len(rows):
                _kept(driver, waiting)
                waiting = []

            tell(number, len(rows))
    finally:
        driver.close()


def _kept(driver: Driver, events: Sequence[Event]) -> None:
    answer: Future[object] = driver.keep(events)  # type: ignore[assignment]
    driver.settle(answer)  # type: ignore[arg-type]


def _read(path: Path) -> Picture:
    picture = read_picture(path)
    return Picture(picture.beauty)


def _reference(driver: Driver, picture: Picture) -> ReferenceGrew:
    name = driver.state.reference_name
    path = driver.path / "reference" / f"{name}.exr"
    note = {"referenceSamples": 1, "floor": None, "seconds": 0.0, "chunks": 1, "at": _now()}
    picture.notes[RECORD_ATTRIBUTE] = json.dumps(note)
    write_exr(path, picture)

    return ReferenceGrew(
        reference=name, samples=1, chunks=1, floor=None, seconds=0.0, digest=digest_of_picture(path)
    )


def _run(driver: Driver, row: Row, configuration: Configuration, block: int) -> Sequence[Event]:
    """One row as a run: its picture is written into the study, its times are those that were
    told."""
    state = driver.state
    place = state.here
    assert place is not None
    trial = state.trial_of(configuration, configuration != state.plan.base)

    step = RunStep(
        trial=trial,
        place=place,
        block=block,
        control=False,
        seed=block,
        spec=spec_of(state.plan, configuration, block),
        machine=state.machine,
        software="",
        records={
            kind: state.names[name].record
            for kind, name in (
                ("scene", place.scene),
                ("renderer", place.renderer),
                ("machine", state.machine),
            )
            if name in state.names
        },
        label=state.names[place.scene].label if place.scene in state.names else "",
    )
    picture = _read(row.picture)

    record = RunRecord(
        size=(picture.width, picture.height),
        seconds={"total": row.seconds},
        cpu_seconds=0.0,
        peak_memory_bytes=row.memory_bytes or 0,
        settings=dict(configuration),
        seed=block,
        picture_bytes=row.picture.stat().st_size,
        notes=[f"finished before, as {row.picture.name}"],
    )
    path = driver.path / "pictures" / step.picture
    put_record(picture, record, step.as_note())
    write_exr(path, picture)

    if not path.is_file():
        raise PictureError(f"{path}: the picture cannot be written; check free space")

    complete_record(path, record, {**step.as_note(), "at": _now()})
    return step.absorb(Rendered(result=record, digest=digest_of_picture(path)))


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")

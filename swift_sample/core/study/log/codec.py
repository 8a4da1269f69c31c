"""The log of a study in its database: events go in, one transaction each, and come out in order.

An event's short body is JSON beside it; runs and measurements have typed columns, and the whole
record of a render stands in a table of its own, read only when it is asked for. A row that cannot
be read counts as not there, and is told.
"""

import json
import math
import re
import sqlite3
import zlib
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from swift_sample.core.errors import StudyError, SwiftSampleError, one_line, plain
from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.study.log.events import (
    ChunkKept,
    ChunkLost,
    Event,
    FailuresForgiven,
    Happened,
    HostApart,
    Measured,
    Measurement,
    MeasuringEnded,
    Named,
    OutcomeDismissed,
    PictureLost,
    PlanEdited,
    PlanRedone,
    PlanUndone,
    Prediction,
    ReferenceGrew,
    ReferenceLost,
    Run,
    RunFinished,
    RunResult,
    Said,
    SearchConcluded,
    TrialChosen,
)
from swift_sample.core.study.log.identity import (
    Identity,
    MeasurementKey,
    Place,
    Rectangle,
    measurement_identity,
    picture_identity,
    trial_identity,
)
from swift_sample.core.study.log.schema import (
    MEASUREMENT_COLUMNS,
    PHASE_COLUMNS,
    RESULT_COLUMNS,
    RUN_COLUMNS,
)
from swift_sample.core.study.plan.file import plan_as_data, plan_from_data

_PICTURE_NAME = re.compile(r"[0-9A-Za-z-]{1,195}\.exr", re.ASCII)
_NUMBERS = (int, float)


def now() -> str:
    """UTC, as the log has it."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def write_event(
    database: sqlite3.Connection, event: Event, plan_path: Path, at: str = ""
) -> Happened:
    """Add an event; the caller has begun a transaction and ends it. Returns it with its number and
    time."""
    kind, text, body = _written(event, plan_path)
    at = at or now()
    cursor = database.execute(
        "INSERT INTO events (at, kind, text, body) VALUES (?, ?, ?, ?)",
        (at, kind, text, json.dumps(body, ensure_ascii=True)),
    )
    number = int(cursor.lastrowid or 0)

    if isinstance(event, RunFinished):
        _write_run(database, event, number)
        event = RunFinished(_numbered(event.run, number, at))
    elif isinstance(event, Measured):
        _write_measurements(database, event, number)
    elif isinstance(event, Named):
        name_identity(database, event.name, event.kind, event.record)

    return Happened(number, at, event)


def name_identity(
    database: sqlite3.Connection, name: str, kind: str, record: Mapping[str, Any]
) -> None:
    """Keep the record behind a name, once."""
    database.execute(
        "INSERT OR IGNORE INTO identities VALUES (?, ?, ?)", (name, kind, json.dumps(dict(record)))
    )


def _name(database: sqlite3.Connection, identity: Identity) -> None:
    name_identity(database, identity.name, identity.kind, identity.record)


def _write_run(database: sqlite3.Connection, event: RunFinished, number: int) -> None:
    run = event.run
    result = event.run.result
    if event.configuration is not None:
        name_identity(database, run.trial, "trial", trial_identity(event.configuration).record)
    if run.picture:
        _name(database, picture_identity(run.place, run.appearance, run.seed))

    figures: list[Any] = [None] * (len(PHASE_COLUMNS) + len(RESULT_COLUMNS))
    if result is not None:
        figures = [
            *(result.seconds.get(phase) for phase in PHASE_COLUMNS),
            *(getattr(result, key) for key in RESULT_COLUMNS),
        ]

    values = (
        number,
        run.place.renderer,
        run.place.scene,
        run.trial,
        run.appearance,
        run.machine,
        run.seed,
        run.block,
        int(run.control),
        run.picture,
        run.reason,
        run.software,
        *figures,
        run.digest,
        int(run.by_machine),
        run.host,
    )
    _insert(database, "runs", RUN_COLUMNS, values)

    if event.record is not None:
        packed = zlib.compress(event.record.model_dump_json().encode())
        database.execute("INSERT INTO records VALUES (?, ?)", (number, packed))


def _write_measurements(database: sqlite3.Connection, event: Measured, number: int) -> None:
    for measurement in event.measurements:
        key = measurement.key
        identity = measurement_identity(measurement.place, measurement.key)
        _name(database, identity)
        figures = {
            kind: [measurement.versions.get(kind, 0), *(f.numbers if f is not None else [])]
            for kind, f in measurement.figures.items()
        }

        _insert(
            database,
            "measurements",
            MEASUREMENT_COLUMNS,
            (
                number,
                identity.name,
                measurement.place.renderer,
                measurement.place.scene,
                key.appearance,
                key.exposure,
                key.curve,
                key.area.x,
                key.area.y,
                key.area.width,
                key.area.height,
                key.reference,
                key.recipe,
                " ".join(measurement.pictures),
                measurement.reference_samples,
                measurement.seconds,
                json.dumps(figures),
            ),
        )


def _insert(
    database: sqlite3.Connection, table: str, columns: tuple[str, ...], values: tuple[Any, ...]
) -> None:
    database.execute(
        f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(columns))})",
        values,
    )


def _numbered(run: Run, number: int, at: str) -> Run:
    return Run(
        number=number,
        finished_at=at,
        place=run.place,
        trial=run.trial,
        appearance=run.appearance,
        machine=run.machine,
        seed=run.seed,
        block=run.block,
        control=run.control,
        picture=run.picture,
        result=run.result,
        reason=run.reason,
        software=run.software,
        lost=run.lost,
        digest=run.digest,
        by_machine=run.by_machine,
        host=run.host,
    )


def _place_data(place: Place) -> dict[str, str]:
    return {"renderer": place.renderer, "scene": place.scene}


def _written(event: Event, plan_path: Path) -> tuple[str, str, dict[str, Any]]:
    """An event's kind, words for people, and body."""
    if isinstance(event, PlanEdited):
        return (
            "plan",
            event.label,
            {"field": event.field, "plan": plan_as_data(event.plan, plan_path.parent)},
        )
    if isinstance(event, RunFinished):
        return "run", event.run.reason, {}
    if isinstance(event, Measured):
        return "measured", "", {}
    if isinstance(event, PictureLost):
        return "picture lost", event.reason, {**_place_data(event.place), "run": event.run}

    if isinstance(event, ReferenceGrew):
        return (
            "reference",
            "",
            {
                "reference": event.reference,
                "samples": event.samples,
                "chunks": event.chunks,
                "floor": event.floor,
                "seconds": event.seconds,
                "digest": event.digest,
            },
        )

    if isinstance(event, ChunkKept):
        return (
            "chunk",
            "",
            {
                "reference": event.reference,
                "chunk": event.chunk,
                "samples": event.samples,
                "seconds": event.seconds,
                "digest": event.digest,
            },
        )

    if isinstance(event, ChunkLost):
        return "chunk lost", event.reason, {"reference": event.reference, "chunk": event.chunk}
    if isinstance(event, ReferenceLost):
        return "reference lost", event.reason, {"reference": event.reference}

    if isinstance(event, TrialChosen):
        predicted = event.predicted
        expected = (
            {"seconds": predicted.seconds.numbers, "share": predicted.share.numbers}
            if predicted is not None
            else None
        )
        return (
            "search",
            event.why,
            {**_place_data(event.place), "values": dict(event.values), "predicted": expected},
        )

    if isinstance(event, SearchConcluded):
        return "search concluded", event.why, _place_data(event.place)
    if isinstance(event, FailuresForgiven):
        return "tried again", "", _place_data(event.place)
    if isinstance(event, Named):
        return (
            "named",
            "",
            {
                "kind": event.kind,
                "name": event.name,
                "record": dict(event.record),
                "label": event.label,
            },
        )
    if isinstance(event, HostApart):
        return "host apart", event.why, {"machine": event.machine, "host": event.host}
    if isinstance(event, MeasuringEnded):
        return "ended", event.words, {"finished": event.finished}
    if isinstance(event, Said):
        return "said", event.text, {"kind": event.kind}

    kinds = {PlanUndone: "undone", PlanRedone: "redone", OutcomeDismissed: "dismissed"}
    if type(event) not in kinds:
        raise TypeError(f"{type(event).__name__} is not kept in the log")

    return kinds[type(event)], "", {}


def read_events(
    database: sqlite3.Connection, plan_path: Path, tell: Callable[[str], None]
) -> Iterator[Happened]:
    """Everything that happened, in order, but for what was only said. Rows that cannot be read are
    told and left out.

    Raises sqlite3.Error.
    """
    runs = {row[0]: row for row in database.execute(f"SELECT {', '.join(RUN_COLUMNS)} FROM runs")}
    measured: dict[int, list[Any]] = {}

    # Of figures that got surer again and again only the last count.
    for row in database.execute(
        f"SELECT {', '.join(MEASUREMENT_COLUMNS)} FROM measurements WHERE rowid IN "
        "(SELECT max(rowid) FROM measurements GROUP BY name) ORDER BY rowid"
    ):
        measured.setdefault(row[0], []).append(row)

    places: dict[tuple[str, str], Place] = {}
    for number, at, kind, text, body in database.execute(
        "SELECT number, at, kind, text, body FROM events WHERE kind != 'said' ORDER BY number"
    ):
        try:
            if at:
                datetime.fromisoformat(at)

            if kind == "run":
                event: Event = RunFinished(_read_run(runs[number], at, places))
            elif kind == "measured":
                event = Measured(
                    tuple(_read_measurement(row, places) for row in measured.get(number, ()))
                )
            else:
                event = _READERS[kind](json.loads(body), text, plan_path)
        except (
            KeyError,
            TypeError,
            ValueError,
            AttributeError,
            OverflowError,
            RecursionError,
            SwiftSampleError,
        ) as error:
            why = f"{type(error).__name__}: {one_line(error)}"
            tell(
                plain(
                    f"entry {number} of the log ({str(kind)[:20]}) cannot be read and is left "
                    "out "
                    f"({why})"
                )
            )
            continue

        yield Happened(int(number), str(at), event)


def _place(renderer: Any, scene: Any, places: dict[tuple[str, str], Place]) -> Place:
    key = (_text(renderer), _text(scene))
    place = places.get(key)
    if place is None:
        place = places[key] = Place(*key)

    return place


_TOTAL = RUN_COLUMNS.index("total")


def _read_run(row: tuple[Any, ...], at: str, places: dict[tuple[str, str], Place]) -> Run:
    (
        number,
        renderer,
        scene,
        trial,
        appearance,
        machine,
        seed,
        block,
        control,
        picture,
        reason,
        software,
    ) = row[:12]
    result = None

    if row[_TOTAL] is not None:
        for value in row[12:26]:
            if value is not None and (value.__class__ not in _NUMBERS or not 0 <= value < math.inf):
                raise ValueError(f"expected a number from 0 on, got {str(value)[:40]}")

        if None in row[20:25]:
            raise ValueError("a run with a result has its costs")

        seconds = row[12:20]
        if None in seconds:  # of a renderer that does not tell all phases
            told = {
                phase: value
                for phase, value in zip(PHASE_COLUMNS, seconds, strict=True)
                if value is not None
            }
        else:
            told = dict(zip(PHASE_COLUMNS, seconds, strict=True))

        result = RunResult(told, *row[20:26])

    if (result is None) != bool(reason):
        raise ValueError("a run has a result or a reason, not both")
    if picture and not is_picture_name(picture):
        raise ValueError("the name of its picture is none that this program gives")

    return Run(
        number=int(number),
        finished_at=at,
        place=_place(renderer, scene, places),
        trial=_text(trial),
        appearance=_text(appearance),
        machine=_text(machine),
        seed=int(seed),
        block=int(block),
        control=bool(control),
        picture=_text(picture) if result is not None else "",
        result=result,
        reason=_text(reason),
        software=_text(software),
        digest=_text(row[26]),
        by_machine=bool(row[27]),
        host=_text(row[28]),
    )


def is_picture_name(name: object) -> bool:
    """Whether this is a plain name of a picture in the study's own folder."""
    return isinstance(name, str) and _PICTURE_NAME.fullmatch(name) is not None


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise TypeError(f"expected text, got {type(value).__name__}")
    return value


def _read_measurement(row: tuple[Any, ...], places: dict[tuple[str, str], Place]) -> Measurement:
    (
        _,
        _,
        renderer,
        scene,
        appearance,
        exposure,
        curve,
        x,
        y,
        width,
        height,
        reference,
        recipe,
        pictures,
        samples,
        seconds,
        raw,
    ) = row
    key = MeasurementKey(
        appearance=_text(appearance),
        exposure=float(exposure),
        curve=_text(curve),
        area=Rectangle(int(x), int(y), int(width), int(height)),
        reference=_text(reference),
        recipe=_text(recipe),
    )

    figures: dict[str, Figure | None] = {}
    versions: dict[str, int] = {}

    for kind, values in json.loads(raw).items():
        if kind not in KINDS:
            continue
        versions[kind] = int(values[0])
        figures[kind] = Figure.of(values[1:]) if len(values) > 1 else None

    return Measurement(
        place=_place(renderer, scene, places),
        key=key,
        pictures=tuple(_text(pictures).split()),
        reference_samples=int(samples),
        figures=figures,
        versions=versions,
        seconds=float(seconds),
    )


def _read_plan(body: dict[str, Any], text: str, path: Path) -> PlanEdited:
    return PlanEdited(text, plan_from_data(body["plan"], path), str(body.get("field", "")))


def _body_place(body: dict[str, Any]) -> Place:
    return Place(_text(body["renderer"]), _text(body["scene"]))


_READERS: dict[str, Callable[[dict[str, Any], str, Path], Event]] = {
    "plan": _read_plan,
    "undone": lambda body, text, path: PlanUndone(),
    "redone": lambda body, text, path: PlanRedone(),
    "dismissed": lambda body, text, path: OutcomeDismissed(),
    "picture lost": lambda body, text, path: PictureLost(_body_place(body), int(body["run"]), text),
    "reference": lambda body, text, path: ReferenceGrew(
        reference=_text(body["reference"]),
        samples=int(body["samples"]),
        chunks=int(body["chunks"]),
        floor=None if body["floor"] is None else float(body["floor"]),
        seconds=float(body["seconds"]),
        digest=_text(body.get("digest", "")),
    ),
    "chunk": lambda body, text, path: ChunkKept(
        _text(body["reference"]),
        int(body["chunk"]),
        int(body["samples"]),
        float(body["seconds"]),
        _text(body["digest"]),
    ),
    "chunk lost": lambda body, text, path: ChunkLost(
        _text(body["reference"]), int(body["chunk"]), text
    ),
    "reference lost": lambda body, text, path: ReferenceLost(_text(body["reference"]), text),
    "search": lambda body, text, path: TrialChosen(
        _body_place(body), dict(body["values"]), text, _read_prediction(body.get("predicted"))
    ),
    "search concluded": lambda body, text, path: SearchConcluded(_body_place(body), text),
    "tried again": lambda body, text, path: FailuresForgiven(_body_place(body)),
    "named": lambda body, text, path: Named(
        _text(body["kind"]), _text(body["name"]), dict(body["record"]), str(body.get("label", ""))
    ),
    "host apart": lambda body, text, path: HostApart(
        _text(body["machine"]), _text(body["host"]), text
    ),
    "ended": lambda body, text, path: MeasuringEnded(bool(body["finished"]), text),
    "said": lambda body, text, path: Said(str(body.get("kind", "")), text),
}


def _read_prediction(body: dict[str, Any] | None) -> Prediction | None:
    return (
        None if body is None else Prediction(Figure.of(body["seconds"]), Figure.of(body["share"]))
    )


def words_of_log(database: sqlite3.Connection) -> list[tuple[str, str, str]]:
    """(UTC time, kind, text) of everything that has words, in order."""
    try:
        rows = database.execute(
            "SELECT at, kind, text, body FROM events WHERE text != '' ORDER BY number"
        ).fetchall()
    except sqlite3.Error as error:
        raise StudyError(f"the log cannot be read ({one_line(error)})") from error

    return [(str(at), _kind_of_words(str(kind), body), str(text)) for at, kind, text, body in rows]


def _kind_of_words(kind: str, body: Any) -> str:
    try:
        return str(json.loads(body).get("kind", kind)) if kind == "said" else kind
    except (TypeError, ValueError, AttributeError, RecursionError):
        return kind

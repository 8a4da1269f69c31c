"""The log of a study in its database: events go in, one transaction each, and come out in order.

An event's fields are JSON beside it; runs and measurements have typed columns, and the whole record
of a render stands in a table of its own, read only when it is asked for. A row that cannot be read
counts as not there, and is told.
"""

import json
import re
import sqlite3
import zlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict, fields, replace
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any, get_args

from pydantic import TypeAdapter

from swift_sample.core.errors import StudyError, SwiftSampleError, one_line, plain
from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.study.log.events import (
    Event,
    Happened,
    KeptEvent,
    Measured,
    Measurement,
    Named,
    PlanEdited,
    Run,
    RunFinished,
    RunResult,
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
from swift_sample.core.study.plan.file import plan_as_data, plan_from_data

_PICTURE_NAME = re.compile(r"[0-9A-Za-z-]{1,195}\.exr", re.ASCII)

_KINDS: dict[str, Any] = {kind.LOGGED_AS: kind for kind in get_args(KeptEvent)}

_PHASES = ("load", "textures", "build", "first_picture", "sampling", "denoise", "write", "total")

_COSTS = tuple(field.name for field in fields(RunResult) if field.name != "seconds")

_OF_RUNS = (
    "trial",
    "appearance",
    "machine",
    "seed",
    "block",
    "control",
    "picture",
    "reason",
    "software",
    "digest",
    "by_machine",
    "host",
)
"""Fields of a run that are columns of the same name."""


def now() -> str:
    """UTC, as the log has it."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def write_event(
    database: sqlite3.Connection, event: Event, plan_path: Path, at: str = ""
) -> Happened:
    """Add an event; the caller has begun a transaction and ends it. Returns it with its number and
    time. Raises TypeError for one that is not kept."""
    kind, text, body = _written(event, plan_path)
    at = at or now()
    cursor = database.execute(
        "INSERT INTO events (at, kind, text, body) VALUES (?, ?, ?, ?)",
        (at, kind, text, json.dumps(body, ensure_ascii=True)),
    )
    number = int(cursor.lastrowid or 0)

    if isinstance(event, RunFinished):
        _write_run(database, event, number)
        event = RunFinished(replace(event.run, number=number, finished_at=at))
    elif isinstance(event, Measured):
        for measurement in event.measurements:
            _write_measurement(database, measurement, number)
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


def _insert(database: sqlite3.Connection, table: str, row: Mapping[str, Any]) -> None:
    columns = ", ".join(row)
    places = ", ".join("?" * len(row))
    database.execute(f"INSERT INTO {table} ({columns}) VALUES ({places})", tuple(row.values()))


@cache
def _adapter(name: str) -> TypeAdapter[Any]:
    """Reads and writes the fields of a kind of event, by its name in the log, as they are
    declared."""
    return TypeAdapter(_KINDS[name])


@cache
def _adapter_of_runs() -> TypeAdapter[Run]:
    return TypeAdapter(Run)


def _written(event: Event, plan_path: Path) -> tuple[str, str, dict[str, Any]]:
    """An event's kind, words for people, and fields."""
    if not isinstance(event, KeptEvent):
        raise TypeError(f"{type(event).__name__} is not kept in the log")

    kind = type(event)
    if isinstance(event, RunFinished):
        return kind.LOGGED_AS, event.run.reason, {}
    if isinstance(event, Measured):
        return kind.LOGGED_AS, "", {}
    if isinstance(event, PlanEdited):
        plan = plan_as_data(event.plan, plan_path.parent)
        return kind.LOGGED_AS, event.label, {"field": event.field, "plan": plan}

    body = _adapter(kind.LOGGED_AS).dump_python(event, mode="json")
    body |= body.pop("place", {})
    told_by = getattr(kind, "TOLD_BY", "")
    text = body.pop(told_by) if told_by else ""

    return kind.LOGGED_AS, text, body


def _read(kind: str, text: str, body: dict[str, Any], plan_path: Path) -> Event:
    """What `_written` wrote. Raises KeyError, TypeError, ValueError or SwiftSampleError."""
    made = _KINDS[kind]
    if made is PlanEdited:
        plan = plan_from_data(body["plan"], plan_path)
        return PlanEdited(text, plan, str(body.get("field", "")))

    if any(field.name == "place" for field in fields(made)):
        body["place"] = {"renderer": body["renderer"], "scene": body["scene"]}
    told_by = getattr(made, "TOLD_BY", "")
    if told_by:
        body[told_by] = text

    event: Event = _adapter(kind).validate_python(body)
    return event


def _write_run(database: sqlite3.Connection, event: RunFinished, number: int) -> None:
    run = event.run
    if event.configuration is not None:
        record = trial_identity(event.configuration).record
        name_identity(database, run.trial, "trial", record)
    if run.picture:
        _name(database, picture_identity(run.place, run.appearance, run.seed))

    row = {"number": number, **asdict(run.place)}
    row |= {name: getattr(run, name) for name in _OF_RUNS}
    if run.result is not None:
        row |= {phase: run.result.seconds.get(phase) for phase in _PHASES}
        row |= {name: getattr(run.result, name) for name in _COSTS}
    _insert(database, "runs", row)

    if event.record is not None:
        packed = zlib.compress(event.record.model_dump_json().encode())
        database.execute("INSERT INTO records VALUES (?, ?)", (number, packed))


def _read_run(row: dict[str, Any], at: str, places: "_Places") -> Run:
    result = None
    if row["total"] is not None:
        seconds = {phase: row[phase] for phase in _PHASES if row[phase] is not None}
        result = {"seconds": seconds, **{name: row[name] for name in _COSTS}}

    if (result is None) != bool(row["reason"]):
        raise ValueError("a run has a result or a reason, not both")
    if row["picture"] and not is_picture_name(row["picture"]):
        raise ValueError("the name of its picture is none that this program gives")

    told = {name: row[name] for name in _OF_RUNS}
    told |= {
        "number": row["number"],
        "finished_at": at,
        "place": places.of(row["renderer"], row["scene"]),
        "result": result,
    }
    if result is None:
        told["picture"] = ""

    return _adapter_of_runs().validate_python(told)


def _write_measurement(database: sqlite3.Connection, measurement: Measurement, number: int) -> None:
    key = measurement.key
    identity = measurement_identity(measurement.place, key)
    _name(database, identity)

    figures = {
        kind: [measurement.versions.get(kind, 0), *(f.numbers if f is not None else [])]
        for kind, f in measurement.figures.items()
    }
    row = {"event": number, "name": identity.name, **asdict(measurement.place)}
    row |= {
        "appearance": key.appearance,
        "exposure": key.exposure,
        "curve": key.curve,
        **asdict(key.area),
        "reference": key.reference,
        "recipe": key.recipe,
        "pictures": " ".join(measurement.pictures),
        "reference_samples": measurement.reference_samples,
        "seconds": measurement.seconds,
        "figures": json.dumps(figures),
    }
    _insert(database, "measurements", row)


def _read_measurement(row: dict[str, Any], places: "_Places") -> Measurement:
    area = Rectangle(*(int(row[side]) for side in ("x", "y", "width", "height")))
    key = MeasurementKey(
        appearance=_text(row["appearance"]),
        exposure=float(row["exposure"]),
        curve=_text(row["curve"]),
        area=area,
        reference=_text(row["reference"]),
        recipe=_text(row["recipe"]),
    )

    figures: dict[str, Figure | None] = {}
    versions: dict[str, int] = {}
    for kind, values in json.loads(row["figures"]).items():
        if kind in KINDS:
            versions[kind] = int(values[0])
            figures[kind] = Figure.of(values[1:]) if len(values) > 1 else None

    return Measurement(
        place=places.of(row["renderer"], row["scene"]),
        key=key,
        pictures=tuple(_text(row["pictures"]).split()),
        reference_samples=int(row["reference_samples"]),
        figures=figures,
        versions=versions,
        seconds=float(row["seconds"]),
    )


class _Places:
    """One object for each place, however many rows name it."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str], Place] = {}

    def of(self, renderer: Any, scene: Any) -> Place:
        key = (_text(renderer), _text(scene))
        place = self._known.get(key)
        if place is None:
            place = self._known[key] = Place(*key)
        return place


def read_events(
    database: sqlite3.Connection, plan_path: Path, tell: Callable[[str], None]
) -> Iterator[Happened]:
    """Everything that happened, in order, but for what was only said. Rows that cannot be read are
    told and left out.

    Raises sqlite3.Error.
    """
    runs = {row["number"]: row for row in _rows(database, "SELECT * FROM runs")}
    measured: dict[int, list[dict[str, Any]]] = {}

    # Of figures that got surer again and again only the last count.
    for row in _rows(
        database,
        "SELECT * FROM measurements WHERE rowid IN "
        "(SELECT max(rowid) FROM measurements GROUP BY name) ORDER BY rowid",
    ):
        measured.setdefault(row["event"], []).append(row)

    places = _Places()
    for number, at, kind, text, body in database.execute(
        "SELECT number, at, kind, text, body FROM events WHERE kind != 'said' ORDER BY number"
    ):
        try:
            if at:
                datetime.fromisoformat(at)
            if kind == RunFinished.LOGGED_AS:
                event: Event = RunFinished(_read_run(runs[number], at, places))
            elif kind == Measured.LOGGED_AS:
                rows = measured.get(number, ())
                event = Measured(tuple(_read_measurement(row, places) for row in rows))
            else:
                event = _read(kind, text, json.loads(body), plan_path)
        except (
            KeyError,
            TypeError,
            ValueError,
            AttributeError,
            OverflowError,
            RecursionError,
            SwiftSampleError,
        ) as error:
            entry = f"entry {number} of the log ({str(kind)[:20]})"
            why = f"{type(error).__name__}: {one_line(error)}"
            tell(plain(f"{entry} cannot be read and is left out ({why})"))
            continue

        yield Happened(int(number), str(at), event)


def _rows(database: sqlite3.Connection, question: str) -> Iterator[dict[str, Any]]:
    cursor = database.execute(question)
    names = [column[0] for column in cursor.description]
    for row in cursor:
        yield dict(zip(names, row, strict=True))


def is_picture_name(name: object) -> bool:
    """Whether this is a plain name of a picture in the study's own folder."""
    return isinstance(name, str) and _PICTURE_NAME.fullmatch(name) is not None


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise TypeError(f"expected text, got {type(value).__name__}")

    return value


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

"""The study folder: plan, results, pictures and reference. Every finished run is one transaction.

    study.toml      the plan, written whole and renamed into place
    results.db      SQLite: trials, runs, measures, machines, events
    pictures/       one EXR a run
    reference/      the reference and its halves, one file for each version of scene and base
    worker.log      what the renderer printed
    .lock           held while the study is open
"""

import errno
import fcntl
import json
import os
import sqlite3
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from swift_sample.core.errors import SettingError, StudyBusyError, StudyError, one_line
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.machine import Machine
from swift_sample.core.study.messages import RunResult
from swift_sample.core.study.model import Study, study_from_toml, study_to_toml

SCHEMA = 2
PLAN, RESULTS, PICTURES, REFERENCE, LOG = "study.toml", "results.db", "pictures", "reference", "worker.log"

_TABLES = """
CREATE TABLE trials (id INTEGER PRIMARY KEY, digest TEXT NOT NULL UNIQUE, configuration TEXT NOT NULL);
CREATE TABLE machines (fingerprint TEXT PRIMARY KEY, description TEXT NOT NULL);
CREATE TABLE runs (
    id INTEGER PRIMARY KEY, trial INTEGER NOT NULL REFERENCES trials(id), scene_key TEXT NOT NULL,
    control INTEGER NOT NULL, block INTEGER NOT NULL, machine TEXT NOT NULL REFERENCES machines(fingerprint),
    finished_at TEXT NOT NULL, picture TEXT, result TEXT, reason TEXT);
CREATE INDEX runs_by_trial ON runs(trial);
CREATE TABLE measures (
    trial INTEGER PRIMARY KEY REFERENCES trials(id), measured_from TEXT NOT NULL, figures TEXT NOT NULL);
CREATE TABLE reference (
    key TEXT PRIMARY KEY, samples INTEGER NOT NULL, floor REAL NOT NULL, seconds REAL NOT NULL);
CREATE TABLE events (id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, text TEXT NOT NULL);
"""
_SEARCHES_AND_FRAMES = """
CREATE TABLE chosen (scene_key TEXT NOT NULL, trial INTEGER NOT NULL REFERENCES trials(id), PRIMARY KEY (scene_key, trial));
CREATE TABLE frame_grains (
    scene_key TEXT NOT NULL, trial INTEGER NOT NULL REFERENCES trials(id), grain TEXT NOT NULL,
    PRIMARY KEY (scene_key, trial));
"""
MIGRATIONS = {1: _TABLES, 2: _SEARCHES_AND_FRAMES}
"""What brings a database to each version from the one before."""


@dataclass(frozen=True)
class StoredRun:
    """One finished or failed run. `result` is None and `reason` is set where it failed."""

    number: int
    trial: int
    scene_key: str
    control: bool
    block: int
    machine: str
    finished_at: str
    picture: str | None
    result: RunResult | None
    reason: str | None


@dataclass(frozen=True)
class ReferenceState:
    """How far the reference is: total samples, its own grain in levels, and the seconds spent on it."""

    samples: int
    floor: float
    seconds: float


@dataclass(frozen=True)
class StoredMeasures:
    """Figures of a trial, and what they were measured from."""

    measured_from: str
    figures: dict[str, tuple[float, float, float] | None]


class StudyFolder:
    """An open study. One process at a time; use `close`, or a with statement. Not shared between threads."""

    def __init__(self, path: Path, lock: int, database: sqlite3.Connection, study: Study) -> None:
        self.path, self._lock, self._database, self._study = path, lock, database, study

    @staticmethod
    def create(path: Path, study: Study) -> "StudyFolder":
        """Make a new study folder. Raises StudyError if something stands there already or it cannot be written."""
        if path.exists() and (not path.is_dir() or any(path.iterdir())):
            raise StudyError(f"{path}: exists already; choose another name, or open it")
        try:
            path.mkdir(parents=True, exist_ok=True)
            _write_whole(path / PLAN, study_to_toml(study))
        except OSError as error:
            raise StudyError(f"{path}: the study cannot be made there ({_os_words(error)})") from error
        return StudyFolder.open(path)

    @staticmethod
    def open(path: Path) -> "StudyFolder":
        """Open a study. Raises StudyBusyError if it is open elsewhere, StudyError if it cannot be read or written."""
        if not (path / PLAN).is_file():
            raise StudyError(f"{path}: not a study (there is no {PLAN} in it); check the name")
        lock = _lock(path)
        try:
            study = study_from_toml((path / PLAN).read_text(encoding="utf-8"), path / PLAN)
            for folder in (PICTURES, REFERENCE):
                (path / folder).mkdir(exist_ok=True)
                for left_over in (path / folder).glob(".writing-*"):
                    left_over.unlink(missing_ok=True)
            return StudyFolder(path, lock, _open_database(path / RESULTS), study)
        except (OSError, UnicodeDecodeError) as error:
            os.close(lock)
            raise StudyError(f"{path}: the study cannot be opened ({_os_words(error)})") from error
        except BaseException:
            os.close(lock)
            raise

    def close(self) -> None:
        if self._lock >= 0:
            self._database.close()
            os.close(self._lock)
            self._lock = -1

    def __enter__(self) -> "StudyFolder":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @property
    def study(self) -> Study:
        return self._study

    def save_plan(self, study: Study) -> None:
        """Write the plan. Raises StudyError; the plan on disk is then the old one."""
        try:
            _write_whole(self.path / PLAN, study_to_toml(study))
        except OSError as error:
            raise StudyError(f"{self.path}: the plan cannot be saved ({_os_words(error)})") from error
        self._study = study

    @property
    def pictures_path(self) -> Path:
        return self.path / PICTURES

    @property
    def log_path(self) -> Path:
        return self.path / LOG

    def reference_path(self, key: str) -> Path:
        return self.path / REFERENCE / f"{key}.exr"

    def trial_number(self, configuration: Configuration) -> int:
        """The number of a configuration's trial; a new one is added."""
        return self.trial_numbers([configuration])[configuration]

    def trial_numbers(self, configurations: Sequence[Configuration]) -> dict[Configuration, int]:
        """The numbers of several trials; new ones are added."""
        known = dict(self._rows("SELECT digest, id FROM trials"))
        missing = [c for c in configurations if c.digest not in known]
        if missing:
            self._transaction(lambda: self._database.executemany(
                "INSERT INTO trials (digest, configuration) VALUES (?, ?)",
                [(c.digest, json.dumps(dict(c))) for c in missing]))
            known = dict(self._rows("SELECT digest, id FROM trials"))
        return {c: known[c.digest] for c in configurations}

    def trials(self) -> dict[int, Configuration]:
        """All trials ever begun, by number. One that this version cannot read any more is left out."""
        return _readable(self._rows("SELECT id, configuration FROM trials ORDER BY id"))

    def choose(self, configuration: Configuration, scene_key: str) -> None:
        """Add a trial that a search chose for this version of the scene."""
        number = self.trial_number(configuration)
        self._transaction(lambda: self._database.execute("INSERT OR IGNORE INTO chosen VALUES (?, ?)", (scene_key, number)))

    def chosen(self, scene_key: str) -> tuple[Configuration, ...]:
        """What searches chose for this version of the scene, in the order of their trials."""
        rows = self._rows("SELECT trials.id, configuration FROM chosen JOIN trials ON trials.id = chosen.trial "
                          "WHERE scene_key = ? ORDER BY trials.id", (scene_key,))
        return tuple(_readable(rows).values())

    def save_frame_grain(self, scene_key: str, trial: int, grain: Figure) -> None:
        """Keep the grain of a trial at the frame that a version of the scene stands for."""
        self._transaction(lambda: self._database.execute(
            "INSERT OR REPLACE INTO frame_grains VALUES (?, ?, ?)",
            (scene_key, trial, json.dumps([grain.value, grain.low, grain.high]))))

    def frame_grains(self, scene_key: str) -> dict[Configuration, Figure]:
        """Grains that were measured at a frame, by configuration."""
        rows = self._rows("SELECT trials.id, configuration, grain FROM frame_grains JOIN trials ON trials.id = trial "
                          "WHERE scene_key = ?", (scene_key,))
        grains = {number: Figure(*json.loads(grain)) for number, _, grain in rows}
        return {c: grains[number] for number, c in _readable([row[:2] for row in rows]).items()}

    def add_run(self, trial: int, scene_key: str, control: bool, block: int, machine: Machine, picture: str | None,
                result: RunResult | None, reason: str | None) -> int:
        """Record one finished (or failed) run for good; returns its number."""
        def work() -> int:
            self._database.execute("INSERT OR IGNORE INTO machines VALUES (?, ?)",
                                   (machine.fingerprint, json.dumps(machine.as_dict())))
            cursor = self._database.execute(
                "INSERT INTO runs (trial, scene_key, control, block, machine, finished_at, picture, result, reason) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (trial, scene_key, control, block, machine.fingerprint, _now(), picture,
                 result.model_dump_json() if result else None, reason))
            return int(cursor.lastrowid or 0)

        return self._transaction(work)

    def runs(self) -> list[StoredRun]:
        """All runs in the order in which they finished. Records that cannot be read count as failed."""
        found = []
        for row in self._rows("SELECT id, trial, scene_key, control, block, machine, finished_at, picture, result, reason "
                              "FROM runs ORDER BY id"):
            result, reason = None, row[9]
            if row[8] is not None:
                try:
                    result = RunResult.model_validate_json(row[8])
                except ValidationError:
                    reason = "its record is damaged"
            found.append(StoredRun(row[0], row[1], row[2], bool(row[3]), row[4], row[5], row[6], row[7], result, reason))
        return found

    def discard_run(self, number: int, reason: str) -> None:
        """Mark a run whose picture is lost as failed, so that it is measured again."""
        self._transaction(lambda: self._database.execute(
            "UPDATE runs SET result = NULL, reason = ? WHERE id = ?", (reason, number)))

    def save_measures(self, trial: int, measured: StoredMeasures) -> None:
        self._transaction(lambda: self._database.execute(
            "INSERT OR REPLACE INTO measures VALUES (?, ?, ?)",
            (trial, measured.measured_from, json.dumps(measured.figures))))

    def measures(self) -> dict[int, StoredMeasures]:
        """The latest figures of each trial."""
        return {row[0]: StoredMeasures(row[1], {k: tuple(v) if v else None for k, v in json.loads(row[2]).items()})
                for row in self._rows("SELECT trial, measured_from, figures FROM measures")}

    def save_reference(self, key: str, state: ReferenceState) -> None:
        self._transaction(lambda: self._database.execute(
            "INSERT OR REPLACE INTO reference VALUES (?, ?, ?, ?)", (key, state.samples, state.floor, state.seconds)))

    def reference(self, key: str) -> ReferenceState | None:
        """The state of the reference with this key; None where its picture is missing."""
        rows = self._rows("SELECT samples, floor, seconds FROM reference WHERE key = ?", (key,))
        if not rows or not self.reference_path(key).is_file():
            return None
        return ReferenceState(*rows[0])

    def add_event(self, kind: str, text: str) -> None:
        self._transaction(lambda: self._database.execute(
            "INSERT INTO events (at, kind, text) VALUES (?, ?, ?)", (_now(), kind, text)))

    def events(self) -> list[tuple[str, str, str]]:
        """(UTC time, kind, text) in order."""
        return self._rows("SELECT at, kind, text FROM events ORDER BY id")

    def machine_description(self, fingerprint: str) -> dict[str, Any]:
        rows = self._rows("SELECT description FROM machines WHERE fingerprint = ?", (fingerprint,))
        return dict(json.loads(rows[0][0])) if rows else {}

    def _rows(self, query: str, values: tuple[object, ...] = ()) -> list[Any]:
        try:
            return self._database.execute(query, values).fetchall()
        except sqlite3.Error as error:
            raise StudyError(f"{self.path / RESULTS}: cannot be read ({one_line(error)}); "
                             "move it aside to measure again, the pictures stay") from error

    def _transaction(self, work):  # type: ignore[no-untyped-def]
        try:
            with self._database:
                self._database.execute("BEGIN IMMEDIATE")
                return work()
        except sqlite3.Error as error:
            raise StudyError(f"{self.path / RESULTS}: cannot be written ({one_line(error)}); "
                             "check free space and permissions, nothing measured before is lost") from error


def _readable(rows: Sequence[tuple[int, str]]) -> dict[int, Configuration]:
    """Configurations by trial, those that this version cannot read left out."""
    found = {}
    for number, text in rows:
        try:
            found[number] = Configuration(json.loads(text))
        except (SettingError, ValueError):
            continue
    return found


def _lock(path: Path) -> int:
    try:
        handle = os.open(path / ".lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
    except OSError as error:
        raise StudyError(f"{path}: the study cannot be opened for writing ({_os_words(error)}); "
                         "copy it to a folder of yours") from error
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        os.close(handle)
        if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
            raise StudyBusyError(f"{path}: the study is open in another window or command; close it there") from error
        raise StudyError(f"{path}: the study cannot be locked ({_os_words(error)})") from error
    return handle


def _open_database(path: Path) -> sqlite3.Connection:
    try:
        database = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("PRAGMA synchronous = FULL")
        database.execute("PRAGMA foreign_keys = ON")
        version = int(database.execute("PRAGMA user_version").fetchone()[0])
        if version > SCHEMA:
            raise StudyError(f"{path}: has version {version}, this program reads up to {SCHEMA}; "
                             "open it with a newer version of Swift Sample")
        if version and database.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("its contents are damaged")
        for step in range(version + 1, SCHEMA + 1):
            database.executescript(f"BEGIN; {MIGRATIONS[step]} PRAGMA user_version = {step}; COMMIT;")
        return database
    except sqlite3.Error as error:
        raise StudyError(f"{path}: cannot be opened ({one_line(error)}); move it aside to measure again, "
                         "the pictures stay") from error


def _write_whole(path: Path, text: str) -> None:
    handle, temporary = tempfile.mkstemp(prefix=".writing-", dir=path.parent)
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except BaseException:
        Path(temporary).unlink(missing_ok=True)
        raise


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def _os_words(error: Exception) -> str:
    return (error.strerror or one_line(error)).lower() if isinstance(error, OSError) else one_line(error)

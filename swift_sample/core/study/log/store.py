"""Opens a study: `Store` for the one who measures and edits it, `look_at_study` for all who only
read."""

import gc
import json
import logging
import os
import sqlite3
import time
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

from pydantic import ValidationError

from swift_sample.core.errors import StudyError, one_line
from swift_sample.core.files import read_text
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.renderers.registry import (
    DESCRIPTION,
    MissingRenderer,
    description_of,
    renderer_named,
    renderer_of,
)
from swift_sample.core.settings import Value
from swift_sample.core.study.log.codec import read_events, words_of_log, write_event
from swift_sample.core.study.log.database import (
    DamagedDatabaseError,
    cannot_read,
    cannot_write,
    open_database,
    open_to_look,
    patiently,
)
from swift_sample.core.study.log.events import Event, Happened, PlanEdited
from swift_sample.core.study.log.files import check_members, lock_study, os_words, write_whole
from swift_sample.core.study.log.folder import PLAN, Folder, study_folder
from swift_sample.core.study.log.rebuild import events_from_pictures
from swift_sample.core.study.log.state import StudyState, apply, replace_state, replay
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.plan.model import Study

logger = logging.getLogger(__name__)

FOLDER_ENTRY = "[Desktop Entry]\nType=Directory\nName=Swift Sample study\nIcon=swift-sample\n"
"""Has file managers show a study's folder as one thing (Desktop Entry Specification, type
Directory)."""
BEGAN = "The study began"
BY_HAND = "Edit of study.toml by hand"


def is_study(path: Path) -> bool:
    """Whether a study stands there: its folder, or the study.toml in it."""
    return (study_folder(path) / PLAN).is_file()


def create_study(path: Path, plan: Study) -> Path:
    """Make a new study folder, without opening it; returns its path.

    Raises StudyError if something stands there already or it cannot be written; nothing is left
    behind then.
    """
    if path.exists() and (not path.is_dir() or any(path.iterdir())):
        raise StudyError(f"{path}: exists already; choose another name, or open it")

    for text, what in ((str(path), "the study's name"), (plan.scene, "the scene's name")):
        if not _is_plain(text):
            raise StudyError(
                f"{_shown(text)}: {what} has letters that are not valid text (UTF-8); rename it"
            )

    made = not path.exists()
    try:
        path.mkdir(parents=True, exist_ok=True)
        write_whole(
            path / DESCRIPTION, description_of(renderer_of(plan.catalogue, plan.renderer_file))
        )
        write_whole(path / PLAN, plan_as_toml(plan, path))
    except (OSError, ValueError) as error:
        if made:
            with suppress(OSError):
                (path / DESCRIPTION).unlink(missing_ok=True)
                path.rmdir()

        raise StudyError(f"{path}: the study cannot be made there ({os_words(error)})") from error

    with suppress(OSError):  # only a file manager reads it
        write_whole(path / ".directory", FOLDER_ENTRY)

    return path


class RecordReader:
    """Reads whole records of renders by the number of their run, and the values of trials by their
    names; safe to use from several threads."""

    def __init__(self, database: sqlite3.Connection, lock: Lock) -> None:
        self._database = database
        self._lock = lock
        self._kept: dict[int, RunRecord | None] = {}
        self._values: dict[str, dict[str, Value] | None] = {}

    def __call__(self, number: int) -> RunRecord | None:
        """The record; None where there is none, or none that can be read."""
        with self._lock:
            if number not in self._kept:
                if len(self._kept) > 64:
                    self._kept.pop(next(iter(self._kept)))
                self._kept[number] = self._read(number)

            return self._kept[number]

    def _read(self, number: int) -> RunRecord | None:
        try:
            row = self._database.execute(
                "SELECT record FROM records WHERE number = ?", (number,)
            ).fetchone()
            return None if row is None else RunRecord.model_validate_json(zlib.decompress(row[0]))
        except (sqlite3.Error, ValidationError, zlib.error, TypeError) as error:
            logger.warning("the record of run %d cannot be read: %s", number, one_line(error))
            return None

    def values_of(self, trials: Sequence[str]) -> dict[str, dict[str, Value]]:
        """Which values trials had, as `Configuration.from_identity_values` takes them; trials that
        are not known are left out."""
        found: dict[str, dict[str, Value]] = {}
        with self._lock:
            for name in trials:
                if name not in self._values:
                    self._values[name] = self._read_values(name)
                values = self._values[name]
                if values is not None:
                    found[name] = values

        return found

    def _read_values(self, name: str) -> dict[str, Value] | None:
        try:
            query = "SELECT record FROM identities WHERE name = ? AND kind = 'trial'"
            row = self._database.execute(query, (name,)).fetchone()
            return None if row is None else dict(json.loads(row[0])["values"])
        except (sqlite3.Error, ValueError, KeyError, TypeError) as error:
            logger.warning("what trial %s was cannot be read: %s", name, one_line(error))
            return None


@dataclass(kw_only=True)
class Reading:
    """A study as it was when it was looked at. Close it, or use a with statement; `state` stays."""

    folder: Folder
    state: StudyState
    renderer: Renderer
    record: RecordReader
    notes: tuple[str, ...]
    """what could not be read"""
    words: list[tuple[str, str, str]]
    """the log: UTC time, kind, text"""
    _database: sqlite3.Connection

    def __enter__(self) -> "Reading":
        return self

    def __exit__(self, *_: object) -> None:
        self._database.close()


def look_at_study(path: Path, tell: Callable[[str], None] = logger.warning) -> Reading:
    """Read a study without holding or changing it, whoever measures it meanwhile. `tell` is told
    where that takes a while. Raises StudyError."""
    folder = _existing(path)
    plan = _read_plan(folder)

    try:
        return patiently(lambda: _look(folder, plan), tell)
    except DamagedDatabaseError as error:
        raise StudyError(
            f"{error}; `swift-sample run {path}` makes it anew from the pictures and throws "
            "nothing away"
        ) from error


def _look(folder: Folder, plan: Study) -> Reading:
    database = open_to_look(folder.database)
    try:
        notes: list[str] = []
        with _study_errors(folder):
            database.execute("BEGIN")
            state = _replayed(database, folder, plan, notes.append)
            words = words_of_log(database)
            database.execute("COMMIT")

        if _is_lost(folder, state):
            raise DamagedDatabaseError(f"{folder.database}: is missing")
        if state.plan != plan:
            state = apply(state, Happened(0, "", PlanEdited(BY_HAND, plan)))

        return Reading(
            folder=folder,
            state=state,
            renderer=_renderer(folder, plan),
            record=RecordReader(database, Lock()),
            notes=tuple(notes),
            words=words,
            _database=database,
        )
    except BaseException:
        database.close()
        raise


class Store:
    """An open study, for its one owner. Not to be used by several threads at once, except
    `record`."""

    def __init__(
        self, folder: Folder, handle: int, database: sqlite3.Connection, state: StudyState
    ) -> None:
        self.folder = folder
        self._handle = handle
        self._database = database
        self.renderer = _renderer(folder, state.plan)
        self.opened_as = state
        """the state when it was opened"""
        self._lock = Lock()
        self.record = RecordReader(database, self._lock)

    @staticmethod
    def open(path: Path, tell: Callable[[str], None] = logger.warning) -> "Store":
        """Open a study to measure or edit it. A damaged database is set aside and made anew from
        the pictures. `tell` is told where that takes a while.

        Raises StudyBusyError if it is open elsewhere, StudyError if it cannot be read or written.
        """
        folder = _existing(path)
        handle = lock_study(folder.path, folder.path / ".lock")

        try:
            plan = _read_plan(folder)
            for part in (folder.pictures, folder.references):
                part.mkdir(exist_ok=True)
                for left_over in part.glob(".writing-*"):
                    left_over.unlink(missing_ok=True)

            database, state, rebuilt = patiently(lambda: _open_or_rebuild(folder, plan), tell)
        except OSError as error:
            os.close(handle)
            raise StudyError(
                f"{folder.path}: the study cannot be opened ({os_words(error)})"
            ) from error
        except BaseException:
            os.close(handle)
            raise

        try:
            return Store._begun(Store(folder, handle, database, state), plan, rebuilt)
        except BaseException:
            database.close()
            os.close(handle)
            raise

    @staticmethod
    def _begun(store: "Store", plan: Study, rebuilt: Sequence[tuple[str, Event]]) -> "Store":
        state = store.opened_as
        if not state.version:
            state = store._append_all(state, [("", PlanEdited(BEGAN, plan)), *rebuilt])
        elif state.plan != plan:
            state = store._append_all(state, [("", PlanEdited(BY_HAND, plan))])

        store.opened_as, store.renderer = state, _renderer(store.folder, state.plan)
        _describe_renderer(store.folder, store.renderer)
        return store

    @property
    def handles(self) -> tuple[int, ...]:
        """What holds the study, for a process that shall hold it too."""
        return (self._handle,) if self._handle >= 0 else ()

    def close(self) -> None:
        if self._handle >= 0:
            with self._lock:
                self._database.close()
            os.close(self._handle)
            self._handle = -1

    def __enter__(self) -> "Store":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def append(self, events: Sequence[Event], plan: Study | None = None) -> list[Happened]:
        """Keep events for good, all or none. `plan` is the plan after them, where they change it:
        study.toml is then written as well. Raises StudyError; everything is then as before."""
        before = self.folder.plan.read_text(encoding="utf-8") if plan is not None else ""
        try:
            if plan is not None:
                write_whole(self.folder.plan, plan_as_toml(plan, self.folder.path))

            try:
                return self._transaction(
                    lambda: [
                        write_event(self._database, event, self.folder.plan) for event in events
                    ]
                )
            except StudyError:
                if plan is not None:
                    write_whole(self.folder.plan, before)
                raise
        except (OSError, ValueError) as error:
            raise StudyError(
                f"{self.folder.path}: the plan cannot be saved ({os_words(error)})"
            ) from error

    def append_dated(self, lines: Sequence[tuple[str, Event]]) -> None:
        """Keep events that happened elsewhere, with their times; "" for now. Raises StudyError;
        nothing is kept then."""
        self._transaction(
            lambda: [
                write_event(self._database, event, self.folder.plan, at) for at, event in lines
            ]
        )

    def words(self) -> list[tuple[str, str, str]]:
        """The log: UTC time, kind, text."""
        with self._lock:
            return words_of_log(self._database)

    def load(self) -> StudyState:
        """The state that the log gives when it is replayed from its beginning."""
        with self._lock, _study_errors(self.folder):
            return _replayed(self._database, self.folder, _read_plan(self.folder), logger.warning)

    def _append_all(self, state: StudyState, lines: Iterable[tuple[str, Event]]) -> StudyState:
        happened = self._transaction(
            lambda: [
                write_event(self._database, event, self.folder.plan, at) for at, event in lines
            ]
        )
        for one in happened:
            state = apply(state, one)

        return state

    def _transaction(self, work: Callable[[], list[Happened]]) -> list[Happened]:
        try:
            with self._lock:
                self._database.execute("BEGIN IMMEDIATE")
                try:
                    done = work()
                    self._database.execute("COMMIT")
                    return done
                except BaseException:
                    with suppress(sqlite3.Error):
                        self._database.execute("ROLLBACK")
                    raise
        except sqlite3.Error as error:
            raise cannot_write(error, self.folder.database) from error
        except OverflowError as error:  # a number from another study, larger than any that is kept
            raise StudyError(
                f"{self.folder.database}: a number is too large to be kept ({one_line(error)})"
            ) from error


def _existing(path: Path) -> Folder:
    existing = study_folder(path)
    if not (existing / PLAN).is_file():
        raise StudyError(
            f"{_shown(str(path))}: not a study (there is no {PLAN} in it); check the name"
        )

    try:
        check_members(existing)
    except OSError as error:
        raise StudyError(f"{existing}: the study cannot be opened ({os_words(error)})") from error

    return Folder(existing)


def _read_plan(folder: Folder) -> Study:
    try:
        return plan_from_toml(read_text(folder.plan), folder.plan)
    except UnicodeDecodeError as error:
        raise StudyError(f"{folder.plan}: is not text in UTF-8; restore it from a copy") from error
    except ValueError as error:
        raise StudyError(
            f"{folder.plan}: {str(error).removeprefix('it ')}; restore it from a copy"
        ) from error
    except OSError as error:
        raise StudyError(
            f"{folder.plan}: the study cannot be opened ({os_words(error)})"
        ) from error


def _renderer(folder: Folder, plan: Study) -> Renderer:
    return renderer_named(plan.catalogue.name, folder.path, plan.renderer_file)


def _describe_renderer(folder: Folder, renderer: Renderer) -> None:
    """Keep what the settings mean, for the day when the renderer is not there any more."""
    text = description_of(renderer)
    path = folder.path / DESCRIPTION

    with suppress(OSError):
        if not isinstance(renderer, MissingRenderer) and not (
            path.is_file() and path.read_bytes() == text.encode()
        ):
            write_whole(path, text)


def _open_or_rebuild(
    folder: Folder, plan: Study
) -> tuple[sqlite3.Connection, StudyState, Sequence[tuple[str, Event]]]:
    """The database and its state; where it is missing, or damaged and set aside, also the events
    that pictures tell."""
    try:
        database, state = _open_whole(folder, plan)
        return (
            database,
            state,
            events_from_pictures(folder, plan.catalogue) if _is_lost(folder, state) else (),
        )
    except DamagedDatabaseError as error:
        aside = folder.database.with_name(f"results.damaged-{int(time.time())}.db")
        logger.warning("%s; it is set aside as %s", error, aside.name)
        folder.database.replace(aside)
        for ending in ("-wal", "-shm"):
            folder.database.with_name(folder.database.name + ending).unlink(missing_ok=True)

        return *_open_whole(folder, plan), events_from_pictures(folder, plan.catalogue)


def _is_lost(folder: Folder, state: StudyState) -> bool:
    """Whether there are pictures of which the log, that began before any of them, says nothing."""
    return not state.version and any(folder.pictures.glob("*.exr"))


def _open_whole(folder: Folder, plan: Study) -> tuple[sqlite3.Connection, StudyState]:
    database = open_database(folder.database)
    try:
        with _study_errors(folder):
            return database, _replayed(
                database, folder, plan, lambda text: logger.warning("%s: %s", folder.path, text)
            )
    except BaseException:
        database.close()
        raise


def _replayed(
    database: sqlite3.Connection, folder: Folder, plan: Study, tell: Callable[[str], None]
) -> StudyState:
    state = StudyState(plan=plan)
    collected = gc.isenabled()
    # nothing of what is made here is let go again, and looking for it takes half the time of a
    # large log
    gc.disable()

    try:
        state = replay(state, read_events(database, folder.plan, tell))
        last = database.execute("SELECT max(number) FROM events").fetchone()[0]
        state = replace_state(state, version=max(state.version, last or 0))
    finally:
        if collected:
            gc.enable()

    return state


@contextmanager
def _study_errors(folder: Folder) -> Iterator[None]:
    try:
        yield
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise cannot_read(error, folder.database) from error


def _is_plain(text: str) -> bool:
    try:
        text.encode("utf-8")
        return True
    except UnicodeEncodeError:
        return False


def _shown(text: str) -> str:
    """A name that can be printed anywhere."""
    return text.encode("utf-8", "replace").decode()

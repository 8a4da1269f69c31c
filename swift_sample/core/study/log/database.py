"""Opens results.db: to write, or only to look. Those of other programs and other versions are
refused."""

import re
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import TypeVar
from urllib.parse import quote

from swift_sample.core import budget
from swift_sample.core.errors import StudyBlockedError, StudyError, one_line
from swift_sample.core.files import is_full
from swift_sample.core.study.log.schema import SCHEMA, TABLES

APPLICATION = 0x53775361
"""Marks databases of this program in SQLite's header."""
BUSY_SECONDS = 0.5
"""How long one attempt waits for another program that holds the database: a backup, a browser of
databases. Whoever attempts it can be stopped in between, and"""
PATIENCE_SECONDS = 60.0
"""gives up opening after so long."""


INSTRUCTIONS = 1_000_000
"""Of SQLite's virtual machine, between two looks at how many there were."""
PAUSE_SECONDS = 2.0

_WORKS = re.compile(r"\b(VIRTUAL|GENERATED|CHECK|AS|WHERE|COLLATE)\b")
"""What a table or an index could work with when it is read or written."""

Opened = TypeVar("Opened")


class DamagedDatabaseError(StudyError):
    """A database that cannot be read; what can be is made anew from the pictures."""


def patiently(attempt: Callable[[], Opened], tell: Callable[[str], None]) -> Opened:
    """Try until no other program holds the database any more; `tell` is told once that it is waited
    for.

    Raises StudyBlockedError where that takes too long.
    """
    deadline = time.monotonic() + PATIENCE_SECONDS
    told = False

    while True:
        try:
            return attempt()
        except StudyBlockedError as error:
            if not error.held or time.monotonic() > deadline:
                raise
            if not told:
                tell(f"waiting: {one_line(error)}")
                told = True


def open_database(path: Path) -> sqlite3.Connection:
    """Open for writing; made where it is missing.

    Raises StudyError for one of another version or program, DamagedDatabaseError for one that
    cannot be read, StudyBlockedError where another program holds it.
    """
    try:
        database = sqlite3.connect(
            path, timeout=BUSY_SECONDS, isolation_level=None, check_same_thread=False
        )
    except sqlite3.Error as error:
        raise StudyError(f"{path}: cannot be opened ({one_line(error)})") from error

    try:
        _distrust(database)
        version = _version(database, path)
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("PRAGMA synchronous = FULL")

        if version and database.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("its contents are damaged")
        if not version:
            _make_tables(database)

        return database
    except (sqlite3.Error, UnicodeDecodeError) as error:
        database.close()
        raise cannot_read(error, path) from error
    except BaseException:
        database.close()
        raise


def open_to_look(path: Path) -> sqlite3.Connection:
    """Open without changing anything, also while another process writes, and on a disk that cannot
    be written.

    Raises StudyError.
    """
    if not path.exists():
        return _empty()

    try:
        database = _connect_to_read(path)
        try:
            version = _version(database, path)
        except BaseException:
            database.close()
            raise

        if version:
            return database

        database.close()
        return _empty()
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise cannot_read(error, path) from error


def _connect_to_read(path: Path) -> sqlite3.Connection:
    place = quote(str(path.absolute()))
    try:
        return _probed(f"file:{place}?mode=ro")
    except sqlite3.OperationalError as error:
        if _is_held(error):
            raise
        # Beside a database that was left in the middle SQLite needs a file of its own, which a
        # read-only disk refuses.
        log = path.with_name(path.name + "-wal")
        if not log.exists() or log.stat().st_size == 0:
            return _probed(f"file:{place}?mode=ro&immutable=1")

    with tempfile.TemporaryDirectory() as folder:
        for part in (path, log):
            shutil.copyfile(part, Path(folder) / part.name)

        with closing(sqlite3.connect(Path(folder) / path.name)) as copied:
            memory = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
            copied.backup(memory)
            return memory


def _probed(address: str) -> sqlite3.Connection:
    database = sqlite3.connect(
        address, uri=True, timeout=BUSY_SECONDS, isolation_level=None, check_same_thread=False
    )
    try:
        _distrust(database)
        database.execute("SELECT count(*) FROM sqlite_master").fetchone()
        return database
    except BaseException:
        database.close()
        raise


def _empty() -> sqlite3.Connection:
    """A database in memory in which nothing has happened yet."""
    memory = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
    _make_tables(memory)
    return memory


def _distrust(database: sqlite3.Connection) -> None:
    """Nothing that stands in the database is run, and no question may take for ever."""
    calls = 0
    last = 0.0

    def is_too_much() -> bool:
        """Called now and then while SQLite works; after a pause it is about something else."""
        nonlocal calls, last
        now = time.monotonic()
        calls = 1 if now - last > PAUSE_SECONDS else calls + 1
        last = now

        return calls * INSTRUCTIONS > budget.LOG_INSTRUCTIONS

    database.execute("PRAGMA trusted_schema = OFF")
    database.set_progress_handler(is_too_much, INSTRUCTIONS)


def _version(database: sqlite3.Connection, path: Path) -> int:
    """The schema's version, 0 for an empty database. Raises StudyError for one that is newer, or
    not a study's."""
    version = int(database.execute("PRAGMA user_version").fetchone()[0])
    parts = database.execute(
        "SELECT type, name, upper(coalesce(sql, '')) FROM sqlite_master"
    ).fetchall()

    if any(
        kind in ("view", "trigger")
        or (kind == "index" and sql.count("(") > 1)
        or _WORKS.search(sql)
        for kind, _, sql in parts
    ):
        raise StudyError(
            f"{path}: holds views, triggers or formulas, which no study has; it is not opened"
        )

    tables = {name for kind, name, _ in parts if kind == "table"}
    mark = int(database.execute("PRAGMA application_id").fetchone()[0])
    ours = mark == APPLICATION if version else not tables

    if version > SCHEMA and mark == APPLICATION:
        raise StudyError(
            f"{path}: has version {version}, this program reads {SCHEMA}; open it with a newer "
            "version of Swift Sample"
        )

    if 0 < version < SCHEMA and ours:
        raise StudyError(
            f"{path}: is of an early version that was never released (version {version}, this "
            f"program reads {SCHEMA}); "
            "move it aside to measure again"
        )

    if not ours or version < 0:
        raise StudyError(
            f"{path}: is a database of something else than a study; move it aside to measure again"
        )

    if "events" in tables:
        words = budget.over(
            database.execute("SELECT count(*) FROM events").fetchone()[0],
            budget.LOG_ENTRIES,
            "entries",
        )
        if words:
            raise StudyError(f"{path}: {words}; begin a new study for what is still to be measured")

    return version


def _make_tables(database: sqlite3.Connection) -> None:
    """All in one transaction, so that a kill leaves an empty database."""
    database.execute("BEGIN IMMEDIATE")
    try:
        for statement in TABLES.split(";"):
            if statement.strip():
                database.execute(statement)

        database.execute(f"PRAGMA application_id = {APPLICATION}")
        database.execute(f"PRAGMA user_version = {SCHEMA}")
        database.execute("COMMIT")
    except BaseException:
        database.execute("ROLLBACK")
        raise


def cannot_write(error: sqlite3.Error, path: Path) -> StudyError:
    """What to say of a database that cannot be written."""
    return _blocked(error, path) or StudyError(
        f"{path}: cannot be written ({one_line(error)}); check its permissions; nothing "
        "measured before is lost"
    )


def cannot_read(error: sqlite3.Error | UnicodeDecodeError, path: Path) -> StudyError:
    """What to say of a database that cannot be opened or read; the words of SQLite's own errors may
    be no text."""
    if getattr(error, "sqlite_errorcode", 0) == sqlite3.SQLITE_INTERRUPT:
        return StudyError(f"{path}: takes more work to read than any study does; it is not opened")
    if isinstance(error, sqlite3.OperationalError):
        return _blocked(error, path) or StudyError(
            f"{path}: cannot be opened ({one_line(error)}); check its permissions"
        )

    return DamagedDatabaseError(f"{path}: is damaged ({one_line(error)})")


def _blocked(error: sqlite3.Error, path: Path) -> StudyBlockedError | None:
    if _is_held(error):
        return StudyBlockedError(
            f"{path}: another program holds it; end that one, or let it finish", held=True
        )

    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if not path.parent.is_dir():
        return StudyBlockedError(
            f"{path.parent}: is not there any more; move it back, or open it where it is now",
            held=False,
        )

    if code == sqlite3.SQLITE_FULL or (code == sqlite3.SQLITE_IOERR and is_full(path, error)):
        return StudyBlockedError(
            f"{path}: cannot be written, the disk is full; make room on it", held=False
        )

    return None


def _is_held(error: sqlite3.Error) -> bool:
    return getattr(error, "sqlite_errorcode", 0) & 0xFF in (
        sqlite3.SQLITE_BUSY,
        sqlite3.SQLITE_LOCKED,
    )

"""The machine's lease: one study is timed at a time on a machine, across processes and windows. Who
holds it says which study it is; others wait. The system gives it back when its holder ends, in
whatever way.

A process that may use a part of the processors alone is a machine of its own: it shares the lease
with others of that kind, and holds one of each of its processors."""

import errno
import fcntl
import json
import os
import tempfile
from pathlib import Path

from swift_sample.core.errors import StudyError, one_line

MOST_SAID_BYTES = 4096


def lease_path() -> Path:
    """Where the lease stands: one file for the whole machine."""
    return Path(
        os.environ.get("SWIFT_SAMPLE_LEASE") or Path(tempfile.gettempdir()) / "swift-sample.lease"
    )


class Lease:
    """Not shared between threads. Of a machine's `processors` alone where they are given."""

    def __init__(self, path: Path | None = None, processors: frozenset[int] = frozenset()) -> None:
        self._path = path or lease_path()
        self._handle = -1
        self._parts = [
            Lease(self._path.with_name(f"{self._path.name}-{number}"))
            for number in sorted(processors)
        ]

    @property
    def is_held(self) -> bool:
        return self._handle >= 0

    @property
    def handles(self) -> tuple[int, ...]:
        """What holds it, for a process that shall hold it too."""
        return (self._handle,) if self.is_held else ()

    def take(self, study: Path) -> str:
        """Try to take the lease; returns "" where it is held now, else the study that is being
        timed, in words.

        Raises StudyError where the file cannot be used at all.
        """
        if self.is_held:
            return ""

        handle = self._open()
        try:
            fcntl.flock(handle, (fcntl.LOCK_SH if self._parts else fcntl.LOCK_EX) | fcntl.LOCK_NB)
        except OSError as error:
            words = self._holder(handle)
            os.close(handle)
            if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
                return words

            raise StudyError(
                f"{self._path}: cannot be locked ({_words(error)}), so it cannot be told whether "
                "another study is being timed; set SWIFT_SAMPLE_LEASE to a file on a local disk"
            ) from error

        self._handle = handle
        for part in self._parts:
            holder = part.take(study)
            if holder:
                self.release()
                return holder

        if not self._parts:
            self._say({"study": str(study.absolute()), "process": os.getpid()})

        return ""

    def release(self) -> None:
        for part in self._parts:
            part.release()

        if self.is_held:
            if not self._parts:
                self._say({})
            os.close(self._handle)
            self._handle = -1

    def _open(self) -> int:
        flags = os.O_CLOEXEC | os.O_NOFOLLOW
        try:
            try:
                return os.open(self._path, os.O_RDWR | flags)
            except FileNotFoundError:
                handle = os.open(self._path, os.O_RDWR | os.O_CREAT | flags, 0o666)
                os.fchmod(handle, 0o666)  # every user of the machine shares it
                return handle
        except OSError:
            try:
                return os.open(self._path, os.O_RDONLY | flags)
            except OSError as error:
                raise StudyError(
                    f"{self._path}: cannot be opened ({_words(error)}), so it cannot be told "
                    "whether another "
                    "study is being timed; set SWIFT_SAMPLE_LEASE to a file of yours"
                ) from error

    def _say(self, what: dict[str, object]) -> None:
        try:
            os.ftruncate(self._handle, 0)
            os.pwrite(self._handle, json.dumps(what).encode("utf-8", "replace"), 0)
        except OSError:
            return  # another user's file: who holds it stays untold

    @staticmethod
    def _holder(handle: int) -> str:
        try:
            told = json.loads(os.pread(handle, MOST_SAID_BYTES, 0))
            return f"{Path(str(told['study'])).name[:80]} (process {int(told['process'])})"
        except (OSError, ValueError, KeyError, TypeError):
            return "another study"


def _words(error: OSError) -> str:
    return (error.strerror or one_line(error)).lower()

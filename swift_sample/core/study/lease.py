"""The machine's lease: one study is timed at a time on a machine, across processes and windows. Who holds it says which study
it is; others wait. The system gives it back when its holder ends, in whatever way."""

import errno
import fcntl
import json
import os
import tempfile
from pathlib import Path

from swift_sample.core.errors import StudyError
from swift_sample.core.study.store.files import os_words

MOST_SAID_BYTES = 4096


def lease_path() -> Path:
    """Where the lease stands: one file for the whole machine."""
    return Path(os.environ.get("SWIFT_SAMPLE_LEASE") or Path(tempfile.gettempdir()) / "swift-sample.lease")


class Lease:
    """Not shared between threads."""

    def __init__(self, path: Path | None = None) -> None:
        self._path, self._handle = path or lease_path(), -1

    @property
    def is_held(self) -> bool:
        return self._handle >= 0

    @property
    def handles(self) -> tuple[int, ...]:
        """What holds it, for a process that shall hold it too."""
        return (self._handle,) if self.is_held else ()

    def take(self, study: Path) -> str:
        """Try to take the lease; returns "" where it is held now, else the study that is being timed, in words.

        Raises StudyError where the file cannot be used at all.
        """
        if self.is_held:
            return ""
        handle = self._open()
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            words = self._holder(handle)
            os.close(handle)
            if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
                return words
            raise StudyError(
                f"{self._path}: cannot be locked ({os_words(error)}), so it cannot be told whether another "
                "study is being timed; set SWIFT_SAMPLE_LEASE to a file on a local disk"
            ) from error
        self._handle = handle
        self._say({"study": str(study.absolute()), "process": os.getpid()})
        return ""

    def release(self) -> None:
        if self.is_held:
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
                    f"{self._path}: cannot be opened ({os_words(error)}), so it cannot be told whether another "
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

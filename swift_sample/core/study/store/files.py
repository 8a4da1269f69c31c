"""Files of a study that are written whole, and the lock of its owner."""

import errno
import fcntl
import os
import tempfile
from pathlib import Path

from swift_sample.core.errors import StudyBusyError, StudyError, one_line


def write_whole(path: Path, text: str) -> None:
    """Write a text beside its target, sync it, and rename it into place. Raises OSError; the old text then stays."""
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


def lock_study(path: Path, lock: Path) -> int:
    """Hold a study for measuring or editing; returns the handle that holds it. Raises StudyBusyError or StudyError."""
    try:
        handle = os.open(lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o644)
    except OSError as error:
        raise StudyError(
            f"{path}: the study cannot be opened for writing ({os_words(error)}); copy it to a folder of yours"
        ) from error
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        os.close(handle)
        if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
            raise StudyBusyError(
                f"{path}: the study is open in another window or command; close it there to measure or edit it here"
            ) from error
        raise StudyError(f"{path}: the study cannot be locked ({os_words(error)})") from error
    return handle


def os_words(error: Exception) -> str:
    """An error of the system in lower case, as it stands in brackets."""
    return (error.strerror or one_line(error)).lower() if isinstance(error, OSError) else one_line(error)

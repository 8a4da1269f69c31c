"""Members of a study's folder: what may stand there, the plan written whole, and the lock of its
owner."""

import errno
import fcntl
import os
import time
from collections.abc import Iterator
from pathlib import Path

from swift_sample.core.errors import StudyBusyError, StudyError, one_line
from swift_sample.core.files import written_whole
from swift_sample.core.study.log.folder import FILES, FOLDERS

MOST_SECONDS_LEFT = 1.0
"""How long whatever is left of a program that was killed may still hold a study; its renderer ends
with it."""


def write_whole(path: Path, text: str) -> None:
    """Write a text beside its target, sync it, and rename it into place. Raises OSError; the old
    text then stays."""
    with written_whole(path) as temporary:
        temporary.write_text(text, encoding="utf-8")


def check_members(path: Path) -> None:
    """Refuse a study of which a part is a link, a pipe or a device: it would read and write
    elsewhere. Other files that stand in its folder are not looked at.

    Raises StudyError, OSError.
    """
    for entry, is_folder in _members(path):
        is_plain = (entry.is_dir if is_folder else entry.is_file)(follow_symlinks=False)
        if not is_plain and os.path.lexists(
            entry.path
        ):  # whoever measures the study renames files meanwhile
            if entry.is_symlink():
                kind = "a link"
            elif is_folder:
                kind = "not a plain folder"
            else:
                kind = "not a plain file"

            raise StudyError(
                f"{entry.path}: is {kind}, which no study has; it is not opened, copy what it "
                "stands for"
            )


def _members(path: Path) -> Iterator[tuple["os.DirEntry[str]", bool]]:
    """Everything of a study that is read or written, and whether it has to be a folder."""
    with os.scandir(path) as entries:
        for entry in entries:
            if entry.name in FOLDERS:
                yield entry, True
                yield from _inside(entry.path)
            elif entry.name in FILES:
                yield entry, False


def _inside(folder: str) -> Iterator[tuple["os.DirEntry[str]", bool]]:
    """Everything in a folder of a study. Links to folders are not followed: they are no plain
    files."""
    with os.scandir(folder) as entries:
        for entry in entries:
            is_folder = entry.is_dir(follow_symlinks=False)
            yield entry, is_folder
            if is_folder:
                yield from _inside(entry.path)


def lock_study(path: Path, lock: Path) -> int:
    """Hold a study for measuring or editing; returns the handle that holds it. Raises
    StudyBusyError or StudyError."""
    try:
        handle = os.open(lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o644)
    except OSError as error:
        raise StudyError(
            f"{path}: the study cannot be opened for writing ({os_words(error)}); copy it to a "
            "folder of yours"
        ) from error

    try:
        _lock(handle, time.monotonic() + MOST_SECONDS_LEFT)
    except OSError as error:
        os.close(handle)
        if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
            raise StudyBusyError(
                f"{path}: the study is open in another window or command, or is measured in the "
                "background; close it there to measure or edit it here"
            ) from error

        raise StudyError(f"{path}: the study cannot be locked ({os_words(error)})") from error

    return handle


def _lock(handle: int, deadline: float) -> None:
    """Raises OSError where it is held at the deadline, or cannot be locked."""
    while True:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except OSError as error:
            if error.errno != errno.EWOULDBLOCK or time.monotonic() > deadline:
                raise

        time.sleep(0.02)


def os_words(error: Exception) -> str:
    """An error of the system in lower case, as it stands in brackets."""
    return (
        (error.strerror or one_line(error)).lower()
        if isinstance(error, OSError)
        else one_line(error)
    )

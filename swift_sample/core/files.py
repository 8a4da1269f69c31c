"""Small files of unknown origin, read with a bound; and files that are written whole, so that a
kill or a full disk leaves the old one."""

import errno
import os
import secrets
import tomllib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from shutil import disk_usage
from typing import Any

from swift_sample.core.budget import NESTED, TEXT_BYTES, over

WRITING = ".writing-"
"""How the names of files that are not finished begin."""


def read_bytes(path: Path) -> bytes:
    """The content of a small file. Raises OSError, and ValueError where it is no plain file or too
    large."""
    if not path.is_file():
        path.stat()  # which says so where there is nothing
        raise ValueError("it is not a file")

    words = over(path.stat().st_size, TEXT_BYTES, "bytes")
    if words:
        raise ValueError(f"it {words}")

    return path.read_bytes()


def read_text(path: Path) -> str:
    """The text of a small file. Raises OSError, and ValueError where it is no plain file, too
    large, or not UTF-8."""
    return read_bytes(path).decode("utf-8")


def read_toml(path: Path) -> dict[str, Any]:
    """The values in a small TOML file. Raises OSError and ValueError."""
    return toml_values(read_text(path))


def toml_values(text: str) -> dict[str, Any]:
    """The values in a TOML text. Raises ValueError, also for tables and arrays that stand in one
    another too deeply."""
    # Reading a key of many parts takes the square of their number.
    if any(
        line.partition("=")[0].count(".") > NESTED
        for line in text.splitlines()
        if "," not in line.partition("=")[0]
    ):
        raise ValueError(_TOO_DEEP)

    try:
        values = tomllib.loads(text)
    except RecursionError as error:
        raise ValueError(_TOO_DEEP) from error

    level: list[Any] = [values]
    for _ in range(NESTED):
        level = [
            inner for outer in level if isinstance(outer, dict | list) for inner in _inside(outer)
        ]

    if level:
        raise ValueError(_TOO_DEEP)

    return values


_TOO_DEEP = "it is nested too deeply"


def _inside(outer: dict[str, Any] | list[Any]) -> Iterable[Any]:
    return outer.values() if isinstance(outer, dict) else outer


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """A new, empty file beside `path`, with the mode that the umask gives, to be filled by its
    name. Where the block ends well it is synced and takes the place of `path`; else it goes, and
    what stood there stays.

    Raises OSError, also where nothing was written into it.
    """
    temporary = path.with_name(f"{WRITING}{secrets.token_hex(6)}{path.suffix}")
    os.close(
        os.open(
            temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666
        )
    )

    try:
        yield temporary
        with open(temporary, "rb") as written:
            os.fsync(written.fileno())
            if not os.fstat(written.fileno()).st_size:
                raise OSError("nothing was written; is the disk full?")

        os.replace(temporary, path)
    except BaseException:
        temporary.unlink(missing_ok=True)
        raise


LEAST_FREE_BYTES = 1 << 20
"""A disk with less is full."""


def has_room(path: Path, wanted: int = 0) -> bool:
    """Whether so many bytes and a little more find room on the disk of a file or folder."""
    try:
        return disk_usage(path).free >= wanted + LEAST_FREE_BYTES
    except OSError:
        return True


def is_full(path: Path, error: Exception) -> bool:
    """Whether a file could not be written because there was no room; libraries do not always say
    why."""
    if isinstance(error, OSError) and error.errno is not None:
        return error.errno in (errno.ENOSPC, errno.EDQUOT)
    return not has_room(path.parent)

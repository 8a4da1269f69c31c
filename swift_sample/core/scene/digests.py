"""Digests of files, read again only when a file changed: studies ask for them often, and scenes are
large."""

import hashlib
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path

from swift_sample.core.budget import FILE_BYTES, over
from swift_sample.core.errors import SceneError

BLOCK_BYTES = 1 << 22

Stamp = tuple[str, int, int, int]
"""A file as it is: path, size, time of its last change in nanoseconds, and place on disk."""


def stamp_of(path: Path) -> Stamp:
    stamp = path.stat()
    return str(path), stamp.st_size, stamp.st_mtime_ns, stamp.st_ino


def digest_of(files: Iterable[Path], tail: bytes = b"") -> str:
    """SHA-256 of the files' contents in this order and of `tail`, in hexadecimal digits.

    Raises OSError, and SceneError for a file that is larger than any that is read.
    """
    return _digest(tuple(stamp_of(file) for file in files), tail)


@lru_cache(64)
def _digest(stamps: tuple[Stamp, ...], tail: bytes) -> str:
    digest = hashlib.sha256()
    for path, size, *_ in stamps:
        words = over(size, FILE_BYTES, "bytes")
        if words:
            raise SceneError(f"{path}: {words}; split the scene")
        with open(path, "rb") as file:
            while block := file.read(BLOCK_BYTES):
                digest.update(block)

    digest.update(tail)
    return digest.hexdigest()

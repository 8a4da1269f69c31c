"""Pictures that a study keeps, and the one check before any of them is used: they are what was
written."""

import hashlib
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from swift_sample.core.errors import PictureError, UnfitPictureError
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.picture import Picture


def digest_of_picture(path: Path) -> str:
    """Length and SHA-256 of a picture's file, as "LENGTH-DIGITS". Raises OSError."""
    with open(path, "rb") as file:
        return (
            f"{os.fstat(file.fileno()).st_size}-{hashlib.file_digest(file, 'sha256').hexdigest()}"
        )


def digest_of_pixels(pixels: np.ndarray) -> str:
    """SHA-256 of a picture's size and values, whatever its file's format is."""
    kept = np.ascontiguousarray(pixels, np.float32)
    made = hashlib.sha256(repr(kept.shape).encode())
    made.update(kept.data)

    return made.hexdigest()


def is_of(path: Path, digest: str) -> bool:
    """Whether a picture's file has this digest, of which those of earlier versions have no length.
    Raises OSError."""
    return digest_of_picture(path).rpartition("-")[2] == digest.rpartition("-")[2]


def length_told_by(digest: str) -> int | None:
    """Bytes of the file that has this digest; None where it does not tell."""
    length = digest.rpartition("-")[0]
    return int(length) if length.isdecimal() else None


def read_stored(path: Path, digest: str) -> Picture:
    """A stored picture whose file has this digest; "" where none was kept, as with studies of
    earlier versions.

    Raises UnfitPictureError where it is missing, a link, cannot be read, is another file, or has
    values that are no numbers.
    """
    try:
        with _held(path) as held:
            if digest and not is_of(held, digest):
                raise UnfitPictureError(path, "is not the one that was written")
            picture = read_exr(held)
    except FileNotFoundError as error:
        raise UnfitPictureError(path, "is missing") from error
    except UnfitPictureError:
        raise
    except (OSError, PictureError) as error:
        raise UnfitPictureError(path, "is damaged") from error

    if not np.isfinite(picture.beauty).all():
        raise UnfitPictureError(path, "has values that are not finite numbers")

    return picture


@contextmanager
def _held(path: Path) -> Iterator[Path]:
    """Another name of a file that stays the same whatever is renamed meanwhile, and that no link
    led to. Raises OSError."""
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        handle = os.open(
            path.name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder
        )
    finally:
        os.close(folder)

    try:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise OSError("not a plain file")
        yield Path(f"/proc/self/fd/{handle}")
    finally:
        os.close(handle)

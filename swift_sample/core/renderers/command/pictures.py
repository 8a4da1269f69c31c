"""The picture that a program left: whether it is the one that was asked for, and its light."""

import os
import stat
from dataclasses import dataclass
from pathlib import Path

from swift_sample.core.errors import PictureError, RendererError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.reading import read_picture

EXR_BEGINS = b"\x76\x2f\x31\x01"


@dataclass(frozen=True)
class Stamp:
    """What changes when a file is written, and whether it is a plain file: to open a pipe is to
    wait for who writes it."""

    inode: int
    size: int
    written: int
    is_plain: bool


def stamp_of(path: Path) -> Stamp | None:
    """None where there is no such file."""
    try:
        told = os.stat(path)
    except OSError:
        return None

    return Stamp(told.st_ino, told.st_size, told.st_mtime_ns, stat.S_ISREG(told.st_mode))


def picture_left(
    path: Path, kind: str, size: tuple[int, int], before: Stamp | None, last_words: str
) -> tuple[Picture, int]:
    """The picture and the bytes of its file; `before` is what stood there before the render.

    Raises RendererError where it is missing, of an earlier render, of another kind or size, or
    changes while it is read.
    """
    stamp = stamp_of(path)
    said = f"; it last said: {last_words}" if last_words else ""
    if stamp is None:
        raise RendererError(f"it ended well and left no picture at {path.name}{said}")
    if stamp == before:
        raise RendererError(
            f"it left the picture of an earlier render at {path.name}, and no new one{said}"
        )
    if not stamp.is_plain:
        raise RendererError(f"what it left at {path.name} is not a plain file{said}")

    if kind == "light" and _first_bytes(path) != EXR_BEGINS:
        raise RendererError(
            f"{path.name} is no EXR, as its renderer file says; set picture.kind and suffix to "
            "what it writes"
        )

    try:
        picture = read_picture(path)
    except PictureError as error:
        raise RendererError(f"its picture cannot be read: {error}") from error

    if stamp_of(path) != stamp:
        raise RendererError(
            f"{path.name} was still being written when the program had ended; have it wait for "
            "what writes it"
        )

    if (picture.width, picture.height) != size:
        raise RendererError(
            f"its picture is {picture.width}x{picture.height}, {size[0]}x{size[1]} was asked "
            "for; check command"
        )

    return Picture(picture.beauty), stamp.size


def _first_bytes(path: Path) -> bytes:
    try:
        with path.open("rb") as stream:
            return stream.read(len(EXR_BEGINS))
    except OSError as error:
        raise RendererError(
            f"{path.name}: its picture cannot be read ({error.strerror})"
        ) from error

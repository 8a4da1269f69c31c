"""Pictures that a study keeps, and the one check before any of them is used: they are what was written."""

import hashlib
from pathlib import Path

import numpy as np

from swift_sample.core.errors import PictureError, UnfitPictureError
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.picture import Picture


def digest_of_picture(path: Path) -> str:
    """SHA-256 of a picture's file, in hexadecimal digits. Raises OSError."""
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def read_stored(path: Path, digest: str) -> Picture:
    """A stored picture whose file has this digest; "" where none was kept, as with studies of earlier versions.

    Raises UnfitPictureError where it is missing, cannot be read, is another file, or has values that are no numbers.
    """
    try:
        if digest and digest_of_picture(path) != digest:
            raise UnfitPictureError(path, "is not the one that was written")
        picture = read_exr(path)
    except FileNotFoundError as error:
        raise UnfitPictureError(path, "is missing") from error
    except UnfitPictureError:
        raise
    except (OSError, PictureError) as error:
        raise UnfitPictureError(path, "is damaged" if path.exists() else "is missing") from error
    if not np.isfinite(picture.beauty).all():
        raise UnfitPictureError(path, "has values that are not finite numbers")
    return picture

"""What a finished picture is delivered as: `output.format` by name, with how each is written and
read back."""

import io
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import imagecodecs
import numpy as np
import OpenEXR
from PIL import Image

from swift_sample.core.errors import PictureError, one_line
from swift_sample.core.files import written_whole
from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.view import View

PILLOW_FORMATS = ("PNG", "JPEG")
"""The only formats that may be read by name of .png and .jpg: for others Pillow may start another
program."""

JPEG_QUALITY = 92
"""Of 100: what is usual for delivery."""


@dataclass(frozen=True)
class OutputFormat:
    """EXR formats keep light and all layers and name a `compression`; display formats keep the
    picture as it is shown and have a function from levels, float32[h, w, 3], to a file's bytes, and
    one back."""

    suffix: str
    compression: object | None = None
    encode: Callable[[np.ndarray], bytes] | None = None
    decode: Callable[[bytes], np.ndarray] | None = None

    @property
    def is_display(self) -> bool:
        return self.encode is not None


def _pillow(kind: str, **options: object) -> Callable[[np.ndarray], bytes]:
    def encode(levels: np.ndarray) -> bytes:
        data = io.BytesIO()
        Image.fromarray((levels + 0.5).astype(np.uint8)).save(data, kind, **options)
        return data.getvalue()

    return encode


def _from_pillow(data: bytes) -> np.ndarray:
    with Image.open(io.BytesIO(data), formats=PILLOW_FORMATS) as picture:
        return np.asarray(picture.convert("RGB"), np.float32)


def _png16(levels: np.ndarray) -> bytes:
    return bytes(imagecodecs.png_encode(np.round(levels * (65535 / LEVELS)).astype(np.uint16)))


def _from_png16(data: bytes) -> np.ndarray:
    return (imagecodecs.png_decode(data)[..., :3] * (LEVELS / 65535)).astype(np.float32)


OUTPUT_FORMATS: dict[str, OutputFormat] = {
    "exr-zip": OutputFormat(".exr", OpenEXR.ZIP_COMPRESSION),
    "exr-piz": OutputFormat(".exr", OpenEXR.PIZ_COMPRESSION),
    "exr-none": OutputFormat(".exr", OpenEXR.NO_COMPRESSION),
    "exr-dwaa": OutputFormat(".exr", OpenEXR.DWAA_COMPRESSION),
    "png-8": OutputFormat(".png", None, _pillow("PNG"), _from_pillow),
    "png-16": OutputFormat(".png", None, _png16, _from_png16),
    "jpeg": OutputFormat(".jpg", None, _pillow("JPEG", quality=JPEG_QUALITY), _from_pillow),
}


def write_display(path: Path, form: OutputFormat, beauty: np.ndarray, view: View) -> int:
    """Write a picture as it is shown through the view; returns its bytes. Raises PictureError."""
    assert form.encode is not None
    data = form.encode(view.levels(np.nan_to_num(beauty)))

    try:
        with written_whole(path) as temporary:
            return temporary.write_bytes(data)
    except OSError as error:
        raise PictureError(
            f"{path}: the picture cannot be written ({one_line(error)}); check free space and "
            "permissions"
        ) from error


def read_display(path: Path, form: OutputFormat, view: View) -> np.ndarray:
    """The light that a picture written by `write_display` stands for, float32[h, w, 3]: clipped to
    what the view shows."""
    assert form.decode is not None
    return view.light(form.decode(path.read_bytes()))

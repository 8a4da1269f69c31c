"""Reading a picture by its file type, and pairs of pictures that are to be compared."""

from pathlib import Path

import numpy as np
from PIL import Image

from swift_sample.core import budget
from swift_sample.core.errors import PictureError, one_line
from swift_sample.core.picture.colour import srgb_decoded
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.formats import PILLOW_FORMATS
from swift_sample.core.picture.picture import Picture

_LIGHT_OF_CODES = srgb_decoded(np.arange(256, dtype=np.float32) / 255).astype(np.float32)
_DISPLAY_TYPES = {".png", ".jpg", ".jpeg"}


def read_picture(path: Path) -> Picture:
    """Read EXR, or PNG and JPEG, whose sRGB values (IEC 61966-2-1) are turned into linear light.

    Raises PictureError naming the file.
    """
    if path.suffix.lower() in _DISPLAY_TYPES:
        return _read_display(path)
    return read_exr(path)


def _read_display(path: Path) -> Picture:
    if not path.is_file():
        raise PictureError(f"{path}: no such picture; check the name")
    try:
        with Image.open(path, formats=PILLOW_FORMATS) as image:
            pixels = image.size[0] * image.size[1]
            words = budget.over(pixels, budget.PICTURE_PIXELS, "pixels") or budget.over_memory(40 * pixels)
            if words:
                raise PictureError(f"{path}: {words}; use a smaller picture")
            codes = np.asarray(image.convert("RGB"))
    except PictureError:
        raise
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise PictureError(f"{path}: not a readable picture ({one_line(error)}); save it again") from error
    return Picture(_LIGHT_OF_CODES[codes])


def as_rendered(picture: Picture) -> Picture:
    """A picture as it was before any denoiser or file format changed it."""
    if "raw" not in picture.layers:
        return picture
    rest = {name: values for name, values in picture.layers.items() if name != "raw"}
    return Picture(picture.layers["raw"], rest, picture.reduced, picture.notes)


def fitted(reference: Picture, shape: tuple[int, ...]) -> Picture:
    """A reference at the size of pictures that were rendered at another `output.scale`: each pixel the mean of those that it
    covers. The same picture where the size is the same."""
    if reference.beauty.shape[:2] == shape[:2]:
        return reference

    def scaled(pixels: np.ndarray) -> np.ndarray:
        planes = (Image.fromarray(pixels[..., k]).resize((shape[1], shape[0]), Image.Resampling.BOX) for k in range(3))
        return np.stack([np.asarray(plane) for plane in planes], -1)

    layers = {name: scaled(half) for name, half in zip(("half_a", "half_b"), reference.halves or (), strict=False)}
    return Picture(scaled(reference.beauty), layers)


def check_comparable(picture: Picture, path: Path, reference: Picture, reference_path: Path) -> None:
    """Raise PictureError unless both pictures have one size and only finite values."""
    if picture.beauty.shape != reference.beauty.shape:
        raise PictureError(
            f"{path} is {picture.width}x{picture.height}, {reference_path} is {reference.width}x{reference.height}; "
            "render both at one size"
        )
    for one, name in ((picture, path), (reference, reference_path)):
        bad = int((~np.isfinite(one.beauty)).sum())
        if bad:
            raise PictureError(f"{name}: {bad} values are not finite numbers; render the picture again")

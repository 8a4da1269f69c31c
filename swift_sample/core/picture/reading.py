"""Reading a picture by its file type, and pairs of pictures that are to be compared."""

from pathlib import Path

import imagecodecs
import numpy as np
from PIL import Image
from PIL.PngImagePlugin import PngImageFile
from PIL.TiffImagePlugin import TiffImageFile

from swift_sample.core import budget
from swift_sample.core.errors import PictureError, one_line
from swift_sample.core.picture.colour import srgb_decoded
from swift_sample.core.picture.exr import read_exr, size_in_header
from swift_sample.core.picture.formats import PILLOW_FORMATS
from swift_sample.core.picture.picture import Picture

_LIGHT_OF_CODES = srgb_decoded(np.arange(256, dtype=np.float32) / 255).astype(np.float32)
_LIGHT_OF_WIDE_CODES = srgb_decoded(np.arange(65536, dtype=np.float32) / 65535).astype(np.float32)
_BITS_PER_SAMPLE = 258
"""The tag of a TIFF (TIFF 6.0, section 8)."""
_DISPLAY_TYPES = {".png", ".jpg", ".jpeg", ".tif", ".tiff"}


def read_picture(path: Path) -> Picture:
    """Read EXR, or PNG, JPEG and TIFF, whose sRGB values (IEC 61966-2-1) are turned into linear
    light.

    Raises PictureError naming the file.
    """
    if path.suffix.lower() in _DISPLAY_TYPES:
        return _read_display(path)

    return read_exr(path)


def size_of_picture(path: Path) -> tuple[int, int]:
    """Width and height by what its header says. Raises PictureError naming the file."""
    if not path.is_file():
        raise PictureError(f"{path}: no such picture; check the name")
    if path.suffix.lower() not in _DISPLAY_TYPES:
        return size_in_header(path)

    try:
        with Image.open(path, formats=(*PILLOW_FORMATS, "TIFF")) as image:
            return image.size
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise PictureError(
            f"{path}: not a readable picture ({one_line(error)}); save it again"
        ) from error


def _read_display(path: Path) -> Picture:
    if not path.is_file():
        raise PictureError(f"{path}: no such picture; check the name")

    try:
        with Image.open(path, formats=(*PILLOW_FORMATS, "TIFF")) as image:
            pixels = image.size[0] * image.size[1]
            words = budget.over(pixels, budget.PICTURE_PIXELS, "pixels") or budget.over_memory(
                40 * pixels
            )
            if words:
                raise PictureError(f"{path}: {words}; use a smaller picture")

            if _is_wide(image):
                image.load()  # tells of one that is cut off
                return Picture(_LIGHT_OF_WIDE_CODES[_wide_codes(path, image.format or "")])

            return Picture(_LIGHT_OF_CODES[np.asarray(image.convert("RGB"))])
    except PictureError:
        raise
    except (
        OSError,
        ValueError,
        SyntaxError,
        Image.DecompressionBombError,
        imagecodecs.PngError,
        imagecodecs.TiffError,
    ) as error:
        raise PictureError(
            f"{path}: not a readable picture ({one_line(error)}); save it again"
        ) from error


def _is_wide(image: Image.Image) -> bool:
    """Whether it has 16 bits a channel, of which Pillow would read 8."""
    if isinstance(image, TiffImageFile):
        return 16 in tuple(image.tag_v2.get(_BITS_PER_SAMPLE, ()))
    if isinstance(image, PngImageFile):
        return any("16" in str(tile[3]) for tile in image.tile)

    return False


def _wide_codes(path: Path, kind: str) -> np.ndarray:
    """uint16[h, w, 3] of a PNG or TIFF; what covers nothing is left out, grey stands in all
    three."""
    decode = imagecodecs.png_decode if kind == "PNG" else imagecodecs.tiff_decode
    codes = np.asarray(decode(path.read_bytes()))
    if codes.dtype != np.uint16 or codes.ndim not in (2, 3):
        raise ValueError("its channels differ in kind")

    grey = codes if codes.ndim == 2 else codes[..., 0]
    return codes[..., :3] if codes.ndim == 3 and codes.shape[-1] >= 3 else np.stack([grey] * 3, -1)


def as_rendered(picture: Picture) -> Picture:
    """A picture as it was before any denoiser or file format changed it."""
    if "raw" not in picture.layers:
        return picture

    rest = {name: values for name, values in picture.layers.items() if name != "raw"}
    return Picture(picture.layers["raw"], rest, picture.reduced, picture.notes)


def delivered(picture: Picture, size: tuple[int, int]) -> Picture:
    """A picture as it is delivered, where it was rendered at another `output.scale`: a smaller one
    is enlarged by cubic interpolation (Keys 1981), of a larger one each pixel is the mean of those
    that it covers. The same picture where it has that width and height. Of its layers only the
    halves are kept, and whether there is a raw one."""
    if (picture.width, picture.height) == size:
        return picture

    smaller = picture.width < size[0]
    kind = Image.Resampling.BICUBIC if smaller else Image.Resampling.BOX

    def scaled(pixels: np.ndarray) -> np.ndarray:
        planes = (
            np.asarray(Image.fromarray(np.ascontiguousarray(pixels[..., k])).resize(size, kind))
            for k in range(3)
        )
        return np.maximum(np.stack(list(planes), -1), 0)

    kept: dict[str, np.ndarray] = {
        name: scaled(picture.layers[name])
        for name in ("half_a", "half_b", "raw")
        if name in picture.layers
    }
    return Picture(scaled(picture.beauty), kept)


def check_comparable(
    picture: Picture, path: Path, reference: Picture, reference_path: Path
) -> None:
    """Raise PictureError unless both pictures have one size and only finite values."""
    if picture.beauty.shape != reference.beauty.shape:
        raise PictureError(
            f"{path} is {picture.width}x{picture.height}, {reference_path} is "
            f"{reference.width}x{reference.height}; render both at one size"
        )

    for one, name in ((picture, path), (reference, reference_path)):
        bad = int((~np.isfinite(one.beauty)).sum())
        if bad:
            raise PictureError(
                f"{name}: {bad} values are not finite numbers; render the picture again"
            )

"""Environments: one colour, or a picture of the whole sphere (EXR, or HDR with shared
exponents)."""

from pathlib import Path

import numpy as np

from swift_sample.core import budget
from swift_sample.core.errors import PictureError, SceneError, UsageError, one_line
from swift_sample.core.picture.exr import read_channels
from swift_sample.core.scene.digests import digest_of
from swift_sample.core.scene.model import Environment

MAX_RADIANCE = 1e6
ROWS_AT_ONCE = 256


def constant_environment(colour: tuple[float, float, float]) -> Environment:
    """The same radiance from everywhere."""
    return Environment(np.array([[colour]], np.float32))


def parse_environment(text: str) -> Environment:
    """An environment from `r,g,b`, each a finite number not below 0, or from a picture's path.

    Raises UsageError for unusable numbers and SceneError for unreadable pictures.
    """
    if Path(text).suffix.lower() in (".exr", ".hdr"):
        return read_environment(Path(text))

    try:
        red, green, blue = (float(part) for part in text.split(","))
    except ValueError:
        raise UsageError(
            f"environment={text}: expected three numbers r,g,b, or an .exr or .hdr picture"
        ) from None

    if not all(np.isfinite(v) and 0 <= v <= MAX_RADIANCE for v in (red, green, blue)):
        raise UsageError(f"environment={text}: expected numbers from 0 to {MAX_RADIANCE:.0f}")

    return constant_environment((red, green, blue))


def environment_fingerprint(text: str) -> str:
    """Changes whenever the environment does: a digest of its numbers or of the picture's
    contents."""
    path = Path(text)
    return (digest_of([path]) if path.is_file() else digest_of([], text.encode()))[:12]


def read_environment(path: Path, strength: float = 1.0, rotation: float = 0.0) -> Environment:
    """A picture of the sky, its radiance times `strength`; `rotation` in degrees around +Y. Raises
    SceneError."""
    if not path.is_file():
        raise SceneError(
            f"{path}: no such environment picture; give an .exr or .hdr file, or r,g,b"
        )

    words = budget.over(path.stat().st_size, budget.FILE_BYTES, "bytes")
    if words:
        raise SceneError(f"{path}: {words}; save a smaller picture")

    try:
        pixels = _read_hdr(path.read_bytes()) if path.suffix.lower() == ".hdr" else _read_exr(path)
    except PictureError as error:
        raise SceneError(str(error)) from error
    except (OSError, ValueError, IndexError) as error:
        raise SceneError(
            f"{path}: not a readable environment picture ({one_line(error)}); save it again"
        ) from error

    for row in range(0, len(pixels), ROWS_AT_ONCE):
        rows = pixels[row : row + ROWS_AT_ONCE]
        rows[~(rows > 0) | ~np.isfinite(rows)] = 0
        np.minimum(rows * np.float32(strength), np.float32(MAX_RADIANCE), out=rows)

    return Environment(pixels, np.radians(rotation))


def _read_exr(path: Path) -> np.ndarray:
    """float32[h, w, 3]"""
    channels, _, _ = read_channels(path, budget.SKY_PIXELS)
    missing = [c for c in "RGB" if c not in channels]
    if missing:
        raise ValueError(f"it has no channel {missing[0]}")

    return np.stack([channels[c].astype(np.float32) for c in "RGB"], axis=-1)


def _read_hdr(data: bytes) -> np.ndarray:
    """Radiance pictures with a shared exponent, plain or with runs (Ward 1991, "Real Pixels",
    Graphics Gems II)."""
    header, _, rest = data.partition(b"\n\n")
    if not header.startswith((b"#?RADIANCE", b"#?RGBE")) or b"32-bit_rle_xyze" in header:
        raise ValueError("it is not an RGB picture with shared exponents")

    size, _, body = rest.partition(b"\n")
    order = size.split()
    if len(order) != 4 or order[0] != b"-Y" or order[2] != b"+X":
        raise ValueError("its rows are in an unusual order")

    height, width = int(order[1]), int(order[3])
    words = budget.over(width * height, budget.SKY_PIXELS, "pixels") or budget.over_memory(
        20 * width * height
    )
    if words:
        raise ValueError(f"it {words}")
    if not (width > 0 and height > 0 and width * height <= 64 * len(body) + 64):
        raise ValueError("it is cut off")

    codes = np.frombuffer(body, np.uint8)
    if (
        len(codes) >= 4
        and codes[0] == 2
        and codes[1] == 2
        and codes[2] < 128
        and 8 <= width < 32768
    ):
        rgbe = _runs(body, width, height)
    else:
        if len(codes) < width * height * 4:
            raise ValueError("it is cut off")
        rgbe = codes[: width * height * 4].reshape(height, width, 4)

    scales = np.exp2(np.arange(256, dtype=np.float32) - 136)
    scales[0] = 0
    pixels = np.empty((height, width, 3), np.float32)

    for row in range(0, height, ROWS_AT_ONCE):
        rows = rgbe[row : row + ROWS_AT_ONCE]
        pixels[row : row + ROWS_AT_ONCE] = (rows[..., :3] + np.float32(0.5)) * scales[rows[..., 3:]]

    return pixels


def _runs(body: bytes, width: int, height: int) -> np.ndarray:
    rgbe = np.zeros((height, 4, width), np.uint8)
    place = 0

    for row in range(height):
        if (
            body[place] != 2
            or body[place + 1] != 2
            or (body[place + 2] << 8 | body[place + 3]) != width
        ):
            raise ValueError(f"row {row} is damaged")

        place += 4
        for channel in range(4):
            filled = 0
            while filled < width:
                count = body[place]
                place += 1

                if count > 128:
                    count -= 128
                    rgbe[row, channel, filled : filled + count] = body[place]
                    place += 1
                else:
                    rgbe[row, channel, filled : filled + count] = np.frombuffer(
                        body, np.uint8, count, place
                    )
                    place += count

                filled += count
                if count == 0 or filled > width:
                    raise ValueError(f"row {row} is damaged")

    return rgbe.transpose(0, 2, 1)

"""Multi-layer EXR: the finished picture, its layers, and the record of its render in the header.

Beauty stands in R, G, B, linear with Rec. 709 primaries; layers as `name.R`, `name.G`, `name.B`, or
just `name` for single values. Files are written beside their target, synced and renamed, so a
picture is whole or absent.
"""

import os
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR

from swift_sample.core import budget
from swift_sample.core.errors import FullDiskError, PictureError, one_line
from swift_sample.core.files import is_full, written_whole
from swift_sample.core.log import printing_to_log
from swift_sample.core.picture.picture import Picture

MAGIC = b"\x76\x2f\x31\x01"
"""Every EXR file begins so."""
RECORD_ATTRIBUTE = "swiftSample"
"""Header attribute that holds the render's JSON."""

RECORD_SEARCHED = 1 << 20
"""The record stands within so many bytes of a file's start."""
REDUCED_PART = "reduced"
"""The second part, where there is one: records at a lower resolution (see Picture)."""

_HALF_LAYERS = {"albedo", "normal"}
"""Layers kept with 16 bits: they guide, they are not measured."""


def write_exr(
    path: Path,
    picture: Picture,
    layers: tuple[str, ...] | None = None,
    compression: object = OpenEXR.ZIP_COMPRESSION,
) -> int:
    """Write a picture and return its size in bytes; `layers` limits which ones are kept.

    Raises PictureError where the file cannot be written.
    """
    channels: dict[str, np.ndarray] = _channels_of("", picture.beauty, np.float32)
    for name, values in picture.layers.items():
        if layers is None or name in layers:
            channels |= _channels_of(
                name, values, np.float16 if name in _HALF_LAYERS else np.float32
            )

    header = {"compression": compression, "type": OpenEXR.scanlineimage}
    header |= {key: text for key, text in picture.notes.items() if key == RECORD_ATTRIBUTE}

    try:
        with (
            written_whole(path) as temporary,
            OpenEXR.File(_parts_of(header, channels, picture.reduced)) as file,
        ):
            file.write(str(temporary))
        return path.stat().st_size
    except (OSError, RuntimeError, ValueError) as error:
        if is_full(path, error):
            raise FullDiskError(
                f"{path}: the picture cannot be written, the disk is full; make room on it"
            ) from error
        raise PictureError(
            f"{path}: the picture cannot be written ({one_line(error)}); check its permissions"
        ) from error


def rewrite_record(path: Path, text: str) -> bool:
    """Put another record in the place of the one in a written picture's header, as far as there is
    room for it: what is known only once the file is written. Returns whether it fitted. Raises
    OSError."""
    with open(path, "r+b") as file:
        start = file.read(RECORD_SEARCHED)
        at = start.find(f"{RECORD_ATTRIBUTE}\0string\0".encode())
        if at < 0:
            return False

        at += len(RECORD_ATTRIBUTE) + len("string") + 2
        room = int.from_bytes(start[at : at + 4], "little")
        data = text.encode()

        if len(data) > room:
            return False

        file.seek(at + 4)
        file.write(data.ljust(room))
        file.flush()
        os.fsync(file.fileno())

    return True


def read_record(path: Path) -> str:
    """The record in a picture's header, without its pixels. Raises PictureError where there is none
    to be read."""
    try:
        with OpenEXR.File(str(path), separate_channels=True, header_only=True) as file:
            record = file.header().get(RECORD_ATTRIBUTE)
    except Exception as error:  # the reader raises whatever its C++ side throws
        raise PictureError(f"{path}: not a readable EXR picture ({one_line(error)})") from error

    if not isinstance(record, str):
        raise PictureError(f"{path}: its header has no record of a render")

    return record.rstrip()


def size_in_header(path: Path) -> tuple[int, int]:
    """Width and height, without the pixels. Raises PictureError."""
    try:
        with OpenEXR.File(str(path), separate_channels=True, header_only=True) as file:
            (left, top), (right, bottom) = file.header()["dataWindow"]
    except Exception as error:  # the reader raises whatever its C++ side throws
        raise PictureError(f"{path}: not a readable EXR picture ({one_line(error)})") from error

    return int(right - left + 1), int(bottom - top + 1)


def read_exr(path: Path) -> Picture:
    """Read a picture with all layers it has.

    Raises PictureError where the file is missing, damaged, too large, or has no R, G and B.
    """
    if not path.is_file():
        raise PictureError(f"{path}: no such picture; check the name")

    channels, reduced, record = read_channels(path, budget.PICTURE_PIXELS)
    if not {"R", "G", "B"} <= channels.keys():
        raise PictureError(f"{path}: has no channels R, G and B; only colour pictures can be read")

    beauty = _stack(channels, "")
    notes = {RECORD_ATTRIBUTE: record} if isinstance(record, str) else {}
    return Picture(beauty, _layers_of(channels), _layers_of(reduced), notes)


def _fault(path: Path, error: Exception) -> str:
    """What is wrong with a file that the reader gave up on; of one that is cut short it only says
    what it missed last."""
    with suppress(OSError), path.open("rb") as file:
        if file.read(len(MAGIC)) == MAGIC:
            return "truncated or damaged"

    return f"not a readable EXR picture ({one_line(error)})"


def read_channels(
    path: Path, most_pixels: int
) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray], object]:
    """The channels of a picture's first part, of its reduced part, and the record in its header.

    Raises PictureError where the file is damaged, has more than `most_pixels`, or channels of
    several sizes.
    """
    try:
        with OpenEXR.File(str(path), separate_channels=True, header_only=True) as file:
            width, height = _size_of(file.header())
            _check_budget(path, [part.header for part in file.parts], most_pixels)

        with printing_to_log("OpenEXR"), OpenEXR.File(str(path), separate_channels=True) as file:
            channels = {name: np.array(channel.pixels) for name, channel in file.channels().items()}
            # The header empties itself when the file closes.
            record = file.header().get(RECORD_ATTRIBUTE)

            reduced = {
                name: np.array(channel.pixels)
                for part in range(1, len(file.parts))
                if file.parts[part].name() == REDUCED_PART
                for name, channel in file.channels(part).items()
            }
    except PictureError:
        raise
    except Exception as error:  # the reader raises whatever its C++ side throws
        raise PictureError(f"{path}: {_fault(path, error)}; render or copy it again") from error

    if any(pixels.shape != (height, width) for pixels in channels.values()):
        raise PictureError(f"{path}: its channels differ in size; render or copy it again")

    return channels, reduced, record


def _size_of(header: dict[str, Any]) -> tuple[int, int]:
    """Width and height of a part."""
    low, high = header["dataWindow"]
    return int(high[0]) - int(low[0]) + 1, int(high[1]) - int(low[1]) + 1


def _check_budget(path: Path, headers: list[dict[str, Any]], most_pixels: int) -> None:
    """What the headers ask for, before anything is made for it. Raises PictureError."""
    values = 0
    for header in headers:
        (width, height), channels = _size_of(header), len(header["channels"])
        if not (0 < width <= budget.SIDE_PIXELS and 0 < height <= budget.SIDE_PIXELS):
            raise PictureError(
                f"{path}: {width}x{height} pixels are more than can be read; use a smaller picture"
            )
        words = budget.over(width * height, most_pixels, "pixels")
        if words:
            raise PictureError(f"{path}: {words}; use a smaller picture")
        values += width * height * channels

    words = budget.over(
        values, budget.PICTURE_VALUES, "values in all its channels"
    ) or budget.over_memory(8 * values)
    if words:
        raise PictureError(f"{path}: {words}; save it smaller, or without some of its layers")


def _layers_of(channels: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    layers = {}
    for name in channels:
        prefix, _, last = name.rpartition(".")
        if last == "R" and prefix and f"{prefix}.G" in channels and f"{prefix}.B" in channels:
            layers[prefix] = _stack(channels, prefix + ".")
        elif last not in "RGBA" or not name:
            layers[name] = channels[name].astype(np.float32)

    return layers


def _parts_of(
    header: dict[str, object], channels: dict[str, np.ndarray], reduced: dict[str, np.ndarray]
) -> list[OpenEXR.Part]:
    if not reduced:
        return [OpenEXR.Part(header, channels, "picture")]

    # All parts of a file share the display window.
    height, width = channels["R"].shape
    shared = {"displayWindow": (np.zeros(2, np.int32), np.array([width - 1, height - 1], np.int32))}
    planes: dict[str, np.ndarray] = {}
    for name, values in reduced.items():
        planes |= _channels_of(name, values, np.float32)

    return [
        OpenEXR.Part(header | shared, channels, "picture"),
        OpenEXR.Part(
            {key: header[key] for key in ("compression", "type")} | shared, planes, REDUCED_PART
        ),
    ]


def _channels_of(name: str, values: np.ndarray, dtype: type) -> dict[str, np.ndarray]:
    values = np.clip(values, -65504, 65504) if dtype is np.float16 else values
    if values.ndim == 2:
        return {name: np.ascontiguousarray(values, dtype)}

    prefix = f"{name}." if name else ""
    return {
        prefix + channel: np.ascontiguousarray(values[..., k], dtype)
        for k, channel in enumerate("RGB")
    }


def _stack(channels: dict[str, np.ndarray], prefix: str) -> np.ndarray:
    return np.stack([channels[prefix + c].astype(np.float32) for c in "RGB"], axis=-1)

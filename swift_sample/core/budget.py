"""What is opened at most: one place for every bound on files of unknown origin. Each is checked
from what a file says of itself, before anything is made for it, and what is refused is told with
what would fit and how to raise it.
"""

import math
import os

import psutil

MEBIBYTE = 1 << 20
GIBIBYTE = 1 << 30

RAISED_BY = "SWIFT_SAMPLE_BUDGET"
"""Environment variable: a number that every bound here is multiplied by."""


def _factor() -> float:
    try:
        factor = float(os.environ.get(RAISED_BY, "1"))
    except ValueError:
        return 1.0

    return factor if 0 < factor < 1e6 else 1.0


FACTOR = _factor()


def _bound(most: int) -> int:
    return int(most * FACTOR)


FILE_BYTES = _bound(1 << 31)
"""A scene, a part of one, or a picture."""
RECORDING_BYTES = _bound(1 << 31)
"""All recordings of a study."""
TEXT_BYTES = _bound(1 << 20)
"""A plan, a preset, a description of a renderer or a device: the most values that a plan allows
take some 30,000."""
NESTED = 16
"""Tables and arrays in such a file that stand in one another."""
DOCUMENT_BYTES = _bound(1 << 27)
"""The JSON of a scene, with what is embedded in it."""
DOCUMENT_VALUES = _bound(4_000_000)
"""Values in the JSON of a scene."""
NODES = _bound(100_000)
"""Nodes that a scene shows."""
MESHES = _bound(100_000)
"""Meshes that a scene shows, every instance counted."""
TRIANGLES = _bound(50_000_000)
ACCESSOR_BYTES = _bound(1 << 30)
IMPLIED_BYTES = _bound(1 << 24)
"""Of all accessors together that have no data and stand for zeros."""
TEXTURE_PIXELS = _bound(1 << 26)
"""8192 by 8192."""
ALL_TEXTURE_PIXELS = _bound(1 << 28)
SKY_PIXELS = _bound(1 << 27)
"""16384 by 8192."""
SIDE_PIXELS = 32768
PICTURE_PIXELS = _bound(1 << 25)
"""7680 by 4320."""
PICTURE_VALUES = _bound(1 << 30)
"""Of all parts and channels: 32 for each pixel of the largest picture; those that a study keeps
have fewer."""
LOG_ENTRIES = _bound(400_000)
"""Of a study: five times those of the largest plan with a dozen runs for each trial."""
LOG_INSTRUCTIONS = _bound(3_000_000_000)
"""Of SQLite's virtual machine for one question; the largest study takes a hundredth."""


def over(value: int, most: int, what: str) -> str:
    """Why something is not read, as it goes on after its name; "" where it is within its bound."""
    if value <= most:
        return ""
    return (
        f"has {value:,} {what}, at most {most:,} fit "
        f"({RAISED_BY}={math.ceil(FACTOR * value / most)} raises that)"
    )


def over_memory(needed: int) -> str:
    """Why something is not read that takes so many bytes of memory; "" where they are free."""
    free = psutil.virtual_memory().available
    if needed <= free:
        return ""

    return f"takes about {needed / 1e9:.1f} GB of memory, and {free / 1e9:.1f} GB are free"

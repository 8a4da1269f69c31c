"""A layer of a picture at every resolution that a screen may ask for, and its display pixels by
table.

Light is kept as half floats (IEEE 754 binary16): there are 65,536 of them, so that exposure and
tone curve are one look-up a value.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from swift_sample.core.picture.view import View

LARGEST_HALF = 65504.0
LEAST_SIDE = 64
"""Levels end where the longer side is no larger."""


@dataclass(frozen=True)
class Pyramid:
    """`levels[k]` is the layer at 1 / 2^k of its resolution, each pixel the mean of up to four:
    float16[h, w, 3] of light and other triples, float32[h, w] of single values."""

    levels: tuple[np.ndarray, ...]

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the layer itself."""
        height, width = self.levels[0].shape[:2]
        return int(width), int(height)

    @property
    def bytes(self) -> int:
        return sum(level.nbytes for level in self.levels)

    def level_for(self, zoom: float) -> int:
        """The coarsest level that has a pixel for each of the screen's, at `zoom` screen pixels for
        one of the layer."""
        return (
            max(0, min(len(self.levels) - 1, int(np.floor(np.log2(1 / zoom) + 1e-6))))
            if zoom < 1
            else 0
        )


def pyramid_of(values: np.ndarray, names: bool = False) -> Pyramid:
    """The pyramid of float32[h, w, 3] or float32[h, w]; what is no number counts as 0. Of `names`,
    whose mean would mean nothing, every level takes one of four."""
    level = np.nan_to_num(np.asarray(values, np.float32), posinf=LARGEST_HALF, neginf=-LARGEST_HALF)
    kept = []

    while True:
        kept.append(_kept(level))
        if max(level.shape[:2]) <= LEAST_SIDE:
            return Pyramid(tuple(kept))
        level = level[::2, ::2] if names else _halved(level)


def _kept(level: np.ndarray) -> np.ndarray:
    if level.ndim == 2:
        return np.ascontiguousarray(level)
    return np.clip(level, -LARGEST_HALF, LARGEST_HALF).astype(np.float16)


def _halved(level: np.ndarray) -> np.ndarray:
    """Means over two by two pixels; the last row or column of an odd number counts twice."""
    height, width = level.shape[:2]
    pad = [(0, height % 2), (0, width % 2), *([(0, 0)] * (level.ndim - 2))]
    even = np.pad(level, pad, mode="edge") if height % 2 or width % 2 else level
    total: np.ndarray = even[0::2, 0::2] + even[1::2, 0::2] + even[0::2, 1::2] + even[1::2, 1::2]

    return total * np.float32(0.25)


@lru_cache(32)
def _levels(view: View) -> np.ndarray:
    every = np.arange(65536, dtype=np.uint16).view(np.float16).astype(np.float32)
    every = np.nan_to_num(every, nan=0.0, posinf=LARGEST_HALF, neginf=-LARGEST_HALF)
    table = view.levels(every)
    table.setflags(write=False)

    return table


@lru_cache(32)
def _pixels(view: View) -> np.ndarray:
    table = (_levels(view) + np.float32(0.5)).astype(np.uint8)
    table.setflags(write=False)
    return table


def levels_of(light: np.ndarray, view: View) -> np.ndarray:
    """Display levels from 0 to 255 of half floats of any shape, not rounded; float32."""
    return np.take(_levels(view), light.view(np.uint16))


def pixels_of(light: np.ndarray, view: View) -> np.ndarray:
    """Display pixels of half floats of any shape; uint8."""
    return np.take(_pixels(view), light.view(np.uint16))

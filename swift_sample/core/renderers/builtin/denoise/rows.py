"""What the denoisers do to rows of pixels: short loops over contiguous float32 that compilers turn
into vector code.

Planes are padded by copies of their edges, so that a shifted row is a slice.
"""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numba import int32, uint32

from swift_sample.core.kernels.bits import float_of
from swift_sample.core.kernels.compiling import row_kernel
from swift_sample.core.kernels.vector import ZERO, f32

BAND_ROWS = 16
"""Rows that a thread takes at a time."""


def planes_of(picture: np.ndarray, pad: int) -> np.ndarray:
    """float32[c, h + 2 pad, w + 2 pad] from [h, w, c]."""
    height, width, channels = picture.shape
    planes = np.empty((channels, height + 2 * pad, width + 2 * pad), np.float32)
    for channel in range(channels):
        planes[channel, pad : pad + height, pad : pad + width] = picture[..., channel]

    repad(planes, pad)
    return planes


def picture_of(planes: np.ndarray, pad: int) -> np.ndarray:
    """float32[h, w, c] from padded planes."""
    height, width = planes.shape[1] - 2 * pad, planes.shape[2] - 2 * pad
    return np.ascontiguousarray(
        np.moveaxis(planes[:, pad : pad + height, pad : pad + width], 0, -1)
    )


def repad(planes: np.ndarray, pad: int) -> None:
    """Copy the edges of the inner part outwards again, in place; the last two axes are rows and
    columns."""
    planes[..., :pad] = planes[..., pad : pad + 1]
    planes[..., -pad:] = planes[..., -pad - 1 : -pad]
    planes[..., :pad, :] = planes[..., pad : pad + 1, :]
    planes[..., -pad:, :] = planes[..., -pad - 1 : -pad, :]


def in_bands(work: Callable[[int, int], None], height: int, threads: int) -> None:
    """Call `work(top, bottom)` for all bands of rows, on so many threads."""
    bands = [(top, min(top + BAND_ROWS, height)) for top in range(0, height, BAND_ROWS)]
    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(lambda band: work(*band), bands))


@row_kernel
def clear(row):
    for x in range(row.shape[0]):
        row[x] = ZERO


@row_kernel
def add_squared(total, a, b):
    """total += (a - b)^2."""
    for x in range(total.shape[0]):
        difference = a[x] - b[x]
        total[x] += difference * difference


@row_kernel
def set_scaled_square(total, a, b, scale):
    """total = (a - b)^2 scale."""
    for x in range(total.shape[0]):
        difference = a[x] - b[x]
        total[x] = difference * difference * scale[x]


@row_kernel
def to_weights(row, factor):
    """factor * exp(-row), in place; within 6 % (Schraudolph 1999, "A Fast, Compact Approximation of
    the Exponential").

    Never below 2^-30, so that its square times a small variance is still a normal number: subnormal
    ones would slow everything down.
    """
    for x in range(row.shape[0]):
        place = max(f32(97 * 8388608), (f32(126.9563) - row[x] * f32(1.442695)) * f32(8388608))
        row[x] = factor * float_of(uint32(int32(place)))


@row_kernel
def add_product(total, a, b):
    """total += a b."""
    for x in range(total.shape[0]):
        total[x] += a[x] * b[x]


@row_kernel
def add_row(total, a):
    for x in range(total.shape[0]):
        total[x] += a[x]


@row_kernel
def set_quotient(result, a, b):
    """result = a / b."""
    for x in range(result.shape[0]):
        result[x] = a[x] / b[x]


@row_kernel
def keep_smaller(a, b):
    """a = min(a, b)."""
    for x in range(a.shape[0]):
        a[x] = min(a[x], b[x])


@row_kernel
def set_five_sum(result, a):
    """result[x] = the sum of a[x] to a[x + 4]."""
    for x in range(result.shape[0]):
        result[x] = a[x] + a[x + 1] + a[x + 2] + a[x + 3] + a[x + 4]

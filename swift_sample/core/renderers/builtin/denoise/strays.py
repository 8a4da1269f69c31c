"""Stray pixels before denoising: single bright pixels, which every filter would take for detail,
are spread around.

A pixel of one half of the samples that outshines everything around it in the other half is chance:
the halves share no sample, and what is there shows in both. Crossing the halves is as in Rousselle
et al. 2012, "Adaptive Rendering with Non-Local Means Filtering", section 5. What is over the bound
is light all the same, so it goes to the pixels around instead of away.
"""

import numpy as np
from scipy.ndimage import gaussian_filter

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import HALF, ONE, ZERO, f32
from swift_sample.core.picture.colour import LUMINANCE
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.rows import in_bands, repad
from swift_sample.core.renderers.builtin.film.film import pixels_by_cell
from swift_sample.core.renderers.builtin.lowlevel.records import CELL

BOUND = 1.5
"""So many times the brightest of the 3x3 pixels in the other half a pixel may be."""
SPREAD = 0.6
"""Light over the bound is summed in the cells of the records, and smoothed by a Gaussian of so many
of them."""


def spread_strays(picture: Picture, threads: int) -> Picture:
    """The picture with the strays of both halves, layers half_a and half_b, spread; its mean stays
    but at the edges. Does not depend on `threads`."""
    halves = [
        np.ascontiguousarray(picture.layers[name], np.float32) for name in ("half_a", "half_b")
    ]
    brightness = [_brightness(half) for half in halves]
    beauty = np.array(picture.beauty, np.float32, order="C")
    calm = [np.empty_like(half) for half in halves]
    height, width, _ = beauty.shape
    rows, columns = -(-height // CELL), -(-width // CELL)
    pixels = pixels_by_cell(height, width)[..., None].astype(np.float32)

    for half, other, kept in zip(halves, reversed(brightness), calm, strict=True):
        cells = np.zeros((rows, columns, 3), np.float32)
        # A band holds whole cells, so threads do not meet in one.
        in_bands(
            lambda *band, of=(half, other, kept, cells): _bound_rows(*of, *band), height, threads
        )
        cells = gaussian_filter(cells / pixels, (SPREAD, SPREAD, 0), mode="nearest")
        in_bands(
            lambda *band, of=(half, cells, kept, beauty): _add_rows(*of, *band), height, threads
        )

    return Picture(
        beauty,
        {**picture.layers, "half_a": calm[0], "half_b": calm[1]},
        picture.reduced,
        picture.notes,
    )


def _brightness(half: np.ndarray) -> np.ndarray:
    """float32[h + 2, w + 2]: luminance with its edges copied outwards."""
    height, width, _ = half.shape
    padded = np.empty((height + 2, width + 2), np.float32)
    padded[1:-1, 1:-1] = half @ np.asarray(LUMINANCE, np.float32)
    repad(padded[None], 1)

    return padded


@kernel
def _bound_rows(half, other, kept, cells, top, bottom):
    """Keep what is under the bound of rows [top, bottom), and sum what is over it in cells. `other`
    is the brightness of the other half."""
    for y in range(top, bottom):
        for x in range(half.shape[1]):
            bound = ZERO
            for j in range(3):
                for i in range(3):
                    bound = max(bound, other[y + j, x + i])

            bound *= f32(BOUND)
            red = half[y, x, 0]
            green = half[y, x, 1]
            blue = half[y, x, 2]
            brightness = (
                f32(LUMINANCE[0]) * red + f32(LUMINANCE[1]) * green + f32(LUMINANCE[2]) * blue
            )
            share = ONE

            if brightness > bound:
                share = bound / brightness
                cell = cells[y // CELL, x // CELL]
                cell[0] += red * (ONE - share)
                cell[1] += green * (ONE - share)
                cell[2] += blue * (ONE - share)

            kept[y, x, 0] = red * share
            kept[y, x, 1] = green * share
            kept[y, x, 2] = blue * share


@kernel
def _add_rows(half, cells, kept, beauty, top, bottom):
    """Add what the cells hold to rows [top, bottom), interpolated between their middles, and what
    that changes to the beauty."""
    rows, columns = cells.shape[0], cells.shape[1]
    for y in range(top, bottom):
        v = min(max((f32(y) + HALF) / f32(CELL) - HALF, ZERO), f32(rows - 1))
        j = min(int(v), max(rows - 2, 0))
        down = v - f32(j)
        below = min(j + 1, rows - 1)

        for x in range(kept.shape[1]):
            u = min(max((f32(x) + HALF) / f32(CELL) - HALF, ZERO), f32(columns - 1))
            i = min(int(u), max(columns - 2, 0))
            across = u - f32(i)
            beside = min(i + 1, columns - 1)

            for c in range(3):
                above = cells[j, i, c] + (cells[j, beside, c] - cells[j, i, c]) * across
                under = cells[below, i, c] + (cells[below, beside, c] - cells[below, i, c]) * across
                kept[y, x, c] += above + (under - above) * down
                beauty[y, x, c] += (kept[y, x, c] - half[y, x, c]) * HALF

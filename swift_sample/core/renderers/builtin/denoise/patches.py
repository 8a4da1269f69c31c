"""Averages over pixels whose surroundings are alike: the core of non-local means, on padded planes.

Distances between patches of 5x5 pixels, less the grain that both have (Rousselle et al. 2012,
equation 3).
"""

from typing import NamedTuple

import numpy as np

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import ONE, ZERO, f32
from swift_sample.core.renderers.builtin.denoise.rows import (
    add_product,
    add_row,
    add_squared,
    clear,
    in_bands,
    keep_smaller,
    picture_of,
    planes_of,
    set_five_sum,
    to_weights,
)

SEARCH = 6
"""Radius of the largest window that similar patches are looked for in."""
PATCH = 2
PAD = SEARCH + PATCH

STRICTNESS = 0.6
"""k: how many standard deviations patches may differ by."""

GUIDE_SEARCH = 2
"""Radius of the window where guides are cleaned."""


def denoise_by_itself(values: np.ndarray, variance: np.ndarray, threads: int) -> np.ndarray:
    """Planes [h, w, c] of known variance averaged by their own likeness; for guides."""
    parts = []
    for first in range(0, values.shape[2], 3):
        part = values[..., first : first + 3]
        planes = planes_of(part, PAD)
        alike = Likeness(planes, planes_of(variance[..., first : first + 3], PAD), planes[:0])
        parts.append(
            picture_of(average_by_likeness(alike, [(alike, planes)], GUIDE_SEARCH, threads), PAD)
        )

    return np.dstack(parts)


class Likeness(NamedTuple):
    """What patches are compared by, as padded planes."""

    guide: np.ndarray
    """float32[c, h, w]"""
    variance: np.ndarray
    """float32[c, h, w] of `guide`"""
    features: np.ndarray
    """float32[f, h, w] whose differences lower the weights; f may be 0"""


def average_by_likeness(
    here: Likeness, sources: list[tuple[Likeness, np.ndarray]], search: int, threads: int
) -> np.ndarray:
    """The values of all sources averaged by how like their patches are to those `here`: padded
    planes, float32[c, h, w].

    The sources are the picture itself, or several frames of it.
    """
    result = np.empty_like(sources[0][1])
    height, width = result.shape[1] - 2 * PAD, result.shape[2] - 2 * PAD

    def smooth_band(top: int, bottom: int) -> None:
        rows = bottom - top
        sums = np.zeros((1 + result.shape[0], rows, width), np.float32)
        flat = np.empty((rows + 2 * PATCH, width), np.float32)
        scratch = np.empty((2, width + 2 * PATCH), np.float32)
        for there, values in sources:
            _add_rows(*here, *there, values, search, top, bottom, sums, flat, scratch)

        inner = np.s_[:, PAD + top : PAD + bottom, PAD : PAD + width]
        np.divide(sums[1:], sums[0], out=result[inner])

    in_bands(smooth_band, height, threads)
    return result


@kernel
def _add_distance(total, p, q, variance_p, variance_q):
    """Squared difference less the grain that both have, in units of that grain."""
    for x in range(total.shape[0]):
        difference = p[x] - q[x]
        grain = variance_p[x] + min(variance_p[x], variance_q[x])
        total[x] += (difference * difference - grain) / (
            f32(1e-8) + f32(STRICTNESS**2) * (variance_p[x] + variance_q[x])
        )


@kernel
def _add_rows(
    guide,
    variance,
    features,
    other,
    other_variance,
    other_features,
    values,
    search,
    top,
    bottom,
    sums,
    flat,
    scratch,
):
    """Add the weights, and the values by their weights, of rows [top, bottom) of the inner part.

    sums: float32[1 + c, rows, w]; flat: float32[rows + 4, w]; scratch: float32[2, w + 4].
    """
    channels = values.shape[0]
    width = flat.shape[1]
    rows = bottom - top
    wide = width + 2 * PATCH
    share = f32(1) / f32(channels * (2 * PATCH + 1) ** 2)

    for j in range(-search, search + 1):
        for i in range(-search, search + 1):
            for k in range(rows + 2 * PATCH):
                y, x = top + k - PATCH + PAD, PAD - PATCH
                clear(scratch[0])

                for c in range(channels):
                    _add_distance(
                        scratch[0],
                        guide[c, y, x : x + wide],
                        other[c, y + j, x + i : x + i + wide],
                        variance[c, y, x : x + wide],
                        other_variance[c, y + j, x + i : x + i + wide],
                    )

                set_five_sum(flat[k], scratch[0])

            for k in range(rows):
                y = top + k + PAD
                weight = scratch[0, :width]
                guided = scratch[1, :width]

                for x in range(width):
                    total = (
                        flat[k, x]
                        + flat[k + 1, x]
                        + flat[k + 2, x]
                        + flat[k + 3, x]
                        + flat[k + 4, x]
                    )
                    weight[x] = max(ZERO, total * share)

                to_weights(weight, ONE)
                if features.shape[0]:
                    clear(guided)
                    for c in range(features.shape[0]):
                        add_squared(
                            guided,
                            features[c, y, PAD : PAD + width],
                            other_features[c, y + j, PAD + i : PAD + i + width],
                        )

                    to_weights(guided, ONE)
                    keep_smaller(weight, guided)

                add_row(sums[0, k], weight)
                for c in range(channels):
                    add_product(sums[1 + c, k], weight, values[c, y + j, PAD + i : PAD + i + width])

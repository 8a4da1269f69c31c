"""Gaussian blurs of planes and pictures; wide ones are done on a reduced plane."""

from functools import cache

import numpy as np

from swift_sample.core.measure.rows import blurred, enlarged, reduced

SIGMA_IN_STEPS = 8.0
"""Planes are reduced until a blur is only this many of their pixels wide."""
LEAST_REDUCED_SIDE = 8
REACH = 3.0
"""Where a Gaussian is cut off, in sigmas."""


def blur(values: np.ndarray, sigma: float, reach: float = REACH) -> np.ndarray:
    """Gaussian smoothing of float32 [h, w] or each channel of [h, w, c]; edges are mirrored. Within
    a few percent for wide ones."""
    values = np.ascontiguousarray(values, np.float32)
    height, width, channels = (*values.shape, 1)[:3]
    step = min(
        int(sigma / SIGMA_IN_STEPS),
        *(max(1, side // LEAST_REDUCED_SIDE) for side in (height, width)),
    )
    rows = values.reshape(height, -1)

    if step < 2:
        return blurred(rows, channels, weights_of(sigma, reach)).reshape(values.shape)

    # Averaging over a step blurs by itself: a variance of 1/12 of the step squared.
    small = blurred(
        reduced(rows, channels, step),
        channels,
        weights_of(np.sqrt((sigma / step) ** 2 - 1 / 12), reach),
    )
    return enlarged(small, height, width, channels, step).reshape(values.shape)


@cache
def weights_of(sigma: float, reach: float) -> np.ndarray:
    """The middle and one side of a Gaussian, float32[r + 1]; both sides and the middle sum to 1."""
    places = np.arange(int(reach * sigma + 0.5) + 1)
    weights = np.exp(-0.5 * (places / sigma) ** 2)
    return (weights / (2 * weights.sum() - 1)).astype(np.float32)

"""Gaussian blurs of pictures; wide ones are done on a reduced plane."""

import numpy as np
from scipy.ndimage import gaussian_filter

SIGMA_IN_STEPS = 4.0
"""Planes are reduced until a blur is only this many of their pixels wide."""
LEAST_REDUCED_SIDE = 8


def blur(values: np.ndarray, sigma: float) -> np.ndarray:
    """Gaussian smoothing of [h, w] or each channel of [h, w, c]; edges are mirrored. Within a few percent for wide ones."""
    if values.ndim == 3:
        return np.stack([blur(values[..., k], sigma) for k in range(values.shape[2])], -1)
    step = min(int(sigma / SIGMA_IN_STEPS), *(max(1, side // LEAST_REDUCED_SIDE) for side in values.shape))
    if step < 2:
        return gaussian_filter(values, sigma, mode="reflect", truncate=3.0)
    height, width = values.shape
    padded = np.pad(values, ((0, -height % step), (0, -width % step)), mode="edge")
    means = padded.reshape(padded.shape[0] // step, step, -1, step).mean(axis=(1, 3))
    # Averaging over a step blurs by itself: a variance of 1/12 of the step squared.
    small = gaussian_filter(means, np.sqrt((sigma / step) ** 2 - 1 / 12), mode="reflect", truncate=3.0)
    return small.repeat(step, axis=0).repeat(step, axis=1)[:height, :width]

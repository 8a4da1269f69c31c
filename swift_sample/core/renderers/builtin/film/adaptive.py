"""Adaptive sampling: which pixels have had enough.

The threshold is the error that may be left in every place of the picture: the root mean square,
over a cell such as the worst place is told of (`measure/cells.py`), of the standard error of its
pixels, as a share of the display's range. That is the definition of grain (docs/measurement.md), so
the threshold predicts it. Within a cell the error is least for its samples where they go by the
deviation of each pixel's samples (Neyman 1934, "On the Two Different Aspects of the Representative
Method"): n = s S / t², with s the pixel's deviation, S the mean of s over the cell, and t the
threshold.

A pixel's error comes from the two independent halves of its samples, D being the view transform
without its factor of 255: the mean square of (D(A) - D(B)) / 2 over its 5x5 neighbourhood and its
channels, so that no pixel stops by luck.
"""

import numpy as np
from scipy.ndimage import uniform_filter

from swift_sample.core.measure.cells import cell_side
from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.film import FilmArrays, halves_of

NEIGHBOURHOOD = 5
AUTOMATIC_MINIMUM = 16
"""Fewest samples before a pixel may stop where `samples.min` is 0: eight in each half."""


def next_target(done: int, minimum: int, maximum: int) -> int:
    """How many samples pixels that go on shall have after the next round; even, so that halves stay
    equal."""
    if done == 0:
        return minimum

    grown = max(done + 8, done * 5 // 4)
    return min(maximum, grown + grown % 2)


def pixel_error(film: FilmArrays, view: View) -> np.ndarray:
    """The error of each pixel as a share of the display range, float32[h, w]."""
    half_a, half_b = halves_of(film)
    difference = (view.levels(half_a) - view.levels(half_b)) / np.float32(2 * LEVELS)
    squared = (difference * difference).mean(axis=2)
    smooth = uniform_filter(squared, NEIGHBOURHOOD, mode="reflect")

    return np.sqrt(np.maximum(smooth, 0)).astype(np.float32)


def samples_wanted(error: np.ndarray, samples: np.ndarray, threshold: float) -> np.ndarray:
    """The samples with which each pixel may stop, float64[h, w].

    error: float32[h, w], of `pixel_error`, with the samples, int32[h, w], taken so far; threshold:
    a share of the display's range.
    """
    deviation = error * np.sqrt(samples, dtype=np.float64)
    around = uniform_filter(deviation, round(cell_side(error.shape[0])), mode="reflect")
    wanted: np.ndarray = deviation * around / threshold**2

    return wanted

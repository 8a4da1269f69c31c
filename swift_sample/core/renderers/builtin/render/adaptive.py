"""Adaptive sampling: which pixels have had enough.

A pixel's error is the standard error of its mean in display terms, as a share of the display's range. It comes from
the two independent halves of the samples, D being the view transform without its factor of 255: the mean square of
(D(A) - D(B)) / 2 over the pixel's 5x5 neighbourhood and its channels, so that no pixel stops by luck. This is the
definition of grain for a single picture (docs/measurement.md), so the threshold predicts the grain.
"""

import numpy as np
from scipy.ndimage import uniform_filter

from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.render.film import FilmArrays, halves_of

NEIGHBOURHOOD = 5
LEAST_AUTOMATIC = 16
"""Fewest samples before a pixel may stop where `samples.min` is automatic: eight in each half."""


def automatic_minimum(samples_max: int) -> int:
    """What `samples.min = 0` becomes: the square root of the maximum, at least 16, at most the maximum."""
    return min(samples_max, max(LEAST_AUTOMATIC, round(samples_max**0.5)))


def next_target(done: int, minimum: int, maximum: int) -> int:
    """How many samples pixels that go on shall have after the next round; even, so that halves stay equal."""
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

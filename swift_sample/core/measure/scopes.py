"""Scopes: how brightness is distributed in a picture or a part of it, for telling light that is
missing from light that is merely dimmer. All take display levels from 0 to 255, any shape [h, w,
3], and work on their luminance.
"""

from dataclasses import dataclass

import numpy as np

from swift_sample.core.picture.colour import LEVELS, luminance

BINS = 64
COLUMNS = 128
BAND = (5.0, 50.0, 95.0)
"""Percentiles of a column that the waveform shows."""


@dataclass(frozen=True)
class Scopes:
    """`histogram`: float64[BINS], share of pixels by level, its sum is 1. `waveform`: float64[3,
    columns], BAND of levels in every column of the picture, or of as many neighbouring ones as make
    at most COLUMNS."""

    histogram: np.ndarray
    waveform: np.ndarray


def scopes_of(levels: np.ndarray) -> Scopes:
    """The scopes of display levels [h, w, 3], h and w at least 1."""
    light = luminance(levels)
    counts, _ = np.histogram(np.clip(light, 0, LEVELS), bins=BINS, range=(0, LEVELS))
    groups = np.array_split(light, min(COLUMNS, light.shape[1]), axis=1)
    waveform = np.stack([np.percentile(group, BAND) for group in groups], axis=1)

    return Scopes(counts / light.size, waveform)


def profile_of(row: np.ndarray) -> np.ndarray:
    """The luminance along one row of display levels [1, w, 3]; float64[w]."""
    profile: np.ndarray = luminance(row)[0]
    return profile

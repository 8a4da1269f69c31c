"""Image measures, each a small class with a common shape: maps over the picture, and a figure from their sums.

Because a figure depends only on sums over pixels, the same maps serve the whole picture, every watch area, and the
bootstrap over blocks of pixels that gives the interval (Kuensch 1989, "The Jackknife and the Bootstrap for General
Stationary Observations", for blocks). Adding a measure means one class and its place in MEASURES.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from scipy.ndimage import gaussian_filter

from swift_sample.core.compiling import allocating_kernel
from swift_sample.core.measure.blurring import blur
from swift_sample.core.measure.perceptual import colour_difference
from swift_sample.core.view import LEVELS, View

Maps = dict[str, np.ndarray]
Sums = Mapping[str, np.ndarray]
"""Name to float64[b]: the sum of a map in each of b resamplings; "pixels" is the number of pixels."""

SHIFT_SIGMA_SHARE = 0.02
"""Light shift looks at regions of this share of the picture's height (standard deviation of the smoothing)."""

STRAY_LEVELS = 24.0
STRAY_NEIGHBOURHOOD = 5

DETAIL_SIGMAS = (1.0, 2.0, 4.0)
"""Smoothing, in pixels, between the bands of the pyramid."""

STRUCTURE_LEVELS = 1.0
"""The reference has structure where its band stands out by this rms within a few pixels."""

GAIN_SIGMA = 8.0
LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)


def bands(levels: np.ndarray) -> list[np.ndarray]:
    """The three finest bands of luminance: an undecimated Laplacian pyramid (after Burt and Adelson 1983)."""
    current, found = levels @ LUMINANCE, []
    for sigma in DETAIL_SIGMAS:
        softer = blur(current, sigma)
        found.append(current - softer)
        current = softer
    return found


class Comparison:
    """A trial's pictures and the reference in display levels, with everything that several measures share.

    pictures: linear float32[h, w, 3] each, rendered with different seeds; halves: the two halves of a single
    undenoised picture, where there is only one; reference_halves: None where the reference has none.
    """

    def __init__(self, pictures: list[np.ndarray], reference: np.ndarray, view: View,
                 halves: tuple[np.ndarray, np.ndarray] | None = None,
                 reference_halves: tuple[np.ndarray, np.ndarray] | None = None) -> None:
        self.view = view
        self.count = len(pictures)
        self._linear = pictures
        self.levels = [view.levels(p) for p in pictures]
        self.reference = view.levels(reference)
        self.mean = self.levels[0]
        if self.count > 1:
            self.mean = view.levels(np.asarray(np.mean(pictures, axis=0, dtype=np.float32)))
        self.halves = tuple(view.levels(h) for h in halves) if halves is not None else None
        self.reference_halves = tuple(view.levels(h) for h in reference_halves) if reference_halves else None

    @property
    def shape(self) -> tuple[int, int]:
        return self.reference.shape[0], self.reference.shape[1]

    @property
    def sigma(self) -> float:
        """Smoothing of light shift in pixels."""
        return max(1.0, SHIFT_SIGMA_SHARE * self.shape[0])

    @cached_property
    def reference_error(self) -> np.ndarray | None:
        """Half the difference of the reference's halves: its own grain, pixel by pixel."""
        if self.reference_halves is None:
            return None
        return (self.reference_halves[0] - self.reference_halves[1]) / 2

    @cached_property
    def reference_floor(self) -> np.ndarray:
        """The reference's own mean square error, float32[h, w]; zero where it is unknown."""
        if self.reference_error is None:
            return np.zeros(self.shape, np.float32)
        return (self.reference_error**2).mean(axis=2)


class Measure(Protocol):
    """One kind of image error."""

    key: str
    label: str
    unit: str
    higher_is_better: bool

    def maps(self, pair: Comparison) -> Maps | None:
        """Maps over the picture, float[h, w]; None where the figure cannot be known from these pictures."""

    def figure(self, sums: Sums) -> np.ndarray:
        """The figure from summed maps, one for each resampling."""


class Grain:
    """Random error: the standard deviation over seeds of D(I), rms over pixels and channels."""

    key, label, unit, higher_is_better = "grain", "grain", "levels", False

    def maps(self, pair: Comparison) -> Maps | None:
        if pair.count > 1:
            return {"variance": np.var(pair.levels, axis=0, ddof=1).mean(axis=2)}
        if pair.halves is None:
            return None
        return {"variance": (((pair.halves[0] - pair.halves[1]) / 2) ** 2).mean(axis=2)}

    def figure(self, sums: Sums) -> np.ndarray:
        return np.sqrt(sums["variance"] / sums["pixels"])


class LightShift:
    """Light missing or added over larger regions: rms of the smoothed difference, without what noise explains."""

    key, label, unit, higher_is_better = "light_shift", "light shift", "levels", False

    def maps(self, pair: Comparison) -> Maps | None:
        difference = pair.mean - pair.reference
        squared = (blur(difference, pair.sigma) ** 2).mean(axis=2)
        return {"shift": squared - self._noise(pair), "signed": difference.mean(axis=2)}

    def _noise(self, pair: Comparison) -> np.ndarray:
        explained = np.zeros(pair.shape, np.float32)
        if pair.count > 1:
            softened = [blur(levels, pair.sigma) for levels in pair.levels]
            explained += np.var(softened, axis=0, ddof=1).mean(axis=2) / pair.count
        elif pair.halves is not None:
            explained += (blur((pair.halves[0] - pair.halves[1]) / 2, pair.sigma) ** 2).mean(axis=2)
        if pair.reference_error is not None:
            explained += (blur(pair.reference_error, pair.sigma) ** 2).mean(axis=2)
        return explained

    def figure(self, sums: Sums) -> np.ndarray:
        return np.sqrt(np.maximum(sums["shift"], 0) / sums["pixels"])


class DetailKept:
    """The share of the reference's fine structure that survives, in percent.

    Products of independent pictures carry no noise bias, so grain does not count as detail. Bands are divided by the
    local gain: a darker picture has not lost detail.
    """

    key, label, unit, higher_is_better = "detail_kept", "detail kept", "%", True

    def maps(self, pair: Comparison) -> Maps | None:
        first, second = pair.reference_halves or (pair.reference, pair.reference)
        softened = blur(pair.reference @ LUMINANCE, GAIN_SIGMA)
        gain = np.clip(blur(pair.mean @ LUMINANCE, GAIN_SIGMA) / np.maximum(softened, 0.5), 0.1, 10)
        found: Maps = {}
        for k, (m, r, a, b) in enumerate(zip(bands(pair.mean), bands(pair.reference), bands(first), bands(second),
                                             strict=True)):
            energy = a * b
            structure = blur(energy, 3.0) > STRUCTURE_LEVELS**2
            found[f"kept_{k}"] = np.where(structure, m / gain * r, 0)
            found[f"there_{k}"] = np.where(structure, energy, 0)
        return found

    def figure(self, sums: Sums) -> np.ndarray:
        shares = []
        for k in range(len(DETAIL_SIGMAS)):
            there = sums[f"there_{k}"]
            shares.append(np.where(there > 0, sums[f"kept_{k}"] / np.where(there > 0, there, 1), np.nan))
        known = ~np.isnan(shares)
        total = np.where(known, shares, 0).sum(axis=0)
        return 100 * np.where(known.any(axis=0), total / np.maximum(known.sum(axis=0), 1), np.nan)


@allocating_kernel
def stands_out(padded):  # type: ignore[no-untyped-def]
    """Pixels with any channel more than STRAY_LEVELS above the median of their neighbourhood, bool[h, w].

    padded: float32[h + 4, w + 4, 3]. A value stands that far above the median of 25 exactly if at least 13 of them
    lie that far below it, so nothing needs sorting.
    """
    reach = STRAY_NEIGHBOURHOOD // 2
    height, width = padded.shape[0] - 2 * reach, padded.shape[1] - 2 * reach
    found = np.zeros((height, width), np.bool_)
    for y in range(height):
        for x in range(width):
            for c in range(3):
                bar = padded[y + reach, x + reach, c] - np.float32(STRAY_LEVELS)
                if bar <= np.float32(0):
                    continue
                below = 0
                for j in range(STRAY_NEIGHBOURHOOD):
                    for i in range(STRAY_NEIGHBOURHOOD):
                        below += padded[y + j, x + i, c] < bar
                if below > STRAY_NEIGHBOURHOOD * STRAY_NEIGHBOURHOOD // 2:
                    found[y, x] = True
    return found


class StrayPixels:
    """Isolated bright pixels that the reference does not have, per million pixels.

    A pixel counts if it stands more than STRAY_LEVELS above the median of its 5x5 neighbourhood, the reference's does
    not, and it is brighter than the reference's by half as much; else edges of the scene that stand out by nearly that
    many levels would count as soon as a little grain lifts them over.
    """

    key, label, unit, higher_is_better = "stray_pixels", "stray pixels", "per million", False

    def maps(self, pair: Comparison) -> Maps | None:
        usual = self._stands_out(pair.reference)
        brighter = pair.reference + np.float32(STRAY_LEVELS / 2)
        found = np.mean([self._stands_out(levels) & ~usual & (levels > brighter).any(axis=2) for levels in pair.levels],
                        axis=0)
        return {"stray": found}

    def _stands_out(self, levels: np.ndarray) -> np.ndarray:
        reach = STRAY_NEIGHBOURHOOD // 2
        padded = np.pad(levels, ((reach, reach), (reach, reach), (0, 0)), mode="symmetric")
        return stands_out(np.ascontiguousarray(padded, np.float32))

    def figure(self, sums: Sums) -> np.ndarray:
        return 1e6 * sums["stray"] / sums["pixels"]


class Rms:
    """Overall difference from the reference, with the reference's own floor removed."""

    key, label, unit, higher_is_better = "rms", "overall difference", "levels", False

    def maps(self, pair: Comparison) -> Maps | None:
        squared = np.mean([((levels - pair.reference) ** 2).mean(axis=2) for levels in pair.levels], axis=0)
        return {"square": squared - pair.reference_floor}

    def figure(self, sums: Sums) -> np.ndarray:
        return np.sqrt(np.maximum(sums["square"], 0) / sums["pixels"])


class Psnr(Rms):
    """Peak signal-to-noise ratio in decibels, from the overall difference."""

    key, label, unit, higher_is_better = "psnr", "peak signal to noise", "dB", True

    def figure(self, sums: Sums) -> np.ndarray:
        with np.errstate(divide="ignore"):
            return 20 * np.log10(LEVELS / super().figure(sums))


class Ssim:
    """Structural similarity of luminance: Wang et al. 2004, Gaussian window of sigma 1.5, range 255."""

    key, label, unit, higher_is_better = "ssim", "structural similarity", "", True

    def maps(self, pair: Comparison) -> Maps | None:
        y = (pair.reference @ LUMINANCE).astype(np.float64)
        return {"similarity": np.mean([self._map(levels @ LUMINANCE, y) for levels in pair.levels], axis=0)}

    def _map(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        x = x.astype(np.float64)

        def soft(values: np.ndarray) -> np.ndarray:
            return gaussian_filter(values, 1.5, mode="reflect", truncate=3.5)

        mx, my = soft(x), soft(y)
        vx, vy, vxy = soft(x * x) - mx * mx, soft(y * y) - my * my, soft(x * y) - mx * my
        c1, c2 = (0.01 * LEVELS) ** 2, (0.03 * LEVELS) ** 2
        return (2 * mx * my + c1) * (2 * vxy + c2) / ((mx * mx + my * my + c1) * (vx + vy + c2))

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["similarity"] / sums["pixels"]


class Perceptual:
    """What the eye sees of the difference, on average over the picture; see perceptual.py."""

    key, label, unit, higher_is_better = "perceptual", "visible difference", "CIELAB units", False

    def maps(self, pair: Comparison) -> Maps | None:
        return {"difference": np.mean([colour_difference(levels, pair.reference) for levels in pair.levels], axis=0)}

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["difference"] / sums["pixels"]


MEASURES: dict[str, Measure] = {m.key: m for m in (Grain(), LightShift(), DetailKept(), StrayPixels(), Rms(), Psnr(),
                                                   Ssim(), Perceptual())}


@dataclass(frozen=True)
class Figure:
    """A measured value with its 95 % interval."""

    value: float
    low: float
    high: float

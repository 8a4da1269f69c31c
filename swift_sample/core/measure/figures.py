"""Image measures, each a small class with a common shape: maps over the picture, and a figure from their sums.

Because a figure depends only on sums over pixels, the same maps serve the whole picture, every watch area, and the
bootstrap over blocks of pixels that gives the interval (Kuensch 1989, "The Jackknife and the Bootstrap for General
Stationary Observations", for blocks). Adding a measure means its kind, one class and its place in MEASURES.
"""

from collections.abc import Mapping
from functools import cached_property
from typing import Protocol

import numpy as np

from swift_sample.core.measure import kinds
from swift_sample.core.measure.blurring import blur
from swift_sample.core.measure.kinds import Kind
from swift_sample.core.measure.perceptual import colour_difference
from swift_sample.core.measure.rows import STRAY_LEVELS, STRAY_NEIGHBOURHOOD, set_luminance, set_mean_square, stands_out
from swift_sample.core.picture.colour import LEVELS, LUMINANCE
from swift_sample.core.picture.view import View

Maps = dict[str, np.ndarray]
Sums = Mapping[str, np.ndarray]
"""Name to float64[b]: the sum of a map in each of b resamplings; "pixels" is the number of pixels."""

SHIFT_SIGMA_SHARE = 0.02
"""Light shift looks at regions of this share of the picture's height (standard deviation of the smoothing)."""

FEW_RUNS, SPLITS = 3, 6
"""With more runs, this many of the ways to part them into halves are looked at."""

DETAIL_SIGMAS = (1.0, 2.0, 4.0)
"""Denoising, in pixels, between the bands of the pyramid."""

STRUCTURE_LEVELS = 1.0
"""The reference has structure where its band stands out by this rms within a few pixels."""

GAIN_SIGMA = 8.0


def luminance(levels: np.ndarray) -> np.ndarray:
    """float32[h, w] of float32[h, w, 3]."""
    light = np.empty(levels.shape[:2], np.float32)
    set_luminance(light.ravel(), np.ascontiguousarray(levels).reshape(-1, 3), LUMINANCE)
    return light


def mean_square(picture: np.ndarray, factor: float = 1.0) -> np.ndarray:
    """The mean of (factor a)^2 over the channels, float32[h, w] of float32[h, w, 3]."""
    squares = np.empty(picture.shape[:2], np.float32)
    set_mean_square(squares.ravel(), np.ascontiguousarray(picture).reshape(-1, 3), np.float32(factor * factor / 3))
    return squares


def mean_product(picture: np.ndarray, other: np.ndarray) -> np.ndarray:
    """The mean of a b over the channels, float32[h, w] of two float32[h, w, 3]."""
    return np.einsum("ijk,ijk->ij", picture, other) / np.float32(3)


def mean_variance(pictures: list[np.ndarray]) -> np.ndarray:
    """The sample variance over two or more pictures, averaged over the channels, float32[h, w]."""
    middle = np.mean(pictures, axis=0, dtype=np.float32)
    return np.sum([mean_square(picture - middle) for picture in pictures], axis=0) / np.float32(len(pictures) - 1)


def bands(current: np.ndarray) -> list[np.ndarray]:
    """The three finest bands of luminance: an undecimated Laplacian pyramid (after Burt and Adelson 1983)."""
    layers = []
    for sigma in DETAIL_SIGMAS:
        softer = blur(current, sigma)
        layers.append(current - softer)
        current = softer
    return layers


def splits(count: int) -> list[tuple[np.ndarray, np.ndarray]]:
    """Ways to part runs into two: each run in turn beside the others where there are three, else halves at random."""
    if count <= FEW_RUNS:
        orders = [np.roll(np.arange(count), k) for k in range(1 if count == 2 else count)]
    else:
        rng = np.random.default_rng(count)
        orders = [rng.permutation(count) for _ in range(SPLITS)]
    return [(order[: count // 2], order[count // 2 :]) for order in orders]


class Comparison:
    """A trial's pictures and the reference in display levels, with everything that several measures share.

    pictures: linear float32[h, w, 3] each, rendered with different seeds; halves: the two halves of a single
    undenoised picture, where there is only one; reference_halves: None where the reference has none.
    """

    def __init__(
        self,
        pictures: list[np.ndarray],
        reference: np.ndarray,
        view: View,
        halves: tuple[np.ndarray, np.ndarray] | None = None,
        reference_halves: tuple[np.ndarray, np.ndarray] | None = None,
    ) -> None:
        self.view = view
        self.count = len(pictures)
        self._linear, self._light_halves = pictures, halves
        self._reference_light, self._reference_light_halves = reference, reference_halves
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

    def soft_levels(self, light: np.ndarray) -> np.ndarray:
        """Light over larger regions, in display levels, float32[h, w, 3]."""
        return self.view.levels(blur(light, self.sigma))

    @property
    def reference_light_halves(self) -> tuple[np.ndarray, np.ndarray]:
        """Linear; twice the reference where it has no halves."""
        return self._reference_light_halves or (self._reference_light,) * 2

    @cached_property
    def soft_halves(self) -> list[tuple[np.ndarray, np.ndarray]]:
        """Display levels of smoothed light of disjoint halves of the runs, split in several ways."""
        if self.count == 1:
            halves = self._light_halves or (self._linear[0],) * 2
            return [(self.soft_levels(halves[0]), self.soft_levels(halves[1]))]
        soft = np.array([blur(light, self.sigma) for light in self._linear])
        return [
            (self.view.levels(soft[first].mean(axis=0)), self.view.levels(soft[second].mean(axis=0)))
            for first, second in splits(self.count)
        ]

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
        return mean_square(self.reference_error)

    @cached_property
    def square_error(self) -> np.ndarray:
        """The mean square difference from the reference, without the reference's own, float32[h, w]."""
        return np.mean([mean_square(levels - self.reference) for levels in self.levels], axis=0) - self.reference_floor


class Measure(Protocol):
    """One kind of image error."""

    kind: Kind

    def maps(self, pair: Comparison) -> Maps | None:
        """Maps over the picture, float[h, w]; None where the figure cannot be known from these pictures."""

    def figure(self, sums: Sums) -> np.ndarray:
        """The figure from summed maps, one for each resampling."""


class Grain:
    """Random error: the standard deviation over seeds of D(I), rms over pixels and channels."""

    kind = kinds.GRAIN

    def maps(self, pair: Comparison) -> Maps | None:
        if pair.count > 1:
            return {"variance": mean_variance(pair.levels)}
        if pair.halves is None:
            return None
        return {"variance": mean_square(pair.halves[0] - pair.halves[1], 0.5)}

    def figure(self, sums: Sums) -> np.ndarray:
        return np.sqrt(sums["variance"] / sums["pixels"])


class LightShift:
    """Light missing or added over larger regions: rms of the difference of smoothed light, D(G * M) - D(G * R).

    Light is smoothed before the view, which clips and bends it: behind it grain would count as shift. What noise is left is
    removed by products of disjoint halves, of the runs (of a single undenoised run, its own) and of the reference: their
    errors are independent, so the products carry none of them, however many runs there are. A single denoised run has no
    halves; its noise counts.
    """

    kind = kinds.LIGHT_SHIFT

    def maps(self, pair: Comparison) -> Maps | None:
        references = [pair.soft_levels(half) for half in pair.reference_light_halves] * 2
        found = [
            mean_product(first - here, second - there)
            for first, second in pair.soft_halves
            for here, there in (references[0:2], references[1:3])
        ]
        return {"shift": np.asarray(np.mean(found, axis=0, dtype=np.float32))}

    def figure(self, sums: Sums) -> np.ndarray:
        return np.sqrt(np.maximum(sums["shift"], 0) / sums["pixels"])


class DetailKept:
    """The share of the reference's fine structure that survives, in percent.

    Products of independent pictures carry no noise bias, so grain does not count as detail. Bands are divided by the
    local gain: a darker picture has not lost detail.
    """

    kind = kinds.DETAIL_KEPT

    def maps(self, pair: Comparison) -> Maps | None:
        here, there = luminance(pair.mean), luminance(pair.reference)
        gain = np.clip(blur(here, GAIN_SIGMA) / np.maximum(blur(there, GAIN_SIGMA), 0.5), 0.1, 10)
        halves = [bands(luminance(half)) for half in pair.reference_halves] if pair.reference_halves else [bands(there)] * 2
        found: Maps = {}
        for k, (m, r, a, b) in enumerate(zip(bands(here), bands(there), *halves, strict=True)):
            energy = a * b
            structure = blur(energy, 3.0) > STRUCTURE_LEVELS**2
            found[f"kept_{k}"] = m / gain * r * structure
            found[f"there_{k}"] = energy * structure
        return found

    def figure(self, sums: Sums) -> np.ndarray:
        shares = []
        for k in range(len(DETAIL_SIGMAS)):
            there = sums[f"there_{k}"]
            shares.append(np.where(there > 0, sums[f"kept_{k}"] / np.where(there > 0, there, 1), np.nan))
        known = ~np.isnan(shares)
        total = np.where(known, shares, 0).sum(axis=0)
        return 100 * np.where(known.any(axis=0), total / np.maximum(known.sum(axis=0), 1), np.nan)


class StrayPixels:
    """Isolated bright pixels that the reference does not have, per million pixels.

    A pixel counts if it stands more than STRAY_LEVELS above the median of its 5x5 neighbourhood, the reference's does
    not, and it is brighter than the reference's by half as much; else edges of the scene that stand out by nearly that
    many levels would count as soon as a little grain lifts them over.
    """

    kind = kinds.STRAY_PIXELS

    def maps(self, pair: Comparison) -> Maps | None:
        usual = self._stands_out(pair.reference)
        brighter = pair.reference + np.float32(STRAY_LEVELS / 2)
        found = np.mean(
            [self._stands_out(levels) & ~usual & (levels > brighter).any(axis=2) for levels in pair.levels], axis=0
        )
        return {"stray": found}

    def _stands_out(self, levels: np.ndarray) -> np.ndarray:
        reach = STRAY_NEIGHBOURHOOD // 2
        padded = np.pad(levels, ((reach, reach), (reach, reach), (0, 0)), mode="symmetric")
        return stands_out(np.ascontiguousarray(padded, np.float32).reshape(len(padded), -1))

    def figure(self, sums: Sums) -> np.ndarray:
        return 1e6 * sums["stray"] / sums["pixels"]


class Rms:
    """Overall difference from the reference, with the reference's own floor removed."""

    kind = kinds.RMS

    def maps(self, pair: Comparison) -> Maps | None:
        return {"square": pair.square_error}

    def figure(self, sums: Sums) -> np.ndarray:
        return np.sqrt(np.maximum(sums["square"], 0) / sums["pixels"])


class Psnr(Rms):
    """Peak signal-to-noise ratio in decibels, from the overall difference."""

    kind = kinds.PSNR

    def figure(self, sums: Sums) -> np.ndarray:
        with np.errstate(divide="ignore"):
            return 20 * np.log10(LEVELS / super().figure(sums))


class Ssim:
    """Structural similarity of luminance: Wang et al. 2004, Gaussian window of sigma 1.5, range 255."""

    kind = kinds.SSIM

    def maps(self, pair: Comparison) -> Maps | None:
        y = luminance(pair.reference)
        return {"similarity": np.mean([self._map(luminance(levels), y) for levels in pair.levels], axis=0)}

    def _map(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        def soft(values: np.ndarray) -> np.ndarray:
            return blur(values, 1.5, reach=3.5)

        # Variances are taken around the middle of the range, so that squares do not use up the digits.
        x, y = x - np.float32(LEVELS / 2), y - np.float32(LEVELS / 2)
        mx, my = soft(x), soft(y)
        vx, vy, vxy = soft(x * x) - mx * mx, soft(y * y) - my * my, soft(x * y) - mx * my
        mx, my = mx + np.float32(LEVELS / 2), my + np.float32(LEVELS / 2)
        c1, c2 = (0.01 * LEVELS) ** 2, (0.03 * LEVELS) ** 2
        return (2 * mx * my + c1) * (2 * vxy + c2) / ((mx * mx + my * my + c1) * (vx + vy + c2))

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["similarity"] / sums["pixels"]


class Perceptual:
    """What the eye sees of the difference, on average over the picture; see perceptual.py."""

    kind = kinds.PERCEPTUAL

    def maps(self, pair: Comparison) -> Maps | None:
        return {"difference": np.mean([colour_difference(levels, pair.reference) for levels in pair.levels], axis=0)}

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["difference"] / sums["pixels"]


class Brightness:
    """The mean of D(G * M) - D(G * R): which way the light shifted."""

    kind = kinds.BRIGHTNESS

    def maps(self, pair: Comparison) -> Maps | None:
        here = np.mean([half for halves in pair.soft_halves for half in halves], axis=0, dtype=np.float32)
        there = np.mean([pair.soft_levels(half) for half in pair.reference_light_halves], axis=0, dtype=np.float32)
        return {"signed": (here - there) @ np.full(3, 1 / 3, np.float32)}

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["signed"] / sums["pixels"]


MEASURES: dict[str, Measure] = {
    m.kind.key: m
    for m in (Grain(), LightShift(), DetailKept(), StrayPixels(), Rms(), Psnr(), Ssim(), Perceptual(), Brightness())
}

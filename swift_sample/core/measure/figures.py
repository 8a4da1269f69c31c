"""Image measures, each a small class with a common shape: what it sees of the pictures as maps, and
a figure from their sums.

Because a figure depends only on sums over pixels, the same maps serve the whole picture, every
watch area, and every cell in which the worst place is sought. Beside the maps stands how they would
differ with other seeds (`intervals` makes 95 % intervals of it). Adding a measure means its kind,
one class and its place in MEASURES.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from swift_sample.core.measure import kinds
from swift_sample.core.measure.blurring import blur
from swift_sample.core.measure.comparison import (
    Comparison,
    luminance,
    mean_of,
    mean_product,
    mean_square,
)
from swift_sample.core.measure.kinds import Kind
from swift_sample.core.measure.perceptual import colour_difference
from swift_sample.core.measure.rows import (
    STRAY_LEVELS,
    STRAY_NEIGHBOURHOOD,
    enlarged,
    reduced,
    stands_out,
)
from swift_sample.core.picture.colour import LEVELS

Maps = dict[str, np.ndarray]
Sums = Mapping[str, np.ndarray]
"""Name to float64[b]: the sum of a map in each of b places or resamplings; "pixels" is the number
of pixels."""

DETAIL_SIGMAS = (1.0, 2.0, 4.0)
"""Denoising, in pixels, between the bands of the pyramid."""
STRUCTURE_LEVELS = 1.0
"""The reference has structure where its band stands out by this rms within a few pixels."""
LIGHT_SIGMA = 8.0
LEAST_LIGHT = 4.0
"""Structure is taken relative to the light around it (sigma in pixels), no less than so many
levels."""
LOCAL_SIGMA = 3.0
FINE_SIGMA = 3.0
"""Pixels: grain of a single picture is what differs from the reference more finely than this."""
FAR = 3
"""Pixels between the points of the differences that see the whole of noise which pixel filters made
soft."""
LEAST_GRAIN = 0.05
"""Levels under which a place says nothing of how soft grain is."""
MOST_LAG = 8
EVERY = 4
"""Pixels over which it is asked how far noise is correlated, and every how many rows or columns are
looked at for it."""
GAIN_STEP = 4
MOST_GAIN = 1.25
"""Where structure stands out by more than this beside the reference's, what it has more is light
lost around it."""


@dataclass(frozen=True)
class Evidence:
    """What a measure sees: maps, and of what other seeds would change in them what is known.

    `contrasts` gives maps of independent sources one after the other; the squares of their sums
    over regions wider than the noise is correlated add up to the variance of the sums of `maps`.
    `variances` are variances per pixel instead, where pixels are independent. Where neither is
    known, neighbouring regions are compared.
    """

    maps: Maps
    contrasts: Callable[[], Iterator[Maps]] | None = None
    variances: Maps | None = None
    counted_in: int = 0
    """Of how many runs the maps hold the mean number of rare events, which is Poisson's; 0 where
    they hold something else."""


class Measure(Protocol):
    """One kind of image error."""

    kind: Kind

    def look(self, pair: Comparison) -> Evidence | None:
        """Maps over the picture, float[h, w]; None where the figure cannot be known from these
        pictures."""

    def figure(self, sums: Sums) -> np.ndarray:
        """The figure from summed maps, one for each place or resampling."""


class LocalMeasure(Measure, Protocol):
    """A measure whose worst place can be told: its figure by way of a quantity whose errors are
    even to both sides."""

    most_noise: float
    """standard deviation of the quantity above which a cell tells nothing"""

    def quantity(self, sums: Sums) -> np.ndarray:
        """What the figure is made of, without bounds: a mean square, or a share."""

    def shown(self, quantity: np.ndarray) -> np.ndarray:
        """The figure of a quantity."""


def bands(current: np.ndarray) -> list[np.ndarray]:
    """The three finest bands of luminance: an undecimated Laplacian pyramid (after Burt and Adelson
    1983)."""
    layers = []
    for sigma in DETAIL_SIGMAS:
        softer = blur(current, sigma)
        layers.append(current - softer)
        current = softer

    return layers


def _mixed_squares(levels: np.ndarray, step: int) -> np.ndarray:
    """Squares of second differences along both axes at once, over `step` pixels: the variance of
    white noise."""
    padded = np.pad(levels, ((step, step), (step, step), (0, 0)), mode="edge")
    rows = padded[: -2 * step] - 2 * padded[step:-step] + padded[2 * step :]
    return mean_square(
        (rows[:, : -2 * step] - 2 * rows[:, step:-step] + rows[:, 2 * step :]) / np.float32(6)
    )


def _mean_over_runs(name: str, maps: list[np.ndarray]) -> Evidence:
    """The mean of a map over runs, which differ by noise alone."""
    mean = mean_of(maps)
    count = len(maps)
    if count == 1:
        return Evidence({name: mean})

    scale = np.float32(1 / np.sqrt(count * (count - 1)))
    return Evidence({name: mean}, lambda: ({name: scale * (one - mean)} for one in maps))


class Grain:
    """Random error: the standard deviation over seeds of D(I), rms over pixels and channels."""

    kind = kinds.GRAIN
    most_noise = float(np.inf)

    def look(self, pair: Comparison) -> Evidence | None:
        if pair.count <= 2:
            first, second = pair.levels if pair.count == 2 else pair.halves or (None, None)
            if first is None or second is None:
                return self._estimate(pair) if pair.estimates else None
            if pair.estimates and np.array_equal(first, second):
                return self._estimate(pair)
            variance = mean_square(first - second, np.sqrt(0.5) if pair.count == 2 else 0.5)
            return Evidence(
                {"variance": variance},
                variances={"variance": self._of_a_difference(first - second, variance)},
            )

        middle = mean_of(pair.levels)
        factor = np.sqrt(pair.count / (pair.count - 1))
        squares = _mean_over_runs(
            "variance", [mean_square(one - middle, factor) for one in pair.levels]
        )
        # Squares around a common mean are not independent; for normal noise this is exact, for
        # heavier tails too wide.
        wider = np.float32(np.sqrt((pair.count - 1) / (pair.count - 2)))
        contrasts = squares.contrasts
        assert contrasts is not None

        return Evidence(
            squares.maps,
            lambda: ({name: wider * m for name, m in one.items()} for one in contrasts()),
        )

    @staticmethod
    def _estimate(pair: Comparison) -> Evidence:
        """From one picture, where no other seed can be had: from its difference from the reference,
        less the reference's own grain. Light that is missing has edges, which mixed second
        differences hardly see (after Immerkaer 1996, "Fast noise variance estimation"); how much
        more noise there is than these show, since pixel filters make it soft, is the median over
        places of what softer noise shows in too, beside them: what is finer than FINE_SIGMA, or
        mixed differences over FAR pixels. Edges raise the one here and the other there, so that the
        lesser holds."""
        difference = pair.levels[0] - pair.reference
        fine = np.stack(
            [plane - blur(plane, FINE_SIGMA) for plane in np.moveaxis(difference, -1, 0)], axis=-1
        )
        point = np.zeros((41, 41), np.float32)
        point[20, 20] = 1
        left = float(((point - blur(point, FINE_SIGMA)) ** 2).sum())
        squares = _mixed_squares(difference, 1)
        crossed, soft, far = (
            blur(a, LOCAL_SIGMA)
            for a in (squares, mean_square(fine, left**-0.5), _mixed_squares(difference, FAR))
        )
        told = crossed > LEAST_GRAIN**2
        softness = (
            min(float(np.median(a[told] / crossed[told])) for a in (soft, far))
            if told.any()
            else 1.0
        )

        return Evidence({"variance": np.float32(softness) * squares - pair.reference_floor})

    @staticmethod
    def _of_a_difference(difference: np.ndarray, variance: np.ndarray) -> np.ndarray:
        """What the variance of each pixel, from a single difference, itself varies by: of v = d^2 /
        2 with normal d a share of 2/3 of v^2 (Var v = 2 s^4, E v^2 = 3 s^4), times the number of
        pixels that vary together, by the squares of the autocorrelation of d along rows and columns
        (Bartlett 1946)."""
        even = difference / np.sqrt(blur(variance, LOCAL_SIGMA) + np.float32(1e-3))[..., None]
        together = 1.0

        for axis in (0, 1):
            moved = np.moveaxis(even, axis, 0)[:, ::EVERY]
            lags = range(1, min(MOST_LAG, len(moved) - 1) + 1)
            power = float((moved * moved).mean()) or 1.0
            together *= 1 + 2 * sum(
                (float((moved[:-lag] * moved[lag:]).mean()) / power) ** 2 for lag in lags
            )

        return variance * variance * np.float32(together * 2 / 3)

    def quantity(self, sums: Sums) -> np.ndarray:
        return np.sqrt(np.maximum(sums["variance"], 0) / sums["pixels"])

    def shown(self, quantity: np.ndarray) -> np.ndarray:
        return np.maximum(quantity, 0)

    def figure(self, sums: Sums) -> np.ndarray:
        return self.shown(self.quantity(sums))


class LightShift:
    """Light missing or added over larger regions: rms of the difference of smoothed light, D(G * M)
    - D(G * R).

    Light is smoothed before the view, which clips and bends it: behind it grain would count as
    shift. What noise is left is removed by products of disjoint halves, of the runs (of a single
    undenoised run, its own) and of the reference: their errors are independent, so the products
    carry none of them, however many runs there are. A single denoised run has no halves: a second
    one is needed. Where the same samples are there with everything open, each run is compared with
    those instead, and the reference's noise does not come into it.
    """

    kind = kinds.LIGHT_SHIFT
    most_noise = float(np.inf)

    def look(self, pair: Comparison) -> Evidence | None:
        if not pair.has_noise and pair.seeds:
            return None

        if pair.taken:
            return self._taken(pair)

        references = [*pair.soft_reference] * 2
        found = [
            mean_product(first - here, second - there)
            for first, second in pair.soft_halves
            for here, there in (references[0:2], references[1:3])
        ]

        def contrasts() -> Iterator[Maps]:
            # The square of a difference d changes by 2 d e for a small error e.
            middle = mean_of(pair.soft_parts)
            first, second = pair.soft_reference
            twice = 2 * middle - (first + second)
            for part in pair.soft_parts if pair.has_noise else ():
                yield {"shift": mean_product(twice, np.float32(pair.part_scale) * (part - middle))}

            yield {"shift": mean_product(twice, (first - second) / 2)}

        return Evidence({"shift": mean_of(found)}, contrasts)

    @staticmethod
    def _taken(pair: Comparison) -> Evidence:
        """By what settings took from each run."""
        found = [mean_product(first, second) for first, second in pair.taken_halves]

        def contrasts() -> Iterator[Maps]:
            middle = mean_of(pair.taken)
            for part in pair.taken:
                change = np.float32(pair.part_scale) * (part - middle)
                yield {"shift": mean_product(2 * middle, change)}

        return Evidence({"shift": mean_of(found)}, contrasts)

    def quantity(self, sums: Sums) -> np.ndarray:
        return sums["shift"] / sums["pixels"]

    def shown(self, quantity: np.ndarray) -> np.ndarray:
        return np.sqrt(np.maximum(quantity, 0))

    def figure(self, sums: Sums) -> np.ndarray:
        return self.shown(self.quantity(sums))


class DetailKept:
    """The share of the reference's fine structure that survives, in percent, at most 100.

    Structure is what stands out, in three bands of luminance, relative to the light around it, so
    that a darker place has lost none. In each band the trial's is projected on the reference's,
    both relative to the local contrast of the reference, so that a strong edge does not vouch for a
    smeared texture. Where the trial's local contrast is clearly higher, because light between its
    structure is missing, it is brought down to the reference's: it neither counts as lost nor makes
    up for what is lost elsewhere. Products of independent pictures carry no noise, so grain does
    not count as detail.
    """

    kind = kinds.DETAIL_KEPT
    most_noise = 0.1

    def look(self, pair: Comparison) -> Evidence | None:
        references = [luminance(half) for half in pair.reference_halves or (pair.reference,) * 2]
        there = luminance(pair.reference)
        light_there = blur(there, LIGHT_SIGMA) + np.float32(LEAST_LIGHT)
        mean = luminance(pair.mean)
        light_here = blur(mean, LIGHT_SIGMA) + np.float32(LEAST_LIGHT)
        parts = [self._bands(pair, [part], light_here) for part in pair.parts if pair.has_noise]
        here = [m / light_here for m in bands(mean)]
        wanted = [r / light_there for r in bands(there)]
        first, second = ([r / light_there for r in bands(half)] for half in references)
        middle = len(parts) // 2
        ours = [
            self._bands(pair, some, light_here)
            for some in (pair.parts[:middle], pair.parts[middle:])
            if parts
        ]
        found: Maps = {}
        weights = []
        scales = []

        for k in range(len(DETAIL_SIGMAS)):
            energy = first[k] * second[k]
            least = (np.float32(STRUCTURE_LEVELS) / light_there) ** 2
            local = blur(energy, LOCAL_SIGMA)
            weight = np.where(local > least, 1 / (np.maximum(local, 0) + least), np.float32(0))
            scale = (
                weight * self._without_gain(ours[0][k] * ours[1][k], energy, weight)
                if ours
                else weight
            )
            weights.append(weight)
            scales.append(scale)
            found[f"kept_{k}"] = scale * here[k] * wanted[k]
            found[f"there_{k}"] = weight * energy

        def contrasts() -> Iterator[Maps]:
            count = range(len(DETAIL_SIGMAS))
            middle = [mean_of([part[k] for part in parts]) for k in count]

            for own in parts:
                off = [own[k] - middle[k] for k in count]
                yield {
                    f"kept_{k}": np.float32(pair.part_scale) * scales[k] * off[k] * wanted[k]
                    for k in count
                }

            off = [(first[k] - second[k]) / 2 for k in count]
            yield {
                **{f"kept_{k}": scales[k] * here[k] * off[k] for k in count},
                **{f"there_{k}": 2 * weights[k] * wanted[k] * off[k] for k in count},
            }

        return Evidence(found, contrasts if pair.has_noise else None)

    @staticmethod
    def _bands(pair: Comparison, parts: list[np.ndarray], light: np.ndarray) -> list[np.ndarray]:
        """Structure of the mean of some parts, relative to the light there. The mean comes first:
        the view bends noise."""
        return [m / light for m in bands(luminance(pair.view.levels(mean_of(parts))))]

    def _without_gain(self, own: np.ndarray, energy: np.ndarray, weight: np.ndarray) -> np.ndarray:
        """The factor that brings local contrast down to the reference's where it is clearly higher;
        found on squares of GAIN_STEP pixels, over which it changes little."""
        there, here = (
            blur(reduced(weight * some, 1, GAIN_STEP), LIGHT_SIGMA / GAIN_STEP)
            for some in (energy, own)
        )
        gain = np.where(there > 0, here / np.maximum(there, np.float32(1e-6)), np.float32(1))
        factor = np.where(
            gain > MOST_GAIN**2, 1 / np.sqrt(np.maximum(gain, 1)), np.float32(1)
        ).astype(np.float32)

        return enlarged(factor, *weight.shape, 1, GAIN_STEP)

    def quantity(self, sums: Sums) -> np.ndarray:
        return _mean_of_known(self._shares(sums))

    def shown(self, quantity: np.ndarray) -> np.ndarray:
        return 100 * np.clip(quantity, 0, 1)

    def figure(self, sums: Sums) -> np.ndarray:
        return self.shown(_mean_of_known(np.clip(self._shares(sums), 0, 1)))

    def _shares(self, sums: Sums) -> np.ndarray:
        """By band, not a number where the reference has no structure."""
        there = np.array([sums[f"there_{k}"] for k in range(len(DETAIL_SIGMAS))])
        kept = np.array([sums[f"kept_{k}"] for k in range(len(DETAIL_SIGMAS))])
        return np.where(there > 0, kept / np.where(there > 0, there, 1), np.nan)


def _mean_of_known(shares: np.ndarray) -> np.ndarray:
    known = ~np.isnan(shares)
    total = np.where(known, shares, 0).sum(axis=0)
    return np.where(known.any(axis=0), total / np.maximum(known.sum(axis=0), 1), np.nan)


class StrayPixels:
    """Isolated bright pixels that the reference does not have, per million pixels.

    A pixel counts if it stands more than STRAY_LEVELS above the median of its 5x5 neighbourhood,
    the reference's does not, and it is brighter than the reference's by half as much; else edges of
    the scene that stand out by nearly that many levels would count as soon as a little grain lifts
    them over. Their number is taken to be Poisson's, so that none in a few runs is no proof that
    there are none.
    """

    kind = kinds.STRAY_PIXELS

    def look(self, pair: Comparison) -> Evidence | None:
        usual = self._stands_out(pair.reference)
        brighter = pair.reference + np.float32(STRAY_LEVELS / 2)
        found = np.mean(
            [
                self._stands_out(levels) & ~usual & (levels > brighter).any(axis=2)
                for levels in pair.levels
            ],
            axis=0,
        )
        # Where no other seed can be had, what is there is what is delivered: none is none.
        counted_in = pair.count if pair.seeds else 0

        return Evidence(
            {"stray": found}, variances={"stray": found / pair.count}, counted_in=counted_in
        )

    def _stands_out(self, levels: np.ndarray) -> np.ndarray:
        reach = STRAY_NEIGHBOURHOOD // 2
        padded = np.pad(levels, ((reach, reach), (reach, reach), (0, 0)), mode="symmetric")
        return stands_out(np.ascontiguousarray(padded, np.float32).reshape(len(padded), -1))

    def figure(self, sums: Sums) -> np.ndarray:
        return 1e6 * np.maximum(sums["stray"], 0) / sums["pixels"]


class Rms:
    """Overall difference from the reference, with the reference's own floor removed."""

    kind = kinds.RMS

    def look(self, pair: Comparison) -> Evidence | None:
        floor = pair.reference_floor
        return _mean_over_runs(
            "square", [mean_square(levels - pair.reference) - floor for levels in pair.levels]
        )

    def figure(self, sums: Sums) -> np.ndarray:
        return np.sqrt(np.maximum(sums["square"], 0) / sums["pixels"])


class Psnr(Rms):
    """Peak signal-to-noise ratio in decibels, from the overall difference."""

    kind = kinds.PSNR

    def figure(self, sums: Sums) -> np.ndarray:
        with np.errstate(divide="ignore"):
            return 20 * np.log10(LEVELS / super().figure(sums))


class Ssim:
    """Structural similarity of luminance: Wang et al. 2004, Gaussian window of sigma 1.5, range
    255."""

    kind = kinds.SSIM

    def look(self, pair: Comparison) -> Evidence | None:
        y = luminance(pair.reference)
        return _mean_over_runs(
            "similarity", [self._map(luminance(levels), y) for levels in pair.levels]
        )

    def _map(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        def soft(values: np.ndarray) -> np.ndarray:
            return blur(values, 1.5, reach=3.5)

        # Variances are taken around the middle of the range, so that squares do not use up the
        # digits.
        x, y = x - np.float32(LEVELS / 2), y - np.float32(LEVELS / 2)
        mx = soft(x)
        my = soft(y)
        vx = soft(x * x) - mx * mx
        vy = soft(y * y) - my * my
        vxy = soft(x * y) - mx * my
        mx = mx + np.float32(LEVELS / 2)
        my = my + np.float32(LEVELS / 2)
        c1 = (0.01 * LEVELS) ** 2
        c2 = (0.03 * LEVELS) ** 2

        return (2 * mx * my + c1) * (2 * vxy + c2) / ((mx * mx + my * my + c1) * (vx + vy + c2))

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["similarity"] / sums["pixels"]


class Perceptual:
    """What the eye sees of the difference, on average over the picture; see perceptual.py."""

    kind = kinds.PERCEPTUAL

    def look(self, pair: Comparison) -> Evidence | None:
        return _mean_over_runs(
            "difference", [colour_difference(levels, pair.reference) for levels in pair.levels]
        )

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["difference"] / sums["pixels"]


class Brightness:
    """The mean of D(G * M) - D(G * R): which way the light shifted."""

    kind = kinds.BRIGHTNESS

    def look(self, pair: Comparison) -> Evidence | None:
        third = np.full(3, 1 / 3, np.float32)
        first, second = pair.soft_reference
        parts = [part @ third for part in pair.soft_parts]
        if pair.taken:
            return self._taken([part @ third for part in pair.taken], pair.part_scale)

        here = mean_of([half @ third for halves in pair.soft_halves for half in halves])

        def contrasts() -> Iterator[Maps]:
            middle = mean_of(parts)
            for part in parts:
                yield {"signed": np.float32(pair.part_scale) * (part - middle)}
            yield {"signed": (first - second) @ third / 2}

        return Evidence(
            {"signed": here - (first + second) @ third / 2}, contrasts if pair.has_noise else None
        )

    @staticmethod
    def _taken(parts: Sequence[np.ndarray], part_scale: float) -> Evidence:
        """By what settings took from each run."""
        middle = mean_of(parts)

        def contrasts() -> Iterator[Maps]:
            for part in parts:
                yield {"signed": np.float32(part_scale) * (part - middle)}

        return Evidence({"signed": middle}, contrasts)

    def figure(self, sums: Sums) -> np.ndarray:
        return sums["signed"] / sums["pixels"]


LOCAL_MEASURES: dict[str, LocalMeasure] = {
    m.kind.key: m for m in (Grain(), LightShift(), DetailKept())
}
MEASURES: dict[str, Measure] = {
    **LOCAL_MEASURES,
    **{m.kind.key: m for m in (StrayPixels(), Rms(), Psnr(), Ssim(), Perceptual(), Brightness())},
}

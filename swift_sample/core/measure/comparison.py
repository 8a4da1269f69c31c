"""A trial's pictures and the reference, with what several measures share."""

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from swift_sample.core.measure.blurring import blur
from swift_sample.core.measure.rows import set_luminance, set_mean_square
from swift_sample.core.picture.colour import LUMINANCE
from swift_sample.core.picture.view import View

SHIFT_SIGMA_SHARE = 0.02
"""Light shift looks at regions of this share of the picture's height (standard deviation of the
smoothing)."""
FEW_RUNS = 3
SPLITS = 6
"""With more runs, this many of the ways to part them into halves are looked at."""
BEND_SIGMAS = 3.0
"""What the view's bend makes of noise is taken over regions this many times wider than those of
light shift."""
MOST_PARTS = 8
"""More runs than this are put together to so many parts, where it is looked at how runs differ."""

LEAST_OPENED = 2
"""What settings took from one run alone has noise that another run must tell."""

Halves = tuple[np.ndarray, np.ndarray]


def luminance(levels: np.ndarray) -> np.ndarray:
    """float32[h, w] of float32[h, w, 3]."""
    light = np.empty(levels.shape[:2], np.float32)
    set_luminance(light.ravel(), np.ascontiguousarray(levels).reshape(-1, 3), LUMINANCE)
    return light


def mean_square(picture: np.ndarray, factor: float = 1.0) -> np.ndarray:
    """The mean of (factor a)^2 over the channels, float32[h, w] of float32[h, w, 3]."""
    squares = np.empty(picture.shape[:2], np.float32)
    set_mean_square(
        squares.ravel(),
        np.ascontiguousarray(picture).reshape(-1, 3),
        np.float32(factor * factor / 3),
    )
    return squares


def mean_product(picture: np.ndarray, other: np.ndarray) -> np.ndarray:
    """The mean of a b over the channels, float32[h, w] of two float32[h, w, 3]."""
    return np.einsum("ijk,ijk->ij", picture, other) / np.float32(3)


def splits(count: int) -> list[tuple[np.ndarray, np.ndarray]]:
    """Ways to part runs into two: each run in turn beside the others where there are three, else
    halves at random."""
    if count <= FEW_RUNS:
        orders = [np.roll(np.arange(count), k) for k in range(1 if count == 2 else count)]
    else:
        rng = np.random.default_rng(count)
        orders = [rng.permutation(count) for _ in range(SPLITS)]

    return [(order[: count // 2], order[count // 2 :]) for order in orders]


def mean_of(maps: Sequence[np.ndarray]) -> np.ndarray:
    """The mean of pictures or maps, float32; a single one itself. Adds one to the other: a stack of
    them takes thrice as long."""
    if len(maps) == 1:
        return maps[0]

    total = maps[0] + maps[1]
    for one in maps[2:]:
        total += one

    total *= np.float32(1 / len(maps))
    return total


class Comparison:
    """A trial's pictures and the reference in display levels, with everything that several measures
    share.

    pictures: linear float32[h, w, 3] each, rendered with different seeds; halves: the two halves of
    a single undenoised picture, where there is only one; reference_halves: None where the reference
    has none. `seeds` says whether another run could tell what of a single picture is noise; where
    none can, it is taken as it is. With `estimates` the grain of such a picture is estimated from
    how it differs from the reference. `opened` are pictures of the same samples as `pictures`, in
    their order, with nothing left out and nothing denoised: with them, what settings took from each
    can be told without the reference.
    """

    def __init__(
        self,
        pictures: list[np.ndarray],
        reference: np.ndarray,
        view: View,
        halves: Halves | None = None,
        reference_halves: Halves | None = None,
        seeds: bool = True,
        estimates: bool = False,
        opened: Sequence[np.ndarray] = (),
    ) -> None:
        self.seeds = seeds
        self.estimates = estimates
        self.view = view
        self.count = len(pictures)
        self._pictures = pictures
        self._opened = list(opened)
        self._independent = pictures if len(pictures) > 1 or halves is None else list(halves)
        self._reference_light = reference
        self._reference_light_halves = reference_halves
        self.halves = tuple(view.levels(half) for half in halves) if halves is not None else None
        self.reference = view.levels(reference)
        self.reference_halves = (
            tuple(view.levels(half) for half in reference_halves) if reference_halves else None
        )

    @property
    def shape(self) -> tuple[int, int]:
        return self.reference.shape[0], self.reference.shape[1]

    @property
    def sigma(self) -> float:
        """Smoothing of light shift in pixels."""
        return max(1.0, SHIFT_SIGMA_SHARE * self.shape[0])

    @cached_property
    def levels(self) -> list[np.ndarray]:
        return [self.view.levels(picture) for picture in self._pictures]

    @cached_property
    def mean(self) -> np.ndarray:
        """Of all runs, in levels."""
        return self.view.levels(mean_of(self._pictures)) if self.count > 1 else self.levels[0]

    @property
    def has_noise(self) -> bool:
        """Whether there is anything to tell the trial's noise by: two runs, or the halves of an
        undenoised one."""
        return len(self._independent) > 1

    @cached_property
    def parts(self) -> list[np.ndarray]:
        """Linear means of disjoint groups of runs, at most MOST_PARTS; of a single run its halves,
        or itself."""
        groups = np.array_split(
            np.arange(len(self._independent)), min(MOST_PARTS, len(self._independent))
        )
        return [mean_of([self._independent[k] for k in group]) for group in groups]

    @cached_property
    def taken(self) -> list[np.ndarray]:
        """What settings took from each of `parts` over larger regions, in display levels: the
        difference from the same samples with everything open. Noise that both have falls out of it
        (control variates: Hammersley and Handscomb 1964, section 5.5). Empty where there is nothing
        opened, or only one run."""
        if len(self._opened) < LEAST_OPENED:
            return []

        groups = np.array_split(np.arange(len(self._opened)), len(self.parts))
        opened = [mean_of([self._opened[k] for k in group]) for group in groups]
        there = [self.soft_levels(light) for light in opened]
        return [here - one for here, one in zip(self.soft_parts, there, strict=True)]

    @property
    def taken_halves(self) -> list[Halves]:
        """Means of disjoint halves of `taken`."""
        taken = self.taken
        return [
            (mean_of([taken[k] for k in first]), mean_of([taken[k] for k in second]))
            for first, second in splits(len(taken))
        ]

    @property
    def part_scale(self) -> float:
        """What the difference of a part from the mean of all is multiplied by, so that the squares
        of all parts sum to the variance of that mean: 1 / sqrt(n (n - 1)) for n parts."""
        count = len(self.parts)
        return float(1 / np.sqrt(count * (count - 1)))

    def soft_levels(self, light: np.ndarray) -> np.ndarray:
        """Light over larger regions, in display levels, float32[h, w, 3]."""
        return self.view.levels(blur(light, self.sigma))

    @property
    def reference_light_halves(self) -> Halves:
        """Linear; twice the reference where it has no halves."""
        return self._reference_light_halves or (self._reference_light,) * 2

    @cached_property
    def soft_reference(self) -> Halves:
        """Display levels of the smoothed light of the reference's halves."""
        first, second = (self.soft_levels(half) for half in self.reference_light_halves)
        return first, second

    @cached_property
    def soft_halves(self) -> list[Halves]:
        """Display levels of the smoothed light of disjoint halves of the parts. What the bend of
        the view makes of the noise that is left is taken off: by the second order of the delta
        method it is proportional to the noise's variance, so one part on its own shows as many
        times more of it as there are parts."""
        soft = self._soft
        levels = self.soft_parts
        if len(soft) == 1:
            return [(levels[0], levels[0])]

        count = len(soft)
        middle = self.view.levels(mean_of(soft))
        bend = blur(
            (mean_of(levels) - middle) * np.float32(count / (count - 1)), BEND_SIGMAS * self.sigma
        )

        def even(group: np.ndarray) -> np.ndarray:
            shown = (
                levels[group[0]]
                if len(group) == 1
                else self.view.levels(mean_of([soft[k] for k in group]))
            )
            return shown - bend / np.float32(len(group))

        return [(even(first), even(second)) for first, second in splits(count)]

    @cached_property
    def _soft(self) -> list[np.ndarray]:
        """The smoothed light of `parts`, linear."""
        return [blur(part, self.sigma) for part in self.parts]

    @cached_property
    def soft_parts(self) -> list[np.ndarray]:
        """Display levels of the smoothed light of `parts`."""
        return [self.view.levels(soft) for soft in self._soft]

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

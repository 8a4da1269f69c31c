"""95 % intervals of figures, from how the trial's own runs differ: not from how one part of the
picture differs from another, which is the scene and no error of measuring.

A picture is cut into regions wider than noise is correlated. How far the sum over a region would be
off with other seeds is known by contrasts between runs; regions are off independently of one
another. So sums are drawn anew by giving every region's contrast a random sign and size (the wild
bootstrap: Wu 1986, "Jackknife, Bootstrap and Other Resampling Methods in Regression Analysis"), and
the figure is taken of each draw. Few regions make for wide intervals: draws are stretched by
Student's t at the effective number of degrees of freedom (Satterthwaite 1946).
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
from scipy.special import stdtrit

from swift_sample.core.measure.counts import count_interval
from swift_sample.core.measure.figures import Evidence, Maps, Sums
from swift_sample.core.measure.kinds import Figure

DRAWS = 400
REACH_95 = 1.959964
TAILS = 1.5
"""Noise of renders has heavy tails, so that few contrasts mostly show too little of it: intervals
are wider by this over the degrees of freedom (found on the renderer's noise, `python -m benchmarks
measures`)."""
TILE = 4
"""Side in pixels of the tiles that are compared with their neighbours where runs cannot be."""


@dataclass(frozen=True)
class Regions:
    """Rectangular regions side by side in a rectangle of the picture: the first pixels of their
    rows and columns, and the ends."""

    rows: np.ndarray
    columns: np.ndarray

    @staticmethod
    def blocks(x: int, y: int, width: int, height: int, side: int) -> "Regions":
        """Squares of a side; those at the right and lower edge may be smaller."""
        return Regions(
            np.append(np.arange(y, y + height, side), y + height),
            np.append(np.arange(x, x + width, side), x + width),
        )

    @staticmethod
    def even(width: int, height: int, side: float) -> "Regions":
        """The whole picture in regions as even as whole pixels allow, about as large as a side."""
        rows, columns = (max(1, round(length / side)) for length in (height, width))
        return Regions(
            np.linspace(0, height, rows + 1).round().astype(int),
            np.linspace(0, width, columns + 1).round().astype(int),
        )

    @property
    def shape(self) -> tuple[int, int]:
        return len(self.rows) - 1, len(self.columns) - 1

    @property
    def pixels(self) -> np.ndarray:
        return np.outer(np.diff(self.rows), np.diff(self.columns)).astype(np.float64)

    def sums(self, values: np.ndarray) -> np.ndarray:
        """Of a map [h, w] over each region, float64[rows, columns]; along a row of a region in the
        map's own precision."""
        cut = values[self.rows[0] : self.rows[-1], self.columns[0] : self.columns[-1]]
        across = np.add.reduceat(cut, self.columns[:-1] - self.columns[0], axis=1)
        return np.add.reduceat(across, self.rows[:-1] - self.rows[0], axis=0, dtype=np.float64)


@dataclass(frozen=True)
class Summed:
    """A measure's evidence summed over regions: float64[rows, columns] by name, and the same for
    every source of noise."""

    sums: dict[str, np.ndarray]
    sources: list[dict[str, np.ndarray]] = field(default_factory=list)


def summed(evidence: Evidence, kinds_of_regions: list[Regions]) -> list[Summed]:
    """The evidence of a measure in several kinds of regions; its contrasts are looked at once."""
    found = [
        Summed(
            {
                **{name: regions.sums(m) for name, m in evidence.maps.items()},
                "pixels": regions.pixels,
            }
        )
        for regions in kinds_of_regions
    ]
    if evidence.contrasts is not None:
        for source in evidence.contrasts():
            for one, regions in zip(found, kinds_of_regions, strict=True):
                one.sources.append({name: regions.sums(m) for name, m in source.items()})
        return found

    variances = (
        evidence.variances if evidence.variances is not None else _from_neighbours(evidence.maps)
    )
    for name, variance in variances.items():
        for one, regions in zip(found, kinds_of_regions, strict=True):
            one.sources.append({name: np.sqrt(np.maximum(regions.sums(variance), 0))})

    return found


def _from_neighbours(maps: Maps) -> Maps:
    """Variances per pixel, from how small tiles differ from the mean of those beside them, which
    they share all but noise with."""
    return {name: _tile_variance(values) for name, values in maps.items()}


def _tile_variance(values: np.ndarray) -> np.ndarray:
    height, width = values.shape
    tiles = Regions.even(width, height, TILE)
    mean = tiles.sums(values) / tiles.pixels
    around = np.zeros_like(mean)
    count = np.zeros_like(mean)

    for axis in (0, 1):
        first = [slice(None), slice(None)]
        last = [slice(None), slice(None)]
        first[axis] = slice(None, -1)
        last[axis] = slice(1, None)
        a = tuple(first)
        b = tuple(last)
        around[a] += mean[b]
        around[b] += mean[a]
        count[a] += 1
        count[b] += 1

    off = np.where(count > 0, mean - around / np.maximum(count, 1), 0)
    variance = off**2 * count / (count + 1) * tiles.pixels
    return np.repeat(
        np.repeat(variance, np.diff(tiles.rows), axis=0), np.diff(tiles.columns), axis=1
    )


def drawn(one: Summed, draws: int = DRAWS) -> dict[str, np.ndarray]:
    """How sums would be off, in many draws: float32[draws, rows, columns] by name. The same for the
    same evidence."""
    rng = np.random.default_rng(0)
    off: dict[str, np.ndarray] = {}

    for source in one.sources:
        shape = next(iter(source.values())).shape
        signs = rng.standard_normal((draws, *shape), np.float32)
        for name, sums in source.items():
            off[name] = off.get(name, 0) + signs * sums.astype(np.float32)

    return off


def stretch(one: Summed) -> float:
    """By how much draws of the sum over all regions are stretched: the 97.5th percentile of
    Student's t over that of a normal distribution. Each squared contrast has one degree of freedom,
    and three times its square is expected of its square."""
    name = next((name for name in one.sums if any(name in source for source in one.sources)), None)
    if name is None:
        return 1.0

    squares = np.concatenate(
        [source[name].ravel() ** 2 for source in one.sources if name in source]
    )
    if not squares.any():
        return 1.0

    degrees = max(1.0, 3 * squares.sum() ** 2 / (squares**2).sum())
    return float(stdtrit(degrees, 0.975) / REACH_95 * (1 + TAILS / degrees))


def figure_with_interval(
    one: Summed, figure_of: Callable[[Sums], np.ndarray], counted_in: int = 0
) -> Figure | None:
    """The figure over all regions together; None where the measure cannot say. `counted_in` as
    `Evidence` has it."""
    total = {name: np.array([sums.sum()]) for name, sums in one.sums.items()}
    value = float(figure_of(total)[0])
    if np.isnan(value):
        return None

    if counted_in:
        ((name, mean),) = ((name, sums) for name, sums in total.items() if name != "pixels")
        low, high = (
            float(figure_of({name: np.array([end / counted_in]), "pixels": total["pixels"]})[0])
            for end in count_interval(float(mean[0]) * counted_in)
        )

        return Figure(value, min(low, value), max(high, value))

    low, high = _reach(value, total, drawn_totals(one), stretch(one), figure_of)
    return Figure(value, low, high)


def drawn_totals(one: Summed) -> dict[str, np.ndarray]:
    """How the sums over all regions would be off, float64[DRAWS] by name."""
    rng = np.random.default_rng(0)
    off: dict[str, np.ndarray] = {}

    for source in one.sources:
        signs = rng.standard_normal((DRAWS, next(iter(source.values())).size))
        for name, sums in source.items():
            off[name] = off.get(name, 0.0) + signs @ sums.ravel()

    return off


def _reach(
    value: float,
    total: Mapping[str, np.ndarray],
    off: Mapping[str, np.ndarray],
    stretched: float,
    figure_of: Callable[[Sums], np.ndarray],
) -> tuple[float, float]:
    made = figure_of(
        {
            name: sums + stretched * off[name] if name in off else sums
            for name, sums in total.items()
        }
    )
    made = np.broadcast_to(made, (DRAWS,))
    made = made[~np.isnan(made)]

    if not len(made):
        return value, value

    low, high = np.percentile(made, (2.5, 97.5), method="nearest")
    return float(min(low, value)), float(max(high, value))

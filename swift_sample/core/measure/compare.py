"""All measures of one trial against the reference, for the whole picture and each watch area."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from swift_sample.core.errors import UsageError
from swift_sample.core.measure.figures import MEASURES, Comparison, Maps, Measure, Sums
from swift_sample.core.measure.kinds import Figure

RESAMPLINGS = 400
THREADS = 2
"""Measures are taken this many at a time; their loops release the interpreter."""
LEAST_BLOCK_PIXELS = 16
WHOLE = ""
"""The name under which the figures of the whole picture stand."""


@dataclass(frozen=True)
class Area:
    """A rectangle of the picture in pixels, origin top left."""

    name: str
    x: int
    y: int
    width: int
    height: int

    @staticmethod
    def parse(text: str) -> "Area":
        """Read `x,y,w,h`. Raises UsageError."""
        try:
            x, y, width, height = (int(part) for part in text.split(","))
        except ValueError:
            raise UsageError(f"area={text}: expected four whole numbers x,y,w,h") from None
        return Area(text, x, y, width, height)

    def scaled(self, old: tuple[int, int], new: tuple[int, int]) -> "Area":
        """The same part of a picture of another size (width, height); at least a pixel."""
        if old == new:
            return self
        sx, sy = new[0] / old[0], new[1] / old[1]
        x, y = min(new[0] - 1, round(self.x * sx)), min(new[1] - 1, round(self.y * sy))
        return Area(
            self.name, x, y, max(1, min(new[0] - x, round(self.width * sx))), max(1, min(new[1] - y, round(self.height * sy)))
        )

    def check(self, picture_width: int, picture_height: int) -> None:
        """Raise UsageError unless the area has pixels and lies inside the picture."""
        inside = (
            self.x >= 0 and self.y >= 0 and self.x + self.width <= picture_width and self.y + self.height <= picture_height
        )
        if self.width < 1 or self.height < 1 or not inside:
            raise UsageError(
                f"area={self.x},{self.y},{self.width},{self.height}: does not lie inside the picture of "
                f"{picture_width}x{picture_height}"
            )


Figures = dict[str, Figure | None]
"""Measure to figure; None where it cannot be known from the pictures."""


def measure(pair: Comparison, areas: tuple[Area, ...] = (), only: tuple[str, ...] = ()) -> dict[str, Figures]:
    """Figures of the whole picture under WHOLE and of every area under its name.

    Intervals are percentiles of RESAMPLINGS bootstrap samples of square blocks, at least 16 pixels wide and four
    times the smoothing of light shift. `only` limits which measures are taken. Deterministic. Raises UsageError for an
    area outside the picture.
    """
    height, width = pair.shape
    for area in areas:
        area.check(width, height)
    found: dict[str, Figures] = {name: {} for name in (WHOLE, *(a.name for a in areas))}
    block = max(LEAST_BLOCK_PIXELS, round(4 * pair.sigma))
    wanted = [one for key, one in MEASURES.items() if not only or key in only]
    parts = (Area(WHOLE, 0, 0, width, height), *areas)

    def figures_of(kind: Measure) -> list[Figure | None]:
        maps = kind.maps(pair)
        return [_figure(kind.figure, maps, area, block) if maps is not None else None for area in parts]

    with ThreadPoolExecutor(THREADS) as pool:
        for one, figures in zip(wanted, pool.map(figures_of, wanted), strict=True):
            for area, figure in zip(parts, figures, strict=True):
                found[area.name][one.kind.key] = figure
    return found


def _figure(figure_of: Callable[[Sums], np.ndarray], maps: Maps, area: Area, block: int) -> Figure | None:
    block = max(1, min(block, area.width // 3, area.height // 3))
    sums = {name: _block_sums(values, area, block) for name, values in maps.items()}
    sums["pixels"] = _block_sums(np.broadcast_to(np.float32(1), next(iter(maps.values())).shape), area, block)
    count = len(sums["pixels"])
    picks = np.random.default_rng(0).multinomial(count, np.full(count, 1 / count), RESAMPLINGS).astype(np.float64)
    value = figure_of({name: np.array([s.sum()]) for name, s in sums.items()})[0]
    if np.isnan(value):
        return None
    resampled = figure_of({name: picks @ s for name, s in sums.items()})
    resampled = resampled[~np.isnan(resampled)]
    low, high = np.percentile(resampled, (2.5, 97.5), method="nearest") if len(resampled) else (value, value)
    return Figure(float(value), float(min(low, value)), float(max(high, value)))


def _block_sums(values: np.ndarray, area: Area, block: int) -> np.ndarray:
    """Sums over square blocks of an area, float64[number of blocks]; blocks at its right and lower edge may be smaller."""
    cut = values[area.y : area.y + area.height, area.x : area.x + area.width]
    rows = np.add.reduceat(cut, np.arange(0, area.height, block), axis=0, dtype=np.float64)
    return np.add.reduceat(rows, np.arange(0, area.width, block), axis=1).ravel()

"""All measures of one trial against the reference, for the whole picture and each watch area."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from swift_sample.core.errors import UsageError
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.measure.figures import LOCAL_MEASURES, MEASURES, Measure
from swift_sample.core.measure.intervals import Regions, figure_with_interval, summed
from swift_sample.core.measure.kinds import WORST, Figure
from swift_sample.core.measure.worst import half_cells, worst_place

THREADS = 2
"""Measures are taken this many at a time; their loops release the interpreter."""
LEAST_BLOCK_PIXELS = 16
LEAST_AREA = 16
"""Pixels of an area under which its figures would mean nothing."""
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

        sx = new[0] / old[0]
        sy = new[1] / old[1]
        x, y = min(new[0] - 1, round(self.x * sx)), min(new[1] - 1, round(self.y * sy))

        return Area(
            self.name,
            x,
            y,
            max(1, min(new[0] - x, round(self.width * sx))),
            max(1, min(new[1] - y, round(self.height * sy))),
        )

    def check(self, picture_width: int, picture_height: int) -> None:
        """Raise UsageError unless the area has pixels and lies inside the picture."""
        inside = (
            self.x >= 0
            and self.y >= 0
            and self.x + self.width <= picture_width
            and self.y + self.height <= picture_height
        )
        if self.width < 1 or self.height < 1 or not inside:
            raise UsageError(
                f"area={self.x},{self.y},{self.width},{self.height}: does not lie inside the "
                f"picture of {picture_width}x{picture_height}"
            )


Figures = dict[str, Figure | None]
"""Measure to figure; None where it cannot be known from the pictures."""


def measure(
    pair: Comparison, areas: tuple[Area, ...] = (), only: tuple[str, ...] = ()
) -> dict[str, Figures]:
    """Figures of the whole picture under WHOLE, those of its worst places among them, and of every
    area under its name.

    Intervals tell how far other seeds would move a figure (`intervals`), from blocks at least 16
    pixels wide and four times the smoothing of light shift. An area of fewer than LEAST_AREA pixels
    has no figures. `only` limits which measures are taken. Deterministic. Raises UsageError for an
    area outside the picture.
    """
    height, width = pair.shape
    for area in areas:
        area.check(width, height)

    parts = (Area(WHOLE, 0, 0, width, height), *areas)
    found: dict[str, Figures] = {area.name: {} for area in parts}
    block = max(LEAST_BLOCK_PIXELS, round(4 * pair.sigma))
    quarters = half_cells(width, height)
    regions = [quarters, *(_blocks(area, block) for area in parts)]

    def figures_of(one: Measure) -> tuple[list[Figure | None], Figure | None]:
        evidence = one.look(pair)
        if evidence is None:
            return [None] * len(parts), None

        cells, *blocks = summed(evidence, regions)
        local = LOCAL_MEASURES.get(one.kind.key)
        worst = worst_place(cells, quarters, local) if local is not None else None
        figures = [
            figure_with_interval(sums, one.figure, evidence.counted_in)
            if area.width * area.height >= LEAST_AREA
            else None
            for area, sums in zip(parts, blocks, strict=True)
        ]

        return figures, worst

    wanted = [one for key, one in MEASURES.items() if not only or key in only]
    with ThreadPoolExecutor(THREADS) as pool:
        for one, (figures, worst) in zip(wanted, pool.map(figures_of, wanted), strict=True):
            key = one.kind.key
            for area, figure in zip(parts, figures, strict=True):
                found[area.name][key] = figure

            if key in WORST:
                found[WHOLE][WORST[key].key] = worst

    return found


def _blocks(area: Area, side: int) -> Regions:
    """Three blocks at least along each side, where there are so many pixels."""
    return Regions.blocks(
        area.x,
        area.y,
        area.width,
        area.height,
        max(1, min(side, area.width // 3, area.height // 3)),
    )

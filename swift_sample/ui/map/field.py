"""The field on the map: a small quiet dot for every combination that was derived and not timed, and
the frontier through them."""

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt

from swift_sample.app.axes import SHARE, TIME, Axis
from swift_sample.app.field import Field
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, RANKS
from swift_sample.core.study.answers.field import FieldPoint, foreseen_seconds
from swift_sample.ui.theme import Theme
from swift_sample.ui.widgets.mark_layer import Look, MarkLayer
from swift_sample.ui.widgets.marks import OUTLINES, mark_role, shape_of

DOT_PIXELS, DOT_ALPHA = 5, 115
NO_PLACES = np.zeros(0)


class FieldLayer:
    """Draws the field on a plot. `items` are what the plot shows, the lowest first."""

    def __init__(self) -> None:
        self._dots = MarkLayer(OUTLINES)
        self._frontier = pg.PlotCurveItem()
        self.items = (self._frontier, self._dots)
        self._field: Field | None = None
        self.places = np.zeros((0, 2))
        """where the dots stand, in the plot's units, float64[n, 2]"""
        self._shown: list[int] = []
        """which of the field's points have a place on the axes"""

    def show(self, field: Field | None, axes: tuple[Axis, Axis], theme: Theme) -> None:
        """Put dots where a field's points stand on these axes; `judge` colours them."""
        self._field = field
        self._shown = []
        places = []

        for number, point in enumerate(field.points if field is not None else ()):
            across, up = (axis.figure(point) for axis in axes)
            if across is not None and up is not None:
                self._shown.append(number)
                places.append((max(across.value, axes[0].least), max(up.value, axes[1].least)))

        self.places = np.log2(np.array(places, float)).reshape(-1, 2)
        names = [field.names[number] for number in self._shown] if field is not None else []
        self._dots.set_places(names, self.places[:, 0], self.places[:, 1])
        self._draw_frontier((axes[0].key, axes[1].key) == (TIME, SHARE), theme)

    def judge(self, line: float, theme: Theme) -> None:
        """Colour the dots by their verdict under an acceptance line."""
        if self._field is None or not self._shown:
            return

        codes = self._field.verdicts(line)[np.array(self._shown, np.intp)]
        looks = [
            Look(
                shape_of(verdict, False),
                DOT_PIXELS,
                theme.colour(mark_role(verdict, False)).name(),
                DOT_ALPHA,
            )
            for verdict in RANKS
        ]
        self._dots.set_looks(codes, looks)

    def at(self, place: QPointF, pixels: float) -> FieldPoint | None:
        """The point whose dot is nearest to a place in the plot's units, within so many pixels."""
        name = self._dots.at(place, pixels)
        return self._field.by_name[name] if name is not None and self._field is not None else None

    def towards(
        self, point: FieldPoint | None, across: int, up: int, line: float
    ) -> FieldPoint | None:
        """The point that an arrow leads to from another; from none the fastest that is acceptable
        under a line, else any."""
        if self._field is None or not self._shown:
            return None

        name = self._field.named(point.configuration) if point is not None else None
        if name is None or self._dots.place_of(name) is None:
            shown = [self._field.points[number] for number in self._shown]
            good = [one for one in shown if one.standing.verdict(line) == ACCEPTABLE]
            return min(good or shown, key=foreseen_seconds)

        return self._field.by_name[self._dots.towards(name, across, up) or name]

    @property
    def where(self) -> dict[str, tuple[float, float]]:
        """Where each dot stands, in the plot's units."""
        if self._field is None:
            return {}

        names = [self._field.names[number] for number in self._shown]
        return {name: (float(x), float(y)) for name, (x, y) in zip(names, self.places, strict=True)}

    def place_of(self, point: FieldPoint) -> QPointF | None:
        """Where a point's dot stands, in the plot's units; None where it has none."""
        name = self._field.named(point.configuration) if self._field is not None else None
        return self._dots.place_of(name) if name is not None else None

    def _draw_frontier(self, usual: bool, theme: Theme) -> None:
        """Steps down to the least limit share that is to be had for a time, dotted since nobody
        timed it."""
        pen = pg.mkPen(theme.colour("quiet", 170), width=1, style=Qt.PenStyle.DotLine)
        self._frontier.setPen(pen)
        if not usual or not len(self.places):
            self._frontier.setData(NO_PLACES, NO_PLACES)
            return

        order = np.lexsort((self.places[:, 1], self.places[:, 0]))
        least = np.minimum.accumulate(self.places[order, 1])
        falls = np.flatnonzero(np.diff(least, prepend=np.inf) < 0)
        xs = self.places[order, 0][falls]
        ys = least[falls]
        self._frontier.setData(np.repeat(xs, 2)[1:], np.repeat(ys, 2)[:-1])

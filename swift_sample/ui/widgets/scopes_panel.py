"""Scopes under the pictures of Look: histogram, waveform and one row of one place, every shown
trial over the others."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from swift_sample.app.toning import Source
from swift_sample.core.measure.scopes import Scopes, profile_of, scopes_of
from swift_sample.core.picture.colour import LEVELS
from swift_sample.ui.theme import SMALL, Theme, font

PANEL_HEIGHT, TITLE_HEIGHT, GAP = 132, 18, 12
ROLES = ("ink", "pick", "over", "acceptable")
"""Colours of the first to fourth picture; dashes tell them apart as well."""
DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)
TITLES = ("histogram of brightness", "waveform, from left to right", "the row that is marked")
MOST_ROWS = 512
"""Of a larger place every so many rows are looked at; each of them whole."""


@dataclass(frozen=True)
class Scoped:
    """A picture with its name, and which of the shown ones it is."""

    name: str
    number: int
    source: Source


def box_of(source: Source, place: QRectF | None) -> tuple[int, int, int, int]:
    """x, y, width and height in pixels of a place, which is given in shares of the picture; None
    for all of it."""
    width, height = source.size
    if place is None:
        return 0, 0, width, height

    left = int(place.x() * width)
    top = int(place.y() * height)
    right = max(left + 1, round((place.x() + place.width()) * width))
    bottom = max(top + 1, round((place.y() + place.height()) * height))

    return left, top, min(right, width) - left, min(bottom, height) - top


class ScopesPanel(QWidget):
    """Three scopes beside each other."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._shown: list[tuple[Scoped, Scopes]] = []
        self._profiles: list[np.ndarray] = []
        self._key: object = None
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(PANEL_HEIGHT)
        self.setAccessibleName("Scopes of the shown pictures")

    @property
    def shown(self) -> list[tuple[str, Scopes]]:
        """Names and scopes as they are drawn."""
        return [(scoped.name, scopes) for scoped, scopes in self._shown]

    @property
    def profiles(self) -> list[np.ndarray]:
        """Levels along the row, for every picture."""
        return list(self._profiles)

    def show_pictures(
        self, theme: Theme, pictures: Sequence[Scoped], place: QRectF | None, row: float
    ) -> None:
        """Show the scopes of a place in several pictures, and its row at a share of its height;
        nothing is worked out again while all is as it was."""
        box = None if place is None else (place.x(), place.y(), place.width(), place.height())
        key = (theme.name, box, tuple(pictures))

        if key != self._key:
            self._key = key
            self._theme = theme
            self._shown = [
                (scoped, _scopes(scoped.source, place)) for scoped in pictures[: len(ROLES)]
            ]

        self._profiles = []
        for scoped, _ in self._shown:
            x, y, width, height = box_of(scoped.source, place)
            line = scoped.source.pixels(0, x, y + min(height - 1, int(row * height)), width, 1)
            self._profiles.append(profile_of(line))

        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setFont(font(SMALL))
            width = (self.width() - 4 * GAP) / 3

            for place, title in enumerate(TITLES):
                left = GAP + place * (width + GAP)
                painter.setPen(self._theme.colour("quiet"))
                words = painter.fontMetrics().elidedText(
                    title, Qt.TextElideMode.ElideRight, int(width)
                )
                painter.drawText(
                    QRectF(left, 4, width, TITLE_HEIGHT), Qt.AlignmentFlag.AlignVCenter, words
                )
                box = QRectF(left, 4 + TITLE_HEIGHT, width, PANEL_HEIGHT - TITLE_HEIGHT - 10)
                painter.fillRect(box, self._theme.colour("page"))
                self._draw(painter, place, box)

    def _draw(self, painter: QPainter, place: int, box: QRectF) -> None:
        tallest = max((float(scopes.histogram.max()) for _, scopes in self._shown), default=1.0)
        for (scoped, scopes), profile in zip(self._shown, self._profiles, strict=True):
            number = scoped.number % len(ROLES)
            colour = self._theme.colour(ROLES[number])
            painter.setPen(QPen(colour, 1.5, DASHES[number]))

            if place == 0:
                # The root lets small shares be seen.
                painter.drawPolyline(QPolygonF(_points(np.sqrt(scopes.histogram / tallest), box)))
            elif place == 1:
                low, middle, high = (_points(row / LEVELS, box) for row in scopes.waveform)
                painter.drawPolyline(QPolygonF(middle))
                band = QPolygonF([*low, *reversed(high)])
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(self._theme.colour(ROLES[number], 50))
                painter.drawPolygon(band)
                painter.setBrush(Qt.BrushStyle.NoBrush)
            else:
                painter.drawPolyline(QPolygonF(_points(profile / LEVELS, box)))


def _scopes(source: Source, place: QRectF | None) -> Scopes:
    x, y, width, height = box_of(source, place)
    step = max(1, height // MOST_ROWS)
    if step == 1:
        return scopes_of(source.pixels(0, x, y, width, height))

    return scopes_of(
        np.concatenate([source.pixels(0, x, row, width, 1) for row in range(y, y + height, step)])
    )


def _points(values: np.ndarray, box: QRectF) -> list[QPointF]:
    """Values from 0 to 1 from left to right of a box, 0 at its foot."""
    xs = (
        box.left() + box.width() * np.linspace(0, 1, len(values))
        if len(values) > 1
        else np.array([box.center().x()])
    )
    ys = box.bottom() - box.height() * np.clip(values, 0, 1)
    return [QPointF(float(x), float(y)) for x, y in zip(xs, ys, strict=True)]

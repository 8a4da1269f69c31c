"""Scopes under the pictures of Look: histogram, waveform and middle row of one place, every shown trial over the others."""

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from swift_sample.core.measure.scopes import Scopes, scopes_of
from swift_sample.core.picture.colour import LEVELS
from swift_sample.ui.theme import SMALL, Theme, font

PANEL_HEIGHT, TITLE_HEIGHT, GAP = 132, 18, 12
ROLES = ("ink", "pick", "over", "acceptable")
"""Colours of the first to fourth picture; dashes tell them apart as well."""
DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)
TITLES = ("histogram of brightness", "waveform, from left to right", "the middle row")


def pixels_of(image: QImage, place: tuple[float, float, float, float] | None) -> np.ndarray:
    """uint8[h, w, 3] of an image, or of the part that lies at `place`: x, y, width and height as shares of its size."""
    plain = image.convertToFormat(QImage.Format.Format_RGB888)
    bits = plain.constBits()
    assert bits is not None
    rows = np.frombuffer(bytes(bits.asarray(plain.sizeInBytes())), np.uint8).reshape(plain.height(), plain.bytesPerLine())
    pixels = rows[:, : 3 * plain.width()].reshape(plain.height(), plain.width(), 3)
    if place is None:
        return pixels.copy()
    x, y, width, height = place
    left, top = int(x * plain.width()), int(y * plain.height())
    right = max(left + 1, round((x + width) * plain.width()))
    bottom = max(top + 1, round((y + height) * plain.height()))
    return pixels[top:bottom, left:right].copy()


class ScopesPanel(QWidget):
    """Three scopes beside each other; the pictures come with their names."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._shown: list[tuple[str, Scopes]] = []
        self._key: object = None
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(PANEL_HEIGHT)
        self.setAccessibleName("Scopes of the shown pictures")

    @property
    def shown(self) -> list[tuple[str, Scopes]]:
        """Names and scopes as they are drawn."""
        return list(self._shown)

    def show_pictures(
        self, theme: Theme, pictures: Sequence[tuple[str, QImage]], place: tuple[float, float, float, float] | None
    ) -> None:
        """Show the scopes of a place in several pictures; nothing is worked out again while all is as it was."""
        key = (theme.name, place, tuple((name, image.cacheKey()) for name, image in pictures))
        if key != self._key:
            self._key, self._theme = key, theme
            self._shown = [(name, scopes_of(pixels_of(image, place))) for name, image in pictures[: len(ROLES)]]
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
                words = painter.fontMetrics().elidedText(title, Qt.TextElideMode.ElideRight, int(width))
                painter.drawText(QRectF(left, 4, width, TITLE_HEIGHT), Qt.AlignmentFlag.AlignVCenter, words)
                box = QRectF(left, 4 + TITLE_HEIGHT, width, PANEL_HEIGHT - TITLE_HEIGHT - 10)
                painter.fillRect(box, self._theme.colour("page"))
                self._draw(painter, place, box)

    def _draw(self, painter: QPainter, place: int, box: QRectF) -> None:
        tallest = max((float(scopes.histogram.max()) for _, scopes in self._shown), default=1.0)
        for number, (_, scopes) in enumerate(self._shown):
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
                painter.drawPolyline(QPolygonF(_points(scopes.profile / LEVELS, box)))


def _points(values: np.ndarray, box: QRectF) -> list[QPointF]:
    """Values from 0 to 1 from left to right of a box, 0 at its foot."""
    xs = box.left() + box.width() * np.linspace(0, 1, len(values)) if len(values) > 1 else np.array([box.center().x()])
    ys = box.bottom() - box.height() * np.clip(values, 0, 1)
    return [QPointF(float(x), float(y)) for x, y in zip(xs, ys, strict=True)]

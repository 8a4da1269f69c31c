"""Draws thousands of marks on a plot: every look of a mark is drawn once and stamped where it is
wanted, and all of them are drawn again only when a mark or the view has changed."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPixmap, QTransform
from PyQt6.QtWidgets import QGraphicsItem, QStyleOptionGraphicsItem, QWidget

SPARE_PIXELS = 2
"""Room around a mark for its smooth edge."""
MANY = 1500
ALIKE_PIXELS = 2.0
"""With more marks than this, of those that look alike and stand within so many pixels only the
uppermost is drawn."""


@dataclass(frozen=True)
class Look:
    """What a mark looks like: its shape by name, an outline about one unit wide, its size in pixels
    and its colour."""

    shape: str
    pixels: int
    colour: str
    alpha: int = 255


class MarkLayer(pg.GraphicsObject):
    """Marks at places of the plot, later ones above earlier ones."""

    def __init__(self, outlines: dict[str, QPainterPath]) -> None:
        super().__init__()
        self._outlines = outlines
        self._xs = self._ys = np.zeros(0)
        self._codes = np.zeros(0, np.intp)
        self._looks: list[Look] = []
        self._names: list[str] = []
        self._stamps: dict[tuple[Look, float], QPixmap] = {}
        self.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)

    def set_places(self, names: Sequence[str], xs: np.ndarray, ys: np.ndarray) -> None:
        """Where marks stand; xs and ys are float64[n] in the plot's own units. Their looks
        follow."""
        self.prepareGeometryChange()
        self._names = list(names)
        self._xs = np.asarray(xs, float)
        self._ys = np.asarray(ys, float)
        self._codes = np.zeros(len(self._xs), np.intp)
        self._looks = []
        self.update()

    def set_looks(self, codes: np.ndarray, looks: Sequence[Look]) -> None:
        """What marks look like: for each the place of its look among `looks`, intp[n]."""
        if list(looks) != self._looks or not np.array_equal(codes, self._codes):
            self._codes = codes
            self._looks = list(looks)
            self.update()

    @property
    def looks(self) -> dict[str, Look]:
        """What every mark looks like, by name."""
        return {
            name: self._looks[code] for name, code in zip(self._names, self._codes, strict=True)
        }

    def place_of(self, name: str) -> QPointF | None:
        """Where a mark stands, in the plot's units."""
        try:
            k = self._names.index(name)
        except ValueError:
            return None

        return QPointF(float(self._xs[k]), float(self._ys[k]))

    def at(self, point: QPointF, pixels: float) -> str | None:
        """The mark nearest to a point (in the plot's units), no further away than so many
        pixels."""
        if not len(self._xs):
            return None

        width, height = self.pixelVectors()
        if width is None or height is None or not width.x() or not height.y():
            return None

        far = np.hypot((self._xs - point.x()) / width.x(), (self._ys - point.y()) / height.y())
        k = int(np.argmin(far))
        return self._names[k] if far[k] <= pixels else None

    def towards(self, name: str, across: int, up: int) -> str | None:
        """The mark that an arrow leads to from another: the nearest ahead, in pixels, those
        straight ahead first."""
        k, (width, height) = self._names.index(name), self.pixelVectors()
        if width is None or height is None or not width.x() or not height.y():
            return None

        dx, dy = (
            (self._xs - self._xs[k]) / abs(width.x()),
            (self._ys - self._ys[k]) / abs(height.y()),
        )
        ahead = dx * across + dy * up
        far = np.hypot(dx, dy)
        there = np.flatnonzero((ahead > 0.02 * far) & (far > 0))

        return (
            self._names[there[np.argmin(far[there] * (2 - ahead[there] / far[there]))]]
            if len(there)
            else None
        )

    def boundingRect(self) -> QRectF:
        if not len(self._xs):
            return QRectF()

        width, height = self.pixelVectors()
        reach = max((look.pixels for look in self._looks), default=0) / 2 + SPARE_PIXELS
        dx = abs(width.x()) * reach if width is not None else 0.0
        dy = abs(height.y()) * reach if height is not None else 0.0
        left = self._xs.min()
        right = self._xs.max()
        low = self._ys.min()
        high = self._ys.max()

        return QRectF(left - dx, low - dy, right - left + 2 * dx, high - low + 2 * dy)

    def viewTransformChanged(self) -> None:
        self.prepareGeometryChange()
        super().viewTransformChanged()

    def paint(
        self,
        painter: QPainter | None,
        option: QStyleOptionGraphicsItem | None,
        widget: QWidget | None = None,
    ) -> None:
        if painter is None or not len(self._xs) or not self._looks:
            return

        device = painter.device()
        ratio = device.devicePixelRatioF() if device is not None else 1.0
        t = painter.worldTransform()
        painter.save()
        painter.resetTransform()
        xs = t.m11() * self._xs + t.m31()
        ys = t.m22() * self._ys + t.m32()
        stamps = [self._stamp(look, ratio) for look in self._looks]
        codes = self._codes
        reach = np.array([look.pixels / 2 + SPARE_PIXELS for look in self._looks])

        if len(xs) > MANY:
            seen = _last_of_each(xs, ys, codes)
            xs = xs[seen]
            ys = ys[seen]
            codes = codes[seen]

        for x, y, code in zip(
            (xs - reach[codes]).tolist(), (ys - reach[codes]).tolist(), codes.tolist(), strict=True
        ):
            painter.drawPixmap(QPointF(x, y), stamps[code])

        painter.restore()

    def _stamp(self, look: Look, ratio: float) -> QPixmap:
        stamp = self._stamps.get((look, ratio))
        if stamp is None:
            side = look.pixels + 2 * SPARE_PIXELS
            stamp = QPixmap(int(side * ratio), int(side * ratio))
            stamp.setDevicePixelRatio(ratio)
            stamp.fill(Qt.GlobalColor.transparent)
            colour = QColor(look.colour)
            colour.setAlpha(look.alpha)

            with QPainter(stamp) as painter:
                painter.setRenderHint(QPainter.RenderHint.Antialiasing)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(colour)
                painter.drawPath(
                    QTransform()
                    .translate(side / 2, side / 2)
                    .scale(look.pixels, look.pixels)
                    .map(self._outlines[look.shape])
                )

            self._stamps[look, ratio] = stamp

        return stamp


def _last_of_each(xs: np.ndarray, ys: np.ndarray, codes: np.ndarray) -> np.ndarray:
    """Of marks that look alike and stand on one spot the place of the last, in rising order;
    intp[m]."""
    spots = (
        (np.floor(xs / ALIKE_PIXELS).astype(np.int64) << 40)
        + (np.floor(ys / ALIKE_PIXELS).astype(np.int64) << 8)
        + codes
    )
    _, first = np.unique(spots[::-1], return_index=True)
    return np.sort(len(xs) - 1 - first)

"""The canvas of Look: pictures under one viewport, side by side or under a wipe, with the watch areas drawn over them."""

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QWidget

from swift_sample.core.study.plan.model import WatchArea
from swift_sample.ui.theme import SMALL, Theme, font

ZOOMS = (0.25, 1 / 3, 0.5, 1.0, 2.0, 3.0, 4.0, 6.0, 8.0, 12.0, 16.0, 24.0, 32.0)
"""Screen pixels for a pixel of the picture: whole steps above one."""
GAP = 12
GRAB_PIXELS = 8
LEAST_AREA_PIXELS = 4
"""Shorter sides are a slip of the hand, not a watch area."""


@dataclass
class Viewport:
    """What part of the pictures is seen, shared by all panes: the picture point in the middle, and the zoom."""

    centre: QPointF | None = None
    zoom: float | None = None
    """None: as large as fits in whole steps"""


@dataclass(frozen=True)
class Shown:
    """One picture to draw."""

    name: str
    image: QImage | None
    message: str


class PictureCanvas(QWidget):
    """Draws one to four pictures under one viewport. Drag moves, the wheel zooms, the wipe's edge can be dragged.

    While `drawing_area` holds, a drag draws a rectangle instead. Watch areas are drawn over every picture.
    """

    area_drawn = pyqtSignal(int, int, int, int)
    area_clicked = pyqtSignal(str)
    area_opened = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._shown: list[Shown] = []
        self._wipe = False
        self.wipe_share = 0.5
        self.viewport = Viewport()
        self._dragging: QPointF | None = None
        self._dragging_wipe = False
        self.drawing_area = False
        self._areas: tuple[WatchArea, ...] = ()
        self._chosen_area = ""
        self._area_size = (1, 1)
        self._corner: QPointF | None = None
        self._opposite: QPointF | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Pictures; drag to move, wheel or plus and minus to zoom, 0 fits")

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def show_pictures(self, shown: list[Shown], wipe: bool) -> None:
        self._shown, self._wipe = shown, wipe and len(shown) >= 2
        self.update()

    def show_areas(self, areas: tuple[WatchArea, ...], size: tuple[int, int], chosen: str) -> None:
        """Draw watch areas, which are in pixels of a picture of `size`."""
        self._areas, self._area_size, self._chosen_area = areas, size, chosen
        self.update()

    def _image(self) -> QImage | None:
        return next((s.image for s in self._shown if s.image is not None), None)

    def _area_at(self, at: QPointF) -> str:
        """The name of the smallest watch area under a point of the screen; empty for none."""
        image = self._image()
        if image is None:
            return ""
        areas = [
            (rect.width() * rect.height(), area.name)
            for pane in self.panes()
            if pane.contains(at)
            for area in self._areas
            if (rect := self._area_rect(area, pane, image)).contains(at)
        ]
        return min(areas)[1] if areas else ""

    def _area_rect(self, area: WatchArea, pane: QRectF, image: QImage) -> QRectF:
        target = self._target(pane, image)
        sx, sy = target.width() / self._area_size[0], target.height() / self._area_size[1]
        return QRectF(target.x() + area.x * sx, target.y() + area.y * sy, area.width * sx, area.height * sy)

    def _picture_point(self, at: QPointF) -> QPointF:
        """A point of the screen in pixels of the study's size, kept inside the picture."""
        image = self._image()
        assert image is not None
        pane = next((p for p in self.panes() if p.contains(at)), self.panes()[0])
        target = self._target(pane, image)
        return QPointF(
            min(max((at.x() - target.x()) / target.width(), 0.0), 1.0) * self._area_size[0],
            min(max((at.y() - target.y()) / target.height(), 0.0), 1.0) * self._area_size[1],
        )

    def panes(self) -> list[QRectF]:
        """Where each picture's pane lies; one pane for all under a wipe."""
        count = 1 if self._wipe else max(1, len(self._shown))
        columns = count if count <= 2 else 2
        rows = (count + columns - 1) // columns
        width = (self.width() - GAP * (columns - 1)) / columns
        height = (self.height() - GAP * (rows - 1)) / rows
        return [QRectF((k % columns) * (width + GAP), (k // columns) * (height + GAP), width, height) for k in range(count)]

    def zoom(self) -> float:
        """Screen pixels for a pixel of the picture."""
        if self.viewport.zoom is not None:
            return self.viewport.zoom
        image = next((s.image for s in self._shown if s.image is not None), None)
        if image is None:
            return 1.0
        pane = self.panes()[0]
        fit = min(pane.width() / image.width(), pane.height() / image.height())
        return fit

    def zoom_by_step(self, up: bool, at: QPointF | None = None) -> None:
        """Zoom one whole step in or out, keeping the picture point under `at` in place."""
        image = next((s.image for s in self._shown if s.image is not None), None)
        if image is None:
            return
        now = self.zoom()
        steps = [z for z in ZOOMS if (z > now * 1.001 if up else z < now * 0.999)]
        if not steps:
            return
        pane = next((p for p in self.panes() if at is not None and p.contains(at)), self.panes()[0])
        target = self._target(pane, image)
        anchor = at if at is not None else pane.center()
        point = QPointF((anchor.x() - target.x()) / now, (anchor.y() - target.y()) / now)
        self.viewport.zoom = steps[0] if up else steps[-1]
        z = self.viewport.zoom
        self.viewport.centre = QPointF(
            point.x() + (pane.center().x() - anchor.x()) / z, point.y() + (pane.center().y() - anchor.y()) / z
        )
        self.update()

    def fit(self) -> None:
        """Show the whole pictures."""
        self.viewport.zoom = self.viewport.centre = None
        self.update()

    def _target(self, pane: QRectF, image: QImage) -> QRectF:
        """Where the whole picture lies on the screen for a pane."""
        z = self.zoom()
        centre = self.viewport.centre or QPointF(image.width() / 2, image.height() / 2)
        left, top = pane.center().x() - centre.x() * z, pane.center().y() - centre.y() * z
        return QRectF(round(left), round(top), image.width() * z, image.height() * z)

    def paintEvent(self, _: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), self._theme.colour("surround"))
            panes = self.panes()
            if not self._wipe:
                for shown, pane in zip(self._shown, panes, strict=False):
                    self._paint_picture(painter, shown, pane, pane)
                return
            pane = panes[0]
            edge = pane.x() + pane.width() * self.wipe_share
            left, right = QRectF(pane), QRectF(pane)
            left.setRight(edge)
            right.setLeft(edge)
            self._paint_picture(painter, self._shown[0], pane, left)
            self._paint_picture(painter, self._shown[1], pane, right)
            painter.setPen(QPen(self._theme.colour("page"), 2))
            painter.drawLine(QPointF(edge, pane.top()), QPointF(edge, pane.bottom()))

    def _paint_picture(self, painter: QPainter, shown: Shown, pane: QRectF, clip: QRectF) -> None:
        painter.save()
        painter.setClipRect(clip)
        if shown.image is None:
            painter.setPen(self._theme.colour("page"))
            painter.setFont(font())
            painter.drawText(
                clip.adjusted(20, 0, -20, 0), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, shown.message
            )
        else:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.zoom() < 1)
            painter.drawImage(self._target(pane, shown.image), shown.image)
            self._paint_areas(painter, shown.image, pane)
        painter.restore()

    def _paint_areas(self, painter: QPainter, image: QImage, pane: QRectF) -> None:
        painter.setFont(font(SMALL, bold=True))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for area in self._areas:
            rect = self._area_rect(area, pane, image)
            chosen = area.name == self._chosen_area
            for colour, width in (
                (self._theme.colour("surround"), 4.0 if chosen else 3.0),
                (self._theme.colour("pick" if chosen else "panel"), 2.0 if chosen else 1.0),
            ):
                painter.setPen(QPen(colour, width))
                painter.drawRect(rect)
            words = painter.fontMetrics().boundingRect(area.name).width() + 10
            above = rect.top() - 18 >= pane.top()
            tag = QRectF(rect.left() - 1, rect.top() - 18 if above else rect.top(), words, 18)
            painter.fillRect(tag, self._theme.colour("panel"))
            painter.setPen(self._theme.colour("pick" if chosen else "text"))
            painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, area.name)
        if self._corner is not None and self._opposite is not None:
            target = self._target(pane, image)
            sx, sy = target.width() / self._area_size[0], target.height() / self._area_size[1]
            drawn = QRectF(self._corner, self._opposite).normalized()
            painter.setPen(QPen(self._theme.colour("pick"), 2, Qt.PenStyle.DashLine))
            painter.drawRect(
                QRectF(target.x() + drawn.x() * sx, target.y() + drawn.y() * sy, drawn.width() * sx, drawn.height() * sy)
            )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self.drawing_area and self._image() is not None:
            self._corner = self._opposite = self._picture_point(event.position())
            return
        self._dragging_wipe = self._wipe and abs(event.position().x() - self._wipe_edge()) <= GRAB_PIXELS
        if not self._dragging_wipe:
            self.area_clicked.emit(self._area_at(event.position()))
        self._dragging = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._corner is not None:
            self._opposite = self._picture_point(event.position())
            self.update()
            return
        if self.drawing_area:
            self.setCursor(Qt.CursorShape.CrossCursor)
            return
        near = self._wipe and abs(event.position().x() - self._wipe_edge()) <= GRAB_PIXELS
        self.setCursor(Qt.CursorShape.SplitHCursor if near or self._dragging_wipe else Qt.CursorShape.OpenHandCursor)
        if self._dragging is None:
            return
        if self._dragging_wipe:
            pane = self.panes()[0]
            self.wipe_share = min(0.98, max(0.02, (event.position().x() - pane.x()) / max(1.0, pane.width())))
        else:
            self._move_by(event.position() - self._dragging)
        self._dragging = event.position()
        self.update()

    def mouseReleaseEvent(self, _: QMouseEvent | None) -> None:
        self._dragging, self._dragging_wipe = None, False
        corner, opposite = self._corner, self._opposite
        self._corner = self._opposite = None
        if corner is not None and opposite is not None:
            x, y = (int(min(corner.x(), opposite.x())), int(min(corner.y(), opposite.y())))
            width, height = round(max(corner.x(), opposite.x())) - x, round(max(corner.y(), opposite.y())) - y
            if min(width, height) >= LEAST_AREA_PIXELS:
                self.area_drawn.emit(x, y, width, height)
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and (name := self._area_at(event.position())):
            self.area_opened.emit(name)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.zoom_by_step(event.angleDelta().y() > 0, event.position())

    def _wipe_edge(self) -> float:
        pane = self.panes()[0]
        return pane.x() + pane.width() * self.wipe_share

    def _move_by(self, delta: QPointF) -> None:
        image = next((s.image for s in self._shown if s.image is not None), None)
        if image is None:
            return
        z = self.zoom()
        centre = self.viewport.centre or QPointF(image.width() / 2, image.height() / 2)
        self.viewport.zoom = z
        self.viewport.centre = QPointF(
            min(float(image.width()), max(0.0, centre.x() - delta.x() / z)),
            min(float(image.height()), max(0.0, centre.y() - delta.y() / z)),
        )

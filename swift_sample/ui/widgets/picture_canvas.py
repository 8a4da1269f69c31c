"""The canvas of Look: pictures under one viewport, side by side or under a wipe, with the watch
areas drawn over them."""

from collections import OrderedDict
from dataclasses import dataclass, replace

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from swift_sample.app.toning import Source, to_image
from swift_sample.core.study.plan.model import WatchArea
from swift_sample.ui.theme import SMALL, Theme, font

ZOOMS = (0.25, 1 / 3, 0.5, 1.0, 2.0, 3.0, 4.0, 6.0, 8.0, 12.0, 16.0, 24.0, 32.0)
"""Screen pixels for a pixel of the picture: whole steps above one."""
GAP = 12
GRAB_PIXELS = 8
LEAST_AREA_PIXELS = 4
"""Shorter sides are a slip of the hand, not a watch area."""
LOUPE_PIXELS = 152
LOUPE_ZOOM = 8
HANDLES = {
    "nw": (0.0, 0.0),
    "n": (0.5, 0.0),
    "ne": (1.0, 0.0),
    "e": (1.0, 0.5),
    "se": (1.0, 1.0),
    "s": (0.5, 1.0),
    "sw": (0.0, 1.0),
    "w": (0.0, 0.5),
}
"""Where the chosen area can be taken hold of, as shares of its sides."""
CURSORS = {
    "nw": Qt.CursorShape.SizeFDiagCursor,
    "se": Qt.CursorShape.SizeFDiagCursor,
    "ne": Qt.CursorShape.SizeBDiagCursor,
    "sw": Qt.CursorShape.SizeBDiagCursor,
    "n": Qt.CursorShape.SizeVerCursor,
    "s": Qt.CursorShape.SizeVerCursor,
    "e": Qt.CursorShape.SizeHorCursor,
    "w": Qt.CursorShape.SizeHorCursor,
    "move": Qt.CursorShape.SizeAllCursor,
}
MOST_DRAWN = 12
"""Regions of pictures that are kept as they were drawn."""


@dataclass
class Viewport:
    """What part of the pictures is seen, shared by all panes: the picture point in the middle, and
    the zoom."""

    centre: QPointF | None = None
    zoom: float | None = None
    """None: as large as fits in whole steps"""


@dataclass(frozen=True)
class Shown:
    """One picture to draw, or why there is none."""

    name: str
    source: Source | None
    message: str

    @property
    def is_there(self) -> bool:
        return self.source is not None and not self.source.problem

    @property
    def words(self) -> str:
        """Why there is no picture."""
        return (
            self.source.problem if self.source is not None and self.source.problem else self.message
        )


class PictureCanvas(QWidget):
    """Draws one to four pictures under one viewport. Drag moves, the wheel zooms, the wipe's edge
    can be dragged.

    While `drawing_area` holds, a drag draws a rectangle; while `brush` is a radius in pixels of the
    picture, it paints. Watch areas are drawn over every picture; the chosen one can be moved,
    resized, and with Ctrl copied. Above and below each picture `head` and `foot` pixels are left
    free for what stands in its pane.
    """

    area_drawn = pyqtSignal(int, int, int, int)
    area_clicked = pyqtSignal(str)
    area_opened = pyqtSignal(str)
    area_changed = pyqtSignal(str, int, int, int, int, bool)
    """a watch area is dragged to here; at last whether a copy is wanted"""
    pointed = pyqtSignal(object)
    """the point of the picture under the pointer, in pixels; None outside"""
    row_moved = pyqtSignal(float)
    painted = pyqtSignal(QPointF, QPointF, bool)
    """a stroke from one point of the picture to another; whether it is the first of a drag"""
    laid_out = pyqtSignal()
    """panes lie elsewhere now"""
    changed = pyqtSignal()
    """zoom or place are others now"""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._shown: list[Shown] = []
        self._wipe = False
        self.wipe_share = 0.5
        self.viewport = Viewport()
        self.head = self.foot = 0
        self.loupe = False
        self.brush = 0.0
        self.row: float | None = None
        """where the row of the scopes lies, as a share of the height of what they show; None for
        none"""
        self.row_place: QRectF | None = None
        """what the scopes show, in pixels of the picture; None for all of it"""
        self._drawn: OrderedDict[tuple[object, ...], QImage] = OrderedDict()
        self._at: QPointF | None = None
        self._dragging: QPointF | None = None
        self._grabbed = ""
        """what a drag moves: "wipe", "row", "paint", "move", or a handle of the chosen area"""
        self._grabbed_area: WatchArea | None = None
        self._draft: WatchArea | None = None
        self.drawing_area = False
        self._areas: tuple[WatchArea, ...] = ()
        self._chosen_area = ""
        self._area_size = (1, 1)
        self._corner: QPointF | None = None
        self._opposite: QPointF | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Pictures; drag to move, wheel or plus and minus to zoom, 0 fits")

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def show_pictures(self, shown: list[Shown], wipe: bool) -> None:
        before = len(self.panes()), self.size_shown
        self._shown = shown
        self._wipe = wipe and len(shown) >= 2

        if before != (len(self.panes()), self.size_shown):
            self.laid_out.emit()

        self.update()

    def show_areas(self, areas: tuple[WatchArea, ...], size: tuple[int, int], chosen: str) -> None:
        """Draw watch areas, which are in pixels of a picture of `size`."""
        self._areas = areas
        self._area_size = size
        self._chosen_area = chosen
        self.update()

    @property
    def size_shown(self) -> tuple[int, int] | None:
        """Width and height of the first picture that is there; the viewport is in its pixels."""
        return next(
            (s.source.size for s in self._shown if s.source is not None and s.is_there), None
        )

    def cells(self) -> list[QRectF]:
        """Where each picture's pane lies with its head and foot; one pane for all under a wipe.
        Columns are chosen so that pictures are as large as they can be."""
        count = 1 if self._wipe else max(1, len(self._shown))
        width, height = self.size_shown or (16, 9)

        def side(columns: int) -> float:
            rows = -(-count // columns)
            across = (self.width() - GAP * (columns - 1)) / columns
            down = (self.height() - GAP * (rows - 1)) / rows - self.head - self.foot
            return min(across / width, down / height)

        columns = max(range(1, count + 1), key=lambda c: (round(side(c), 6), -abs(c - 2)))
        rows = -(-count // columns)
        across = (self.width() - GAP * (columns - 1)) / columns
        down = (self.height() - GAP * (rows - 1)) / rows

        return [
            QRectF((k % columns) * (across + GAP), (k // columns) * (down + GAP), across, down)
            for k in range(count)
        ]

    def panes(self) -> list[QRectF]:
        """Where each picture's pane lies."""
        return [cell.adjusted(0, self.head, 0, -self.foot) for cell in self.cells()]

    def zoom(self) -> float:
        """Screen pixels for a pixel of the first picture."""
        if self.viewport.zoom is not None:
            return self.viewport.zoom

        size = self.size_shown
        if size is None:
            return 1.0

        pane = self.panes()[0]
        return max(1e-3, min(pane.width() / size[0], pane.height() / size[1]))

    def zoom_by_step(self, up: bool, at: QPointF | None = None) -> None:
        """Zoom one whole step in or out, keeping the picture point under `at` in place."""
        size = self.size_shown
        if size is None:
            return

        now = self.zoom()
        steps = [z for z in ZOOMS if (z > now * 1.001 if up else z < now * 0.999)]
        if not steps:
            return

        pane = self._pane_at(at)
        target = self._target(pane, size)
        anchor = at if at is not None else pane.center()
        point = QPointF((anchor.x() - target.x()) / now, (anchor.y() - target.y()) / now)
        self.viewport.zoom = steps[0] if up else steps[-1]
        z = self.viewport.zoom
        self.viewport.centre = QPointF(
            point.x() + (pane.center().x() - anchor.x()) / z,
            point.y() + (pane.center().y() - anchor.y()) / z,
        )
        self.changed.emit()
        self.update()

    def fit(self) -> None:
        """Show the whole pictures."""
        self.viewport.zoom = self.viewport.centre = None
        self.changed.emit()
        self.update()

    def look_at(self, area: QRectF) -> None:
        """Show a part of the pictures, in their pixels, as large as whole steps allow."""
        pane = self.panes()[0]
        fits = [
            z
            for z in ZOOMS
            if z * area.width() <= pane.width() and z * area.height() <= pane.height()
        ]
        self.viewport.zoom = fits[-1] if fits else ZOOMS[0]
        self.viewport.centre = area.center()
        self.changed.emit()
        self.update()

    def seen(self) -> QRectF:
        """What part of the pictures is seen, in pixels of the first."""
        size = self.size_shown or (1, 1)
        pane = self.panes()[0]
        z = self.zoom()
        target = self._target(pane, size)
        inside = pane.intersected(target)

        return QRectF(
            (inside.x() - target.x()) / z,
            (inside.y() - target.y()) / z,
            inside.width() / z,
            inside.height() / z,
        )

    def picture_point(self, at: QPointF) -> QPointF:
        """A point of the screen in pixels of the picture, kept inside it."""
        size = self.size_shown or (1, 1)
        target = self._target(self._pane_at(at), size)

        return QPointF(
            min(max((at.x() - target.x()) / target.width(), 0.0), 1.0) * size[0],
            min(max((at.y() - target.y()) / target.height(), 0.0), 1.0) * size[1],
        )

    def _pane_at(self, at: QPointF | None) -> QRectF:
        panes = self.panes()
        return next((pane for pane in panes if at is not None and pane.contains(at)), panes[0])

    def _target(self, pane: QRectF, size: tuple[int, int]) -> QRectF:
        """Where a whole picture of a size lies on the screen for a pane; those of another size lie
        over the first."""
        first = self.size_shown or size
        z = self.zoom()
        centre = self.viewport.centre or QPointF(first[0] / 2, first[1] / 2)
        left = pane.center().x() - centre.x() * z
        top = pane.center().y() - centre.y() * z

        return QRectF(round(left), round(top), first[0] * z, first[1] * z)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.laid_out.emit()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), self._theme.colour("surround"))
            panes = self.panes()

            if not self._wipe:
                for shown, pane in zip(self._shown, panes, strict=False):
                    self._paint_picture(painter, shown, pane, pane)
            else:
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
        source = shown.source

        if source is None or not shown.is_there:
            painter.setPen(self._theme.colour("page"))
            painter.setFont(font())
            painter.drawText(
                clip.adjusted(20, 0, -20, 0),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                shown.words,
            )
        else:
            target = self._target(pane, source.size)
            self._paint_region(painter, source, target, clip)
            self._paint_areas(painter, target, pane)
            self._paint_pointer(painter, source, target, pane)

        painter.restore()

    def _paint_region(
        self, painter: QPainter, source: Source, target: QRectF, clip: QRectF
    ) -> None:
        """Draw what of a picture is inside the clip, toned at the resolution that the screen
        has."""
        width, height = source.size
        inside = target.intersected(clip)
        if inside.isEmpty():
            return

        zoom = target.width() / width
        level = source.level_for(zoom * self.devicePixelRatioF())
        scale = 2**level
        side = zoom * scale
        x, y = int((inside.x() - target.x()) // side), int((inside.y() - target.y()) // side)
        right = -((target.x() - inside.right()) // side)
        bottom = -((target.y() - inside.bottom()) // side)
        columns, rows = -(-width // scale), -(-height // scale)
        across = min(int(right) + 1, columns) - x
        down = min(int(bottom) + 1, rows) - y
        image = self._region(source, level, x, y, across, down)
        # The last pixel of a level stands for what is left of the picture.
        place = QRectF(
            target.x() + x * side,
            target.y() + y * side,
            image.width() * side,
            image.height() * side,
        )
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, side < 1)
        painter.drawImage(place, image)

    def _region(self, source: Source, level: int, x: int, y: int, across: int, down: int) -> QImage:
        key = (source, level, x, y, across, down)
        image = self._drawn.get(key)

        if image is None:
            image = self._drawn[key] = to_image(source.pixels(level, x, y, across, down))
            while len(self._drawn) > MOST_DRAWN:
                self._drawn.popitem(last=False)
        else:
            self._drawn.move_to_end(key)

        return image

    def _area_rect(self, area: WatchArea, target: QRectF) -> QRectF:
        sx = target.width() / self._area_size[0]
        sy = target.height() / self._area_size[1]
        return QRectF(
            target.x() + area.x * sx, target.y() + area.y * sy, area.width * sx, area.height * sy
        )

    def _paint_areas(self, painter: QPainter, target: QRectF, pane: QRectF) -> None:
        painter.setFont(font(SMALL, bold=True))
        painter.setBrush(Qt.BrushStyle.NoBrush)

        for known in self._areas:
            area = (
                self._draft if self._draft is not None and known.name == self._draft.name else known
            )
            rect = self._area_rect(area, target)
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

            if chosen:
                for x, y in HANDLES.values():
                    at = QPointF(rect.x() + x * rect.width(), rect.y() + y * rect.height())
                    painter.fillRect(
                        QRectF(at.x() - 3, at.y() - 3, 7, 7), self._theme.colour("pick")
                    )

        if self._corner is not None and self._opposite is not None:
            size = self.size_shown or (1, 1)
            sx = target.width() / size[0]
            sy = target.height() / size[1]
            drawn = QRectF(self._corner, self._opposite).normalized()
            painter.setPen(QPen(self._theme.colour("pick"), 2, Qt.PenStyle.DashLine))
            painter.drawRect(
                QRectF(
                    target.x() + drawn.x() * sx,
                    target.y() + drawn.y() * sy,
                    drawn.width() * sx,
                    drawn.height() * sy,
                )
            )

        row = self._row_line(target)
        if row is not None:
            for role, width in (("surround", 3.0), ("pick", 1.0)):
                painter.setPen(QPen(self._theme.colour(role), width, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(row.left(), row.top()), QPointF(row.right(), row.top()))

    def _row_line(self, target: QRectF) -> QRectF | None:
        """Where the row of the scopes runs on the screen; None where there is none."""
        size = self.size_shown
        if self.row is None or size is None:
            return None

        place = self.row_place or QRectF(0, 0, size[0], size[1])
        z = target.width() / size[0]
        y = target.y() + (place.y() + self.row * place.height()) * z

        return QRectF(target.x() + place.x() * z, y, place.width() * z, 0)

    def _paint_pointer(
        self, painter: QPainter, source: Source, target: QRectF, pane: QRectF
    ) -> None:
        """The brush, the loupe, and in the panes that the pointer is not in a cross at the same
        place."""
        at = self._at
        size = self.size_shown
        if at is None or size is None:
            return

        point = self.picture_point(at)
        z = target.width() / size[0]
        here = QPointF(target.x() + point.x() * z, target.y() + point.y() * z)

        if self.brush:
            for colour, width in (("surround", 3.0), ("page", 1.0)):
                painter.setPen(QPen(self._theme.colour(colour), width))
                painter.drawEllipse(here, self.brush * z, self.brush * z)
        elif not pane.contains(at):
            for colour, width in (("surround", 3.0), ("page", 1.0)):
                painter.setPen(QPen(self._theme.colour(colour), width))
                painter.drawLine(here - QPointF(6, 0), here + QPointF(6, 0))
                painter.drawLine(here - QPointF(0, 6), here + QPointF(0, 6))

        if self.loupe:
            left = here.x() > pane.center().x()
            x = pane.left() + 8 if left else pane.right() - 8 - LOUPE_PIXELS
            box = QRectF(x, pane.bottom() - 8 - LOUPE_PIXELS, LOUPE_PIXELS, LOUPE_PIXELS)
            side, (width_px, height_px) = LOUPE_PIXELS // LOUPE_ZOOM, source.size
            column = min(
                max(0, int(point.x() * width_px / size[0]) - side // 2), max(0, width_px - side)
            )
            row = min(
                max(0, int(point.y() * height_px / size[1]) - side // 2), max(0, height_px - side)
            )
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
            painter.drawImage(box, self._region(source, 0, column, row, side, side))
            painter.setPen(QPen(self._theme.colour("page"), 2))
            painter.drawRect(box)

    def _area_at(self, at: QPointF) -> str:
        """The name of the smallest watch area under a point of the screen; empty for none."""
        size = self.size_shown
        pane = next((pane for pane in self.panes() if pane.contains(at)), None)
        if size is None or pane is None:
            return ""

        target = self._target(pane, size)
        areas = [
            (rect.width() * rect.height(), area.name)
            for area in self._areas
            if (rect := self._area_rect(area, target)).contains(at)
        ]

        return min(areas)[1] if areas else ""

    def _grab_at(self, at: QPointF) -> str:
        """What a drag from a point would take hold of; "" for the pictures themselves."""
        size = self.size_shown
        pane = next((pane for pane in self.panes() if pane.contains(at)), None)
        if size is None or pane is None:
            return ""
        if self._wipe and abs(at.x() - self._wipe_edge()) <= GRAB_PIXELS:
            return "wipe"

        target = self._target(pane, size)
        row = self._row_line(target)
        if (
            row is not None
            and abs(at.y() - row.y()) <= GRAB_PIXELS
            and row.left() <= at.x() <= row.right()
        ):
            return "row"

        chosen = next((area for area in self._areas if area.name == self._chosen_area), None)
        if chosen is None:
            return ""

        rect = self._area_rect(chosen, target)
        for name, (x, y) in HANDLES.items():
            there = QPointF(rect.x() + x * rect.width(), rect.y() + y * rect.height()) - at
            if max(abs(there.x()), abs(there.y())) <= GRAB_PIXELS - 2:
                return name

        return "move" if rect.contains(at) else ""

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return

        at = event.position()
        is_left = event.button() == Qt.MouseButton.LeftButton

        if self.drawing_area and self.size_shown is not None:
            self._corner = self._opposite = self.picture_point(at)
            return

        self._dragging = at
        if self.brush and is_left:
            self._grabbed = "paint"
            point = self.picture_point(at)
            self.painted.emit(point, point, True)
            return

        self._grabbed = self._grab_at(at)
        if self._grabbed in ("", "move") and is_left:
            under = self._area_at(at)
            if under != self._chosen_area:
                self._grabbed = ""
            self.area_clicked.emit(under)

        if self._grabbed == "move" or self._grabbed in HANDLES:
            self._grabbed_area = next(
                area for area in self._areas if area.name == self._chosen_area
            )

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return

        at = self._at = event.position()
        self.pointed.emit(self.picture_point(at) if self.size_shown is not None else None)

        if self._corner is not None:
            self._opposite = self.picture_point(at)
            self.update()
            return

        if self._dragging is None:
            self.setCursor(self._cursor_at(at))
            if self.loupe or self.brush or len(self._shown) > 1:
                self.update()
            return

        before = self._dragging
        self._dragging = at

        if self._grabbed == "wipe":
            pane = self.panes()[0]
            self.wipe_share = min(0.98, max(0.02, (at.x() - pane.x()) / max(1.0, pane.width())))
        elif self._grabbed == "row":
            size = self.size_shown or (1, 1)
            place = self.row_place or QRectF(0, 0, *size)
            share = (self.picture_point(at).y() - place.y()) / max(1.0, place.height())
            self.row_moved.emit(min(1.0, max(0.0, share)))
        elif self._grabbed == "paint":
            self.painted.emit(self.picture_point(before), self.picture_point(at), False)
        elif self._grabbed_area is not None:
            self._drag_area(self.picture_point(at) - self.picture_point(before))
        else:
            self._move_by(at - before)

        self.update()

    def _cursor_at(self, at: QPointF) -> Qt.CursorShape:
        if self.drawing_area or self.brush:
            return Qt.CursorShape.CrossCursor

        grab = self._grab_at(at)
        if grab == "wipe":
            return Qt.CursorShape.SplitHCursor
        if grab == "row":
            return Qt.CursorShape.SplitVCursor

        return CURSORS.get(grab, Qt.CursorShape.OpenHandCursor)

    def _drag_area(self, delta: QPointF) -> None:
        """Move or resize the area in hand; fractions of a pixel add up."""
        size = self.size_shown or (1, 1)
        area = self._grabbed_area
        assert area is not None

        if self._draft is None:
            self._draft = area
            self._left_over = QPointF(0, 0)

        self._left_over += QPointF(
            delta.x() * self._area_size[0] / size[0], delta.y() * self._area_size[1] / size[1]
        )
        dx, dy = round(self._left_over.x()), round(self._left_over.y())
        self._left_over -= QPointF(dx, dy)
        self._draft = moved(self._draft, self._grabbed, dx, dy, self._area_size)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._dragging = None
        self._grabbed = ""
        self._grabbed_area = None
        draft = self._draft
        self._draft = None

        if draft is not None:
            copy = event is not None and bool(
                event.modifiers() & Qt.KeyboardModifier.ControlModifier
            )
            self.area_changed.emit(draft.name, draft.x, draft.y, draft.width, draft.height, copy)

        corner = self._corner
        opposite = self._opposite
        self._corner = self._opposite = None

        if corner is not None and opposite is not None:
            size = self.size_shown or (1, 1)
            sx = self._area_size[0] / size[0]
            sy = self._area_size[1] / size[1]
            x, y = int(min(corner.x(), opposite.x()) * sx), int(min(corner.y(), opposite.y()) * sy)
            width, height = (
                round(max(corner.x(), opposite.x()) * sx) - x,
                round(max(corner.y(), opposite.y()) * sy) - y,
            )

            if min(width, height) >= LEAST_AREA_PIXELS:
                self.area_drawn.emit(x, y, width, height)

            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and not self.brush and (name := self._area_at(event.position())):
            self.area_opened.emit(name)

    def leaveEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self._at = None
        self.pointed.emit(None)
        self.update()
        super().leaveEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.zoom_by_step(event.angleDelta().y() > 0, event.position())

    def _wipe_edge(self) -> float:
        pane = self.panes()[0]
        return pane.x() + pane.width() * self.wipe_share

    def _move_by(self, delta: QPointF) -> None:
        size = self.size_shown
        if size is None:
            return

        z = self.zoom()
        centre = self.viewport.centre or QPointF(size[0] / 2, size[1] / 2)
        self.viewport.zoom = z
        self.viewport.centre = QPointF(
            min(float(size[0]), max(0.0, centre.x() - delta.x() / z)),
            min(float(size[1]), max(0.0, centre.y() - delta.y() / z)),
        )

        self.changed.emit()


def moved(area: WatchArea, grabbed: str, dx: int, dy: int, size: tuple[int, int]) -> WatchArea:
    """A watch area moved, or one of its handles, by whole pixels; it stays inside a picture of
    `size`, and no smaller than LEAST_AREA_PIXELS."""
    left = area.x
    top = area.y
    right = area.x + area.width
    bottom = area.y + area.height

    if grabbed == "move":
        dx, dy = min(max(dx, -left), size[0] - right), min(max(dy, -top), size[1] - bottom)
        return replace(area, x=left + dx, y=top + dy)

    if "w" in grabbed:
        left = min(max(0, left + dx), right - LEAST_AREA_PIXELS)
    if "e" in grabbed:
        right = max(min(size[0], right + dx), left + LEAST_AREA_PIXELS)
    if "n" in grabbed:
        top = min(max(0, top + dy), bottom - LEAST_AREA_PIXELS)
    if "s" in grabbed:
        bottom = max(min(size[1], bottom + dy), top + LEAST_AREA_PIXELS)

    return replace(area, x=left, y=top, width=right - left, height=bottom - top)

"""The live picture of a scene that is being begun, whose camera follows the mouse and the
keyboard."""

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from swift_sample.core.scene.staging import Viewpoint
from swift_sample.ui.theme import SMALL, Theme, font

DEGREES_PER_PIXEL = 0.4
NEARER = 0.9
KEY_DEGREES = 5.0
KEY_SHARE = 0.05
MARGIN = 16
LABEL_HEIGHT = 26
HINT = "drag to turn · right button moves · wheel nears"

Change = Callable[[Viewpoint], Viewpoint]


class Stage(QWidget):
    """Dragging turns the camera around what it looks at, with the right button or Shift it moves,
    the wheel nears it; arrows, Shift and arrows, + and − do the same."""

    camera_changed = pyqtSignal(object)
    """a change of the viewpoint"""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._image = QImage()
        self._words = ""
        self._at: QPointF | None = None
        self.turns = True
        """whether the camera can be placed by hand"""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(320, 180)
        self.setAccessibleName(
            "The picture; arrows turn the camera, Shift and arrows move it, plus and minus near it"
        )

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def show_picture(self, image: QImage, words: str) -> None:
        """Show a picture with what is being done to it."""
        self._image = image
        self._words = words
        self.update()

    @property
    def image(self) -> QImage:
        return self._image

    def _target(self) -> QRectF:
        room = QRectF(self.rect()).adjusted(MARGIN, MARGIN, -MARGIN, -MARGIN)
        if self._image.isNull():
            return room

        factor = min(room.width() / self._image.width(), room.height() / self._image.height())
        width, height = self._image.width() * factor, self._image.height() * factor
        return QRectF(room.center().x() - width / 2, room.center().y() - height / 2, width, height)

    def paintEvent(self, _: QPaintEvent | None) -> None:
        theme = self._theme
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), theme.colour("surround"))
            target = self._target()

            if not self._image.isNull():
                painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
                painter.drawImage(target, self._image)

            painter.setFont(font(SMALL))
            for words, right in ((self._words, False), (HINT if self.turns else "", True)):
                width = painter.fontMetrics().horizontalAdvance(words) + 20
                if not words or (right and width > target.width() / 2):
                    continue

                x = target.right() - width - 12 if right else target.left() + 12
                box = QRectF(x, target.top() + 12, width, LABEL_HEIGHT)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.colour("field", 225))
                painter.drawRoundedRect(box, 3, 3)
                painter.setPen(theme.colour("quiet" if right else "text"))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

            if self.hasFocus():
                painter.setPen(theme.colour("ink"))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(target.adjusted(-2, -2, 1, 1))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self.setFocus(Qt.FocusReason.MouseFocusReason)
            self._at = event.position()

    def mouseReleaseEvent(self, _: QMouseEvent | None) -> None:
        self._at = None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._at is None:
            return

        by = event.position() - self._at
        self._at = event.position()
        moves = (
            event.buttons() & Qt.MouseButton.RightButton
            or event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        )

        if moves:
            height = max(1.0, self._target().height())
            self._change(lambda view: view.moved(-by.x() / height, by.y() / height))
        else:
            self._change(
                lambda view: view.orbited(by.x() * DEGREES_PER_PIXEL, by.y() * DEGREES_PER_PIXEL)
            )

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            steps = event.angleDelta().y() / 120
            self._change(lambda view: view.nearer(NEARER**steps))
            event.accept()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return

        moves = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        arrows = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        key = Qt.Key(event.key())

        if key in arrows:
            x, y = arrows[key]
            if moves:
                self._change(lambda view: view.moved(x * KEY_SHARE, y * KEY_SHARE))
            else:
                self._change(lambda view: view.orbited(x * KEY_DEGREES, y * KEY_DEGREES))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._change(lambda view: view.nearer(NEARER))
        elif key == Qt.Key.Key_Minus:
            self._change(lambda view: view.nearer(1 / NEARER))
        else:
            super().keyPressEvent(event)

    def _change(self, change: Change) -> None:
        self.camera_changed.emit(change)

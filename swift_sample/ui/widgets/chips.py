"""One value of a setting as a chip that carries its result: a bar for its time and a mark for its
verdict."""

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QAction, QContextMenuEvent, QEnterEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QMenu

from swift_sample.app.ledger_model import ChipState
from swift_sample.core.settings import Setting
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.words import plain_tip

CHIP_HEIGHT = 32
CHIP_LEAST_WIDTH = 32


class Chip(QAbstractButton):
    """Click: into the sweep or out of it, unless that is fixed. Its menu makes it the base, or
    forbids it."""

    toggled_value = pyqtSignal(object)
    base_wanted = pyqtSignal(object)
    hovered = pyqtSignal(object)
    forbidding = pyqtSignal(object, bool)

    def __init__(self, declared: Setting, state: ChipState, theme: Theme) -> None:
        super().__init__()
        self._declared = declared
        self.state = state
        self._theme = theme
        self._shown: tuple[ChipState, Theme] | None = None
        self._pointed = self._current = False
        self._text = declared.show(state.value)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the settings have the keyboard as a whole
        self.setFixedHeight(CHIP_HEIGHT)
        self.show_state(state, theme)
        self.clicked.connect(lambda: self.toggled_value.emit(self.state.value))

    def show_state(self, state: ChipState, theme: Theme) -> None:
        if (state, theme) == self._shown:
            return

        self._shown = (state, theme)
        self.state = state
        self._theme = theme
        self._text = self._declared.show(state.value)
        self.setToolTip(plain_tip(state.tip))

        if state.is_base:
            role = "base"
        elif state.planned:
            role = "in the sweep"
        else:
            role = "not in the sweep"

        role += ", must not be used" if state.forbidden else ""
        role += f", {state.told}" if state.told else ""
        self.setAccessibleName(f"{self._declared.label} {self._text}, {role}")
        self.update()

    def set_pointed(self, pointed: bool) -> None:
        """Whether the trial whose mark is pointed at has this value."""
        if pointed != self._pointed:
            self._pointed = pointed
            self.update()

    def set_current(self, current: bool) -> None:
        """Whether the keys stand at it."""
        if current != self._current:
            self._current = current
            self.update()

    def sizeHint(self) -> QSize:
        return QSize(
            max(CHIP_LEAST_WIDTH, self.fontMetrics().horizontalAdvance(self._text) + 14),
            CHIP_HEIGHT,
        )

    def paintEvent(self, _: QPaintEvent | None) -> None:
        theme = self._theme
        state = self.state
        box = QRectF(1, 1, self.width() - 2, 22)

        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setBrush(
                theme.colour("line" if self._pointed else "field" if state.planned else "page")
            )
            pen = QPen(theme.colour("ink" if state.is_base else "line"), 2 if state.is_base else 1)

            if not state.planned:
                pen.setStyle(Qt.PenStyle.DotLine)

            painter.setPen(pen)
            painter.drawRoundedRect(box, 4, 4)
            letters = font(SMALL, bold=state.is_base)
            letters.setStrikeOut(state.forbidden)
            painter.setFont(letters)
            painter.setPen(theme.colour("text" if state.planned else "quiet"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self._text)

            if state.planned:
                self._paint_result(painter)

            if self._current:
                painter.setPen(QPen(theme.colour("text"), 1, Qt.PenStyle.DashLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(box.adjusted(3, 3, -3, -3), 2, 2)

    def _paint_result(self, painter: QPainter) -> None:
        theme = self._theme
        state = self.state
        track = QRectF(1, 26, self.width() - 2, 4)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("line"))
        painter.drawRoundedRect(track, 2, 2)

        if state.time_share is None:
            return

        bar = QRectF(
            track.x(), track.y(), max(4.0, track.width() * state.time_share), track.height()
        )
        if state.foreseen:
            self._paint_foreseen(painter, bar)
        elif state.verdict == NOT_ACCEPTABLE:
            painter.setBrush(theme.colour("page"))
            painter.setPen(QPen(theme.colour("over"), 1))
            painter.drawRoundedRect(bar.adjusted(0.5, 0.5, -0.5, -0.5), 2, 2)
        else:
            painter.setBrush(theme.colour("acceptable" if state.verdict == ACCEPTABLE else "quiet"))
            painter.drawRoundedRect(bar, 2, 2)

    def _paint_foreseen(self, painter: QPainter, bar: QRectF) -> None:
        """A broken line for a time that nobody took."""
        roles = {ACCEPTABLE: "acceptable", NOT_ACCEPTABLE: "over"}
        colour = self._theme.colour(roles.get(self.state.verdict, "quiet"))
        pen = QPen(colour, 2)
        pen.setDashPattern([2, 1])
        painter.setPen(pen)
        middle = bar.center().y()
        painter.drawLine(QPointF(bar.left() + 1, middle), QPointF(bar.right() - 1, middle))

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None:
            self.show_menu(event.globalPos())

    def show_menu(self, at: QPoint) -> None:
        """What can be done with the value."""
        menu = QMenu(self)
        base = QAction("Make this the base value", menu)
        toggle = QAction("Do not try this value" if self.state.planned else "Try this value", menu)
        forbid = QAction("Allow again" if self.state.forbidden else "Never pick this", menu)

        for action in (base, toggle):
            action.setEnabled(not self.state.is_base and not self.state.fixed)
            menu.addAction(action)

        menu.addAction(forbid)
        chosen = menu.exec(at)

        if chosen is base:
            self.base_wanted.emit(self.state.value)
        elif chosen is forbid:
            self.forbidding.emit(self.state.value, not self.state.forbidden)
        elif chosen is toggle:
            self.toggled_value.emit(self.state.value)

    def enterEvent(self, event: QEnterEvent | None) -> None:
        self.hovered.emit(self.state.value)
        super().enterEvent(event)

    def leaveEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self.hovered.emit(None)
        super().leaveEvent(event)

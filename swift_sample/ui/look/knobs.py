"""Knobs for the settings that recordings hold, with the price and the verdict of every value under
each."""

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from swift_sample.app.any_settings import Bar, Knob
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.words import plain_tip

KNOB_HEIGHT, NARROWEST, WIDEST = 68, 80, 150
"""Pixels of a knob: knobs share the width, and scroll where they are too many for it."""
SIDE = 8
"""Pixels left free at both ends of a knob."""
TRACK_Y, BARS_BOTTOM, TALLEST = 27, 64, 26
HANDLE, DOT, BAR_WIDTH = 4.5, 1.5, 8.0


class SettingKnob(QWidget):
    """One setting: its value, a track with a place for each, and a bar under each: as tall as the
    time, filled where the picture would do, open where not, faint where nobody derived it."""

    turned = pyqtSignal(str, object)
    """the setting, and its new value"""

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme = theme
        self._knob: Knob | None = None
        self._longest = 1.0
        self.setFixedHeight(KNOB_HEIGHT)
        self.setMinimumWidth(NARROWEST)
        self.setMaximumWidth(WIDEST)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_knob(self, knob: Knob, longest: float, theme: Theme) -> None:
        """`longest` is the time, in seconds, that the tallest bar of all knobs stands for."""
        self._knob = knob
        self._longest = max(longest, 1e-9)
        self._theme = theme
        own = knob.bars[knob.at]
        self.setAccessibleName(f"{knob.label}: {knob.words}")
        self.setAccessibleDescription(_bar_words(own))
        self.setToolTip(plain_tip("\n".join(_bar_words(bar) for bar in knob.bars)))
        self.update()

    def place_of(self, number: int) -> float:
        """Where a value stands, in this widget's pixels across."""
        count = len(self._knob.bars) if self._knob is not None else 1
        room = self.width() - 2 * SIDE
        return SIDE + (room * number / (count - 1) if count > 1 else room / 2)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._turn_to(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self._turn_to(event.position().x())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        step = (
            {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key())) if event else None
        )
        if step is None or self._knob is None:
            super().keyPressEvent(event)
            return

        self._take(max(0, min(len(self._knob.bars) - 1, self._knob.at + step)))

    def _turn_to(self, x: float) -> None:
        if self._knob is not None:
            numbers = range(len(self._knob.bars))
            self._take(min(numbers, key=lambda number: abs(self.place_of(number) - x)))

    def _take(self, number: int) -> None:
        assert self._knob is not None
        if number != self._knob.at:
            self.turned.emit(self._knob.key, self._knob.bars[number].value)

    def paintEvent(self, _: QPaintEvent | None) -> None:
        knob = self._knob
        if knob is None:
            return

        theme = self._theme
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_words(painter, knob)
            painter.setPen(QPen(theme.colour("quiet", 130), 1.5))
            painter.drawLine(QPointF(SIDE, TRACK_Y), QPointF(self.width() - SIDE, TRACK_Y))

            for number, bar in enumerate(knob.bars):
                x = self.place_of(number)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.colour("quiet"))
                painter.drawEllipse(QPointF(x, TRACK_Y), DOT, DOT)
                self._paint_bar(painter, x, bar)

            painter.setPen(QPen(theme.colour("text" if self.hasFocus() else "ink"), 2))
            painter.setBrush(theme.colour("ink"))
            painter.drawEllipse(QPointF(self.place_of(knob.at), TRACK_Y), HANDLE, HANDLE)

    def _paint_words(self, painter: QPainter, knob: Knob) -> None:
        """The label at the left, the value at the right; the value has the first right to room."""
        painter.setFont(font(SMALL, bold=True))
        painter.setPen(self._theme.colour("text"))
        line = QRectF(SIDE - 4, 2, self.width() - 2 * SIDE + 8, 16)
        painter.drawText(line, Qt.AlignmentFlag.AlignRight, knob.words)
        left = line.width() - painter.fontMetrics().horizontalAdvance(knob.words) - 6
        painter.setFont(font(SMALL))
        painter.setPen(self._theme.colour("quiet"))
        label = painter.fontMetrics().elidedText(
            knob.label, Qt.TextElideMode.ElideRight, max(0, int(left))
        )
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, label)

    def _paint_bar(self, painter: QPainter, x: float, bar: Bar) -> None:
        if bar.seconds is None:
            return

        tall = max(3.0, TALLEST * bar.seconds.value / self._longest)
        room = QRectF(x - BAR_WIDTH / 2, BARS_BOTTOM - tall, BAR_WIDTH, tall)
        theme = self._theme
        if bar.verdict == ACCEPTABLE:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("acceptable"))
        elif bar.verdict == NOT_ACCEPTABLE:
            painter.setPen(QPen(theme.colour("over"), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
        else:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("quiet", 90))

        painter.drawRect(room)


class KnobsBar(QWidget):
    """All knobs, what their setting would take, and what can be done with it."""

    turned = pyqtSignal(str, object)
    time_wanted = pyqtSignal()
    base_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._knobs: list[SettingKnob] = []
        self._words = ElidedLabel()
        self._words.setFont(font(SMALL, bold=True))
        self._time = QPushButton("Time it")
        self._base = QPushButton("Make it the base")
        self._time.clicked.connect(self.time_wanted)
        self._base.clicked.connect(self.base_wanted)
        head = QHBoxLayout()
        head.addWidget(self._words, 1)
        head.addWidget(self._time)
        head.addWidget(self._base)
        self._row = QHBoxLayout()
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(4)
        inner = QWidget()
        inner.setLayout(self._row)
        self._scroll = QScrollArea()
        self._scroll.setWidget(inner)
        self._scroll.setWidgetResizable(True)
        self._scroll.setFrameShape(QFrame.Shape.NoFrame)
        self._scroll.setStyleSheet(
            "QScrollArea, QScrollArea > QWidget > QWidget { background: transparent; }"
        )
        self._scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 2, 8, 2)
        column.setSpacing(2)
        column.addLayout(head)
        column.addWidget(self._scroll)
        self._fit_height()

    def show_knobs(
        self, knobs: Sequence[Knob], words: Sequence[str], why_not_timed: str, theme: Theme
    ) -> None:
        """`words` say what the settings take, the longest form first."""
        self._words.set_forms(*words)
        self._time.setEnabled(not why_not_timed)
        self._time.setToolTip(why_not_timed or "Render it, and keep it as a trial")

        while len(self._knobs) < len(knobs):
            made = SettingKnob(theme, self)
            made.turned.connect(self.turned)
            self._row.addWidget(made)
            self._knobs.append(made)

        while len(self._knobs) > len(knobs):
            gone = self._knobs.pop()
            self._row.removeWidget(gone)
            gone.deleteLater()

        self._fit_height()

        told = [bar.seconds.value for knob in knobs for bar in knob.bars if bar.seconds is not None]
        for widget, knob in zip(self._knobs, knobs, strict=True):
            widget.show_knob(knob, max(told, default=1.0), theme)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit_height()

    def _fit_height(self) -> None:
        """Room for the knobs, and for a bar to scroll them where they are too many."""
        needed = len(self._knobs) * (NARROWEST + self._row.spacing())
        bar = self._scroll.horizontalScrollBar()
        scrolls = needed > self._scroll.width() and bar is not None
        extra = bar.sizeHint().height() if scrolls and bar is not None else 0
        self._scroll.setFixedHeight(KNOB_HEIGHT + extra)


def _bar_words(bar: Bar) -> str:
    seconds = (
        f"about {show_seconds(bar.seconds.value)}" if bar.seconds is not None else "time unknown"
    )
    return f"{bar.words}: {seconds}, {bar.verdict}"

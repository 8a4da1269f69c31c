"""Bars for the Cost page: phases as one bar, and rows of a name, one or two bars, and words."""

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QLinearGradient, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from swift_sample.app.toning import heat_colours
from swift_sample.core.colours import PHASE_ROLES
from swift_sample.core.renderers.costs import Part
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.ui.theme import SMALL, Theme, font

ROW_HEIGHT = 20
BAR_HEIGHT = 7
LABEL_LINES = 3
NAME_SHARE = 0.34
"""At most this share of a row is for its name."""


class PhaseBar(QWidget):
    """All phases of a render in one bar whose length is the whole time, with the seconds of each
    below."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._parts: list[tuple[str, float]] = []
        self.setFixedHeight(22 + 17 * LABEL_LINES)

    def show_parts(self, phases: list[Part], theme: Theme) -> None:
        self._theme = theme
        by_name = {part.name: part.amount for part in phases}
        self._parts = [
            (role, sum(by_name.get(name, 0.0) for name in names)) for role, names in PHASE_ROLES
        ]
        self.setAccessibleName(
            ", ".join(f"{role} {show_seconds(seconds)}" for role, seconds in self._parts)
        )
        self.update()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        total = sum(seconds for _, seconds in self._parts)
        if not total:
            return

        with QPainter(self) as painter:
            painter.setFont(font(SMALL))
            x = 0.0
            words_end = [-1e9] * LABEL_LINES

            for role, seconds in self._parts:
                width = self.width() * seconds / total
                painter.fillRect(QRectF(x, 0, max(1.0, width - 1), 18), self._theme.colour(role))
                words = f"{role} {show_seconds(seconds)}"
                length = painter.fontMetrics().horizontalAdvance(words)
                left = min(x, self.width() - length - 8.0)
                line = next((k for k, end in enumerate(words_end) if left > end + 8), None)

                if seconds / total >= 0.005 and line is not None:
                    words_end[line] = left + length
                    painter.fillRect(QRectF(left, 21 + 17 * line, 2, 14), self._theme.colour(role))
                    painter.setPen(self._theme.colour("text"))
                    painter.drawText(
                        QRectF(left + 5, 20 + 17 * line, length + 4, 16),
                        Qt.AlignmentFlag.AlignVCenter,
                        words,
                    )

                x += width


@dataclass(frozen=True)
class BarRow:
    """One row: what it is, one or two lengths from 0 to 1, and the figures in words."""

    name: str
    shares: tuple[float, ...]
    words: str


class BarTable(QWidget):
    """Rows of bars; a second bar, in another colour, stands under the first. `hovered` names the
    row that is pointed at."""

    hovered = pyqtSignal(object)

    def __init__(self, theme: Theme, roles: tuple[str, ...]) -> None:
        super().__init__()
        self._theme = theme
        self._roles = roles
        self._rows: list[BarRow] = []
        self._at: int | None = None
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    @property
    def rows(self) -> list[BarRow]:
        return self._rows

    def show_rows(self, rows: list[BarRow], theme: Theme) -> None:
        self._theme = theme
        self._rows = rows
        self.setAccessibleName("; ".join(f"{row.name} {row.words}" for row in rows))
        self.updateGeometry()
        self.update()

    def _point_at(self, row: int | None) -> None:
        if row != self._at:
            self._at = row
            self.hovered.emit(self._rows[row].name if row is not None else None)
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            row = int(event.position().y() // ROW_HEIGHT)
            self._point_at(row if 0 <= row < len(self._rows) else None)

    def leaveEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self._point_at(None)
        super().leaveEvent(event)

    def sizeHint(self) -> QSize:
        return QSize(240, ROW_HEIGHT * max(1, len(self._rows)))

    def paintEvent(self, _: QPaintEvent | None) -> None:
        longest = max((max(row.shares) for row in self._rows), default=0.0) or 1.0
        with QPainter(self) as painter:
            painter.setFont(font(SMALL))
            metrics = painter.fontMetrics()
            words_width = (
                max((metrics.horizontalAdvance(row.words) for row in self._rows), default=0) + 8
            )
            names_width = (
                max((metrics.horizontalAdvance(row.name) for row in self._rows), default=0) + 14
            )
            start = min(names_width, self.width() * NAME_SHARE)
            room = max(20.0, self.width() - start - words_width)

            for k, row in enumerate(self._rows):
                y = k * ROW_HEIGHT
                if k == self._at:
                    painter.fillRect(
                        QRectF(0, y, self.width(), ROW_HEIGHT), self._theme.colour("line")
                    )

                painter.setPen(self._theme.colour("text"))
                name = metrics.elidedText(row.name, Qt.TextElideMode.ElideRight, int(start) - 8)
                painter.drawText(
                    QRectF(0, y, start, ROW_HEIGHT), Qt.AlignmentFlag.AlignVCenter, name
                )
                painter.setPen(self._theme.colour("quiet"))

                painter.drawText(
                    QRectF(self.width() - words_width, y, words_width, ROW_HEIGHT),
                    Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                    row.words,
                )
                height = BAR_HEIGHT if len(row.shares) > 1 else 10
                top = y + (ROW_HEIGHT - height * len(row.shares)) / 2

                for place, share in enumerate(row.shares):
                    painter.fillRect(
                        QRectF(
                            start,
                            top + place * height,
                            max(1.0, room * share / longest),
                            height - 1,
                        ),
                        self._theme.colour(self._roles[place]),
                    )


class Histogram(QWidget):
    """How often values occur, as columns, with the ends of the range in words."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._counts: list[float] = []
        self._words = ("", "")
        self.setFixedHeight(64)

    def show_counts(self, counts: list[float], words: tuple[str, str], theme: Theme) -> None:
        self._theme = theme
        self._counts = counts
        self._words = words
        self.setAccessibleName(f"from {words[0]} to {words[1]}")
        self.update()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        most = max(self._counts, default=0.0)
        if not most:
            return

        with QPainter(self) as painter:
            painter.setFont(font(SMALL))
            width = self.width() / len(self._counts)
            tall = self.height() - 18

            for k, count in enumerate(self._counts):
                height = max(1.0, tall * count / most) if count else 0.0
                painter.fillRect(
                    QRectF(k * width, tall - height, max(1.0, width - 1), height),
                    self._theme.colour("sample"),
                )

            painter.setPen(self._theme.colour("quiet"))
            foot = QRectF(0, tall + 2, self.width(), 16)
            painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, self._words[0])
            painter.drawText(foot, Qt.AlignmentFlag.AlignRight, self._words[1])


class HeatScale(QWidget):
    """What the colours of a heat map stand for."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._words = ("", "")
        self.setFixedHeight(20)

    def show_range(self, most: float, unit: str, theme: Theme) -> None:
        self._theme = theme
        self._words = ("0", f"{most:.3g} {unit}")
        self.update()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.setFont(font(SMALL))
            painter.setPen(self._theme.colour("text"))
            length = painter.fontMetrics().horizontalAdvance(self._words[1]) + 6
            bar = QRectF(16, 5, max(10.0, self.width() - 22 - length), 10)
            gradient = QLinearGradient(QPointF(bar.left(), 0), QPointF(bar.right(), 0))
            colours = heat_colours()
            for k in range(0, 256, 15):
                gradient.setColorAt(k / 255, QColor(*(int(v) for v in colours[k])))

            painter.fillRect(bar, QBrush(gradient))
            painter.drawText(QRectF(0, 0, 14, 20), Qt.AlignmentFlag.AlignVCenter, self._words[0])
            painter.drawText(
                QRectF(bar.right() + 6, 0, length, 20),
                Qt.AlignmentFlag.AlignVCenter,
                self._words[1],
            )

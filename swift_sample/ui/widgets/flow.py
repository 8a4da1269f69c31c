"""A layout of widgets one beside the other, on as many lines as they need."""

from PyQt6.QtCore import QPoint, QRect, QSize
from PyQt6.QtWidgets import QLayout, QLayoutItem

USUAL_WIDTH = 276
LEAST_HEIGHT = 32


class Flow(QLayout):
    """Widgets one beside the other, on as many lines as they need."""

    GAP = 4

    def __init__(self) -> None:
        super().__init__()
        self.setContentsMargins(0, 0, 0, 0)
        self._items: list[QLayoutItem] = []

    def addItem(self, item: QLayoutItem | None) -> None:
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._place(QRect(0, 0, width, 0), move=False)

    def sizeHint(self) -> QSize:
        return QSize(40, self.heightForWidth(USUAL_WIDTH))

    def minimumSize(self) -> QSize:
        return QSize(40, LEAST_HEIGHT)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect, move=True)

    def _place(self, rect: QRect, move: bool) -> int:
        margins = self.contentsMargins()
        left, right = rect.x() + margins.left(), rect.right() + 1 - margins.right()
        x, y = left, rect.y() + margins.top()
        line: list[tuple[QLayoutItem, QPoint, QSize]] = []

        for item in self._items:
            if item.isEmpty():  # hidden
                continue

            hint = item.sizeHint()
            if line and x + hint.width() > right:
                y += self._end_line(line, move) + self.GAP
                x = left
                line = []

            line.append((item, QPoint(x, y), hint))
            x += hint.width() + self.GAP

        return y + self._end_line(line, move) + margins.bottom() - rect.y()

    def _end_line(self, line: list[tuple[QLayoutItem, QPoint, QSize]], move: bool) -> int:
        """Place a line's items, each in the middle of its height; returns that."""
        tall = max((hint.height() for _, _, hint in line), default=0)
        if move:
            for item, at, hint in line:
                item.setGeometry(QRect(at + QPoint(0, (tall - hint.height()) // 2), hint))

        return tall

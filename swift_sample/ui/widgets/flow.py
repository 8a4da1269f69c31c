"""A layout of widgets one beside the other, on as many lines as they need."""

from PyQt6.QtCore import QPoint, QRect, QSize
from PyQt6.QtWidgets import QLayout, QLayoutItem

USUAL_WIDTH, LEAST_HEIGHT = 276, 32


class Flow(QLayout):
    """Widgets one beside the other, on as many lines as they need."""

    GAP = 4

    def __init__(self) -> None:
        super().__init__()
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
        x, y, line = rect.x(), rect.y(), 0
        for item in self._items:
            hint = item.sizeHint()
            if x > rect.x() and x + hint.width() > rect.right() + 1:
                x, y = rect.x(), y + line + self.GAP
                line = 0
            if move:
                item.setGeometry(QRect(QPoint(x, y), hint))
            x += hint.width() + self.GAP
            line = max(line, hint.height())
        return y + line - rect.y()

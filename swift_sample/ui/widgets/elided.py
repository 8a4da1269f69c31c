"""A label of one line that ends in dots where there is no room for all of it; its tooltip then has
the rest."""

from PyQt6.QtCore import QEvent, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QToolTip


class ElidedLabel(QLabel):
    """Plain text only. It takes what width it is given."""

    def __init__(self, text: str = "") -> None:
        super().__init__(text)
        self._shorter: tuple[str, ...] = ()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def setText(self, text: str | None) -> None:
        self._shorter = ()
        super().setText(text)

    def set_forms(self, *forms: str) -> None:
        """The same in words, the longest first: the first that has room is drawn."""
        self.setText(forms[0])
        self._shorter = forms[1:]

    @property
    def shown(self) -> str:
        """The text as it is drawn."""
        room = self.contentsRect().width()
        for form in (self.text(), *self._shorter):
            if self.fontMetrics().horizontalAdvance(form) <= room:
                return form

        return self.fontMetrics().elidedText(
            (self.text(), *self._shorter)[-1], Qt.TextElideMode.ElideRight, room
        )

    def minimumSizeHint(self) -> QSize:
        return QSize(20, super().minimumSizeHint().height())

    def paintEvent(self, _: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.setPen(self.palette().color(self.foregroundRole()))
            painter.drawText(self.contentsRect(), int(self.alignment()), self.shown)

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent) and not self.toolTip() and self.shown != self.text():
            QToolTip.showText(event.globalPos(), self.text(), self)
            return True
        return super().event(event)

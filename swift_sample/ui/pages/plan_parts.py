"""What the page of the plan is made of: sections, and lists that follow the plan."""

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from swift_sample.ui.theme import NORMAL, font
from swift_sample.ui.widgets.parts import beside, quiet
from swift_sample.ui.widgets.words import PlainLabel


class Section(QWidget):
    """A heading, a sentence that explains, and rows."""

    def __init__(self, title: str, about: str) -> None:
        super().__init__()
        self.rows = QVBoxLayout()
        self.rows.setSpacing(4)
        heading = PlainLabel(title)
        words = quiet(about)
        heading.setFont(font(NORMAL, bold=True))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 18)
        column.setSpacing(4)
        policy = QSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        for widget in (heading, words):
            column.addWidget(widget)

        column.addLayout(self.rows)

    def add_row(self, *widgets: QWidget, stretch: bool = True) -> QWidget:
        """Put widgets beside one another."""
        row = beside(*widgets, stretch=stretch)
        self.rows.addWidget(row)
        return row


class Listed(QWidget):
    """Rows that are made anew whenever what they list has changed."""

    def __init__(self) -> None:
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(2)
        self._shown: object = None

    def show_items(
        self, items: Sequence[object], make: Callable[[object], QWidget], nothing: str
    ) -> None:
        if items == self._shown:
            return

        self._shown = items
        while (item := self._column.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()

        for each in items:
            self._column.addWidget(make(each))

        if not items and nothing:
            self._column.addWidget(quiet(nothing))

"""Small parts of the page on which a study is begun."""

from collections.abc import Callable

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtWidgets import (
    QAbstractButton,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QWidget,
)

from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.beginning.pilot import Cost
from swift_sample.ui.theme import NORMAL, SMALL, font
from swift_sample.ui.widgets.parts import quiet
from swift_sample.ui.widgets.words import PlainLabel, plain_tip


def heading(text: str) -> QLabel:
    label = PlainLabel(text)
    label.setFont(font(NORMAL, bold=True))
    label.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)
    return label


def beside(text: str) -> QLabel:
    """Words before a field."""
    label = quiet(text, False)
    label.setFixedHeight(28)
    return label


def choice(text: str, tip: str = "") -> QPushButton:
    button = QPushButton(text)
    button.setCheckable(True)
    button.setProperty("choice", True)
    button.setMinimumWidth(QFontMetrics(font(NORMAL, bold=True)).horizontalAdvance(text) + 22)
    button.setToolTip(plain_tip(tip))

    return button


def row_of(*widgets: QWidget | None) -> QHBoxLayout:
    """Widgets beside one another; None stands for what room is left."""
    row = QHBoxLayout()
    row.setSpacing(6)

    for widget in widgets:
        if widget is None:
            row.addStretch(1)
        else:
            row.addWidget(widget)

    return row


class CropButton(QToolButton):
    """A crop of the own picture with so much of an error, to be clicked where it would still be
    delivered."""

    def __init__(self) -> None:
        super().__init__()
        self.setCheckable(True)
        self.setProperty("crop", True)
        self.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        self.setFont(font(SMALL))
        self.setIconSize(QSize(116, 66))


class Choices(QWidget):
    """Buttons of which one is chosen."""

    def __init__(self, chosen: Callable[[int], None]) -> None:
        super().__init__()
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        self._chosen = chosen
        self._buttons = list[QAbstractButton]()
        self.names: list[str] = []

    def fill(self, names: tuple[str, ...]) -> None:
        for button in self._buttons:
            button.hide()
            button.deleteLater()

        self.names = list(names)
        self._buttons = []

        for place, name in enumerate(names):
            button = choice(name)
            button.clicked.connect(lambda _, which=place: self._chosen(which))
            self._row.addWidget(button)
            self._buttons.append(button)

    def check(self, place: int | None) -> None:
        for number, button in enumerate(self._buttons):
            button.setChecked(number == place)

    def tip(self, place: int, words: str) -> None:
        self._buttons[place].setToolTip(plain_tip(words))


def following(base: Configuration, listed: list[str]) -> list[str]:
    """Numbers that count only since one of the listed settings is on."""
    return [
        key
        for key, declared in base.catalogue.items()
        if declared.kind == "number"
        and declared.neutral_when is not None
        and declared.neutral_when[0] in listed
        and not base.is_idle(declared)
    ]


def span_words(cost: Cost) -> str:
    low, high = show_seconds(cost.low), show_seconds(cost.high)
    return low if low == high else f"{low} to {high}"


def clear(layout: QLayout) -> None:
    while (item := layout.takeAt(0)) is not None:
        widget = item.widget()
        if widget is not None:
            widget.hide()
            widget.deleteLater()

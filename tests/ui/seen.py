"""What a person sees of a widget, and does with it: by the words that stand there, not by the names
of attributes."""

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QLabel, QWidget


def texts(within: QWidget) -> list[str]:
    """The words of all labels that can be seen, without what only styles them."""
    return [
        label.text()
        for label in within.findChildren(QLabel)
        if label.isVisibleTo(within) and label.text()
    ]


def button(within: QWidget, text: str) -> QAbstractButton:
    """The button with this text that can be seen."""
    return next(
        b
        for b in within.findChildren(QAbstractButton)
        if b.text() == text and b.isVisibleTo(within)
    )


def has_button(within: QWidget, text: str) -> bool:
    return any(
        b.text() == text and b.isVisibleTo(within) for b in within.findChildren(QAbstractButton)
    )


def field(within: QWidget, name: str) -> Any:
    """The field or other widget that a screen reader calls so."""
    return next(
        widget for widget in within.findChildren(QWidget) if widget.accessibleName() == name
    )


def click(widget: QWidget) -> None:
    QTest.mouseClick(widget, Qt.MouseButton.LeftButton)

"""Nothing is cut and nothing lies outside, on small and large screens."""

from pathlib import Path

from PyQt6.QtCore import QRect
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLabel, QLineEdit, QScrollArea, QWidget
from pytestqt.qtbot import QtBot

from swift_sample.ui.begin.page import BeginPage
from swift_sample.ui.pages import PAGES
from swift_sample.ui.welcome import Card
from swift_sample.ui.widgets.chips import Chip
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.window.shell import MainWindow
from tests.ui.test_window import MEASURING, open_study

SIZES = ((1024, 720), (1280, 720), (1280, 800), (1920, 1080), (2560, 1440))
"""Logical pixels: 1280x720 is what a screen of 2560x1440 has at 200 %, or one of 1920x1080 at 150
%."""
SPARE = 2
SETTLING = 3_000
"""milliseconds in which a page must have laid itself out, also while other work takes time"""


def faults(window: QWidget) -> list[str]:
    """Every visible text that has less room than it needs, and every widget that lies outside the
    window."""
    told = []
    for widget in window.findChildren(QWidget):
        if not widget.isVisible() or widget.window() is not window or not widget.width():
            continue

        room = QRect(widget.mapTo(window, widget.rect().topLeft()), widget.size())
        scrolls = any(isinstance(parent, QScrollArea) for parent in parents(widget))
        name = f"{type(widget).__name__} “{text_of(widget)}”"

        if not scrolls and not window.rect().contains(room) and not room.isEmpty():
            told.append(f"{name} lies outside: {room.getRect()}")
        if isinstance(widget, ElidedLabel | QLineEdit | Chip | Card) or not text_of(widget):
            continue

        if isinstance(widget, QLabel) and widget.wordWrap():
            if widget.heightForWidth(widget.width()) > widget.height() + SPARE:
                told.append(
                    f"{name} needs {widget.heightForWidth(widget.width())} lines' height, has "
                    f"{widget.height()}"
                )
        elif (
            isinstance(widget, QLabel | QAbstractButton)
            and widget.sizeHint().width() > widget.width() + SPARE
        ):
            told.append(f"{name} needs {widget.sizeHint().width()}, has {widget.width()}")

    return told


def lasting_faults(window: QWidget, qtbot: QtBot) -> list[str]:
    """The faults that are left when the page has settled."""
    try:
        qtbot.waitUntil(lambda: not faults(window), timeout=SETTLING)
    except qtbot.TimeoutError:
        return faults(window)

    return []


def parents(widget: QWidget) -> list[QWidget]:
    found = []
    parent = widget.parentWidget()

    while parent is not None:
        found.append(parent)
        parent = parent.parentWidget()

    return found


def text_of(widget: QWidget) -> str:
    if isinstance(widget, QLabel | QAbstractButton):
        return widget.text()
    return widget.currentText() if isinstance(widget, QComboBox) else widget.accessibleName()


def test_no_page_is_cut_at_any_size(window: MainWindow, qtbot: QtBot, study_path: Path) -> None:
    session = open_study(window, qtbot, study_path)
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        session.measure()

    qtbot.waitUntil(lambda: not session.snapshot.to_come, timeout=10_000)
    told = []

    for width, height in SIZES:
        window.resize(width, height)
        for page in PAGES:
            window.show_page(page.name)
            qtbot.wait(120)
            told += [
                f"{page.name} at {width}x{height}: {fault}"
                for fault in lasting_faults(window, qtbot)
            ]

    assert not told, "\n".join(told)


def test_the_welcome_and_the_beginning_are_not_cut(window: MainWindow, qtbot: QtBot) -> None:
    told = []
    for width, height in SIZES:
        window.resize(width, height)
        qtbot.wait(80)
        told += [f"welcome at {width}x{height}: {fault}" for fault in lasting_faults(window, qtbot)]

    window.begin("honey-stall-small")
    qtbot.waitUntil(lambda: window.beginning is not None, timeout=MEASURING)

    for width, height in SIZES:
        window.resize(width, height)
        qtbot.wait(150)
        assert window.findChild(BeginPage).isVisible()
        told += [f"begin at {width}x{height}: {fault}" for fault in lasting_faults(window, qtbot)]

    assert not told, "\n".join(told)

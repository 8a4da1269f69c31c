"""The window's small dialogs: keys, caches, and what is asked before something that is measured is
left."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QGridLayout, QMessageBox, QWidget

from swift_sample.core.caches import clear_cache, list_caches
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.kernels.cache import cache_root
from swift_sample.ui.pages import PAGES
from swift_sample.ui.theme import SMALL, font
from swift_sample.ui.widgets.words import PlainLabel

BEHIND = "Finish in the background"
AFTER_RUN = "After this run"
NOW = "Now"
"""Answers to what is to become of a measurement."""

KEYS = (
    ("Ctrl+Return", "find the fastest, or pause"),
    ("Ctrl+Shift+Return", "measure everything"),
    ("Ctrl+.", "stop now"),
    ("Ctrl+T", "take the pick's settings"),
    (f"Alt+1 to Alt+{len(PAGES)}", ", ".join(page.name for page in PAGES)),
    ("F6, Shift+F6", "next and previous region: settings, page, runs, top"),
    ("Ctrl+F", "find a setting"),
    ("Ctrl+Z, Ctrl+Shift+Z", "undo, redo"),
    ("Ctrl+L", "light, camera and limits by eye"),
    ("Ctrl+D", "day or dusk"),
    ("Ctrl+O, Ctrl+N", "open, new study"),
    ("F1", "this list"),
)
"""What works everywhere."""


def show_keys(parent: QWidget, here: str, keys: tuple[tuple[str, str], ...]) -> QFrame:
    """The keys that work in the region that has the keyboard, then those that work everywhere."""
    card = QFrame(parent, Qt.WindowType.Popup)
    card.setObjectName("card")
    card.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    grid = QGridLayout(card)
    grid.setContentsMargins(16, 12, 16, 12)
    grid.setHorizontalSpacing(16)

    for title, listed in ((here, keys), ("Everywhere", KEYS)):
        if listed:
            heading = PlainLabel(title)
            heading.setProperty("heading", True)
            grid.addWidget(heading, grid.rowCount(), 0, 1, 2)

        for names, words in listed:
            row = grid.rowCount()
            name = PlainLabel(names)
            name.setFont(font(SMALL, bold=True))
            grid.addWidget(name, row, 0)
            grid.addWidget(PlainLabel(words), row, 1)

    card.adjustSize()
    card.move(parent.mapToGlobal(parent.rect().center() - card.rect().center()))
    card.show()

    return card


def show_caches(parent: QWidget, tell: Callable[[str], None]) -> None:
    """What is kept on disk and could be made again, with its size; prepared textures can be
    cleared."""
    caches = list_caches()
    lines = [
        f"<b>{cache.name}</b>, {cache.size_bytes / 2**20:.1f} MiB: {cache.about}"
        for cache in caches
    ]
    box = QMessageBox(
        QMessageBox.Icon.NoIcon,
        "Caches",
        "<br><br>".join([*lines, str(cache_root())]),
        parent=parent,
    )
    clear = box.addButton("Clear prepared textures", QMessageBox.ButtonRole.ActionRole)
    assert clear is not None
    clear.setEnabled(any(cache.name == "textures" and cache.files for cache in caches))
    box.addButton(QMessageBox.StandardButton.Close)
    box.exec()

    if box.clickedButton() is clear:
        try:
            tell(f"{clear_cache('textures') / 2**20:.1f} MiB freed")
        except SwiftSampleError as error:
            tell(one_line(error))


def ask_to_take_over(parent: QWidget, study: str, take_over: Callable[[], None]) -> None:
    """Say that a study is measured in the background, and offer to go on with it here."""
    box = QMessageBox(
        QMessageBox.Icon.NoIcon,
        "Measured in the background",
        f"“{study}” is being measured.",
        parent=parent,
    )
    box.setInformativeText(
        "It can go on in this window: what was measured is kept, the current run is rendered again."
    )
    here = box.addButton("Go on here", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Leave it there", QMessageBox.ButtonRole.RejectRole)

    def closed() -> None:
        taken = box.clickedButton() is here
        box.deleteLater()
        if taken:
            take_over()

    box.finished.connect(closed)
    box.open()


def ask_before_leaving(
    parent: QWidget, study: str, answers: tuple[str, ...], answered: Callable[[str], None]
) -> None:
    """Ask what is to become of what is being measured; `answered` hears one of the answers, or
    nothing where all stays."""
    box = QMessageBox(
        QMessageBox.Icon.NoIcon, "Still measuring", f"“{study}” is being measured.", parent=parent
    )
    box.setInformativeText("What was measured is kept in any case.")
    buttons = {box.addButton(words, QMessageBox.ButtonRole.AcceptRole): words for words in answers}
    box.addButton(QMessageBox.StandardButton.Cancel)

    def closed() -> None:
        answer = next(
            (words for button, words in buttons.items() if button is box.clickedButton()), None
        )
        box.deleteLater()
        if answer is not None:
            answered(answer)

    box.finished.connect(closed)
    box.open()

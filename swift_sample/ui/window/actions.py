"""What can be done from the keyboard and the menu: names, words and keys, each once."""

from collections.abc import Callable, Mapping

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu, QWidget

from swift_sample.ui.pages import PAGES

ACTIONS: tuple[tuple[str, str, str], ...] = (
    ("open", "Open a study …", "Ctrl+O"),
    ("new", "Begin with a scene …", "Ctrl+N"),
    ("renderer", "Use another renderer …", ""),
    ("finished", "Measure finished renders …", ""),
    ("demo", "Measure the demo", ""),
    ("undo", "Undo", "Ctrl+Z"),
    ("redo", "Redo", "Ctrl+Shift+Z"),
    ("theme", "Theme: day or dusk", "Ctrl+D"),
    ("caches", "Caches …", ""),
    ("keys", "Keys", "F1"),
    ("next", "Next region", "F6"),
    ("previous", "Previous region", "Shift+F6"),
    ("find", "Find a setting", "Ctrl+F"),
    ("take", "Take the pick's settings …", "Ctrl+T"),
    ("search", "Find the fastest, or pause", "Ctrl+Return"),
    ("measure", "Measure everything", "Ctrl+Shift+Return"),
    ("stop", "Stop now", "Ctrl+."),
    *((page.name, page.name, f"Alt+{number}") for number, page in enumerate(PAGES, 1)),
    ("again", "Light, camera and limits by eye …", "Ctrl+L"),
    ("export", "Export the results …", ""),
    ("versions", "What was measured of which version …", ""),
    ("log", "Log …", ""),
    ("close", "Close the study", ""),
)
"""Name, words and keys; a page goes by its own name."""

MENU = (
    ("new", "renderer", "finished", "open", "demo", "close"),
    ("undo", "redo"),
    ("again", "export", "versions", "log"),
    ("theme", "caches", "keys"),
)
"""In the menu, group by group."""


def make_actions(
    owner: QWidget, menu: QMenu, slots: Mapping[str, Callable[[], object]]
) -> dict[str, QAction]:
    """The actions of a window, by name; what each does is in `slots`. Raises KeyError where one
    does nothing."""
    made = {}
    for name, text, keys in ACTIONS:
        action = QAction(text, owner)
        if keys:
            action.setShortcut(QKeySequence(keys))

        action.triggered.connect(lambda _=False, do=slots[name]: do())
        owner.addAction(action)
        made[name] = action

    for number, group in enumerate(MENU):
        if number:
            menu.addSeparator()
        for name in group:
            menu.addAction(made[name])

    return made

"""The pages of a study under their tabs."""

from collections.abc import Mapping

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from swift_sample.ui.page import Page


class Tabs(QWidget):
    """One page at a time, with the tools that it has beside the tabs."""

    chosen = pyqtSignal(str)
    """a tab was clicked"""

    def __init__(self, pages: Mapping[str, Page]) -> None:
        super().__init__()
        self._pages = pages
        self._tools = {name: page.tools() for name, page in pages.items()}
        self._buttons = QButtonGroup(self)
        self._stack = QStackedWidget()

        bar = QWidget()
        bar.setObjectName("tabBar")
        row = QHBoxLayout(bar)
        row.setContentsMargins(24, 6, 16, 0)
        row.setSpacing(8)

        for name, page in pages.items():
            button = QPushButton(name)
            button.setProperty("tab", True)
            button.setCheckable(True)
            # The page has the keyboard; Alt and a number change it.
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _, page=name: self.chosen.emit(page))
            self._buttons.addButton(button)
            row.addWidget(button)
            self._stack.addWidget(page)

        row.addStretch(1)
        for tool in (tool for tools in self._tools.values() for tool in tools):
            row.addWidget(tool)

        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(bar)
        column.addWidget(self._stack, 1)

    @property
    def current(self) -> Page:
        """The page that is seen."""
        page = self._stack.currentWidget()
        assert isinstance(page, Page)
        return page

    def show_page(self, name: str) -> None:
        """Show a page by its name."""
        for button in self._buttons.buttons():
            if button.text() == name:
                button.setChecked(True)

        self._stack.setCurrentWidget(self._pages[name])
        for page, tools in self._tools.items():
            for tool in tools:
                tool.setVisible(page == name)

"""What stands beside the ledger: a page is given what to show, and says what is wanted by
signals."""

from typing import ClassVar

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from swift_sample.app.pictures import PictureStore
from swift_sample.app.requests import Request
from swift_sample.app.view_model import ViewModel
from swift_sample.ui.theme import Theme


class Page(QWidget):
    """A page is made with a theme and the store of pictures, and listed in
    `ui/pages/__init__.py`."""

    name: ClassVar[str]
    """on its tab"""
    KEYS: ClassVar[tuple[tuple[str, str], ...]] = ()
    """what works while the page has the keyboard: keys, and what they do"""
    asked = pyqtSignal(object)
    """something is wanted of the open study: a `Request`"""
    page_wanted = pyqtSignal(str)
    """another page, by its name"""
    state_changed = pyqtSignal()
    """what `kept_state` gives is another one now"""

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__()
        self._theme = theme
        self._pictures = pictures
        self.model: ViewModel | None = None

    def show_view(self, model: ViewModel | None) -> None:
        """Show a study, or none."""
        before = self.model
        self.model = model
        if before is None or model is None or before.path != model.path:
            self.start_anew()

        self.refresh()

    def ask(self, request: Request) -> None:
        """Want something of the open study."""
        self.asked.emit(request)

    def start_anew(self) -> None:
        """Forget what belonged to another study."""

    def refresh(self) -> None:
        """Show what `model` says now."""

    def set_theme(self, theme: Theme) -> None:
        """Change to day or dusk."""
        self._theme = theme
        self.refresh()

    def finish(self) -> None:
        """The window closes: end what works for the page."""

    def kept_state(self) -> dict[str, str]:
        """How the page is looked at, to be the same at the next start."""
        return {}

    def take_state(self, state: dict[str, str]) -> None:
        """Look at the page as at the last start."""

    def tools(self) -> list[QWidget]:
        """Widgets that stand at the right of the tabs while the page is shown."""
        return []

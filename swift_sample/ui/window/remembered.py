"""What a window remembers from one start to the next. What cannot be read is as if it had never
been kept."""

import json
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSettings

from swift_sample.ui.ledger import Ledger
from swift_sample.ui.page import Page

MOST_RECENT = 6
"""Studies that are remembered."""


class Remembered:
    """Kept in the desktop's settings."""

    def __init__(self, settings: QSettings) -> None:
        self._settings = settings

    @property
    def theme(self) -> str:
        """The name of the theme that was chosen; "" for the desktop's."""
        return str(self._settings.value("theme", ""))

    def keep_theme(self, name: str) -> None:
        self._settings.setValue("theme", name)

    @property
    def geometry(self) -> QByteArray | None:
        geometry = self._settings.value("geometry")
        return geometry if isinstance(geometry, QByteArray) else None

    def keep_geometry(self, geometry: QByteArray) -> None:
        self._settings.setValue("geometry", geometry)

    def page(self, default: str) -> str:
        """The page that was shown last."""
        return str(self._settings.value("page", default))

    def keep_page(self, name: str) -> None:
        self._settings.setValue("page", name)

    def keep_looks(self, pages: Iterable[Page], ledger: Ledger) -> None:
        """How pages and the ledger are looked at."""
        for page in pages:
            self._settings.setValue(f"pages/{page.name}", json.dumps(page.kept_state()))
        self._settings.setValue("by leverage", ledger.by_leverage)

    def restore_looks(self, pages: Iterable[Page], ledger: Ledger) -> None:
        for page in pages:
            with suppress(ValueError, AttributeError):
                kept = json.loads(str(self._settings.value(f"pages/{page.name}", "{}")))
                page.take_state({str(key): str(value) for key, value in kept.items()})
        ledger.by_leverage = str(self._settings.value("by leverage", "")).lower() == "true"

    def compared(self, study: Path) -> list[str]:
        """Which trials of a study were compared last."""
        return self._all_compared().get(str(study.resolve()), [])

    def keep_compared(self, study: Path, trials: Sequence[str]) -> None:
        here = str(study.resolve())
        compared = {here: list(trials)}
        compared |= {path: names for path, names in self._all_compared().items() if path != here}
        self._settings.setValue("compared", json.dumps(dict(list(compared.items())[:MOST_RECENT])))

    def _all_compared(self) -> dict[str, list[str]]:
        with suppress(ValueError, AttributeError):
            kept = json.loads(str(self._settings.value("compared", "{}")))
            return {str(path): [str(name) for name in names] for path, names in kept.items()}

        return {}

    def recent(self) -> list[str]:
        """Studies that were open, the latest first."""
        stored = self._settings.value("recent", [])
        if isinstance(stored, list):
            return [str(path) for path in stored]

        return [str(stored)] if stored else []

    def keep_open(self, study: Path) -> None:
        """A study was opened; the next start opens it again."""
        path = str(study.resolve())
        recent = [path, *(other for other in self.recent() if other != path)]
        self._settings.setValue("recent", recent[:MOST_RECENT])
        self._settings.setValue("last", path)

    def keep_closed(self) -> None:
        """The study was closed: the next start begins at the welcome."""
        self._settings.remove("last")

"""Pictures that come from elsewhere and stand beside the trials in Look, measured against the
study's reference."""

from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.app.pictures import read
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.log import report_error
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.view import View

SUFFIXES = (".exr", ".png", ".jpg", ".jpeg")
PREFIX = "file:"
"""Before the path of a picture from elsewhere, where the name of a trial is expected."""


@dataclass(frozen=True)
class Foreign:
    """A picture from elsewhere: its figures as they were measured, or why there are none."""

    path: Path
    figures: Mapping[str, Figure | None] = field(default_factory=dict)
    problem: str = ""
    is_measured: bool = False

    @property
    def name(self) -> str:
        return f"{PREFIX}{self.path}"


class ForeignPictures(QObject):
    """Measures pictures off the window's thread."""

    changed = pyqtSignal()
    _measured = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.pictures: dict[str, Foreign] = {}
        self._work = ThreadPoolExecutor(1, thread_name_prefix="foreign")
        self._closed = False
        self._measured.connect(self._take)

    def add(self, path: Path, view: View, reference: tuple[Path, str] | None) -> str:
        """Put a picture beside the trials, and measure it; returns the name that stands for it."""
        foreign = Foreign(path)
        self.pictures[foreign.name] = foreign

        if reference is None:
            self.pictures[foreign.name] = Foreign(
                path, problem="there is no reference yet to measure it against"
            )
        else:
            self._work.submit(self._measure, path, view, reference)

        return foreign.name

    def clear(self) -> None:
        self.pictures = {}

    def close(self) -> None:
        self._closed = True
        self._work.shutdown(wait=False, cancel_futures=True)

    def _measure(self, path: Path, view: View, reference: tuple[Path, str]) -> None:
        from swift_sample.core.measure.compare import WHOLE, measure
        from swift_sample.core.measure.comparison import Comparison
        from swift_sample.core.picture.reading import check_comparable

        try:
            first = read(path, "")
            second = read(*reference)
            check_comparable(first, path, second, reference[0])
            raw = first.halves if "raw" not in first.layers else None
            figures = measure(
                Comparison([first.beauty], second.beauty, view, raw, second.halves, seeds=False)
            )[WHOLE]
            made = Foreign(path, figures, is_measured=True)
        except SwiftSampleError as error:
            made = Foreign(path, problem=one_line(error))
        except Exception as error:  # whoever waits must learn of any end
            report_error(f"measuring {path.name}", error)
            made = Foreign(path, problem=f"it cannot be measured ({one_line(error)})")

        if not self._closed:
            self._measured.emit(made)

    def _take(self, made: Foreign) -> None:
        if made.name in self.pictures:
            self.pictures[made.name] = made
            self.changed.emit()

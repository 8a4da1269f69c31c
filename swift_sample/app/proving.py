"""Proving a renderer file off the window's thread."""

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from threading import Lock

from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.core.errors import RenderStoppedError, SwiftSampleError, one_line
from swift_sample.core.log import inspected
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.command.check import check
from swift_sample.core.renderers.port import Stop
from swift_sample.core.renderers.registry import renderer_in


class Proving(QObject):
    """One check at a time; `checked` follows for everything that was tried, then `ended`, with what
    went wrong or nothing."""

    told = pyqtSignal(str)
    checked = pyqtSignal(object)
    shown = pyqtSignal(object)
    ended = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = ThreadPoolExecutor(1, thread_name_prefix="proving")
        self._lock = Lock()
        self._stop = lambda: None
        self._closed = False

    def start(self, file: Path, scene: str, size: tuple[int, int]) -> None:
        """Check a confirmed renderer file on a scene."""

        def show(picture: Picture) -> None:
            self.shown.emit(picture.beauty)

        def prove() -> None:
            problem = ""
            try:
                for one in check(
                    renderer_in(file), scene, size, self.told.emit, show, self._started
                ):
                    if self._closed:
                        return
                    self.checked.emit(one)
            except RenderStoppedError:
                problem = "stopped"
            except SwiftSampleError as error:
                problem = one_line(error)

            if not self._closed:
                self.ended.emit(problem)

        if not self._closed:
            inspected(self._work.submit(prove), "proving a renderer file")

    def stop(self) -> None:
        """End the render in hand, and the check with it."""
        with self._lock:
            self._stop()

    def close(self) -> None:
        self._closed = True
        self.stop()
        self._work.shutdown(wait=True, cancel_futures=True)

    def _started(self, stop: Stop) -> None:
        with self._lock:
            self._stop = stop
            if self._closed:
                stop()

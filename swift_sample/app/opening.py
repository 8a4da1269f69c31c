"""Opens and makes studies off the window's thread."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.log import log_file, report_error
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.registry import DEFAULT, renderer_named
from swift_sample.core.settings import Configuration
from swift_sample.core.study.driver import Driver
from swift_sample.core.study.plan.demo import demo_path, demo_study
from swift_sample.core.study.plan.starting import starting_study
from swift_sample.core.study.store import Store, create_study, is_study

SIZE = (640, 360)


@dataclass(frozen=True)
class Opened:
    """A study that was asked for, or why it is not there. `measure` says what was wanted of it."""

    driver: Driver | None
    problem: str
    measure: bool


class Opener(QObject):
    """One study at a time; `opened` follows each request."""

    opened = pyqtSignal(object)
    waits = pyqtSignal(str)
    """for another program, in words"""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = ThreadPoolExecutor(1, thread_name_prefix="opening")
        self._closed = False

    def open(self, path: Path, measure: bool = False) -> None:
        """Open a study."""
        self._do(lambda: path, measure)

    def demo(self) -> None:
        """Open the demo study, which is made where it is missing, to measure it."""
        self._do(_demo, True)

    def new(self, scene: Path) -> None:
        """Make a study of a scene, in a new folder beside it."""
        self._do(
            lambda: create_study(
                _free_folder(scene.with_suffix(".study")),
                starting_study(
                    scene.stem, str(scene.resolve()), SIZE, View(), Configuration(renderer_named(DEFAULT).catalogue)
                ),
            ),
            False,
        )

    def close(self) -> None:
        self._closed = True
        self._work.shutdown(wait=True, cancel_futures=True)

    def _do(self, find: Callable[[], Path], measure: bool) -> None:
        def work() -> None:
            driver, problem = None, ""
            try:
                driver = Driver(Store.open(find(), self.waits.emit), prepares=True)
            except SwiftSampleError as error:
                problem = one_line(error)
            except Exception as error:  # the window must learn of any end
                report_error("opening a study", error)
                problem = f"something went wrong ({one_line(error)}); saved in {log_file()}"
            if self._closed and driver is not None:
                driver.close()
            elif not self._closed:
                self.opened.emit(Opened(driver, problem, measure))

        if not self._closed:
            self._work.submit(work)


def _demo() -> Path:
    path = demo_path()
    return path if is_study(path) else create_study(path, demo_study())


def _free_folder(wanted: Path) -> Path:
    """`wanted`, or the first name with a number behind it that is free."""
    free_folder, number = wanted, 2
    while free_folder.exists():
        free_folder = wanted.with_name(f"{wanted.stem}-{number}{wanted.suffix}")
        number += 1
    return free_folder

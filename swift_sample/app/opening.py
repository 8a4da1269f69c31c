"""Opens and makes studies off the window's thread."""

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.core.errors import (
    RenderStoppedError,
    StudyBusyError,
    StudyError,
    SwiftSampleError,
    one_line,
)
from swift_sample.core.log import log_file, report_error
from swift_sample.core.renderers.finished.rows import Row
from swift_sample.core.renderers.port import Renderer, SceneFacts
from swift_sample.core.renderers.registry import DEFAULT, renderer_in, renderer_named
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.store import Store, create_study, is_study
from swift_sample.core.study.measuring import background
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.package.finished import make_finished_study
from swift_sample.core.study.plan.demo import demo_path, demo_study
from swift_sample.core.study.plan.model import Study


@dataclass(frozen=True, kw_only=True)
class Opened:
    """A study that was asked for, or why it is not there. `then` says what was wanted of it: "" to
    look at it, "measure", or "search" within `budget_seconds`, None for as long as it takes."""

    driver: Driver | None
    problem: str
    then: str = ""
    budget_seconds: float | None = None
    path: Path | None = None
    measured_behind: str = ""
    """where it cannot be opened since it is measured in the background: "run" or "search" is what
    is done there"""


@dataclass(frozen=True)
class SceneRead:
    """A scene that a study may be begun with, or why it is none."""

    scene: str
    facts: SceneFacts | None
    problem: str = ""
    renderer: Renderer | None = None
    """another than the built-in one"""


class Opener(QObject):
    """One study at a time; `opened` follows each request."""

    opened = pyqtSignal(object)
    scene_read = pyqtSignal(object)
    waits = pyqtSignal(str)
    """for another program, in words"""
    copied = pyqtSignal(int, int)
    """so many finished pictures of so many"""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = ThreadPoolExecutor(1, thread_name_prefix="opening")
        self._closed = self._stopped = False

    def open(self, path: Path, then: str = "") -> None:
        """Open a study."""
        self._do(lambda: path, then)

    def take_over(self, path: Path) -> None:
        """Open a study that is measured in the background: that ends, and goes on here."""

        def find() -> Path:
            behind = background.found(path)
            if behind is not None and not background.take_over(path, behind[0]):
                raise StudyError(
                    f"{path}: measuring in the background does not end; try again in a minute"
                )
            return path

        behind = background.found(path)
        then = (
            {"run": "measure", "search": "search"}.get(behind[1], "") if behind is not None else ""
        )
        self._do(find, then)

    def demo(self) -> None:
        """Open the demo study, which is made where it is missing, to measure it."""
        self._do(_demo, "measure")

    def read_scene(self, scene: str, file: Path | None = None) -> None:
        """Read a scene, for the renderer that a renderer file describes where there is one;
        `scene_read` follows. Nothing is written."""

        def read() -> None:
            other = None
            facts = None
            problem = ""

            try:
                other = renderer_in(file) if file is not None else None
                renderer = other or renderer_named(DEFAULT)
                facts = renderer.facts(scene, Configuration(renderer.catalogue), 0)
            except SwiftSampleError as error:
                problem = one_line(error)
            except Exception as error:  # the window must learn of any end
                report_error("reading a scene", error)
                problem = f"{scene}: cannot be read ({one_line(error)}); saved in {log_file()}"

            if not self._closed:
                self.scene_read.emit(SceneRead(scene, facts, problem, other))

        if not self._closed:
            self._work.submit(read)

    def create(self, study: Study, then: str, budget_seconds: float | None = None) -> None:
        """Make a study in a new folder beside its scene, or among the user's own where nothing can
        be written there."""
        self._do(lambda: create_study(_free_folder(_home(study)), study), then, budget_seconds)

    def measure_finished(self, plan: Study, rows: Sequence[Row], reference: Path) -> None:
        """Make a study of finished renders beside them, and measure their pictures."""

        def make() -> Path:
            path = _free_folder(_home(plan))
            make_finished_study(path, plan, rows, reference, tell)
            return path

        def tell(done: int, every: int) -> None:
            if self._stopped or self._closed:
                raise RenderStoppedError("no study was made; the pictures are as they were")
            self.copied.emit(done, every)

        self._stopped = False
        self._do(make, "measure")

    def stop_copying(self) -> None:
        """Make no study of finished renders after all."""
        self._stopped = True

    def close(self) -> None:
        self._closed = True
        self._work.shutdown(wait=True, cancel_futures=True)

    def _do(self, find: Callable[[], Path], then: str, budget_seconds: float | None = None) -> None:
        def work() -> None:
            driver = None
            problem = ""
            path = None
            behind = None

            try:
                path = find()
                driver = Driver(Store.open(path, self.waits.emit), prepares=True)
            except StudyBusyError as error:
                problem = one_line(error)
                behind = background.found(path) if path is not None else None
            except SwiftSampleError as error:
                problem = one_line(error)
            except Exception as error:  # the window must learn of any end
                report_error("opening a study", error)
                problem = f"something went wrong ({one_line(error)}); saved in {log_file()}"

            if self._closed and driver is not None:
                driver.close()
            elif not self._closed:
                self.opened.emit(
                    Opened(
                        driver=driver,
                        problem=problem,
                        then=then,
                        budget_seconds=budget_seconds,
                        path=path,
                        measured_behind=behind[1] if behind else "",
                    )
                )

        if not self._closed:
            self._work.submit(work)


def _demo() -> Path:
    path = demo_path()
    return path if is_study(path) else create_study(path, demo_study())


def _home(study: Study) -> Path:
    """Where a new study of a scene stands."""
    scene = Path(study.scene)
    beside = scene.is_file() and os.access(scene.parent, os.W_OK)
    folder = scene.parent if beside else demo_path().parent

    return folder / f"{scene.stem}.study"


def _free_folder(wanted: Path) -> Path:
    """`wanted`, or the first name with a number behind it that is free."""
    free_folder = wanted
    number = 2

    while free_folder.exists():
        free_folder = wanted.with_name(f"{wanted.stem}-{number}{wanted.suffix}")
        number += 1

    return free_folder

"""How a study comes to be open: a scene is looked at first (`Beginning`), a folder is read,
finished renders are copied. A worker for previews is kept ready while nothing is open."""

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtWidgets import QProgressDialog, QWidget

from swift_sample.app.beginning import Beginning
from swift_sample.app.opening import Opened, Opener, SceneRead
from swift_sample.app.preview_worker import PreviewWorker
from swift_sample.app.session import Session
from swift_sample.core.renderers.finished.rows import Row
from swift_sample.core.renderers.registry import DEFAULT, renderer_named
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.model import Study
from swift_sample.ui.begin import BeginPage
from swift_sample.ui.dialogs.small import ask_to_take_over


class Entrance(QObject):
    """Of one window. `may_leave` says whether what is open can be left now, and calls back where
    that is only decided later."""

    told = pyqtSignal(str)
    """one sentence for the person at the window"""
    quiet = pyqtSignal()
    """what was told last is over"""
    left = pyqtSignal()
    """what is open is to be left now"""
    changed = pyqtSignal()
    """a scene began to be looked at, or does so no more"""
    entered = pyqtSignal(object, str, object)
    """a `Driver` of an opened study, what to do with it, and within how many seconds"""

    def __init__(
        self, parent: QWidget, page: BeginPage, may_leave: Callable[[Callable[[], object]], bool]
    ) -> None:
        super().__init__(parent)
        self._parent = parent
        self._page = page
        self._may_leave = may_leave
        self._opener = Opener(self)
        self._opener.opened.connect(self._on_opened)
        self._opener.waits.connect(self.told)
        self._opener.scene_read.connect(self._on_scene_read)
        self.beginning: Beginning | None = None
        self.prepares_previews = False
        """whether a worker for previews is kept ready while no study is open"""
        self._warm: PreviewWorker | None = None

    def open_study(self, path: Path, then: str = "") -> None:
        """Open a study in place of the present one, as soon as it is read."""
        if self._may_leave(lambda: self.open_study(path, then)):
            self.told.emit(f"Opening {path.name} …")
            self._opener.open(path, then)

    def open_demo(self) -> None:
        """Open the demo study and measure what is missing in it."""
        if self._may_leave(self.open_demo):
            self._opener.demo()

    def begin(self, scene: str, renderer: Path | None = None) -> None:
        """Show a scene, and what measuring it would be; a study is made of it only when that is
        asked for. `renderer` is the file of another renderer than the built-in one."""
        if self._may_leave(lambda: self.begin(scene, renderer)):
            self.told.emit(f"Opening {Path(scene).name} …")
            self._opener.read_scene(scene, renderer)

    def measure_finished(self, plan: Study, rows: Sequence[Row], reference: Path) -> None:
        """Make a study of renders that are finished, and measure their pictures."""
        if not self._may_leave(lambda: self.measure_finished(plan, rows, reference)):
            return

        self._opener.measure_finished(plan, rows, reference)
        shown = QProgressDialog(
            f"Copying {len(rows)} pictures into a study", "Stop", 0, len(rows), self._parent
        )
        shown.setWindowTitle("Finished renders")
        shown.setWindowModality(Qt.WindowModality.WindowModal)
        shown.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._opener.copied.connect(shown.setValue)
        self._opener.opened.connect(shown.close)
        shown.canceled.connect(self._opener.stop_copying)

    def look_again(self, session: Session) -> None:
        """Show the open study's scene as when it was begun, to change light, camera, limits and
        what is tried."""
        if session.facts is None or self.beginning is not None:
            return
        if session.activity.measuring:
            self.told.emit("Pause first: a preview would take time from what is measured")
            return

        in_force = session.results.limits if session.results is not None else None
        self._show(
            Beginning(session.study.scene, session.facts, self, session.study, in_force=in_force)
        )

    def make_study(
        self, session: Session | None, then: str, budget_seconds: float | None = None
    ) -> None:
        """Make the study that was begun, or change the open one that was looked at again, and
        measure it."""
        if self.beginning is None:
            return

        draft = self.beginning.draft
        if session is None:
            self._opener.create(draft, then, budget_seconds)
            return

        self.end_beginning()
        session.edit(edits.as_begun(draft))
        self.changed.emit()
        go_on(session, then, budget_seconds)

    def end_beginning(self) -> None:
        """The scene is looked at no more."""
        if self.beginning is not None:
            self._page.show_beginning(None)
            self.beginning.close()
            self.beginning.deleteLater()
            self.beginning = None

    def prepare_preview(self) -> None:
        """Have a worker ready for the scene that is likely to be dropped next."""
        if self.prepares_previews and self._warm is None and self.beginning is None:
            self._warm = PreviewWorker(renderer_named(DEFAULT))

    def drop_warm(self) -> None:
        """End the worker that was kept ready."""
        if self._warm is not None:
            self._warm.close()
            self._warm = None

    def close(self) -> None:
        """The window closes."""
        self._opener.close()
        self.prepares_previews = False
        self.drop_warm()

    def _on_scene_read(self, read: SceneRead) -> None:
        if read.facts is None:
            self.told.emit(read.problem)
            return

        self.quiet.emit()
        self.left.emit()
        worker = None
        if read.renderer is None:
            worker = self._warm
            self._warm = None

        self.drop_warm()
        self._show(Beginning(read.scene, read.facts, self, worker=worker, renderer=read.renderer))

    def _show(self, beginning: Beginning) -> None:
        self.beginning = beginning
        beginning.problem.connect(self.told)
        self._page.show_beginning(beginning)
        self.changed.emit()

    def _on_opened(self, opened: Opened) -> None:
        path = opened.path
        driver: Driver | None = opened.driver
        if driver is None and opened.measured_behind and path is not None:
            self.quiet.emit()
            ask_to_take_over(self._parent, path.stem, lambda: self._opener.take_over(path))
            return

        if driver is None:
            self.told.emit(opened.problem)
            return

        self.quiet.emit()
        self.entered.emit(driver, opened.then, opened.budget_seconds)


def go_on(session: Session, then: str, budget_seconds: float | None) -> None:
    """Do with an open study what was wanted when it was opened: "measure", "search" or nothing."""
    if then == "measure":
        session.measure(budget_seconds)
    elif then == "search":
        session.search(budget_seconds)

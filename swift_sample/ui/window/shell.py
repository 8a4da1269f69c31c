"""The window: puts the parts together and passes signals between them and the session."""

import traceback
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QEvent, QMetaObject, QSettings, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.beginning import Beginning
from swift_sample.app.pictures import PictureStore
from swift_sample.app.recent import RecentStudies
from swift_sample.app.session import Session
from swift_sample.app.view_model import Activity
from swift_sample.core.errors import one_line
from swift_sample.core.log import listen, log_file
from swift_sample.core.machine import this_machine
from swift_sample.core.settings import Value
from swift_sample.core.study.answers.pick_report import answer_words
from swift_sample.core.study.log.store import is_study
from swift_sample.core.study.measuring.background import command_of
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.plan import edits
from swift_sample.ui.begin import BeginPage
from swift_sample.ui.dialogs.log import LogDialog
from swift_sample.ui.dialogs.small import (
    AFTER_RUN,
    BEHIND,
    NOW,
    ask_before_leaving,
    show_caches,
    show_keys,
)
from swift_sample.ui.dialogs.take_sheet import TakeSheet
from swift_sample.ui.dialogs.versions import VersionsDialog
from swift_sample.ui.ledger import Ledger
from swift_sample.ui.pages import PAGES, Page, PlanPage
from swift_sample.ui.strips.remarks import ErrorCard, RemarkBar
from swift_sample.ui.strips.run import RunStrip
from swift_sample.ui.strips.top_bar import TopBar
from swift_sample.ui.strips.verdict import VerdictStrip
from swift_sample.ui.theme import DAY, DUSK, Theme, apply_theme, desktop_theme
from swift_sample.ui.welcome import Welcome
from swift_sample.ui.widgets.words import PlainLabel
from swift_sample.ui.window.actions import make_actions
from swift_sample.ui.window.entrance import Entrance, go_on
from swift_sample.ui.window.files import Files
from swift_sample.ui.window.notifications import notify
from swift_sample.ui.window.remembered import Remembered
from swift_sample.ui.window.tabs import Tabs

NOTICE_MILLISECONDS = 9000
LEAST_WIDTH = 960
LEAST_HEIGHT = 640
WARM_MILLISECONDS = 400
REFRESH_MILLISECONDS = 60
"""Bursts of changes are drawn once within this time."""

P = TypeVar("P", bound=Page)


class MainWindow(QMainWindow):
    """One window, one study at a time."""

    _went_wrong = pyqtSignal(str, str)

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self._remembered = Remembered(settings)
        self._theme = {"day": DAY, "dusk": DUSK}.get(self._remembered.theme, desktop_theme())
        self.session: Session | None = None
        self.files = Files(self, self)
        self.asks_before_closing = False
        self._may_close = False
        self.background: tuple[str, ...] = ()
        """the command that goes on measuring once this program has ended; empty for none"""
        self._doing: tuple[object, ...] = ()
        self.setWindowTitle("Swift Sample")
        self.setMinimumSize(LEAST_WIDTH, LEAST_HEIGHT)
        self.setAcceptDrops(True)
        self.pictures = PictureStore(self)
        self._menu = QMenu(self)
        self.top = TopBar(self._theme, this_machine(), self._menu)
        self.verdict = VerdictStrip(self._theme)
        self.ledger = Ledger(self._theme)
        self.pages: dict[str, Page] = {
            page.name: page(self._theme, self.pictures) for page in PAGES
        }
        self.strip = RunStrip(self._theme)
        self.welcome = Welcome(self._theme)
        self.begin_page = BeginPage(self._theme)
        self.entrance = Entrance(self, self.begin_page, self._leave_well)
        self._actions = self._make_actions()
        self._tabs = Tabs(self.pages)
        self.notice = PlainLabel()
        self.remarks = RemarkBar()
        self.error = ErrorCard()
        self._looked_at = RecentStudies(self)
        self._looked_at.looked_at.connect(self.welcome.fill)
        self._went_wrong.connect(self.error.show_error)
        self._stop_listening = listen(self._on_error)
        self._lay_out()
        self._connect()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REFRESH_MILLISECONDS)
        self._timer.timeout.connect(self._refresh)
        self._notice_timer = QTimer(self)
        self._notice_timer.setSingleShot(True)
        self._notice_timer.timeout.connect(self.notice.hide)
        self._remembered.restore_looks(self.pages.values(), self.ledger)
        self._show_session()

        if self._remembered.geometry is not None:
            self.restoreGeometry(self._remembered.geometry)
        else:
            self.resize(1280, 800)

    def open_study(self, path: Path, measure: bool = False) -> None:
        """Open a study in place of the present one, as soon as it is read."""
        self.entrance.open_study(path, "measure" if measure else "")

    @property
    def beginning(self) -> Beginning | None:
        """The scene that is looked at before a study is made of it."""
        return self.entrance.beginning

    def begin(self, scene: str, renderer: Path | None = None) -> None:
        """Show a scene, and what measuring it would be."""
        self.entrance.begin(scene, renderer)

    def look_again(self) -> None:
        """Show the open study's scene as when it was begun."""
        if self.session is not None:
            self.entrance.look_again(self.session)

    def _enter(self, driver: Driver, then: str, budget_seconds: float | None) -> None:
        self._use(driver)
        if self.session is not None:
            go_on(self.session, then, budget_seconds)

    def _make_study(self, then: str, budget_seconds: float | None = None) -> None:
        self.entrance.make_study(self.session, then, budget_seconds)

    def _cancel_beginning(self) -> None:
        """Back to the open study, or to the welcome."""
        if self.session is None:
            self._leave_to_welcome()
        else:
            self.entrance.end_beginning()
            self._show_session()

    def _on_error(self, where: str, error: BaseException) -> None:
        """From any thread: an error nobody expected."""
        trace = "".join(traceback.format_exception(error))
        self._went_wrong.emit(
            f"Something went wrong: {where} ({type(error).__name__}: {one_line(error)}). "
            f"What was measured is kept; the details stand in {log_file()}.",
            trace,
        )

    def measure(self) -> None:
        """Begin to measure, or pause."""
        if self.session is None:
            return

        if self.session.activity.measuring:
            self.session.pause()
        else:
            self.session.measure()

    def find_fastest(self) -> None:
        """Let a search find the pick, or pause."""
        if self.session is None:
            return

        if self.session.activity.measuring:
            self.session.pause()
        else:
            self.session.search()

    def show_page(self, name: str) -> None:
        """Show one of PAGES by its name."""
        self._tabs.show_page(name)
        if self.session is not None and self.beginning is None:
            self.pages[name].setFocus()
            self._remembered.keep_page(name)

        self._refresh()

    def _keep_state(self) -> None:
        """Remember how pages are looked at, and which trials of the study are compared."""
        self._remembered.keep_looks(self.pages.values(), self.ledger)
        if self.session is not None:
            self._remembered.keep_compared(self.session.path, self.session.selected)

    def show_keys(self) -> QFrame:
        """The keys that work where the keyboard is, and everywhere."""
        focus = self.focusWidget()
        if (focus is not None and self.ledger.isAncestorOf(focus)) or focus is self.ledger:
            return show_keys(self, "Settings", Ledger.KEYS)

        page = self._tabs.current
        if self.session is not None and self.beginning is None:
            return show_keys(self, page.name, page.KEYS)

        return show_keys(self, "", ())

    def ledger_find(self) -> None:
        """Find a setting by its words."""
        if self.session is not None and self.beginning is None:
            self.ledger.find_setting()

    def _next_region(self, step: int) -> None:
        """Give the keyboard to the next part of the window."""
        if self.session is None or self.beginning is not None:
            return

        page = self._tabs.current
        regions = [self.ledger, page, self.strip.blocks, self.top.first, self.verdict]
        focus = self.focusWidget()
        here = next(
            (
                k
                for k, w in enumerate(regions)
                if w is not None and (w is focus or w.isAncestorOf(focus))
            ),
            1 - step,
        )
        region = regions[(here + step) % len(regions)]

        if region is not None:
            region.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def page(self, kind: type[P]) -> P:
        """The page of a kind."""
        page = self.pages[kind.name]
        assert isinstance(page, kind)
        return page

    def set_theme(self, theme: Theme) -> None:
        """Change to day or dusk."""
        self._theme = theme
        self._remembered.keep_theme(theme.name)
        self._apply_theme()

    def _apply_theme(self) -> None:
        theme = self._theme
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        apply_theme(application, theme)
        for part in (
            self.top,
            self.verdict,
            self.ledger,
            self.strip,
            self.welcome,
            self.begin_page,
        ):
            part.set_theme(theme)

        for page in self.pages.values():
            page.set_theme(theme)

        self._refresh()

    def follow_desktop(self) -> None:
        """The desktop changed to day or dusk: so does the window, unless one was chosen here."""
        if not self._remembered.theme:
            self._theme = desktop_theme()
            self._apply_theme()

    def tell(self, text: str) -> None:
        """Show one sentence where it does not stand in the way."""
        self.notice.setText(text)
        self.notice.show()
        self._notice_timer.start(NOTICE_MILLISECONDS)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if not self._leave_well(self.close, background=True):
            if event is not None:
                event.ignore()
            return

        self.files.close()
        self._remembered.keep_geometry(self.saveGeometry())
        self._keep_state()
        self._stop_listening()
        self._leave()
        self.entrance.close()
        self._looked_at.close()
        for page in self.pages.values():
            page.finish()

        self.pictures.close()
        super().closeEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if data is not None:
            self.files.take([Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()])

    def _make_actions(self) -> dict[str, QAction]:
        slots: dict[str, Callable[[], object]] = {
            "open": self.files.choose_study,
            "new": self.files.choose_scene,
            "renderer": self.files.use_other_renderer,
            "finished": self.files.choose_finished,
            "demo": self.entrance.open_demo,
            "undo": lambda: self._ask(lambda session: session.undo()),
            "redo": lambda: self._ask(lambda session: session.redo()),
            "theme": lambda: self.set_theme(DUSK if self._theme is DAY else DAY),
            "caches": lambda: show_caches(self, self.tell),
            "keys": self.show_keys,
            "next": lambda: self._next_region(1),
            "previous": lambda: self._next_region(-1),
            "find": self.ledger_find,
            "take": self.take_pick,
            "search": self.find_fastest,
            "measure": self.measure,
            "stop": lambda: self._ask(lambda session: session.stop()),
            "again": self.look_again,
            "export": self._export,
            "versions": self.show_versions,
            "log": lambda: self._ask(lambda session: session.read_log()),
            "close": self._leave_to_welcome,
        }
        for page in PAGES:
            slots[page.name] = lambda name=page.name: self.show_page(name)  # type: ignore[misc]

        return make_actions(self, self._menu, slots)

    def _lay_out(self) -> None:
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.ledger)
        middle.addWidget(self._tabs, 1)

        study = QWidget()
        column = QVBoxLayout(study)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.verdict)
        column.addLayout(middle, 1)
        column.addWidget(self.strip)

        self._stack = QStackedWidget()
        self._stack.addWidget(self.welcome)
        self._stack.addWidget(study)
        self._stack.addWidget(self.begin_page)

        self.notice.setObjectName("card")
        self.notice.setWordWrap(True)
        self.notice.setContentsMargins(12, 8, 12, 8)
        self.notice.hide()

        whole = QWidget()
        outer = QVBoxLayout(whole)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.top)
        outer.addWidget(self.notice)
        outer.addWidget(self.error)
        outer.addWidget(self.remarks)
        outer.addWidget(self._stack, 1)
        self.setCentralWidget(whole)

    def _connect(self) -> None:
        self.top.measure_clicked.connect(self.measure)
        self.top.search_clicked.connect(self.find_fastest)
        self.top.goal_chosen.connect(
            lambda goal: self._ask(lambda session: session.edit(edits.set_goal(goal)))
        )
        self.verdict.take_wanted.connect(self.take_pick)
        self.verdict.limit_edited.connect(
            lambda key, value: self._ask(lambda session: session.set_limit(key, value))
        )
        self.verdict.try_asked.connect(
            lambda changes: self._ask(lambda session: session.try_changes(changes))
        )
        self.ledger.values_changed.connect(
            lambda key, values: self._ask(lambda session: session.set_values(key, values))
        )
        self.ledger.base_changed.connect(
            lambda key, value: self._ask(lambda session: session.set_base_value(key, value))
        )
        self.ledger.forbidden_changed.connect(
            lambda key, value, on: self._ask(lambda session: session.forbid(key, value, on))
        )
        self.ledger.setting_selected.connect(
            lambda key: self._ask(lambda session: session.select_setting(key))
        )
        self.ledger.chip_hovered.connect(self._light_up)
        self._tabs.chosen.connect(self.show_page)
        self.entrance.told.connect(self.tell)
        self.entrance.quiet.connect(self.notice.hide)
        self.entrance.left.connect(self._leave)
        self.entrance.changed.connect(self._show_session)
        self.entrance.entered.connect(self._enter)

        for page in self.pages.values():
            page.asked.connect(self._ask)
            page.state_changed.connect(self._keep_state)
            page.page_wanted.connect(self.show_page)

        self.page(PlanPage).look_again_wanted.connect(self.look_again)
        self.strip.trial_clicked.connect(
            lambda trial_id: self._ask(lambda session: session.toggle_selected(trial_id))
        )
        self.strip.pause_clicked.connect(lambda: self._ask(lambda session: session.pause()))
        self.strip.stop_clicked.connect(lambda: self._ask(lambda session: session.stop()))
        self.remarks.place_wanted.connect(
            lambda place: self._ask(lambda session: session.show_version(place))
        )
        self.remarks.versions_wanted.connect(self.show_versions)
        self.remarks.dismissed.connect(lambda: self._ask(lambda session: session.dismiss_outcome()))
        self.welcome.demo_wanted.connect(self.entrance.open_demo)
        self.welcome.scene_wanted.connect(lambda scene: self.begin(scene))
        self.welcome.new_wanted.connect(self.files.choose_scene)
        self.welcome.open_wanted.connect(self.files.choose_study)
        self.welcome.renderer_wanted.connect(lambda: self.files.use_other_renderer())
        self.welcome.finished_wanted.connect(self.files.choose_finished)
        self.welcome.recent_wanted.connect(self.open_study)
        self.begin_page.fastest_wanted.connect(lambda seconds: self._make_study("search", seconds))
        self.begin_page.everything_wanted.connect(
            lambda seconds: self._make_study("measure", seconds)
        )
        self.begin_page.skipped.connect(lambda: self._make_study(""))
        self.begin_page.cancelled.connect(self._cancel_beginning)
        self.begin_page.problem.connect(self.tell)

    def _ask(self, do: Callable[[Session], object]) -> None:
        """Do something with the open study, if there is one."""
        if self.session is not None:
            do(self.session)
            self._show_on_page()

    def _use(self, driver: Driver) -> None:
        self._leave()
        self.entrance.drop_warm()  # nothing else shall work beside a timed render
        session = Session(driver, self)
        self.session = session
        session.snapshot_changed.connect(self._refresh_soon)
        session.undo_changed.connect(self._refresh_soon)
        session.activity_changed.connect(self._on_activity)
        session.line_changed.connect(self._refresh_soon)
        session.selection_changed.connect(self._refresh_soon)
        session.report_changed.connect(self._refresh_soon)
        session.machines_changed.connect(self._show_on_page)
        session.lit_changed.connect(self._show_on_page)
        session.field_changed.connect(self._refresh_soon)
        session.pointed_changed.connect(lambda: self.ledger.point_at(session.pointed))
        session.problem.connect(self.tell)
        session.log_arrived.connect(self.show_log)
        session.written.connect(lambda name: self.tell(f"Written to {name}"))
        session.finished.connect(self._on_finished)
        session.ended.connect(self._on_ended)
        session.drawing_wanted.connect(self._draw_now)
        session.compare(self._remembered.compared(session.path))
        self._remembered.keep_open(session.path)
        self._show_session()

    def _leave(self) -> None:
        self.entrance.end_beginning()
        if self.session is not None:
            for page in self.pages.values():
                page.show_view(None)

            self.session.close()
            self.session.deleteLater()
            self.session = None

    def _leave_to_welcome(self) -> None:
        if not self._leave_well(self._leave_to_welcome):
            return

        self._leave()
        self._remembered.keep_closed()
        self._show_session()

    def _show_session(self) -> None:
        self._stack.setCurrentIndex(
            2 if self.beginning is not None else 0 if self.session is None else 1
        )
        if self.beginning is not None:
            self.setWindowTitle(f"{self.beginning.draft.name} – Swift Sample")
            self._refresh()
            return

        if self.session is None:
            recent = [Path(p) for p in self._remembered.recent() if is_study(Path(p))]
            self.welcome.show_recent(recent)
            self._looked_at.look(recent)
            QTimer.singleShot(WARM_MILLISECONDS, self._prepare_preview)
            self.setWindowTitle("Swift Sample")
        else:
            self.setWindowTitle(f"{self.session.study.name} – Swift Sample")

        last = self._remembered.page(PAGES[0].name)
        self.show_page(last if self.session is not None and last in self.pages else PAGES[0].name)

    def _prepare_preview(self) -> None:
        if self.session is None:
            self.entrance.prepare_preview()

    def _light_up(self, key: str, value: Value | None) -> None:
        if self.session is not None:
            self.session.light_up(key, value)

    def _refresh_soon(self) -> None:
        if not self._timer.isActive():
            self._timer.start()

    def _draw_now(self) -> None:
        """Draw what waits to be drawn: a render is about to be timed, and nothing else shall work
        then."""
        if self._timer.isActive():
            self._timer.stop()
            self._refresh()

    def changeEvent(self, event: QEvent | None) -> None:
        super().changeEvent(event)
        if (
            event is not None
            and event.type() == QEvent.Type.ActivationChange
            and self.isActiveWindow()
            and self.session is not None
            and not self.session.activity.measuring
        ):
            self.session.look_around()

    def _on_activity(self, activity: Activity) -> None:
        """Progress within a step touches the run strip only: the window must not take time from
        what it measures."""
        doing = (activity.measuring, activity.stopping, activity.step)
        if doing != self._doing:
            self._doing = doing
            self._refresh_soon()
        elif self.session is not None:
            self.strip.show_view(self.session.view())

    def _refresh(self) -> None:
        session = self.session
        snapshot = session.snapshot if session is not None else None

        if session is None or self.beginning is not None:
            if self.beginning is not None:
                self.top.show_beginning(self.beginning.draft.name)
            else:
                self.top.show_view(None)

            self.remarks.show_view(None)
            self._show_on_page()
            return

        if snapshot is not None:
            self.pictures.digest_of = snapshot.digest_of

        model = session.view()
        self.top.show_view(model)
        self.verdict.show_view(model)
        self.ledger.show_view(model)
        self.strip.show_view(model)
        self.remarks.show_view(model)
        self._show_on_page()

        for name, words, label in (
            ("undo", "Undo", session.undo_label),
            ("redo", "Redo", session.redo_label),
        ):
            self._actions[name].setEnabled(bool(label))
            self._actions[name].setText(
                f"{words}: {label[0].lower()}{label[1:]}" if label else words
            )

    def _show_on_page(self) -> None:
        """Show the study on the page that is seen."""
        model = self.session.view() if self.session is not None else None
        self._tabs.current.show_view(model)

    def take_pick(self) -> TakeSheet | None:
        """Open the sheet with the pick's settings."""
        session = self.session
        pick = session.pick() if session is not None else None
        if session is None or pick is None or session.results is None:
            return None

        sheet = TakeSheet(
            session.results, pick, session.command_for(pick.trial.configuration), self
        )
        sheet.said.connect(self.tell)
        sheet.base_wanted.connect(self._pick_as_base)
        sheet.open()

        return sheet

    def _export(self) -> None:
        if self.session is not None:
            name, _ = QFileDialog.getSaveFileName(
                self, "Export the results", "results.csv", "Open data (*.csv *.json)"
            )
            if name:
                self.session.export(Path(name))

    def _pick_as_base(self) -> None:
        pick = self.session.pick() if self.session is not None else None
        if self.session is not None and pick is not None:
            self.session.edit(edits.set_base(pick.trial.configuration))

    def _on_finished(self) -> None:
        QApplication.alert(self)
        advice = self.session.advice if self.session is not None else None
        if advice is not None:
            self.tell(f"The search ended: {advice.why}.")

    def _on_ended(self, words: str) -> None:
        """Measuring is over: who looks elsewhere is told what was found."""
        session = self.session
        if session is None or self.isActiveWindow():
            return

        found = answer_words(session.results) if session.results is not None else ""
        notify(session.study.name, f"{found} {words[:1].upper()}{words[1:]}".strip())

    def _leave_well(self, then: Callable[[], object], background: bool = False) -> bool:
        """Whether what is open can be left now. Where something is measured it is asked once what
        is to become of that, and `then` follows; `background` offers to finish it without the
        window."""
        session = self.session
        if (
            not self.asks_before_closing
            or session is None
            or not session.activity.measuring
            or self._may_close
        ):
            return True

        waiting: list[QMetaObject.Connection] = []

        def go_on() -> None:
            while waiting:  # once
                session.activity_changed.disconnect(waiting.pop())

            self._may_close = True
            then()
            self._may_close = False

        def answered(answer: str) -> None:
            if answer == AFTER_RUN:
                waiting.append(
                    session.activity_changed.connect(
                        lambda activity: None if activity.measuring else go_on()
                    )
                )
                session.pause()
            elif answer == NOW:
                go_on()
            elif answer == BEHIND:
                kind = "search" if session.activity.searching else "run"
                self.background = command_of(kind, session.path)
                go_on()

        ask_before_leaving(
            self,
            session.study.name,
            (BEHIND, AFTER_RUN, NOW) if background else (AFTER_RUN, NOW),
            answered,
        )
        return False

    def show_log(self, events: list[tuple[str, str, str]]) -> None:
        """What was decided while measuring, and why, the latest first."""
        LogDialog(events, self).open()

    def show_versions(self) -> None:
        """Which versions of scene, size, frame and renderer were measured; one can be looked at."""
        if self.session is not None and self.session.snapshot is not None:
            dialog = VersionsDialog(self.session.snapshot, self)
            dialog.place_wanted.connect(
                lambda place: self._ask(lambda session: session.show_version(place))
            )
            dialog.open()

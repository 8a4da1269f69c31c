"""The report's page: made when it is seen, made anew when something was measured, saved where the artist wants it."""

from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from pytestqt.qtbot import QtBot

from swift_sample.app.session import Activity
from swift_sample.core.machine import this_machine
from swift_sample.core.report.write import write_report
from swift_sample.core.study.results import Results
from swift_sample.core.study.snapshot import Snapshot
from swift_sample.ui.pages.report import ReportView
from swift_sample.ui.theme import DAY
from tests.core.study.test_results import THREE, results_of
from tests.ui.fake_session import snapshot_of


class Asked(QObject):
    """Stands for a session: writes reports at once, when told to."""

    report_made = pyqtSignal(str)
    problem = pyqtSignal(str)

    def __init__(self, results: Results) -> None:
        super().__init__()
        self.results, self.activity, self.asked = results, Activity(), []

    def make_report(self, path: Path, shown_here: bool = False) -> None:
        assert shown_here
        self.asked.append(path)

    def answer(self) -> None:
        snapshot: Snapshot = snapshot_of(self.results)
        write_report(self.asked[-1], snapshot, this_machine())
        self.report_made.emit(str(self.asked[-1]))


def test_the_report_follows_the_study(qtbot: QtBot) -> None:
    view = ReportView(DAY)
    qtbot.addWidget(view)
    view.resize(900, 600)
    session = Asked(results_of(THREE))
    view.set_session(session)
    assert session.asked == [], "not before it is seen"
    view.show()
    assert len(session.asked) == 1
    assert view._words.text() == "Writing the report …"
    session.answer()
    assert view.page_count >= 2
    assert view._pages.isVisible()
    assert view._words.text() == ""

    session.activity = Activity(measuring=True)
    session.results = results_of({**THREE, 60: (6.0, (1.7, 1.6, 1.8))})
    view.refresh()
    assert len(session.asked) == 1, "while measuring it does not write again and again"
    assert view._words.text() == "Measured on since this was written."
    view._again.click()
    assert len(session.asked) == 2
    session.problem.emit("the disk is full")
    view.refresh()
    assert view._words.text() == ""

    with qtbot.waitSignal(view.save_wanted) as wanted:
        view._saves[".html"].click()
    assert wanted.args == [".html"]


def test_before_anything_is_measured_the_page_says_what_will_stand_here(qtbot: QtBot) -> None:
    view = ReportView(DAY)
    qtbot.addWidget(view)
    session = Asked(replace(results_of({100: (10.0, None)})))
    view.set_session(session)
    view.show()
    assert session.asked == []
    assert view._hint.isVisible()
    assert not view._saves[".pdf"].isEnabled()

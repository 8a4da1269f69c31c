"""The report's page: made when it is seen, made anew when something was measured, saved where the
artist wants it."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import PictureStore
from swift_sample.app.view_model import Activity
from swift_sample.core.machine import this_machine
from swift_sample.core.report.write import write_report
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.ui.pages.report import ReportPage
from swift_sample.ui.theme import DAY
from swift_sample.ui.widgets.elided import ElidedLabel
from tests.core.study.answers.test_results import THREE, results_of
from tests.ui.fake_session import FakeSession, snapshot_of
from tests.ui.seen import button, click, field, texts


def answer(session: FakeSession) -> None:
    """Write the report that the page last asked for."""
    name, (path,) = session.asked[-1]
    assert name == "show_report"
    snapshot: Snapshot = snapshot_of(session.model.results)
    write_report(path, snapshot, this_machine())
    session.change(reporting=False, report=(str(path), session.model.results))


@pytest.fixture
def view(qtbot: QtBot) -> Iterator[ReportPage]:
    store = PictureStore()
    made = ReportPage(DAY, store)
    qtbot.addWidget(made)
    made.resize(900, 600)
    yield made
    store.close()


def test_the_report_follows_the_study(view: ReportPage, monkeypatch: pytest.MonkeyPatch) -> None:
    session = FakeSession(results_of(THREE))
    session.attach(view)
    assert session.asked == [], "not before it is seen"
    view.show()
    assert len(session.asked) == 1
    assert "Writing the report …" in texts(view)
    assert len(session.asked) == 1
    answer(session)
    assert view.page_count >= 2
    assert field(view, "The report's pages").isVisible()
    assert texts(view) == []

    session.change(
        activity=Activity(measuring=True), results=results_of({**THREE, 60: (6.0, (1.7, 1.6, 1.8))})
    )
    assert len(session.asked) == 1, "while measuring it does not write again and again"
    assert "There are newer measurements." in texts(view)
    click(button(view, "Update"))
    assert len(session.asked) == 2
    session.change(reporting=False, report=("", session.model.results))
    assert texts(view) == [], (
        "one that could not be written is told elsewhere, and not tried for ever"
    )
    session.change(report_words="The report was stopped.")
    assert texts(view) == ["The report was stopped."], "beside the button that writes it"
    session.change(report_words="")
    assert view.page_count >= 2

    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: ("/somewhere/mine", ""))
    click(button(view, "Save as HTML …"))
    assert session.asked[-1] == ("make_report", (Path("/somewhere/mine.html"),))


def test_how_far_it_is_has_a_form_for_every_width(view: ReportPage) -> None:
    session = FakeSession(results_of(THREE))
    session.attach(view)
    view.show()
    session.change(report_words="0%, putting together what was found")
    words = next(label for label in view.findChildren(ElidedLabel) if label.text())

    view.resize(1000, 600)
    assert words.shown == "Writing the report: 0%, putting together what was found …"
    view.resize(500, 600)
    assert words.shown == "Writing: 0% …"


def test_before_anything_is_measured_the_page_says_what_will_stand_here(view: ReportPage) -> None:
    session = FakeSession(results_of({100: (10.0, None)}))
    session.attach(view)
    view.show()
    assert session.asked == []
    assert any(
        text.startswith("This page shows what you can give to others") for text in texts(view)
    )
    assert not button(view, "Save as PDF …").isEnabled()

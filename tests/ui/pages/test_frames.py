"""The Frames page: bars, forecasts, what it asks for, and what it says before anything is measured."""

from dataclasses import replace

import pytest
from pytestqt.qtbot import QtBot

from swift_sample.app.session import Activity
from swift_sample.core.study.frames import FrameResults
from swift_sample.core.study.plan.model import FramePlan
from swift_sample.ui.pages.frames import FramesView
from swift_sample.ui.theme import DAY, DUSK
from tests.core.study.test_frames import row
from tests.core.study.test_results import THREE, results_of
from tests.ui.fake_session import FakeSession

PICK = 50


@pytest.fixture
def session() -> FakeSession:
    results = results_of(THREE)
    made = FakeSession(results, frames=None, asked=[])
    made.frame_names = lambda: {results.study.base: "base", results.pick().trial.configuration: "pick"}
    made.measure_frames = made.asked.append
    return made


@pytest.fixture
def view(qtbot: QtBot) -> FramesView:
    made = FramesView(DAY)
    qtbot.addWidget(made)
    made.resize(680, 520)
    made.show()
    return made


def test_an_empty_page_says_what_will_stand_here_and_asks_for_it(view: FramesView, session: FakeSession) -> None:
    view.set_session(session)
    assert view._hint.isVisible()
    view._last.setValue(100)
    view._count.setValue(3)
    view._measure.click()
    assert session.asked == [FramePlan(0, 100, 3)]
    view._first.setValue(200)
    view._measure.click()
    assert view._words.text().startswith("frames=200 to 100: expected two different frames")
    assert len(session.asked) == 1


def test_bars_and_forecasts_follow_what_is_measured(view: FramesView, session: FakeSession) -> None:
    base, pick = session.frame_names()
    session.study = replace(session.study, frames=FramePlan(0, 10, 2))
    session.frames = FrameResults(
        session.study.frames, {base: (row(0, 2.0, 0.5), row(10, 4.0, 0.5)), pick: (row(0, 1.0, ready=0.5),)}, left=2
    )
    view.set_session(session)
    assert (view._first.value(), view._last.value(), view._count.value()) == (0, 10, 2)
    assert view._words.text() == "2 of 8 runs left"
    assert "base: 11 frames take 33.0 s" in view._forecasts[0].text()
    assert "begun now, it is done" in view._forecasts[0].text()
    assert view._forecasts[1].text() == "<b>pick: fewer than two frames were measured</b><br>"
    assert "pick, 50 samples" in view._legend.text()
    view._machines.setValue(3)
    assert "base: 11 frames take 11.0 s" in view._forecasts[0].text()
    drawn = view._drawn
    view.refresh()
    assert view._drawn is drawn, "nothing is drawn twice"
    view.set_theme(DUSK)
    assert DUSK.colour("pick").name() in view._legend.text()


def test_nothing_is_asked_while_measuring_or_before_the_base_is_there(view: FramesView, session: FakeSession) -> None:
    session.activity = Activity(measuring=True)
    view.set_session(session)
    assert not view._measure.isEnabled()
    session.activity, session.results = Activity(), results_of({100: (10.0, None)})
    session.results = replace(session.results, trials=tuple(replace(t, seconds=None) for t in session.results.trials))
    view.refresh()
    assert not view._measure.isEnabled()
    assert view._measure.toolTip().startswith("Measure the study first")

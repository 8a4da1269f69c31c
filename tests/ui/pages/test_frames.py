"""The Frames page: bars, forecasts, what it asks for, and what it says before anything is
measured."""

from collections.abc import Iterator
from dataclasses import replace

import pytest
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import PictureStore
from swift_sample.app.view_model import Activity
from swift_sample.core.renderers.port import SceneFacts
from swift_sample.core.study.answers.frames import FrameResults
from swift_sample.core.study.plan.model import FramePlan
from swift_sample.ui.pages.frames import FramesPage
from swift_sample.ui.theme import DAY, DUSK
from tests.core.study.answers.test_frames import row
from tests.core.study.answers.test_results import THREE, results_of
from tests.ui.fake_session import FakeSession, snapshot_of
from tests.ui.seen import button, click, field, texts

PICK = 50


@pytest.fixture
def session() -> FakeSession:
    return FakeSession(results_of(THREE))


@pytest.fixture
def view(qtbot: QtBot) -> Iterator[FramesPage]:
    store = PictureStore()
    made = FramesPage(DAY, store)
    qtbot.addWidget(made)
    made.resize(680, 520)
    made.show()
    yield made
    store.close()


def test_an_empty_page_says_what_will_stand_here_and_asks_for_it(
    view: FramesPage, session: FakeSession
) -> None:
    session.attach(view)
    assert any("Set the frames above and measure them" in text for text in texts(view))
    field(view, "last frame").setValue(100)
    field(view, "frames to measure").setValue(3)
    click(button(view, "Measure frames"))
    assert session.asked == [("measure_frames", (FramePlan(0, 100, 3),))]
    field(view, "first frame").setValue(200)
    click(button(view, "Measure frames"))
    assert any(
        text.startswith("frames=200 to 100: expected two different frames") for text in texts(view)
    )
    assert len(session.asked) == 1


def test_bars_and_forecasts_follow_what_is_measured(view: FramesPage, session: FakeSession) -> None:
    base, pick = session.model.frame_names()
    study = replace(session.model.study, frames=FramePlan(0, 10, 2))
    found = FrameResults(
        study.frames,
        {base: (row(0, 2.0, 0.5), row(10, 4.0, 0.5)), pick: (row(0, 1.0, ready=0.5),)},
        left=2,
    )
    session.model = replace(
        session.model, study=study, snapshot=snapshot_of(session.model.results, frames=found)
    )
    session.attach(view)
    frames = ("first frame", "last frame", "frames to measure")
    assert [field(view, name).value() for name in frames] == [0, 10, 2]
    assert any(text.startswith("2 of 8 runs left, about ") for text in texts(view))
    assert any("base: 11 frames take 33.0 s" in text for text in texts(view))
    assert any("if started now, it is done" in text for text in texts(view))
    assert "<b>pick: fewer than two frames were measured</b><br>" in texts(view)
    assert any("pick, 50 samples" in text for text in texts(view))
    field(view, "machines like this one that share the sequence").setValue(3)
    assert any("base: 11 frames take 11.0 s" in text for text in texts(view))
    drawn = view._drawn
    view.refresh()
    assert view._drawn is drawn, "nothing is drawn twice"
    view.set_theme(DUSK)
    assert any(DUSK.colour("pick").name() in text for text in texts(view))


def test_a_scene_offers_its_own_last_frame_and_a_still_one_says_so(
    view: FramesPage, session: FakeSession
) -> None:
    session.model = replace(session.model, facts=SceneFacts(frames=90))
    session.attach(view)
    assert field(view, "last frame").value() == 89
    assert not any("Nothing in the scene moves" in text for text in texts(view))
    field(view, "last frame").setValue(40)
    view.refresh()
    assert field(view, "last frame").value() == 40, "it is offered once"
    session.model = replace(session.model, facts=SceneFacts(frames=1))
    session.attach(view)
    assert any(text.startswith("Nothing in the scene moves") for text in texts(view))


def test_nothing_is_asked_while_measuring_or_before_the_base_is_there(
    view: FramesPage, session: FakeSession
) -> None:
    session.attach(view)
    session.change(activity=Activity(measuring=True))
    assert not button(view, "Measure frames").isEnabled()
    bare = results_of({100: (10.0, None)})
    bare = replace(bare, trials=tuple(replace(t, seconds=None) for t in bare.trials))
    session.change(activity=Activity(), results=bare)
    assert not button(view, "Measure frames").isEnabled()

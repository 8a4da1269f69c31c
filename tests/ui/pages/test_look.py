"""Look by itself: what stands above and under the pictures, the modes, keys, and areas with figures of their own."""

from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import PictureStore
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.study.acceptance import Acceptance
from swift_sample.core.study.plan.model import WatchArea
from swift_sample.core.study.records import ReferenceState
from swift_sample.ui.pages.look import BLINK, DIFFERENCE, REFERENCE, SIDE_BY_SIDE, WIPE, WORST_PLACE, LookPage
from swift_sample.ui.theme import DAY
from tests.core.study.states import only_limits
from tests.core.study.test_results import with_runs
from tests.ui.fake_session import FakeSession, snapshot_of

AREA = WatchArea("jar", 2, 2, 8, 8)


@pytest.fixture
def session(tmp_path: Path) -> FakeSession:
    (tmp_path / "pictures").mkdir()
    light = np.full((18, 32, 3), 0.2, np.float32)
    results = with_runs({100: [10.0] * 3, 50: [5.0] * 3}, figures={"grain": (2.6, 2.5, 2.7)})
    snapshot = snapshot_of(results, ReferenceState(500, 0.75, 9.0), folder=tmp_path)
    for run in snapshot.runs:
        write_exr(tmp_path / "pictures" / run.picture, Picture(light))
    snapshot.reference_path.parent.mkdir()
    write_exr(snapshot.reference_path, Picture(light * 2))
    return FakeSession(results, path=tmp_path, snapshot=snapshot)


@pytest.fixture
def look(qtbot: QtBot, session: FakeSession):
    store = PictureStore()
    made = LookPage(DAY, store)
    qtbot.addWidget(made)
    made.resize(900, 500)
    made.show()
    session.attach(made)
    qtbot.waitUntil(lambda: all(shown.image is not None for shown in made.canvas._shown), timeout=5000)
    yield made
    made.hide()
    store.close()


def test_without_a_choice_the_reference_stands_beside_the_base(look: LookPage) -> None:
    assert look.trial_ids == [REFERENCE, look.model.results.base.id], "nothing is acceptable, so there is no pick to show"
    assert look._feet[0].text() == "what errors are measured against; its own grain is 0.75 levels"
    assert "Opens: bounces" in look._feet[0].toolTip()
    assert "grain 2.6 of 2.0" in look._feet[1].text().replace("&nbsp;", " ")
    assert DAY.over in look._feet[1].text()


def test_the_list_above_a_picture_names_every_trial_fastest_first(look: LookPage, session: FakeSession) -> None:
    listed = [look._heads[1]._list.itemText(k) for k in range(look._heads[1]._list.count())]
    assert listed == ["reference", "5.0 s   50 samples", "10.0 s   base"]
    base, half = (trial.id for trial in session.model.results.trials)
    look._heads[0].chosen.emit(half)
    assert session.model.selected == (half, base)


def test_figures_of_an_area_take_the_place_of_the_whole(look: LookPage, session: FakeSession) -> None:
    study = replace(session.model.study, areas=(AREA,), size=(32, 18))
    trials = tuple(
        replace(
            t, shares={**t.shares, "grain@jar": t.shares["grain"]}, figures={**t.figures, "grain@jar": Figure(1.1, 1.0, 1.2)}
        )
        for t in session.model.results.trials
    )
    acceptance = Acceptance.of(study, {})
    session.change(study=study, results=replace(session.model.results, trials=trials, study=study, acceptance=acceptance))
    look.choose_area("jar")
    assert look._feet[1].text().startswith("<b>jar:</b>")
    assert "grain 1.1 of 2.0" in look._feet[1].text().replace("&nbsp;", " ")
    look.choose_area("")
    assert "jar" not in look._feet[1].text()


def test_the_worst_place_is_shown_and_a_click_watches_it(look: LookPage, session: FakeSession) -> None:
    worst = Figure(6.0, 5.0, 7.0, (4, 6, 8, 6))
    acceptance = Acceptance.of(replace(session.model.study, limits=only_limits(grain=2.0, grain_worst=4.0)), {})
    trials = tuple(
        replace(t, shares={**t.shares, "grain_worst": Figure(1.5, 1.2, 1.8)}, figures={**t.figures, "grain_worst": worst})
        for t in session.model.results.trials
    )
    study = replace(session.model.study, size=(32, 18))
    session.change(study=study, results=replace(session.model.results, trials=trials, study=study, acceptance=acceptance))
    assert "worst grain 6.0 of 4.0" in look._feet[1].text().replace("&nbsp;", " ")
    asked: list = []
    look.asked.connect(asked.append)
    look.canvas.area_clicked.emit(WORST_PLACE)
    added: list = []
    asked[-1](SimpleNamespace(add_area=lambda *area: added.append(area)))
    assert added == [(WORST_PLACE, 4, 6, 8, 6)]


@pytest.mark.parametrize(("key", "mode"), [(Qt.Key.Key_W, WIPE), (Qt.Key.Key_B, BLINK), (Qt.Key.Key_D, DIFFERENCE)])
def test_a_key_changes_the_mode_and_changes_it_back(look: LookPage, qtbot: QtBot, key, mode: str) -> None:
    qtbot.keyClick(look, key)
    assert look.mode == mode
    qtbot.waitUntil(lambda: look.canvas._shown[0].image is not None, timeout=5000)
    assert len(look.canvas.panes()) == 1
    assert look._blinking.isActive() == (mode == BLINK)
    assert look._gain.isVisibleTo(look) == (mode == DIFFERENCE)
    qtbot.keyClick(look, key)
    assert look.mode == SIDE_BY_SIDE
    assert len(look.canvas.panes()) == 2
    assert not look._blinking.isActive()


def test_the_difference_is_brighter_where_the_first_is(look: LookPage, session: FakeSession, qtbot: QtBot) -> None:
    look.set_mode(DIFFERENCE)

    def middle() -> int:
        image = look.canvas._shown[0].image
        return image.pixelColor(16, 9).red() if image is not None else -1

    qtbot.waitUntil(lambda: middle() == 255, timeout=5000)
    session.change(selected=(session.model.results.base.id, REFERENCE))
    qtbot.waitUntil(lambda: middle() == 0, timeout=5000)
    look._gain.setCurrentIndex(0)
    look.refresh()
    qtbot.waitUntil(lambda: 0 < middle() < 128, timeout=5000)


def test_leaving_the_page_ends_the_blinking(look: LookPage) -> None:
    look.set_mode(BLINK)
    assert look._blinking.isActive()
    first = look.canvas._shown[0].name
    look._blink()
    assert look.canvas._shown[0].name != first
    assert [head._is_current for head in look._heads].count(True) == 1
    look.hide()
    assert not look._blinking.isActive()


def test_arrows_step_along_the_frontier_at_the_same_spot(look: LookPage, session: FakeSession, qtbot: QtBot) -> None:
    session.change(selected=(session.model.results.base.id, REFERENCE))
    look.canvas.zoom_by_step(True)
    zoom = look.canvas.zoom()
    frontier = [t.id for t in session.model.results.frontier()]
    qtbot.keyClick(look, Qt.Key.Key_Right)
    assert session.model.selected[0] in frontier
    assert session.model.selected[1] == REFERENCE
    look.refresh()
    assert look.canvas.zoom() == zoom


def test_exposure_is_only_for_looking(look: LookPage, session: FakeSession, qtbot: QtBot) -> None:
    before = look.canvas._shown[1].image
    look._exposure.setValue(1.0)
    qtbot.waitUntil(lambda: look.canvas._shown[1].image not in (None, before), timeout=5000)
    assert look.canvas._shown[1].image.pixelColor(3, 3).lightness() > before.pixelColor(3, 3).lightness() + 20
    assert session.model.study.view.exposure == 0


def test_scopes_show_the_same_place_of_every_picture(look: LookPage, session: FakeSession, qtbot: QtBot) -> None:
    qtbot.keyClick(look, Qt.Key.Key_S)
    assert look.scopes.isVisible()
    reference, base = (scopes for _, scopes in look.scopes.shown)
    assert reference.profile.mean() > base.profile.mean() + 20
    assert len(base.profile) == 32
    session.change(study=replace(session.model.study, size=(32, 18), areas=(AREA,)))
    look.choose_area("jar")
    assert len(look.scopes.shown[0][1].profile) == AREA.width
    qtbot.keyClick(look, Qt.Key.Key_S)
    assert not look.scopes.isVisible()

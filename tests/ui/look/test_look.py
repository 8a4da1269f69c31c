"""Look by itself: what stands above and under the pictures, the modes, keys, and areas with figures
of their own."""

from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import PictureStore
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.exr import read_exr, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.study.answers.acceptance import Acceptance
from swift_sample.core.study.log.records import ReferenceState
from swift_sample.core.study.plan.model import WatchArea
from swift_sample.ui.look.head import REFERENCE
from swift_sample.ui.look.page import (
    BLEND,
    BLINK,
    DIFFERENCE,
    SIDE_BY_SIDE,
    WIPE,
    WORST_PLACE,
    LookPage,
)
from swift_sample.ui.theme import DAY
from tests.core.study.answers.test_results import with_runs
from tests.core.study.states import only_limits
from tests.ui.fake_session import FakeSession, snapshot_of

AREA = WatchArea(name="jar", x=2, y=2, width=8, height=8)


@pytest.fixture
def session(tmp_path: Path) -> FakeSession:
    (tmp_path / "pictures").mkdir()
    light = np.full((18, 32, 3), 0.2, np.float32)

    layers = {
        "raw": light * 1.5,
        "albedo": np.full((18, 32, 3), 0.5, np.float32),
        "normal": np.full((18, 32, 3), (0, 0, 1), np.float32),
        "depth": np.full((18, 32), 3.0, np.float32),
        "samples": np.full((18, 32), 48, np.float32),
        "seconds": np.full((18, 32), 0.002, np.float32),
        "error": np.full((18, 32), 0.01, np.float32),
    }
    results = with_runs({100: [10.0] * 3, 50: [5.0] * 3}, figures={"grain": (2.6, 2.5, 2.7)})
    snapshot = snapshot_of(
        results, ReferenceState(samples=500, floor=0.75, seconds=9.0), folder=tmp_path
    )
    for run in snapshot.runs:
        write_exr(tmp_path / "pictures" / run.picture, Picture(light, layers))

    snapshot.reference_path.parent.mkdir()
    write_exr(
        snapshot.reference_path, Picture(light * 2, {"half_a": light * 2, "half_b": light * 2})
    )
    return FakeSession(results, path=tmp_path, snapshot=snapshot)


@pytest.fixture
def look(qtbot: QtBot, session: FakeSession):
    store = PictureStore()
    made = LookPage(DAY, store)
    qtbot.addWidget(made)
    made.resize(900, 500)
    made.show()
    session.attach(made)
    qtbot.waitUntil(lambda: all(shown.is_there for shown in made.canvas._shown), timeout=5000)
    yield made
    made.hide()
    made.finish()
    store.close()


def test_without_a_choice_the_reference_stands_beside_the_base(look: LookPage) -> None:
    assert look.trial_ids == [REFERENCE, look.model.results.base.id], (
        "nothing is acceptable, so there is no pick to show"
    )
    assert look._feet[0].text() == "what errors are measured against; its own grain is 0.75 levels"
    assert "Opens: bounces" in look._feet[0].toolTip()
    assert "grain 2.6 of 2.0" in look._feet[1].text().replace("&nbsp;", " ")
    assert DAY.over in look._feet[1].text()


def test_the_list_above_a_picture_names_every_trial_fastest_first(
    look: LookPage, session: FakeSession
) -> None:
    listed = [look._heads[1]._list.itemText(k) for k in range(look._heads[1]._list.count())]
    assert listed == ["reference", "5.0 s   50 samples", "10.0 s   base"]
    base, half = (trial.id for trial in session.model.results.trials)
    look._heads[0].chosen.emit(half)
    assert session.model.selected == (half, base)


def test_figures_of_an_area_take_the_place_of_the_whole(
    look: LookPage, session: FakeSession
) -> None:
    study = replace(session.model.study, areas=(AREA,), size=(32, 18))
    trials = tuple(
        replace(
            t,
            shares={**t.shares, "grain@jar": t.shares["grain"]},
            figures={**t.figures, "grain@jar": Figure(1.1, 1.0, 1.2)},
        )
        for t in session.model.results.trials
    )

    acceptance = Acceptance.of(study, {})
    session.change(
        study=study,
        results=replace(session.model.results, trials=trials, study=study, acceptance=acceptance),
    )
    look.choose_area("jar")
    assert look._feet[1].text().startswith("<b>jar:</b>")
    assert "grain 1.1 of 2.0" in look._feet[1].text().replace("&nbsp;", " ")
    look.choose_area("")
    assert "jar" not in look._feet[1].text()


def test_the_worst_place_is_shown_and_a_click_watches_it(
    look: LookPage, session: FakeSession
) -> None:
    worst = Figure(6.0, 5.0, 7.0, (4, 6, 8, 6))
    acceptance = Acceptance.of(
        replace(session.model.study, limits=only_limits(grain=2.0, grain_worst=4.0)), {}
    )
    trials = tuple(
        replace(
            t,
            shares={**t.shares, "grain_worst": Figure(1.5, 1.2, 1.8)},
            figures={**t.figures, "grain_worst": worst},
        )
        for t in session.model.results.trials
    )

    study = replace(session.model.study, size=(32, 18))
    session.change(
        study=study,
        results=replace(session.model.results, trials=trials, study=study, acceptance=acceptance),
    )
    assert "worst grain 6.0 of 4.0" in look._feet[1].text().replace("&nbsp;", " ")
    asked: list = []
    look.asked.connect(asked.append)
    look.canvas.area_clicked.emit(WORST_PLACE)
    added: list = []
    asked[-1](SimpleNamespace(edit=added.append))
    assert added[0].change(study).areas == (
        WatchArea(name=WORST_PLACE, x=4, y=6, width=8, height=6),
    )


@pytest.mark.parametrize(
    ("key", "mode"), [(Qt.Key.Key_W, WIPE), (Qt.Key.Key_B, BLINK), (Qt.Key.Key_D, DIFFERENCE)]
)
def test_a_key_changes_the_mode_and_changes_it_back(
    look: LookPage, qtbot: QtBot, key, mode: str
) -> None:
    qtbot.keyClick(look, key)
    assert look.mode == mode
    qtbot.waitUntil(lambda: look.canvas._shown[0].is_there, timeout=5000)
    assert len(look.canvas.panes()) == 1
    assert look._blinking.isActive() == (mode == BLINK)
    assert look._gain.isVisibleTo(look) == (mode == DIFFERENCE)
    qtbot.keyClick(look, key)
    assert look.mode == SIDE_BY_SIDE
    assert len(look.canvas.panes()) == 2
    assert not look._blinking.isActive()


def test_the_difference_is_brighter_where_the_first_is(
    look: LookPage, session: FakeSession, qtbot: QtBot
) -> None:
    look.set_mode(DIFFERENCE)

    def middle() -> int:
        shown = look.canvas._shown[0]
        return int(shown.source.pixels(0, 16, 9, 1, 1)[0, 0, 0]) if shown.is_there else -1

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
    look._on_blink()
    assert look.canvas._shown[0].name != first
    assert [head._is_current for head in look._heads].count(True) == 1
    look.hide()
    assert not look._blinking.isActive()


def test_arrows_step_along_the_frontier_at_the_same_spot(
    look: LookPage, session: FakeSession, qtbot: QtBot
) -> None:
    session.change(selected=(session.model.results.base.id, REFERENCE))
    look.canvas.zoom_by_step(True)
    zoom = look.canvas.zoom()
    frontier = [t.id for t in session.model.results.frontier()]
    qtbot.keyClick(look, Qt.Key.Key_Right)
    assert session.model.selected[0] in frontier
    assert session.model.selected[1] == REFERENCE
    look.refresh()
    assert look.canvas.zoom() == zoom


def test_exposure_and_curve_are_only_for_looking(look: LookPage, session: FakeSession) -> None:
    def level() -> int:
        return int(look.canvas._shown[1].source.pixels(0, 3, 3, 1, 1)[0, 0, 0])

    before = level()
    look._exposure.setValue(1.0)
    brighter = level()
    assert brighter > before + 20
    look._curve.setCurrentIndex(look._curve.findData("soft"))
    look.refresh()
    assert level() < brighter - 20
    assert session.model.study.view == View()


def test_scopes_show_the_same_place_of_every_picture(
    look: LookPage, session: FakeSession, qtbot: QtBot
) -> None:
    qtbot.keyClick(look, Qt.Key.Key_S)
    assert look.scopes.isVisible()
    reference, base = look.scopes.profiles
    assert reference.mean() > base.mean() + 20
    assert len(base) == 32
    session.change(study=replace(session.model.study, size=(32, 18), areas=(AREA,)))
    look.choose_area("jar")
    assert len(look.scopes.profiles[0]) == AREA.width
    look.canvas.row_moved.emit(1.0)
    assert look.canvas.row == 1.0
    qtbot.keyClick(look, Qt.Key.Key_S)
    assert not look.scopes.isVisible()


def test_every_pass_that_was_kept_can_be_seen_and_the_others_say_so(
    look: LookPage, qtbot: QtBot
) -> None:
    def pixel() -> tuple[int, ...]:
        return tuple(int(v) for v in look.canvas._shown[1].source.pixels(0, 5, 5, 1, 1)[0, 0])

    picture = pixel()
    qtbot.keyClick(look, Qt.Key.Key_2)
    assert look.shown_pass == "raw"
    assert pixel()[0] > picture[0] + 10
    qtbot.keyClick(look, Qt.Key.Key_5)
    assert pixel() == (127, 127, 255), "a surface that faces the camera"
    qtbot.keyClick(look, Qt.Key.Key_7)
    assert look.canvas._shown[1].source.most == 48
    assert "rendered without a record of that (samples)" in look.canvas._shown[0].words, (
        "the reference keeps none"
    )
    qtbot.keyClick(look, Qt.Key.Key_8)
    assert look.canvas._shown[1].source.most == pytest.approx(2.0), "milliseconds"
    qtbot.keyClick(look, Qt.Key.Key_3)
    assert look.shown_pass == "direct.diffuse"
    qtbot.keyClick(look, Qt.Key.Key_3)
    assert look.shown_pass == "indirect.diffuse"
    qtbot.keyClick(look, Qt.Key.Key_1)
    assert pixel() == picture


def test_light_passes_are_rendered_on_request_with_what_that_takes(
    look: LookPage, session: FakeSession, qtbot: QtBot
) -> None:
    look.set_pass("direct.diffuse")
    offer = look._offers[1]
    assert offer.isVisible()
    assert offer.text() == "Render its light passes (about 10.0 s)"
    qtbot.mouseClick(offer, Qt.MouseButton.LeftButton)
    base = session.model.results.base
    assert session.asked[-1] == ("keep_passes", (base.id,))
    path = session.model.snapshot.picture_of(base.id)
    kept = session.model.snapshot.folder.passes / path.name
    kept.parent.mkdir()
    light = np.full((18, 32, 3), 0.1, np.float32)
    write_exr(kept, Picture(light, {"direct.diffuse": light}))
    look.refresh()
    qtbot.waitUntil(lambda: look.canvas._shown[1].is_there, timeout=5000)
    assert not offer.isVisible()


def test_values_under_the_pointer_are_told_of_every_picture(look: LookPage, qtbot: QtBot) -> None:
    look.canvas.pointed.emit(QPointF(4.5, 6.5))
    told = look._values.text()
    assert told.startswith("4, 6")
    assert "reference: 0.4 0.4 0.4 linear, 170 170 170 levels" in told
    assert (
        "10.0 s   base: 0.2 0.2 0.2 linear, 124 124 124 levels, 48 samples, 2 ms, 2.55 levels of "
        "grain"
    ) in told
    look.canvas.pointed.emit(None)
    assert "Point at a picture" in look._values.text()


def test_two_clicks_choose_the_pair_of_a_wipe(
    look: LookPage, session: FakeSession, qtbot: QtBot
) -> None:
    base, half = (trial.id for trial in session.model.results.trials)
    session.change(selected=(base, half, REFERENCE))
    look.set_mode(WIPE)
    qtbot.waitUntil(lambda: all(shown.is_there for shown in look.canvas._shown), timeout=5000)
    assert [shown.name for shown in look.canvas._shown] == [base, half]
    assert [head._side.text() for head in look._heads] == ["left", "right"]
    look._heads[0].chosen.emit(REFERENCE)
    assert [shown.name for shown in look.canvas._shown] == [REFERENCE, half]
    look._heads[1].chosen.emit(REFERENCE)
    assert [shown.name for shown in look.canvas._shown] == [half, REFERENCE], (
        "never one with itself"
    )
    assert session.model.selected == (base, half, REFERENCE), "the three stay chosen"
    look.set_mode(SIDE_BY_SIDE)
    assert len(look.canvas._shown) == 3
    cells = look.canvas.cells()

    for cell, head, foot in zip(cells, look._heads, look._feet, strict=True):
        assert cell.contains(head.geometry().toRectF().center())
        assert cell.contains(foot.geometry().toRectF().center())


def test_a_damaged_picture_gives_way_to_another_run_or_is_rendered_again(
    look: LookPage, session: FakeSession, qtbot: QtBot
) -> None:
    base = session.model.results.base
    broken = session.model.snapshot.picture_of(base.id)
    broken.write_bytes(b"nothing")
    look._pictures.forget(broken)
    look.refresh()
    qtbot.waitUntil(lambda: "damaged" in look.canvas._shown[1].words, timeout=5000)
    assert look._offers[1].text() == "Render it again"
    qtbot.mouseClick(look._offers[1], Qt.MouseButton.LeftButton)
    assert session.asked[-1] == ("run_again", (base.id,))


def test_a_picture_from_elsewhere_is_measured_beside_the_trials(
    look: LookPage, session: FakeSession, qtbot: QtBot, tmp_path: Path
) -> None:
    far = tmp_path / "other.exr"
    write_exr(far, Picture(np.full((18, 32, 3), 0.39, np.float32)))
    look.add_picture(far)
    assert look.trial_ids[-1] == f"file:{far}"
    assert "being measured" in look._feet[2].text()
    qtbot.waitUntil(lambda: look.canvas._shown[2].is_there, timeout=5000)
    qtbot.waitUntil(lambda: "being measured" not in look._feet[2].text(), timeout=60_000)
    assert look.foreign.pictures[f"file:{far}"].figures["rms"].value == pytest.approx(2.0, abs=0.3)
    odd = tmp_path / "odd.exr"
    write_exr(odd, Picture(np.full((9, 32, 3), 0.39, np.float32)))
    look.add_picture(odd)
    qtbot.waitUntil(lambda: "32x9" in look._feet[3].text(), timeout=60_000)
    nonsense = tmp_path / "no.png"
    nonsense.write_bytes(b"no picture")
    look.add_picture(nonsense)
    qtbot.waitUntil(lambda: "no.png" in look._feet[3].text(), timeout=60_000)


def test_blending_follows_slider_and_brush_can_be_undone_and_is_saved(
    look: LookPage, session: FakeSession, qtbot: QtBot, tmp_path: Path
) -> None:
    session.change(selected=(session.model.results.base.id, REFERENCE))
    look.set_mode(BLEND)
    blend = look.blend
    qtbot.waitUntil(lambda: blend.layers is not None, timeout=20_000)
    assert blend.method == "as rendered"
    assert blend.methods[1:] == ["wavelet", "patches", "regression"]

    def level(x: int) -> int:
        return int(look.canvas._shown[0].source.pixels(0, x, 9, 1, 1)[0, 0, 0])

    denoised = level(4)
    look.blend_bar.strength.setValue(0)
    raw = level(4)
    assert raw > denoised + 15
    look.blend_bar.strength.setValue(100)
    assert level(4) == denoised
    look.blend_bar.erase.click()
    look.blend_bar.brush_size.setValue(5)
    assert look.canvas.brush == 5
    look.canvas.painted.emit(QPointF(4.5, 9.5), QPointF(4.5, 9.5), True)
    assert level(4) == pytest.approx(raw, abs=1)
    assert level(20) == denoised
    qtbot.waitUntil(lambda: bool(blend.figures), timeout=120_000)
    look._save_blend()
    qtbot.waitUntil(lambda: "Saved as" in look._values.text(), timeout=20_000)
    (saved,) = (tmp_path / "blends").iterdir()
    kept = read_exr(saved)
    assert kept.layers["mask"][9, 4] == pytest.approx(0.0, abs=1e-3)
    assert kept.layers["mask"][9, 20] == 1
    assert kept.beauty[9, 4, 0] == pytest.approx(0.3, abs=2e-3)
    assert kept.beauty[9, 20, 0] == pytest.approx(0.2, abs=2e-3)
    blend.undo()
    assert level(4) == denoised
    look.set_mode(SIDE_BY_SIDE)
    assert look.blend is None


def test_what_is_seen_is_saved(look: LookPage, tmp_path: Path) -> None:
    look.save_seen(tmp_path / "seen.png")
    assert (tmp_path / "seen.png").stat().st_size > 1000
    look.save_seen(tmp_path / "seen.exr")
    saved = read_exr(tmp_path / "seen.exr")
    assert saved.beauty.mean() == pytest.approx(0.4, abs=1e-3)
    assert saved.layers["picture_2"].mean() == pytest.approx(0.2, abs=1e-3)
    look.save_seen(tmp_path / "none" / "seen.png")
    assert "was not saved" in look._values.text()


def test_places_worth_watching_become_areas(
    look: LookPage, session: FakeSession, qtbot: QtBot
) -> None:
    menu = look.show_places()
    actions = [action for action in menu.actions() if action.isEnabled()]
    assert [action.text() for action in actions] == ["most light lost"], (
        "it is all darker, and nothing else"
    )
    actions[0].trigger()
    name, (edit,) = session.asked[-1]
    assert (name, edit.label) == ("edit", "Watch most light lost")
    menu.close()


def test_places_that_are_asked_for_before_pictures_are_read_come_by_themselves(
    look: LookPage, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    """U13: the first press said "try again in a moment"."""
    opened: list[bool] = []
    read = look._pictures.get
    monkeypatch.setattr(look._pictures, "get", lambda *what: None)
    look._shown_pictures = []
    assert look.show_places() is None
    assert look._places_wanted
    monkeypatch.setattr(look._pictures, "get", read)
    monkeypatch.setattr(look, "show_places", lambda: opened.append(True))
    look._on_picture(None)
    assert opened == [True]


def test_an_area_is_moved_and_copied(look: LookPage, session: FakeSession) -> None:
    session.change(study=replace(session.model.study, size=(32, 18), areas=(AREA,)))
    look.canvas.area_changed.emit("jar", 4, 4, 8, 8, False)
    _, (edit,) = session.asked[-1]
    assert edit.change(session.model.study).areas == (replace(AREA, x=4, y=4, width=8, height=8),)
    look.canvas.area_changed.emit("jar", 6, 6, 8, 8, True)
    _, (edit,) = session.asked[-1]
    assert edit.change(session.model.study).areas == (
        AREA,
        WatchArea(name="area 1", x=6, y=6, width=8, height=8),
    )

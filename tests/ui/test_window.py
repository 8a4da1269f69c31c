"""The real window, driven as a person would: from opening a study to taking the pick."""

import math
import sqlite3
from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from swift_sample.app.session import wait_for_closed
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.registry import RENDERERS
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import ACCEPTABLE
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.starting import starting_study
from swift_sample.ui.look.head import REFERENCE
from swift_sample.ui.pages import CostPage, FramesPage, LookPage, MapPage, ReportPage
from swift_sample.ui.theme import DAY, DUSK
from swift_sample.ui.window.shell import MainWindow
from tests.core.renderers.known import COUNT, DIMMED, KNOWN
from tests.core.study.states import only_limits
from tests.ui.seen import texts

MEASURING = 240_000


def open_study(window: MainWindow, qtbot: QtBot, path: Path):
    window.open_study(path)
    qtbot.waitUntil(
        lambda: window.session is not None and window.session.path == path, timeout=10_000
    )
    session = window.session
    qtbot.waitUntil(lambda: session.snapshot is not None, timeout=10_000)
    qtbot.wait(100)

    return session


def button(window: MainWindow, text: str) -> QPushButton:
    return next(b for b in window.findChildren(QPushButton) if b.text() == text and b.isVisible())


def drag(qtbot: QtBot, widget, start: QPoint, end: QPoint) -> None:
    qtbot.mousePress(widget, Qt.MouseButton.LeftButton, pos=start)
    for k in range(1, 6):
        qtbot.mouseMove(widget, start + (end - start) * k / 5)
        qtbot.wait(20)

    qtbot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=end)


def test_a_study_whose_database_is_held_opens_later_and_says_so(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    Store.open(study_path).close()
    other = sqlite3.connect(study_path / "results.db", isolation_level=None)
    other.executescript(
        "PRAGMA locking_mode = EXCLUSIVE; BEGIN IMMEDIATE; DELETE FROM events WHERE 0; COMMIT;"
    )
    window.open_study(study_path)
    qtbot.waitUntil(lambda: "another program holds it" in window.notice.text(), timeout=10_000)
    assert window.session is None
    other.close()
    qtbot.waitUntil(
        lambda: window.session is not None and window.session.path == study_path, timeout=10_000
    )


def test_the_whole_way_from_opening_to_taking_the_pick(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)
    assert button(window, "Measure 3 trials").isEnabled()

    # Type a value into the samples' row; the plan on disk has it at once.
    strip = window.ledger.strip_of("samples.max")
    qtbot.mouseClick(strip._add, Qt.MouseButton.LeftButton)
    qtbot.keyClicks(strip._field, "32")
    qtbot.keyClick(strip._field, Qt.Key.Key_Return)
    qtbot.waitUntil(
        lambda: sorted(session.snapshot.study.values_to_try()["samples.max"]) == [16, 32, 64],
        timeout=5000,
    )
    qtbot.waitUntil(
        lambda: any(b.text() == "Measure 4 trials" for b in window.findChildren(QPushButton)),
        timeout=5000,
    )
    assert "32" in (study_path / "study.toml").read_text()

    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        qtbot.mouseClick(button(window, "Measure 4 trials"), Qt.MouseButton.LeftButton)

    qtbot.waitUntil(lambda: not session.snapshot.to_come, timeout=10_000)
    qtbot.wait(200)
    results = session.results
    assert sum(t.is_on_map for t in results.trials) == 4
    pick = session.pick()
    assert pick is not None
    assert strip.chip(32).state.time_share is not None

    # Drag the line up to accept one more trial, and see the pick follow.
    acceptable = {t.id for t in results.trials if t.verdict == ACCEPTABLE}
    nearest = min((t for t in results.trials if t.id not in acceptable), key=lambda t: t.share.high)
    target = nearest.share.high * 1.05
    viewport = window.page(MapPage)._plot.viewport()
    view = window.page(MapPage)._view

    def at(line: float) -> QPoint:
        x = view.viewRange()[0][0] + 0.2
        return window.page(MapPage)._plot.mapFromScene(
            view.mapViewToScene(QPointF(x, math.log2(line)))
        )

    drag(qtbot, viewport, at(1.0), at(target))
    qtbot.waitUntil(lambda: session.line == pytest.approx(target, rel=0.1), timeout=3000)
    accepted = [t for t in session.results.trials if t.verdict == ACCEPTABLE]
    assert {t.id for t in accepted} >= acceptable | {nearest.id}
    tied = [session.pick().trial, *session.pick().ties]
    assert min(t.seconds.value for t in tied) == min(t.seconds.value for t in accepted), (
        "the fastest, or what ties with it"
    )
    changes = [len(t.configuration.differences(session.study.base)) for t in tied]
    assert changes[0] == min(changes), "and of those the one with the fewest changes"
    qtbot.waitUntil(lambda: "what if" in window.verdict._measured.text(), timeout=3000)

    # What was asked becomes the limits, with the same verdicts; undo takes it back.
    line = session.line
    grain = session.study.limits.grain
    qtbot.mouseClick(button(window, "Make these the limits"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: session.snapshot.study.limits.grain == pytest.approx(grain * line), timeout=5000
    )
    assert session.line == 1.0
    assert {t.id for t in session.results.trials if t.verdict == ACCEPTABLE} == {
        t.id for t in accepted
    }
    session.undo()
    qtbot.waitUntil(lambda: session.snapshot.study.limits.grain == grain, timeout=5000)
    qtbot.wait(150)

    # Compare two trials in Look, side by side and under the wipe.
    first, second = (t.id for t in results.trials[:2])

    for trial_id in (first, second):
        place = window.page(MapPage).place_of(trial_id)
        inside = (
            window.page(MapPage)._plot.viewport().mapFrom(window.page(MapPage), place.toPoint())
        )
        qtbot.mouseClick(
            window.page(MapPage)._plot.viewport(), Qt.MouseButton.LeftButton, pos=inside
        )
        qtbot.wait(400)

    assert session.selected == [first, second]
    qtbot.mouseClick(button(window, "Look"), Qt.MouseButton.LeftButton)
    canvas = window.page(LookPage).canvas
    qtbot.waitUntil(
        lambda: len(canvas._shown) == 2 and all(s.is_there for s in canvas._shown), timeout=10_000
    )
    assert window.page(LookPage).trial_ids == [first, second]
    qtbot.mouseClick(button(window, "wipe"), Qt.MouseButton.LeftButton)
    assert len(canvas.panes()) == 1
    edge = QPoint(canvas.width() // 2, canvas.height() // 2)
    drag(qtbot, canvas, edge, edge - QPoint(100, 0))
    assert canvas.wipe_share < 0.45
    zoom = canvas.zoom()
    qtbot.keyClick(window.page(LookPage), Qt.Key.Key_Plus)
    assert canvas.zoom() > zoom

    # Blink shows one after the other, difference what the first has more than the second.
    canvas.fit()
    qtbot.keyClick(window.page(LookPage), Qt.Key.Key_B)
    assert window.page(LookPage).mode == "blink"
    seen = set()
    qtbot.waitUntil(lambda: seen.add(canvas._shown[0].name) or len(seen) == 2, timeout=5000)
    qtbot.keyClick(window.page(LookPage), Qt.Key.Key_D)
    qtbot.waitUntil(lambda: len(canvas._shown) == 1 and canvas._shown[0].is_there, timeout=10_000)
    assert not window.page(LookPage)._blinking.isActive()
    assert window.page(LookPage)._gain.isVisible()
    qtbot.keyClick(window.page(LookPage), Qt.Key.Key_D)
    assert window.page(LookPage).mode == "side by side"

    sheet = window.take_pick()
    for form, words in (
        ("preset", "[settings]"),
        ("JSON", '"settings": {'),
        ("command line", "swift-sample render "),
        ("reading list", "Samples, at most: "),
    ):
        sheet.show_form(form)
        sheet.copy()
        assert words in QApplication.clipboard().text()

    sheet.save(study_path.parent / "mine.txt")
    assert "Samples, at most: " in (study_path.parent / "mine.txt").read_text()
    sheet.save(study_path.parent / "nowhere" / "mine.txt")
    assert "cannot be written" in window.notice.text()
    sheet.reject()


def test_pausing_keeps_runs_and_stopping_ends_at_once(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)
    window.measure()
    qtbot.waitUntil(lambda: len(session.snapshot.runs) >= 1, timeout=MEASURING)
    qtbot.mouseClick(button(window, "Pause"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not session.activity.measuring, timeout=60_000)
    qtbot.waitUntil(lambda: len(session.snapshot.to_come) > 0, timeout=5000)
    runs = len(session.snapshot.runs)
    window.measure()
    qtbot.waitUntil(lambda: session.activity.step is not None, timeout=MEASURING)
    session.stop()
    qtbot.waitUntil(lambda: not session.activity.measuring, timeout=30_000)
    qtbot.waitUntil(lambda: len(session.snapshot.runs) >= runs, timeout=5000)


def test_searching_frames_and_the_report(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    """Search finds a pick without measuring the whole plan; its frames and its report follow from
    it."""
    session = open_study(window, qtbot, study_path)
    search = button(window, "Find the fastest")
    assert "all 4 combinations" in search.toolTip()
    qtbot.mouseClick(search, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: search.text() == "Pause", timeout=5000)
    qtbot.waitUntil(
        lambda: window.strip._words.text().startswith("Searching 4 combinations · "), timeout=5000
    )
    qtbot.waitUntil(
        lambda: session.advice is not None and len(session.advice.outlooks) > 0, timeout=MEASURING
    )
    qtbot.waitUntil(lambda: not session.activity.measuring, timeout=MEASURING)
    qtbot.waitUntil(lambda: session.pick() is not None, timeout=5000)
    assert window.notice.text().startswith("The search ended: ")

    window.show_page("Frames")
    window.page(FramesPage)._last.setValue(6)
    window.page(FramesPage)._count.setValue(2)
    qtbot.mouseClick(window.page(FramesPage)._measure, Qt.MouseButton.LeftButton)
    assert session.activity.measuring
    qtbot.waitUntil(lambda: not session.activity.measuring, timeout=MEASURING)
    qtbot.waitUntil(
        lambda: session.view().frames is not None and session.view().frames.left == 0, timeout=5000
    )
    qtbot.waitUntil(
        lambda: "7 frames take" in window.page(FramesPage)._forecasts[0].text(), timeout=5000
    )
    assert session.study.frames is not None

    window.show_page("Report")
    qtbot.waitUntil(lambda: window.page(ReportPage).page_count >= 2, timeout=60_000)
    session.make_report(study_path.parent / "given.html")
    qtbot.waitUntil(
        lambda: window.notice.text() == f"Written to {study_path.parent / 'given.html'}",
        timeout=60_000,
    )


def test_edits_can_be_undone_and_redone(window: MainWindow, qtbot: QtBot, study_path: Path) -> None:
    session = open_study(window, qtbot, study_path)
    chip = window.ledger.strip_of("bounces.total").chip(1)
    assert not chip.state.planned
    qtbot.mouseClick(chip, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: window.ledger.strip_of("bounces.total").chip(1).state.planned, timeout=5000
    )
    session.undo()
    qtbot.waitUntil(
        lambda: not window.ledger.strip_of("bounces.total").chip(1).state.planned, timeout=5000
    )
    session.redo()
    qtbot.waitUntil(
        lambda: window.ledger.strip_of("bounces.total").chip(1).state.planned, timeout=5000
    )
    session.set_base_value("samples.max", 4)
    assert session.study.base["samples.max"] == 4
    assert 64 in session.study.values_to_try()["samples.max"]
    session.edit(edits.set_goal("first-picture"))
    window.close()
    wait_for_closed(20)

    with look_at_study(study_path) as reading:
        assert reading.state.plan.base["samples.max"] == 4
        assert reading.state.plan.goal == "first-picture"


def test_bad_input_is_told_in_the_window(
    window: MainWindow, qtbot: QtBot, study_path: Path, tmp_path: Path
) -> None:
    window.open_study(tmp_path / "nothing")
    qtbot.waitUntil(lambda: "not a study" in window.notice.text(), timeout=5000)
    (tmp_path / "bad.glb").write_bytes(b"glTF nonsense")
    window.begin(str(tmp_path / "bad.glb"))
    qtbot.waitUntil(
        lambda: "bad.glb" in window.notice.text() and "Opening" not in window.notice.text(),
        timeout=5000,
    )
    assert window.beginning is None
    assert sorted(path.name for path in tmp_path.glob("bad*")) == ["bad.glb"], (
        "nothing is left behind"
    )

    for dropped, words in (
        ([tmp_path / "a.glb", tmp_path / "b.glb"], "2 files were dropped; drop one scene"),
        ([tmp_path], "is a folder, but no study"),
        ([tmp_path / "picture.png"], "neither a scene nor a study"),
    ):
        window.files.take(dropped)
        assert words in window.notice.text()

    open_study(window, qtbot, study_path)
    strip = window.ledger.strip_of("samples.max")
    strip._field.setText("8 many")
    qtbot.keyClick(strip._field, Qt.Key.Key_Return)
    assert any(text.startswith("many: expected a whole number") for text in texts(strip)), (
        "it is told beside the field"
    )
    with pytest.raises(Exception, match="open in another"):
        Store.open(study_path)


def test_themes_pages_and_keys(window: MainWindow, qtbot: QtBot, study_path: Path) -> None:
    session = open_study(window, qtbot, study_path)
    window.set_theme(DUSK)
    window.show_page("Look")
    qtbot.wait(100)
    assert set(window.page(LookPage).trial_ids) == {REFERENCE, session.results.base.id}
    window.set_theme(DAY)
    window.show_page("Map")
    window.page(MapPage).setFocus()
    qtbot.keyClick(window.page(MapPage), Qt.Key.Key_PageUp)
    assert session.line == pytest.approx(1.02)
    window.close()
    assert window.session is None


def test_a_renderer_that_tells_little_fills_every_page(
    window: MainWindow, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Measured, on the map, in Look, in the report; and shown all the same once the renderer is
    gone."""
    monkeypatch.setitem(RENDERERS, "known", lambda: KNOWN)
    plan = starting_study(
        "Known", "wall", (32, 18), View(), Configuration(KNOWN.catalogue, {COUNT.key: 64})
    )
    path = create_study(
        tmp_path / "known.study", replace(plan, limits=only_limits(light_shift=3.0, rms=8.0))
    )
    session = open_study(window, qtbot, path)
    assert window.ledger.strip_of(DIMMED.key).isVisibleTo(window)
    qtbot.mouseClick(button(window, "Measure 4 trials"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: session.pick() is not None and not session.activity.measuring, timeout=MEASURING
    )
    assert "left out 0.5" in {
        trial.configuration.describe(plan.base) for trial in session.results.trials
    }
    assert window.page(MapPage).place_of(session.results.base.id) is not None
    window.show_page("Look")
    look = window.page(LookPage)
    qtbot.waitUntil(lambda: all(shown.is_there for shown in look.canvas._shown), timeout=5000)
    window.show_page("Cost")
    window.page(CostPage).set_depth(True)
    words = [label.text() for label in window.page(CostPage).findChildren(QLabel)]
    assert any(
        text.startswith("This renderer does not tell time and light by bounce, ") for text in words
    )
    window.show_page("Report")
    qtbot.waitUntil(lambda: window.page(ReportPage).page_count > 0, timeout=20_000)
    window.show_page("Plan")
    assert any(
        "how much grain it has itself is not known" in label.text()
        for label in window.findChildren(QLabel)
    )
    session.edit(edits.set_goal("first-picture"))
    assert "does not tell when a picture was first to be seen" in window.notice.text()
    next(action for action in window.actions() if action.text() == "Close the study").trigger()
    wait_for_closed(20)
    monkeypatch.delitem(RENDERERS, "known")
    session = open_study(window, qtbot, path)
    qtbot.waitUntil(lambda: session.pick() is not None, timeout=5000)
    assert any(
        "known pictures is not here any more" in label.text()
        for label in window.remarks.findChildren(QLabel)
    )
    session.measure()
    qtbot.waitUntil(lambda: not session.activity.measuring, timeout=5000)
    assert "known pictures is not here any more" in window.notice.text()

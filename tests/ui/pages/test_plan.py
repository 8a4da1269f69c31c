"""The Plan page: every edit reaches study.toml at once, and what depends on it follows."""

from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QCheckBox, QPushButton
from pytestqt.qtbot import QtBot

from swift_sample.core.picture.view import View
from swift_sample.core.settings.presets import write_preset
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.plan.model import Study, WatchArea
from swift_sample.ui.dialogs.log import LogDialog
from swift_sample.ui.pages import PlanPage
from swift_sample.ui.window.shell import MainWindow
from tests.ui.seen import button, field, texts
from tests.ui.seen import click as press
from tests.ui.test_window import MEASURING, open_study


@pytest.fixture
def planned(window: MainWindow, qtbot: QtBot, study_path: Path):
    """The window on its Plan page, and a way to wait for what stands in study.toml."""
    session = open_study(window, qtbot, study_path)
    window.show_page("Plan")

    def saved(holds) -> Study:
        path = study_path / "study.toml"
        qtbot.waitUntil(lambda: bool(holds(plan_from_toml(path.read_text(), path))), timeout=5000)
        return plan_from_toml(path.read_text(), path)

    return window.page(PlanPage), session, saved


def click(qtbot: QtBot, button: QAbstractButton) -> None:
    """Press in the way keys do, which works for buttons of any width."""
    button.setFocus()
    qtbot.keyClick(button, Qt.Key.Key_Space)


def found(plan, kind: type, text: str) -> QAbstractButton:
    QTest.qWait(20)  # rows that were made anew are shown, and the old ones gone
    return next(b for b in plan.findChildren(kind) if b.text() == text and b.isVisibleTo(plan))


def test_limits_are_set_lifted_and_taken_from_the_base(planned, qtbot: QtBot) -> None:
    plan, session, saved = planned
    box = button(plan, "memory")
    memory = field(plan, "Limit of memory")
    assert not memory.isEnabled()
    click(qtbot, box)
    assert saved(lambda study: study.limits.memory is not None).limits.memory == 4096
    assert memory.isEnabled()
    memory.selectAll()
    qtbot.keyClicks(memory, "900")
    qtbot.keyClick(memory, Qt.Key.Key_Return)
    saved(lambda study: study.limits.memory == 900)
    click(qtbot, button(plan, "stray pixels"))
    saved(lambda study: study.limits.stray_pixels is None)
    session.set_limit("grain", 7.0)
    session.set_limit("light_shift", 3.0)
    assert (session.study.limits.grain, session.study.limits.light_shift) == (7.0, 3.0)
    press(button(plan, "no worse than the base"))
    saved(lambda study: study.no_worse_than_base)
    session.set_limit("memory", 800.0)
    assert session.study.no_worse_than_base
    session.undo()
    saved(lambda study: study.limits.memory == 900)
    assert not field(plan, "Limit of grain").isEnabled()
    assert field(plan, "Limit of memory").isEnabled()
    session.undo()
    saved(lambda study: not study.no_worse_than_base)
    qtbot.waitUntil(lambda: field(plan, "Limit of grain").isEnabled(), timeout=5000)


def test_size_frame_runs_and_view_are_changed(planned, qtbot: QtBot) -> None:
    plan, session, saved = planned
    field(plan, "Width").setValue(40)
    field(plan, "Frame").setValue(3)
    field(plan, "Runs of each trial").setValue(4)
    field(plan, "Exposure").setValue(1.5)
    field(plan, "Tone curve").setCurrentIndex(1)
    field(plan, "Tone curve").activated.emit(1)
    study = saved(lambda study: study.view.curve == "soft")
    assert (study.size, study.frame, study.repeats, study.view) == (
        (40, 18),
        3,
        4,
        View(1.5, "soft"),
    )
    qtbot.waitUntil(lambda: session.undo_label == "Tone curve", timeout=5000)
    for _ in range(5):
        session.undo()

    saved(lambda study: study.size[0] == 32)
    qtbot.waitUntil(lambda: field(plan, "Width").value() == 32, timeout=5000)
    assert session.study.view == View()


def test_what_is_being_typed_is_left_alone(planned, qtbot: QtBot) -> None:
    """While a study is measured the page is shown anew again and again."""
    plan, session, saved = planned
    limit = field(plan, "Limit of grain")
    limit.setFocus()
    limit.selectAll()
    qtbot.keyClicks(limit, "12")
    plan.show_view(session.view())
    assert limit.text().startswith("12")
    qtbot.keyClick(limit, Qt.Key.Key_Return)
    assert (
        saved(lambda study: study.limits.grain == 12.0).limits.grain == session.study.limits.grain
    )


def test_watch_areas_follow_a_change_of_size(planned, qtbot: QtBot) -> None:
    plan, session, saved = planned
    session.edit(edits.watch("area 1", 20, 4, 10, 10))
    field(plan, "Width").setValue(64)
    (area,) = saved(lambda study: study.size[0] == 64).areas
    assert (area.x, area.y, area.width, area.height) == (40, 4, 20, 10)


def test_areas_get_limits_of_their_own_and_are_removed(planned, qtbot: QtBot) -> None:
    plan, session, saved = planned
    session.edit(edits.watch("area 1", 4, 4, 8, 8))
    plan.show_view(session.view())
    click(qtbot, found(plan, QCheckBox, "own limits"))
    (area,) = saved(lambda study: study.areas and study.areas[0].limits is not None).areas
    assert area.limits.grain == session.study.limits.grain
    assert area.limits.memory is None
    click(qtbot, found(plan, QPushButton, "remove"))
    assert saved(lambda study: not study.areas).areas == ()


def test_values_are_forbidden_and_allowed_again(planned, window: MainWindow, qtbot: QtBot) -> None:
    plan, _, saved = planned
    chip = window.ledger.strip_of("samples.max").chip(16)
    chip.forbidding.emit(16, True)
    assert saved(lambda study: study.forbidden).forbidden == {"samples.max": (16,)}
    qtbot.waitUntil(
        lambda: window.ledger.strip_of("samples.max").chip(16).state.forbidden, timeout=5000
    )
    click(qtbot, found(plan, QPushButton, "allow again"))
    assert saved(lambda study: not study.forbidden).forbidden == {}


def test_the_reference_keeps_what_is_a_look(planned, qtbot: QtBot) -> None:
    plan, _, saved = planned
    click(qtbot, found(plan, QCheckBox, "same as the base"))
    assert saved(lambda study: study.reference_keeps).reference_keeps == ("bounces.total",)
    click(qtbot, found(plan, QCheckBox, "same as the base"))
    saved(lambda study: not study.reference_keeps)


def test_every_combination_is_added_and_taken_out(planned, qtbot: QtBot) -> None:
    plan, session, saved = planned
    assert not plan._add_grid.isEnabled()
    for box in plan._boxes.values():
        click(qtbot, box)

    assert plan._add_grid.text() == "Try every combination: 1 more trial"
    click(qtbot, plan._add_grid)
    (grid,) = saved(lambda study: study.grids()).grids()
    assert grid.values == {"samples.max": (64, 16), "bounces.total": (4, 0)}
    assert len(session.study.planned()) == 4
    click(qtbot, found(plan, QPushButton, "remove"))
    saved(lambda study: not study.grids())


def test_another_view_measures_the_stored_pictures_again(
    window: MainWindow, qtbot: QtBot, study_path: Path, tiny_study: Study
) -> None:
    plan = replace(
        tiny_study, sweeps=(), areas=(WatchArea(name="jar", x=2, y=2, width=12, height=12),)
    )
    (study_path / "study.toml").write_text(plan_as_toml(plan, study_path))
    session = open_study(window, qtbot, study_path)
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        session.measure()

    qtbot.waitUntil(lambda: session.results.base.figures.get("grain") is not None, timeout=10_000)
    before = session.results.base.figures["grain"].value
    runs = len(session.snapshot.runs)
    window.show_page("Plan")
    field(window.page(PlanPage), "Exposure").setValue(-3.0)

    qtbot.waitUntil(
        lambda: (
            session.results.base.figures.get("grain") is not None
            and session.results.base.figures["grain"].value < 0.8 * before
        ),
        timeout=MEASURING,
    )
    assert len(session.snapshot.runs) == runs
    qtbot.waitUntil(
        lambda: any(text.startswith("base ") for text in texts(window.page(PlanPage))), timeout=5000
    )
    with qtbot.waitSignal(session.written):
        session.export(study_path.parent / "results.csv")

    assert len((study_path.parent / "results.csv").read_text().splitlines()) == 2
    with qtbot.waitSignal(session.log_arrived) as arrived:
        session.read_log()

    (events,) = arrived.args
    dialog = LogDialog(events, window)
    qtbot.addWidget(dialog)
    assert dialog.table.rowCount() == len(events)
    assert dialog.table.item(len(events) - 1, 2).text() == "The study began"
    assert dialog.table.item(len(events) - 2, 1).text() == "rendering the reference"
    assert "there is none yet" in dialog.table.item(len(events) - 2, 2).text()


def test_another_size_is_asked_for_and_the_own_one_refused(
    planned, qtbot: QtBot, monkeypatch
) -> None:
    plan, session, _ = planned
    asked: list[object] = []
    monkeypatch.setattr(
        session, "measure_elsewhere", lambda size, frame: asked.append((size, frame))
    )
    measure = button(plan, "Measure there")
    size = session.view().study.size
    assert not measure.isEnabled(), "there is no pick yet"
    # What the scene has arrives later and draws the page anew, which disables the button again.
    qtbot.waitUntil(
        lambda: session.facts is not None and not plan.window()._timer.isActive(), timeout=10_000
    )
    measure.setEnabled(True)
    assert (field(plan, "Width there").value(), field(plan, "Height there").value()) == (
        size[0] // 2,
        size[1] // 2,
    )
    click(qtbot, measure)
    qtbot.waitUntil(
        lambda: asked == [((size[0] // 2, size[1] // 2), session.view().study.frame)], timeout=3000
    )
    field(plan, "Width there").setValue(size[0])
    field(plan, "Height there").setValue(size[1])
    measure.setEnabled(True)
    click(qtbot, measure)
    qtbot.waitUntil(
        lambda: any("Choose another size" in text for text in texts(plan)), timeout=3000
    )
    assert len(asked) == 1


def test_bases_are_kept_by_name_used_and_dropped(planned, qtbot: QtBot, tmp_path: Path) -> None:
    plan, session, _ = planned
    before = session.view().study.base
    write_preset(tmp_path / "careful.toml", before.replace({"samples.max": 512}))
    plan._bases.name.setText("today")
    click(qtbot, button(plan, "Keep"))
    qtbot.waitUntil(lambda: "today" in session.view().study.bases, timeout=3000)
    plan._bases.load(tmp_path / "careful.toml")
    qtbot.waitUntil(lambda: "careful" in session.view().study.bases, timeout=3000)
    qtbot.waitUntil(
        lambda: any("careful: 512 samples" in text for text in texts(plan)), timeout=3000
    )

    def by_name(words: str) -> QAbstractButton:
        QTest.qWait(100)
        return next(
            b
            for b in plan.findChildren(QPushButton)
            if b.accessibleName() == words and b.isVisibleTo(plan)
        )

    click(qtbot, by_name("Use careful as the base"))
    qtbot.waitUntil(lambda: session.view().study.base["samples.max"] == 512, timeout=3000)
    click(qtbot, by_name("Use today as the base"))
    qtbot.waitUntil(lambda: session.view().study.base == before, timeout=3000)
    click(qtbot, by_name("Drop today"))
    qtbot.waitUntil(lambda: set(session.view().study.bases) == {"careful"}, timeout=3000)

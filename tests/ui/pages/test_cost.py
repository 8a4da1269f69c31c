"""The Cost page: heat maps, findings that can be tried, and all figures one click further."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from swift_sample.app.toning import difference, heat_colours, heated
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.costs import Part
from swift_sample.core.study.log.store import create_study
from swift_sample.core.study.plan.edits import PlanEdit
from swift_sample.core.study.plan.model import Study
from swift_sample.ui.pages import CostPage
from swift_sample.ui.theme import DAY
from swift_sample.ui.widgets.bars import BarTable, PhaseBar
from swift_sample.ui.window.shell import MainWindow
from tests.core.study.answers.test_features import scene_file
from tests.core.study.states import only_limits
from tests.ui.seen import texts
from tests.ui.test_window import MEASURING, button, open_study


def test_heat_maps_grow_lighter_with_the_value() -> None:
    luminance = heat_colours().astype(float) @ [0.2126, 0.7152, 0.0722]
    assert (np.diff(luminance) > -1.5).all()
    assert luminance[-1] - luminance[0] > 150
    grey = np.full((1, 4, 3), 100, np.uint8)
    shown = heated(grey, np.array([[0.0, 1.0, 2.0, 50.0]]), 2.0).astype(int).sum(axis=2)[0]
    assert shown[0] < shown[1] < shown[2] == shown[3]


def test_differences_are_around_mid_grey_and_grow_with_the_gain() -> None:
    levels = np.array([[[10.0] * 3, [100.0] * 3, [250.0] * 3]], np.float32)
    other = np.array([[[10.0] * 3, [98.0] * 3, [100.0] * 3]], np.float32)
    assert difference(levels, other, 1)[0, :, 0].tolist() == [128, 130, 255]
    assert difference(levels, other, 8)[0, :, 0].tolist() == [128, 144, 255]
    assert difference(other, levels, 8)[0, :, 0].tolist() == [128, 112, 0]


def test_phases_are_named_in_the_bar(qtbot: QtBot) -> None:
    bar = PhaseBar(DAY)
    qtbot.addWidget(bar)
    bar.show_parts(
        [Part("load", 0.5, 0.1), Part("textures", 0.5, 0.1), Part("sampling", 4.0, 0.8)], DAY
    )
    assert bar.accessibleName().startswith("prepare 1.0 s, build 0.00 s, sample 4.0 s")
    bar.resize(400, 80)
    picture = bar.grab().toImage()
    assert picture.pixelColor(20, 8) == DAY.colour("prepare")
    assert picture.pixelColor(300, 8) == DAY.colour("sample")


def test_an_empty_page_says_what_it_will_show(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    open_study(window, qtbot, study_path)
    window.show_page("Cost")
    assert "as soon as one trial is rendered" in window.page(CostPage)._title.text()


def test_findings_are_tried_with_one_click(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)
    session.edit(PlanEdit("Edit", lambda plan: replace(plan, renders_per_opening=50)))
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        session.measure()

    qtbot.waitUntil(lambda: not session.snapshot.to_come, timeout=10_000)
    window.show_page("Cost")
    cost = window.page(CostPage)
    assert cost._title.text().endswith(" s a render")
    qtbot.waitUntil(lambda: cost._canvas._shown[0].is_there, timeout=10_000)

    for name in ("samples", "grain", "picture", "time"):
        qtbot.mouseClick(
            next(b for b in cost._heats.buttons() if b.text() == name), Qt.MouseButton.LeftButton
        )
        qtbot.waitUntil(lambda: cost._canvas._shown[0].is_there, timeout=10_000)
        assert cost._scale.isVisible() == (name != "picture")

    qtbot.mouseClick(button(window, "All figures"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: any(table.isVisible() for table in cost.findChildren(BarTable)), timeout=5000
    )
    tables = [table for table in cost.findChildren(BarTable) if table.isVisible()]
    assert [row.name for row in tables[0].rows][:2] == ["bounce 1", "bounce 2"]
    assert sum(row.shares[0] for row in tables[1].rows) == pytest.approx(1.0)
    assert any("from the camera" in [row.name for row in table.rows] for table in tables), (
        "rays by kind"
    )
    assert any("×" in row.words and "MiB" in row.words for table in tables for row in table.rows), (
        "textures"
    )
    assert len({tuple((row.name, row.words) for row in table.rows) for table in tables}) == len(
        tables
    ), "none twice"

    def middle() -> float:
        source = cost._canvas._shown[0].source
        return float(source.pixels(0, 0, 0, *source.size).mean())

    lit = middle()
    name = tables[1].rows[0].name
    tables[1].hovered.emit(name)
    assert cost._canvas._shown[0].source.lit.numbers == frozenset(cost._numbers["material"][name])
    assert middle() < 0.9 * lit, "all but the material is dimmed"
    tables[0].hovered.emit("bounce 1")
    assert cost._canvas._shown[0].source.lit.layer == "light.1"
    assert middle() < lit
    tables[0].hovered.emit(None)
    assert middle() == lit
    faster = min(
        (t for t in session.results.trials if not t.is_base), key=lambda t: t.seconds.value
    )
    cost.show_beside(faster.id)
    assert ", beside " in cost._title.text()
    qtbot.waitUntil(
        lambda: any(
            "beside" in row.words
            for t in cost.findChildren(BarTable)
            if t.isVisible()
            for row in t.rows
        ),
        timeout=5000,
    )

    qtbot.mouseClick(button(window, "Findings"), Qt.MouseButton.LeftButton)

    qtbot.wait(200)
    tries = [
        b for b in cost.findChildren(QPushButton) if b.text().startswith("Try ") and b.isVisible()
    ]
    kept = next(b for b in tries if b.text() == "Try scene kept")
    runs = session.snapshot.runs_done
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        qtbot.mouseClick(kept, Qt.MouseButton.LeftButton)

    qtbot.waitUntil(
        lambda: session.snapshot.runs_done > runs and not session.activity.measuring, timeout=10_000
    )
    assert session.snapshot.runs_done == runs + session.study.repeats, "this trial and nothing else"
    qtbot.waitUntil(
        lambda: any(
            t.is_on_map and t.configuration["scene.keep_built"] for t in session.results.trials
        ),
        timeout=10_000,
    )
    assert session.study.values_to_try()["scene.keep_built"] == (True,)


def test_features_of_materials_are_found_and_tried(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    scene = scene_file(tmp_path / "card.glb")
    base = configured({"samples.max": 4, "bounces.total": 3, "device.threads": 2})
    path = tmp_path / "card.study"
    create_study(
        path,
        Study(
            name="card",
            scene=str(scene),
            size=(32, 18),
            base=base,
            limits=only_limits(light_shift=200.0),
            repeats=2,
        ),
    )
    session = open_study(window, qtbot, path)
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        session.measure()

    qtbot.waitUntil(lambda: not session.snapshot.to_come, timeout=MEASURING)
    window.show_page("Cost")
    qtbot.mouseClick(button(window, "By material"), Qt.MouseButton.LeftButton)
    qtbot.wait(200)
    button(window, "See what the scene has").click()
    qtbot.waitUntil(lambda: len(session.study.catalogue.of_scene) == 5, timeout=MEASURING)

    def every_button() -> QPushButton | None:
        return next(
            (b for b in window.findChildren(QPushButton) if b.text().startswith("Try 4 features")),
            None,
        )

    qtbot.waitUntil(lambda: every_button() is not None, timeout=MEASURING)
    qtbot.waitUntil(
        lambda: any(text.startswith("glass (") for text in texts(window.page(CostPage))),
        timeout=MEASURING,
    )
    assert any(
        b.accessibleName() == "Try glass: coat off" for b in window.findChildren(QPushButton)
    )
    every = every_button()
    assert every is not None
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        every.click()

    qtbot.waitUntil(
        lambda: sum(t.is_on_map for t in session.results.trials) == 5, timeout=MEASURING
    )
    qtbot.wait(300)
    told = " ".join(texts(window.page(CostPage)))
    assert "cost" in told
    assert "Materials" in window.ledger._headings
    qtbot.mouseClick(button(window, "Findings"), Qt.MouseButton.LeftButton)

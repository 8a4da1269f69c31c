"""The window by keyboard alone: from a dropped scene to a taken pick, and every region's own
keys."""

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QFrame, QLabel, QWidget
from pytestqt.qtbot import QtBot

from swift_sample.core.study.plan.model import LIMIT_KEYS, Limits
from swift_sample.ui.dialogs.take_sheet import TakeSheet
from swift_sample.ui.pages import CostPage, LookPage, MapPage
from swift_sample.ui.window.shell import MainWindow
from tests.ui.test_begin import RENDERING, product
from tests.ui.test_window import MEASURING, open_study

MOST_STOPS = 30
"""From anywhere to anywhere in an open study."""


@pytest.fixture(autouse=True)
def _in_front(window: MainWindow, qtbot: QtBot) -> None:
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow, timeout=5000)


def press(
    qtbot: QtBot, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier
) -> None:
    """Whatever has the keyboard gets the key."""
    focus = QApplication.focusWidget()
    assert focus is not None
    qtbot.keyClick(focus, key, modifiers)
    qtbot.wait(20)


def tab_to(qtbot: QtBot, there: Callable[[QWidget], bool], most: int = 120) -> int:
    """Press Tab until the keyboard is there; returns how often."""
    for times in range(most):
        focus = QApplication.focusWidget()
        if focus is not None and there(focus):
            return times
        press(qtbot, Qt.Key.Key_Tab)

    raise AssertionError(f"not reached within {most} stops")


def test_from_a_dropped_scene_to_the_pick_by_keyboard(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    scene = product(tmp_path / "product.glb")
    window.files.take([scene])
    qtbot.waitUntil(lambda: window.beginning is not None, timeout=RENDERING)
    beginning = window.beginning
    beginning.edit(size=(64, 36), limits=Limits(**{**dict.fromkeys(LIMIT_KEYS), "grain": 30.0}))
    for key in beginning.chosen - {"samples.max"}:
        beginning.choose(key, False)

    qtbot.waitUntil(
        lambda: beginning.samples > 0 and window.begin_page.fastest.isEnabled(), timeout=RENDERING
    )
    qtbot.wait(100)
    tab_to(qtbot, lambda widget: widget is window.begin_page.fastest)
    press(qtbot, Qt.Key.Key_Space)
    qtbot.waitUntil(
        lambda: window.session is not None and window.session.pick() is not None, timeout=RENDERING
    )
    qtbot.waitUntil(lambda: not window.session.activity.measuring, timeout=RENDERING)
    qtbot.waitUntil(lambda: window.verdict._seconds.text().endswith(" s"), timeout=5000)
    press(qtbot, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(
        lambda: window.findChild(TakeSheet) is not None and window.findChild(TakeSheet).isVisible(),
        timeout=5000,
    )
    window.findChild(TakeSheet).close()


def test_every_region_is_reached_and_has_its_own_keys(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        session.measure()

    qtbot.waitUntil(lambda: not session.snapshot.to_come, timeout=10_000)
    qtbot.wait(200)
    map_page = window.page(MapPage)
    assert QApplication.focusWidget() is map_page, "a page that is shown has the keyboard"
    press(qtbot, Qt.Key.Key_Left)
    assert map_page._current is not None
    stops = tab_to(qtbot, lambda widget: widget is window.strip.blocks)
    press(qtbot, Qt.Key.Key_Left)
    assert (
        "a trial" in window.strip.blocks.accessibleDescription()
        or "control" in window.strip.blocks.accessibleDescription()
    )
    press(qtbot, Qt.Key.Key_Space)
    assert len(session.selected) == 1
    stops += tab_to(qtbot, lambda widget: widget in window.verdict.bars)
    press(qtbot, Qt.Key.Key_Right)
    assert window.verdict.bars[1].hasFocus()
    press(qtbot, Qt.Key.Key_Return)
    press(qtbot, Qt.Key.Key_Escape)
    stops += tab_to(qtbot, lambda widget: widget is window.ledger)
    assert stops <= MOST_STOPS
    press(qtbot, Qt.Key.Key_Down)
    assert window.ledger._row
    press(qtbot, Qt.Key.Key_F6)
    assert QApplication.focusWidget() is map_page
    press(qtbot, Qt.Key.Key_F6, Qt.KeyboardModifier.ShiftModifier)
    assert QApplication.focusWidget() is window.ledger
    press(qtbot, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClicks(QApplication.focusWidget(), "caustics")
    assert "light.caustics" in window.ledger._arranged
    press(qtbot, Qt.Key.Key_2, Qt.KeyboardModifier.AltModifier)
    look = window.page(LookPage)
    assert QApplication.focusWidget() is look
    press(qtbot, Qt.Key.Key_W)
    assert look.mode == "wipe", "keys reach the page at once, and no tab takes them"
    press(qtbot, Qt.Key.Key_Right)
    assert window._tabs.current is look
    press(qtbot, Qt.Key.Key_3, Qt.KeyboardModifier.AltModifier)
    assert QApplication.focusWidget() is window.page(CostPage)


def test_f1_lists_what_works_here(window: MainWindow, qtbot: QtBot, study_path: Path) -> None:
    open_study(window, qtbot, study_path)

    def listed() -> list[str]:
        card = window.show_keys()
        words = [label.text() for label in card.findChildren(QLabel)]
        assert isinstance(card, QFrame)
        card.close()

        return words

    assert "walk the marks, from the pick" in listed()
    window.show_page("Look")
    here = listed()
    assert "places worth watching" in here
    assert "walk the marks, from the pick" not in here
    window.ledger.setFocus()
    assert "type values to try" in listed()


def test_how_things_were_looked_at_is_the_same_at_the_next_start(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)
    trial = session.snapshot.state.base.id
    session.compare([trial])
    window.page(MapPage).show_axis(1, "grain")
    window.show_page("Look")
    window.page(LookPage).set_mode("difference")
    window.ledger.by_leverage = True
    settings = window._remembered._settings
    window.close()
    again = MainWindow(settings)
    qtbot.addWidget(again)
    again.show()
    session = open_study(again, qtbot, study_path)
    assert again._tabs.current is again.page(LookPage)
    assert again.page(LookPage).mode == "difference"
    assert again.page(MapPage).kept_state()["up"] == "grain"
    assert again.ledger.by_leverage
    assert session.selected == [trial]
    settings.setValue("pages/Look", "nonsense {")
    settings.setValue("compared", "[1]")
    again.close()
    MainWindow(settings).close()

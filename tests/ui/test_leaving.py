"""Leaving while something is measured, and telling who looks elsewhere."""

import subprocess
import sys
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QMessageBox, QPushButton
from pytestqt.qtbot import QtBot

from swift_sample.core.study.log.store import Store
from swift_sample.core.study.measuring import background
from swift_sample.ui.window import notifications
from swift_sample.ui.window import shell as main_window
from swift_sample.ui.window.shell import MainWindow
from tests.ui.test_window import MEASURING, open_study


def answer(window: MainWindow, qtbot: QtBot, words: str) -> None:
    qtbot.waitUntil(lambda: window.findChild(QMessageBox) is not None, timeout=10_000)
    box = window.findChild(QMessageBox)
    assert box is not None
    qtbot.waitUntil(box.isVisible, timeout=5000)
    qtbot.mouseClick(
        next(b for b in box.findChildren(QPushButton) if words in b.text()),
        Qt.MouseButton.LeftButton,
    )


@pytest.mark.parametrize(
    ("words", "goes_on"), [("background", True), ("Now", False), ("After this run", False)]
)
def test_closing_while_measuring_asks_once(
    window: MainWindow, qtbot: QtBot, study_path: Path, words: str, goes_on: bool
) -> None:
    open_study(window, qtbot, study_path)
    window.asks_before_closing = True
    window.measure()
    qtbot.waitUntil(lambda: window.session.activity.measuring, timeout=MEASURING)
    window.close()
    assert window.isVisible()
    answer(window, qtbot, words)
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=MEASURING)
    assert bool(window.background) == goes_on

    if goes_on:
        assert window.background[-3:] == ("run", str(study_path), "--notify")


def test_cancel_stays_and_nothing_asks_where_nothing_is_measured(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    open_study(window, qtbot, study_path)
    window.asks_before_closing = True
    window.measure()
    qtbot.waitUntil(lambda: window.session.activity.measuring, timeout=MEASURING)
    window.close()
    answer(window, qtbot, "Cancel")
    qtbot.wait(100)
    assert window.isVisible()
    assert window.session.activity.measuring
    window.session.stop()
    qtbot.waitUntil(lambda: not window.session.activity.measuring, timeout=MEASURING)
    window.close()
    assert not window.isVisible()


def test_leaving_for_another_scene_asks_as_well(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)
    window.asks_before_closing = True
    window.measure()
    qtbot.waitUntil(lambda: session.activity.measuring, timeout=MEASURING)
    window.begin("honey-stall-small")
    assert window.session is session
    answer(window, qtbot, "Now")
    qtbot.waitUntil(lambda: window.beginning is not None, timeout=MEASURING)
    assert window.session is None


def test_the_answer_is_in_the_notification(
    window: MainWindow, qtbot: QtBot, study_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    told = []
    monkeypatch.setattr(main_window, "notify", lambda title, text: told.append((title, text)))
    monkeypatch.setattr(window, "isActiveWindow", lambda: False)
    session = open_study(window, qtbot, study_path)
    window.measure()
    qtbot.waitUntil(lambda: bool(told), timeout=MEASURING)
    (title, text), pick = told[0], session.pick()
    assert title == session.study.name

    if pick is not None:
        assert " s" in text

    assert "measured" in text


def test_a_desktop_without_notifications_is_no_matter() -> None:
    """In a process of its own, since a bus stays connected: with an address where nobody is."""
    program = (
        "from PyQt6.QtCore import QCoreApplication as A; a = A([]); from "
        "swift_sample.ui.window.notifications import notify"
    )
    done = subprocess.run(
        [sys.executable, "-c", f"{program}; print(notify('a', 'b'))"],
        env={"PATH": "/usr/bin", "DBUS_SESSION_BUS_ADDRESS": "unix:path=/nowhere"},
        capture_output=True,
        text=True,
    )

    assert done.stdout.strip() == "False"
    message = notifications.notification("Honey", "3.4× faster <than> base")
    assert (message.service(), message.member()) == ("org.freedesktop.Notifications", "Notify")


def test_what_is_measured_in_the_background_is_found_again_and_goes_on_here(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    behind = subprocess.Popen(
        background.command_of("run", study_path), stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    try:
        qtbot.waitUntil(lambda: background.found(study_path) is not None, timeout=30_000)
        assert background.found(study_path) == (behind.pid, "run")
        window.open_study(study_path)
        answer(window, qtbot, "Go on here")
        qtbot.waitUntil(
            lambda: window.session is not None and window.session.activity.measuring,
            timeout=MEASURING,
        )
        assert behind.wait(10) is not None
        assert background.found(study_path) is None, (
            "this process holds it, and is no run in the background"
        )
    finally:
        behind.kill()
        behind.communicate()


def test_a_run_that_somebody_watches_is_not_taken_over(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    store = Store.open(study_path)
    window.open_study(study_path)
    qtbot.waitUntil(
        lambda: "open in another window or command" in window.notice.text(), timeout=10_000
    )
    assert background.found(study_path) is None
    store.close()

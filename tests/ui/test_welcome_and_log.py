"""The page before a study is open, and the table of what was decided."""

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot

from swift_sample.ui.log_dialog import LogDialog
from swift_sample.ui.theme import DAY, DUSK
from swift_sample.ui.welcome import Welcome

EVENTS = [
    ("2026-11-23T10:00:00.000+00:00", "decision", "rendering the reference: there is none yet"),
    ("2026-11-23T10:00:09.000+00:00", "worker lost", "the renderer ended unexpectedly (signal 9)"),
    ("2026-11-23T10:00:12.000+00:00", "decision", "rendering 16 samples: run 1 of 3"),
]


def test_three_ways_to_begin_and_the_studies_of_late(qtbot: QtBot) -> None:
    page = Welcome(DAY)
    qtbot.addWidget(page)
    page.show()
    page.show_recent([Path("honey.study"), Path("stall.study")])
    buttons = {button.text(): button for button in page.findChildren(QPushButton)}
    for text, signal in (
        ("Measure the demo", page.demo_wanted),
        ("Begin with your scene …", page.new_wanted),
        ("Open a study …", page.open_wanted),
    ):
        with qtbot.waitSignal(signal):
            qtbot.mouseClick(buttons[text], Qt.MouseButton.LeftButton)
    with qtbot.waitSignal(page.recent_wanted) as wanted:
        qtbot.mouseClick(buttons["stall"], Qt.MouseButton.LeftButton)
    assert wanted.args == [Path("stall.study")]
    page.show_recent([])
    qtbot.waitUntil(lambda: "honey" not in {b.text() for b in page.findChildren(QPushButton)}, timeout=2000)
    page.set_theme(DUSK)


def test_a_time_that_is_none_does_not_close_the_log(qtbot: QtBot) -> None:
    dialog = LogDialog([("noon", "ended", "everything is measured"), *EVENTS], None)
    qtbot.addWidget(dialog)
    assert dialog.table.item(3, 0).text() == "noon"
    assert dialog.table.item(2, 0).text().startswith("23 Nov ")


def test_the_log_has_the_latest_on_top_with_its_reason(qtbot: QtBot) -> None:
    dialog = LogDialog(EVENTS, None)
    qtbot.addWidget(dialog)
    rows = [[dialog.table.item(row, column).text() for column in (1, 2)] for row in range(3)]
    assert rows == [
        ["rendering 16 samples", "run 1 of 3"],
        ["worker lost", "the renderer ended unexpectedly (signal 9)"],
        ["rendering the reference", "there is none yet"],
    ]
    assert dialog.table.item(0, 0).text().startswith("23 Nov ")
    empty = LogDialog([], None)
    qtbot.addWidget(empty)
    assert any("Nothing was measured yet" in label.text() for label in empty.findChildren(QLabel))

"""The page before a study is open, and the table of what was decided."""

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractButton, QLabel
from pytestqt.qtbot import QtBot

from swift_sample.app.recent import look_at
from swift_sample.ui.dialogs.log import LogDialog
from swift_sample.ui.theme import DAY, DUSK
from swift_sample.ui.welcome import DEMOS, PICTURES, Welcome

EVENTS = [
    ("2026-11-23T10:00:00.000+00:00", "decision", "rendering the reference: there is none yet"),
    ("2026-11-23T10:00:09.000+00:00", "worker lost", "the renderer ended unexpectedly (signal 9)"),
    ("2026-11-23T10:00:12.000+00:00", "decision", "rendering 16 samples: run 1 of 3"),
]


def test_every_way_to_begin_and_recent_studies(qtbot: QtBot, study_path: Path) -> None:
    page = Welcome(DAY)
    qtbot.addWidget(page)
    page.show()
    page.show_recent([Path("honey.study"), study_path])
    buttons = {button.text(): button for button in page.findChildren(QAbstractButton)}

    for text, signal in (
        ("The honey stall", page.demo_wanted),
        ("Begin with your scene …", page.new_wanted),
        ("Open a study …", page.open_wanted),
    ):
        with qtbot.waitSignal(signal):
            qtbot.mouseClick(buttons[text], Qt.MouseButton.LeftButton)

    with qtbot.waitSignal(page.scene_wanted) as wanted:
        qtbot.mouseClick(buttons["The honey room"], Qt.MouseButton.LeftButton)

    assert wanted.args == ["honey-room"]
    with qtbot.waitSignal(page.recent_wanted) as wanted:
        qtbot.mouseClick(buttons["honey"], Qt.MouseButton.LeftButton)

    assert wanted.args == [Path("honey.study")]
    for path, words in ((study_path, "nothing measured yet"), (Path("honey.study"), "not a study")):
        found = look_at(path)
        page.fill(found)
        assert words in found.words
        assert words in page._rows[path].accessibleName()

    page.show_recent([])
    assert not page._heading.isVisible()
    page.set_theme(DUSK)
    assert all((PICTURES / f"{name}.png").is_file() for name, *_ in DEMOS)


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

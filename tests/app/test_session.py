"""The window beside its study: what it shows is the plan that is on disk, it never waits, and
nothing is silent."""

import os
import subprocess
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QtMsgType
from PyQt6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import PictureStore
from swift_sample.app.session import wait_for_closed
from swift_sample.core import log
from swift_sample.core.errors import StudyError
from swift_sample.core.study.log import store as storing
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.plan.edits import PlanEdit
from swift_sample.core.study.plan.file import plan_from_toml
from swift_sample.ui.dialogs.versions import VersionsDialog
from swift_sample.ui.window.application import SCREEN_VARIABLES, log_qt
from swift_sample.ui.window.shell import MainWindow
from tests.ui.test_window import MEASURING, open_study


def on_disk(path: Path):
    file = path / "study.toml"
    return plan_from_toml(file.read_text(), file)


@pytest.mark.parametrize("pause", [0, 30, 100])
def test_quick_edits_end_with_the_plan_that_is_on_disk(
    window: MainWindow, qtbot: QtBot, study_path: Path, pause: int
) -> None:
    """R9: three edits so many milliseconds apart, again and again; each sees the ones before it."""
    session = open_study(window, qtbot, study_path)
    for turn in range(4):
        for k in range(3):
            value = 3 + 3 * turn + k
            session.edit(PlanEdit("Runs", lambda plan, n=value: replace(plan, repeats=n)))
            session.edit(
                PlanEdit(
                    "Values", lambda plan, n=value: plan.with_values_to_try({"bounces.total": (n,)})
                )
            )
            assert (session.study.repeats, session.study.values_to_try()) == (
                value,
                {"bounces.total": (value,)},
            ), "at once"

            if pause:
                qtbot.wait(pause)

        qtbot.waitUntil(lambda: not session.is_updating, timeout=5000)
        assert session.snapshot.study == session.study == on_disk(study_path)
        assert session.study.repeats == value

    session.undo()
    qtbot.waitUntil(
        lambda: session.snapshot.study.values_to_try()["bounces.total"] == (value - 1,),
        timeout=5000,
    )
    assert session.snapshot.study == on_disk(study_path)


def test_an_edit_that_cannot_be_kept_goes_from_the_window_as_well(
    window: MainWindow, qtbot: QtBot, study_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """R7, in the window: told once, and the plan shown is the one on disk; undo builds on that."""
    session = open_study(window, qtbot, study_path)
    before = session.study

    def full(*_: object) -> None:
        raise StudyError("the disk is full")

    monkeypatch.setattr(storing, "write_whole", full)
    with qtbot.waitSignal(session.problem, timeout=5000) as told:
        session.set_limit("grain", 3.25)

    monkeypatch.undo()
    assert told.args == ["the disk is full"]
    qtbot.waitUntil(lambda: not session.is_updating, timeout=5000)
    assert session.study == session.snapshot.study == before == on_disk(study_path)
    session.set_limit("grain", 4.5)
    qtbot.waitUntil(lambda: on_disk(study_path).limits.grain == 4.5, timeout=5000)
    qtbot.waitUntil(
        lambda: window._actions["undo"].text() == "Undo: grain: limit 4.5", timeout=5000
    )


def test_an_error_nobody_expected_stands_in_the_window_with_a_way_to_hand_it_on(
    window: MainWindow,
    qtbot: QtBot,
    study_path: Path,
    log_file: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """R14: in background work of the window, in an edit, in showing a picture; nothing waits for
    ever."""
    session = open_study(window, qtbot, study_path)
    monkeypatch.setattr(session._driver, "words", lambda: {}["a bug while reading the log"])
    session.read_log()
    qtbot.waitUntil(window.error.isVisible, timeout=5000)
    assert "a bug while reading the log" in window.error.words
    assert str(log_file) in window.error.words
    copy = next(b for b in window.error.findChildren(QPushButton) if b.text() == "Copy")
    copy.click()
    assert "Traceback" in QApplication.clipboard().text()
    next(b for b in window.error.findChildren(QPushButton) if b.text() == "Dismiss").click()
    assert not window.error.isVisible()

    calls = []

    def breaks_later(plan):
        calls.append(plan)
        if len(calls) > 1:
            raise TypeError("a bug in an edit")
        return replace(plan, repeats=9)

    before = session.study
    with qtbot.waitSignal(session.problem, timeout=5000) as told:
        session.edit(PlanEdit("Edit", breaks_later))

    assert "a bug in an edit" in told.args[0]
    qtbot.waitUntil(lambda: session.study == before, timeout=5000)

    pictures = PictureStore()
    from swift_sample.core.picture import stored

    monkeypatch.setattr(
        stored, "read_stored", lambda path, digest: (_ for _ in ()).throw(MemoryError("no room"))
    )
    with qtbot.waitSignal(pictures.arrived, timeout=5000) as arrived:
        pictures.get(Path("a.exr"))

    assert "This picture cannot be shown (no room)" in arrived.args[0].problem
    pictures.close()
    text = log_file.read_text()
    for words in ("a bug while reading the log", "a bug in an edit", "no room"):
        assert words in text


def test_messages_of_the_toolkit_are_logged(log_file: Path) -> None:
    log_qt(QtMsgType.QtWarningMsg, None, "a widget is odd")
    assert "Qt: a widget is odd" in log_file.read_text()
    assert log.log_file() == log_file


@pytest.mark.parametrize("screen", [{"DISPLAY": ":77"}, {"QT_QPA_PLATFORM": "nosuch"}])
def test_a_screen_that_cannot_be_reached_is_one_sentence(
    screen: dict[str, str], tmp_path: Path
) -> None:
    """The toolkit would end the process with a signal and lines of its own."""
    here = {name: value for name, value in os.environ.items() if name not in SCREEN_VARIABLES}
    told = subprocess.run(
        [sys.executable, "-m", "swift_sample.cli"],
        env={**here, **screen, "SWIFT_SAMPLE_STATE": str(tmp_path)},
        capture_output=True,
        text=True,
        check=False,
    )

    ((name, value),) = screen.items()
    assert (told.returncode, told.stdout) == (1, "")
    assert told.stderr.startswith(
        f"swift-sample: no window can be shown with {name}={value}; correct that"
    )
    assert told.stderr.count("\n") == 1
    assert "Qt: " in (tmp_path / "swift-sample.log").read_text()


def test_results_out_of_sight_are_told_and_one_click_away(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    """R2 and R11, in the window: there and back by size, with the words and buttons that lead to
    what was measured."""
    session = open_study(window, qtbot, study_path)
    session.edit(PlanEdit("Edit", lambda plan: replace(plan, sweeps=(), repeats=1)))
    with qtbot.waitSignal(session.finished, timeout=MEASURING):
        session.measure()

    qtbot.waitUntil(
        lambda: session.results.base.is_on_map and not session.snapshot.to_come, timeout=10_000
    )
    assert not window.remarks.isVisible(), session.snapshot.remarks
    grain = session.results.base.figures["grain"].value
    session.edit(PlanEdit("Edit", lambda plan: replace(plan, size=(48, 27))))
    qtbot.waitUntil(lambda: session.snapshot.study.size == (48, 27), timeout=5000)
    qtbot.waitUntil(window.remarks.isVisible, timeout=5000)
    assert not session.results.base.runs
    qtbot.waitUntil(lambda: window.top._measure.text() == "Measure 1 trial", timeout=5000)
    assert (
        "Nothing was measured of the scene as it is now; measured before: honey-stall-small, 32x18"
        in window.remarks._words.text()
    )

    window.remarks._go.click()
    qtbot.waitUntil(lambda: bool(session.results.base.runs), timeout=5000)
    assert session.results.base.figures["grain"].value == grain
    qtbot.waitUntil(
        lambda: "results of an earlier version" in window.remarks._words.text(), timeout=5000
    )
    assert not window.top._measure.isEnabled()
    dialog = VersionsDialog(session.snapshot, window)
    qtbot.addWidget(dialog)
    assert dialog.list.count() == 1
    assert dialog.list.item(0).text().endswith("· shown")
    qtbot.waitUntil(
        lambda: window.remarks._go.text() == "Back to the scene as it is now", timeout=5000
    )
    window.remarks._go.click()
    qtbot.waitUntil(lambda: not session.results.base.runs, timeout=5000)
    with qtbot.waitSignal(dialog.place_wanted) as wanted:
        dialog._choose()

    session.show_version(wanted.args[0])
    qtbot.waitUntil(lambda: bool(session.results.base.runs), timeout=5000)
    session.undo()
    qtbot.waitUntil(lambda: session.snapshot.study.size == (32, 18), timeout=5000)
    assert session.results.base.figures["grain"].value == grain
    qtbot.waitUntil(lambda: not window.remarks.isVisible(), timeout=5000)


def test_closing_in_the_middle_of_a_render_does_not_wait(
    window: MainWindow, qtbot: QtBot, study_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = open_study(window, qtbot, study_path)
    session.set_base_value("samples.max", 65536)
    session.measure()
    qtbot.waitUntil(lambda: session.activity.step is not None, timeout=MEASURING)
    pid = session.worker_pid

    with monkeypatch.context() as patched:
        patched.setattr(Driver, "join", lambda *_: pytest.fail("the window's thread waits"))
        window._leave_to_welcome()

    assert window.session is None
    wait_for_closed(20)
    with pytest.raises(ProcessLookupError):
        os.kill(pid, 0)

    open_study(window, qtbot, study_path)


def test_a_session_that_ends_while_something_is_told_says_nothing(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    """What still works on a thread of its own may tell of it when the window has gone already."""
    session = open_study(window, qtbot, study_path)
    session.close()
    wait_for_closed(10.0)
    session._closed = False  # as a thread saw it that looked just before
    sip.delete(session)
    session._emit("_noticed", None)
    window.session = None


def test_a_report_that_is_stopped_says_so(
    window: MainWindow,
    qtbot: QtBot,
    study_path: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    session = open_study(window, qtbot, study_path)

    def write(
        path: Path, snapshot: object, timed: object, tell: Callable[[float, str], None]
    ) -> None:
        session.stop_report()
        tell(0.1, "pictures")

    monkeypatch.setattr("swift_sample.core.report.write.write_report", write)
    session.show_report(tmp_path / "report.pdf")
    qtbot.waitUntil(lambda: not session.reporting, timeout=5000)

    assert session.report is not None
    assert session.report[0] == ""
    assert session.report_words == "The report was stopped."

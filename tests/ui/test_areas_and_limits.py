"""Watch areas on the canvas, limits edited in place, and what the strip says of times that are not
to be trusted."""

from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from swift_sample.app.ledger_model import strip_states
from swift_sample.core.measure.drift import DriftCorrection
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.renderers.port import SceneFacts
from swift_sample.core.scene.facts import WITHOUT
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.file import plan_from_toml
from swift_sample.core.study.plan.model import WatchArea
from swift_sample.ui.strips.run import trust_words
from swift_sample.ui.strips.verdict import LimitBar
from swift_sample.ui.theme import DAY
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.picture_canvas import PictureCanvas, Shown
from swift_sample.ui.widgets.words import plain_tip
from swift_sample.ui.window.shell import MainWindow
from tests.core.study.answers.test_results import STUDY, with_runs
from tests.ui.fake_session import snapshot_of
from tests.ui.pictured import plain
from tests.ui.test_window import drag, open_study

SIZE = (60, 40)


@pytest.fixture
def canvas(qtbot: QtBot) -> PictureCanvas:
    made = PictureCanvas(DAY)
    qtbot.addWidget(made)
    made.resize(600, 400)
    source = plain((80, 80, 80), *SIZE)
    made.show_pictures([Shown("one", source, "")], wipe=False)
    made.show_areas((), SIZE, "")
    made.show()

    return made


def test_a_drag_draws_a_watch_area_in_pixels_of_the_study(
    canvas: PictureCanvas, qtbot: QtBot
) -> None:
    canvas.drawing_area = True
    with qtbot.waitSignal(canvas.area_drawn) as drawn:
        drag(qtbot, canvas, QPoint(100, 100), QPoint(300, 250))

    assert drawn.args == [10, 10, 20, 15]
    canvas.drawing_area = False


def test_a_slip_of_the_hand_draws_none_and_dragging_beyond_stays_inside(
    canvas: PictureCanvas, qtbot: QtBot
) -> None:
    canvas.drawing_area = True
    with qtbot.assertNotEmitted(canvas.area_drawn, wait=50):
        drag(qtbot, canvas, QPoint(100, 100), QPoint(120, 110))

    with qtbot.waitSignal(canvas.area_drawn) as drawn:
        drag(qtbot, canvas, QPoint(500, 300), QPoint(800, 600))

    assert drawn.args == [50, 30, 10, 10]


def test_the_smallest_area_under_the_pointer_is_chosen(canvas: PictureCanvas, qtbot: QtBot) -> None:
    canvas.show_areas(
        (
            WatchArea(name="all", x=0, y=0, width=60, height=40),
            WatchArea(name="jar", x=10, y=10, width=10, height=10),
        ),
        SIZE,
        "jar",
    )
    for at, expected in ((QPoint(150, 150), "jar"), (QPoint(450, 300), "all")):
        with qtbot.waitSignal(canvas.area_clicked) as clicked:
            qtbot.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=at)
        assert clicked.args == [expected]

    with qtbot.waitSignal(canvas.area_opened) as opened:
        qtbot.mouseDClick(canvas, Qt.MouseButton.LeftButton, pos=QPoint(150, 150))

    assert opened.args == ["jar"]
    # Its frame is drawn where it lies.
    frame = canvas.grab().toImage().pixelColor(100, 150)
    assert frame != QColor(90, 90, 90)


def test_words_from_a_study_are_shown_as_they_are(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    """What looks like a tag in the name of an area is no tag, in whatever page shows it."""
    session = open_study(window, qtbot, study_path)
    name = "<h1>jar</h1>"
    session.edit(edits.watch(name, 0, 0, 8, 8))
    qtbot.waitUntil(lambda: bool(session.snapshot.study.areas), timeout=5000)

    for page in window.pages:
        window.show_page(page)
        qtbot.wait(20)

    labels = [label for label in window.findChildren(QLabel) if "h1" in label.text()]
    assert labels
    assert all(
        name not in label.text()
        for label in labels
        if label.textFormat() != Qt.TextFormat.PlainText
    )
    assert plain_tip(name) == "<p style='white-space: pre-wrap'>&lt;h1&gt;jar&lt;/h1&gt;</p>"
    assert plain_tip("a\nb") == "a\nb"


def test_areas_are_saved_renamed_removed_and_undone(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)

    def on_disk() -> list[str]:
        plan = study_path / "study.toml"
        return [area.name for area in plan_from_toml(plan.read_text(), plan).areas]

    session.edit(edits.watch("area 1", 1, 2, 10, 8))
    session.edit(edits.watch("area 2", 3, 4, 10, 8))
    session.edit(edits.rename_area("area 1", "jar"))
    qtbot.waitUntil(lambda: on_disk() == ["jar", "area 2"], timeout=5000)
    with qtbot.waitSignal(session.problem) as problem:
        session.edit(edits.rename_area("area 2", "jar"))

    assert "one name" in problem.args[0]
    session.edit(edits.remove_area("area 2"))
    qtbot.waitUntil(lambda: on_disk() == ["jar"], timeout=5000)
    session.undo()
    qtbot.waitUntil(lambda: on_disk() == ["jar", "area 2"], timeout=5000)


def test_a_limit_is_changed_where_it_is_shown(qtbot: QtBot) -> None:
    bar = LimitBar("grain", DAY)
    qtbot.addWidget(bar)
    bar.show()
    bar.show_share(Figure(0.5, 0.4, 0.6), "1.0 of 2.0 levels", DAY, 1.0, limit=2.0)
    qtbot.mouseClick(bar, Qt.MouseButton.LeftButton)
    field = bar._field
    assert field is not None
    assert field.value() == 2.0

    with qtbot.waitSignal(bar.edited) as edited:
        qtbot.keyClicks(field, "3.5")
        qtbot.keyClick(field, Qt.Key.Key_Return)

    assert edited.args == ["grain", 3.5]
    assert bar._field is None
    field = bar.edit()
    with qtbot.assertNotEmitted(bar.edited, wait=50):
        qtbot.keyClick(field, Qt.Key.Key_Escape)

    assert bar._field is None


def test_an_edited_limit_reaches_the_plan(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    session = open_study(window, qtbot, study_path)
    window.verdict.limit_edited.emit("grain", 7.5)
    qtbot.waitUntil(lambda: "grain = 7.5" in (study_path / "study.toml").read_text(), timeout=5000)
    assert session.study.limits.grain == 7.5


def test_the_strip_says_why_times_are_uncertain() -> None:
    quiet = with_runs({100: [10.0, 10.0, 10.0], 50: [5.0, 5.0, 5.0]})
    assert trust_words(snapshot_of(quiet)) == ""
    odd = with_runs({100: [10.0, 10.0, 10.0], 50: [5.0, 5.05, 8.0]})
    assert trust_words(snapshot_of(odd)) == "1 odd run left out and repeated"
    busy = tuple(
        replace(run, result=replace(run.result, load_of_others=0.4)) for run in quiet.trials[0].runs
    )
    assert "other programs take 40% of the processor" in trust_words(snapshot_of(quiet, runs=busy))
    apart = snapshot_of(quiet, elsewhere=3)
    assert trust_words(apart).startswith("3 runs were made on another machine, and kept apart")
    other = (replace(quiet.trials[0].runs[0], software="other"), *quiet.trials[1].runs)
    assert (
        trust_words(snapshot_of(quiet, runs=other))
        == "runs were made with different software: other / software"
    )
    drifting = replace(quiet, correction=DriftCorrection({1: 0.97, 2: 1.08}))
    assert "speed drifted by 8%" in trust_words(snapshot_of(drifting))


def test_settings_without_effect_on_the_scene_are_folded(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    bare = {name: words for name, words in WITHOUT.items() if name != "textures"}
    states = {s.declared.key: s for s in strip_states(STUDY, None, SceneFacts(missing=bare))}
    assert states["volume.scattering"].folded
    assert states["volume.scattering"].idle_reason == "the scene has no haze"
    assert not states["textures.prepared"].folded
    variants = {
        s.declared.key: s
        for s in strip_states(
            STUDY, None, SceneFacts(choices={"geometry.variant": ("red", "blue")})
        )
    }
    assert [chip.value for chip in variants["geometry.variant"].chips] == ["", "red", "blue"]

    session = open_study(window, qtbot, study_path)
    qtbot.waitUntil(lambda: session.facts is not None, timeout=10_000)
    strip = window.ledger.strip_of("camera.motion_blur")
    qtbot.waitUntil(strip.is_folded, timeout=5000)
    assert not strip.chip(True).isVisible()
    assert strip._reason.text() == "nothing moves while this frame is taken"
    qtbot.mouseClick(strip._label, Qt.MouseButton.LeftButton)
    assert not strip.is_folded()
    window.ledger.open_group("Camera")
    qtbot.waitUntil(strip.chip(True).isVisible, timeout=5000)
    assert not window.ledger.strip_of("volume.scattering").is_folded()


def test_a_line_without_room_ends_in_dots(qtbot: QtBot) -> None:
    label = ElidedLabel("16 samples · 6 bounces · patches 0.8 · scene kept")
    qtbot.addWidget(label)
    label.resize(600, 20)
    assert label.shown == label.text()
    label.resize(120, 20)
    assert label.shown.startswith("16 samples")
    assert label.shown.endswith("…")

"""Another renderer, and renders that are finished, in the window: from dropping to a study that is
measured."""

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QTableWidgetItem
from pytestqt.qtbot import QtBot

from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.command.description import described_by
from swift_sample.core.renderers.command.trust import is_confirmed, seen_file
from swift_sample.ui.dialogs.finished import FinishedRenders
from swift_sample.ui.dialogs.other_renderer import OtherRenderer
from swift_sample.ui.window.shell import MainWindow
from tests.core.renderers.command.programs import program
from tests.ui.seen import texts

MEASURING = 120_000
OUTSIDE = Path(__file__).parents[2] / "examples" / "outside"


@pytest.fixture(autouse=True)
def own_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home"))


def test_a_renderer_file_is_seen_confirmed_tested_and_begun_with(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    renderer = program(tmp_path / "p", confirmed=False)
    window.files.take([renderer.path])
    dialog = window.findChild(OtherRenderer)
    assert dialog is not None
    assert not dialog.test.isEnabled(), "nothing starts before it was seen"
    assert "/scene (work)/picture.png" in " ".join(texts(dialog))
    dialog.scene.setText(str(tmp_path / "p" / "scene.txt"))
    dialog.refresh()
    assert not dialog.test.isEnabled()
    qtbot.mouseClick(dialog.may, Qt.MouseButton.LeftButton, pos=dialog.may.rect().center() / 8)
    dialog.may.setChecked(True)
    assert is_confirmed(seen_file(renderer.path))
    qtbot.mouseClick(dialog.test, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "All was tried." in texts(dialog), timeout=MEASURING)
    qtbot.waitUntil(
        lambda: "another seed gives another grain" in " ".join(texts(dialog)), timeout=10_000
    )
    assert dialog._picture.pixmap().width() > 100
    qtbot.mouseClick(dialog.begin, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.beginning is not None, timeout=MEASURING)
    beginning = window.beginning
    assert beginning is not None
    assert beginning.draft.renderer_file == str(renderer.path)
    assert not window.begin_page._lights.isVisible(), "it takes its light from the scene"
    qtbot.waitUntil(lambda: beginning.light is not None, timeout=MEASURING)


def test_a_form_writes_a_renderer_file(window: MainWindow, qtbot: QtBot, tmp_path: Path) -> None:
    dialog = window.files.use_other_renderer()
    qtbot.mouseClick(dialog._fill, Qt.MouseButton.LeftButton)
    dialog.name.setText("mine")
    dialog.command.setText('mine --in "{scene}" --out {picture} --seed {seed} {arguments}')
    dialog._add_setting(
        dialog._rows()[0].__class__("Caustics", "yes", "yes no", "--caustics={value}")
    )
    dialog._add_setting(dialog._rows()[0].__class__("Quality", "high", "low high", "-q {value}"))
    dialog.write_file(str(tmp_path / "mine.toml"))
    described = described_by(seen_file(tmp_path / "mine.toml"))
    kinds = {one.key: (one.kind, one.default) for one in described.setting}
    assert kinds == {
        "samples.max": ("whole", 64),
        "program.caustics": ("switch", True),
        "program.quality": ("choice", "high"),
    }
    assert described.setting[0].role == "samples"
    assert dialog.file.text() == str(tmp_path / "mine.toml")
    dialog.command.setText("mine {sceen}")
    dialog.write_file(str(tmp_path / "other.toml"))
    assert "no such placeholder" in " ".join(texts(dialog))
    assert not (tmp_path / "other.toml").exists()
    dialog.reject()


def renders(folder: Path) -> list[Path]:
    folder.mkdir()
    x = np.mgrid[0:18, 0:32][1]
    light = np.repeat((0.2 + 0.1 * np.sin(x / 3))[..., None], 3, axis=2).astype(np.float32)
    write_exr(folder / "reference.exr", Picture(light))

    for samples, seconds in ((64, 40), (16, 12), (4, 4)):
        noise = np.random.default_rng(samples).normal(0, 0.04 / np.sqrt(samples), light.shape)
        write_exr(
            folder / f"s{samples}_{seconds}s.exr", Picture((light + noise).astype(np.float32))
        )

    return sorted(folder.iterdir())


def test_dropped_pictures_are_completed_and_measured(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    window.files.take(renders(tmp_path / "renders"))
    dialog = window.findChild(FinishedRenders)
    assert dialog is not None
    assert dialog.reference.currentText() == "reference.exr"
    assert [dialog.table.horizontalHeaderItem(k).text() for k in range(3)] == [
        "Picture",
        "Seconds",
        "s",
    ]
    place = next(k for k in range(4) if dialog.table.item(k, 0).text() == "s4_4s.exr")
    dialog.table.setItem(place, 1, QTableWidgetItem(""))
    qtbot.mouseClick(dialog.measure, Qt.MouseButton.LeftButton)
    assert "type in how long it took" in " ".join(texts(dialog))
    dialog.table.setItem(place, 1, QTableWidgetItem("0:04"))
    qtbot.mouseClick(dialog.measure, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.session is not None, timeout=MEASURING)
    session = window.session
    assert session is not None
    qtbot.waitUntil(
        lambda: session.snapshot is not None and not session.activity.measuring, timeout=MEASURING
    )
    qtbot.waitUntil(
        lambda: all(trial.is_on_map for trial in session.results.trials), timeout=MEASURING
    )
    assert sorted(t.seconds.value for t in session.results.trials) == [4.0, 12.0, 40.0]
    strip = window.ledger._strips["s"]
    assert [(chip.state.value, chip.state.planned) for chip in strip.chips] == [
        (4, True),
        (16, True),
        (64, True),
    ]
    assert not strip._add.isVisible(), "no other renders can be made"
    before = session.study
    qtbot.mouseClick(strip.chip(4), Qt.MouseButton.LeftButton)
    assert session.study == before
    assert "finished renders: no others can be made" in texts(window.ledger)

    for page in ("Map", "Look", "Cost", "Plan", "Report"):
        window.show_page(page)
        qtbot.wait(200)


def test_copying_pictures_can_be_stopped(window: MainWindow, qtbot: QtBot, tmp_path: Path) -> None:
    window.files.take(renders(tmp_path / "renders"))
    dialog = window.findChild(FinishedRenders)
    assert dialog is not None
    window.entrance._opener.copied.connect(
        lambda done, every: window.entrance._opener.stop_copying(),
        Qt.ConnectionType.DirectConnection,
    )
    qtbot.mouseClick(dialog.measure, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "no study was made" in window.notice.text(), timeout=MEASURING)
    assert window.session is None
    assert sorted(path.name for path in tmp_path.rglob("*.study")) == []


def test_a_dropped_table_with_a_mistake_is_told(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    (tmp_path / "t.csv").write_text("picture,seconds\nnone.png,3\n")
    window.files.take([tmp_path / "t.csv"])
    assert "line 2: there is no picture none.png" in window.notice.text()

"""A guest of the desktop: one window, its launcher, icons and file type."""

import configparser
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from PyQt6.QtGui import QImage
from pytestqt.qtbot import QtBot

from swift_sample.cli import run
from swift_sample.desktop.entries import ICON_SIZES, files, install, remove
from swift_sample.ui.window.shell import MainWindow
from swift_sample.ui.window.single import Doorbell, address, hand_over


def test_everything_is_put_in_place_and_taken_away_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = tmp_path / "icons" / "hicolor" / "48x48" / "apps" / "other.png"
    other.parent.mkdir(parents=True)
    other.write_bytes(b"not ours")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    assert run(["desktop", "install"]) == 0
    assert all(target.is_file() for target in files(tmp_path))
    entry = configparser.ConfigParser(interpolation=None)
    entry.read(tmp_path / "applications" / "swift-sample.desktop")
    launcher = entry["Desktop Entry"]
    assert launcher["Exec"].endswith("swift-sample open %f")
    assert Path(launcher["TryExec"]).is_absolute()
    assert "application/vnd.swift-sample.study+toml" in launcher["MimeType"]

    for size in ICON_SIZES:
        icon = QImage(
            str(tmp_path / "icons" / "hicolor" / f"{size}x{size}" / "apps" / "swift-sample.png")
        )
        assert (icon.width(), icon.height()) == (size, size)
        assert icon.pixelColor(size // 2, size // 2).alpha() > 0
        assert icon.pixelColor(0, size - 1).alpha() == 0

    kind = ET.parse(tmp_path / "mime" / "packages" / "swift-sample.xml").getroot()[0]
    assert kind.attrib["type"] in launcher["MimeType"]
    described = ET.parse(tmp_path / "metainfo" / "swift-sample.metainfo.xml").getroot()
    assert described.findtext("launchable") == "swift-sample.desktop"
    assert run(["desktop", "remove"]) == 0
    assert not any(target.exists() for target in files(tmp_path))
    assert other.read_bytes() == b"not ours"


def test_a_program_with_spaces_in_its_path_can_be_started(tmp_path: Path) -> None:
    install(tmp_path, "/opt/my programs/swift-sample")
    text = (tmp_path / "applications" / "swift-sample.desktop").read_text()
    assert 'Exec="/opt/my programs/swift-sample" open %f' in text
    assert "TryExec=/opt/my programs/swift-sample" in text
    assert len(remove(tmp_path)) == len(files(tmp_path))


def test_a_second_start_raises_the_window_that_is_open(
    window: MainWindow, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    assert not hand_over(None, False), "nobody is there"
    Path(address()).write_text("left by one that was killed")
    rung: list = []
    bell = Doorbell(lambda study, measure: rung.append((study, measure)), window)
    program = (
        "import sys; from pathlib import Path; from PyQt6.QtCore import QCoreApplication as "
        "A; a = A([])"
    )
    hand = (
        f"{program}; from swift_sample.ui.window.single import hand_over; sys.exit(not "
        "hand_over(Path('a.study'), True))"
    )
    other = subprocess.Popen([sys.executable, "-c", hand], cwd=tmp_path)
    qtbot.waitUntil(lambda: bool(rung), timeout=20_000)
    assert rung == [(tmp_path / "a.study", True)]
    assert other.wait(20) == 0
    bell.close()
    assert not hand_over(None, False)

"""A window with settings of its own, closed after each test."""

import os
from collections.abc import Iterator
from pathlib import Path

import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QSettings
from pytestqt.qtbot import QtBot

from swift_sample.app.session import wait_for_closed
from swift_sample.ui.window.application import make_application
from swift_sample.ui.window.shell import MainWindow


@pytest.fixture(scope="session")
def qapp_cls():
    return lambda arguments: make_application(arguments)


@pytest.fixture
def window(qtbot: QtBot, tmp_path: Path) -> Iterator[MainWindow]:
    made = MainWindow(QSettings(str(tmp_path / "window.ini"), QSettings.Format.IniFormat))
    made.show()
    yield made
    made.close()
    wait_for_closed(20)

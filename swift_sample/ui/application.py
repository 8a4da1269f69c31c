"""Starts the window."""

import logging
import signal
import sys
from pathlib import Path

from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QApplication

from swift_sample.core.study.store import PLAN
from swift_sample.ui.main_window import MainWindow
from swift_sample.ui.theme import DAY, DUSK, apply_theme, desktop_theme
from swift_sample.ui.verdict_strip import WingSign

SIGNAL_POLL_MILLISECONDS = 200


def make_application(arguments: list[str]) -> QApplication:
    """The one QApplication, with its names and icon."""
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(arguments)
    application.setApplicationName("swift-sample")
    application.setApplicationDisplayName("Swift Sample")
    application.setDesktopFileName("swift-sample")
    sign = WingSign(DAY, "pick", 64)
    pixmap = QPixmap(64, 64)
    pixmap.fill(DAY.colour("page", 0))
    sign.render(pixmap, flags=sign.RenderFlag(0))
    application.setWindowIcon(QIcon(pixmap))
    return application


def run_window(path: Path | None, measure: bool) -> int:
    """Show the window until it is closed; returns the exit status."""
    logging.basicConfig(level=logging.WARNING)
    application = make_application(sys.argv[:1])
    settings = QSettings("swift-sample", "swift-sample")
    apply_theme(application, {"day": DAY, "dusk": DUSK}.get(str(settings.value("theme", "")), desktop_theme()))
    window = MainWindow(settings)
    window.show()
    last = settings.value("last")
    if path is not None:
        opened = window.open_study(path)
        if opened and measure:
            window.measure()
    elif last and (Path(str(last)) / PLAN).is_file():
        window.open_study(Path(str(last)))
    # Python runs its signal handlers only between its own instructions, so it needs to be woken now and then.
    signal.signal(signal.SIGINT, lambda *_: window.close())
    signal.signal(signal.SIGTERM, lambda *_: window.close())
    wake = QTimer()
    wake.timeout.connect(lambda: None)
    wake.start(SIGNAL_POLL_MILLISECONDS)
    return application.exec()

"""Starts the window."""

import logging
import os
import signal
import subprocess
import sys
import threading
from pathlib import Path

from PyQt6.QtCore import (
    QMessageLogContext,
    QSettings,
    Qt,
    QTimer,
    QtMsgType,
    qInstallMessageHandler,
)
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QApplication

from swift_sample.app.session import wait_for_closed
from swift_sample.core.errors import plain
from swift_sample.core.log import catch_all, log_file, start_log
from swift_sample.core.study.log.store import is_study
from swift_sample.ui.strips.verdict import WingSign
from swift_sample.ui.theme import DAY, DUSK, apply_theme, desktop_theme
from swift_sample.ui.window.shell import MainWindow
from swift_sample.ui.window.single import Doorbell, hand_over

SIGNAL_POLL_MILLISECONDS = 200
CLOSING_SECONDS = 20.0
"""How long a study that is still at work may take to end when the program ends."""
SCREEN_VARIABLES = ("QT_QPA_PLATFORM", "WAYLAND_DISPLAY", "DISPLAY")
"""Of the surroundings; one of them has to name a screen."""
_started = threading.Event()
logger = logging.getLogger(__name__)


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
    start_log()
    catch_all()
    qInstallMessageHandler(log_qt)
    application = make_application(sys.argv[:1])
    _started.set()

    if hand_over(path, measure):
        return 0

    settings = QSettings("swift-sample", "swift-sample")
    apply_theme(
        application,
        {"day": DAY, "dusk": DUSK}.get(str(settings.value("theme", "")), desktop_theme()),
    )
    window = MainWindow(settings)
    window.asks_before_closing = True
    window.entrance.prepares_previews = True
    window.show()
    doorbell = Doorbell(lambda study, measured: _come_forward(window, study, measured), window)
    last = settings.value("last")

    if path is not None:
        _show(window, path, measure)
    elif last and is_study(Path(str(last))):
        window.open_study(Path(str(last)))

    # Python runs its signal handlers only between its own instructions, so it needs to be woken now
    # and then.
    signal.signal(signal.SIGINT, lambda *_: _end(window))
    signal.signal(signal.SIGTERM, lambda *_: _end(window))
    wake = QTimer()
    wake.timeout.connect(lambda: None)
    wake.start(SIGNAL_POLL_MILLISECONDS)
    hints = application.styleHints()

    if hints is not None:  # the desktop's own day and dusk, until another one is chosen here
        hints.colorSchemeChanged.connect(lambda _: window.follow_desktop())

    status = application.exec()
    doorbell.close()
    wait_for_closed(CLOSING_SECONDS)

    if window.background:
        quiet = subprocess.DEVNULL
        subprocess.Popen(
            window.background, stdin=quiet, stdout=quiet, stderr=quiet, start_new_session=True
        )

    return status


def _come_forward(window: MainWindow, study: Path | None, measure: bool) -> None:
    """What a later start asked for."""
    window.setWindowState(window.windowState() & ~Qt.WindowState.WindowMinimized)
    window.show()
    window.raise_()
    window.activateWindow()

    if study is not None:
        _show(window, study, measure)


def _show(window: MainWindow, path: Path, measure: bool) -> None:
    """Open a study, or begin with a scene."""
    if path.suffix.lower() in (".gltf", ".glb"):
        window.begin(str(path))
    else:
        window.open_study(path, measure)


def _end(window: MainWindow) -> None:
    """Close without asking: nobody may be there to answer."""
    window.asks_before_closing = False
    window.close()


def log_qt(kind: QtMsgType, context: QMessageLogContext, text: str | None) -> None:
    """Messages of Qt go to the log; its own handler is told nothing any more. Where Qt gives up
    before there is a window, it would end the process with a signal; that it cannot show one is
    said in a sentence instead."""
    level = {
        QtMsgType.QtWarningMsg: logging.WARNING,
        QtMsgType.QtCriticalMsg: logging.ERROR,
        QtMsgType.QtFatalMsg: logging.CRITICAL,
    }.get(kind, logging.DEBUG)
    logger.log(level, "Qt: %s", text)

    if kind == QtMsgType.QtFatalMsg and not _started.is_set():
        print(f"swift-sample: {_no_window()}", file=sys.stderr, flush=True)
        os._exit(1)


def _no_window() -> str:
    named = [
        f"{name}={plain(os.environ[name], 60)}" for name in SCREEN_VARIABLES if os.environ.get(name)
    ]
    return (
        f"no window can be shown with {', '.join(named)}; correct that, or use the commands, which "
        f"need no screen (the reason stands in {log_file()})"
    )

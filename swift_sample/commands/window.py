"""Opens the window, where there is a display for one."""

import os
import sys
from pathlib import Path

from swift_sample.core.errors import SwiftSampleError, one_line


def open_window(path: Path | None, measure: bool = False) -> int:
    try:
        from swift_sample.ui.window.application import run_window
    except ImportError as error:
        raise SwiftSampleError(
            f"the window cannot start ({one_line(error)}); `make setup` installs what it needs"
        ) from error

    if sys.platform == "linux" and not any(
        os.environ.get(v) for v in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    ):
        raise SwiftSampleError(
            "there is no display; `swift-sample demo --headless` and `run` work without one"
        )

    return run_window(path, measure)

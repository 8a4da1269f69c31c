"""What commands share: words on standard error, one line of progress, interrupts, and values as
they are written."""

import math
import os
import shlex
import signal
import sys
import threading
import time
from datetime import datetime
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any

import click

from swift_sample.core.errors import StudyError, UsageError, plain

if TYPE_CHECKING:
    from swift_sample.core.settings import Catalogue, Value

MAX_SIDE = 16384


class Size(click.ParamType):  # type: ignore[type-arg]
    name = "WxH"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[int, int]:
        if isinstance(value, tuple):
            return value

        width, _, height = str(value).partition("x")
        if (
            width.isdigit()
            and height.isdigit()
            and 1 <= int(width) <= MAX_SIDE
            and 1 <= int(height) <= MAX_SIDE
        ):
            return int(width), int(height)

        raise UsageError(f"size={value}: expected WIDTHxHEIGHT, each from 1 to {MAX_SIDE}")


class Span(click.ParamType):  # type: ignore[type-arg]
    """A time: seconds, or minutes and hours with their letter."""

    name = "TIME"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        text = str(value).strip().lower()
        unit = {"s": 1, "m": 60, "h": 3600}.get(text[-1:], 0)

        try:
            seconds = float(text[:-1] if unit else text) * (unit or 1)
        except ValueError:
            seconds = 0.0

        if not 0 < seconds < math.inf:
            raise UsageError(
                f"time={value}: expected seconds, or a number with s, m or h, as in 10m"
            )

        return seconds


OFTEN_SECONDS = 0.5
"""Between changes of the line of progress, where many things change."""
SELDOM = 20.0
"""How many times as long as finding out what to show the pause after it is."""
SPARSE_SECONDS = 60.0
"""Between lines of progress where nobody looks on."""


class Terminal:
    """One line of progress on a terminal; elsewhere a dated line now and then."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self.doing = ""
        self._said = ""
        self._next = time.monotonic() + SPARSE_SECONDS
        self._soonest = 0.0

    def may_show(self) -> bool:
        """Whether a line that changes often may be shown again."""
        now = time.monotonic()
        if now < self._soonest:
            return False

        self._soonest = now + OFTEN_SECONDS
        return True

    def took(self, seconds: float) -> None:
        """So long it took to find out what to show: that is not done all the time."""
        self._soonest = max(self._soonest, time.monotonic() + SELDOM * seconds)

    def start(self, text: str) -> None:
        self.doing = text
        self.show(text)

    def tell(self, text: str) -> None:
        """How far the work is: where nobody looks on, with the time of day and once a minute."""
        if not self._live and time.monotonic() >= self._next:
            self._next = time.monotonic() + SPARSE_SECONDS
            say(f"{datetime.now():%Y-%m-%d %H:%M:%S} {text}")

    def show(self, text: str) -> None:
        if self._live:
            sys.stderr.write(f"\r\x1b[K{text[:100]}")
            sys.stderr.flush()

    def keep(self, text: str) -> None:
        """Show a line that stays."""
        if self._live:
            sys.stderr.write(f"\r\x1b[K{text}\n")
            sys.stderr.flush()

    def once(self, text: str) -> None:
        """Say a line that stays, on a terminal or not, unless it was the last such line."""
        if text != self._said:
            self._said = text
            self.clear()
            say(text)

    def clear(self) -> None:
        if self._live:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()


class Interrupts:
    """Within it, an interrupt or a request to end calls `stop` instead of killing the process."""

    def __init__(self, stop) -> None:  # type: ignore[no-untyped-def]
        self._stop = stop
        self._before: dict[signal.Signals, Any] = {}

    def __enter__(self) -> None:
        if threading.current_thread() is threading.main_thread():
            for number in (signal.SIGINT, signal.SIGTERM):
                self._before[number] = signal.signal(number, self._on_signal)

    def __exit__(self, *_: object) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)

    def _on_signal(self, number: int, frame: FrameType | None) -> None:
        self._stop()


def quoted(path: object) -> str:
    """A path as it can be typed in a shell."""
    return shlex.quote(str(path))


def check_writable(path: Path) -> None:
    """Find out that a file cannot be written before the work, not after it. Raises StudyError."""
    if path.is_dir():
        raise StudyError(f"{path}: is a folder; give the name of a file")
    if not path.parent.is_dir():
        raise StudyError(
            f"{path}: cannot be written (there is no folder {path.parent}); make it first"
        )
    if not os.access(path if path.exists() else path.parent, os.W_OK):
        raise StudyError(f"{path}: cannot be written (permission denied); choose another place")


def finite(value: float) -> float | None:
    return value if abs(value) != float("inf") and value == value else None


def say(text: str) -> None:
    print("\n".join(plain(line) for line in text.splitlines()), file=sys.stderr)


def changes_of(changes: tuple[str, ...], catalogue: "Catalogue") -> "dict[str, Value]":
    """Values of settings by their keys, as they were typed. Raises UsageError."""
    values: dict[str, Value] = {}
    for change in changes:
        key, equals, text = change.partition("=")
        if not equals:
            raise UsageError(f"--set {change}: expected KEY=VALUE")
        values[key.strip()] = catalogue.setting(key.strip()).parse(text)

    return values

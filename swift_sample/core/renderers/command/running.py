"""Starting a program without a shell, watching it, and ending it with all that it started."""

import os
import resource
import select
import subprocess
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import psutil

from swift_sample.core.errors import RendererError, RenderStoppedError, plain
from swift_sample.core.renderers.command.keeper import Ended, begin_below_a_keeper

KEPT_LINES = 200
LINE_CHARACTERS = 2000
FIRST_LOOK = 0.02
LONGEST_LOOK = 0.25
"""Seconds between looks at memory and files: often at first, since many renders are short."""
KEEPER_SECONDS = 10.0
"""How long a keeper may take to end what a program left."""


@dataclass(frozen=True)
class Bounds:
    """What a program may take before it is ended; None for no bound."""

    seconds: float
    memory_bytes: float | None = None
    output_bytes: float | None = None


@dataclass(frozen=True, kw_only=True)
class Ran:
    """A program that ran to its end. Times and memory are those of all processes that it started;
    memory is the most at any look."""

    status: int
    seconds: float
    processor_seconds: float
    peak_memory_bytes: int
    lines: tuple[str, ...]
    left_behind: int
    """processes that were still there when it had ended, and were ended then"""

    @property
    def last_words(self) -> str:
        """The last line that it printed, for people; "" for none."""
        return next((plain(line, 160) for line in reversed(self.lines) if line.strip()), "")


class _Listener(threading.Thread):
    """Reads what a program prints, line by line, as it arrives."""

    def __init__(self, stream: int, began: float, heard: Callable[[float, str], None]) -> None:
        super().__init__(name="listener", daemon=True)
        self._stream = stream
        self._began = began
        self._heard = heard
        self.lines: deque[str] = deque(maxlen=KEPT_LINES)
        self.bytes = 0

    def run(self) -> None:
        rest = b""
        while True:
            try:
                block = os.read(self._stream, 1 << 16)
            except OSError:
                break

            if not block:
                break

            at = time.perf_counter() - self._began
            self.bytes += len(block)
            *lines, rest = (rest + block).replace(b"\r", b"\n").split(b"\n")
            rest = rest[:LINE_CHARACTERS]
            for line in lines:
                self._take(at, line)

        if rest:
            self._take(time.perf_counter() - self._began, rest)

    def _take(self, at: float, line: bytes) -> None:
        text = line[:LINE_CHARACTERS].decode("utf-8", "replace")
        self.lines.append(text)
        self._heard(at, text)


def run_program(
    command: Sequence[str],
    folder: Path,
    environment: Mapping[str, str],
    bounds: Bounds,
    watched: Path | None = None,
    heard: Callable[[float, str], None] = lambda at, line: None,
    stopping: threading.Event | None = None,
) -> Ran:
    """Run a program to its end; `heard` is told its output lines with the seconds since it began,
    `watched` is the folder whose files count as its output. Nothing that it started outlives it,
    also what left its session and forgot who it was.

    Raises RenderStoppedError where `stopping` is set meanwhile, RendererError where it cannot be
    started or takes more than its bounds.
    """
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    reading, writing = os.pipe()
    began = time.perf_counter()

    try:
        keeper = subprocess.Popen(
            list(command),
            cwd=folder,
            env={**os.environ, **environment},
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            start_new_session=True,
            preexec_fn=partial(begin_below_a_keeper, os.getpid(), writing),
        )
    except (OSError, ValueError) as error:
        os.close(reading)
        words = getattr(error, "strerror", None) or str(error)
        raise RendererError(
            f"{plain(command[0], 160)}: cannot be started ({words}); check command in the "
            "renderer file"
        ) from error
    finally:
        os.close(writing)

    assert keeper.stdout is not None
    listener = _Listener(keeper.stdout.fileno(), began, heard)
    listener.start()

    try:
        peak, reason = _watch(keeper, reading, listener, began, bounds, watched, stopping)
        seconds = time.perf_counter() - began
    finally:
        ended = _end_all(keeper, reading)
        os.close(reading)
        listener.join(1.0)
        keeper.stdout.close()

    if stopping is not None and stopping.is_set():
        raise RenderStoppedError("the render was stopped")
    if reason:
        raise RendererError(reason)

    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    spent = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return Ran(
        status=ended.status,
        seconds=seconds,
        processor_seconds=spent,
        peak_memory_bytes=max(peak, 1),
        lines=tuple(listener.lines),
        left_behind=ended.left_behind,
    )


def _watch(
    keeper: "subprocess.Popen[bytes]",
    reading: int,
    listener: _Listener,
    began: float,
    bounds: Bounds,
    watched: Path | None,
    stopping: threading.Event | None,
) -> tuple[int, str]:
    """Wait for the end: the most memory that was seen, and why it has to be ended, "" where it
    ended by itself."""
    look = FIRST_LOOK
    peak = 0
    waiting = select.poll()
    waiting.register(reading, select.POLLIN)

    while not waiting.poll(1000 * look):
        look = min(LONGEST_LOOK, 1.3 * look)
        if stopping is not None and stopping.is_set():
            return peak, "stopped"

        peak = max(peak, _memory(keeper.pid))
        written = listener.bytes + (
            _bytes_in(watched) if watched is not None and bounds.output_bytes else 0
        )
        taken = time.perf_counter() - began

        if taken > bounds.seconds:
            return (
                peak,
                (
                    f"it was ended after {taken:.0f} s, more than the {bounds.seconds:g} s that "
                    "its file allows"
                ),
            )
        if bounds.memory_bytes is not None and peak > bounds.memory_bytes:
            return (
                peak,
                f"it was ended at {peak / 2**20:.0f} MiB of memory, more than its file allows",
            )
        if bounds.output_bytes is not None and written > bounds.output_bytes:
            return (
                peak,
                (
                    f"it was ended when it had written {written / 2**20:.0f} MiB, more than its "
                    "file allows"
                ),
            )

    return peak, ""


def _memory(pid: int) -> int:
    """Bytes that all that a keeper started hold now."""
    try:
        processes = psutil.Process(pid).children(recursive=True)
    except psutil.Error:
        return 0

    held = 0
    for one in processes:
        try:
            held += one.memory_info().rss
        except psutil.Error:
            continue

    return held


def _bytes_in(folder: Path) -> int:
    held = 0
    for place, _, names in os.walk(folder):
        for name in names:
            try:
                held += os.lstat(os.path.join(place, name)).st_size
            except OSError:
                continue

    return held


def _end_all(keeper: "subprocess.Popen[bytes]", reading: int) -> Ended:
    """Have a program's keeper end, with all that the program started; returns what it told."""
    told = b""
    if not select.select([reading], [], [], 0)[0]:
        keeper.terminate()

    try:
        keeper.wait(KEEPER_SECONDS)
    except subprocess.TimeoutExpired:  # somebody stopped it
        keeper.kill()
        keeper.wait()

    while block := os.read(reading, 256):
        told += block

    return Ended.from_line(told)

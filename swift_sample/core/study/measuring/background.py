"""Measuring that goes on without a window: how it is started, found again, and taken over by
whoever opens the study."""

import os
import signal
import sys
import time
from pathlib import Path

from swift_sample.core.study.log.folder import study_folder

NOTIFIES = "--notify"
"""What tells a run in the background from one that a person watches in a terminal."""
KINDS = ("run", "search")
LOCKS = Path("/proc/locks")
LOOK_SECONDS = 0.1


def command_of(kind: str, study: Path) -> tuple[str, ...]:
    """The command that measures a study in the background; `kind` is one of KINDS."""
    return (sys.executable, "-m", "swift_sample.cli", kind, str(study), NOTIFIES)


def found(study: Path) -> tuple[int, str] | None:
    """The process that measures a study in the background, and which of KINDS it does; None where
    there is none.

    The system itself says who holds the study's lock (proc(5), /proc/locks), so no file can name
    another program.
    """
    try:
        lock = os.stat(study_folder(study) / ".lock")
        held = [line.split() for line in LOCKS.read_text().splitlines()]
    except OSError:
        return None

    device = f"{os.major(lock.st_dev):02x}:{os.minor(lock.st_dev):02x}:{lock.st_ino}"
    for fields in held:
        if len(fields) > 5 and fields[1] == "FLOCK" and fields[5] == device and fields[4].isdigit():
            kind = _kind(int(fields[4]))
            if kind:
                return int(fields[4]), kind

    return None


def _kind(process: int) -> str:
    """What a process measures in the background; "" where it is another program."""
    try:
        words = Path(f"/proc/{process}/cmdline").read_bytes().decode(errors="replace").split("\0")
    except OSError:
        return ""

    if NOTIFIES not in words or not any(
        "swift_sample" in word or "swift-sample" in word for word in words
    ):
        return ""

    return next((word for word in words if word in KINDS), "")


def take_over(study: Path, process: int, longest_seconds: float = 60.0) -> bool:
    """Ask the process that measures a study in the background to end, which loses the run in hand;
    whether it did."""
    deadline = time.monotonic() + longest_seconds
    try:
        os.kill(process, signal.SIGINT)
    except OSError:
        return found(study) is None

    while found(study) is not None:
        if time.monotonic() > deadline:
            return False
        time.sleep(LOOK_SECONDS)

    return True

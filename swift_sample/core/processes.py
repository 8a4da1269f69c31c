"""Processes that do not outlive the one that started them."""

import ctypes
import os
import signal

_SET_PARENT_DEATH_SIGNAL = 1


def end_with_parent(parent: int | None = None) -> None:
    """Have the system end this process as soon as the thread that started it ends, in whatever way (prctl(2),
    PR_SET_PDEATHSIG). Where the process `parent` that started it has ended by now, this one ends at once."""
    ctypes.CDLL(None, use_errno=True).prctl(_SET_PARENT_DEATH_SIGNAL, signal.SIGKILL, 0, 0, 0)
    if parent is not None and os.getppid() != parent:
        os._exit(1)

"""Processes that do not outlive the one that started them."""

import ctypes
import os
import signal

_SET_PARENT_DEATH_SIGNAL = 1


def end_with_parent() -> None:
    """Have the system end this process as soon as the thread that started it ends, in whatever way (prctl(2),
    PR_SET_PDEATHSIG)."""
    parent = os.getppid()
    ctypes.CDLL(None, use_errno=True).prctl(_SET_PARENT_DEATH_SIGNAL, signal.SIGKILL, 0, 0, 0)
    if os.getppid() != parent or parent == 1:  # it ended before the system was told
        os._exit(1)

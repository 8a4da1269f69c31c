"""Processes that do not outlive the one that started them, and do not take all memory."""

import ctypes
import os
import resource
import signal

_SET_PARENT_DEATH_SIGNAL = 1


def end_with_parent(parent: int, by: signal.Signals = signal.SIGKILL) -> None:
    """Have the system send this process a signal as soon as the thread that started it ends, in
    whatever way (prctl(2), PR_SET_PDEATHSIG). Where the process `parent` that started it has ended
    by now, this one ends at once."""
    ctypes.CDLL(None, use_errno=True).prctl(_SET_PARENT_DEATH_SIGNAL, by, 0, 0, 0)
    if os.getppid() != parent:
        os._exit(1)


def limit_memory() -> None:
    """Let this process have at most the machine's memory, so that what it asks for beyond fails in
    it as a MemoryError, instead of making the system end some program or other (setrlimit(2),
    RLIMIT_DATA). A lower limit stays."""
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    soft, hard = resource.getrlimit(resource.RLIMIT_DATA)
    wanted = min(
        memory, *(limit for limit in (soft, hard) if limit != resource.RLIM_INFINITY), memory
    )
    resource.setrlimit(resource.RLIMIT_DATA, (wanted, hard))

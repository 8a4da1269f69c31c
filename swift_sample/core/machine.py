"""What this machine is, and how busy it is."""

import contextlib
import os
import platform
import time
from dataclasses import asdict, dataclass
from functools import cache
from importlib.metadata import version
from pathlib import Path

import psutil

from swift_sample import __version__

QUIET_SHARE = 0.05
BUSY_SHARE = 0.15
"""Other programs may use up to this share of the processor before the machine counts as busy."""


@dataclass(frozen=True, kw_only=True)
class Machine:
    """Times of different machines are never mixed: hardware and system make a machine's identity.
    Versions of software are recorded beside every run, and differences are told, but they hide
    nothing."""

    processor: str
    cores: int
    threads: int
    memory_bytes: int
    system: str
    versions: str

    def hardware(self) -> dict[str, object]:
        """What makes it this machine and no other."""
        return {key: value for key, value in asdict(self).items() if key != "versions"}


@cache
def computer() -> str:
    """Which computer this is: the same for all that run on it, until it is started anew (proc(5),
    boot_id)."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    except OSError:
        return platform.node()


def seconds_asleep() -> float:
    """Seconds for which this machine was suspended since it started: one clock counts them, the
    other does not (clock_gettime(2), CLOCK_BOOTTIME and CLOCK_MONOTONIC)."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) - time.clock_gettime(time.CLOCK_MONOTONIC)


def available_processors() -> int:
    """How many threads can run at once."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def this_machine() -> Machine:
    """The machine that this process runs on."""
    threads = available_processors()
    versions = (
        f"Swift Sample {__version__}, Python {platform.python_version()}, NumPy "
        f"{version('numpy')}, Numba {version('numba')}"
    )

    return Machine(
        processor=_processor_name(),
        cores=psutil.cpu_count(logical=False) or threads,
        threads=threads,
        memory_bytes=psutil.virtual_memory().total >> 30 << 30,
        system=f"{platform.system()} {platform.machine()}",
        versions=versions,
    )


def _processor_name() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                return line.partition(":")[2].strip()
    except OSError:
        pass

    return platform.processor() or "unknown processor"


class LoadMeter:
    """The processor time that other programs used between `start` and `share`, as a share of all
    threads that this process may use."""

    def __init__(self) -> None:
        self._before = self._now()

    @staticmethod
    def _now() -> tuple[float, float, float]:
        busy = 0.0
        each = psutil.cpu_times(percpu=True)
        own = os.sched_getaffinity(0) if hasattr(os, "sched_getaffinity") else range(len(each))

        for times in (each[number] for number in own if number < len(each)):
            idle = times.idle + getattr(times, "iowait", 0.0)
            busy += (
                sum(times) - idle - getattr(times, "guest", 0.0) - getattr(times, "guest_nice", 0.0)
            )

        return time.monotonic(), busy, time.process_time()

    def share(self, of_ours: float = 0.0) -> float:
        """From 0 (quiet) to 1 (all threads taken by others); `of_ours` are the processor seconds of
        programs that this one started."""
        elapsed, busy, own = (
            now - before for now, before in zip(self._now(), self._before, strict=True)
        )
        own += of_ours
        threads = available_processors()

        return min(1.0, max(0.0, (busy - own) / max(elapsed * threads, 1e-9)))


def reset_peak_memory() -> None:
    """Start the peak memory of this process anew, where the system allows it."""
    with contextlib.suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5")


def peak_memory_bytes() -> int:
    """The most memory this process held since `reset_peak_memory`."""
    try:
        for line in Path("/proc/self/status").read_text().splitlines():
            if line.startswith("VmHWM"):
                return int(line.split()[1]) * 1024
    except OSError:
        pass

    return int(psutil.Process().memory_info().rss)

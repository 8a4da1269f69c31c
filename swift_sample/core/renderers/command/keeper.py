"""A program's keeper: a process above it, to which all comes that the program starts, and which
ends all of it."""

import ctypes
import os
import signal
from contextlib import suppress
from dataclasses import dataclass
from typing import NoReturn

import psutil

from swift_sample.core.processes import end_with_parent

ROUNDS = 50
"""How often what is left is ended, since processes may start others while they are ended."""
SOON_SECONDS = 0.1
"""How long a round waits for those that it ended."""
_SUBREAPER = 36
"""prctl(2), PR_SET_CHILD_SUBREAPER"""


@dataclass(frozen=True)
class Ended:
    """How a program ended: `status` as `subprocess.Popen.returncode` has it, and how many processes
    were still there when it had ended, and were ended then."""

    status: int
    left_behind: int

    @staticmethod
    def from_line(line: bytes) -> "Ended":
        """What a keeper wrote; of one that was ended itself, that it was."""
        numbers = line.split()
        if len(numbers) != 2:
            return Ended(-signal.SIGKILL, 0)

        return Ended(int(numbers[0]), int(numbers[1]))


def begin_below_a_keeper(parent: int, writing: int) -> None:
    """Between fork and exec: go on in a process of its own below this one, which stays as its
    keeper and writes how the program ended to the pipe `writing`.

    Whatever the program starts comes to the keeper when its own parent ends, in whichever session
    and surroundings it is. So what is below the keeper is the program's and nobody else's, and the
    keeper ends it: once the program has ended, when it is asked to by SIGTERM, and when the thread
    of `parent` that started it ends.
    """
    ctypes.CDLL(None, use_errno=True).prctl(_SUBREAPER, 1, 0, 0, 0)
    keeper = os.getpid()
    program = os.fork()

    if program == 0:
        signal.signal(
            signal.SIGINT, signal.SIG_DFL
        )  # the worker ignores it, and a program inherits that
        end_with_parent(keeper)
        return

    _keep(program, parent, writing)


def _keep(program: int, parent: int, writing: int) -> NoReturn:
    def leave(*_: object) -> None:
        _end_all_below()
        os._exit(1)

    try:
        signal.signal(signal.SIGTERM, leave)
        end_with_parent(parent, signal.SIGTERM)
        os.closerange(0, writing)  # all else is the program's, whose output ends with it
        os.closerange(writing + 1, os.sysconf("SC_OPEN_MAX"))

        ended, told = os.wait()
        while ended != program:
            ended, told = os.wait()

        status = os.waitstatus_to_exitcode(told)
        os.write(writing, b"%d " % status)
        os.write(writing, b"%d\n" % _end_all_below())
    finally:
        os._exit(0)


def _end_all_below() -> int:
    """End all processes below this one; returns how many there were at most at a time."""
    most = 0
    keeper = psutil.Process()

    for _ in range(ROUNDS):
        alive = [one for one in keeper.children(recursive=True) if _is_alive(one)]
        most = max(most, len(alive))

        for one in alive:
            with suppress(psutil.Error):
                one.kill()

        with suppress(ChildProcessError):
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass

        if not alive:
            break

        psutil.wait_procs(alive, timeout=SOON_SECONDS)

    return most


def _is_alive(one: psutil.Process) -> bool:
    try:
        return one.status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False

"""The meeting place of machines, and joining it: what `swift-sample machines` does."""

import asyncio
import os
import signal
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from swift_sample.core.errors import StudyError, UsageError, one_line
from swift_sample.core.machines import agent
from swift_sample.core.machines.engine import (
    LOOPBACK_PAGES,
    checked_address,
    listening_host,
    prepare,
    security,
)

THREADS = 4
"""Of a machine's process: one waits for the renderer, the others take in files and say what goes
on."""
AGAIN_SECONDS = 2.0
"""How long a machine that lost its meeting place waits before it looks for it again."""
STOPPED = "stopped"

Say = Callable[[str], None]


@dataclass(frozen=True)
class Present:
    """A machine that is there. `doing` is what it has in hand, "" for nothing."""

    name: str
    address: str
    doing: str


def meet(
    address: str,
    keys: Path | None,
    unprotected: bool,
    say: Say,
    began: Callable[[str], None] = lambda at: None,
) -> None:
    """Hold a meeting place at an address until SIGINT or SIGTERM, or until it is stopped from
    elsewhere. `began` is told the address once machines can join. Raises UsageError, StudyError
    where the address is taken."""
    prepare()
    asyncio.run(_meet(checked_address(address, keys, unprotected), keys, say, began))


async def _meet(address: str, keys: Path | None, say: Say, began: Callable[[str], None]) -> None:
    from distributed import Scheduler

    parts = urlsplit(address)
    assert parts.port is not None

    try:
        scheduler = await Scheduler(
            host=parts.hostname,
            port=parts.port,
            protocol=parts.scheme,
            security=security(keys),
            dashboard=False,
            dashboard_address=LOOPBACK_PAGES,
        )
    except OSError as error:
        raise StudyError(
            f"{address}: machines cannot meet there ({one_line(error)}); choose another port"
        ) from error

    ended = asyncio.Event()
    _on_signals(ended.set)
    say(
        f"machines meet at {scheduler.address}; on each: swift-sample machines join "
        f"{scheduler.address}"
    )
    began(scheduler.address)
    _, pending = await asyncio.wait(
        [asyncio.ensure_future(ended.wait()), asyncio.ensure_future(scheduler.finished())],
        return_when=asyncio.FIRST_COMPLETED,
    )
    for task in pending:
        task.cancel()

    await scheduler.close()


def join(
    address: str,
    name: str,
    keys: Path | None,
    unprotected: bool,
    processors: Iterable[int],
    say: Say,
) -> None:
    """Be one of the machines until SIGINT or SIGTERM, or until all are stopped; whenever the
    meeting place is lost, look for it again. Only these `processors` of this computer are used, all
    of them where none are given. Raises UsageError."""
    prepare()
    checked = checked_address(address, keys, unprotected)
    wanted = frozenset(processors)
    own = os.sched_getaffinity(0)

    if not wanted <= own:
        missing = ", ".join(str(number) for number in sorted(wanted - own))
        raise UsageError(
            f"--processors: there is no processor {missing} here; there are {min(own)} to "
            f"{max(own)}"
        )

    if wanted:
        os.sched_setaffinity(0, wanted)

    asyncio.run(_join(checked, name, keys, say))


async def _join(address: str, name: str, keys: Path | None, say: Say) -> None:
    ended = asyncio.Event()
    _on_signals(ended.set)
    told = ""

    while not ended.is_set():
        words = await _stay(address, name, keys, ended, say)
        if words == STOPPED:
            return

        if words != told:
            say(f"{words}; trying again every {AGAIN_SECONDS:.0f} s")
            told = words

        with suppress(TimeoutError):
            await asyncio.wait_for(ended.wait(), AGAIN_SECONDS)


async def _stay(address: str, name: str, keys: Path | None, ended: asyncio.Event, say: Say) -> str:
    """Join once and stay as long as the meeting place is there; returns why it was left."""
    from distributed import Worker

    try:
        worker = Worker(
            address,
            nthreads=THREADS,
            name=name,
            security=security(keys),
            memory_limit=0,
            host=listening_host(address),
            dashboard=False,
            dashboard_address=LOOPBACK_PAGES,
            local_directory=str(agent.scratch()),
            death_timeout=10,
        )
        await worker
    except (OSError, TimeoutError, ValueError, RuntimeError) as error:
        reason = one_line(error.__cause__ or error)
        if "name" in reason and "taken" in reason:
            raise UsageError(
                f"{name}: another machine has this name; choose one with --name"
            ) from error
        return f"{address}: no machines meet there yet ({reason[:120]})"

    say(f"{name} has joined {address}")
    stay = asyncio.ensure_future(worker.finished())
    leave = asyncio.ensure_future(ended.wait())
    stop = asyncio.ensure_future(asyncio.to_thread(agent.asked_to_leave.wait))
    await asyncio.wait([stay, leave, stop], return_when=asyncio.FIRST_COMPLETED)
    agent.end()
    stopped = ended.is_set() or agent.asked_to_leave.is_set()
    agent.asked_to_leave.set()
    for task in (stay, leave, stop):
        task.cancel()

    with suppress(Exception):
        await worker.close(timeout=2)

    if not stopped:
        agent.asked_to_leave.clear()

    return STOPPED if stopped else f"{address}: the meeting place is gone"


def _on_signals(end: Callable[[], None]) -> None:
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, end)


def present(address: str, keys: Path | None, unprotected: bool) -> list[Present]:
    """Who is there. Raises UsageError, StudyError where nobody answers."""
    with _client(address, keys, unprotected) as client:
        workers = client.scheduler_info(n_workers=-1)["workers"]
        doing = client.run(agent.doing) if workers else {}
        return [
            Present(str(told["name"]), at, str(doing.get(at, ""))) for at, told in workers.items()
        ]


def stop(address: str, keys: Path | None, unprotected: bool) -> int:
    """Send all machines home and end the meeting place; returns how many there were. Raises what
    `present` raises."""
    with _client(address, keys, unprotected) as client:
        workers = client.scheduler_info(n_workers=-1)["workers"]
        if workers:
            client.run(agent.leave)
        with suppress(Exception):
            client.shutdown()

        return len(workers)


def _client(address: str, keys: Path | None, unprotected: bool) -> Any:
    prepare()
    from distributed import Client

    checked = checked_address(address, keys, unprotected)
    try:
        return Client(checked, security=security(keys), timeout=5, set_as_default=False)
    except (OSError, TimeoutError, ValueError) as error:
        raise StudyError(
            f"{checked}: no machines can be reached there ({one_line(error)[:160]}); begin "
            "with `swift-sample machines start`"
        ) from error

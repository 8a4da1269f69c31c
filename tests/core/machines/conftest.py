"""A meeting place, and studies of a renderer whose times and noise are known."""

import os
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.registry import RENDERERS
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.plan.model import Study, Sweep
from tests.core.machines.meeting import Meeting
from tests.core.renderers.known import BATCH, COUNT, SEEDED
from tests.core.study.states import only_limits

ENGINES_OWN = ("IO loop", "Dask", "TCP-Executor", "Profile", "asyncio")
"""Threads that the engine keeps for as long as the process lives."""


@pytest.fixture(autouse=True)
def no_threads_left() -> Iterator[None]:
    before = set(threading.enumerate())
    yield
    deadline = time.monotonic() + 10
    left = ["?"]

    while left and time.monotonic() < deadline:
        time.sleep(0.02)
        left = [
            t.name
            for t in threading.enumerate()
            if t not in before and not t.name.startswith(ENGINES_OWN)
        ]

    assert not left, f"threads left behind: {left}"


@pytest.fixture
def meeting(tmp_path: Path) -> Iterator[Meeting]:
    if len(os.sched_getaffinity(0)) < 2:
        pytest.skip("two machines need two processors")

    (tmp_path / "meeting").mkdir()
    with Meeting(tmp_path / "meeting") as made:
        yield made


@pytest.fixture
def plan() -> Study:
    base = Configuration(SEEDED.catalogue, {COUNT.key: 64})
    sweeps = (Sweep("one at a time", {COUNT.key: (4, 16, 64), BATCH.key: (1, 4)}),)

    return Study(
        name="Seeded",
        scene="wall",
        size=(32, 18),
        view=View(),
        base=base,
        repeats=3,
        sweeps=sweeps,
        limits=only_limits(grain=20.0, rms=20.0),
    )


@pytest.fixture
def open_study(
    tmp_path: Path, plan: Study, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Callable[..., Driver]]:
    """Opens a study of the plan, with changes, once for each name."""
    monkeypatch.setitem(RENDERERS, "seeded", lambda: SEEDED)
    opened: list[Driver] = []

    def open_(name: str = "a", **changes: object) -> Driver:
        path = tmp_path / f"{name}.study"
        if not path.exists():
            create_study(path, replace(plan, **changes))

        opened.append(Driver(Store.open(path)))
        return opened[-1]

    yield open_
    for driver in opened:
        driver.close()

"""A thousand machines on one study, simulated: the real driver, policies, state and log on disk; no
rendering, times and figures drawn from measured ones. Virtual time goes from one event to the next;
the driver's own work is real processor time.

`SCALE_SIZES="10x500 100x2000" python -m benchmarks scale`; trials in hundreds of five
"""

import heapq
import itertools
import math
import os
import queue
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.speed.study import large_study, record
from swift_sample.core.machines.messages import Card
from swift_sample.core.machines.news import Joined
from swift_sample.core.measure.kinds import KINDS
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.crew import STARTING
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.joined import FleetStretch
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.worker.messages import (
    ChunkJob,
    ChunkRendered,
    Measured,
    MeasureJob,
    Ready,
    ReferenceExtended,
    ReferenceJob,
    Rendered,
    RenderJob,
    WarmUpJob,
)

SIZES = ((10, 500), (100, 2000), (1000, 5000))
SAMPLE_SECONDS = 0.66
"""Of one sample a pixel of the demo at 1280x720 on four threads: it takes 0.33 s at 640x360 on
two."""
SCATTER = 0.02
MEASURE_SECONDS = 0.5
MERGE_SECONDS = 0.5
CHUNK_SECONDS = 40.0
"""At 1280x720: comparing three pictures, merging two, and a chunk of 128 samples."""
LEAVING = 0.01
"""Share of machines that leave while they work."""
HARDWARE = {
    "processor": "simulated",
    "cores": 8,
    "threads": 16,
    "memory_bytes": 1 << 35,
    "system": "Linux x86_64",
}


class Virtual:
    """Time that goes from event to event; an inbox whose waiting costs none of it."""

    def __init__(self) -> None:
        self.now = 0.0
        self._events: list[tuple[float, int, Callable[[], None]]] = []
        self._count = itertools.count()
        self._messages = queue.SimpleQueue[Any]()
        self.busy = 0.0

    def clock(self) -> float:
        return self.now

    def after(self, seconds: float, work: Callable[[], None]) -> None:
        heapq.heappush(self._events, (self.now + seconds, next(self._count), work))

    def put(self, message: Any) -> None:
        self._messages.put(message)

    def get(self, timeout: float) -> Any:
        end = self.now + timeout
        while self._messages.empty():
            if not self._events or self._events[0][0] > end:
                self.now = end
                raise queue.Empty

            self.now, _, work = heapq.heappop(self._events)
            work()

        return self._messages.get()


class Link:
    """A simulated machine."""

    pid = None
    content = None
    version = ""

    def __init__(self, fleet: "SimulatedFleet", name: str) -> None:
        self._fleet = fleet
        self.name = name
        self._job = 0
        self.is_gone = False

    def send(self, request: Any, checks: object = None) -> None:
        self._job += 1
        began = time.process_time()
        seconds, reply = self._fleet.answer(request)
        self._fleet.spent += (
            time.process_time() - began
        )  # making answers up is not the driver's work

        if self.name:
            self._fleet.time.busy += seconds

        self._fleet.time.after(seconds, lambda job=self._job: self._reply(job, reply))  # type: ignore[misc]

    def _reply(self, job: int, reply: Any) -> None:
        if job == self._job and not self.is_gone:
            self._fleet.on_reply(self, reply)

    def leave(self) -> None:
        self.is_gone = True
        self._fleet.on_reply(self, None)

    def stop_job(self) -> None: ...
    def kill(self) -> None: ...
    def close(self) -> None: ...

    def was_paused(self) -> bool:
        return False

    def exit_words(self) -> str:
        return f"{self.name} left"


class SimulatedFleet:
    address = "simulated"

    def __init__(self, machines: int, virtual: Virtual) -> None:
        self.time = virtual
        self._machines = machines
        self._rng = np.random.default_rng(3)
        self.spent = 0.0

    def open(
        self,
        renderer: Any,
        study: str,
        on_reply: Callable[[Any, Any], None],
        tell: Callable[[Any], None],
    ) -> None:
        self.on_reply = on_reply
        for number in range(self._machines):
            link = Link(self, f"m{number:04d}")
            card = Card(
                name=link.name,
                hardware=HARDWARE,
                software="s",
                renderer="",
                at=0.0,
                computer=link.name,
            )
            self.time.after(
                0.001 * number, lambda link=link, card=card: tell(Joined(link, card, 0.0))
            )  # type: ignore[misc]

            if self._rng.random() < LEAVING:
                self.time.after(float(self._rng.uniform(30, 200)), link.leave)

    def close(self) -> None: ...

    def answer(self, request: Any) -> tuple[float, Any]:
        """How long a job takes, and what comes of it."""
        if isinstance(request, RenderJob):
            if ".tiles" in request.picture:
                write_exr(Path(request.picture), Picture(np.zeros((4, 4, 3), np.float32)))
                return 1.0, Rendered(result=record(1.0, self._rng), digest="")

            settings = request.spec.settings
            cost = (
                SAMPLE_SECONDS
                * int(settings["samples.max"])
                * (0.4 + 0.05 * int(settings["bounces.total"]))
            )
            seconds = cost * math.exp(SCATTER * self._rng.normal())
            return seconds, Rendered(result=record(seconds, self._rng), digest="")

        if isinstance(request, ChunkJob):
            return CHUNK_SECONDS, ChunkRendered(seconds=CHUNK_SECONDS, digest="")

        if isinstance(request, ReferenceJob):
            samples = request.samples_before + (96 if request.chunks_before == 0 else 128)
            return MERGE_SECONDS, ReferenceExtended(
                samples=samples, floor=12.0 / math.sqrt(samples), seconds=1.0, digest=""
            )

        if isinstance(request, MeasureJob):
            grain = 1.5
            figures: dict[str, Any] = {kind: [grain, 0.95 * grain, 1.05 * grain] for kind in KINDS}
            return MEASURE_SECONDS, Measured(areas={"": figures})

        return 2.0, Ready()


def simulate(machines: int, trials: int) -> tuple[float, float, float, int]:
    """Virtual seconds until everything is measured, the best possible ones, processor seconds of
    the driver, and runs."""
    virtual = Virtual()
    with tempfile.TemporaryDirectory() as folder:
        path = create_study(Path(folder) / "large.study", large_study(trials))
        driver = Driver(Store.open(path), clock=virtual.clock)
        driver._inbox = virtual  # type: ignore[assignment]
        fleet = SimulatedFleet(machines, virtual)

        def start_own(stretch: FleetStretch) -> None:
            stretch._own.link = Link(fleet, "")
            stretch._own.stage = STARTING
            stretch._ask_seat(stretch._own, WarmUpJob())

        FleetStretch._start_worker = start_own  # type: ignore[assignment, method-assign]
        started = time.process_time()
        ended = driver.run_here(Sweeping(), fleet)  # type: ignore[arg-type]
        spent = time.process_time() - started - fleet.spent
        assert ended.finished, ended
        runs = len(driver.state.results.runs)
        driver.close()

    return virtual.now, virtual.busy / (machines * (1 - LEAVING / 2)), spent, runs


def main() -> None:
    """Print a row for each number of machines and trials."""
    asked = os.environ.get("SCALE_SIZES", "").split()
    sizes = [(int(size.partition("x")[0]), int(size.partition("x")[2])) for size in asked] or list(
        SIZES
    )
    print("machines  trials    runs   virtual s   of best   driver s   of a processor   ms a job")

    for machines, trials in sizes:
        seconds, best, spent, runs = simulate(machines, trials)
        print(
            f"{machines:8d}{trials:8d}{runs:8d}{seconds:12.0f}{seconds / best:10.2f}"
            f"{spent:11.1f}{spent / seconds:17.3f}{1000 * spent / runs:11.1f}"
        )

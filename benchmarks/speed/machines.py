"""Two machines on one computer, each pinned to a processor: what a second one brings, what a job
costs beside its work, and how often a large file travels. Scheduler, machines and files are real;
rows alternate."""

import os
import queue
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from swift_sample.core.machines.fleet import Fleet, RemoteLink
from swift_sample.core.machines.messages import Sent
from swift_sample.core.machines.news import Joined
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.study.log.identity import CHUNK_SAMPLES, REFERENCE_SEED
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.plan.model import Study
from swift_sample.core.worker.link import WorkerLink
from swift_sample.core.worker.messages import ChunkJob, MeasureJob, WarmUpJob

PORT = 8797
NAMES = ("left", "right")
ROUNDS = 3
CHUNKS, MEASURES, JOBS = 6, 24, 30
GIBIBYTE = 1 << 30
STUDY = Study(
    name="machines", scene="honey-stall-small", size=(160, 90), base=configured({"samples.max": 32})
)


@contextmanager
def machines(folder: Path) -> Iterator[Fleet]:
    """A meeting place and two machines, each with a cache of its own."""
    command = [sys.executable, "-m", "swift_sample.cli", "machines"]
    started = []

    def start(until: str, name: str, *words: str) -> None:
        log = folder / f"{name}.txt"
        surroundings = {
            **os.environ,
            "SWIFT_SAMPLE_CONTENT": str(folder / name),
            "SWIFT_SAMPLE_LEASE": str(folder / "lease"),
        }
        with log.open("wb") as out:
            started.append(
                subprocess.Popen([*command, *words], stdout=out, stderr=out, env=surroundings)
            )

        while until not in log.read_text():
            time.sleep(0.05)

    try:
        start("machines meet at", "place", "start", "--at", f"127.0.0.1:{PORT}", "--not-here")
        for number, name in enumerate(NAMES):
            start(
                "has joined",
                name,
                "join",
                f"127.0.0.1:{PORT}",
                "--name",
                name,
                "--processors",
                str(number),
            )

        fleet = Fleet(f"127.0.0.1:{PORT}")
        yield fleet
        fleet.close()
    finally:
        for process in reversed(started):
            process.terminate()
            process.wait()


class Work:
    """Gives jobs to machines, one at a time to each, and hears what came of them."""

    def __init__(self, fleet: Fleet, study: Path) -> None:
        self._replies = queue.Queue[Any]()
        joined = queue.Queue[Any]()
        fleet.open(
            RENDERER, str(study), lambda link, reply: self._replies.put((link, reply)), joined.put
        )
        links: list[RemoteLink] = []

        while len(links) < len(NAMES):
            news = joined.get()
            if isinstance(news, Joined):
                links.append(news.link)

        self.links = sorted(links, key=lambda link: link.name)
        self.do([WarmUpJob()], self.links[:1])
        self.do([WarmUpJob()], self.links[1:])

    def do(self, jobs: list[Any], links: list[RemoteLink]) -> float:
        """Seconds until all jobs are done by these machines."""
        waiting = list(jobs)
        busy = 0
        started = time.perf_counter()

        for link in links:
            if waiting:
                link.send(waiting.pop())
                busy += 1

        while busy:
            link, reply = self._replies.get()
            if getattr(reply, "kind", "") == "progress":
                continue

            assert getattr(reply, "kind", "failed") != "failed", reply
            busy -= 1

            if waiting:
                link.send(waiting.pop())
                busy += 1

        return time.perf_counter() - started


class Here:
    """A worker of this computer on the first processor, which does the same without an engine
    between."""

    def __init__(self, log: Path) -> None:
        self._replies = queue.Queue[Any]()
        allowed = os.sched_getaffinity(0)
        os.sched_setaffinity(0, {0})
        self.link = WorkerLink(RENDERER.worker, log, lambda link, reply: self._replies.put(reply))
        os.sched_setaffinity(0, allowed)
        self.do()

    def do(self) -> float:
        """Seconds that a warm-up takes."""
        started = time.perf_counter()
        self.link.send(WarmUpJob())
        while getattr(self._replies.get(), "kind", "") == "progress":
            pass

        return time.perf_counter() - started


def main() -> None:
    """Print what two bring over one, the cost of a job, and how a gibibyte travels."""
    with tempfile.TemporaryDirectory() as name, machines(Path(name)) as fleet:
        folder = Path(name)
        work = Work(fleet, folder / "a.study")
        spec = spec_of(STUDY, STUDY.reference_configuration(CHUNK_SAMPLES // 4), REFERENCE_SEED)
        chunks = [
            ChunkJob(
                spec=spec.model_copy(update={"seed": k}), picture=str(folder / f"chunk-{k}.exr")
            )
            for k in range(CHUNKS)
        ]
        gains: dict[str, list[float]] = {"the reference": [], "measuring": []}

        for _ in range(ROUNDS):
            one = work.do(chunks, work.links[:1])
            two = work.do(chunks, work.links)
            gains["the reference"].append(one / two / 2)
            pictures = [chunk.picture for chunk in chunks]
            measures = [
                MeasureJob(
                    pictures=pictures[1:4],
                    reference=pictures[0],
                    exposure=0.0,
                    curve="straight",
                    size=STUDY.size,
                )
            ] * MEASURES
            work.do(measures, work.links)  # so that both have the pictures
            one = work.do(measures, work.links[:1])
            two = work.do(measures, work.links)
            gains["measuring"].append(one / two / 2)

        for what, found in gains.items():
            print(f"{what}: a second machine brings {statistics.median(found):.2f} of itself")

        there = []
        here = []
        own = Here(folder / "here.log")

        for _ in range(JOBS):
            there.append(work.do([WarmUpJob()], work.links[:1]))
            here.append(own.do())

        own.link.close()
        beside = statistics.median(there) - statistics.median(here)
        print(
            f"a job costs {1000 * beside:.1f} ms beside its work, which takes "
            f"{1000 * statistics.median(here):.0f} ms here"
        )
        large = folder / "large.bin"

        with large.open("wb") as file:
            for _ in range(64):
                file.write(os.urandom(GIBIBYTE // 64))

        sent = [Sent(path=str(large), digest=fleet.digest(large))]
        before = fleet.shipping.bytes_from_here
        started = time.perf_counter()
        threads = [
            threading.Thread(target=fleet.shipping.ship, args=(sent, link)) for link in work.links
        ]
        for thread in threads:
            thread.start()

        for thread in threads:
            thread.join()

        left = (fleet.shipping.bytes_from_here - before) / GIBIBYTE
        print(
            f"a gibibyte to both: {time.perf_counter() - started:.1f} s, {left:.2f} GiB left "
            "this computer"
        )

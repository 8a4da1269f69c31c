"""Thousands of runs in one study: what a decision, memory and handles cost at their beginning and
at their end."""

import random
import shutil
import statistics
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import psutil

from siege.findings import Findings
from siege.studies import check, plan_of, write_scene
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import StepEnded, StepStarted
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.steps import RunStep
from swift_sample.core.study.plan.model import Sweep

AT_FIRST = 50
MOST_TIMES_AS_MUCH = 2.0
MOST_MORE_MEMORY = 300 << 20


def besiege(findings: Findings, rng: random.Random, most: int) -> None:
    """`most` runs, or as many as there is time for."""
    folder = Path(tempfile.mkdtemp(prefix="siege-"))
    scene = folder / "scene.gltf"
    study = folder / "long.study"
    write_scene(scene)
    trials = {"samples.max": tuple(range(2, 2 + 20)), "bounces.total": (0, 1, 2, 3, 4)}

    plan = replace(
        plan_of(scene, (16, 9), 8, max(2, most // 100)),
        base=configured({"samples.max": 2, "bounces.total": 0}),
        sweeps=(Sweep("grid", trials),),
        frames=None,
    )
    create_study(study, plan)
    decisions: list[float] = []
    used: list[tuple[int, int, int, int]] = []
    ended = [0.0]
    runs = [0]
    own = psutil.Process()

    def hear(notice: object) -> None:
        now = time.perf_counter()
        if isinstance(notice, StepStarted) and ended[0] and isinstance(notice.step, RunStep):
            decisions.append(now - ended[0])

        if isinstance(notice, StepEnded):
            ended[0] = now
            if isinstance(notice.step, RunStep):
                runs[0] += 1
                if runs[0] % 50 == 0 and driver.worker_pid:
                    worker = psutil.Process(driver.worker_pid)
                    used.append(
                        (
                            own.memory_info().rss,
                            own.num_fds(),
                            worker.memory_info().rss,
                            worker.num_fds(),
                        )
                    )

                if runs[0] >= most or findings.time_is_up:
                    driver.stop()

            ended[0] = time.perf_counter()

    driver = Driver(Store.open(study), hear)
    result = driver.run_here(Sweeping())
    driver.close()
    findings.tried["runs"] = runs[0]

    if result.problem:
        findings.fault(f"it ended early: {result.problem}")

    first = decisions[10 : 10 + AT_FIRST]
    last = decisions[-AT_FIRST:]
    early = statistics.median(first) * 1000
    late = statistics.median(last) * 1000
    findings.figures |= {
        f"a decision at {AT_FIRST} runs": f"{early:.1f} ms",
        f"a decision at {runs[0]} runs": f"{late:.1f} ms",
    }

    if late > MOST_TIMES_AS_MUCH * early + 2:
        findings.fault(
            f"a decision took {early:.1f} ms at first and {late:.1f} ms after {runs[0]} runs"
        )

    if used:
        for name, before, after in zip(
            ("command", "command", "worker", "worker"), used[0], used[-1], strict=True
        ):
            what = "memory" if before > 10_000 else "handles"
            shown = (
                f"{before >> 20} to {after >> 20} MB"
                if what == "memory"
                else f"{before} to {after}"
            )
            findings.figures[f"{name}'s {what}"] = shown

        if (
            used[-1][0] - used[0][0] > MOST_MORE_MEMORY
            or used[-1][2] - used[0][2] > MOST_MORE_MEMORY
        ):
            findings.fault("memory grew without end")
        if used[-1][1] > used[0][1] + 5 or used[-1][3] > used[0][3] + 5:
            findings.fault("handles grew without end")

    began = time.perf_counter()
    check(study, {})
    findings.figures["opened and checked whole in"] = f"{time.perf_counter() - began:.1f} s"
    shutil.rmtree(folder)

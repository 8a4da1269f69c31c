"""Every write, sync and rename in a study's folder fails in turn, in the program or its worker; and
the disk is full for a while, from each of them on.

After it the study opens, nothing that was finished is lost, and measuring goes on to the same end.
"""

import ctypes
import errno
import mmap
import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path

from siege.findings import Findings
from siege.studies import check, plan_of, write_scene
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring import driver as driving
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import StepEnded, Waits
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.plan.model import Study, Sweep

SHIM = Path(__file__).with_suffix(".c")
FULL_SECONDS = 1.5
REPEATS = 1
ALL = 1 << 40
HOWS = {
    "fails once": (errno.EIO, 1),
    "fails from then on": (errno.EIO, ALL),
    "disk full for a while": (errno.ENOSPC, ALL),
}


class State(ctypes.Structure):
    """As faults.c has it."""

    _fields_ = (
        *((name, ctypes.c_long) for name in ("armed", "count", "first", "many", "error", "failed")),
        ("folder", ctypes.c_char * 512),
    )


def prepare(folder: Path) -> dict[str, str]:
    """Compile the shim; returns the surroundings under which a process has it."""
    library = folder / "faults.so"
    state = folder / "state"
    subprocess.run(
        ["gcc", "-O1", "-shared", "-fPIC", "-o", str(library), str(SHIM), "-ldl"], check=True
    )
    state.write_bytes(bytes(ctypes.sizeof(State)))

    return {**os.environ, "LD_PRELOAD": str(library), "SIEGE_STATE": str(state)}


def besiege(findings: Findings, rng: random.Random, most: int) -> None:
    """All of it in this process, which was started with the shim (see `prepare`)."""
    folder = Path(tempfile.mkdtemp(prefix="siege-"))
    with open(os.environ["SIEGE_STATE"], "r+b") as file:
        state = State.from_buffer(mmap.mmap(file.fileno(), ctypes.sizeof(State)))

    scene = folder / "scene.gltf"
    write_scene(scene)
    sweep = Sweep("one at a time", {"samples.max": (8,)})
    plan = replace(plan_of(scene, (32, 18), 16, REPEATS), sweeps=(sweep,), frames=None)
    driving.PATIENCE_SECONDS = 60.0
    calls = _undisturbed(state, create_study(folder / "calm.study", plan))
    findings.figures["writes, syncs and renames of a study"] = str(calls)
    numbers = [(number, how) for how in HOWS for number in rng.sample(range(1, calls + 1), calls)]
    heard = 0.0

    for number, how in numbers[:most]:
        if findings.time_is_up:
            break

        study = folder / f"{number}.study"
        try:
            heard = max(heard, _disturbed(findings, state, study, plan, number, how))
        except (AssertionError, SwiftSampleError, OSError) as error:
            findings.fault(
                f"call {number} {how}: {type(error).__name__}: {one_line(error)}; kept as {study}"
            )
        else:
            shutil.rmtree(study)

        state.armed = 0

    findings.figures["of them tried"] = f"{findings.tried.total()} of {len(numbers)}"
    findings.figures["longest until Stop was heard on a full disk"] = f"{heard:.1f} s"


def _arm(state: State, folder: Path, first: int, many: int, error: int) -> None:
    state.count = state.failed = 0
    state.first = first
    state.many = many
    state.error = error
    state.folder = str(folder).encode()
    state.armed = 1


def _undisturbed(state: State, study: Path) -> int:
    _arm(state, study, ALL, 0, 0)
    driver = Driver(Store.open(study))
    ended = driver.run_here(Sweeping())
    driver.close()
    state.armed = 0
    assert ended.finished, ended.problem

    return int(state.count)


def _disturbed(
    findings: Findings, state: State, study: Path, plan: Study, number: int, how: str
) -> float:
    """One study with one fault; returns the seconds until Stop was heard, where that was asked."""
    error, many = HOWS[how]
    create_study(study, plan)
    finished = [0]
    waited = [False]
    asked = [0.0]
    heard = 0.0
    _arm(state, study, number, many, error)
    timer = threading.Timer(FULL_SECONDS, lambda: setattr(state, "armed", 0))

    def hear(notice: object) -> None:
        if isinstance(notice, StepEnded) and notice.problem is None:
            finished[0] += 1
        if (
            how == "disk full for a while"
            and not timer.ident
            and (state.failed or isinstance(notice, Waits))
        ):
            timer.start()

        if isinstance(notice, Waits):
            waited[0] = True
            if number % 5 == 0 and not asked[0]:
                asked[0] = time.monotonic()
                driver.stop()

    problem = ""
    done = False

    try:
        driver = Driver(Store.open(study), hear)
        try:
            ended = driver.run_here(Sweeping())
            problem = ended.problem or ""
            done = ended.finished
        finally:
            driver.close()
    except SwiftSampleError as refused:
        problem = one_line(refused)

    if asked[0]:
        heard = time.monotonic() - asked[0]
        assert heard < 5.0, f"Stop was heard after {heard:.1f} s"

    failed = bool(state.failed)
    state.armed = 0
    if timer.ident:
        timer.join()

    if waited[0]:
        came = "it was waited for"
    else:
        came = "told" if problem else "nothing was hurt"
    findings.tried[f"{how}, {came}"] += 1
    assert "something went wrong" not in problem, problem
    assert len(problem) <= 400, problem
    assert failed or done or asked[0], "it ended although nothing failed"
    before = check(study, {})

    if not done:
        driver = Driver(Store.open(study))
        ended = driver.run_here(Sweeping())
        driver.close()
        assert ended.finished, f"measuring did not go on: {ended.problem}"

    after = check(study, before)
    wanted = len(plan.planned()) * REPEATS
    assert len(after) >= wanted, f"{len(after)} runs of at least {wanted}"

    return heard


if __name__ == "__main__":
    sys.exit("this is a part of the siege: python -m siege")

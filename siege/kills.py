"""Kill measuring at random moments, its worker or itself, while plan and scene change.

After each kill no finished run is lost, doubled or filed under something else, and two seconds
later nothing that was started is alive.
"""

import os
import random
import shutil
import signal
import tempfile
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path

import psutil

from siege.findings import Findings
from siege.studies import COLOURS, SAMPLES, SIZES, Finished, check, plan_of, write_scene
from swift_sample.cli import run
from swift_sample.core.errors import SwiftSampleError
from swift_sample.core.study.log.store import create_study, look_at_study
from swift_sample.core.study.plan.file import plan_as_toml

EARLY = 0.3
LONGEST_WAIT = 5.0
"""So many kills come within so many seconds after the start, most while the study is opened and the
renderer started."""
WORK_SECONDS = 2.0
"""The others come within so many seconds after the first file of a picture, some ten steps."""
KILLS_OF_A_STUDY = 40
GONE_SECONDS = 2.0
CHANGES = 0.15
"""How often each of size, base and scene changes before a start, and the scene also while it is
rendered."""
COMMANDS = ("run",) * 5 + ("search", "frames")
COMPILES = 0.04
"""How often the renderer is not compiled yet."""
HOWS = (
    "command",
    "command",
    "worker",
    "worker",
    "both",
    "SIGTERM",
    "SIGINT",
    "worker stopped for a moment",
)


def besiege(findings: Findings, rng: random.Random, most: int) -> None:
    """Kill `most` times, or until time is up."""
    folder = Path(tempfile.mkdtemp(prefix="siege-"))
    in_hand: Counter[str] = Counter()
    number = finished = 0

    while number < most and not findings.time_is_up:
        study = folder / f"{number}.study"
        finished += _one_study(findings, rng, study, min(KILLS_OF_A_STUDY, most - number), in_hand)
        number += KILLS_OF_A_STUDY
        shutil.rmtree(study, ignore_errors=True)

    findings.figures["killed while"] = ", ".join(
        f"{step} {count}" for step, count in in_hand.most_common()
    )
    findings.figures["finished runs"] = str(finished)
    shutil.rmtree(folder, ignore_errors=True)


def _one_study(
    findings: Findings, rng: random.Random, study: Path, kills: int, in_hand: Counter[str]
) -> int:
    scene = study.with_suffix(".gltf")
    size = SIZES[0]
    samples = SAMPLES[0]
    write_scene(scene)
    create_study(study, plan_of(scene, size, samples))
    before: Finished = {}

    for _ in range(kills):
        if findings.time_is_up:
            break
        if rng.random() < CHANGES:
            size = rng.choice(SIZES)
        if rng.random() < CHANGES:
            samples = rng.choice(SAMPLES)

        (study / "study.toml").write_text(plan_as_toml(plan_of(scene, size, samples), study))
        if rng.random() < CHANGES:
            write_scene(scene, rng.choice(COLOURS))

        try:
            how = _start_and_kill(rng, study, scene)
            findings.tried[how] += 1
            left = _wait_until_gone(study)

            if left:
                findings.fault(f"{how}: {left} still alive {GONE_SECONDS:.0f} s later")
            before = check(study, before)
            in_hand[_last_step(study)] += 1
        except (AssertionError, SwiftSampleError) as error:
            findings.fault(f"{study}: after a kill: {error}")
            return len(before)

    return len(before)


def _start_and_kill(rng: random.Random, study: Path, scene: Path) -> str:
    """Returns what was killed, and how."""
    command = rng.choice(COMMANDS)
    compiles = rng.random() < COMPILES
    process = psutil.Process(
        _start([command, str(study)], study.parent / "cache" if compiles else None)
    )

    if compiles or rng.random() < EARLY:
        time.sleep(rng.uniform(0, 3 * LONGEST_WAIT if compiles else LONGEST_WAIT))
    else:
        _wait_for_work(study)
        time.sleep(rng.uniform(0, WORK_SECONDS))

    if rng.random() < CHANGES:
        write_scene(scene, rng.choice(COLOURS))

    how = rng.choice(HOWS)
    workers = [] if process.status() == psutil.STATUS_ZOMBIE else process.children()

    if how != "command" and not how.startswith("SIG"):
        for worker in workers:
            with_worker = signal.SIGSTOP if "stopped" in how else signal.SIGKILL
            _signal(worker.pid, with_worker)
            time.sleep(rng.uniform(0, 0.5))

            if "stopped" in how:
                _signal(worker.pid, signal.SIGCONT)

        time.sleep(0 if how == "both" else rng.uniform(0, 1))

    ends = {"SIGTERM": signal.SIGTERM, "SIGINT": signal.SIGINT}.get(how, signal.SIGKILL)
    _signal(process.pid, ends)

    try:
        process.wait(timeout=GONE_SECONDS)
    except psutil.TimeoutExpired:
        process.kill()
        process.wait()
        raise AssertionError(
            f"{command} was not ended by {how} within {GONE_SECONDS:.0f} s"
        ) from None
    finally:
        shutil.rmtree(study.parent / "cache", ignore_errors=True)

    return f"{how}, while it compiles" if compiles else f"{how} of {command}"


def _wait_for_work(study: Path) -> None:
    """Until something is written among the pictures or references, or that takes too long."""

    def written() -> set[tuple[str, int]]:
        found = set()
        for folder in ("pictures", "reference"):
            with suppress(OSError), os.scandir(study / folder) as entries:
                for entry in entries:
                    with suppress(OSError):
                        found.add((entry.name, entry.stat().st_mtime_ns))

        return found

    before = written()
    deadline = time.monotonic() + 3 * LONGEST_WAIT
    while written() == before and time.monotonic() < deadline:
        time.sleep(0.02)


def _start(arguments: list[str], cache: Path | None) -> int:
    """Run a command in a process of its own, which begins with all that is imported here; returns
    its number."""
    child = os.fork()
    if child:
        return child
    if cache is not None:
        os.environ["SWIFT_SAMPLE_CACHE"] = str(cache)

    nowhere = os.open(os.devnull, os.O_RDWR)
    for stream in range(3):
        os.dup2(nowhere, stream)

    signal.signal(signal.SIGINT, signal.default_int_handler)
    status = 1

    try:
        status = run(arguments)
    finally:
        os._exit(status)


def _signal(process: int, which: signal.Signals) -> None:
    try:
        os.kill(process, which)
    except ProcessLookupError:
        return


def _wait_until_gone(study: Path) -> list[str]:
    """What still has files of the study open, or its folder in its command, when time is up."""
    deadline = time.monotonic() + GONE_SECONDS
    while True:
        left = [words for words in map(_about, psutil.process_iter()) if str(study) in words]
        if not left or time.monotonic() > deadline:
            return left
        time.sleep(0.1)


def _about(process: psutil.Process) -> str:
    try:
        if (
            process.pid == os.getpid()
            or process.status() == psutil.STATUS_ZOMBIE
            or "python" not in process.name()
        ):
            return ""
        return " ".join([*process.cmdline(), *(file.path for file in process.open_files())])
    except psutil.Error:
        return ""


def _last_step(study: Path) -> str:
    """What was being done: of its last decision, the first words."""
    with look_at_study(study) as reading:
        steps = [text for _, kind, text in reading.words if kind == "decision"]
    return " ".join(steps[-1].partition(":")[0].split()[:2]) if steps else "starting"

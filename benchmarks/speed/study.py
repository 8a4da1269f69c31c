"""What a large study costs: opening it, taking in one finished run, dragging the line and hovering
a chip in its window, and what window and command line use while a render is timed. Processor time,
at 500 and at 5,000 trials with three runs each.

Times of runs and figures are made up; nothing is rendered but for the last part, which times real
renders.
"""

import math
import os
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np

from swift_sample.core.machine import this_machine
from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.records import RunRecord, Samples
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.events import (
    Event,
    Measured,
    Measurement,
    ReferenceGrew,
    Run,
    RunFinished,
    RunResult,
)
from swift_sample.core.study.log.identity import picture_identity
from swift_sample.core.study.log.state import StudyState, replace_state
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import StepEnded, StepStarted
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.steps import RunStep
from swift_sample.core.study.plan.model import Study, Sweep

SIZES = (500, 5000)
RUNS = 3
BATCH = 500
STEPS = 30
DRAG = 1.02
MOST_LINE = 1.6
_kept: list[object] = []
"""The one application must outlive its windows."""


def large_study(trials: int) -> Study:
    """A grid of so many configurations, the base among them."""
    grid = Sweep(
        "grid",
        {
            "samples.max": tuple(range(16, 16 + 20)),
            "bounces.total": (4, 6, 8, 10, 12),
            "tiles.size": (8, 16, 32, 64, 128),
            "light.clamp_indirect": tuple(float(k) for k in range(trials // 500)),
        },
    )
    base = configured({"samples.max": 35, "bounces.total": 12, "tiles.size": 32})
    return Study(
        name=f"{trials} trials",
        scene="honey-stall-small",
        size=(64, 36),
        base=base,
        sweeps=(grid,),
        repeats=RUNS,
    )


def record(seconds: float, rng: np.random.Generator) -> RunRecord:
    """As long as those of real renders."""
    phases = dict.fromkeys(("load", "textures", "build", "denoise", "write"), 0.01)
    bounces = [
        {
            kind: float(rng.random())
            for kind in ("camera", "diffuse", "glossy", "transmission", "shadow")
        }
        for _ in range(13)
    ]

    return RunRecord(
        size=(64, 36),
        seconds={**phases, "sampling": seconds, "total": seconds + 0.05, "first_picture": 0.1},
        phase_cpu_seconds=phases,
        cpu_seconds=2 * seconds,
        peak_memory_bytes=1 << 28,
        memory_bytes={"geometry": 1 << 20, "film": 1 << 22},
        samples=Samples(mean=30, min=8, max=35, share_at_max=0.5, min_used=8),
        rays={"total": 10**7, "by_bounce": bounces},
        light_by_bounce=[[float(v) for v in rng.random(3)] for _ in range(13)],
        seconds_by_bounce=bounces,
        seconds_by_material={f"material {k}": float(rng.random()) for k in range(40)},
        seconds_by_object={f"object {k}": float(rng.random()) for k in range(60)},
        threads=2,
        device="processor",
        settings={},
        seed=1,
        picture_bytes=1 << 18,
        dropped_samples=0,
        load_of_others=0.01,
        reused_scene=False,
        notes=[],
    )


def runs_of(state: StudyState, rng: np.random.Generator) -> "list[RunFinished]":
    """Every planned run, block by block in shuffled order."""
    found = []
    place = state.here
    assert place is not None

    for block in range(RUNS):
        for number in rng.permutation(len(state.planned)):
            trial = state.planned[int(number)]
            samples = int(trial.configuration["samples.max"])
            bounces = int(trial.configuration["bounces.total"])
            seconds = 0.02 * samples * (0.4 + 0.05 * bounces) * math.exp(0.02 * rng.normal())
            made = record(seconds, rng)
            seed = int(rng.integers(2**31))

            run = Run(
                number=0,
                finished_at="",
                place=place,
                trial=trial.id,
                appearance=trial.appearance,
                machine=state.machine,
                seed=seed,
                block=block,
                control=False,
                picture=f"{picture_identity(place, trial.appearance, seed).name}.exr",
                result=RunResult.of(made),
                reason="",
                software="made up",
            )
            found.append(RunFinished(run, trial.configuration, made))

    return found


def figures_of(state: StudyState) -> Measured:
    """Figures of every appearance."""
    place = state.here
    found = []
    assert place is not None

    for trial in {trial.appearance: trial for trial in state.planned}.values():
        grain = 6.0 / math.sqrt(int(trial.configuration["samples.max"]) / 16)
        figures = {kind: Figure(grain, 0.95 * grain, 1.05 * grain) for kind in KINDS}
        figures["detail_kept"] = Figure(97.0, 96.5, 97.5)

        found.append(
            Measurement(
                place=place,
                key=state.measurement_key(trial.appearance, None),
                pictures=state.results.pictures[trial.appearance],
                reference_samples=1000,
                figures=figures,
                versions={kind: one.version for kind, one in KINDS.items()},
            )
        )

    return Measured(tuple(found))


def make(path: Path, trials: int) -> list[RunFinished]:
    """A measured study on disk; returns one more run for every trial, not yet kept."""
    rng = np.random.default_rng(1)
    create_study(path, large_study(trials))
    driver = Driver(Store.open(path))
    events: list[Event] = list(runs_of(driver.state, rng))
    for first in range(0, len(events), BATCH):
        driver.study.keep(events[first : first + BATCH])

    driver.study.keep(
        [
            ReferenceGrew(
                reference=driver.state.reference_name,
                samples=1000,
                chunks=8,
                floor=0.1,
                seconds=60.0,
            )
        ]
    )
    driver.study.store.folder.reference(driver.state.reference_name).write_bytes(b"made up")

    for event in events:
        assert isinstance(event, RunFinished)
        driver.study.store.folder.picture(event.run.picture).touch()

    driver.study.keep([figures_of(driver.state)])
    extra = runs_of(driver.state, rng)
    driver.close()

    return extra


def spent(work: Callable[[], object]) -> float:
    """Processor seconds of this process."""
    started = time.process_time()
    work()
    return time.process_time() - started


def core(path: Path, extra: list[RunFinished]) -> tuple[float, float, float, float]:
    """Opening; taking in a run and proposing the next step (median and 95 %); everything that
    follows for a window."""
    opened: list[Driver] = []
    opening = spent(lambda: opened.append(Driver(Store.open(path))) or opened[0].snapshot.results)
    (driver,) = opened
    plan = replace(driver.state.plan, repeats=RUNS + 1)
    driver.study.state = replace_state(driver.state, plan=plan)
    policy = Sweeping()
    policy.propose(driver.state, 0.0)

    def take_in(event: RunFinished) -> None:
        driver.study.keep([event])
        policy.propose(driver.state, 0.0)

    times = [spent(lambda event=event: take_in(event)) for event in extra[:200]]  # type: ignore[misc]
    whole = statistics.median(spent(lambda: collect(driver.state)) for _ in range(5))
    driver.close()

    return opening, statistics.median(times), float(np.quantile(times, 0.95)), whole


def window(path: Path) -> tuple[float, float, float]:
    """A step of dragging the line, of hovering a chip, and drawing what a finished run changed."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QSettings
    from PyQt6.QtTest import QTest

    from swift_sample.app.session import wait_for_closed
    from swift_sample.ui.pages import MapPage
    from swift_sample.ui.window.application import make_application
    from swift_sample.ui.window.shell import MainWindow

    application = make_application(sys.argv[:1])
    _kept.append(application)
    shown = MainWindow(QSettings(str(path.parent / "window.ini"), QSettings.Format.IniFormat))
    shown.resize(1280, 800)
    shown.show()
    shown.open_study(path)
    while shown.session is None or shown.session.snapshot is None:
        QTest.qWait(50)

    session = shown.session
    QTest.qWait(1500)

    def drawn(act: Callable[[], None]) -> float:
        def work() -> None:
            act()
            shown._draw_now()
            application.processEvents()

        return spent(work)

    drags = [
        drawn(lambda: session.set_line(session.line * DRAG if session.line < MOST_LINE else 0.7))
        for _ in range(STEPS)
    ]
    keys = [16 + k % 20 for k in range(STEPS)]
    hovers = [drawn(lambda key=key: shown._light_up("samples.max", key)) for key in keys]  # type: ignore[misc]
    session.set_line(1.0)
    shown._light_up("samples.max", None)
    page = shown.page(MapPage)
    again = [
        spent(
            lambda: (setattr(page, "_drawn", None), shown._refresh(), application.processEvents())
        )
        for _ in range(5)
    ]
    shown.close()
    wait_for_closed(30)

    return statistics.median(drags), statistics.median(hovers), statistics.median(again)


def while_timed(path: Path, seconds: float = 12.0) -> tuple[float, float]:
    """The share of one processor that the driver's process uses while a render is timed: command
    line, window."""
    plan = replace(
        large_study(500), size=(320, 180), scene="honey-stall", base=configured({"samples.max": 48})
    )
    shares = []
    create_study(path, replace(plan, sweeps=(large_study(500).sweeps[0],)))
    begun: list[tuple[float, float]] = []
    found: list[float] = []

    def hear(notice: object) -> None:
        if isinstance(notice, StepStarted) and isinstance(notice.step, RunStep):
            begun.append((time.monotonic(), time.process_time()))
        elif isinstance(notice, StepEnded) and isinstance(notice.step, RunStep) and begun:
            wall, processor = begun.pop()
            found.append((time.process_time() - processor) / (time.monotonic() - wall))
            if len(found) >= 4:
                driver.stop()

    driver = Driver(Store.open(path), hear)
    driver.run_here(Sweeping())
    driver.close()
    shares.append(statistics.median(found))
    shares.append(_window_while_timed(path))

    return shares[0], shares[1]


def _window_while_timed(path: Path) -> float:
    from PyQt6.QtCore import QEventLoop, QSettings
    from PyQt6.QtTest import QTest

    from swift_sample.app.session import Activity, wait_for_closed
    from swift_sample.ui.window.application import make_application
    from swift_sample.ui.window.shell import MainWindow

    _kept.append(make_application(sys.argv[:1]))
    shown = MainWindow(QSettings(str(path.parent / "timed.ini"), QSettings.Format.IniFormat))
    shown.resize(1280, 800)
    shown.show()
    shown.open_study(path, measure=True)
    while shown.session is None:
        QTest.qWait(20)

    found: list[float] = []
    marks: list[tuple[object, float, float]] = []
    loop = QEventLoop()

    def watch(activity: Activity) -> None:
        """From the first word of progress of a render to the last: what stands between renders is
        not timed."""
        if marks and activity.step is not marks[0][0]:
            (_, begun, before), (_, ended, after) = marks[0], marks[-1]
            marks.clear()
            if ended > begun:
                found.append((after - before) / (ended - begun))
            if len(found) >= 5:
                loop.quit()

        if isinstance(activity.step, RunStep) and activity.share > 0:
            marks.append((activity.step, time.monotonic(), time.process_time()))

    shown.session.activity_changed.connect(watch)
    loop.exec()
    shown.close()
    wait_for_closed(30)

    return statistics.median(found)


def main() -> None:
    """Print a table."""
    folder = Path(tempfile.mkdtemp())
    os.environ["SWIFT_SAMPLE_LEASE"] = str(folder / "lease")
    print(f"  {this_machine().processor}; processor time, medians")
    print(f"  {'':52s}{'500 trials':>12s}{'5,000 trials':>14s}   reach")
    rows: dict[str, list[str]] = {}

    for trials in SIZES:
        path = folder / f"{trials}.study"
        extra = make(path, trials)
        opening, taking, most, whole = core(path, extra)
        drag, hover, again = window(path)

        for name, value in (
            ("opening, with its results", f"{opening:.2f} s"),
            ("one finished run: kept, applied, next step found", f"{1000 * taking:.1f} ms"),
            ("the same, 95 % of runs within", f"{1000 * most:.1f} ms"),
            ("all results of the study, between two renders", f"{1000 * whole:.0f} ms"),
            ("drawing the window anew, between two renders", f"{1000 * again:.0f} ms"),
            ("one step of dragging the line", f"{1000 * drag:.1f} ms"),
            ("one chip hovered", f"{1000 * hover:.1f} ms"),
        ):
            rows.setdefault(name, []).append(value)

    reach = {
        "opening, with its results": "2 s at 5,000",
        "one finished run: kept, applied, next step found": "5 ms at both",
        "one step of dragging the line": "16 ms at 5,000",
        "one chip hovered": "16 ms at 5,000",
    }
    for name, values in rows.items():
        print(f"  {name:52s}{values[0]:>12s}{values[1]:>14s}   {reach.get(name, '')}")

    terminal, shown = while_timed(folder / "timed.study")
    print(
        f"  share of a processor while a render is timed: command line {terminal:.2%}, window "
        f"{shown:.2%}   reach 1 %"
    )
    with suppress(OSError):
        shutil.rmtree(folder)

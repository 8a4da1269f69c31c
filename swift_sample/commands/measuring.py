"""Commands that measure: run, search, frames, and the demo."""

import json
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.looking import print_pick, say_state
from swift_sample.commands.machines import fleet_at, kind_named, on_machines
from swift_sample.commands.terminal import Interrupts, Size, Span, Terminal, quoted, say
from swift_sample.commands.window import open_window
from swift_sample.core.errors import StudyError, SwiftSampleError, UsageError, one_line
from swift_sample.core.machine import BUSY_SHARE, LoadMeter

if TYPE_CHECKING:
    from swift_sample.core.machines.fleet import Fleet
    from swift_sample.core.study.measuring.driver import Driver
    from swift_sample.core.study.measuring.notices import Ended, Notice
    from swift_sample.core.study.measuring.policies import Policy
    from swift_sample.core.study.search.search import Advice

NOT_FINISHED = 1
LOOK_SECONDS = 0.25


NOTIFY = click.option(
    "--notify", is_flag=True, help="Show a desktop notification with the answer at the end."
)


@contextmanager
def telling_the_desktop(study: Path, wanted: bool) -> Iterator[None]:
    """Where it is wanted, show how measuring ended as a desktop notification, with the answer in
    it."""
    try:
        yield
    except SwiftSampleError as error:
        if wanted:
            _notify(study, f"Measuring ended early: {one_line(error)}")
        raise

    if wanted:
        _notify(study, "")


def _notify(study: Path, words: str) -> None:
    from PyQt6.QtCore import QCoreApplication

    from swift_sample.core.study.answers.pick_report import answer_words
    from swift_sample.core.study.log.store import look_at_study
    from swift_sample.core.study.measuring.surroundings import read_snapshot
    from swift_sample.ui.window.notifications import notify

    with look_at_study(study) as reading:
        results = read_snapshot(reading).results
        application = QCoreApplication.instance() or QCoreApplication(["swift-sample"])
        notify(
            results.study.name, words or answer_words(results) or "Measured; there is no pick yet."
        )
        application.processEvents()


@click.command()
@click.option("--headless", is_flag=True, help="Measure without a window and print the pick.")
@click.option("--out", "out", type=click.Path(path_type=Path), help="Where the study is kept.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object (with --headless).")
def demo(headless: bool, out: Path | None, as_json: bool) -> int:
    """Measure the demo scene, the honey stall."""
    from swift_sample.core.study.log.store import create_study, is_study
    from swift_sample.core.study.plan.demo import demo_path, demo_study

    path = out or demo_path()
    if not is_study(path):
        create_study(path, demo_study())

    return measure_study(path, as_json) if headless else open_window(path, measure=True)


@click.command(name="run")
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--only", default="", metavar="KEY,...", help="Measure only these settings' values.")
@click.option("--budget", type=Span(), help="End after this long: seconds, or 10m, or 2h.")
@click.option(
    "--base-only", is_flag=True, help="Measure the base alone: what you render with today."
)
@click.option(
    "--frontier",
    is_flag=True,
    help="Measure the base, the pick and the frontier alone (with --on).",
)
@on_machines
@NOTIFY
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def run_(
    study: Path,
    only: str,
    budget: float | None,
    base_only: bool,
    frontier: bool,
    address: str,
    machine: str,
    keys: Path | None,
    unprotected: bool,
    notify: bool,
    as_json: bool,
) -> int:
    """Measure what is still to be measured, then print the pick."""
    settings = tuple(key.strip() for key in only.split(",") if key.strip())
    fleet = fleet_at(address, keys, unprotected)
    if fleet is None and (frontier or machine):
        raise UsageError(
            f"{'--frontier' if frontier else '--machine'}: is for machines that are named by --on"
        )

    with telling_the_desktop(study, notify):
        return measure_study(study, as_json, settings, budget, fleet, machine, frontier, base_only)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--budget", type=Span(), help="End after this long: seconds, or 10m, or 2h.")
@on_machines
@NOTIFY
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def search(
    study: Path,
    budget: float | None,
    address: str,
    machine: str,
    keys: Path | None,
    unprotected: bool,
    notify: bool,
    as_json: bool,
) -> int:
    """Find the pick among all combinations of the values to try with few renders, then print it."""
    fleet = fleet_at(address, keys, unprotected)
    with telling_the_desktop(study, notify):
        return _search(study, budget, as_json, fleet, machine)


def _search(
    study: Path, budget: float | None, as_json: bool, fleet: "Fleet | None", machine: str
) -> int:
    from swift_sample.core.study.measuring.policies import Searching
    from swift_sample.core.study.measuring.snapshot import COST_UNKNOWN

    with driving(study) as driver:
        if not driver.state.plan.catalogue.capabilities.starts:
            raise UsageError(
                f"{study}: its renders are finished, and no others can be made; `swift-sample "
                "pick` tells the fastest"
            )

        asked = "" if budget is None else f"; it ends after {budget:.0f} s in any case"
        told = driver.snapshot.search_cost_words
        say(f"searching {driver.state.plan.combinations():,} combinations: {told}{asked}")

        def show(advice: "Advice") -> None:
            nonlocal told
            if told == COST_UNKNOWN:
                told = driver.snapshot.search_cost_words
                Terminal().keep(told)

            _show_advice(driver, advice)

        ended = work(
            driver,
            Searching(driver.record, budget, show, driver.renderer),
            fleet,
            kind_named(driver, machine),
        )
        if not ended.finished:
            say(f"stopped; `swift-sample search {quoted(study)}` carries on")
            return NOT_FINISHED

        say(f"the search ended: {ended.words}")
        return _concluded(driver, as_json)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--first",
    type=click.IntRange(0, 100_000),
    help="The first frame of the sequence; kept in the study.",
)
@click.option("--last", type=click.IntRange(1, 100_000), help="The last frame.")
@click.option(
    "--count", type=click.IntRange(2, 60), help="How many frames to measure, spread over it."
)
@click.option(
    "--machines",
    type=click.IntRange(1, 10_000),
    default=1,
    help="How many machines like this one share the sequence.",
)
@on_machines
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def frames(
    study: Path,
    first: int | None,
    last: int | None,
    count: int | None,
    machines: int,
    address: str,
    machine: str,
    keys: Path | None,
    unprotected: bool,
    as_json: bool,
) -> int:
    """Measure base and pick at frames of a sequence, and forecast the whole of it."""
    from swift_sample.core.study.answers.frames import collect_frames
    from swift_sample.core.study.answers.frames_report import forecast_as_data, forecast_sentences
    from swift_sample.core.study.answers.kinds import label_of, machines_of_frames
    from swift_sample.core.study.measuring.policies import Framing
    from swift_sample.core.study.plan.model import FramePlan

    fleet = fleet_at(address, keys, unprotected)
    with driving(study) as driver:
        if machine:
            driver.settle(driver.look_at_machine(kind_named(driver, machine)))

        old = driver.state.plan.frames
        pick = driver.snapshot.results.pick()
        now = driver.state.plan
        still = driver.renderer.facts(now.scene, now.base, now.frame, now.staging).still

        if still:
            raise UsageError(
                f"frames: {still}, so that every frame takes as long as the one that is measured"
            )
        if old is None and last is None:
            raise UsageError("frames: expected --last, the last frame of the sequence")

        plan = FramePlan(
            first if first is not None else old.first if old else 0,
            last if last is not None else old.last if old else 1,
            count if count is not None else old.count if old else 5,
        )
        driver.settle(driver.edit("Sequence", lambda now: replace(now, frames=plan)))
        wanted = (driver.state.plan.base, *([pick.trial.configuration] if pick is not None else []))

        if not work(driver, Framing(plan, wanted), fleet, kind_named(driver, machine)).finished:
            say(f"stopped; `swift-sample frames {quoted(study)}` carries on")
            return NOT_FINISHED

        state = driver.state
        others = machines_of_frames(state, plan) if fleet is not None and not machine else ()
        looked = [state, *(state.seen_from(name) for name in others if name != state.machine)]
        told = [(label_of(one, one.machine), collect_frames(one, plan, wanted)) for one in looked]
        told = [(label, measured) for label, measured in told if measured.by_configuration] or told[
            :1
        ]

    names = dict(zip(wanted, ("base", "pick"), strict=False))
    if as_json:
        data = [
            {"machine": label, **forecast_as_data(measured, names, machines)}
            for label, measured in told
        ]
        print(json.dumps(data[0] if fleet is None else {"machines": data}))
        return 0

    for label, measured in told:
        if fleet is not None:
            print(f"{label}:")
        print("\n".join(forecast_sentences(measured, names, machines)))

    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--size", type=Size(), help="The second size; half of the study's unless told otherwise."
)
@click.option(
    "--frame", type=click.IntRange(0, 100_000), help="The second frame, at the study's size."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def holds(study: Path, size: tuple[int, int] | None, frame: int | None, as_json: bool) -> int:
    """Measure the pick, the base and the runners-up at a second size or frame, and say whether the
    answer holds there."""
    from swift_sample.core.study.answers.holding import (
        Elsewhere,
        as_data,
        candidates,
        compare,
        sentences,
    )
    from swift_sample.core.study.measuring.policies import Holding

    with driving(study) as driver:
        plan = driver.state.plan
        found = candidates(driver.snapshot.results)
        if driver.snapshot.results.pick() is None:
            raise UsageError("holds: there is no pick yet; measure the study first")

        half = (max(1, plan.size[0] // 2), max(1, plan.size[1] // 2))
        there = Elsewhere(
            size or (plan.size if frame is not None else half),
            plan.frame if frame is None else frame,
            found,
        )
        if (there.size, there.frame) == (plan.size, plan.frame):
            raise UsageError("holds: expected another size or frame than the study's own")

        still = driver.renderer.facts(plan.scene, plan.base, plan.frame, plan.staging).still
        if there.size == plan.size and still:
            raise UsageError(f"holds: {still}; give another --size")

        if not work(driver, Holding(there)).finished:
            say(f"stopped; `swift-sample holds {quoted(study)}` carries on")
            return NOT_FINISHED

        compared = compare(driver.snapshot.results, driver.state, there)

    print(
        json.dumps(as_data(compared, plan.base))
        if as_json
        else "\n".join(sentences(compared, plan.base))
    )
    return 0


def measure_study(
    path: Path,
    as_json: bool,
    only: tuple[str, ...] = (),
    budget: float | None = None,
    fleet: "Fleet | None" = None,
    machine: str = "",
    frontier: bool = False,
    base_only: bool = False,
) -> int:
    """Measure a study to the end in this process or on machines, telling progress on standard
    error."""
    from swift_sample.core.study.answers.kinds import frontier_of
    from swift_sample.core.study.measuring.policies import Sweeping

    with driving(path) as driver:
        tried = driver.state.plan.values_to_try()
        for key in only:
            if not set(tried.get(driver.state.plan.catalogue.setting(key).key, ())) - {
                driver.state.plan.base[key]
            }:
                raise UsageError(
                    f"--only {key}: nothing to measure, no other value of it than the base's is "
                    f"tried; add values in {path / 'study.toml'} or in the window"
                )

        chosen = frontier_of(driver.snapshot.results) if frontier else ()
        if base_only:
            chosen = (driver.state.plan.base,)

        policy = Sweeping(only, budget_seconds=budget, trials=chosen)
        if not work(driver, policy, fleet, kind_named(driver, machine)).finished:
            say(f"stopped; `swift-sample run {quoted(path)}` carries on")
            return NOT_FINISHED

        say(f"study kept in {path}")
        return _concluded(driver, as_json)


@contextmanager
def driving(path: Path) -> "Iterator[Driver]":
    """Hold a study for measuring."""
    from swift_sample.core.study.log.store import Store
    from swift_sample.core.study.measuring.driver import Driver

    store = Store.open(path, say)
    try:
        driver = Driver(store, lambda notice: None)
    except BaseException:
        store.close()
        raise

    try:
        yield driver
    finally:
        driver.close()


def work(
    driver: "Driver", policy: "Policy", fleet: "Fleet | None" = None, times_on: str = ""
) -> "Ended":
    """Measure to the end, on machines where there are some, telling progress. Raises StudyError for
    what ended it before."""
    terminal = Terminal()
    is_timed_here = fleet is None and driver.state.plan.catalogue.capabilities.starts
    load = _load_of_others() if is_timed_here else 0.0

    if load > BUSY_SHARE:
        terminal.once(
            f"other programs take {load:.0%} of the processor now: close what you can, else "
            "times are uncertain"
        )

    driver.listen(lambda notice: _show(terminal, driver, notice))
    with Interrupts(driver.stop):
        ended = driver.run_here(policy, fleet, times_on)

    terminal.clear()
    if ended.problem is not None:
        raise StudyError(ended.problem)

    return ended


def _load_of_others() -> float:
    """What other programs take of the processor, over a moment."""
    meter = LoadMeter()
    time.sleep(LOOK_SECONDS)
    return meter.share()


def _show(terminal: Terminal, driver: "Driver", notice: "Notice") -> None:
    from swift_sample.core.study.measuring.notices import (
        MachineSaid,
        StepProgress,
        StepStarted,
        Waits,
    )
    from swift_sample.core.study.measuring.snapshot import LATEST, busy_words

    if isinstance(notice, StepProgress):
        terminal.show(f"{notice.text or terminal.doing} {notice.share:.0%}")
    elif isinstance(notice, StepStarted):
        if notice.host and not terminal.may_show():
            return  # many machines begin many steps

        began = time.monotonic()
        words = notice.step.words(driver.state.plan.base)
        far = _how_far(driver)
        terminal.took(time.monotonic() - began)
        words = f"{notice.host}: {words}" if notice.host else words
        terminal.start(f"{far}{words[0].upper()}{words[1:]}")
        terminal.tell(f"{far}{words}")
        busy = busy_words(driver.state.results.runs[-LATEST:])

        if busy:
            terminal.once(busy)
    elif isinstance(notice, MachineSaid):
        terminal.once(notice.words)
    elif isinstance(notice, Waits):
        terminal.once(f"waiting: {notice.words}")


def _how_far(driver: "Driver") -> str:
    """How many runs are done, and the time left: "12 of 23 runs, about 3 min left: "."""
    snapshot = driver.snapshot
    done = snapshot.runs_done
    to_come = len(snapshot.to_come)

    if not done:
        return ""

    left = f", {snapshot.time_left_words} left" if to_come and snapshot.time_left_words else ""
    return f"{done} of {done + to_come} runs{left}: "


def _show_advice(driver: "Driver", advice: "Advice") -> None:
    if advice.configuration is not None:
        Terminal().keep(f"{advice.configuration.describe(driver.state.plan.base)}: {advice.why}")


def _concluded(driver: "Driver", as_json: bool) -> int:
    """Print the pick; a trial that could not be measured makes the status that of work that
    failed."""
    snapshot = driver.snapshot
    status = print_pick(snapshot, as_json)
    say_state(snapshot)

    return (
        NOT_FINISHED
        if any(trial.failure is not None for trial in snapshot.results.trials)
        else status
    )

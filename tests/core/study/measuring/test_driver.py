"""The driver with a real worker process, on a scene that renders in a moment."""

import os
import queue
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.errors import StudyBlockedError, UnfitPictureError, WorkerError
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.stored import digest_of_picture, read_stored
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.report.model import gather
from swift_sample.core.study.log.events import Event, Happened, RecordingRefused, Run, RunFinished
from swift_sample.core.study.log.records import MAX_FAILURES, MAX_MACHINE_FAILURES
from swift_sample.core.study.log.state import validate
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring import stretch as stretch_module
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import Ended, Notice, StepEnded, StepStarted, Waits
from swift_sample.core.study.measuring.policies import Policy, Remeasuring, Sweeping
from swift_sample.core.study.measuring.steps import DeriveStep, MeasureStep, ReferenceStep, RunStep
from swift_sample.core.study.plan.model import Study, WatchArea
from swift_sample.core.worker.lease import Lease
from swift_sample.core.worker.link import WorkerLink
from swift_sample.core.worker.messages import (
    Failed,
    Measured,
    MeasureJob,
    Outcome,
    Progress,
    ReferenceJob,
    Rendered,
    RenderJob,
    Reply,
    Request,
    Stopped,
    Unfit,
)

EVERYTHING = Sweeping()
SPEC = RenderSpec(scene="honey-stall-small", size=(16, 9), settings={"samples.max": 4}, seed=1)


def measure(
    driver: Driver,
    on_notice: Callable[[Notice], None] = lambda _: None,
    policy: Policy = EVERYTHING,
) -> list[Notice]:
    """Run to the end in this thread; the state must hold together, and be what a replay of the log
    gives."""
    notices: list[Notice] = []

    def keep(notice: Notice) -> None:
        notices.append(notice)
        on_notice(notice)

    driver.listen(keep)
    driver.run_here(policy)
    validate(driver.state)
    fresh = driver.study.store.load()

    assert (fresh.plan, fresh.records, fresh.references, fresh.version) == (
        driver.state.plan,
        driver.state.records,
        driver.state.references,
        driver.state.version,
    )
    return notices


def runs_of(driver: Driver) -> tuple[Run, ...]:
    return driver.snapshot.runs


def test_a_study_is_measured_to_the_end(driver: Driver) -> None:
    notices = measure(driver)
    assert notices[-1] == Ended(True, None, "everything that was planned is measured")
    snapshot = driver.snapshot
    assert snapshot.to_come == ()
    assert all(t.is_on_map and len(t.runs) >= 2 for t in snapshot.results.trials)
    by_bounces = {
        t.configuration["bounces.total"]: t
        for t in snapshot.results.trials
        if t.configuration["samples.max"] == 64
    }
    assert (
        by_bounces[0].figures["light_shift"].value > 2 * by_bounces[4].figures["light_shift"].value
    )
    assert {path.name for path in snapshot.folder.pictures.glob("*.exr")} == {
        run.picture for run in snapshot.runs
    }
    assert snapshot.reference is not None
    assert snapshot.reference.samples >= 96
    assert all(run.result.seconds["total"] > 0 for run in snapshot.runs)
    assert snapshot.remarks == ()
    # Nothing is left to do, so measuring again renders nothing.
    assert [n for n in measure(driver) if isinstance(n, StepStarted)] == []


def refuse_recordings(driver: Driver) -> None:
    """As where a machine has no room for them: all figures come from rendered pictures."""
    driver.study.keep([RecordingRefused(driver.state.reference_name, "no room")])


@pytest.mark.parametrize("kind", [RunStep, ReferenceStep, DeriveStep, MeasureStep])
def test_losing_the_worker_costs_the_step_in_hand(driver: Driver, kind: type) -> None:
    killed = []
    if kind is MeasureStep:
        refuse_recordings(driver)

    def kill_once(notice: Notice) -> None:
        if (
            isinstance(notice, StepStarted)
            and isinstance(notice.step, kind)
            and len(killed) < 1
            and driver.worker_pid
        ):
            killed.append(driver.worker_pid)
            os.kill(driver.worker_pid, signal.SIGKILL)

    notices = measure(driver, kill_once)
    assert killed
    assert notices[-1].finished
    problems = [n.problem for n in notices if isinstance(n, StepEnded) and n.problem]
    assert problems == ["the renderer ended unexpectedly (signal 9)"]
    assert sum(run.result is None for run in runs_of(driver)) == (kind is RunStep)
    assert driver.snapshot.to_come == ()


def test_an_error_anywhere_ends_the_measuring_and_not_the_owner(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also one that comes while nothing is said, and one while the end is shown: edits are answered
    after it."""
    notices: list[Notice] = []
    driver.listen(notices.append)
    monkeypatch.setattr(stretch_module, "WAKE_SECONDS", 0.01)

    for owner, place in ((driver, "_notice_silence"), (driver.study, "publish")):
        with monkeypatch.context() as broken:
            broken.setattr(owner, place, lambda: 1 / 0)
            ended = driver.run_here(Sweeping())

        assert not ended.finished
        assert "something went wrong (ZeroDivisionError" in ended.problem
        assert notices[-1] == ended

    assert (
        driver.settle(driver.edit("Runs", lambda plan: replace(plan, repeats=5))).plan.repeats == 5
    )


def test_stopping_keeps_what_is_finished_and_measuring_goes_on(driver: Driver) -> None:
    refuse_recordings(driver)

    def stop_after_three(notice: Notice) -> None:
        if isinstance(notice, StepEnded) and len(runs_of(driver)) == 3:
            driver.stop(after_this_step=True)

    ended = measure(driver, stop_after_three)[-1]
    assert (ended.finished, ended.problem, driver.state.outcome.words) == (False, None, "stopped")
    before = runs_of(driver)
    assert len(before) == 3
    assert measure(driver)[-1].finished
    assert runs_of(driver)[:3] == before


def test_a_picture_that_is_delivered_in_another_format_is_not_taken_for_damaged(
    tmp_path: Path,
) -> None:
    """The study keeps an EXR of it, which has another length than what is delivered."""
    base = configured(
        {"samples.max": 2, "bounces.total": 1, "output.format": "png-8", "device.threads": 2}
    )
    create_study(
        tmp_path / "p.study",
        Study(name="p", scene="honey-stall-small", size=(16, 9), base=base, repeats=1),
    )

    for _ in range(2):
        driver = Driver(Store.open(tmp_path / "p.study"))
        measure(driver)
        assert [run.reason for run in runs_of(driver)] == [""]
        driver.close()


def test_lost_and_damaged_pictures_are_rendered_again(driver: Driver) -> None:
    measure(driver)
    first, second = (driver.snapshot.folder.picture(run.picture) for run in runs_of(driver)[1:3])
    first.unlink()
    second.write_bytes(b"rubbish")
    driver.settle(
        driver.edit("View", lambda plan: replace(plan, view=replace(plan.view, exposure=1.0)))
    )
    assert measure(driver)[-1].finished
    assert {run.reason for run in runs_of(driver) if run.reason} == {
        "its picture is missing",
        "its picture is damaged",
    }
    assert driver.snapshot.to_come == ()
    assert all(t.verdict != "unmeasured" for t in driver.snapshot.results.trials)


def test_pictures_of_a_finished_study_that_vanish_are_missed(driver: Driver) -> None:
    """By the report, which says what it leaves out, and by the next measuring, which renders them
    again."""
    measure(driver)
    pictures = driver.snapshot.folder.pictures
    before = len(runs_of(driver))
    for path in pictures.glob("*.exr"):
        path.unlink()

    left_out = [
        line for line in gather(driver.snapshot, driver.machine).details if "left out" in line
    ]
    assert left_out
    assert all("is missing; measuring again renders it anew" in line for line in left_out)
    assert measure(driver)[-1].finished
    assert sum(run.lost for run in runs_of(driver)) == before
    assert {path.name for path in pictures.glob("*.exr")} == {
        run.picture for run in runs_of(driver) if not run.lost
    }


def test_a_damaged_reference_is_set_aside_and_rendered_again(driver: Driver) -> None:
    """Also where it must only grow, which measures nothing."""
    measure(driver)
    reference = driver.snapshot.reference_path
    reference.write_bytes(reference.read_bytes()[:2000])
    tighter = replace(driver.state.plan.limits, grain=driver.state.reference.floor * 2)
    driver.settle(driver.edit("Limit", lambda plan: replace(plan, limits=tighter)))
    assert measure(driver)[-1].finished
    assert driver.state.reference.floor <= tighter.grain / 4 or driver.state.reference.chunks > 1
    assert [path for path in reference.parent.iterdir() if ".damaged-" in path.name]


def test_a_picture_that_is_not_the_one_that_was_written_is_set_aside_and_rendered_again(
    driver: Driver,
) -> None:
    """Whatever it is instead: another picture, one that grew shorter, or one that has another
    size."""
    refuse_recordings(driver)
    measure(driver)
    folder = driver.snapshot.folder
    paths = [folder.picture(run.picture) for run in runs_of(driver)[1:4]]
    right = paths[0].read_bytes()
    at = right.rindex(bytes(right[-64:-32]))
    paths[0].write_bytes(
        right[:at] + bytes(byte ^ 1 for byte in right[at : at + 32]) + right[at + 32 :]
    )
    paths[1].write_bytes(paths[1].read_bytes()[:-1])
    write_exr(paths[2], Picture(np.zeros((3, 5, 3), np.float32)))
    # One more sample of the reference is not the one that was written either.
    reference = driver.snapshot.reference_path
    write_exr(reference, Picture(np.ones((3, 5, 3), np.float32)))
    driver.settle(
        driver.edit("View", lambda plan: replace(plan, view=replace(plan.view, exposure=1.0)))
    )

    for name in (paths[0].name, paths[2].name):
        with pytest.raises(UnfitPictureError, match="is not the one that was written"):
            read_stored(folder.picture(name), driver.snapshot.digest_of(name))

    assert measure(driver)[-1].finished
    lost = sorted(run.reason for run in runs_of(driver) if run.lost)
    assert lost == [
        "its picture is damaged",
        "its picture is damaged",
        "its picture is not the one that was written",
    ]
    assert len(list(folder.pictures.glob("*.damaged-*"))) == 3
    assert len(list(folder.references.glob("*.damaged-*"))) == 1
    assert driver.snapshot.to_come == ()
    assert all(t.verdict != "unmeasured" for t in driver.snapshot.results.trials)


def test_failures_of_the_machine_are_no_failures_of_the_trial(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A renderer that is killed twice in one run is started again, and the trial gets all its runs;
    killed too often, the trial is left for now, told with the reason, and tried again when
    measuring is asked for anew."""
    kills = [0]

    def kill(notice: Notice) -> None:
        step = notice.step if isinstance(notice, StepStarted) else None
        if (
            isinstance(step, RunStep)
            and step.configuration["samples.max"] == 16
            and kills[0]
            and driver.worker_pid
        ):
            kills[0] -= 1
            os.kill(driver.worker_pid, signal.SIGKILL)

    kills[0] = MAX_FAILURES
    assert measure(driver, kill)[-1].finished
    failed = [run for run in runs_of(driver) if run.result is None]
    assert [run.by_machine for run in failed] == [True] * MAX_FAILURES
    assert driver.snapshot.to_come == ()
    driver.settle(driver.edit("Runs", lambda plan: replace(plan, repeats=plan.repeats + 4)))
    kills[0] = MAX_MACHINE_FAILURES
    assert measure(driver, kill)[-1].finished
    (left,) = [trial for trial in driver.snapshot.results.trials if trial.failure]
    assert left.configuration["samples.max"] == 16
    told = [text for text in driver.snapshot.remarks if "could not be measured" in text]
    assert len(told) == 1
    assert "the renderer ended unexpectedly (signal 9); measuring again tries anew" in told[0]
    assert measure(driver)[-1].finished
    assert driver.snapshot.remarks == ()
    assert driver.snapshot.to_come == ()


def test_a_run_in_which_the_renderer_was_held_does_not_count(driver: Driver) -> None:
    """It would be slow for a reason that is not its own."""
    held = []

    def hold(notice: Notice) -> None:
        if (
            isinstance(notice, StepStarted)
            and isinstance(notice.step, RunStep)
            and not held
            and driver.worker_pid
        ):
            held.append(notice.step)
            os.kill(driver.worker_pid, signal.SIGSTOP)
            threading.Timer(0.3, os.kill, (driver.worker_pid, signal.SIGCONT)).start()

    notices = measure(driver, hold)
    assert notices[-1].finished
    problems = [n.problem for n in notices if isinstance(n, StepEnded) and n.problem]
    assert problems == [
        (
            "the renderer was held by another program meanwhile: the run does not count, and is "
            "made again"
        )
    ]
    steps = [n.step for n in notices if isinstance(n, StepStarted) and isinstance(n.step, RunStep)]
    assert steps[:2] == held * 2
    assert all(run.result is not None for run in runs_of(driver))


def test_a_full_disk_is_waited_for_with_a_word(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Before a picture is begun, and where one could not be written or an outcome could not be
    kept."""
    monkeypatch.setattr(stretch_module, "WAKE_SECONDS", 0.01)
    full: dict[str, int] = {"room": 3, "keep": 3}

    def has_room(path: Path, wanted: int) -> bool:
        full["room"] -= 1
        return full["room"] < 0

    def keep(events: Sequence[Event], plan: Study | None = None) -> list[Happened]:
        if any(isinstance(event, RunFinished) for event in events) and full["keep"]:
            full["keep"] -= 1
            raise StudyBlockedError(
                "results.db: cannot be written, the disk is full; make room on it", held=False
            )
        return append(events, plan)

    append = driver.study.store.append
    monkeypatch.setattr(stretch_module, "has_room", has_room)
    monkeypatch.setattr(driver.study.store, "append", keep)
    notices = measure(driver)
    assert notices[-1].finished
    waits = [notice.words for notice in notices if isinstance(notice, Waits)]

    assert (
        waits
        == [f"the disk of {driver.path} is full; make room on it"] * 3
        + ["results.db: cannot be written, the disk is full; make room on it"] * 3
    )
    assert len({run.picture for run in runs_of(driver)}) == len(runs_of(driver))
    monkeypatch.setattr(stretch_module, "PATIENCE_SECONDS", 0.05)
    full["room"] = 10_000
    driver.settle(driver.edit("Runs", lambda plan: replace(plan, repeats=plan.repeats + 1)))
    assert measure(driver)[-1].problem == f"the disk of {driver.path} is full; make room on it"


def test_a_held_database_is_waited_for_while_measuring_and_stopping_is_heard(
    driver: Driver,
) -> None:
    other = sqlite3.connect(
        driver.path / "results.db", isolation_level=None, check_same_thread=False
    )

    def hold(notice: Notice) -> None:
        if (
            isinstance(notice, StepStarted)
            and isinstance(notice.step, RunStep)
            and not runs_of(driver)
        ):
            if not other.in_transaction:
                other.execute("BEGIN IMMEDIATE")
        elif isinstance(notice, Waits) and not stopped:
            stopped.append(time.monotonic())
            driver.stop()
        elif isinstance(notice, Ended):
            stopped.append(time.monotonic())

    stopped: list[float] = []
    driver.listen(hold)
    ended = driver.run_here(EVERYTHING)
    assert (ended.finished, ended.problem) == (False, None)
    assert stopped[1] - stopped[0] < 2.0
    other.execute("ROLLBACK")
    other.close()
    assert measure(driver)[-1].finished


def test_the_locks_are_free_only_when_the_renderer_has_ended_too(
    driver: Driver, tmp_path: Path
) -> None:
    lease = Lease(tmp_path / "lease")
    assert lease.take(driver.path) == ""
    link = WorkerLink(RENDERER.worker, tmp_path / "log", lambda link, reply: None, lease.handles)
    lease.release()
    other = Lease(tmp_path / "lease")
    assert other.take(driver.path) != ""
    link.kill()
    link.close()
    assert other.take(driver.path) == ""
    other.release()


def test_a_scene_that_disappears_is_told_and_nothing_is_lost(
    tmp_path: Path, tiny_study: Study
) -> None:
    path = create_study(tmp_path / "a.study", replace(tiny_study, scene=str(tmp_path / "gone.glb")))
    driver = Driver(Store.open(path))
    problem = measure(driver)[-1].problem
    assert problem is not None
    assert "gone.glb: no such scene" in problem
    assert "gone.glb" in (driver.snapshot.problem or "")
    driver.close()


def test_pictures_that_cannot_be_written_end_the_measuring_and_fail_no_trial(
    driver: Driver,
) -> None:
    folder = driver.snapshot.folder

    def take_folder_away(notice: Notice) -> None:
        if (
            isinstance(notice, StepStarted)
            and isinstance(notice.step, RunStep)
            and len(runs_of(driver)) == 1
        ):
            folder.pictures.rename(folder.path / "elsewhere")

    problem = measure(driver, take_folder_away)[-1].problem
    assert problem is not None
    assert "the picture cannot be written" in problem
    assert [run.reason for run in runs_of(driver)] == [""]
    (folder.path / "elsewhere").rename(folder.pictures)
    assert measure(driver)[-1].finished


def test_only_limits_what_is_measured(driver: Driver) -> None:
    assert measure(driver, policy=Sweeping(("bounces.total",)))[-1].finished
    assert {t.configuration["samples.max"] for t in driver.snapshot.results.trials if t.runs} == {
        64
    }


def test_a_trial_that_fails_is_given_up_and_tried_again_when_measuring_is_asked_for(
    driver: Driver,
) -> None:
    driver.settle(
        driver.edit(
            "Variant", lambda plan: plan.with_values_to_try({"geometry.variant": ("none such",)})
        )
    )
    assert measure(driver)[-1].finished
    failed = next(t for t in driver.snapshot.results.trials if not t.is_base)
    assert "there are cut-out lid, drilled lid" in failed.failure
    assert sum(run.trial == failed.id for run in runs_of(driver)) == 2
    again = measure(driver)
    assert sum(isinstance(n, StepStarted) and isinstance(n.step, RunStep) for n in again) == 2


def test_killed_at_any_moment_no_finished_run_is_lost(tmp_path: Path, tiny_study: Study) -> None:
    path = tmp_path / "a.study"
    create_study(path, tiny_study)
    finished = 0

    for wait in (0.0, 0.4, 1.1):
        process = subprocess.Popen(
            [sys.executable, "-m", "swift_sample.cli", "run", str(path)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        database = path / "results.db"
        deadline = time.monotonic() + 90
        while (
            time.monotonic() < deadline
            and _runs_in(database) <= finished
            and process.poll() is None
        ):
            time.sleep(0.05)

        time.sleep(wait)
        process.kill()
        process.wait()
        found = _runs_in(database)
        assert found > finished or process.returncode == 0
        finished = found

    driver = Driver(Store.open(path))
    assert measure(driver)[-1].finished
    assert len(runs_of(driver)) >= finished
    assert list(driver.snapshot.folder.pictures.glob(".writing-*")) == []
    driver.close()


def test_an_interrupt_at_the_terminal_ends_measuring_well(
    tmp_path: Path, tiny_study: Study
) -> None:
    """The terminal interrupts every process of the group; only the one that measures may act on
    it."""
    path = tmp_path / "a.study"
    create_study(path, replace(tiny_study, repeats=40))

    process = subprocess.Popen(
        [sys.executable, "-m", "swift_sample.cli", "run", str(path)],
        process_group=0,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )
    deadline = time.monotonic() + 90
    while time.monotonic() < deadline and _runs_in(path / "results.db") < 2:
        time.sleep(0.05)

    os.killpg(process.pid, signal.SIGINT)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 1
    assert f"stopped; `swift-sample run {path}` carries on" in said
    driver = Driver(Store.open(path))
    assert all(run.result is not None for run in runs_of(driver))
    assert "worker lost" not in {kind for _, kind, _ in driver.words()}
    driver.close()


def test_every_decision_stands_in_the_log_with_its_reason(driver: Driver) -> None:
    measure(driver)
    decisions = [text for _, kind, text in driver.words() if kind == "decision"]
    assert (
        decisions[0]
        == "rendering the reference: errors are measured against it, and there is none yet"
    )
    runs = [
        text for text in decisions if text.startswith("rendering ") and "the reference" not in text
    ]
    assert len(runs) == len(runs_of(driver))
    assert sum(": run 2 of " in text for text in runs) == 3


def _runs_in(database: Path) -> int:
    import sqlite3

    try:
        connection = sqlite3.connect(f"file:{database}?mode=ro", uri=True)
        try:
            return int(
                connection.execute("SELECT count(*) FROM runs WHERE reason = ''").fetchone()[0]
            )
        finally:
            connection.close()
    except sqlite3.Error:
        return 0


class Asking:
    """A worker that is asked one thing after the other."""

    def __init__(self, log: Path) -> None:
        self._replies: queue.SimpleQueue[Reply | None] = queue.SimpleQueue()
        self.link = WorkerLink(RENDERER.worker, log, lambda _, reply: self._replies.put(reply))

    def __call__(self, job: Request) -> Outcome:
        self.link.send(job)
        while True:
            reply = self._replies.get(timeout=90)
            if reply is None:
                raise WorkerError(f"the renderer ended unexpectedly ({self.link.exit_words()})")
            if not isinstance(reply, Progress):
                return reply


@pytest.fixture
def ask(tmp_path: Path):
    made = Asking(tmp_path / "worker.log")
    yield made
    made.link.close()


def test_the_worker_answers_failures_and_goes_on(ask: Asking, tmp_path: Path) -> None:
    missing = ask(
        RenderJob(
            spec=SPEC.model_copy(update={"scene": "gone.glb"}), picture=str(tmp_path / "a.exr")
        )
    )
    assert isinstance(missing, Failed)
    assert "gone.glb: no such scene" in missing.reason
    nowhere = ask(RenderJob(spec=SPEC, picture=str(tmp_path / "no" / "a.exr")))
    assert isinstance(nowhere, Failed)
    assert "cannot be written" in nowhere.reason
    assert isinstance(ask(RenderJob(spec=SPEC, picture=str(tmp_path / "a.exr"))), Rendered)

    unread = ask(
        MeasureJob(
            pictures=[str(tmp_path / "a.exr")],
            reference=str(tmp_path / "none.exr"),
            exposure=0,
            curve="soft",
            size=(16, 9),
        )
    )
    assert unread == Unfit(faults={str(tmp_path / "none.exr"): "is missing"})


def test_of_earlier_studies_pictures_are_looked_at_themselves(ask: Asking, tmp_path: Path) -> None:
    """No digests were kept of them: each has to have finite values, and the size of the others."""
    right, nan, small = (tmp_path / f"{name}.exr" for name in ("right", "nan", "small"))
    write_exr(right, Picture(np.ones((9, 16, 3), np.float32)))
    write_exr(nan, Picture(np.full((9, 16, 3), np.nan, np.float32)))
    write_exr(small, Picture(np.ones((4, 8, 3), np.float32)))

    def measured(reference: Path, *pictures: Path) -> Outcome:
        return ask(
            MeasureJob(
                pictures=list(map(str, pictures)),
                reference=str(reference),
                exposure=0,
                curve="soft",
                size=(16, 9),
            )
        )

    assert isinstance(measured(right, right, right), Measured)
    assert measured(right, right, nan) == Unfit(
        faults={str(nan): "has values that are not finite numbers"}
    )
    assert measured(right, right, right, small) == Unfit(faults={str(small): "has another size"})
    assert measured(small, right) == Unfit(faults={str(small): "has another size"})


@pytest.mark.parametrize("written", ["and recorded", "and not recorded", "by another"])
def test_the_chunks_in_a_reference_decide_whether_it_grows(
    ask: Asking, tmp_path: Path, written: str
) -> None:
    """After a kill between the writing of a chunk and its recording, that chunk is not rendered and
    merged again."""
    path = tmp_path / "reference.exr"
    first = ask(ReferenceJob(spec=SPEC, picture=str(path)))
    second = ReferenceJob(
        spec=SPEC.model_copy(update={"seed": 2}),
        picture=str(path),
        samples_before=4,
        chunks_before=1,
        digest=first.digest,
    )
    grown = ask(second)
    assert (grown.samples, grown.digest) == (8, digest_of_picture(path))

    if written == "and not recorded":
        again = ask(second)
        assert again.model_copy(update={"seconds": grown.seconds}) == grown
    else:
        known = grown.digest if written == "and recorded" else first.digest
        third = second.model_copy(
            update={
                "samples_before": 8,
                "chunks_before": 2,
                "digest": known,
                "spec": SPEC.model_copy(update={"seed": 3}),
            }
        )
        outcome = ask(third)

        if written == "and recorded":
            assert outcome.samples == 12
        else:
            assert outcome == Unfit(faults={str(path): "is not the one that was written"})


def test_a_picture_that_equals_the_reference_does_not_upset_the_worker(
    ask: Asking, tmp_path: Path
) -> None:
    """Its ratio of signal to noise is infinite, and has to come through the pipe."""
    name = str(tmp_path / "a.exr")
    ask(RenderJob(spec=SPEC, picture=name))
    same = ask(MeasureJob(pictures=[name], reference=name, exposure=0, curve="soft", size=(16, 9)))
    assert isinstance(same, Measured)
    assert same.areas[""]["psnr"][0] == float("inf")
    assert same.areas[""]["rms"][0] == 0


def test_a_kept_scene_is_made_ready_first_and_a_job_stops_when_told(
    ask: Asking, tmp_path: Path
) -> None:
    kept = SPEC.model_copy(update={"settings": {"samples.max": 4, "scene.keep_built": True}})
    first, second = (ask(RenderJob(spec=kept, picture=str(tmp_path / "a.exr"))) for _ in range(2))
    assert first.result.reused_scene
    assert first.result.seconds["build"] == second.result.seconds["build"] == 0
    assert first.result.ready_seconds > 0 == second.result.ready_seconds
    assert second.result.reused_scene
    assert second.result.seconds["load"] == 0.0
    long = SPEC.model_copy(update={"settings": {"samples.max": 65536}, "size": (160, 90)})
    timer = threading.Timer(0.3, ask.link.stop_job)
    timer.start()
    assert isinstance(ask(RenderJob(spec=long, picture=str(tmp_path / "b.exr"))), Stopped)
    timer.join()
    assert not (tmp_path / "b.exr").exists()
    ask.link.kill()
    with pytest.raises(WorkerError, match="ended unexpectedly"):
        ask(RenderJob(spec=SPEC, picture=str(tmp_path / "a.exr")))


@pytest.mark.parametrize("with_recordings", [True, False])
def test_areas_and_views_are_measured_from_stored_pictures(
    driver: Driver, with_recordings: bool
) -> None:
    """Watch areas get figures, another view other figures, and nothing is rendered for either."""
    if not with_recordings:
        refuse_recordings(driver)

    measure(driver)
    runs = len(runs_of(driver))
    width, height = driver.state.plan.size
    areas = (WatchArea(name="left", x=0, y=0, width=width // 2, height=height),)
    driver.settle(driver.edit("Area", lambda plan: replace(plan, areas=areas)))
    assert all(t.unmeasured >= {"grain@left"} for t in driver.snapshot.results.trials)
    notices = measure(driver, policy=Remeasuring())
    assert notices[-1].finished
    kind = DeriveStep if with_recordings else MeasureStep
    assert {type(n.step) for n in notices if isinstance(n, StepStarted)} == {kind}
    trials = driver.snapshot.results.trials
    assert all(t.figures["grain@left"] is not None and not t.unmeasured for t in trials)
    before = [t.figures["grain"].value for t in trials]
    driver.settle(
        driver.edit("Name", lambda plan: replace(plan, areas=(replace(areas[0], name="jar"),)))
    )
    assert all(not t.unmeasured for t in driver.snapshot.results.trials), (
        "another name is no other area"
    )
    driver.settle(driver.edit("View", lambda plan: replace(plan, view=View(exposure=-2.0))))
    assert all(t.verdict == "unmeasured" for t in driver.snapshot.results.trials)
    measure(driver, policy=Remeasuring())
    after = [t.figures["grain"].value for t in driver.snapshot.results.trials]
    assert all(a < 0.8 * b for a, b in zip(after, before, strict=True))
    driver.settle(driver.undo())
    assert [t.figures["grain"].value for t in driver.snapshot.results.trials] == before, (
        "figures of the old view come back"
    )
    assert len(runs_of(driver)) == runs


@pytest.fixture
def busy_machine(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Lease]:
    """Another study is timed on this machine."""
    monkeypatch.setattr(stretch_module, "LEASE_SECONDS", 0.05)
    other = Lease(tmp_path / "lease-of-others")
    assert other.take(Path("other.study")) == ""
    yield other
    other.release()


def test_a_budget_buys_measuring_and_not_waiting(
    study_path: Path, busy_machine: Lease, tmp_path: Path
) -> None:
    """O8: 38 of 60 s were waited for another study."""
    driver = Driver(Store.open(study_path), lease=Lease(tmp_path / "lease-of-others"))
    now = [0.0]
    driver.study.clock = lambda: now[0]

    def told(notice: Notice) -> None:
        if isinstance(notice, Waits):
            now[0] += 30.0
            if now[0] > 100:
                busy_machine.release()

    assert measure(driver, told, Sweeping(budget_seconds=60.0))[-1].finished
    assert now[0] > 100
    assert len(runs_of(driver)) > 0
    driver.close()


def test_comparing_what_is_there_waits_for_no_other_study(study_path: Path, tmp_path: Path) -> None:
    """U11: a watch area drawn while another study was timed gave "No pick yet" until that one
    ended."""
    driver = Driver(Store.open(study_path), lease=Lease(tmp_path / "lease"))
    assert measure(driver)[-1].finished
    driver.settle(
        driver.edit(
            "Watch",
            lambda plan: replace(plan, areas=(WatchArea(name="jar", x=0, y=0, width=8, height=8),)),
        )
    )
    assert driver.state.wanting
    other = Lease(tmp_path / "lease")
    assert other.take(Path("other.study")) == ""
    notices = measure(driver, policy=Remeasuring())
    other.release()
    assert notices[-1].finished
    assert not [notice for notice in notices if isinstance(notice, Waits)]
    assert not driver.state.wanting
    driver.close()

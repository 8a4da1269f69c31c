"""The runner with a real worker process, on a scene that renders in a moment."""

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.core.errors import WorkerError
from swift_sample.core.study import pipeline
from swift_sample.core.study.desk import Desk
from swift_sample.core.study.link import WorkerLink
from swift_sample.core.study.messages import Failed, Measured, MeasureJob, Rendered, RenderJob, RenderSpec, Stopped
from swift_sample.core.study.model import Study, WatchArea
from swift_sample.core.study.runner import Ended, Event, Runner, StepEnded, StepStarted
from swift_sample.core.study.schedule import MeasureStep, RunStep
from swift_sample.core.study.store import StudyFolder
from swift_sample.core.view import View

SPEC = RenderSpec(scene="honey-stall-small", size=(16, 9), settings={"samples.max": 4}, seed=1)


def measure(folder: StudyFolder, on_event: Callable[[Runner, Event], None] = lambda *_: None) -> list[Event]:
    """Run to the end in this thread."""
    events: list[Event] = []

    def keep(event: Event) -> None:
        events.append(event)
        on_event(runner, event)

    runner = Runner(folder, keep)
    runner.run()
    return events


def test_a_study_is_measured_to_the_end(folder: StudyFolder) -> None:
    events = measure(folder)
    assert events[-1] == Ended(True, None)
    snapshot = Desk(folder).snapshot()
    assert snapshot.to_come == ()
    assert all(t.is_on_map and len(t.runs) >= 2 for t in snapshot.results.trials)
    by_bounces = {t.configuration["bounces.total"]: t for t in snapshot.results.trials
                  if t.configuration["samples.max"] == 64}
    assert by_bounces[0].figures["light_shift"].value > 2 * by_bounces[4].figures["light_shift"].value
    assert len(list(folder.pictures_path.glob("*.exr"))) == len(snapshot.runs)
    assert snapshot.reference is not None
    assert snapshot.reference.samples >= 96
    assert all(run.result.seconds["total"] > 0 for run in snapshot.runs)
    # Nothing is left to do, so measuring again renders nothing.
    assert [e for e in measure(folder) if isinstance(e, StepStarted)] == []


def test_losing_the_worker_costs_one_run(folder: StudyFolder) -> None:
    killed = []

    def kill_once(runner: Runner, event: Event) -> None:
        if isinstance(event, StepStarted) and isinstance(event.step, RunStep) and len(killed) < 1 and runner.worker_pid:
            killed.append(runner.worker_pid)
            os.kill(runner.worker_pid, signal.SIGKILL)

    events = measure(folder, kill_once)
    assert killed
    assert events[-1] == Ended(True, None)
    problems = [e.problem for e in events if isinstance(e, StepEnded) and e.problem]
    assert problems == ["the renderer ended unexpectedly (signal 9)"]
    assert sum(run.result is None for run in folder.runs()) == 1
    assert Desk(folder).snapshot().to_come == ()


def test_only_failures_in_a_row_give_a_trial_up(folder: StudyFolder) -> None:
    """A machine that loses a worker now and then must not end a long study's trials one by one."""
    desk = Desk(folder)
    trial, configuration = folder.trial_number(folder.study.base), folder.study.base
    spec = desk.spec(configuration, 1)
    rendered = pipeline.run_render(spec, pipeline.SceneShelf(), None)[1]
    for block, fails in enumerate((True, False, True, False, True)):
        folder.add_run(trial, desk.scene_key(), False, block, desk.machine, None if fails else "p.exr",
                       None if fails else rendered, "signal 9" if fails else None)
    done = desk.done(0)
    assert done.failures[configuration] == 1
    assert done.runs[configuration] == [1, 3]


def test_stopping_keeps_what_is_finished_and_measuring_goes_on(folder: StudyFolder) -> None:
    def stop_after_three(runner: Runner, event: Event) -> None:
        if isinstance(event, StepEnded) and len(folder.runs()) == 3:
            runner.stop(after_this_step=True)

    assert measure(folder, stop_after_three)[-1] == Ended(False, None)
    before = folder.runs()
    assert len(before) == 3
    assert measure(folder)[-1] == Ended(True, None)
    assert folder.runs()[:3] == before


def test_lost_and_damaged_pictures_are_rendered_again(folder: StudyFolder) -> None:
    measure(folder)
    first, second = (folder.pictures_path / run.picture for run in folder.runs()[1:3])
    first.unlink()
    second.write_bytes(b"rubbish")
    folder.save_plan(replace(folder.study, view=replace(folder.study.view, exposure=1.0)))
    assert measure(folder)[-1] == Ended(True, None)
    reasons = {run.reason for run in folder.runs() if run.reason}
    assert reasons == {"its picture is missing", "its picture is damaged"}
    assert Desk(folder).snapshot().to_come == ()


def test_a_scene_that_disappears_is_told_and_nothing_is_lost(tmp_path: Path, tiny_study: Study) -> None:
    with StudyFolder.create(tmp_path / "a.study", replace(tiny_study, scene=str(tmp_path / "gone.glb"))) as folder:
        problem = measure(folder)[-1].problem
        assert problem is not None
        assert "gone.glb: no such scene" in problem
        assert "gone.glb" in (Desk(folder).snapshot().problem or "")


def test_pictures_that_cannot_be_written_end_the_measuring_and_fail_no_trial(folder: StudyFolder) -> None:
    def take_folder_away(runner: Runner, event: Event) -> None:
        if isinstance(event, StepStarted) and isinstance(event.step, RunStep) and len(folder.runs()) == 1:
            folder.pictures_path.rename(folder.path / "elsewhere")

    problem = measure(folder, take_folder_away)[-1].problem
    assert problem is not None
    assert "the picture cannot be written" in problem
    assert [run.reason for run in folder.runs()] == [None]
    (folder.path / "elsewhere").rename(folder.pictures_path)
    assert measure(folder)[-1] == Ended(True, None)


def test_only_limits_what_is_measured(folder: StudyFolder) -> None:
    desk = Desk(folder)
    desk.only = ("bounces.total",)
    runner = Runner(folder, lambda _: None, desk=desk)
    runner.run()
    assert {c["samples.max"] for c in folder.trials().values()} == {64}


def test_killed_at_any_moment_no_finished_run_is_lost(tmp_path: Path, tiny_study: Study) -> None:
    path = tmp_path / "a.study"
    StudyFolder.create(path, tiny_study).close()
    finished = 0
    for wait in (0.0, 0.4, 1.1):
        process = subprocess.Popen([sys.executable, "-m", "swift_sample.cli", "run", str(path)],
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        database = path / "results.db"
        deadline = time.monotonic() + 90
        while time.monotonic() < deadline and _runs_in(database) <= finished and process.poll() is None:
            time.sleep(0.05)
        time.sleep(wait)
        process.kill()
        process.wait()
        with StudyFolder.open(path) as folder:
            found = len([run for run in folder.runs() if run.result is not None])
            assert found > finished or process.returncode == 0
            finished = found
    with StudyFolder.open(path) as folder:
        assert measure(folder)[-1] == Ended(True, None)
        assert len(folder.runs()) >= finished
        assert list(folder.pictures_path.glob(".writing-*")) == []


def test_an_interrupt_at_the_terminal_ends_measuring_well(tmp_path: Path, tiny_study: Study) -> None:
    """The terminal interrupts every process of the group; only the one that measures may act on it."""
    path = tmp_path / "a.study"
    StudyFolder.create(path, replace(tiny_study, repeats=40)).close()
    process = subprocess.Popen([sys.executable, "-m", "swift_sample.cli", "run", str(path)], process_group=0,
                               stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    deadline = time.monotonic() + 90
    while time.monotonic() < deadline and _runs_in(path / "results.db") < 2:
        time.sleep(0.05)
    os.killpg(process.pid, signal.SIGINT)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 1
    assert f"stopped; `swift-sample run {path}` carries on" in said
    with StudyFolder.open(path) as folder:
        assert all(run.result is not None for run in folder.runs())
        assert "worker lost" not in {kind for _, kind, _ in folder.events()}


def test_every_decision_stands_in_the_log_with_its_reason(folder: StudyFolder) -> None:
    measure(folder)
    decisions = [text for _, kind, text in folder.events() if kind == "decision"]
    assert decisions[0] == "rendering the reference: errors are measured against it, and there is none yet"
    runs = [text for text in decisions if text.startswith("rendering ") and ": run " in text]
    assert len(runs) == len(folder.runs())
    assert sum(text.endswith("run 2 of 2") for text in runs) == 3


def _runs_in(database: Path) -> int:
    import sqlite3

    try:
        connection = sqlite3.connect(f"file:{database}?mode=ro", uri=True)
        try:
            return int(connection.execute("SELECT count(*) FROM runs WHERE result IS NOT NULL").fetchone()[0])
        finally:
            connection.close()
    except sqlite3.Error:
        return 0


@pytest.fixture
def link(tmp_path: Path):
    made = WorkerLink(tmp_path / "worker.log")
    yield made
    made.close()


def test_the_worker_answers_failures_and_goes_on(link: WorkerLink, tmp_path: Path) -> None:
    def ask(job):
        return link.do(job, lambda _: None)

    missing = ask(RenderJob(spec=SPEC.model_copy(update={"scene": "gone.glb"}), picture=str(tmp_path / "a.exr")))
    assert isinstance(missing, Failed)
    assert "gone.glb: no such scene" in missing.reason
    nowhere = ask(RenderJob(spec=SPEC, picture=str(tmp_path / "no" / "a.exr")))
    assert isinstance(nowhere, Failed)
    assert "cannot be written" in nowhere.reason
    assert isinstance(ask(RenderJob(spec=SPEC, picture=str(tmp_path / "a.exr"))), Rendered)
    unread = ask(MeasureJob(pictures=[str(tmp_path / "a.exr")], reference=str(tmp_path / "none.exr"), exposure=0,
                            curve="soft"))
    assert isinstance(unread, Failed)
    assert "no such picture" in unread.reason


def test_a_picture_that_equals_the_reference_does_not_upset_the_worker(link: WorkerLink, tmp_path: Path) -> None:
    """Its ratio of signal to noise is infinite, and has to come through the pipe."""
    name = str(tmp_path / "a.exr")
    link.do(RenderJob(spec=SPEC, picture=name), lambda _: None)
    same = link.do(MeasureJob(pictures=[name], reference=name, exposure=0, curve="soft"), lambda _: None)
    assert isinstance(same, Measured)
    assert same.figures["psnr"][0] == float("inf")
    assert same.figures["rms"][0] == 0


def test_a_kept_scene_is_made_ready_first_and_a_job_stops_when_told(link: WorkerLink, tmp_path: Path) -> None:
    kept = SPEC.model_copy(update={"settings": {"samples.max": 4, "scene.keep_built": True}})
    first, second = (link.do(RenderJob(spec=kept, picture=str(tmp_path / "a.exr")), lambda _: None) for _ in range(2))
    assert first.result.reused_scene
    assert first.result.seconds["build"] == second.result.seconds["build"] == 0
    assert first.result.ready_seconds > 0 == second.result.ready_seconds
    assert second.result.reused_scene
    assert second.result.seconds["load"] == 0.0
    long = SPEC.model_copy(update={"settings": {"samples.max": 65536}, "size": (160, 90)})
    timer = threading.Timer(0.3, link.stop_job)
    timer.start()
    assert isinstance(link.do(RenderJob(spec=long, picture=str(tmp_path / "b.exr")), lambda _: None), Stopped)
    timer.join()
    assert not (tmp_path / "b.exr").exists()
    link.kill()
    with pytest.raises(WorkerError, match="ended unexpectedly"):
        link.do(RenderJob(spec=SPEC, picture=str(tmp_path / "a.exr")), lambda _: None)


def test_areas_and_views_are_measured_from_stored_pictures(folder: StudyFolder) -> None:
    """Watch areas get figures, another view other figures, and nothing is rendered for either."""
    measure(folder)
    runs = len(folder.runs())
    width, height = folder.study.size
    folder.save_plan(replace(folder.study, areas=(WatchArea("left", 0, 0, width // 2, height),)))
    events: list[Event] = []
    Runner(folder, events.append, measures_only=True).run()
    assert events[-1] == Ended(True, None)
    assert {type(e.step) for e in events if isinstance(e, StepStarted)} == {MeasureStep}
    trials = Desk(folder).snapshot().results.trials
    assert all(t.figures["grain@left"] is not None for t in trials)
    before = [t.figures["grain"].value for t in trials]
    folder.save_plan(replace(folder.study, view=View(exposure=-2.0)))
    Runner(folder, events.append, measures_only=True).run()
    after = [t.figures["grain"].value for t in Desk(folder).snapshot().results.trials]
    assert all(a < 0.8 * b for a, b in zip(after, before, strict=True))
    assert len(folder.runs()) == runs

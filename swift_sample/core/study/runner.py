"""The runner: owns the study and one worker, decides with `schedule`, and reports what happens as events.

It works in a thread of its own. Everything finished is in the study folder before the next step starts, so it can be
stopped or killed at any moment.
"""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from swift_sample.core.errors import StudyError, SwiftSampleError, WorkerError, one_line
from swift_sample.core.kernels import is_compiled
from swift_sample.core.study.desk import CHUNK_SAMPLES, FIRST_CHUNK_SAMPLES, Desk
from swift_sample.core.study.frames import FrameWalk, grain_of
from swift_sample.core.study.link import WorkerLink
from swift_sample.core.study.messages import (
    Failed,
    Measured,
    MeasureJob,
    Outcome,
    ReferenceExtended,
    ReferenceJob,
    Rendered,
    RenderJob,
    Request,
    SmoothJob,
    Stopped,
)
from swift_sample.core.study.model import Study
from swift_sample.core.study.schedule import (
    Decision,
    FrameGrainStep,
    MeasureStep,
    ReferenceStep,
    RunStep,
    SmoothStep,
    Step,
    decide,
    step_words,
)
from swift_sample.core.study.searcher import Searcher
from swift_sample.core.study.store import ReferenceState, StoredMeasures, StoredRun, StudyFolder

if TYPE_CHECKING:
    from swift_sample.core.study.search import Advice

MAX_WORKER_LOSSES = 3
"""A worker that was lost this often in a row, without any finished job between, ends the measuring."""


@dataclass(frozen=True)
class StepStarted:
    step: Step
    why: str


@dataclass(frozen=True)
class StepProgress:
    share: float
    text: str


@dataclass(frozen=True)
class StepEnded:
    """`problem` says why a step failed; None where it went well."""

    step: Step
    problem: str | None


@dataclass(frozen=True)
class Ended:
    """Measuring ended: finished, stopped on request, or with a problem."""

    finished: bool
    problem: str | None


@dataclass(frozen=True)
class Looked:
    """A search looked at all combinations: what it will render next, why, and what it predicts."""

    advice: "Advice"


Event = StepStarted | StepProgress | StepEnded | Looked | Ended


class Runner:
    """Measures a study until it is done or stopped. `on_event` is called from the runner's thread.

    The folder may be used by other threads only while holding `lock`.
    """

    def __init__(self, folder: StudyFolder, on_event: Callable[[Event], None], lock: "threading.RLock | None" = None,
                 desk: Desk | None = None, measures_only: bool = False, searcher: Searcher | None = None,
                 walk: FrameWalk | None = None) -> None:
        """`measures_only` renders nothing: stored pictures are measured again, as after a change of view or areas.
        A searcher or a walk through frames, which must share `desk`, chooses what is measured."""
        self._measures_only, self._searcher, self._walk = measures_only, searcher, walk
        self.lock = lock or threading.RLock()
        self._desk = desk or Desk(folder)
        self._on_event = on_event
        self._link: WorkerLink | None = None
        self._stop_now, self._stop_after = threading.Event(), threading.Event()
        self._thread: threading.Thread | None = None
        self._runs_since_extension = 0

    def start(self) -> None:
        """Begin, in a thread of its own."""
        self._thread = threading.Thread(target=self.run, name="runner", daemon=True)
        self._thread.start()

    def stop(self, after_this_step: bool = False) -> None:
        """Ask to end, at once or after the step in hand; `Ended` follows."""
        self._stop_after.set()
        if not after_this_step:
            self._stop_now.set()
            if self._link is not None:
                self._link.stop_job()

    def join(self, timeout: float | None = None) -> bool:
        """Wait for the end; returns whether it came."""
        if self._thread is not None:
            self._thread.join(timeout)
            return not self._thread.is_alive()
        return True

    @property
    def worker_pid(self) -> int | None:
        return self._link.pid if self._link is not None else None

    def run(self) -> None:
        """Measure until nothing is left to do. Never raises: problems end up in `Ended`."""
        finished, problem = False, None
        try:
            finished = self._run_all()
        except SwiftSampleError as error:
            problem = one_line(error)
        except Exception as error:  # the window must learn of any end
            problem = f"{type(error).__name__}: {one_line(error)}"
        finally:
            if self._link is not None:
                self._link.close()
                self._link = None
        self._on_event(Ended(finished, problem))

    def _run_all(self) -> bool:
        losses = 0
        while not self._stop_after.is_set():
            decision = self._next_decision()
            if decision is None or (self._measures_only and not isinstance(decision.step, MeasureStep)):
                return True
            step = decision.step
            try:
                link = self._ready_link()
                if self._stop_after.is_set():
                    break
                with self.lock:
                    self._desk.folder.add_event("decision", f"{step_words(step, self._desk.study.base)}: {decision.why}")
                self._on_event(StepStarted(step, decision.why))
                problem = self._do(link, step)
                losses = 0
            except WorkerError as error:
                losses += 1
                problem = one_line(error)
                self._lose_worker(step, problem)
                if losses >= MAX_WORKER_LOSSES:
                    raise WorkerError(f"{problem}; it was started {losses} times in vain, what was measured is kept, "
                                      f"see {self._desk.folder.log_path}") from error
            self._on_event(StepEnded(step, problem))
            if problem is not None and not isinstance(step, RunStep):
                raise StudyError(problem)
        return False

    def _next_decision(self) -> Decision | None:
        with self.lock:
            if self._walk is not None:
                return self._walk.next_decision()
            decision = decide(self._desk.to_measure(), self._desk.done(self._runs_since_extension))
            if decision is not None or self._searcher is None:
                return decision
            decision = self._searcher.next_decision()
            advice = self._searcher.advice
            if advice is not None:
                self._desk.folder.add_event("search", advice.why)
        if advice is not None:
            self._on_event(Looked(advice))
        return decision

    def _ready_link(self) -> WorkerLink:
        if self._link is None:
            first = not is_compiled()
            self._on_event(StepProgress(0.0, "Preparing the renderer for the first time, about a minute" if first
                                        else "Starting the renderer"))
            self._link = WorkerLink(self._desk.folder.log_path)
            outcome = self._link.warm_up(lambda p: self._on_event(StepProgress(p.share, p.text)))
            if isinstance(outcome, Failed):
                raise WorkerError(f"the renderer cannot start ({outcome.reason})")
        return self._link

    def _lose_worker(self, step: Step, problem: str) -> None:
        if self._link is not None:
            self._link.kill()
            self._link.close()
            self._link = None
        with self.lock:
            self._desk.folder.add_event("worker lost", problem)
            if isinstance(step, RunStep):
                self._record_failure(step, problem)

    def _do(self, link: WorkerLink, step: Step) -> str | None:
        if isinstance(step, RunStep):
            return self._do_run(link, step)
        if isinstance(step, ReferenceStep):
            return self._do_reference(link, step)
        if isinstance(step, SmoothStep):
            return self._do_smooth(link, step)
        if isinstance(step, FrameGrainStep):
            return self._do_frame_grain(link, step)
        return self._do_measure(link, step)

    def _ask(self, link: WorkerLink, job: Request) -> Outcome:
        return link.do(job, lambda p: self._on_event(StepProgress(p.share, p.text)))

    def _do_run(self, link: WorkerLink, step: RunStep) -> str | None:
        with self.lock:
            folder = self._desk.folder
            trial, key = folder.trial_number(step.configuration), self._desk.scene_key()
        name = f"{step.configuration.digest}-{step.block}-{'c' if step.control else 'r'}-{step.seed:08x}.exr"
        outcome = self._ask(link, RenderJob(spec=self._desk.spec(step.configuration, step.seed),
                                            picture=str(folder.pictures_path / name)))
        if isinstance(outcome, Rendered):
            with self.lock:
                folder.add_run(trial, key, step.control, step.block, self._desk.machine, name, outcome.result, None)
            self._runs_since_extension += 1
            return None
        if isinstance(outcome, Stopped):
            return None
        if isinstance(outcome, Failed) and outcome.ends_measuring:
            raise StudyError(outcome.reason)
        with self.lock:
            self._record_failure(step, _reason(outcome))
        return _reason(outcome)

    def _record_failure(self, step: RunStep, reason: str) -> None:
        folder = self._desk.folder
        folder.add_run(folder.trial_number(step.configuration), self._desk.scene_key(), step.control, step.block,
                       self._desk.machine, None, None, reason)

    def _do_reference(self, link: WorkerLink, step: ReferenceStep) -> str | None:
        desk = self._desk
        with self.lock:
            key, study = desk.reference_key(), desk.study
            path, before = desk.folder.reference_path(key), desk.folder.reference(key)
        samples = FIRST_CHUNK_SAMPLES if step.chunk == 0 else CHUNK_SAMPLES
        spec = desk.spec(study.reference_configuration(samples), 0x40000000 + (before.samples if before else 0))
        if before is None:
            path.unlink(missing_ok=True)
        outcome = self._ask(link, ReferenceJob(spec=spec, picture=str(path)))
        if isinstance(outcome, ReferenceExtended):
            seconds = outcome.seconds + (before.seconds if before else 0.0)
            with self.lock:
                desk.folder.save_reference(key, ReferenceState(outcome.samples, outcome.floor, seconds))
            self._runs_since_extension = 0
            return None
        return None if isinstance(outcome, Stopped) else _reason(outcome)

    def _do_smooth(self, link: WorkerLink, step: SmoothStep) -> str | None:
        desk, searcher = self._desk, self._searcher
        assert searcher is not None
        with self.lock:
            study, pictures = desk.study, searcher.pictures()
            job = SmoothJob(pictures=pictures, reference=str(desk.folder.reference_path(desk.reference_key())),
                            settings=dict(step.configuration), **_measured_how(study))
        outcome = self._ask(link, job)
        if isinstance(outcome, Stopped):
            return None
        with self.lock:
            if isinstance(outcome, Measured):
                searcher.take(step, outcome)
            else:
                desk.folder.add_event("search", f"{step_words(step, study.base)}: {_reason(outcome)}")
                searcher.skip(step)
        return None

    def _do_frame_grain(self, link: WorkerLink, step: FrameGrainStep) -> str | None:
        desk = self._desk
        with self.lock:
            folder, key = desk.folder, desk.scene_key()
            trial = folder.trial_number(step.configuration)
            pictures = [str(folder.pictures_path / r.picture) for r in folder.runs()
                        if r.trial == trial and r.scene_key == key and r.result is not None and r.picture is not None]
        outcome = self._ask(link, MeasureJob(pictures=pictures, reference=pictures[-1], **_measured_how(desk.study)))
        if isinstance(outcome, Stopped):
            return None
        grain = grain_of(outcome) if isinstance(outcome, Measured) else None
        if grain is None:
            return f"the grain of a frame cannot be measured ({_reason(outcome)})"
        with self.lock:
            folder.save_frame_grain(key, trial, grain)
        return None

    def _do_measure(self, link: WorkerLink, step: MeasureStep) -> str | None:
        desk = self._desk
        with self.lock:
            folder = desk.folder
            trial, key, study = folder.trial_number(step.configuration), desk.scene_key(), desk.study
            runs = [r for r in folder.runs() if r.scene_key == key and r.machine == desk.machine.fingerprint]
            own = [r for r in runs if r.trial == trial and r.result is not None]
            lost = [r for r in own if r.picture is None or not (folder.pictures_path / r.picture).is_file()]
            for run in lost:
                folder.discard_run(run.number, "its picture is missing")
            measured_from = desk.measured_from(trial, runs)
            reference = folder.reference_path(desk.reference_key())
        if lost or measured_from is None:
            return None
        job = MeasureJob(pictures=[str(folder.pictures_path / str(r.picture)) for r in own], reference=str(reference),
                         **_measured_how(study))
        outcome = self._ask(link, job)
        if isinstance(outcome, Measured):
            with self.lock:
                folder.save_measures(trial, StoredMeasures(measured_from, outcome.figures))
            return None
        if isinstance(outcome, Stopped):
            return None
        return self._sort_out_damage(own, reference, _reason(outcome))

    def _sort_out_damage(self, own: list[StoredRun], reference: Path, reason: str) -> str | None:
        """A picture that cannot be read is set aside and rendered again; without a culprit the reason stands."""
        from swift_sample.core.exchange.exr import read_exr

        folder, found = self._desk.folder, False
        for run in own:
            try:
                read_exr(folder.pictures_path / str(run.picture))
            except SwiftSampleError:
                with self.lock:
                    folder.discard_run(run.number, "its picture is damaged")
                    folder.add_event("picture damaged", f"{run.picture}: is measured again")
                found = True
        try:
            read_exr(reference)
        except SwiftSampleError:
            reference.replace(reference.with_suffix(f".damaged-{int(time.time())}"))
            with self.lock:
                folder.add_event("reference damaged", "it was set aside and is rendered again")
            found = True
        return None if found else reason


def _measured_how(study: Study) -> dict[str, Any]:
    """What a measurement depends on besides its pictures."""
    return {"exposure": study.view.exposure, "curve": study.view.curve, "area_size": study.size,
            "areas": [(a.name, a.x, a.y, a.width, a.height) for a in study.areas]}


def _reason(outcome: Outcome) -> str:
    return outcome.reason if isinstance(outcome, Failed) else "the renderer gave an unexpected answer"

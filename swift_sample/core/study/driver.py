"""The driver: owns a study while it is open. One thread takes edits, asks the policy for steps, talks to the worker, keeps
what happened and applies it; everyone else reads states, which never change, and hears notices.

    edit or outcome -> event -> store (one transaction) -> state.apply -> notice

Everything arrives in one inbox, so nothing needs a lock, and an edit made during a render is kept at once. It survives
anything that a worker does: a lost one costs the step in hand.
"""

import logging
import queue
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from swift_sample.core.errors import StudyBlockedError, StudyError, SwiftSampleError, WorkerError, one_line
from swift_sample.core.files import has_room
from swift_sample.core.log import log_file, report_error
from swift_sample.core.machine import Machine, this_machine
from swift_sample.core.study.damage import lost_pictures, unfit_pictures, without_figures
from swift_sample.core.study.events import (
    STOPPED,
    Event,
    FailuresForgiven,
    Happened,
    MeasuringEnded,
    OutcomeDismissed,
    PlaceShown,
    PlanEdited,
    PlanRedone,
    PlanUndone,
    ReferenceLost,
    Said,
)
from swift_sample.core.study.identity import Place, SceneContent
from swift_sample.core.study.lease import Lease
from swift_sample.core.study.notices import Ended, Notice, StateChanged, StepEnded, StepProgress, StepStarted, Waits
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.policies import Policy, Remeasuring
from swift_sample.core.study.records import MAX_MACHINE_FAILURES
from swift_sample.core.study.snapshot import Snapshot
from swift_sample.core.study.state import StudyState, apply
from swift_sample.core.study.steps import RunStep, Step
from swift_sample.core.study.store import Store
from swift_sample.core.study.surroundings import look_around, scene_changed, unknown_names
from swift_sample.core.worker.link import SILENCE_SECONDS, WorkerLink
from swift_sample.core.worker.messages import (
    Failed,
    Outcome,
    Progress,
    Rendered,
    Reply,
    Shown,
    Stopped,
    Unfit,
    Void,
    WarmUpJob,
)

MAX_WORKER_LOSSES = MAX_MACHINE_FAILURES + 1
"""A worker that was lost this often in a row, without any finished job between, ends the measuring: after as many losses in
one trial, that is given up for now, also the next step lost it."""
PATIENCE_SECONDS = 600.0
"""How long a full disk, or a program that holds the study's files, is waited for."""
LEASE_SECONDS = 0.5
"""How often a study that waits for the machine asks again."""
WAKE_SECONDS = 1.0
"""How often the driver looks whether a worker still says something."""

logger = logging.getLogger(__name__)


@dataclass
class _Work:
    """What measuring is about, as long as it goes on."""

    policy: Policy
    began: float
    stopping: bool = False
    losses: int = 0
    unkept: list[Event] = field(default_factory=list)
    """outcomes that could not be kept yet"""
    blocked_since: float | None = None
    is_out_of_time: bool = False


@dataclass(frozen=True)
class _Reply:
    link: WorkerLink
    reply: Reply | None


class Driver:
    """Owns an open study from `start` (a thread of its own) or `run_here` (this thread) until `close`.

    `tell` is called from the driver's thread. `before_timed` is called before a timed render begins, and may wait a moment
    until whoever shows the study has drawn it: nothing else should work while a render is timed.
    """

    def __init__(
        self,
        store: Store,
        tell: Callable[[Notice], None] = lambda notice: None,
        *,
        machine: Machine | None = None,
        clock: Callable[[], float] = time.monotonic,
        lease: Lease | None = None,
        before_timed: Callable[[], None] = lambda: None,
        prepares: bool = False,
    ) -> None:
        self._store, self._tell, self._clock = store, tell, clock
        self.machine = machine or this_machine()
        self.renderer = store.renderer
        self._lease, self.before_timed, self._prepares = lease or Lease(), before_timed, prepares
        self._inbox: queue.SimpleQueue[Any] = queue.SimpleQueue()
        self._thread: threading.Thread | None = None
        self._state = store.opened_as
        self._work: _Work | None = None
        self._step: Step | None = None
        self._content: SceneContent | None = None
        self._warming = False
        self._link: WorkerLink | None = None
        self._heard = 0.0
        self._closed = False
        self._ended: Ended | None = None
        self._surround()
        self._check_reference()

    @property
    def path(self) -> Path:
        return self._store.folder.path

    @property
    def state(self) -> StudyState:
        """The state now; it never changes, another one takes its place."""
        return self._state

    @property
    def snapshot(self) -> Snapshot:
        return Snapshot(self._state, self._store.folder, self.renderer, self._store.record, self._store.record.values_of)

    @property
    def worker_pid(self) -> int | None:
        link = self._link
        return link.pid if link is not None else None

    def record(self, number: int):  # type: ignore[no-untyped-def]
        """The whole record of a run."""
        return self._store.record(number)

    def words(self) -> list[tuple[str, str, str]]:
        """The log: UTC time, kind, text. Callable from any thread."""
        return self._store.words()

    def listen(self, tell: Callable[[Notice], None]) -> None:
        """Tell someone else from now on."""
        self._tell = tell

    def settle(self, answer: "Future[StudyState]") -> StudyState:
        """Work in this thread until an edit is made. Raises what it raised."""
        while not answer.done():
            self._turn()
        return answer.result()

    def start(self) -> None:
        """Work in a thread of its own from now on."""
        self._thread = threading.Thread(target=self._serve, name="driver", daemon=True)
        self._thread.start()

    def run_here(self, policy: Policy) -> Ended:
        """Measure in this thread until it ends; returns how. Problems are returned, not raised."""
        self._ended = None
        self._begin(policy)
        while self._ended is None:
            self._turn()
        return self._ended

    def close(self) -> None:
        """Stop everything and release the study; returns at once where a thread of its own works, which then ends."""
        self._inbox.put(self._shut)
        if self._thread is None:
            while not self._closed:
                self._turn()

    def join(self, timeout: float | None = None) -> bool:
        """Wait for the thread's end; returns whether it came."""
        if self._thread is not None:
            self._thread.join(timeout)
            return not self._thread.is_alive()
        return True

    def edit(self, label: str, change: Callable[[Study], Study], field: str = "") -> "Future[StudyState]":
        """Change the plan; the future holds the state after it, or why it could not be. The change is made on the plan as it
        then stands, so edits in quick succession all count."""
        return self._ask(lambda: self._edit(label, change, field))

    def undo(self) -> "Future[StudyState]":
        return self._ask(lambda: self._keep_plan(PlanUndone()) if self._state.past else self._state)

    def redo(self) -> "Future[StudyState]":
        return self._ask(lambda: self._keep_plan(PlanRedone()) if self._state.future else self._state)

    def show(self, place: Place | None) -> "Future[StudyState]":
        """Look at the results of an earlier place, or of the present one."""
        return self._ask(lambda: self._look_at(place))

    def keep(self, events: Sequence[Event]) -> "Future[StudyState]":
        """Keep what happened elsewhere, such as renders that were finished before."""
        return self._ask(lambda: self._keep(events))

    def dismiss_outcome(self) -> "Future[StudyState]":
        return self._ask(lambda: self._keep([OutcomeDismissed()]))

    def look_around(self) -> "Future[StudyState]":
        """See whether the scene on disk is another one by now."""
        return self._ask(self._surround)

    def measure(self, policy: Policy) -> "Future[StudyState]":
        """Begin to measure, unless that goes on already."""
        return self._ask(lambda: self._begin(policy))

    def stop(self, after_this_step: bool = False) -> None:
        """Ask measuring to end, at once or after the step in hand; `Ended` follows. Callable from a signal handler."""
        self._inbox.put(lambda: self._stop(after_this_step))

    def _ask(self, work: Callable[[], StudyState]) -> "Future[StudyState]":
        answer: Future[StudyState] = Future()
        asked = self._clock()

        def do() -> None:
            try:
                answer.set_result(work())
                self._publish()  # after the answer: who knows of the edit must not take it for one still to come
            except StudyBlockedError as error:
                if error.held and self._clock() - asked < PATIENCE_SECONDS and not self._closed:
                    self._tell(Waits(one_line(error)))
                    self._inbox.put(do)
                else:
                    answer.set_exception(error)
            except SwiftSampleError as error:
                answer.set_exception(error)
            except Exception as error:
                report_error("an edit of the study", error)
                answer.set_exception(error)

        self._inbox.put(do)
        return answer

    def _serve(self) -> None:
        self._publish()
        while not self._closed:
            self._turn()

    def _turn(self) -> None:
        """Do what can be done, then handle one message."""
        wait = WAKE_SECONDS
        with self._measuring_ends_on_errors():
            wait = self._look_at_the_clock()
            if self._work is not None and self._step is None and not self._warming:
                wait = min(wait, self._advance())
        try:
            message = self._inbox.get(timeout=wait)
        except queue.Empty:
            message = self._notice_silence
        with self._measuring_ends_on_errors():
            if isinstance(message, _Reply):
                self._on_reply(message)
            else:
                message()

    def _look_at_the_clock(self) -> float:
        """Stop the step in hand where the time that measuring may take is spent, whatever step that is; returns how long to
        wait until it is."""
        work = self._work
        if work is None or work.policy.budget_seconds is None:
            return WAKE_SECONDS
        left = work.began + work.policy.budget_seconds - self._clock()
        if left > 0:
            return min(WAKE_SECONDS, left)
        if self._warming:
            self._end(True, None, work.policy.propose(self._state, self._clock() - work.began).why)
        elif self._step is not None and self._link is not None and not work.is_out_of_time:
            work.is_out_of_time = True
            self._link.stop_job()
        return WAKE_SECONDS

    @contextmanager
    def _measuring_ends_on_errors(self) -> Iterator[None]:
        """Whatever goes wrong ends the measuring, never the thread: edits must be answered after it as before."""
        try:
            yield
        except StudyBlockedError as error:
            self._wait(one_line(error))
        except SwiftSampleError as error:
            self._end(False, one_line(error))
        except Exception as error:
            report_error("measuring", error)
            self._end(False, _went_wrong(error))

    def _wait(self, words: str) -> None:
        """What measuring needs cannot be had just now; it is tried again until patience is at its end."""
        work, now = self._work, self._clock()
        if work is None:
            return
        if work.blocked_since is None:
            work.blocked_since = now
            logger.warning("%s: waits: %s", self.path, words)
        if now - work.blocked_since > PATIENCE_SECONDS:
            self._end(False, words)
        else:
            self._tell(Waits(words))

    def _edit(self, label: str, change: Callable[[Study], Study], field: str) -> StudyState:
        plan = change(self._state.plan)
        plan.planned()
        return self._keep_plan(PlanEdited(label, plan, field)) if plan != self._state.plan else self._state

    def _keep_plan(self, event: Event) -> StudyState:
        after = apply(self._state, Happened(0, "", event)).plan
        happened = self._store.append([event], after)
        self._apply(happened)
        if self._state.shown is not None:
            self._apply([Happened(0, "", PlaceShown(None))])
        return self._surround()

    def _keep(self, events: Sequence[Event]) -> StudyState:
        if events:
            self._apply(self._store.append(events))
        return self._state

    def _apply(self, happened: Sequence[Happened]) -> None:
        for event in happened:
            self._state = apply(self._state, event)

    def _publish(self) -> None:
        snapshot = self.snapshot
        if self._prepares:  # between renders, so that whoever shows it need not work while one is timed
            _ = snapshot.results.pick(), snapshot.runs, snapshot.seconds_left, snapshot.frames, snapshot.hidden
        self._tell(StateChanged(snapshot))

    def _look_at(self, place: Place | None) -> StudyState:
        self._apply([Happened(0, "", PlaceShown(None if place == self._state.here else place))])
        return self._state

    def _surround(self) -> StudyState:
        """Take in the scene as it is on disk, the renderer and the machine."""
        seen = look_around(self._state.plan, self.machine, self.renderer)
        if seen != self._state.surroundings:
            self._apply([Happened(0, "", seen)])
        return self._state

    def _begin(self, policy: Policy) -> StudyState:
        if self._work is not None or self._closed:
            return self._state
        self._surround()
        starts = self._state.plan.catalogue.capabilities.starts
        self._work = _Work(policy if starts else Remeasuring(), self._clock())
        events: list[Event] = [OutcomeDismissed()] if self._state.outcome is not None else []
        here = self._state.here
        if here is not None:
            events += lost_pictures(self._state, here, self._store.folder)
            if any(
                run.result is None and not run.lost and run.number > self._state.at(here).forgiven
                for run in self._state.at(here).runs
            ):
                events.append(FailuresForgiven(here))
        try:
            self._keep(events)
        except SwiftSampleError as error:
            self._end(False, one_line(error))
            return self._state
        self._check_reference()
        return self._state

    def _check_reference(self) -> None:
        """A reference whose file is gone is none; with the database just opened or measuring just begun."""
        name = self._state.reference_name
        if name and name in self._state.references and not self._store.folder.reference(name).is_file():
            with suppress(StudyError):
                self._keep([ReferenceLost(name, "its picture is missing, and is rendered again")])

    def _advance(self) -> float:
        """Give the worker something to do; returns how long to wait for what comes."""
        work = self._work
        assert work is not None
        if work.stopping:
            self._end(False, None)
            return 0.0
        self._keep_rest()
        starts = self._state.plan.catalogue.capabilities.starts
        holder = self._lease.take(self.path) if starts else ""
        if holder:
            self._tell(Waits(f"another study is being timed on this machine: {holder}"))
            return LEASE_SECONDS
        self._surround()
        proposal = work.policy.propose(self._state, self._clock() - work.began)
        while proposal.again:
            self._keep(proposal.events)
            proposal = work.policy.propose(self._state, self._clock() - work.began)
        step = proposal.step
        if step is None:
            self._keep(proposal.events)
            problem = self._state.problem if self._state.place is None or not self._state.can_render else ""
            self._end(not problem, problem or None, proposal.why)
            return 0.0
        if self._link is None:
            self._start_worker()
            return WAKE_SECONDS
        self._check_room()
        self._send(step, proposal.why, proposal.events)
        return WAKE_SECONDS

    def _check_room(self) -> None:
        """Raises StudyBlockedError where the next picture would not find room: that is told before a render, not after."""
        runs = self._state.results.runs
        known = runs[-1].result if len(runs) else None
        if not has_room(self.path, 2 * known.picture_bytes if known is not None else 0):
            raise StudyBlockedError(f"the disk of {self.path} is full; make room on it", held=False)

    def _send(self, step: Step, why: str, events: Sequence[Event]) -> None:
        decision = Said("decision", f"{step.words(self._state.plan.base)}: {why}")
        names = unknown_names(self._state, step, self.renderer, self.machine) if isinstance(step, RunStep) else []
        self._keep([*events, *names, decision])
        if names and isinstance(step, RunStep):
            known = {
                kind: self._state.names[name].record
                for kind, name in (("scene", step.place.scene), ("renderer", step.place.renderer), ("machine", step.machine))
                if name in self._state.names
            }
            step = replace(step, records=known, label=self._state.names[step.place.scene].label)
        self._publish()
        self._tell(StepStarted(step, why))
        if step.is_timed:
            self.before_timed()
        if self._link is not None:
            self._link.was_paused()  # before this step is no matter
        self._step, self._content, self._heard = step, self._state.surroundings.content, self._clock()
        assert self._link is not None
        try:
            self._link.send(step.job(self._store.folder))
        except WorkerError as error:
            self._lose_worker(one_line(error))

    def _start_worker(self) -> None:
        first = not self.renderer.is_ready()
        self._tell(
            StepProgress(
                0.0, "Preparing the renderer for the first time, about a minute" if first else "Starting the renderer"
            )
        )
        self._link = WorkerLink(
            self.renderer.worker,
            self._store.folder.log,
            lambda link, reply: self._inbox.put(_Reply(link, reply)),
            (*self._store.handles, *self._lease.handles),
        )
        self._warming, self._heard = True, self._clock()
        try:
            self._link.send(WarmUpJob())
        except WorkerError as error:
            self._lose_worker(one_line(error))

    def _on_reply(self, message: _Reply) -> None:
        if message.link is not self._link:
            return  # of a worker that was given up
        self._heard, reply = self._clock(), message.reply
        if reply is None:
            self._lose_worker(f"the renderer ended unexpectedly ({message.link.exit_words()})")
        elif isinstance(reply, Progress):
            self._tell(StepProgress(reply.share, reply.text))
        elif isinstance(reply, Shown):
            return  # nobody looks on while renders are timed
        elif self._warming:
            self._warming = False
            if isinstance(reply, Failed):
                self._end(False, f"the renderer cannot start ({reply.reason})")
        elif self._step is not None:
            self._absorb(self._step, reply)

    def _absorb(self, step: Step, outcome: Outcome) -> None:
        self._step = None
        paused = self._link is not None and self._link.was_paused()
        if isinstance(outcome, Stopped):
            self._tell(StepEnded(step, None))
            return
        if isinstance(outcome, Failed):
            if outcome.trace:
                logger.error("the renderer: %s\n%s", outcome.reason, outcome.trace)
            if outcome.fault == "folder":
                self._end(False, outcome.reason)
                return
            if outcome.fault == "disk":
                self._tell(StepEnded(step, outcome.reason))
                self._wait(outcome.reason)
                return
        if isinstance(outcome, Rendered) and paused:
            outcome = Void(reason="the renderer was held by another program meanwhile")
        events, problem = self._events_of(step, outcome)
        try:
            self._keep_outcome(events)
        finally:
            self._tell(StepEnded(step, problem))
        self._publish()

    def _events_of(self, step: Step, outcome: Outcome) -> tuple[Sequence[Event], str | None]:
        """What an outcome means, and the problem to tell."""
        changed = scene_changed(step, self._content, self.renderer)
        if changed:
            return changed, "the scene changed while it was rendered: the run does not count"
        if isinstance(outcome, Void):
            problem = f"{outcome.reason}: the run does not count, and is made again"
            return [Said("void", problem)], problem
        if isinstance(outcome, Unfit):
            return unfit_pictures(self._state, step, outcome.faults, self._store.folder), None
        if isinstance(outcome, Failed) and not isinstance(step, RunStep):
            return without_figures(self._state, step, outcome.reason), None
        return step.absorb(outcome), outcome.reason if isinstance(outcome, Failed) else None

    def _keep_outcome(self, events: Sequence[Event]) -> None:
        """Keep what a step brought, or as soon as that can be done."""
        work = self._work
        if work is None:
            self._keep(events)
            return
        work.losses = 0
        work.unkept += events
        self._keep_rest()

    def _keep_rest(self) -> None:
        work = self._work
        if work is not None and work.unkept:
            self._keep(work.unkept)
            work.unkept, work.blocked_since = [], None

    def _lose_worker(self, problem: str) -> None:
        """The worker is gone, or is ended now: it costs the step in hand."""
        link, step, self._link, self._step, self._warming = self._link, self._step, None, None, False
        if link is not None:
            link.kill()
            link.close()
        logger.warning("%s: %s", self.path, problem)
        events: list[Event] = [Said("worker lost", problem)]
        if isinstance(step, RunStep):
            events += step.failed(problem, by_machine=True)
        losses = self._work.losses if self._work is not None else 0
        self._keep_outcome(events)
        if step is not None:
            self._tell(StepEnded(step, problem))
        self._publish()
        work = self._work
        if work is not None:
            work.losses = losses + 1
            if work.losses >= MAX_WORKER_LOSSES:
                self._end(
                    False,
                    f"{problem}; it was started {work.losses} times in vain, what was measured is kept, "
                    f"see {self._store.folder.log}",
                )

    def _notice_silence(self) -> None:
        if (self._step is not None or self._warming) and self._clock() - self._heard > SILENCE_SECONDS:
            self._lose_worker(f"the renderer said nothing for {SILENCE_SECONDS:.0f} s and was ended")

    def _stop(self, after_this_step: bool) -> None:
        if self._work is None:
            return
        self._work.stopping = True
        if self._warming and not after_this_step:
            self._end(False, None)
        elif self._step is not None and not after_this_step and self._link is not None:
            self._link.stop_job()

    def _end(self, finished: bool, problem: str | None, words: str = "") -> None:
        """Measuring is over: say so, let the machine and the worker go."""
        if self._work is None:
            return
        busy, unkept = self._step is not None or self._warming, self._work.unkept
        self._work, self._step, self._warming = None, None, False
        link, self._link = self._link, None
        if link is not None:
            if busy or problem is not None:
                link.kill()
            link.close()
        self._lease.release()
        words = words if finished else problem or STOPPED
        with suppress(StudyError):
            self._keep([*unkept, MeasuringEnded(finished, words)])
        self._ended = Ended(finished, problem, words)
        try:
            self._publish()
        except Exception as error:  # who waits for the end must hear of it all the same
            report_error("showing what was measured", error)
        self._tell(self._ended)

    def _shut(self) -> None:
        if self._step is not None or self._warming:
            link = self._link
            if link is not None:
                link.kill()  # a render that is thrown away need not end well
        self._end(False, None)
        self._closed = True
        self._store.close()


def _went_wrong(error: Exception) -> str:
    return f"something went wrong ({type(error).__name__}: {one_line(error)}); what was measured is kept, see {log_file()}"

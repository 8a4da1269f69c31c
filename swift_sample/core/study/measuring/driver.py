"""The driver: owns a study while it is open. One thread takes edits, asks the policy for steps,
talks to the worker, keeps what happened and applies it; everyone else reads states, which never
change, and hears notices.

    edit or outcome -> event -> store (one transaction) -> state.apply -> notice

Everything arrives in one inbox, so nothing needs a lock, and an edit made during a render is kept
at once. It survives anything that a worker does: a lost one costs the step in hand.
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
from typing import TYPE_CHECKING, Any

from swift_sample.core.errors import (
    PictureError,
    StudyBlockedError,
    StudyError,
    SwiftSampleError,
    WorkerError,
    one_line,
)
from swift_sample.core.files import has_room
from swift_sample.core.log import log_file, report_error
from swift_sample.core.machine import Machine, computer, this_machine
from swift_sample.core.machines.news import Heard, News, version_words
from swift_sample.core.study.answers.kinds import apart_by_controls, machine_to_show, machine_words
from swift_sample.core.study.log.events import (
    STOPPED,
    Event,
    FailuresForgiven,
    Happened,
    MachineShown,
    MeasuringEnded,
    OutcomeDismissed,
    PlaceShown,
    PlanEdited,
    PlanRedone,
    PlanUndone,
    ReferenceLost,
    Said,
)
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.records import MAX_MACHINE_FAILURES
from swift_sample.core.study.log.state import StudyState, apply, kind_of
from swift_sample.core.study.log.store import Store
from swift_sample.core.study.measuring.crew import (
    CHECKING,
    READY,
    RESTS,
    STARTING,
    Link,
    Roster,
    Seat,
    Tile,
    joined_seat,
    own_seat,
    skew_words,
)
from swift_sample.core.study.measuring.damage import lost_pictures, unfit_pictures, without_figures
from swift_sample.core.study.measuring.notices import (
    CrewChanged,
    Ended,
    MachineSaid,
    Member,
    Notice,
    StateChanged,
    StepEnded,
    StepProgress,
    StepStarted,
    Waits,
)
from swift_sample.core.study.measuring.policies import Policy, Remeasuring, Searching
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, InHand, Proposal
from swift_sample.core.study.measuring.policies.sweep import merge_step
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.steps import ReferenceStep, RunStep, Step
from swift_sample.core.study.measuring.surroundings import look_around, scene_changed, unknown_names
from swift_sample.core.study.plan.model import Study
from swift_sample.core.worker.lease import Lease
from swift_sample.core.worker.link import SILENCE_SECONDS, WorkerLink
from swift_sample.core.worker.messages import (
    Failed,
    Held,
    Outcome,
    Progress,
    Rendered,
    Reply,
    Request,
    Shown,
    Stopped,
    Unfit,
    Void,
    WarmUpJob,
)

if TYPE_CHECKING:
    from swift_sample.core.machines.fleet import Fleet
    from swift_sample.core.scene.staging import Staging

MAX_WORKER_LOSSES = MAX_MACHINE_FAILURES + 1
"""A worker that was lost this often in a row, without any finished job between, ends the measuring:
after as many losses in one trial, that is given up for now, also the next step lost it."""
PATIENCE_SECONDS = 600.0
"""How long a full disk, or a program that holds the study's files, is waited for."""
PUBLISH_SECONDS = 0.5
"""How often the state is shown at most while several machines work."""
GREETING_SECONDS = 5.0
"""How long machines may take to say who they are before it is told that there are none."""
LEASE_SECONDS = 0.5
"""How often a study that waits for the machine asks again."""
WAKE_SECONDS = 1.0
"""How often the driver looks whether a worker still says something."""

logger = logging.getLogger(__name__)


@dataclass(kw_only=True)
class _Work:
    """What measuring is about, as long as it goes on. `fleet` are the machines that it is done on,
    None for this computer."""

    policy: Policy
    began: float
    fleet: "Fleet | None" = None
    stopping: bool = False
    losses: int = 0
    unkept: list[Event] = field(default_factory=list)
    """outcomes that could not be kept yet"""
    blocked_since: float | None = None
    is_out_of_time: bool = False
    times_on: str = ""
    """the only kind of machine whose times are wanted, or machine that is kept apart; "" for every
    kind"""

    waits_since: float | None = None
    """when it began to wait for another study that is timed; None while it does not"""

    def wait(self, now: float) -> None:
        """Another study is timed: what a budget buys is measuring, not waiting."""
        if self.waits_since is None:
            self.waits_since = now

    def go_on(self, now: float) -> None:
        """The machine is free: the time that was waited does not count."""
        if self.waits_since is not None:
            self.began += now - self.waits_since
            self.waits_since = None

    def spent(self, now: float) -> float:
        """Seconds of measuring, without those that were waited for another study."""
        return (now if self.waits_since is None else self.waits_since) - self.began

    def times(self, name: str) -> bool:
        """Whether times are wanted of the machine that they would be kept under: of one that is
        kept apart only where that was asked for, since others of its kind measure the same."""
        return name == self.times_on or (not self.times_on and kind_of(name) == name)


@dataclass(frozen=True)
class _Reply:
    link: Link
    reply: Reply | None


@dataclass(frozen=True)
class _News:
    fleet: "Fleet"
    news: "News"


class Driver:
    """Owns an open study from `start` (a thread of its own) or `run_here` (this thread) until
    `close`.

    `tell` is called from the driver's thread. `before_timed` is called before a timed render
    begins, and may wait a moment until whoever shows the study has drawn it: nothing else should
    work while a render is timed.
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
        self._store = store
        self._tell = tell
        self._clock = clock
        self.machine = machine or this_machine()
        self.renderer = store.renderer
        self._lease = lease or Lease()
        self.before_timed = before_timed
        self._prepares = prepares
        self._inbox: queue.SimpleQueue[Any] = queue.SimpleQueue()
        self._thread: threading.Thread | None = None
        self._state = store.opened_as
        self._work: _Work | None = None
        self._own = own_seat(self.machine)
        """this computer's worker; where machines of a fleet measure it merges what they make"""
        self._joined = Roster()
        self._in_hand = InHand()
        self._tile: Tile | None = None
        """what every machine of a fleet renders first"""
        self._published = 0.0
        self._crew_shown = 0.0
        self._surrounded = 0.0
        self._is_stirred = True
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
        return Snapshot(
            self._state,
            self._store.folder,
            self.renderer,
            self._store.record,
            self._store.record.values_of,
        )

    @property
    def worker_pid(self) -> int | None:
        link = self._own.link
        return link.pid if isinstance(link, WorkerLink) else None

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

    def run_here(self, policy: Policy, fleet: "Fleet | None" = None, times_on: str = "") -> Ended:
        """Measure in this thread until it ends, on the machines of a fleet where there is one;
        returns how. Problems are returned, not raised."""
        self._ended = None
        self._begin(policy, fleet, times_on)
        while self._ended is None:
            self._turn()

        return self._ended

    def close(self) -> None:
        """Stop everything and release the study; returns at once where a thread of its own works,
        which then ends."""
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

    def edit(
        self, label: str, change: Callable[[Study], Study], field: str = ""
    ) -> "Future[StudyState]":
        """Change the plan; the future holds the state after it, or why it could not be. The change
        is made on the plan as it then stands, so edits in quick succession all count."""
        return self._ask(lambda: self._edit(label, change, field))

    def undo(self) -> "Future[StudyState]":
        return self._ask(lambda: self._keep_plan(PlanUndone()) if self._state.past else self._state)

    def redo(self) -> "Future[StudyState]":
        return self._ask(
            lambda: self._keep_plan(PlanRedone()) if self._state.future else self._state
        )

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

    def measure(
        self, policy: Policy, fleet: "Fleet | None" = None, times_on: str = ""
    ) -> "Future[StudyState]":
        """Begin to measure, on the machines of a fleet where there is one, unless that goes on
        already."""
        return self._ask(lambda: self._begin(policy, fleet, times_on))

    def look_at_machine(self, machine: str) -> "Future[StudyState]":
        """Look at the times of another machine, "" for this one."""
        return self._ask(lambda: self._look_at_machine(machine))

    def stop(self, after_this_step: bool = False) -> None:
        """Ask measuring to end, at once or after the step in hand; `Ended` follows. Callable from a
        signal handler."""
        self._inbox.put(lambda: self._stop(after_this_step))

    def _ask(self, work: Callable[[], StudyState]) -> "Future[StudyState]":
        answer: Future[StudyState] = Future()
        asked = self._clock()

        def do() -> None:
            try:
                answer.set_result(work())
                # after the answer: who knows of the edit must not take it for one still to come
                self._publish()
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
            if self._work is not None and self._is_anyone_free():
                wait = min(wait, self._advance())

        try:
            message = self._inbox.get(timeout=wait)
        except queue.Empty:
            message = self._notice_silence

        if not (isinstance(message, _Reply) and isinstance(message.reply, Progress)):
            self._is_stirred = True  # whoever has nothing to do may have by now

        with self._measuring_ends_on_errors():
            if isinstance(message, _Reply):
                self._on_reply(message)
            elif isinstance(message, _News):
                self._on_news(message)
            else:
                message()

    def _look_at_the_clock(self) -> float:
        """Stop the step in hand where the time that measuring may take is spent, whatever step that
        is; returns how long to wait until it is."""
        work = self._work
        if work is None or work.policy.budget_seconds is None:
            return WAKE_SECONDS

        left = work.policy.budget_seconds - work.spent(self._clock())
        if left > 0:
            return min(WAKE_SECONDS, left)

        if all(seat.step is None for seat in self._seats):
            self._end(True, None, work.policy.propose(self._state, work.spent(self._clock())).why)
        elif not work.is_out_of_time:
            work.is_out_of_time = True
            self._stop_jobs()

        return WAKE_SECONDS

    @property
    def _seats(self) -> list[Seat]:
        return [self._own, *self._joined]

    def _is_anyone_free(self) -> bool:
        if self._work is not None and self._work.fleet is not None:
            stirred = self._is_stirred
            self._is_stirred = False
            return stirred

        return not self._own.is_asked

    def _stop_jobs(self) -> None:
        for seat in self._seats:
            if seat.step is not None and seat.link is not None:
                seat.link.stop_job()

    @contextmanager
    def _measuring_ends_on_errors(self) -> Iterator[None]:
        """Whatever goes wrong ends the measuring, never the thread: edits must be answered after it
        as before."""
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
        """What measuring needs cannot be had just now; it is tried again until patience is at its
        end."""
        work = self._work
        now = self._clock()
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
        return (
            self._keep_plan(PlanEdited(label, plan, field))
            if plan != self._state.plan
            else self._state
        )

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

    def _publish_soon(self) -> None:
        """Show the state, not more often than is of use where many machines work."""
        if not self._joined or self._clock() - self._published >= PUBLISH_SECONDS:
            self._publish()

    def _publish(self) -> None:
        self._published = self._clock()
        snapshot = self.snapshot

        if (
            self._prepares
        ):  # between renders, so that whoever shows it need not work while one is timed
            _ = (
                snapshot.results.pick(),
                snapshot.runs,
                snapshot.seconds_left,
                snapshot.frames,
                snapshot.hidden,
                snapshot.kinds,
            )

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

    def _look_at_machine(self, machine: str) -> StudyState:
        self._apply(
            [
                Happened(
                    0,
                    "",
                    MachineShown("" if machine == self._state.surroundings.machine else machine),
                )
            ]
        )
        return self._state

    def _begin(
        self, policy: Policy, fleet: "Fleet | None" = None, times_on: str = ""
    ) -> StudyState:
        if self._work is not None or self._closed:
            if fleet is not None:
                fleet.close()
            return self._state

        self._surround()
        if fleet is None:
            self._look_at_machine("")

        starts = self._state.plan.catalogue.capabilities.starts
        self._work = _Work(
            policy=policy if starts else Remeasuring(),
            began=self._clock(),
            fleet=fleet,
            times_on=times_on,
        )
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
        if fleet is not None:
            try:
                self._meet(fleet)
            except SwiftSampleError as error:
                self._end(False, one_line(error))

        return self._state

    def _check_reference(self) -> None:
        """A reference whose file is gone is none; with the database just opened or measuring just
        begun."""
        name = self._state.reference_name
        if (
            name
            and name in self._state.references
            and not self._store.folder.reference(name).is_file()
        ):
            with suppress(StudyError):
                self._keep([ReferenceLost(name, "its picture is missing, and is rendered again")])

    def _advance(self) -> float:
        """Give whoever is free something to do; returns how long to wait for what comes."""
        work = self._work
        assert work is not None

        if work.stopping:
            if all(seat.step is None for seat in self._seats):
                self._end(False, None)
            return 0.0

        self._keep_rest()
        if work.fleet is not None:
            return self._advance_fleet(work)

        # What only compares stored pictures is short and times nothing: it waits for no other
        # study.
        holder = "" if isinstance(work.policy, Remeasuring) else self._hold_machine()
        if holder:
            work.wait(self._clock())
            self._tell(Waits(f"another study is being timed on this machine: {holder}"))
            return LEASE_SECONDS

        work.go_on(self._clock())
        self._surround()
        proposal = self._proposed(work, self._own)
        step = proposal.step

        if step is None:
            self._finish(proposal)
            return 0.0

        if self._own.link is None:
            self._start_worker()
            return WAKE_SECONDS

        self._check_room()
        self._send(self._own, step, proposal.why, proposal.events)
        return WAKE_SECONDS

    def _hold_machine(self) -> str:
        """Take this machine's lease; returns who holds it, "" where it is held now."""
        starts = self._state.plan.catalogue.capabilities.starts
        return self._lease.take(self.path) if starts else ""

    def _finish(self, proposal: Proposal) -> None:
        self._keep(proposal.events)
        problem = (
            self._state.problem if self._state.place is None or not self._state.can_render else ""
        )
        self._end(not problem, problem or None, proposal.why)

    def _proposed(self, work: _Work, seat: Seat) -> Proposal:
        """What a worker is to do next, looked at from its machine."""
        machine = self._filed(seat) if seat.host else self._state.surroundings.machine
        hand = Hand(seat.host, self._in_hand, work.times(machine)) if seat.host else ALONE

        while True:
            state = self._state.seen_from(machine)
            proposal = work.policy.propose(state, work.spent(self._clock()), hand)
            if not proposal.again:
                break
            self._keep(proposal.events)

        step = proposal.step
        if isinstance(step, RunStep) and seat.host:
            return replace(proposal, step=replace(step, software=seat.software))

        return proposal

    def _filed(self, seat: Seat) -> str:
        """The name under which a machine's times are kept."""
        return self._state.filed(seat.machine.name, seat.host)

    def _check_room(self) -> None:
        """Raises StudyBlockedError where the next picture would not find room: that is told before
        a render, not after."""
        runs = self._state.results.runs
        known = runs[-1].result if len(runs) else None
        if not has_room(self.path, 2 * known.picture_bytes if known is not None else 0):
            raise StudyBlockedError(f"the disk of {self.path} is full; make room on it", held=False)

    def _send(self, seat: Seat, step: Step, why: str, events: Sequence[Event]) -> None:
        on = f"{seat.host}: " if seat.host else ""
        decision = Said("decision", f"{on}{step.words(self._state.plan.base)}: {why}")
        names = (
            unknown_names(self._state, step, self.renderer, seat.machine)
            if isinstance(step, RunStep)
            else []
        )
        self._keep([*events, *names, decision])

        if names and isinstance(step, RunStep):
            wanted = (
                ("scene", step.place.scene),
                ("renderer", step.place.renderer),
                ("machine", kind_of(step.machine)),
            )
            known = {
                kind: self._state.names[name].record
                for kind, name in wanted
                if name in self._state.names
            }
            step = replace(step, records=known, label=self._state.names[step.place.scene].label)

        self._publish_soon()
        self._tell(StepStarted(step, why, seat.host))
        if step.is_timed and not seat.host:
            self.before_timed()

        assert seat.link is not None
        seat.link.was_paused()  # before this step is no matter
        seat.step = step
        seat.content = self._state.surroundings.content
        seat.doing = step.words(self._state.plan.base)
        self._in_hand.add(step)
        self._ask_seat(seat, step.job(self._store.folder))

    def _ask_seat(
        self, seat: Seat, request: Request, checks: "tuple[str, Staging] | None" = None
    ) -> None:
        seat.is_asked = True
        seat.heard = self._clock()
        self._joined.asked(seat)
        assert seat.link is not None

        try:
            if checks is not None:
                seat.link.send(request, checks)  # type: ignore[call-arg]
            else:
                seat.link.send(request)
        except WorkerError as error:
            self._lose_worker(seat, one_line(error))

    def _start_worker(self) -> None:
        first = not self.renderer.is_ready()
        self._tell(
            StepProgress(
                0.0,
                "Preparing the renderer for the first time, about a minute"
                if first
                else "Starting the renderer",
            )
        )

        is_alone = (
            self._work is None or self._work.fleet is None
        )  # else the machine is held only while it works
        self._own.link = WorkerLink(
            self.renderer.worker,
            self._store.folder.log,
            lambda link, reply: self._inbox.put(_Reply(link, reply)),
            (*self._store.handles, *(self._lease.handles if is_alone else ())),
        )

        self._own.stage = STARTING
        self._ask_seat(self._own, WarmUpJob())

    def _on_reply(self, message: _Reply) -> None:
        seat = self._own if message.link is self._own.link else self._joined.of(message.link)
        if seat is None:
            return  # of a worker that was given up

        seat.heard = self._clock()
        reply = message.reply

        if reply is None:
            self._lose_worker(
                seat,
                seat.link.exit_words()
                if seat.host and seat.link is not None
                else f"the renderer ended unexpectedly ({message.link.exit_words()})",
            )
        elif isinstance(reply, Progress):
            self._on_progress(seat, reply)
        elif isinstance(reply, Shown):
            return  # nobody looks on while renders are timed
        else:
            seat.is_asked = False
            seat.worked_at = self._clock()
            self._joined.answered(seat)

            if seat.step is not None:
                self._absorb(seat, seat.step, reply)
            elif seat.host or (self._work is not None and self._work.fleet is not None):
                self._on_beginning(seat, reply)
            elif isinstance(reply, Failed):
                self._end(False, f"the renderer cannot start ({reply.reason})")
            else:
                seat.stage = READY

    def _on_progress(self, seat: Seat, progress: Progress) -> None:
        if seat.host:
            seat.doing = progress.text or seat.doing
        if not self._joined or seat.host:
            self._tell(StepProgress(progress.share, progress.text, seat.host))

    def _absorb(self, seat: Seat, step: Step, outcome: Outcome) -> None:
        seat.step = None
        seat.doing = ""
        self._in_hand.remove(step, isinstance(outcome, Rendered) or not isinstance(step, RunStep))
        paused = seat.link is not None and seat.link.was_paused()

        if isinstance(outcome, Stopped):
            self._tell(StepEnded(step, None))
            return

        if isinstance(outcome, Held):
            self._rest(seat, outcome.reason)
            self._tell(StepEnded(step, outcome.reason))
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

        seat.held = 0
        events, problem = self._events_of(seat, step, outcome)

        try:
            self._keep_outcome(events)
        finally:
            self._tell(StepEnded(step, problem))

        if isinstance(step, ReferenceStep) and step.rendered is not None:
            self._store.folder.chunk(step.reference, step.chunk).unlink(missing_ok=True)

        if isinstance(outcome, Rendered) and isinstance(step, RunStep) and seat.host:
            seat.runs += 1
            if step.trial.id == self._state.base.id:
                self._keep_outcome(apart_by_controls(self._state, seat.machine.name, seat.host))

        self._publish_soon()

    def _events_of(
        self, seat: Seat, step: Step, outcome: Outcome
    ) -> tuple[Sequence[Event], str | None]:
        """What an outcome means, and the problem to tell."""
        changed = scene_changed(step, seat.content, self.renderer)
        if changed:
            return changed, "the scene changed while it was rendered: the run does not count"

        if isinstance(outcome, Void):
            problem = f"{outcome.reason}: the run does not count, and is made again"
            return [Said("void", problem)], problem

        if isinstance(outcome, Unfit):
            return unfit_pictures(self._state, step, outcome.faults, self._store.folder), None

        if isinstance(outcome, Failed) and seat.host and not isinstance(step, RunStep):
            self._rest(seat, outcome.reason)  # there it could not be done; elsewhere it may
            return [], outcome.reason

        if isinstance(outcome, Failed) and not isinstance(step, RunStep):
            return without_figures(self._state, step, outcome.reason), None

        return step.absorb(outcome), outcome.reason if isinstance(outcome, Failed) else None

    def _meet(self, fleet: "Fleet") -> None:
        """Look for the machines of a fleet. Raises StudyError where nobody can be reached."""
        fleet.open(
            self.renderer,
            str(self.path),
            lambda link, reply: self._inbox.put(_Reply(link, reply)),
            lambda news: self._inbox.put(_News(fleet, news)),
        )
        self._tile = Tile(self._state.plan, self.path)

    def _part(self, fleet: "Fleet") -> None:
        self._joined = Roster()
        shown = machine_to_show(self._state)
        if shown and not self._state.machine_shown:
            self._look_at_machine(shown)

        self._tell(CrewChanged(fleet.address, ()))
        fleet.close()

        if self._tile is not None:
            self._tile.remove()
            self._tile = None

    def _on_news(self, message: _News) -> None:
        work = self._work
        if work is None or work.fleet is not message.fleet:
            return

        news = message.news
        if isinstance(news, Heard):
            self._keep([Said("machines", news.words)])
            self._tell(Waits(news.words) if news.is_lost else MachineSaid("", news.words))
            return

        seat = joined_seat(news.link, news.card)
        self._joined.add(seat)
        words = f"{seat.host} has joined: {machine_words(seat.machine.record)}"
        self._keep([Said("machines", words)])
        self._tell(MachineSaid(seat.host, words))
        skew = skew_words(seat.host, news.skew)

        if skew:
            self._keep([Said("machines", skew)])
            self._tell(MachineSaid(seat.host, skew))

    def _show_crew(self) -> None:
        """Tell who works for the study, not more often than is of use."""
        work = self._work
        now = self._clock()
        if work is None or work.fleet is None or now - self._crew_shown < PUBLISH_SECONDS:
            return

        self._crew_shown = now
        self._tell(CrewChanged(work.fleet.address, tuple(map(self._member, self._joined))))

    def _member(self, seat: Seat) -> Member:
        label = machine_words(seat.machine.record)
        return Member(
            host=seat.host,
            machine=self._filed(seat),
            label=label,
            state=seat.state_words,
            runs=seat.runs,
            said=seat.last_words,
        )

    def _begin_seat(self, seat: Seat) -> None:
        """Have a machine start its renderer, then show that it renders the same."""
        if seat.stage == STARTING:
            self._ask_seat(seat, WarmUpJob())
        elif self._tile is not None and self._tile.is_there:
            self._ask_seat(
                seat, self._tile.job(seat.host), (self._tile.spec.scene, self._tile.spec.staging)
            )

    def _on_beginning(self, seat: Seat, reply: Outcome) -> None:
        if isinstance(reply, Held | Void | Stopped):
            self._rest(seat, getattr(reply, "reason", "stopped"))
        elif isinstance(reply, Failed):
            if not seat.host:
                self._end(False, f"the renderer cannot start here ({reply.reason})")
                return
            self._drop(seat, reply.reason)
        elif not seat.host:
            assert self._tile is not None
            self._tile.is_there |= isinstance(reply, Rendered)
            seat.stage = READY if self._tile.is_there else CHECKING
        elif isinstance(reply, Rendered):
            problem = self._wrong_with(seat)
            if problem:
                self._drop(seat, problem)
                return

            seat.stage = READY
            seat.held = 0

            if self._work is not None:
                self._work.blocked_since = None
                if isinstance(self._work.policy, Searching) and not self._work.times_on:
                    self._work.times_on = self._filed(seat)  # it looks for the pick of one kind
        else:
            seat.stage = CHECKING

    def _wrong_with(self, seat: Seat) -> str:
        """Why what a machine rendered first is not what it should be; "" where it is."""
        content = getattr(seat.link, "content", None)
        version = getattr(seat.link, "version", "")
        own = self._state.surroundings.content

        if version and version != self.renderer.version:
            return version_words(version, self.renderer.version)
        if content is not None and content != own:
            return (
                "the scene is another one there: what it reads besides the scene's own files "
                "differs"
            )

        assert self._tile is not None
        try:
            return self._tile.difference(seat.host)
        except PictureError as error:
            return f"its tile cannot be read ({one_line(error)})"

    def _rest(self, seat: Seat, why: str) -> None:
        """Leave a machine alone for a while that could not work."""
        seat.rests_until = self._clock() + RESTS[min(seat.held, len(RESTS) - 1)]
        seat.held += 1

        if not seat.said or seat.said[-1] != why:
            seat.said.append(why)
            self._keep([Said("machines", f"{seat.host or 'this computer'}: {why}")])
            self._tell(MachineSaid(seat.host, f"{seat.host or 'this computer'}: {why}"))

    def _drop(self, seat: Seat, why: str) -> None:
        """Use a machine no more."""
        words = f"{seat.host} is not used: {why}"
        self._joined.remove(seat)
        self._keep([Said("machines", words)])
        self._tell(MachineSaid(seat.host, words))

    def _lose_machine(self, seat: Seat, problem: str) -> None:
        """A machine has left: what it had in hand is to be done again, by whoever is there."""
        self._joined.remove(seat)
        step = seat.step
        seat.step = None
        words = (
            f"{problem}; {step.words(self._state.plan.base)} is begun anew"
            if step is not None
            else problem
        )

        if step is not None:
            self._in_hand.remove(step, False)
            self._tell(StepEnded(step, problem))

        self._keep_outcome([Said("machines", words)])
        self._tell(MachineSaid(seat.host, words))
        self._publish_soon()

    def _advance_fleet(self, work: _Work) -> float:
        """Give steps to all machines that are free, and to this computer what is to be merged."""
        if self._clock() - self._surrounded >= WAKE_SECONDS:
            self._surrounded = self._clock()
            self._surround()

        assert work.fleet is not None
        own_waits = self._advance_own()
        now = self._clock()

        if not self._joined and now - work.began > GREETING_SECONDS:
            raise StudyBlockedError(
                f"no machine has joined at {work.fleet.address} that can be used", held=True
            )

        idle: dict[str, Proposal] = {}
        for seat in self._joined.waiting(now):
            if (own_waits and seat.computer == computer()) or not self._joined.may_work(seat):
                continue

            if seat.stage != READY:
                self._begin_seat(seat)
                continue

            kind = self._filed(seat)
            if kind in idle:
                continue

            proposal = self._proposed(work, seat)
            if proposal.step is None:
                idle[kind] = proposal
                continue

            self._check_room()
            self._send(seat, proposal.step, proposal.why, proposal.events)

        self._show_crew()
        beginning = any(
            seat.is_asked or (not seat.is_free(now) and seat.held < len(RESTS))
            for seat in self._joined
        )

        if idle and not self._in_hand.count and not own_waits and not beginning:
            self._finish(next(iter(idle.values())))
            return 0.0

        if not beginning and all(seat.stage != READY for seat in self._joined) and self._joined:
            raise StudyBlockedError(
                "none of the machines that have joined can be used now", held=True
            )

        return 0.2 if own_waits else WAKE_SECONDS

    def _advance_own(self) -> bool:
        """Start this computer's worker, have it render the tile, or merge what is next of the
        reference; returns whether something of that is to be done or is being done: machines that
        are this computer then get nothing new."""
        own = self._own
        here = self._state.here
        tile = self._tile
        assert tile is not None
        step = (
            merge_step(self._state, here)
            if here is not None and tile.is_there and own.step is None
            else None
        )

        if own.is_asked:
            return True

        if tile.is_there and step is None:
            self._lease.release()
            return False

        if (
            any(seat.is_asked and seat.computer == computer() for seat in self._joined)
            or self._hold_machine()
        ):
            return True

        if own.link is None:
            self._start_worker()
        elif not tile.is_there:
            self._ask_seat(own, tile.job(""))
        elif step is not None:
            self._send(own, step, "machines have rendered it", ())

        return True

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
            work.unkept = []
            work.blocked_since = None

    def _lose_worker(self, seat: Seat, problem: str) -> None:
        """A worker is gone, or is ended now: it costs the step in hand."""
        if seat.host:
            self._lose_machine(seat, problem)
            return

        link = seat.link
        step = seat.step
        self._own = own_seat(self.machine)

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
            self._in_hand.remove(step)
            self._tell(StepEnded(step, problem))

        self._publish()
        work = self._work

        if work is not None:
            work.losses = losses + 1
            if work.losses >= MAX_WORKER_LOSSES:
                self._end(
                    False,
                    f"{problem}; it was started {work.losses} times in vain, what was measured is "
                    "kept, "
                    f"see {self._store.folder.log}",
                )

    def _notice_silence(self) -> None:
        for seat in self._seats:
            if seat.is_asked and self._clock() - seat.heard > SILENCE_SECONDS:
                self._lose_worker(
                    seat, f"the renderer said nothing for {SILENCE_SECONDS:.0f} s and was ended"
                )

    def _stop(self, after_this_step: bool) -> None:
        if self._work is None:
            return

        self._work.stopping = True
        if after_this_step:
            return

        if all(seat.step is None for seat in self._seats):
            self._end(False, None)
        else:
            self._stop_jobs()

    def _end(self, finished: bool, problem: str | None, words: str = "") -> None:
        """Measuring is over: say so, let the machine and the worker go."""
        if self._work is None:
            return

        busy = self._own.is_asked
        unkept = self._work.unkept
        fleet = self._work.fleet
        self._work = None
        self._in_hand = InHand()
        link = self._own.link
        self._own = own_seat(self.machine)

        if link is not None:
            if busy or problem is not None:
                link.kill()
            link.close()

        if fleet is not None:
            self._part(fleet)

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
        if self._own.is_asked and self._own.link is not None:
            self._own.link.kill()  # a render that is thrown away need not end well

        self._end(False, None)
        self._closed = True
        self._store.close()


def _went_wrong(error: Exception) -> str:
    return (
        f"something went wrong ({type(error).__name__}: {one_line(error)}); what was measured "
        f"is kept, see {log_file()}"
    )

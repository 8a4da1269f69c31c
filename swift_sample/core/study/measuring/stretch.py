"""One measuring, from its beginning to its end: a policy is asked for steps, workers carry them
out, and what came of them is kept.

    policy -> step -> worker -> outcome -> events

It survives anything that a worker does: a lost one costs the step in hand. `Stretch` works with
this computer's own worker; with machines that have joined it is a `FleetStretch` (`joined`).
"""

import logging
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from swift_sample.core.errors import (
    StudyBlockedError,
    StudyError,
    SwiftSampleError,
    WorkerError,
    one_line,
)
from swift_sample.core.files import has_room
from swift_sample.core.log import report_error
from swift_sample.core.study.answers.kinds import apart_by_controls
from swift_sample.core.study.log.events import (
    STOPPED,
    Event,
    FailuresForgiven,
    MeasuringEnded,
    OutcomeDismissed,
    Said,
)
from swift_sample.core.study.log.records import MAX_MACHINE_FAILURES
from swift_sample.core.study.log.state import kind_of
from swift_sample.core.study.measuring.crew import READY, RESTS, STARTING, Roster, Seat, own_seat
from swift_sample.core.study.measuring.damage import lost_pictures, unfit_pictures, without_figures
from swift_sample.core.study.measuring.notices import (
    Ended,
    MachineSaid,
    StepEnded,
    StepProgress,
    StepStarted,
    Waits,
)
from swift_sample.core.study.measuring.open_study import OpenStudy
from swift_sample.core.study.measuring.policies import Policy, Remeasuring
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, InHand, Proposal
from swift_sample.core.study.measuring.steps import ReferenceStep, RunStep, Step
from swift_sample.core.study.measuring.surroundings import scene_changed, unknown_names
from swift_sample.core.worker.lease import Lease
from swift_sample.core.worker.link import SILENCE_SECONDS, Link, WorkerLink
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
    from swift_sample.core.scene.staging import Staging

MAX_WORKER_LOSSES = MAX_MACHINE_FAILURES + 1
"""A worker that was lost this often in a row, without any finished job between, ends the measuring:
after as many losses in one trial, that is given up for now, also the next step lost it."""

PATIENCE_SECONDS = 600.0
"""How long a full disk, or a program that holds the study's files, is waited for."""

LEASE_SECONDS = 0.5
"""How often a study that waits for the machine asks again."""

WAKE_SECONDS = 1.0
"""How often the driver looks whether a worker still says something."""

logger = logging.getLogger(__name__)


@dataclass
class Spent:
    """Seconds of measuring, without those that were waited for another study."""

    began: float
    waits_since: float | None = None
    """when it began to wait; None while it does not"""

    def wait(self, now: float) -> None:
        """Another study is timed: what a budget buys is measuring, not waiting."""
        if self.waits_since is None:
            self.waits_since = now

    def go_on(self, now: float) -> None:
        """The machine is free: the time that was waited does not count."""
        if self.waits_since is not None:
            self.began += now - self.waits_since
            self.waits_since = None

    def seconds(self, now: float) -> float:
        return (now if self.waits_since is None else self.waits_since) - self.began


@dataclass(frozen=True)
class Replied:
    """What a worker said; None where it is gone."""

    link: Link
    reply: Reply | None


class Stretch:
    """Measuring with this computer's worker, which holds the machine meanwhile. `post` puts what a
    worker says where the driver's thread finds it; `ended` hears once how it ended."""

    holds_machine = True
    """whether the machine is held all the time, or only while this computer works"""

    def __init__(
        self,
        study: OpenStudy,
        lease: Lease,
        policy: Policy,
        *,
        post: Callable[[object], None],
        ended: Callable[[Ended], None],
        times_on: str = "",
    ) -> None:
        self._study = study
        self._lease = lease
        self.policy = policy
        self._post = post
        self._ended = ended
        self._times_on = times_on
        """the only kind of machine whose times are wanted, or machine that is kept apart; "" for
        every kind"""
        self._spent = Spent(study.clock())
        self._own = own_seat(study.machine)
        self._joined = Roster()
        self._in_hand = InHand()
        self._unkept: list[Event] = []
        """outcomes that could not be kept yet"""
        self._blocked_since: float | None = None
        self._losses = 0
        self._stopping = False
        self._is_out_of_time = False
        self.is_over = False

    def begin(self) -> None:
        """Look what was lost since, and try again what failed before."""
        state = self._study.state
        here = state.here
        events: list[Event] = [OutcomeDismissed()] if state.outcome is not None else []

        if here is not None:
            events += lost_pictures(state, here, self._study.store.folder)
            records = state.at(here)
            if any(
                run.result is None and not run.lost and run.number > records.forgiven
                for run in records.runs
            ):
                events.append(FailuresForgiven(here))

        try:
            self._study.keep(events)
        except SwiftSampleError as error:
            self.end(False, one_line(error))
            return

        self._study.check_reference()

    def turn(self) -> float:
        """Do what can be done now; returns how many seconds there is nothing to do unless somebody
        says something."""
        wait = self._look_at_the_clock()
        if not self.is_over and self._is_anyone_free():
            wait = min(wait, self._advance())

        return wait

    def stir(self) -> None:
        """Something happened: whoever had nothing to do may have by now."""

    def _look_at_the_clock(self) -> float:
        """Stop the step in hand where the time that measuring may take is spent, whatever step that
        is; returns how long to wait until it is."""
        if self.policy.budget_seconds is None:
            return WAKE_SECONDS

        spent = self._spent.seconds(self._study.clock())
        left = self.policy.budget_seconds - spent
        if left > 0:
            return min(WAKE_SECONDS, left)

        if all(seat.step is None for seat in self._seats):
            self.end(True, None, self.policy.propose(self._study.state, spent).why)
        elif not self._is_out_of_time:
            self._is_out_of_time = True
            self._stop_jobs()

        return WAKE_SECONDS

    @property
    def _seats(self) -> list[Seat]:
        return [self._own, *self._joined]

    @property
    def worker_pid(self) -> int | None:
        link = self._own.link
        return link.pid if isinstance(link, WorkerLink) else None

    def _is_anyone_free(self) -> bool:
        return not self._own.is_asked

    def _stop_jobs(self) -> None:
        for seat in self._seats:
            if seat.step is not None and seat.link is not None:
                seat.link.stop_job()

    def wait(self, words: str) -> None:
        """What measuring needs cannot be had just now; it is tried again until patience is at its
        end."""
        now = self._study.clock()
        if self._blocked_since is None:
            self._blocked_since = now
            logger.warning("%s: waits: %s", self._study.path, words)

        if now - self._blocked_since > PATIENCE_SECONDS:
            self.end(False, words)
        else:
            self._study.tell(Waits(words))

    def _advance(self) -> float:
        """Give whoever is free something to do; returns how long to wait for what comes."""
        if self._stopping:
            if all(seat.step is None for seat in self._seats):
                self.end(False, None)
            return 0.0

        self._keep_rest()
        return self._advance_workers()

    def _advance_workers(self) -> float:
        # What only compares stored pictures is short and times nothing: it waits for no other
        # study.
        holder = "" if isinstance(self.policy, Remeasuring) else self._hold_machine()
        if holder:
            self._spent.wait(self._study.clock())
            self._study.tell(Waits(f"another study is being timed on this machine: {holder}"))
            return LEASE_SECONDS

        self._spent.go_on(self._study.clock())
        self._study.surround()
        proposal = self._proposed(self._own)
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
        starts = self._study.state.plan.catalogue.capabilities.starts
        return self._lease.take(self._study.path) if starts else ""

    def _finish(self, proposal: Proposal) -> None:
        self._study.keep(proposal.events)
        problem = (
            self._study.state.problem
            if self._study.state.place is None or not self._study.state.can_render
            else ""
        )
        self.end(not problem, problem or None, proposal.why)

    def _proposed(self, seat: Seat) -> Proposal:
        """What a worker is to do next, looked at from its machine."""
        machine = self._filed(seat) if seat.host else self._study.state.surroundings.machine
        hand = Hand(seat.host, self._in_hand, self._times(machine)) if seat.host else ALONE

        while True:
            state = self._study.state.seen_from(machine)
            proposal = self.policy.propose(state, self._spent.seconds(self._study.clock()), hand)
            if not proposal.again:
                break
            self._study.keep(proposal.events)

        step = proposal.step
        if isinstance(step, RunStep) and seat.host:
            return replace(proposal, step=replace(step, software=seat.software))

        return proposal

    def _times(self, name: str) -> bool:
        """Whether times are wanted of the machine that they would be kept under: of one that is
        kept apart only where that was asked for, since others of its kind measure the same."""
        return name == self._times_on or (not self._times_on and kind_of(name) == name)

    def _filed(self, seat: Seat) -> str:
        """The name under which a machine's times are kept."""
        return self._study.state.filed(seat.machine.name, seat.host)

    def _check_room(self) -> None:
        """Raises StudyBlockedError where the next picture would not find room: that is told before
        a render, not after."""
        runs = self._study.state.results.runs
        known = runs[-1].result if len(runs) else None
        if not has_room(self._study.path, 2 * known.picture_bytes if known is not None else 0):
            raise StudyBlockedError(
                f"the disk of {self._study.path} is full; make room on it", held=False
            )

    def _send(self, seat: Seat, step: Step, why: str, events: Sequence[Event]) -> None:
        on = f"{seat.host}: " if seat.host else ""
        decision = Said("decision", f"{on}{step.words(self._study.state.plan.base)}: {why}")
        names = (
            unknown_names(self._study.state, step, self._study.renderer, seat.machine)
            if isinstance(step, RunStep)
            else []
        )
        self._study.keep([*events, *names, decision])

        if names and isinstance(step, RunStep):
            wanted = (
                ("scene", step.place.scene),
                ("renderer", step.place.renderer),
                ("machine", kind_of(step.machine)),
            )
            known = {
                kind: self._study.state.names[name].record
                for kind, name in wanted
                if name in self._study.state.names
            }
            step = replace(
                step, records=known, label=self._study.state.names[step.place.scene].label
            )

        self._publish_soon()
        self._study.tell(StepStarted(step, why, seat.host))
        if step.is_timed and not seat.host:
            self._study.before_timed()

        assert seat.link is not None
        seat.link.was_paused()  # before this step is no matter
        seat.step = step
        seat.content = self._study.state.surroundings.content
        seat.doing = step.words(self._study.state.plan.base)
        self._in_hand.add(step)
        self._ask_seat(seat, step.job(self._study.store.folder))

    def _ask_seat(
        self, seat: Seat, request: Request, checks: "tuple[str, Staging] | None" = None
    ) -> None:
        seat.is_asked = True
        seat.heard = self._study.clock()
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
        first = not self._study.renderer.is_ready()
        self._study.tell(
            StepProgress(
                0.0,
                "Preparing the renderer for the first time, about a minute"
                if first
                else "Starting the renderer",
            )
        )

        self._own.link = WorkerLink(
            self._study.renderer.worker,
            self._study.store.folder.log,
            lambda link, reply: self._post(Replied(link, reply)),
            (*self._study.store.handles, *(self._lease.handles if self.holds_machine else ())),
        )

        self._own.stage = STARTING
        self._ask_seat(self._own, WarmUpJob())

    def on_reply(self, message: Replied) -> None:
        seat = self._own if message.link is self._own.link else self._joined.of(message.link)
        if seat is None:
            return  # of a worker that was given up

        if not isinstance(message.reply, Progress):
            self.stir()

        seat.heard = self._study.clock()
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
            seat.worked_at = self._study.clock()
            self._joined.answered(seat)

            if seat.step is not None:
                self._absorb(seat, seat.step, reply)
            else:
                self._on_beginning(seat, reply)

    def _on_beginning(self, seat: Seat, reply: Outcome) -> None:
        """A worker was asked to start its renderer."""
        if isinstance(reply, Failed):
            self.end(False, f"the renderer cannot start ({reply.reason})")
        else:
            seat.stage = READY

    def _on_progress(self, seat: Seat, progress: Progress) -> None:
        if seat.host:
            seat.doing = progress.text or seat.doing
        if not self._joined or seat.host:
            self._study.tell(StepProgress(progress.share, progress.text, seat.host))

    def _absorb(self, seat: Seat, step: Step, outcome: Outcome) -> None:
        seat.step = None
        seat.doing = ""
        self._in_hand.remove(step, isinstance(outcome, Rendered) or not isinstance(step, RunStep))
        paused = seat.link is not None and seat.link.was_paused()

        if isinstance(outcome, Stopped):
            self._study.tell(StepEnded(step, None))
            return

        if isinstance(outcome, Held):
            self._rest(seat, outcome.reason)
            self._study.tell(StepEnded(step, outcome.reason))
            return

        if isinstance(outcome, Failed):
            if outcome.trace:
                logger.error("the renderer: %s\n%s", outcome.reason, outcome.trace)

            if outcome.fault == "folder":
                self.end(False, outcome.reason)
                return

            if outcome.fault == "disk":
                self._study.tell(StepEnded(step, outcome.reason))
                self.wait(outcome.reason)
                return

        if isinstance(outcome, Rendered) and paused:
            outcome = Void(reason="the renderer was held by another program meanwhile")

        seat.held = 0
        events, problem = self._events_of(seat, step, outcome)

        try:
            self._keep_outcome(events)
        finally:
            self._study.tell(StepEnded(step, problem))

        if isinstance(step, ReferenceStep) and step.rendered is not None:
            self._study.store.folder.chunk(step.reference, step.chunk).unlink(missing_ok=True)

        if isinstance(outcome, Rendered) and isinstance(step, RunStep) and seat.host:
            seat.runs += 1
            if step.trial.id == self._study.state.base.id:
                self._keep_outcome(
                    apart_by_controls(self._study.state, seat.machine.name, seat.host)
                )

        self._publish_soon()

    def _events_of(
        self, seat: Seat, step: Step, outcome: Outcome
    ) -> tuple[Sequence[Event], str | None]:
        """What an outcome means, and the problem to tell."""
        changed = scene_changed(step, seat.content, self._study.renderer)
        if changed:
            return changed, "the scene changed while it was rendered: the run does not count"

        if isinstance(outcome, Void):
            problem = f"{outcome.reason}: the run does not count, and is made again"
            return [Said("void", problem)], problem

        if isinstance(outcome, Unfit):
            return unfit_pictures(
                self._study.state, step, outcome.faults, self._study.store.folder
            ), None

        if isinstance(outcome, Failed) and seat.host and not isinstance(step, RunStep):
            self._rest(seat, outcome.reason)  # there it could not be done; elsewhere it may
            return [], outcome.reason

        if isinstance(outcome, Failed) and not isinstance(step, RunStep):
            return without_figures(self._study.state, step, outcome.reason), None

        return step.absorb(outcome), outcome.reason if isinstance(outcome, Failed) else None

    def _rest(self, seat: Seat, why: str) -> None:
        """Leave a machine alone for a while that could not work."""
        seat.rests_until = self._study.clock() + RESTS[min(seat.held, len(RESTS) - 1)]
        seat.held += 1

        if not seat.said or seat.said[-1] != why:
            seat.said.append(why)
            self._study.keep([Said("machines", f"{seat.host or 'this computer'}: {why}")])
            self._study.tell(MachineSaid(seat.host, f"{seat.host or 'this computer'}: {why}"))

    def _publish_soon(self) -> None:
        self._study.publish()

    def _keep_outcome(self, events: Sequence[Event]) -> None:
        """Keep what a step brought, or as soon as that can be done."""
        self._losses = 0
        self._unkept += events
        self._keep_rest()

    def _keep_rest(self) -> None:
        if self._unkept:
            self._study.keep(self._unkept)
            self._unkept = []
            self._blocked_since = None

    def _lose_worker(self, seat: Seat, problem: str) -> None:
        """A worker is gone, or is ended now: it costs the step in hand."""
        link = seat.link
        step = seat.step
        self._own = own_seat(self._study.machine)

        if link is not None:
            link.kill()
            link.close()

        logger.warning("%s: %s", self._study.path, problem)
        events: list[Event] = [Said("worker lost", problem)]
        if isinstance(step, RunStep):
            events += step.failed(problem, by_machine=True)

        losses = self._losses
        self._keep_outcome(events)

        if step is not None:
            self._in_hand.remove(step)
            self._study.tell(StepEnded(step, problem))

        self._study.publish()
        self._losses = losses + 1

        if self._losses >= MAX_WORKER_LOSSES:
            self.end(
                False,
                f"{problem}; it was started {self._losses} times in vain, what was measured is "
                f"kept, see {self._study.store.folder.log}",
            )

    def notice_silence(self) -> None:
        for seat in self._seats:
            if seat.is_asked and self._study.clock() - seat.heard > SILENCE_SECONDS:
                self._lose_worker(
                    seat, f"the renderer said nothing for {SILENCE_SECONDS:.0f} s and was ended"
                )

    def stop(self, after_this_step: bool) -> None:
        """End at once, or after the step in hand."""
        self._stopping = True
        if after_this_step:
            return

        if all(seat.step is None for seat in self._seats):
            self.end(False, None)
        else:
            self._stop_jobs()

    def end(self, finished: bool, problem: str | None, words: str = "") -> None:
        """Measuring is over: say so, let the machine and the worker go."""
        if self.is_over:
            return

        self.is_over = True
        link = self._own.link
        busy = self._own.is_asked
        self._own = own_seat(self._study.machine)

        if link is not None:
            if busy or problem is not None:
                link.kill()
            link.close()

        self._part()
        self._lease.release()

        words = words if finished else problem or STOPPED
        with suppress(StudyError):
            self._study.keep([*self._unkept, MeasuringEnded(finished, words)])

        ended = Ended(finished, problem, words)
        self._ended(ended)
        try:
            self._study.publish()
        except Exception as error:  # who waits for the end must hear of it all the same
            report_error("showing what was measured", error)

        self._study.tell(ended)

    def throw_away(self) -> None:
        """The study is closed: a render that is thrown away need not end well."""
        if self._own.is_asked and self._own.link is not None:
            self._own.link.kill()

        self.end(False, None)

    def _part(self) -> None:
        """Let go whoever else worked."""

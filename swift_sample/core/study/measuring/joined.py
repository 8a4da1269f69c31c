"""A measuring that is done on machines that have joined: who they are, whether they may be used,
and what each is given. This computer's own worker merges what they make."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from swift_sample.core.errors import PictureError, StudyBlockedError, SwiftSampleError, one_line
from swift_sample.core.machine import computer
from swift_sample.core.machines.news import Heard, News, version_words
from swift_sample.core.study.answers.kinds import machine_to_show, machine_words
from swift_sample.core.study.log.events import Said
from swift_sample.core.study.measuring.crew import (
    CHECKING,
    READY,
    RESTS,
    STARTING,
    Roster,
    Seat,
    Tile,
    joined_seat,
    skew_words,
)
from swift_sample.core.study.measuring.notices import (
    CrewChanged,
    Ended,
    MachineSaid,
    Member,
    StepEnded,
    Waits,
)
from swift_sample.core.study.measuring.open_study import PUBLISH_SECONDS, OpenStudy
from swift_sample.core.study.measuring.policies import Policy, Searching
from swift_sample.core.study.measuring.policies.proposal import Proposal
from swift_sample.core.study.measuring.policies.reference import merge_step
from swift_sample.core.study.measuring.stretch import WAKE_SECONDS, Replied, Stretch
from swift_sample.core.worker.lease import Lease
from swift_sample.core.worker.messages import (
    Failed,
    Held,
    Outcome,
    Rendered,
    Stopped,
    Void,
    WarmUpJob,
)

if TYPE_CHECKING:
    from swift_sample.core.machines.fleet import Fleet

GREETING_SECONDS = 5.0
"""How long machines may take to say who they are before it is told that there are none."""


@dataclass(frozen=True)
class Announced:
    """What was heard of a fleet's machines."""

    fleet: "Fleet"
    news: "News"


class FleetStretch(Stretch):
    """Measuring with the machines of a fleet. The machine here is held only while it works."""

    holds_machine = False

    def __init__(
        self,
        study: OpenStudy,
        lease: Lease,
        policy: Policy,
        fleet: "Fleet",
        *,
        post: Callable[[object], None],
        ended: Callable[[Ended], None],
        times_on: str = "",
    ) -> None:
        super().__init__(study, lease, policy, post=post, ended=ended, times_on=times_on)
        self.fleet = fleet
        self._tile: Tile | None = None
        """what every machine renders first"""
        self._is_stirred = True
        self._shown = 0.0
        self._surrounded = 0.0

    def begin(self) -> None:
        super().begin()
        if self.is_over:
            return

        try:
            self._meet()
        except SwiftSampleError as error:
            self.end(False, one_line(error))

    def stir(self) -> None:
        self._is_stirred = True

    def _is_anyone_free(self) -> bool:
        stirred = self._is_stirred
        self._is_stirred = False
        return stirred

    def _publish_soon(self) -> None:
        if self._joined:
            self._study.publish_soon()
        else:
            self._study.publish()

    def _meet(self) -> None:
        """Look for the machines of the fleet. Raises StudyError where nobody can be reached."""
        self.fleet.open(
            self._study.renderer,
            str(self._study.path),
            lambda link, reply: self._post(Replied(link, reply)),
            lambda news: self._post(Announced(self.fleet, news)),
        )
        self._tile = Tile(self._study.state.plan, self._study.path)

    def _part(self) -> None:
        self._joined = Roster()
        shown = machine_to_show(self._study.state)
        if shown and not self._study.state.machine_shown:
            self._study.look_at_machine(shown)

        self._study.tell(CrewChanged(self.fleet.address, ()))
        self.fleet.close()

        if self._tile is not None:
            self._tile.remove()
            self._tile = None

    def on_news(self, message: Announced) -> None:
        """Somebody has joined, or something is to be told."""
        if message.fleet is not self.fleet:
            return

        self.stir()
        news = message.news
        if isinstance(news, Heard):
            self._study.keep([Said("machines", news.words)])
            self._study.tell(Waits(news.words) if news.is_lost else MachineSaid("", news.words))
            return

        seat = joined_seat(news.link, news.card)
        self._joined.add(seat)
        words = f"{seat.host} has joined: {machine_words(seat.machine.record)}"
        self._study.keep([Said("machines", words)])
        self._study.tell(MachineSaid(seat.host, words))
        skew = skew_words(seat.host, news.skew)

        if skew:
            self._study.keep([Said("machines", skew)])
            self._study.tell(MachineSaid(seat.host, skew))

    def _show_crew(self) -> None:
        """Tell who works for the study, not more often than is of use."""
        now = self._study.clock()
        if now - self._shown < PUBLISH_SECONDS:
            return

        self._shown = now
        self._study.tell(CrewChanged(self.fleet.address, tuple(map(self._member, self._joined))))

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
                self.end(False, f"the renderer cannot start here ({reply.reason})")
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

            self._blocked_since = None
            if isinstance(self.policy, Searching) and not self._times_on:
                self._times_on = self._filed(seat)  # it looks for the pick of one kind
        else:
            seat.stage = CHECKING

    def _wrong_with(self, seat: Seat) -> str:
        """Why what a machine rendered first is not what it should be; "" where it is."""
        content = getattr(seat.link, "content", None)
        version = getattr(seat.link, "version", "")
        own = self._study.state.surroundings.content

        if version and version != self._study.renderer.version:
            return version_words(version, self._study.renderer.version)
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

    def _drop(self, seat: Seat, why: str) -> None:
        """Use a machine no more."""
        words = f"{seat.host} is not used: {why}"
        self._joined.remove(seat)
        self._study.keep([Said("machines", words)])
        self._study.tell(MachineSaid(seat.host, words))

    def _lose_worker(self, seat: Seat, problem: str) -> None:
        if seat.host:
            self._lose_machine(seat, problem)
        else:
            super()._lose_worker(seat, problem)

    def _lose_machine(self, seat: Seat, problem: str) -> None:
        """A machine has left: what it had in hand is to be done again, by whoever is there."""
        self._joined.remove(seat)
        step = seat.step
        seat.step = None
        words = (
            f"{problem}; {step.words(self._study.state.plan.base)} is begun anew"
            if step is not None
            else problem
        )

        if step is not None:
            self._in_hand.remove(step, False)
            self._study.tell(StepEnded(step, problem))

        self._keep_outcome([Said("machines", words)])
        self._study.tell(MachineSaid(seat.host, words))
        self._publish_soon()

    def _advance_workers(self) -> float:
        """Give steps to all machines that are free, and to this computer what is to be merged."""
        if self._study.clock() - self._surrounded >= WAKE_SECONDS:
            self._surrounded = self._study.clock()
            self._study.surround()

        own_waits = self._advance_own()
        now = self._study.clock()

        if not self._joined and now - self._spent.began > GREETING_SECONDS:
            raise StudyBlockedError(
                f"no machine has joined at {self.fleet.address} that can be used", held=True
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

            proposal = self._proposed(seat)
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
        here = self._study.state.here
        tile = self._tile
        assert tile is not None
        step = (
            merge_step(self._study.state, here)
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

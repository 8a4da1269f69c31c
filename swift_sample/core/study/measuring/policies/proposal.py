"""What a policy says, and who asks it."""

from collections.abc import Iterable, Set
from dataclasses import dataclass, field
from typing import Protocol

from swift_sample.core.study.log.events import KeptEvent
from swift_sample.core.study.log.identity import MeasurementKey, Place
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.steps import (
    ChunkStep,
    MeasureStep,
    ReferenceStep,
    RunStep,
    Step,
)

_NONE: frozenset[tuple[str, int]] = frozenset()


class InHand:
    """The steps that workers have in hand, so that no two do the same."""

    def __init__(self, steps: Iterable[Step] = ()) -> None:
        self._runs: dict[tuple[Place, str], set[tuple[str, int]]] = {}
        self.chunks: set[tuple[str, int]] = set()
        self.measured: set[MeasurementKey] = set()
        self.appearances: set[str] = set()
        """whose pictures are measured as they are"""
        self.count = self.returned = 0
        """how many there are, and how many runs came back undone"""
        self.cursors: dict[object, tuple[int, int]] = {}
        """how far into the orders of runs everything is done or in hand"""
        self.counts: dict[object, tuple[int, dict[str, tuple[int, str]]]] = {}
        """how many runs trials shall have, with how many there were when that was worked out"""
        for step in steps:
            self.add(step)

    def runs(self, place: Place | None, machine: str) -> Set[tuple[str, int]]:
        """Runs of a place that a kind of machine has in hand, controls apart: trial and block."""
        return self._runs.get((place, machine), _NONE) if place is not None else _NONE

    def add(self, step: Step) -> None:
        self._change(step, set.add)
        self.count += 1

    def remove(self, step: Step, is_done: bool = True) -> None:
        self._change(step, set.discard)
        self.count -= 1
        self.returned += not is_done

    def _change(self, step: Step, change) -> None:  # type: ignore[no-untyped-def]
        if isinstance(step, RunStep) and not step.control:
            change(
                self._runs.setdefault((step.place, step.machine), set()),
                (step.trial.id, step.block),
            )
        elif isinstance(step, MeasureStep):
            change(self.measured, step.key)
            if not step.key.recipe:
                change(self.appearances, step.key.appearance)
        elif isinstance(step, ReferenceStep | ChunkStep):
            change(self.chunks, (step.reference, step.chunk))


@dataclass(frozen=True)
class Hand:
    """The worker that asks for a step. `host` names it where it is one of several, which share what
    is to be measured: each makes its own controls, and renders chunks of the reference that are
    merged elsewhere. `others` is what all have in hand. Without `times` it is asked for nothing
    whose time counts."""

    host: str = ""
    others: InHand = field(default_factory=InHand)
    times: bool = True

    @property
    def shares(self) -> bool:
        return bool(self.host)


ALONE = Hand()


@dataclass(frozen=True)
class Proposal:
    """The next step and why. Without a step measuring ends, for the reason given, as soon as nobody
    has one in hand. `events` are kept before the step begins; with `again` the policy is asked once
    more after them."""

    step: Step | None
    why: str
    events: tuple[KeptEvent, ...] = ()
    again: bool = False


class Policy(Protocol):
    """Proposes what to measure next."""

    @property
    def budget_seconds(self) -> float | None:
        """How long measuring may take, whatever is in hand then; None for as long as there is
        something to do."""
        ...

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        """`seconds_spent` since measuring began."""
        ...

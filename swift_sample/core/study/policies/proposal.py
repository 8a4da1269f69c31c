"""What a policy says."""

from dataclasses import dataclass
from typing import Protocol

from swift_sample.core.study.events import KeptEvent
from swift_sample.core.study.state import StudyState
from swift_sample.core.study.steps import Step


@dataclass(frozen=True)
class Proposal:
    """The next step and why. Without a step measuring ends, for the reason given. `events` are kept before the step begins;
    with `again` the policy is asked once more after them."""

    step: Step | None
    why: str
    events: tuple[KeptEvent, ...] = ()
    again: bool = False


class Policy(Protocol):
    """Proposes what to measure next."""

    @property
    def budget_seconds(self) -> float | None:
        """How long measuring may take, whatever is in hand then; None for as long as there is something to do."""
        ...

    def propose(self, state: StudyState, seconds_spent: float) -> Proposal:
        """`seconds_spent` since measuring began."""
        ...

"""Measuring a few configurations at a second size or frame, as a sweep of that place would."""

from dataclasses import dataclass

from swift_sample.core.study.holding import Elsewhere
from swift_sample.core.study.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.policies.sweep import Sweeping
from swift_sample.core.study.state import StudyState


@dataclass(frozen=True)
class Holding:
    """Measures what `elsewhere` names, with a reference of that place."""

    elsewhere: Elsewhere
    budget_seconds = None

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        if state.here is None:
            return Proposal(None, state.problem)
        proposal = Sweeping().propose(self.elsewhere.state(state), seconds_spent, hand)
        return Proposal(proposal.step, f"at the second size or frame: {proposal.why}")

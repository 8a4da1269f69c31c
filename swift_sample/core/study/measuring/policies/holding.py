"""Measuring a few configurations at a second size or frame, as a sweep of that place would."""

from dataclasses import dataclass

from swift_sample.core.study.answers.holding import Elsewhere
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.measuring.policies.sweep import Sweeping


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

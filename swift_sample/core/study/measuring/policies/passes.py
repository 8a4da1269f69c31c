"""Keeping the light passes of one picture."""

from dataclasses import dataclass, field

from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import Run
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.measuring.steps import PassesStep


@dataclass
class KeepingPasses:
    """Renders a run of a trial again, with all that explains its light; once."""

    configuration: Configuration
    run: Run
    budget_seconds = None
    _done: bool = field(default=False, init=False)

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        if self._done or state.here is None or state.here != self.run.place:
            return Proposal(
                None,
                "the light passes are kept"
                if self._done
                else state.problem or "the scene is another one",
            )

        self._done = True
        step = PassesStep(
            self.run.picture,
            self.configuration,
            spec_of(state.plan, self.configuration, self.run.seed),
        )
        return Proposal(step, "asked for while looking")

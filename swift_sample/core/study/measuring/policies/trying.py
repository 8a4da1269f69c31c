"""Measuring one trial now, and nothing else: what a finding or a person asks for."""

from dataclasses import dataclass

from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.results import results_of
from swift_sample.core.study.log.state import PlannedTrial, StudyState
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.measuring.policies.reference import reference_step
from swift_sample.core.study.measuring.policies.sweep import (
    Waiting,
    measure_step,
    predicted_seconds,
    run_step,
    wanted_from_recordings,
)

LONGEST_AGAIN = 30.0
"""Seconds of a trial of which one run, or two, will do to see whether it is what was hoped for."""


@dataclass(frozen=True)
class Trying:
    """Renders a trial until it has `runs` runs, and measures its pictures; the reference and one
    run of the base come first where there are none, since nothing can be said without."""

    configuration: Configuration
    runs: int
    budget_seconds = None

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        """The next step; the same for the same state."""
        place = state.here
        if place is None or not state.can_render:
            return Proposal(
                None, state.problem or "results of an earlier version of the scene are looked at"
            )
        if state.reference is None:
            return Proposal(
                reference_step(state, place),
                "errors are measured against it, and there is none yet",
            )

        trial = state.trial_of(self.configuration)
        step = wanted_from_recordings(state, [trial]) or measure_step(state, [trial])
        if step is not None:
            return Proposal(step, "it has pictures that were not measured")

        for one, wanted in ((state.base, 1), (trial, self.runs)):
            done = state.results.blocks_done(one.id, state.machine)
            if state.results.is_given_up(one.id, state.machine):
                return Proposal(None, "it could not be rendered")

            if len(done) < wanted:
                block = next(k for k in range(len(done) + 1) if k not in done)
                return Proposal(
                    run_step(state, place, Waiting(one, block, 0)),
                    f"run {len(done) + 1} of {wanted}, asked for now",
                )

        return Proposal(None, "what was asked for is measured")


def runs_to_try(state: StudyState, configuration: Configuration) -> int:
    """How many runs a trial shall have so that it can be judged: the study's number, or two where
    each takes long."""
    measured = {t.id: t.seconds.value for t in results_of(state).trials if t.seconds is not None}
    trial: PlannedTrial = state.trial_of(configuration)
    seconds = predicted_seconds(state.plan, trial, measured)

    return (
        min(state.plan.repeats, 2)
        if seconds is not None and seconds > LONGEST_AGAIN
        else state.plan.repeats
    )


def one_more_run(state: StudyState, configuration: Configuration) -> int:
    """How many runs a trial has when it is rendered once more."""
    return len(state.results.blocks_done(state.trial_of(configuration).id, state.machine)) + 1

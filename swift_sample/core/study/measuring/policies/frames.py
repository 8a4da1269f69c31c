"""Measuring a sequence at a few of its frames: runs frame by frame, frames in shuffled order, then
each frame's grain; at last the study's limits where the pick is grainiest, against a reference of
that frame."""

from dataclasses import dataclass

import numpy as np

from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.frames import RUNS, grain_key, runs_of, there
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.state import PlannedTrial, StudyState
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.measuring.policies.reference import reference_is_good, reference_steps
from swift_sample.core.study.measuring.policies.sweep import (
    digests_of,
    measure_step,
    run_seed,
    step_of_run,
)
from swift_sample.core.study.measuring.steps import MeasureStep
from swift_sample.core.study.plan.model import FramePlan


@dataclass(frozen=True)
class Framing:
    """Measures these configurations at the frames of a sequence."""

    plan: FramePlan
    configurations: tuple[Configuration, ...]
    budget_seconds = None

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        """The next run, or the grain of a frame with all its runs."""
        if state.here is None:
            return Proposal(None, state.problem)

        frames = self.plan.frames()
        trials = [state.trial_of(c) for c in dict.fromkeys(self.configurations)]

        for number in np.random.default_rng(len(frames)).permutation(len(frames)):
            frame = frames[int(number)]
            place = state.place_of_frame(frame)
            assert place is not None
            proposal = self._run(state, place, frame, trials, hand) or self._grain(
                state, place, frame, trials, hand
            )

            if proposal is not None:
                return proposal

        return self._limits(state, hand) or Proposal(
            None, "every frame that was wanted is measured"
        )

    def _limits(self, state: StudyState, hand: Hand) -> Proposal | None:
        look = there(state, self.plan, self.configurations)
        if look is None or look.here is None:
            return None

        why = f"the limits are judged where it is grainiest, at frame {look.plan.frame}"
        if look.reference is None or not reference_is_good(look):
            chunk = next(reference_steps(look, look.here, hand), None)
            return Proposal(chunk, why) if chunk is not None else None

        step = measure_step(look, look.planned, hand)
        return Proposal(step, why) if step is not None else None

    def _run(
        self, state: StudyState, place: Place, frame: int, trials: list[PlannedTrial], hand: Hand
    ) -> Proposal | None:
        records = state.at(place)
        taken = hand.others.runs(place, state.machine)

        for run in range(RUNS) if hand.times else ():
            for trial in trials:
                done = len(runs_of(state, place, trial))
                in_hand = (trial.id, run) in taken

                if done <= run and not in_hand and not records.is_given_up(trial.id, state.machine):
                    made = len(records.trials.get(trial.id, ()))
                    seed = run_seed(
                        state, place, trial, "frame", *((made, run) if hand.shares else (made,))
                    )
                    return Proposal(
                        step_of_run(state, place, trial, run, False, seed, frame, hand.host),
                        f"frame {frame}, run {run + 1} of {RUNS}",
                    )

        return None

    def _grain(
        self, state: StudyState, place: Place, frame: int, trials: list[PlannedTrial], hand: Hand
    ) -> Proposal | None:
        for trial in trials:
            if grain_key(state, trial) in hand.others.measured:
                continue

            pictures = state.at(place).pictures.get(trial.appearance, ())
            known = state.at(place).measurements.get(grain_key(state, trial))

            if (
                len(runs_of(state, place, trial)) >= RUNS
                and len(pictures) >= RUNS
                and (known is None or not known.is_current)
            ):
                keys = (grain_key(state, trial),)
                digests = digests_of(state, place, pictures)
                step = MeasureStep(
                    place=place,
                    configuration=trial.configuration,
                    keys=keys,
                    pictures=pictures,
                    reference_samples=0,
                    size=state.plan.size,
                    digests=digests,
                )
                return Proposal(step, f"grain of frame {frame}")

        return None

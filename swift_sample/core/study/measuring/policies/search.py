"""The guided search as a policy: turns advice into steps, and learns from the base's pictures
denoised in other ways.

While it explores, trials get just enough runs to go on; when nothing promises more, those that may
be the pick get all of theirs, in shuffled blocks with controls, and the search looks again.
"""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import product
from typing import TYPE_CHECKING

from swift_sample.core.renderers.port import Renderer
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Value
from swift_sample.core.settings.setting import DENOISING, SAMPLES
from swift_sample.core.study.answers.acceptance import NOT_ACCEPTABLE
from swift_sample.core.study.answers.costs import typical_run
from swift_sample.core.study.answers.field import pace_of, recorded_for
from swift_sample.core.study.answers.findings import find, spared_for_nothing
from swift_sample.core.study.answers.results import Results, results_of
from swift_sample.core.study.answers.taking_back import without_each
from swift_sample.core.study.log.events import Prediction, SearchConcluded, TrialChosen
from swift_sample.core.study.log.identity import CHUNK_SAMPLES, Identity, Place
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.policies.deriving import ALL, derive_step
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.measuring.policies.recording import (
    JUDGING_CHUNKS,
    most_recorded,
    record_step,
    why_nothing_is_recorded,
)
from swift_sample.core.study.measuring.policies.reference import reference_step
from swift_sample.core.study.measuring.policies.sweep import Sweeping, digests_of
from swift_sample.core.study.measuring.steps import DeriveStep, MeasureStep
from swift_sample.core.study.plan.model import AREA_MARK, Study
from swift_sample.core.study.search.expectation import Denoised, Denoising, Expectation

if TYPE_CHECKING:
    from swift_sample.core.study.search.in_field import Advised
    from swift_sample.core.study.search.search import Advice

EXPLORING_SHARE = 0.7
"""Of a budget; with the rest, trials that may be the pick get all their runs."""
RUNS_OF_A_LOOK = 4.0
"""Times a render that a look at one more trial takes near the end: two runs, and comparing them."""
DERIVING_SHARE = 0.6
"""Of the time for exploring; what is left of it is for timing what was found."""
PICTURES = 2
"""Runs of the base whose pictures are denoised: grain is what differs between two."""


@dataclass(frozen=True)
class Searching:
    """Chooses trials until none is likely to beat the pick, or the budget is spent. `record` reads
    a run's whole record."""

    record: Callable[[int], RunRecord | None]
    budget_seconds: float | None = None
    on_advice: Callable[["Advice"], None] = lambda advice: None
    renderer: Renderer | None = None
    """whose findings about the base say what may mend a limit that it does not keep"""

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        """The next step; at the end the reason why the search ended."""
        if self.budget_seconds is not None and seconds_spent >= self.budget_seconds:
            return Proposal(None, f"time is up after {self.budget_seconds:.0f} s; best so far")

        proposal = Sweeping(sought=True, exploring=not state.results.concluded).propose(
            state, seconds_spent, hand
        )
        if proposal.step is not None or state.here is None:
            return proposal

        results = results_of(state)
        base = results.base
        run = typical_run(results.base) if results.base is not None else None
        record = self.record(run.number) if run is not None else None

        if base is None or not base.is_on_map or record is None:
            return Proposal(None, "the base could not be measured")

        recorded = self._in_field(state, results, seconds_spent, hand)
        if recorded is not None:
            return recorded

        step = _unknown_denoising(state, hand)
        if step is not None:
            return Proposal(step, "what other denoising makes of pictures that are there")

        smoothed = _smoothed(state, results)
        study = results.study
        expectation = Expectation(
            base=base,
            run=record,
            goal=study.goal,
            denoised=smoothed,
            renders_per_opening=study.renders_per_opening,
            opens=_openings(study),
        )

        return self._advised(state, results, expectation, seconds_spent, hand)

    def _in_field(
        self, state: StudyState, results: Results, seconds_spent: float, hand: Hand
    ) -> Proposal | None:
        """The next step where recordings hold the pictures; None where they do not, or have no
        more to say."""
        place = state.here
        base = state.plan.base
        if place is None or hand.shares or why_nothing_is_recorded(state):
            return None

        if state.reference is None or state.reference.chunks < JUDGING_CHUNKS:
            return Proposal(reference_step(state, place), "half of it judges what is derived")

        record = record_step(state)
        if record is not None:
            return Proposal(record, "pictures of other settings are derived from it")
        if not recorded_for(state, base):
            return None

        for trial in results.trials:
            step = derive_step(state, place, trial.configuration) if trial.is_on_map else None
            if step is not None:
                return Proposal(step, "what it takes teaches what others take")

        if pace_of(state, results) is None:
            return None

        from swift_sample.core.study.search.in_field import FieldSearch

        records = state.results
        failed = [
            c for c in records.chosen if records.is_given_up(state.trial_of(c).id, state.machine)
        ]
        # Half of the reference has to be left, to be compared with.
        most = most_recorded(state)
        exploring = EXPLORING_SHARE * (self.budget_seconds or math.inf)
        only_time = seconds_spent >= DERIVING_SHARE * exploring
        advised = FieldSearch(state, results, most, failed).advise(only_time)
        if advised.contender is not None:
            step = derive_step(state, place, advised.contender, ALL)
            return Proposal(step or reference_step(state, place), advised.why)

        step = derive_step(state, place, advised.derive) if advised.derive is not None else None
        if step is not None:
            return Proposal(step, advised.why)

        if advised.time is None:
            worth = _worth_of_changes(state, place, results)
            if worth is not None:
                return Proposal(worth, "shows what a change of the pick is worth")

        from swift_sample.core.study.search.search import Advice

        why = advised.why
        self.on_advice(Advice(advised.time, why, advised.outlooks))
        if advised.time is not None and seconds_spent >= exploring:
            why = f"not finished after {seconds_spent:.0f} s: better ones are likely"
        elif advised.time is not None and advised.time not in records.chosen:
            return self._chosen(place, advised)

        if not records.concluded and not _needs_renders(state):
            return Proposal(None, why, (SearchConcluded(place, why),), again=True)

        return Proposal(None, why) if not _needs_renders(state) else None

    @staticmethod
    def _chosen(place: Place, advised: "Advised") -> Proposal:
        """The proposal that times a configuration which the field search chose."""
        assert advised.time is not None
        assert advised.seconds is not None
        assert advised.share is not None
        predicted = Prediction(advised.seconds, advised.share)
        values = advised.time.identity_values()
        chosen = TrialChosen(place, values, advised.why, predicted)

        return Proposal(None, advised.why, (chosen,), again=True)

    def _advised(
        self,
        state: StudyState,
        results: Results,
        expectation: Expectation,
        seconds_spent: float,
        hand: Hand,
    ) -> Proposal:
        from swift_sample.core.study.search.search import Advice, advise

        place = state.here
        records = state.results
        assert place is not None
        failed = [
            c for c in records.chosen if records.is_given_up(state.trial_of(c).id, state.machine)
        ]

        if (
            hand.shares
        ):  # what others are about to render is as good as known: another one is looked for
            measured = {trial.id for trial in results.trials if trial.is_on_map}
            failed += [
                c
                for c in records.chosen
                if state.trial_of(c).id not in measured and c not in failed
            ]

        exploring = (
            EXPLORING_SHARE * self.budget_seconds if self.budget_seconds is not None else None
        )
        left = (
            exploring - seconds_spent
            if exploring is not None and exploring > seconds_spent
            else math.inf
        )
        advice = advise(results, expectation, failed, left, self._advised_changes(results))

        if (
            advice.configuration is not None
            and exploring is not None
            and seconds_spent >= exploring
        ):
            assert self.budget_seconds is not None
            likeliest = advice.outlooks[0].chance
            left = self.budget_seconds - seconds_spent
            advice = advise(
                results,
                expectation,
                failed,
                left / RUNS_OF_A_LOOK,
                self._advised_changes(results),
                True,
            )

            if advice.configuration is None or results.pick() is None:
                why = (
                    f"not finished after {seconds_spent:.0f} of {self.budget_seconds:.0f} s, the "
                    "rest is for what may be the "
                    f"pick; the likeliest combination left has a chance of {likeliest:.0%}"
                )
                advice = Advice(None, why, advice.outlooks)

        if hand.others.count and (advice.configuration is None or not hand.times):
            return Proposal(None, "what others have in hand may change what is worth trying")

        self.on_advice(advice)
        if advice.configuration is not None and advice.configuration not in records.chosen:
            outlook = advice.outlooks[0]
            predicted = Prediction(outlook.seconds, outlook.share)
            chosen = TrialChosen(
                place, advice.configuration.identity_values(), advice.why, predicted
            )
            return Proposal(None, advice.why, (chosen,), again=True)

        if records.concluded:
            return Proposal(None, advice.why)

        return Proposal(None, advice.why, (SearchConcluded(place, advice.why),), again=True)

    def _advised_changes(self, results: Results) -> list[Mapping[str, Value]]:
        """What findings about the base propose for limits that it does not keep, where there are
        some, and for what much of its time goes into without changing a pixel."""
        base = results.base
        if self.renderer is None or base is None:
            return []

        found = find(results, base, self.record, self.renderer)
        catalogue = results.study.catalogue

        free = [
            finding.changes
            for finding in spared_for_nothing(found)
            if not any(catalogue[key].changes_pixels for key in finding.changes)
        ]
        mends = [finding.changes for finding in found if finding.mends]
        return [*free, *(mends if base.verdict == NOT_ACCEPTABLE else [])]


def _worth_of_changes(state: StudyState, place: Place, results: Results) -> DeriveStep | None:
    """Derives the pick without one of its changes, where that is not known yet."""
    pick = results.pick()
    if pick is None:
        return None

    without = without_each(pick.trial.configuration, state.plan.base)
    steps = (derive_step(state, place, one) for one in without.values())
    return next((step for step in steps if step is not None), None)


def _needs_renders(state: StudyState) -> bool:
    """Whether the plan tries values that no recording holds apart."""
    study = state.plan
    space = study.space()
    samples = study.catalogue.with_role(SAMPLES)
    more = space.get(samples.key, ()) if samples is not None else ()

    return (
        any(
            study.catalogue[key].changes_pixels and study.catalogue[key].derived is None
            for key in space
        )
        or any(float(value) > CHUNK_SAMPLES for value in more)
        or any(not one.areas for one in state.derived.values())
    )


def _openings(study: Study) -> dict[str, Value]:
    """What the reference opens and the base does not, as far as an artist may choose it."""
    opened = study.reference_opens().items()
    return {
        key: value
        for key, value in opened
        if (own := study.catalogue[key].reference) is not None and own.is_choice
    }


def recipe_of(denoising: Denoising) -> str:
    """The name of a denoising that is tried on stored pictures."""
    return Identity("recipe", {"denoise": list(denoising) if denoising is not None else None}).name


def _wanted_denoisings(state: StudyState) -> Mapping[Denoising, MeasureStep]:
    """Every denoising that the search's combinations have, with the step that tries it on the
    base's pictures."""
    study = state.plan
    place = state.place
    pictures = state.independent_pictures(state.base.appearance)[:PICTURES]
    space = study.space()
    denoisings = {}
    settings = [declared.key for declared in study.catalogue.all_with_role(DENOISING)]

    if not study.catalogue.capabilities.denoises_stored:
        return {}

    for chosen in product(*(space.get(key, (study.base[key],)) for key in settings)):
        tried = study.base.with_denoising(dict(zip(settings, chosen, strict=True)))
        denoising = tried.denoising()
        keys = tuple(
            state.measurement_key(state.base.appearance, area, recipe_of(denoising))
            for area in state.areas_measured
        )
        samples = state.reference.samples if state.reference is not None else 0

        if place is not None and pictures and denoising not in denoisings:
            digests = digests_of(state, place, pictures)
            denoisings[denoising] = MeasureStep(
                place=place,
                configuration=tried,
                keys=keys,
                pictures=pictures,
                reference_samples=samples,
                size=study.size,
                digests=digests,
            )

    return denoisings


def _unknown_denoising(state: StudyState, hand: Hand) -> MeasureStep | None:
    known = {
        key for key, measurement in state.results.measurements.items() if measurement.is_current
    }
    wanted = (
        step for step in _wanted_denoisings(state).values() if not known.issuperset(step.keys)
    )
    return next((step for step in wanted if step.key not in hand.others.measured), None)


def _smoothed(state: StudyState, results: Results) -> dict[Denoising, Denoised]:
    """What is known of other denoising, as shares of the limits."""
    denoised = {}
    for denoising in _wanted_denoisings(state):
        figures = {}
        seconds = 0.0

        for area in state.areas_measured:
            known = state.results.measurements.get(
                state.measurement_key(state.base.appearance, area, recipe_of(denoising))
            )
            if known is not None and known.is_current:
                seconds = known.seconds
                tail = "" if area is None else f"{AREA_MARK}{area.name}"
                figures.update({kind + tail: figure for kind, figure in known.figures.items()})

        denoised[denoising] = Denoised(
            seconds, {key: share.value for key, share in results.acceptance.shares(figures).items()}
        )

    return denoised

"""Measuring the plan: runs shuffled within blocks and mixed with controls, the reference begun
first and extended between runs, pictures measured as soon as they lack figures.

A block measures every planned trial once and holds controls, which are repeats of the base.
"""

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import chain, islice

import numpy as np

from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import UNDECIDED
from swift_sample.core.study.answers.results import CLEANER_TIMES, results_of, samples_of
from swift_sample.core.study.answers.trial import time_of
from swift_sample.core.study.log.identity import (
    CHUNK_SAMPLES,
    Place,
    picture_identity,
    seed_of,
    seed_of_chunk,
    trial_identity,
)
from swift_sample.core.study.log.records import Records
from swift_sample.core.study.log.state import PlannedTrial, StudyState
from swift_sample.core.study.measuring.policies.deriving import ALL, derive_step
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, Proposal
from swift_sample.core.study.measuring.policies.recording import (
    JUDGING_CHUNKS,
    record_step,
    why_nothing_is_recorded,
)
from swift_sample.core.study.measuring.policies.reference import (
    chunks_wanted,
    reference_is_good,
    reference_step,
    reference_steps,
    wanted_floor,
)
from swift_sample.core.study.measuring.policies.runs_wanted import (
    LONG_SECONDS,
    RUNS_OF_LONG,
    wanted_runs,
)
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.measuring.steps import DeriveStep, MeasureStep, RunStep, Step
from swift_sample.core.study.measuring.steps.run import Expected
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.search.expectation import sampling_ratio

RUNS_BETWEEN_CONTROLS = 8
FIRST_CONTROLS = (0, 2)
"""After how many other runs one of several machines of a kind renders its first controls."""
CHOSEN_BETWEEN_CONTROLS = 10
"""Of first runs of a search's trials, which come one by one."""
RUNS_BETWEEN_EXTENSIONS = 3
MOST_FOR_RECORDINGS = 0.4
"""Of a budget, for the chunks of the reference that figures are derived from."""
LOOKED_AT = 9
"""First runs of a trial by which it is told whether they take long; the base may have thousands."""


@dataclass(frozen=True)
class Waiting:
    """A run that is still to be made: which trial, in which block, and which control of it (0 for
    none)."""

    trial: PlannedTrial
    block: int
    control: int


@dataclass(frozen=True)
class Sweeping:
    """Measures base and sweeps, and what searches chose. `only` limits sweeps to these settings;
    `sought` leaves sweeps out: only the base and what a search chose, with `exploring` just enough
    of it to search on.

    Within a budget the first block comes in the order of the times that are expected, the shortest
    first, so that what cannot be the pick is what is left over; a run that is expected to outlast
    the budget is not begun.
    """

    only: tuple[str, ...] = ()
    sought: bool = False
    exploring: bool = False

    budget_seconds: float | None = None
    trials: tuple[Configuration, ...] = ()
    """these alone, where there are some"""

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        """The next step; the same for the same state."""
        if self.budget_seconds is not None and seconds_spent >= self.budget_seconds:
            return Proposal(None, f"time is up after {self.budget_seconds:.0f} s; best so far")

        place = state.here
        if place is None or not state.can_render:
            return Proposal(
                None, state.problem or "results of an earlier version of the scene are looked at"
            )

        if state.reference is None:
            first = next(reference_steps(state, place, hand), None)
            if first is not None and first.chunk == 0:
                return Proposal(first, "errors are measured against it, and there is none yet")

        recorded = self._recorded(state, place, hand)
        if recorded is not None:
            return recorded

        step = measure_step(state, self._trials(state), hand)
        if step is not None:
            return Proposal(step, "it has pictures that were not measured")

        waiting = self._next(state, seconds_spent, hand) if hand.times else None
        cleaner = self._cleaner(state, place, hand, waiting is None)
        if cleaner is not None:
            return cleaner

        if waiting is not None:
            counts = self._counts(state, hand if hand.shares else None)
            return Proposal(
                run_step(state, place, waiting, hand.host), _why_run(state, waiting, counts)
            )

        own = {trial.appearance for trial in self._trials(state)}
        grown = next(
            (name for name in state.grown() if name in own and name not in hand.others.appearances),
            None,
        )
        if grown is not None and state.reference is not None:
            return Proposal(
                _measure(state, grown), "there are more pictures, or more of the reference, since"
            )
        if self.budget_seconds is not None and next(self.waiting(state), None) is not None:
            return Proposal(
                None, "every run that is left would take longer than the time that is left"
            )

        return Proposal(None, "everything that was planned is measured")

    def _recorded(self, state: StudyState, place: Place, hand: Hand) -> Proposal | None:
        """What makes figures of recordings, after the first run: runs then only give times, and
        show that what was derived is right."""
        known = state.reference
        if hand.shares or known is None or why_nothing_is_recorded(state):
            return None

        # The base's first mark comes soonest: it waits for no recording.
        if not state.results.runs_on(state.base.id, state.machine) and hand.times:
            return None
        if not self._has_recordings(state):
            return None
        if known.chunks < JUDGING_CHUNKS:
            return Proposal(reference_step(state, place), "half of it judges what is derived")

        record = record_step(state)
        if record is not None:
            return Proposal(record, "pictures of other settings are derived from it")

        for trial in self._trials(state):
            if state.derived_of(trial.appearance) is None and not trial.left_out:
                step = derive_step(state, place, trial.configuration)
                if step is not None:
                    return Proposal(step, "a recording holds its picture")

        return self._surer(state, place)

    def _has_recordings(self, state: StudyState) -> bool:
        """Whether recordings are there, or worth making: for a few trials they are not unless a
        search will want them, and within a budget they have to leave most of it."""
        known = state.reference
        if any(reference == state.reference_name for reference, _ in state.recordings):
            return True
        if state.results.of_chunks:
            return True  # these were lost, and nothing else tells of such pictures
        if known is None or (len(self._trials(state)) < JUDGING_CHUNKS and not self.sought):
            return False
        if self.budget_seconds is None:
            return True

        missing = max(0, JUDGING_CHUNKS - known.chunks) * CHUNK_SAMPLES
        seconds = known.seconds / max(known.samples, 1) * missing
        return seconds < MOST_FOR_RECORDINGS * self.budget_seconds

    def _surer(self, state: StudyState, place: Place) -> Proposal | None:
        """More derived pictures for a trial of which they leave open whether it will do."""
        trials = {trial.id for trial in self._trials(state)}
        for trial in results_of(state).trials:
            if trial.id in trials and trial.derived and trial.verdict == UNDECIDED:
                step = derive_step(state, place, trial.configuration, ALL)
                if step is not None:
                    return Proposal(step, "whether it keeps its limits is open")

        return None

    def _cleaner(
        self, state: StudyState, place: Place, hand: Hand, is_idle: bool
    ) -> Proposal | None:
        """More of the reference, where it is too grainy: after every few runs, and whenever there
        is nothing else to do."""
        known = state.reference
        if known is None:
            step = next(reference_steps(state, place, hand), None) if is_idle else None
            return Proposal(step, "errors are measured against it") if step is not None else None

        if reference_is_good(state):
            doubted = samples_doubted(state) if is_idle else 0
            if known.samples >= doubted:
                return None
            step = next(reference_steps(state, place, hand), None)
            words = (
                "where renders and reference differ, it may be the one that is wrong before "
                f"it has {doubted} samples"
            )
            return Proposal(step, words) if step is not None else None

        if (
            not is_idle
            and state.results.runs_after(known.number, RUNS_BETWEEN_EXTENSIONS)
            < RUNS_BETWEEN_EXTENSIONS
        ):
            return None

        steps = list(reference_steps(state, place, hand))
        ahead = chunks_wanted(state) - len(steps) if hand.shares else 0
        if not steps or (ahead > hand.others.count // RUNS_BETWEEN_CONTROLS and not is_idle):
            return None

        return Proposal(
            steps[0],
            (
                f"its own grain is {known.floor:.2f} levels, {wanted_floor(state.plan):.2f} are "
                "wanted for the grain limit"
            ),
        )

    def _next(self, state: StudyState, seconds_spent: float, hand: Hand) -> Waiting | None:
        """The next run; within a budget the first that is expected to end in time."""
        queue = self.waiting(state, hand if hand.shares else None)
        if hand.shares:
            first = next(queue, None)
            if (
                first is None
                and hand.others.cursors.pop(self._cursor(state, hand), None) is not None
            ):
                queue = self.waiting(state, hand)
                first = next(queue, None)

            control = Waiting(state.base, 0, state.results.controls_made(state.machine, 0) + 1)
            if first is None:
                if not self._pace_is_open(state, hand.host):
                    return None
                first = control
            elif self._owes_control(state, hand.host) and state.results.runs_on(
                state.base.id, state.machine
            ):
                return control

            queue = chain([first], queue)

        if self.budget_seconds is None or not len(state.results.runs):
            return next(queue, None)

        left = self.budget_seconds - seconds_spent
        measured = {
            t.id: t.seconds.value for t in results_of(state).trials if t.seconds is not None
        }

        for waiting in queue:
            seconds = predicted_seconds(state.plan, waiting.trial, measured)
            if seconds is None or seconds <= left:
                return waiting

        return None

    def _owes_control(self, state: StudyState, host: str) -> bool:
        """Whether one of several machines of a kind is to render the base: often at first, so that
        its pace is known before much rests on it, then after every few of its runs."""
        made, base = state.results.made_on(state.machine, host, state.base.id)
        after = (
            FIRST_CONTROLS[base]
            if base < len(FIRST_CONTROLS)
            else RUNS_BETWEEN_CONTROLS * (base - len(FIRST_CONTROLS) + 1)
        )
        if made - base < after:
            return False

        return not state.results.is_given_up(state.base.id, state.machine)

    def _pace_is_open(self, state: StudyState, host: str) -> bool:
        """Whether runs of one of several machines of a kind count that has not had its first
        controls: without them nothing could tell that it is of another pace."""
        made, base = state.results.made_on(state.machine, host, state.base.id)
        if (
            not made
            or base >= len(FIRST_CONTROLS)
            or state.results.is_given_up(state.base.id, state.machine)
        ):
            return False

        return any(key[0] == state.machine and key[1] != host for key in state.results.hosts)

    def waiting(self, state: StudyState, sharing: Hand | None = None) -> Iterator[Waiting]:
        """All runs that are still to be made, in order."""
        trials = self._trials(state)
        records = state.results
        machine = state.machine
        planned = len(trials)
        sought = 0

        if state.results.chosen:
            planned = sum(not trial.sought for trial in trials)
            sought = len(trials) - planned

        repeats = state.plan.repeats
        counts = self._counts(state, sharing)
        last = max([repeats, *(count for count, _ in counts.values())])
        held: list[Waiting] = []
        memo = (self, machine, records.forgiven, sharing is None)
        cursor = self._cursor(state, sharing) if sharing is not None else None
        first, start = (int(number) for number in state.progress.get(memo, (0, 0)))
        gives_up = sharing is None and records.is_given_up(state.base.id, machine)
        unbroken = True

        if sharing is not None and sharing.others.cursors.get(cursor, (0, 0)) > (first, start):
            first, start = sharing.others.cursors[cursor]
            unbroken = False

        taken = sharing.others.runs(state.here, machine) if sharing is not None else None
        for block in range(first, last):
            if block < repeats:
                if block == 0 and self.budget_seconds is not None:
                    order = _by_time(state, trials[:planned])
                elif sharing is not None and block and block == repeats - 1:
                    order = _longest_first(state, trials[:planned])
                else:
                    order = block_order(planned, block)

                if sought:
                    order = (*order, *_sought_order(planned, sought, block))
            else:
                more = [
                    k
                    for k, trial in enumerate(trials)
                    if counts.get(trial.id, (repeats, ""))[0] > block
                ]
                order = (_CONTROL, *more) if more else ()

            skipped = start if block == first else 0
            controls = order[:skipped].count(_CONTROL) if sharing is None else 0

            for place, number in enumerate(islice(order, skipped, None), skipped):
                if number == _CONTROL:
                    if sharing is not None:
                        continue  # each of several machines has controls of its own
                    controls += 1
                    if controls > records.controls_made(machine, block) and not gives_up:
                        held.append(Waiting(state.base, block, controls))
                    continue

                trial = trials[number]
                if taken and (trial.id, block) in taken:
                    unbroken = False
                    continue

                if self._is_done(records, trial, block, machine, repeats):
                    held = []  # a control before a run that is made already comes too late for it
                    if unbroken and block < repeats:
                        state.progress[memo] = (block, place + 1)
                    continue

                unbroken = False
                if counts.get(trial.id, (repeats, ""))[0] <= block:
                    continue

                yield from held  # controls behind the last real run of all would measure nothing
                held = []
                if sharing is not None and block < repeats:
                    sharing.others.cursors[cursor] = (block, place)

                yield Waiting(trial, block, 0)

    def _cursor(self, state: StudyState, sharing: Hand) -> object:
        """Where it is kept how far those who share the runs have come; another one after a run came
        back undone."""
        return (self, "cursor", state.machine, state.results.forgiven, sharing.others.returned)

    def _is_done(
        self, records: Records, trial: PlannedTrial, block: int, machine: str, repeats: int
    ) -> bool:
        done = records.blocks_done(trial.id, machine)
        if block in done or trial.left_out or records.is_given_up(trial.id, machine):
            return True
        if len(done) < RUNS_OF_LONG or block >= repeats:
            return False

        timed = (
            run
            for run in records.trials[trial.id]
            if run.result is not None and run.machine == machine
        )
        seconds = sorted(
            run.result.seconds["total"]
            for run in islice(timed, LOOKED_AT)
            if run.result is not None
        )
        return seconds[len(seconds) // 2] > LONG_SECONDS

    def _trials(self, state: StudyState) -> Sequence[PlannedTrial]:
        if self.sought:
            chosen = state.results.chosen
            names = {state.base.id, *(state.trial_of(configuration).id for configuration in chosen)}

            return [
                trial if trial.id == state.base.id else replace(trial, sought=True)
                for trial in state.planned
                if trial.id in names
            ]

        if self.trials:
            names = {state.trial_of(configuration).id for configuration in self.trials}
            return [trial for trial in state.planned if trial.id in names]

        if not self.only:
            return state.planned

        kept = {
            key: values for key, values in state.plan.values_to_try().items() if key in self.only
        }
        plan = replace(state.plan, sweeps=()).with_values_to_try(kept)
        names = {state.trial_of(configuration).id for configuration in plan.planned()}

        return [trial for trial in state.planned if trial.id in names]

    def _counts(
        self, state: StudyState, sharing: Hand | None = None
    ) -> Mapping[str, tuple[int, str]]:
        """How many runs trials shall have where that is not the study's number, and why. Asked only
        where it can matter: for what a search chose, and once all planned runs are made. It takes
        as long as all results; where many share the runs, each of which changes little, it is asked
        anew after some of those in hand."""
        if not state.results.chosen and not self._all_planned_made(state):
            return {}

        runs = len(state.results.runs)
        key = (self, "counts", state.machine, state.results.forgiven)
        known = sharing.others.counts.get(key) if sharing is not None else None
        few = 1 if sharing is None else 1 + min(sharing.others.count // 4, runs // 50)

        if known is None or runs >= known[0] + few:
            sought = frozenset(trial.id for trial in self._trials(state) if trial.sought)
            wanted = wanted_runs(results_of(state), self.exploring, sought)
            known = (runs, {name: (one.count, one.why) for name, one in wanted.items()})

            if sharing is not None:
                sharing.others.counts[key] = known

        return known[1]

    def _all_planned_made(self, state: StudyState) -> bool:
        records = state.results
        machine = state.machine
        key = (self, "made", machine, records.forgiven)
        trials = self._trials(state)
        repeats = state.plan.repeats
        at = int(state.progress.get(key, (0, 0))[0])

        while at < len(trials) and all(
            self._is_done(records, trials[at], block, machine, repeats) for block in range(repeats)
        ):
            at += 1

        state.progress[key] = (at, 0)
        return at == len(trials)


@dataclass(frozen=True)
class Remeasuring:
    """Renders nothing: stored pictures are measured again, as after a change of view or areas, or
    in an earlier place."""

    budget_seconds = None

    def propose(self, state: StudyState, seconds_spent: float, hand: Hand = ALONE) -> Proposal:
        step: Step | None = wanted_from_recordings(state, state.planned)
        if step is None:
            step = measure_step(state, state.planned, hand)
        if step is None and state.reference is not None:
            grown = [name for name in state.grown() if name not in hand.others.appearances]
            step = _measure(state, grown[0]) if grown else None

        return Proposal(
            step,
            "it has pictures that were not measured"
            if step is not None
            else "all pictures that are there are measured",
        )


_CONTROL = -1


@lru_cache(256)
def block_order(count: int, block: int) -> tuple[int, ...]:
    """One block's runs as places among the planned trials, shuffled, -1 for a control; the first
    starts with the base."""
    shuffled = [int(place) for place in np.random.default_rng([block, count]).permutation(count)]
    if block == 0:
        shuffled.remove(0)
        shuffled.insert(0, 0)

    return _with_controls(shuffled)


def _by_time(state: StudyState, trials: Sequence[PlannedTrial]) -> tuple[int, ...]:
    """One block's runs by the time that their settings let expect, the shortest first, after the
    base; -1 for a control."""
    ratios = [sampling_ratio(trial.configuration, state.plan.base) for trial in trials]
    return _with_controls(
        sorted(range(len(trials)), key=lambda k: (trials[k].id != state.base.id, ratios[k]))
    )


def _longest_first(state: StudyState, trials: Sequence[PlannedTrial]) -> tuple[int, ...]:
    """The last block of a study that many machines share: what takes longest comes first, so that
    they end together."""
    key = ("longest first", tuple(trial.id for trial in trials[:1]), len(trials))
    if key not in state.memo:
        state.memo[key] = tuple(
            number for number in reversed(_by_time(state, trials)) if number != _CONTROL
        )

    order: tuple[int, ...] = state.memo[key]
    return order


def _with_controls(runs: Iterable[int]) -> tuple[int, ...]:
    order: list[int] = []
    for place, number in enumerate(runs):
        if place % RUNS_BETWEEN_CONTROLS == RUNS_BETWEEN_CONTROLS // 2:
            order.append(_CONTROL)
        order.append(number)

    return tuple(order)


def _sought_order(first: int, count: int, block: int) -> list[int]:
    """The runs of a block that only a search asks for. A search adds trials at the end, so what
    stands before never moves: first runs come in the order in which they were chosen, later ones
    shuffled, after a control where there are several."""
    if block == 0:
        order: list[int] = []
        for place in range(count):
            if place % CHOSEN_BETWEEN_CONTROLS == CHOSEN_BETWEEN_CONTROLS - 1:
                order.append(_CONTROL)
            order.append(first + place)

        return order

    shuffled = [
        first + int(place) for place in np.random.default_rng([block, count]).permutation(count)
    ]
    return [*([_CONTROL] if block > 1 and count else []), *shuffled]


def run_step(state: StudyState, place: Place, waiting: Waiting, host: str = "") -> RunStep:
    trial = waiting.trial
    expected = None if waiting.control or host else expected_of(state, place, trial)
    if expected is not None:
        seed = seed_of_chunk(expected.chunk)
        step = step_of_run(state, place, trial, waiting.block, False, seed, state.plan.frame)
        return replace(step, expected=expected)

    made = len(state.at(place).trials.get(trial.id, ()))
    own = (host,) if host and waiting.control else ()  # two controls may be in hand at once
    seed = run_seed(state, place, trial, waiting.block, waiting.control, made, *own)

    return step_of_run(
        state, place, trial, waiting.block, waiting.control > 0, seed, state.plan.frame, host
    )


def expected_of(state: StudyState, place: Place, trial: PlannedTrial) -> Expected | None:
    """The derived picture that the next run of a trial has to have, where there is one that no run
    of its appearance had yet."""
    derived = state.derived_of(trial.appearance)
    if derived is None or derived.machine != state.machine:
        return None

    records = state.at(place)
    there = records.pictures.get(trial.appearance, ())
    for chunk, pixels in derived.pixels.items():
        name = picture_identity(place, trial.appearance, seed_of_chunk(chunk)).name
        if f"{name}.exr" not in there:
            return Expected(derived.reference, chunk, pixels)

    return None


def run_seed(state: StudyState, place: Place, trial: PlannedTrial, *which: object) -> int:
    """A seed of its own for every run; always the same where the renderer takes none."""
    if not state.plan.catalogue.capabilities.seeds:
        return 0
    return seed_of(place.renderer, place.scene, trial.id, state.machine, *which)


def step_of_run(
    state: StudyState,
    place: Place,
    trial: PlannedTrial,
    block: int,
    control: bool,
    seed: int,
    frame: int,
    host: str = "",
) -> RunStep:
    """A run with the records behind its names, as far as the state knows them."""
    names = {"scene": place.scene, "renderer": place.renderer, "machine": state.machine}
    known = {kind: state.names[name].record for kind, name in names.items() if name in state.names}
    label = state.names[place.scene].label if place.scene in state.names else ""

    return RunStep(
        trial=trial,
        place=place,
        block=block,
        control=control,
        seed=seed,
        spec=spec_of(state.plan, trial.configuration, seed, frame),
        machine=state.machine,
        software=state.surroundings.software,
        records=known,
        label=label,
        host=host,
    )


def wanted_from_recordings(state: StudyState, trials: Sequence[PlannedTrial]) -> DeriveStep | None:
    """Figures that trials with pictures lack, as far as recordings that are there tell them."""
    place = state.here
    if place is None or not state.wanting or why_nothing_is_recorded(state):
        return None

    lacking = (trial for trial in trials if trial.appearance in state.wanting)
    steps = (derive_step(state, place, trial.configuration) for trial in lacking)
    return next((step for step in steps if step is not None), None)


def measure_step(
    state: StudyState, trials: Sequence[PlannedTrial], hand: Hand = ALONE
) -> MeasureStep | None:
    """Pictures of these trials that lack figures."""
    if not state.wanting or state.reference is None:
        return None

    wanting = state.wanting
    in_hand = hand.others.appearances
    if in_hand and in_hand.issuperset(wanting):
        return None

    names = (trial.appearance for trial in trials if trial.appearance in wanting)
    name = next(
        (name for name in names if name not in in_hand and state.independent_pictures(name)), None
    )
    return _measure(state, name) if name is not None else None


def _measure(state: StudyState, appearance: str) -> MeasureStep:
    place = state.place
    assert place is not None
    configuration = next(
        trial.configuration for trial in state.planned if trial.appearance == appearance
    )
    keys = tuple(state.measurement_key(appearance, area) for area in state.areas_measured)
    samples = state.reference.samples if state.reference is not None else 0
    pictures = state.independent_pictures(appearance)

    return MeasureStep(
        place=place,
        configuration=configuration,
        keys=keys,
        pictures=pictures,
        reference_samples=samples,
        size=state.plan.size,
        digests=digests_of(state, place, pictures),
    )


def digests_of(state: StudyState, place: Place, pictures: Iterable[str]) -> dict[str, str]:
    """Of the files of these pictures and of the reference, by their names, as far as they were
    kept."""
    kept = state.at(place).digests
    digests = {name: kept[name] for name in pictures if name in kept}
    if state.reference is not None:
        digests[state.reference_name] = state.reference.digest

    return digests


def samples_doubted(state: StudyState) -> int:
    """Samples that the reference should have before it may judge the fastest trial of which only
    that is open; 0 where there is none."""
    results = results_of(state)
    pick = results.pick()
    limit = (
        pick.trial.seconds.value
        if pick is not None and pick.trial.seconds is not None
        else math.inf
    )

    hopeful = [
        trial
        for trial in results.trials
        if trial.doubted
        and trial.verdict == UNDECIDED
        and trial.is_whole
        and time_of(trial) < limit
    ]
    if not hopeful:
        return 0

    fastest = min(hopeful, key=time_of)
    return math.ceil(CLEANER_TIMES * samples_of(fastest.configuration, fastest.runs))


def _why_run(state: StudyState, waiting: Waiting, counts: Mapping[str, tuple[int, str]]) -> str:
    records = state.results
    machine = state.machine
    trial = waiting.trial

    if waiting.control:
        return (
            f"control {waiting.control} of block {waiting.block + 1}: repeats of the base show "
            "drift"
        )

    count, why = counts.get(trial.id, (state.plan.repeats, ""))
    run = f"run {len(records.blocks_done(trial.id, machine)) + 1} of {count}"
    failed = len(records.failures(trial.id, machine))

    return run + (f": {why}" if why else "") + (", tried again after a failure" if failed else "")


def predicted_seconds(
    study: Study, trial: PlannedTrial, measured: Mapping[str, float]
) -> float | None:
    """How long a run will take: its trial's median, else the base's scaled by what its settings
    say; None if unknown.

    A prediction only: it sets the width of blocks that are still to come, and the time left.
    `measured` is by trial.
    """
    if trial.id in measured:
        return measured[trial.id]

    base = measured.get(trial_identity(study.base).name)
    if base is None:
        return None

    fixed = 0.2
    return base * (fixed + (1 - fixed) * sampling_ratio(trial.configuration, study.base))

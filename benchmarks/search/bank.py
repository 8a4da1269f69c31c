"""Renders of scenes that are kept, and studies that are measured with them instead of with a
renderer.

A pool holds some renders of every configuration that was asked for, each with its own seed, time
and record. A replay lets the application's own policies (`core.study.policies`) propose steps, and
answers them from a pool: a run is one of the renders that this replay has not drawn yet, and
pictures are measured as the worker does. So everything that a study does is tried with the
renderer's own noise, run by run, in seconds. What there is: `bank_builtin`, `bank_outside`.
"""

import math
import statistics
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np

from swift_sample.core.measure.compare import measure
from swift_sample.core.measure.comparison import Comparison, Halves
from swift_sample.core.measure.figures import Grain
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.study.answers.acceptance import Acceptance
from swift_sample.core.study.answers.results import Results, results_of
from swift_sample.core.study.log.events import (
    Event,
    Happened,
    RunFinished,
    SearchConcluded,
    Surroundings,
    TrialChosen,
)
from swift_sample.core.study.log.identity import CHUNK_SAMPLES, appearance_identity
from swift_sample.core.study.log.state import StudyState, apply
from swift_sample.core.study.measuring.policies.proposal import Policy
from swift_sample.core.study.measuring.policies.sweep import Sweeping
from swift_sample.core.study.measuring.steps import ReferenceStep, RunStep, Step
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.search.search import candidates
from swift_sample.core.worker.merging import merge_reference
from swift_sample.core.worker.messages import Measured, Outcome, ReferenceExtended, Rendered

KEPT = Path("build/bank")
REFERENCE_CHUNKS = 24
TRUE_REFERENCE_SAMPLES = 1000
TRUE_REFERENCE_PARTS = 4


@dataclass(frozen=True)
class Shot:
    """One render: its light, the halves of the raw picture where there are some and nothing was
    denoised, and its record."""

    beauty: np.ndarray
    halves: Halves | None
    record: RunRecord


class Pool(ABC):
    """Renders of one scene's configurations, made when they are first asked for and kept in a
    folder."""

    def __init__(self, name: str, study: Study) -> None:
        self.name = name
        self.study = study
        self.folder = KEPT / name
        self.folder.mkdir(parents=True, exist_ok=True)
        self._measured: dict[tuple[object, ...], dict[str, Figure | None]] = {}
        self._seconds: dict[Configuration, float] = {}

    @abstractmethod
    def seeds(self, configuration: Configuration) -> int:
        """How many renders there are of a configuration."""

    @abstractmethod
    def shot(self, configuration: Configuration, number: int) -> Shot:
        """Render `number` of a configuration, with the time that it took then."""

    @abstractmethod
    def make(self, tell: Callable[[str], None]) -> None:
        """Render what is missing of all that a search is likely to ask for."""

    @abstractmethod
    def reference_part(self, name: str, samples: int, seed: int) -> tuple[Picture, float]:
        """A part of a reference, kept by its name, and its seconds."""

    def reference_chunk(self, number: int) -> tuple[Picture, float]:
        """One chunk of a study's reference, and its seconds."""
        return self.reference_part(f"chunk {number}", CHUNK_SAMPLES, 80_000_000 + number)

    @cached_property
    def true_reference(self) -> Picture:
        """Far cleaner than a study's."""
        whole: Picture | None = None
        for k in range(TRUE_REFERENCE_PARTS):
            part, _ = self.reference_part(f"true {k}", TRUE_REFERENCE_SAMPLES, 90_000_000 + k)
            whole = merge_reference(whole, k * TRUE_REFERENCE_SAMPLES, part, TRUE_REFERENCE_SAMPLES)

        assert whole is not None
        return whole

    def figures(
        self,
        configuration: Configuration,
        numbers: Sequence[int],
        reference: Picture,
        which: object,
    ) -> dict[str, Figure | None]:
        """Measured of some renders beside a reference; `which` names that."""
        key = (appearance_identity(configuration, self.study.view).name, tuple(numbers), which)
        if key not in self._measured:
            shots = [self.shot(configuration, k) for k in numbers]
            halves = shots[0].halves if len(shots) == 1 else None
            pair = Comparison(
                [s.beauty for s in shots],
                reference.beauty,
                self.study.view,
                halves,
                reference.halves,
            )
            self._measured[key] = measure(pair)[""]

        return self._measured[key]

    def truth(self, configuration: Configuration) -> dict[str, Figure | None]:
        """Figures of all renders beside a reference that no study has."""
        return self.figures(
            configuration, range(self.seeds(configuration)), self.true_reference, "true"
        )

    def seconds(self, configuration: Configuration) -> float:
        """The median of all renders' times, each with its part of opening the scene."""
        if configuration not in self._seconds:
            shots = (self.shot(configuration, k) for k in range(self.seeds(configuration)))
            times = [
                s.record.seconds["total"] + s.record.ready_seconds / self.study.renders_per_opening
                for s in shots
            ]
            self._seconds[configuration] = statistics.median(times)

        return self._seconds[configuration]

    def forget(self) -> None:
        """There are more renders now."""
        self._measured.clear()
        self._seconds.clear()

    def share(self, configuration: Configuration) -> Figure:
        """The limit share by all renders, with the upper end of the worst limit."""
        acceptance = Acceptance.of(self.study, self.truth(self.study.base))
        shares = acceptance.shares(self.truth(configuration)).values()
        return Figure(
            *(max(getattr(share, end) for share in shares) for end in ("value", "low", "high"))
        )


def combinations(study: Study) -> list[Configuration]:
    """Every combination of a study's values that renders another picture or takes another time."""
    return candidates(study.base, study.space(), [], np.random.default_rng(0))


class Replay:
    """One study that is measured from a pool. `spent` are seconds of its runs, `reference_spent` of
    its reference."""

    def __init__(self, pool: Pool, study: Study, seed: int) -> None:
        self._pool = pool
        self.rng = np.random.default_rng(seed)
        here = Surroundings(SceneContent("0" * 16), "", "renderer", "machine", "software")
        self.state: StudyState = apply(StudyState(plan=study), Happened(0, "", here))
        self._orders: dict[str, list[int]] = {}
        self._drawn: dict[str, tuple[Configuration, int]] = {}
        self._chunks_used = 0
        self._chunks = [int(k) for k in self.rng.permutation(REFERENCE_CHUNKS)]
        self._reference: Picture | None = None
        self._records: dict[int, RunRecord] = {}
        self.spent = self.reference_spent = 0.0

    @property
    def results(self) -> Results:
        return results_of(self.state)

    def record(self, number: int) -> RunRecord | None:
        """The whole record of a run, by its number in the log."""
        return self._records.get(number)

    def happen(self, event: Event) -> None:
        number = self.state.version + 1
        if isinstance(event, RunFinished):
            assert event.record is not None
            self._records[number] = event.record
            kept: Event = replace(event, run=replace(event.run, number=number))
            event = kept

        self.state = apply(self.state, Happened(number, "", event))

    def follow(self, policy: Policy, until: float = math.inf) -> str:
        """Do what a policy proposes until it ends, or so many seconds of runs are spent. Returns
        why it ended."""
        while self.spent < until:
            proposal = policy.propose(self.state, self.spent)
            for event in proposal.events:
                self.happen(event)

            if proposal.step is not None:
                for event in proposal.step.absorb(self._outcome(proposal.step)):
                    self.happen(event)
            elif not proposal.again:
                return proposal.why

        return "the seconds are spent"

    def choose(self, configuration: Configuration) -> None:
        """Measure a trial as a search does while it explores."""
        assert self.state.here is not None
        self.happen(TrialChosen(self.state.here, configuration.identity_values(), "tried out"))
        self.follow(EXPLORING)

    def settle(self) -> None:
        """Give every trial that may be the pick all its runs."""
        assert self.state.here is not None
        self.happen(SearchConcluded(self.state.here, "settled"))
        self.follow(SETTLING)

    def _outcome(self, step: Step) -> Outcome:
        if isinstance(step, RunStep):
            shot = self._pool.shot(step.configuration, self._draw(step))
            self.spent += shot.record.seconds["total"]
            return Rendered(result=shot.record, digest="")

        if isinstance(step, ReferenceStep):
            return self._extended(step)

        assert self._reference is not None
        names = [self._drawn[name] for name in step.pictures]
        configuration = names[0][0]
        seconds = 0.0

        if step.key.recipe:
            configuration = configuration.replace(
                {key: step.configuration[key] for key in ("denoise.method", "denoise.strength")}
            )
            seconds = statistics.median(
                self._pool.shot(configuration, k).record.seconds["denoise"] for _, k in names
            )
            self.spent += seconds * len(names)

        figures = self._pool.figures(
            configuration,
            [k for _, k in names],
            self._reference,
            tuple(self._chunks[: self._chunks_used]),
        )
        return Measured(
            areas={"": {key: f.numbers if f else None for key, f in figures.items()}},
            seconds=seconds,
        )

    def _draw(self, step: RunStep) -> int:
        """Which of a configuration's renders a run is; each once, as long as there are others."""
        order = self._orders.setdefault(step.trial.appearance, [])
        if not order:
            order += [int(k) for k in self.rng.permutation(self._pool.seeds(step.configuration))]

        number = order.pop()
        self._drawn[step.picture] = (step.configuration, number)
        return number

    def _extended(self, step: ReferenceStep) -> ReferenceExtended:
        added = int(
            step.spec.configuration(self._pool.study.catalogue).number_in_role(SAMPLES) or 1
        )
        chunk, seconds = self._pool.reference_chunk(self._chunks[step.chunk % REFERENCE_CHUNKS])
        seconds *= added / CHUNK_SAMPLES
        self._reference = merged = merge_reference(self._reference, step.samples, chunk, added)
        self._chunks_used = step.chunk + 1
        self.reference_spent += seconds
        grain = Grain().look(
            Comparison([merged.beauty], merged.beauty, self._pool.study.view, merged.halves)
        )
        floor = float(grain.maps["variance"].mean()) ** 0.5 if grain is not None else None

        return ReferenceExtended(
            samples=step.samples + added, floor=floor, seconds=seconds, digest=""
        )


EXPLORING = Sweeping(sought=True, exploring=True)
SETTLING = Sweeping(sought=True)

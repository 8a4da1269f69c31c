"""What a plan is likely to cost, from one render of its base: a pilot."""

import math
from dataclasses import dataclass, replace
from functools import cached_property

from swift_sample.core.renderers.costs import parts_of
from swift_sample.core.renderers.port import Case, Finding, Renderer
from swift_sample.core.renderers.records import PHASES, RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.study.answers.costs import measuring_seconds
from swift_sample.core.study.answers.findings import spared_for_nothing
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.events import Run, RunResult
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.measuring.policies.reference import REFERENCE_SHARE
from swift_sample.core.study.measuring.policies.runs_wanted import LONG_SECONDS, RUNS_OF_LONG
from swift_sample.core.study.measuring.policies.sweep import RUNS_BETWEEN_CONTROLS
from swift_sample.core.study.measuring.snapshot import USUAL_COST
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.search.expectation import SECONDS, Expectation

PILOT_SAMPLES = 16
PILOT_PIXELS = 640 * 360
WITH_PIXELS = ("sampling", "denoise", "write")
"""Phases that take as long as there are pixels."""
RUNS_FOR_BASE_TIME = 2.5
"""Runs that a search makes in the time of one of the base: the guide's own scene took 68 in the
time of 27."""
UNSURE = 0.25
"""Either way, of a prediction from a single render (`python -m benchmarks window`)."""
LEAST_REFERENCE_SHARE = 0.5
"""Of the longest that the reference may take."""


@dataclass(frozen=True)
class Cost:
    """What measuring is likely to take: seconds between two ends, the reference among them, and
    bytes on disk."""

    trials: int
    runs: int
    low: float
    high: float
    disk_bytes: int


def pilot_of(base: Configuration) -> Configuration:
    """The base with as many samples as tell what a sample takes, at most."""
    counted = base.catalogue.with_role(SAMPLES)
    if counted is None or base.number_in_role(SAMPLES) is None:
        return base

    return base.replace({counted.key: min(int(base[counted.key]), PILOT_SAMPLES)})


def pilot_size(size: tuple[int, int]) -> tuple[int, int]:
    """The size itself, or a smaller one of the same shape that is large enough to tell what a pixel
    takes."""
    factor = min(1.0, (PILOT_PIXELS / (size[0] * size[1])) ** 0.5)
    return max(1, round(size[0] * factor)), max(1, round(size[1] * factor))


@dataclass(frozen=True)
class Pilot:
    """A render of the base, or with fewer samples (`pilot_of`) and pixels (`pilot_size`) than that,
    that was made before anything was measured."""

    study: Study
    record: RunRecord

    def seconds(self, configuration: Configuration) -> float:
        """What one render with a configuration is expected to take."""
        return math.exp(self._expectation.of(configuration)[SECONDS])

    @cached_property
    def _expectation(self) -> Expectation:
        result = self._result()
        run = Run(
            number=1,
            finished_at="",
            place=Place("", ""),
            trial="pilot",
            appearance="",
            machine="",
            seed=0,
            block=0,
            control=False,
            picture="",
            result=result,
        )

        base = TrialResult(
            id="pilot",
            configuration=pilot_of(self.study.base),
            is_base=True,
            runs=(run,),
            seconds=None,
            times_faster=None,
            figures={},
            shares={},
            share=None,
            verdict="",
            failure=None,
            opening_seconds=self.record.ready_seconds,
        )
        return Expectation(
            base=base,
            run=self.record,
            goal=self.study.goal,
            denoised={},
            renders_per_opening=self.study.renders_per_opening,
        )

    def dear(self, renderer: Renderer) -> list[Finding]:
        """What takes much of the pilot's time and a setting would spare without changing a
        pixel."""
        seconds = self._result().seconds
        phases = parts_of({phase: seconds[phase] for phase in PHASES if phase in seconds})
        renders = self.study.renders_per_opening
        case = Case(
            settings=pilot_of(self.study.base),
            record=self.record,
            phases=phases,
            figures={},
            limits={},
            renders_per_opening=renders,
        )
        found = [finding for kind in renderer.findings if (finding := kind.look(case)) is not None]
        catalogue = self.study.catalogue

        return [
            finding
            for finding in spared_for_nothing(found)
            if not any(catalogue[key].changes_pixels for key in finding.changes)
        ]

    def _result(self) -> RunResult:
        """The pilot as it would have been with all pixels: what goes with them, grown as they
        do."""
        told = RunResult.of(self.record)
        own = self.study.size
        grown = own[0] * own[1] / (self.record.size[0] * self.record.size[1])
        seconds = {
            name: spent * grown if name in WITH_PIXELS else spent
            for name, spent in told.seconds.items()
        }

        if any(name in seconds for name in WITH_PIXELS):
            seconds["total"] = sum(spent for name, spent in seconds.items() if name in PHASES)

        return replace(told, seconds=seconds, picture_bytes=round(told.picture_bytes * grown))

    def of_everything(self) -> Cost:
        """Of measuring every trial of the plan."""
        planned = self.study.planned()
        times = [self.seconds(one) for one in planned]
        counts = [
            min(self.study.repeats, RUNS_OF_LONG) if s > LONG_SECONDS else self.study.repeats
            for s in times
        ]
        controls = sum(counts) / RUNS_BETWEEN_CONTROLS
        rendering = sum(n * s for n, s in zip(counts, times, strict=True)) + controls * times[0]

        return self._cost(len(planned), round(sum(counts) + controls), rendering, rendering)

    def of_search(self) -> Cost:
        """Of finding the fastest among all combinations."""
        once, (fewest, most) = self.seconds(self.study.base), USUAL_COST
        runs = round(RUNS_FOR_BASE_TIME * (fewest + most) / 2)
        return self._cost(self.study.combinations(), runs, fewest * once, most * once)

    def _cost(self, trials: int, runs: int, low: float, high: float) -> Cost:
        measuring = runs * measuring_seconds(self.study.size)
        return Cost(
            trials,
            runs,
            (1 - UNSURE) * low * (1 + LEAST_REFERENCE_SHARE * REFERENCE_SHARE) + measuring,
            (1 + UNSURE) * high * (1 + REFERENCE_SHARE) + measuring,
            runs * self._result().picture_bytes,
        )

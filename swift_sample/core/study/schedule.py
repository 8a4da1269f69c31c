"""What to do next: decisions of the runner, without clock, process or disk.

Runs are shuffled within blocks; a block measures every planned trial once and holds controls, which are repeats of
the base. The reference is begun first, then extended between runs until its own grain is small enough.
"""

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from swift_sample.core.settings import Configuration
from swift_sample.core.study.model import Limits, Study

RUNS_BETWEEN_CONTROLS = 8
CHOSEN_BETWEEN_CONTROLS = 6
"""Of first runs of a search's trials, which come one by one."""
RUNS_BETWEEN_EXTENSIONS = 3
FLOOR_SHARE = 0.25
"""The reference is good enough once its own grain is this share of the grain limit."""
MAX_REFERENCE_CHUNKS = 64
MAX_FAILURES = 2
"""A trial that failed this often in a row is not tried again until it is asked for."""


@dataclass(frozen=True)
class RunStep:
    """Render a configuration once."""

    configuration: Configuration
    block: int
    control: bool
    seed: int


@dataclass(frozen=True)
class ReferenceStep:
    """Render one more chunk of the reference."""

    chunk: int


@dataclass(frozen=True)
class MeasureStep:
    """Measure a trial's pictures against the reference."""

    configuration: Configuration


@dataclass(frozen=True)
class SmoothStep:
    """Denoise the base's pictures as a configuration does, to learn what to expect of it."""

    configuration: Configuration


@dataclass(frozen=True)
class FrameGrainStep:
    """Measure the grain of a frame's pictures, which needs no reference."""

    configuration: Configuration


Step = RunStep | ReferenceStep | MeasureStep | SmoothStep | FrameGrainStep


def step_words(step: Step, base: Configuration) -> str:
    """What is being done in a step, for a person."""
    if isinstance(step, ReferenceStep):
        return "rendering the reference" if step.chunk == 0 else "making the reference cleaner"
    what = "the base" if step.configuration == base else step.configuration.describe(base)
    if isinstance(step, SmoothStep):
        return f"denoising the base's pictures: {step.configuration.describe(base)}"
    if isinstance(step, FrameGrainStep):
        return f"measuring the grain of {what}"
    if isinstance(step, MeasureStep):
        return f"comparing {what} with the reference"
    return "rendering the base again, as a control" if step.control else f"rendering {what}"


@dataclass(frozen=True)
class Decision:
    """What is done next, and why, in words for the study's log."""

    step: Step
    why: str


@dataclass(frozen=True)
class Wanted:
    """How many runs a trial shall have where that is not the study's number, and why."""

    count: int
    why: str


@dataclass(frozen=True)
class Done:
    """What has been finished so far, by configuration where that matters."""

    runs: Mapping[Configuration, Sequence[int]]
    """blocks of the finished runs, controls left out"""
    controls: Mapping[int, int]
    """controls finished in each block"""
    failures: Mapping[Configuration, int]
    """failures since the last run that worked"""
    unmeasured: Sequence[Configuration]
    """trials with pictures that were never measured, or got more runs since"""
    outdated: Sequence[Configuration]
    """trials measured against a shorter reference"""
    reference_chunks: int
    reference_floor: float | None
    runs_since_extension: int
    wanted: Mapping[Configuration, Wanted] = field(default_factory=dict)
    """for trials that take long, have odd runs, or an open verdict"""

    def runs_of(self, configuration: Configuration, study: Study) -> int:
        """How many runs a trial shall have."""
        wanted = self.wanted.get(configuration)
        return study.repeats if wanted is None else wanted.count


def block_order(study: Study, block: int) -> list[tuple[Configuration, bool]]:
    """The runs of one block as (configuration, whether it is a control), shuffled; the first block starts with the base."""
    planned = replace(study, chosen=()).planned()
    rng = np.random.default_rng([block, len(planned)])
    shuffled = [planned[i] for i in rng.permutation(len(planned))]
    if block == 0:
        shuffled.remove(study.base)
        shuffled.insert(0, study.base)
    order: list[tuple[Configuration, bool]] = []
    for place, configuration in enumerate(shuffled):
        if place % RUNS_BETWEEN_CONTROLS == RUNS_BETWEEN_CONTROLS // 2:
            order.append((study.base, True))
        order.append((configuration, False))
    return order


def _chosen_order(study: Study, block: int) -> list[tuple[Configuration, bool]]:
    """The runs of a block that only a search asks for. A search adds trials at the end, so what stands before never moves:
    first runs come in the order in which they were chosen, later ones shuffled, after a control where there are several."""
    sought = study.only_chosen()
    chosen = [configuration for configuration in study.chosen if configuration in sought]
    if block == 0:
        order: list[tuple[Configuration, bool]] = []
        for place, configuration in enumerate(chosen):
            if place % CHOSEN_BETWEEN_CONTROLS == CHOSEN_BETWEEN_CONTROLS - 1:
                order.append((study.base, True))
            order.append((configuration, False))
        return order
    shuffled = [chosen[i] for i in np.random.default_rng([block, len(chosen)]).permutation(len(chosen))]
    return [*([(study.base, True)] if block > 1 and chosen else []), *((configuration, False) for configuration in shuffled)]


def _extra_order(study: Study, asked: Sequence[Configuration]) -> list[tuple[Configuration, bool]]:
    """Runs beyond the planned ones, after a control."""
    return [(study.base, True), *((configuration, False) for configuration in asked)] if asked else []


def seed_of(configuration: Configuration, block: int, control: int) -> int:
    """A seed of its own for every run, so that pictures of different runs are independent."""
    text = f"{configuration.digest}/{block}/{control}"
    return int.from_bytes(hashlib.sha256(text.encode()).digest()[:4], "big") >> 1


def remaining_runs(study: Study, done: Done) -> list[RunStep]:
    """All runs that are still to be made, in order."""
    left: list[RunStep] = []
    extra = max((wanted.count - study.repeats for wanted in done.wanted.values()), default=0)
    for block in range(study.repeats + max(0, extra)):
        finished_controls, controls_seen = done.controls.get(block, 0), 0
        asked = [c for c in study.planned() if done.runs_of(c, study) > block]
        order = [*block_order(study, block), *_chosen_order(study, block)] if block < study.repeats \
            else _extra_order(study, asked)
        for configuration, control in order:
            if configuration not in asked:
                continue
            if control:
                controls_seen += 1
                if controls_seen > finished_controls:
                    left.append(RunStep(configuration, block, True, seed_of(configuration, block, controls_seen)))
            elif block not in done.runs.get(configuration, ()) and done.failures.get(configuration, 0) < MAX_FAILURES:
                left.append(RunStep(configuration, block, False, seed_of(configuration, block, 0)))
    # Controls behind the last real run of all would measure nothing.
    while left and left[-1].control:
        left.pop()
    return left


def wanted_floor(study: Study) -> float:
    """The grain, in levels, under which the reference is good enough."""
    return FLOOR_SHARE * (study.limits.grain if study.limits.grain is not None else Limits().grain or 2.0)


def reference_is_good(study: Study, done: Done) -> bool:
    """Whether the reference's own grain is small enough for the grain limit, or cannot sensibly be lowered."""
    if done.reference_floor is None:
        return False
    return done.reference_floor <= wanted_floor(study) or done.reference_chunks >= MAX_REFERENCE_CHUNKS


def decide(study: Study, done: Done) -> Decision | None:
    """The next thing to do; None when the study is measured."""
    if done.reference_floor is None:
        return Decision(ReferenceStep(0), "errors are measured against it, and there is none yet")
    if done.unmeasured:
        return Decision(MeasureStep(done.unmeasured[0]), "it has pictures that were not measured")
    left, good = remaining_runs(study, done), reference_is_good(study, done)
    if not good and (done.runs_since_extension >= RUNS_BETWEEN_EXTENSIONS or not left):
        return Decision(ReferenceStep(done.reference_chunks), f"its own grain is {done.reference_floor:.2f} levels, "
                        f"{wanted_floor(study):.2f} are wanted for the grain limit")
    if left:
        return Decision(left[0], _why_run(study, done, left[0]))
    return Decision(MeasureStep(done.outdated[0]), "the reference grew since") if done.outdated else None


def _why_run(study: Study, done: Done, step: RunStep) -> str:
    if step.control:
        return f"control {done.controls.get(step.block, 0) + 1} of block {step.block + 1}: repeats of the base show drift"
    wanted = done.wanted.get(step.configuration)
    count = done.runs_of(step.configuration, study)
    run = f"run {len(done.runs.get(step.configuration, ())) + 1} of {count}"
    failed = done.failures.get(step.configuration, 0)
    return run + (f": {wanted.why}" if wanted is not None else "") + (", tried again after a failure" if failed else "")


def predicted_seconds(study: Study, step: RunStep, measured: Mapping[Configuration, float]) -> float | None:
    """How long a run will take: its trial's median, else the base's scaled by pixels and samples; None if unknown.

    A prediction only: it sets the width of blocks that are still to come, and the time left.
    """
    if step.configuration in measured:
        return measured[step.configuration]
    base = measured.get(study.base)
    if base is None:
        return None
    share = 1.0
    for key in ("samples.max", "output.scale"):
        share *= (float(step.configuration[key]) / float(study.base[key])) ** (2 if key == "output.scale" else 1)
    fixed = 0.2
    return base * (fixed + (1 - fixed) * share)

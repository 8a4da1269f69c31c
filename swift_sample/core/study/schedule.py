"""What to do next: decisions of the runner, without clock, process or disk.

Runs are shuffled within blocks; a block measures every planned trial once and holds controls, which are repeats of
the base. The reference is begun first, then extended between runs until its own grain is small enough.
"""

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from swift_sample.core.settings import Configuration
from swift_sample.core.study.model import Study

RUNS_BETWEEN_CONTROLS = 8
RUNS_BETWEEN_EXTENSIONS = 3
FLOOR_SHARE = 0.25
"""The reference is good enough once its own grain is this share of the grain limit."""
MAX_REFERENCE_CHUNKS = 64
MAX_FAILURES = 2
"""A trial that failed this often is not tried again until it is asked for."""


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


Step = RunStep | ReferenceStep | MeasureStep


@dataclass(frozen=True)
class Done:
    """What has been finished so far, by configuration where that matters."""

    runs: Mapping[Configuration, Sequence[int]]
    """blocks of the finished runs, controls left out"""
    controls: Mapping[int, int]
    """controls finished in each block"""
    failures: Mapping[Configuration, int]
    unmeasured: Sequence[Configuration]
    """trials with pictures that were never measured, or got more runs since"""
    outdated: Sequence[Configuration]
    """trials measured against a shorter reference"""
    reference_chunks: int
    reference_floor: float | None
    runs_since_extension: int
    wanted: Mapping[Configuration, int] = field(default_factory=dict)
    """runs that a trial shall have, where that is not the study's number: fewer for long ones, more where runs were left
    out or the verdict is open"""


def block_order(study: Study, block: int) -> list[tuple[Configuration, bool]]:
    """The runs of one block as (configuration, whether it is a control), shuffled; the first block starts with the base."""
    planned = study.planned()
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
    extra = max((count - study.repeats for count in done.wanted.values()), default=0)
    for block in range(study.repeats + max(0, extra)):
        finished_controls, controls_seen = done.controls.get(block, 0), 0
        asked = [c for c in study.planned() if done.wanted.get(c, study.repeats) > block]
        order = block_order(study, block) if block < study.repeats else _extra_order(study, asked)
        for configuration, control in order:
            if configuration not in asked and not control:
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


def reference_is_good(study: Study, done: Done) -> bool:
    """Whether the reference's own grain is small enough for the grain limit, or cannot sensibly be lowered."""
    if done.reference_floor is None:
        return False
    limit = study.limits.grain if study.limits.grain is not None else 2.0
    return done.reference_floor <= FLOOR_SHARE * limit or done.reference_chunks >= MAX_REFERENCE_CHUNKS


def next_step(study: Study, done: Done) -> Step | None:
    """The next thing to do; None when the study is measured."""
    if done.reference_floor is None:
        return ReferenceStep(0)
    if done.unmeasured:
        return MeasureStep(done.unmeasured[0])
    left, good = remaining_runs(study, done), reference_is_good(study, done)
    if not good and (done.runs_since_extension >= RUNS_BETWEEN_EXTENSIONS or not left):
        return ReferenceStep(done.reference_chunks)
    if left:
        return left[0]
    return MeasureStep(done.outdated[0]) if done.outdated else None


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



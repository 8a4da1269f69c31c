"""What is known of one trial."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from swift_sample.core.budget import MEBIBYTE
from swift_sample.core.measure.drift import DriftCorrection
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import common_spread, median_seconds
from swift_sample.core.renderers.records import PHASES
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import Standing
from swift_sample.core.study.log.events import Run
from swift_sample.core.study.plan.model import NO_REMARK, Remark

PROCESSOR_SECONDS = "processor"
"""Among the phases: the time of all threads together."""
LEAST_BRIGHTNESS_TOLD = 0.1
"""Levels by which a picture must be brighter or darker as a whole to be worth saying."""
NOWHERE_NEAR = Standing(None, 0.0, False, False, False)


@dataclass(frozen=True, kw_only=True)
class TrialResult:
    """One trial as far as it is measured. `share` is the limit share: the worst over all limits,
    1.0 is the line."""

    id: str
    configuration: Configuration
    is_base: bool
    runs: tuple[Run, ...]
    """that worked, on this machine, in this place"""
    seconds: Figure | None
    times_faster: Figure | None
    figures: Mapping[str, Figure | None]
    shares: Mapping[str, Figure]
    share: Figure | None
    verdict: str
    failure: str | None
    times: tuple[float, ...] = ()
    """seconds of the goal that count: corrected for drift, without the runs that are left out"""
    left_out: frozenset[int] = frozenset()
    """numbers of runs that are left out, since they were odd"""
    correction: DriftCorrection = field(default_factory=DriftCorrection, repr=False, compare=False)
    forbidden: str = ""
    """why it must not be the pick, in words; empty where it may"""
    unmeasured: frozenset[str] = frozenset()
    """limits whose figure was not measured as it is wanted now; the trial cannot be accepted before
    it is"""
    derived: bool = False
    """whether its figures are of derived pictures, not of rendered ones"""
    pictures: int = 0
    """how many pictures of its appearance there are, those of trials that render the same pixels
    among them"""
    standing: Standing = NOWHERE_NEAR
    """what the verdict rests on beside the acceptance line"""
    missing: str = ""
    """what is being waited for, in words; empty where everything is measured"""
    opening_seconds: float = 0.0
    """what caches in memory spare every render but the first one after opening"""
    preparing_seconds: float = 0.0
    """what is made once for good, and kept on disk; no render's time has a part of it"""
    opening_share: float = 0.0
    """each render's part of that, which is in `seconds`"""
    remark: Remark = NO_REMARK
    """what a person said of it"""
    failed: tuple[str, ...] = ()
    """why renders of it failed that were not the machine's fault, whatever came after them"""
    doubted: frozenset[str] = frozenset()
    """limits that seem not to be kept, and cannot be told before the reference is cleaner than this
    trial"""

    @cached_property
    def all_figures(self) -> Mapping[str, Figure | None]:
        """Image measures, and what a render costs whether that is limited or not."""
        return (
            {**self.figures, **costs_of(self.runs, self.correction, self.opening_share)}
            if self.figures
            else {}
        )

    @cached_property
    def phases(self) -> Mapping[str, Figure]:
        """Seconds by phase, and of the processor."""
        return _phases(self.runs, self.correction)

    @property
    def is_simulated(self) -> bool:
        """Whether its times are those of a stand-in for a device."""
        return self.configuration.is_simulated

    @property
    def first_render_seconds(self) -> float | None:
        """What the first render takes, after opening or ever, where a cache spares later ones
        something; None where none does."""
        total = self.phases.get("total")
        spared = self.opening_seconds + self.preparing_seconds
        return total.value + spared if spared and total is not None else None

    @property
    def is_on_map(self) -> bool:
        return self.seconds is not None and self.share is not None

    @property
    def is_whole(self) -> bool:
        """Whether everything that has a limit is known of it: else its limit share is that of a
        part."""
        return self.is_on_map and not self.standing.unknown and not self.standing.unmeasured

    def called(self, base: Configuration, most: int = 4) -> str:
        """The name that a person gave it, else what differs from a base."""
        return self.remark.name or (
            "base" if self.is_base else self.configuration.describe(base, most=most)
        )

    def worst_limit(self) -> str:
        """The measure that comes closest to its limit, or is furthest over it."""
        return max(self.shares, key=lambda key: self.shares[key].value)


def time_of(trial: TrialResult) -> float:
    """Seconds of a trial that was timed."""
    assert trial.seconds is not None
    return trial.seconds.value


def _share(trial: TrialResult) -> float:
    assert trial.share is not None
    return trial.share.value


def _time_then_share(trial: TrialResult) -> tuple[float, float]:
    return time_of(trial), _share(trial)


def _phases(runs: Sequence[Run], correction: DriftCorrection) -> dict[str, Figure]:
    """Medians with intervals of every phase, and of the processor's time, in seconds."""
    kept = [run for run in runs if run.number not in correction.left_out and run.result is not None]
    if not kept or kept[0].result is None:
        return {}

    measured = sorted(kept[0].result.seconds, key=lambda phase: (*PHASES, phase).index(phase))
    phases = {phase: _phase(kept, correction, phase) for phase in (*measured, PROCESSOR_SECONDS)}
    return {phase: figure for phase, figure in phases.items() if figure is not None}


def _phase(kept: Sequence[Run], correction: DriftCorrection, phase: str) -> Figure | None:
    """The median of a phase with its interval; of one that can take no time at all, the range."""
    seconds = [
        (run.result.cpu_seconds if phase == PROCESSOR_SECONDS else run.result.seconds[phase])
        / correction.factor(run.number)
        for run in kept
        if run.result is not None and (phase == PROCESSOR_SECONDS or phase in run.result.seconds)
    ]
    told = any(
        run.result is not None and run.result.cpu_seconds for run in kept
    )  # else finished elsewhere, by one time
    if not seconds or (phase == PROCESSOR_SECONDS and not told):
        return None
    if len(seconds) == 1 and not told:
        return Figure(seconds[0], seconds[0], seconds[0])
    if min(seconds) > 0:
        return median_seconds(seconds, common_spread([seconds]))

    return Figure(sorted(seconds)[len(seconds) // 2], min(seconds), max(seconds))


def costs_of(
    runs: Sequence[Run], correction: DriftCorrection, shared: float = 0.0
) -> dict[str, Figure | None]:
    """What a picture costs besides its errors: time, memory, and file size."""
    kept = [run for run in runs if run.result is not None and run.number not in correction.left_out]
    peak = (
        max((run.result.peak_memory_bytes for run in runs if run.result is not None), default=0)
        / MEBIBYTE
    )
    size = (
        max((run.result.picture_bytes for run in runs if run.result is not None), default=0)
        / MEBIBYTE
    )

    return {
        "seconds": _later(_phase(kept, correction, "total"), shared),
        "first_picture": _later(_phase(kept, correction, "first_picture"), shared),
        "memory": Figure(peak, peak, peak) if peak else None,
        "file": Figure(size, size, size) if size else None,
    }


def _later(figure: Figure | None, seconds: float) -> Figure | None:
    return (
        None
        if figure is None
        else Figure(figure.value + seconds, figure.low + seconds, figure.high + seconds)
    )

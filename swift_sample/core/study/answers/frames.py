"""A sequence from a few of its frames: base and pick are rendered at frames spread over it, and the
whole is forecast.

Frames are measured like trials: one render at a time, two runs each with other seeds, frames in
shuffled order, base and pick in turn (`policies.frames`). A frame's runs are kept in its own place,
so they never mix with those of the study's frame. The limits are judged where the picture is
grainiest, against a reference of that frame.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from swift_sample.core.measure.drift import TimedRun, correct_drift
from swift_sample.core.measure.kinds import GRAIN, Figure
from swift_sample.core.measure.timing import common_spread, median_seconds
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import ACCEPTABLE
from swift_sample.core.study.answers.holding import Elsewhere
from swift_sample.core.study.answers.pick import why_not
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.events import Run
from swift_sample.core.study.log.identity import WHOLE, MeasurementKey, Place
from swift_sample.core.study.log.state import PlannedTrial, StudyState
from swift_sample.core.study.plan.model import FramePlan

RUNS = 2
"""Of each frame and configuration: a median, and grain from what differs between them."""
REACH_95 = 1.96
FLICKER_OF_GRAIN = math.sqrt(2)
"""Grain of two frames in a row is independent, so it alone changes by this much from frame to
frame."""


@dataclass(frozen=True)
class FrameResult:
    """One configuration at one frame. `ready_seconds` is what building took before the clock where
    the scene is kept."""

    frame: int
    seconds: Figure
    build_seconds: float
    """reading and building, part of `seconds` where the scene is not kept"""
    ready_seconds: float
    grain: Figure | None

    @property
    def built_anew(self) -> float:
        """Seconds with the scene read and built for this frame."""
        return self.seconds.value + self.ready_seconds

    @property
    def built_before(self) -> float:
        """Seconds with the scene there already."""
        return self.seconds.value - self.build_seconds


@dataclass(frozen=True)
class Forecast:
    """All frames of a sequence, on one machine: seconds with the scene built for every frame, and
    built once; None of that for a renderer that cannot keep a scene."""

    built_anew: Figure
    built_once: Figure | None
    worst: FrameResult
    flicker_at_least: float | None
    """levels by which grain alone changes from frame to frame, at the grainiest frame"""


@dataclass(frozen=True)
class Judged:
    """A configuration's verdict at the grainiest frame, by the study's limits; `why` where it is
    not acceptable."""

    frame: int
    verdict: str
    share: Figure
    why: str


@dataclass(frozen=True)
class FrameResults:
    """What is known of a sequence so far, by configuration; frames in order."""

    plan: FramePlan
    by_configuration: Mapping[Configuration, tuple[FrameResult, ...]] = field(default_factory=dict)
    left: int = 0
    """runs that are still to be made"""
    judged: Mapping[Configuration, Judged] = field(default_factory=dict)

    def forecast(self, configuration: Configuration) -> Forecast | None:
        """None until at least two frames are measured."""
        measured = self.by_configuration.get(configuration, ())
        if len(measured) < 2:
            return None

        anew = _total(self.plan, measured, [result.built_anew for result in measured])
        once = None

        if configuration.catalogue.capabilities.keeps_scene:
            before = _total(self.plan, measured, [result.built_before for result in measured])
            build = max(max(result.build_seconds, result.ready_seconds) for result in measured)
            once = Figure(before.value + build, before.low + build, before.high + build)

        grains = [result.grain.value for result in measured if result.grain is not None]
        return Forecast(
            anew,
            once,
            max(measured, key=lambda result: result.built_anew),
            FLICKER_OF_GRAIN * max(grains) if grains else None,
        )


def _total(plan: FramePlan, found: Sequence[FrameResult], seconds: Sequence[float]) -> Figure:
    """Seconds of all frames: measured ones, and straight lines between them. The interval adds, in
    squares, what each measured frame may be off, and how far frames lie off the line between their
    neighbours."""
    frames = np.array([one.frame for one in found])
    values = np.array(seconds)
    every = np.arange(plan.first, plan.last + 1)
    weights = np.array(
        [np.interp(every, frames, np.eye(len(frames))[k]).sum() for k in range(len(frames))]
    )
    spread = np.array([(one.seconds.high - one.seconds.low) / (2 * REACH_95) for one in found])
    off = [
        values[k] - np.interp(frames[k], frames[[k - 1, k + 1]], values[[k - 1, k + 1]])
        for k in range(1, len(frames) - 1)
    ]
    between = (
        len(every) * float(np.sqrt(np.mean(np.square(off)))) / math.sqrt(len(frames))
        if off
        else 0.0
    )
    reach = REACH_95 * math.hypot(float(np.sqrt(((weights * spread) ** 2).sum())), between)
    total = float(weights @ values)

    return Figure(total, max(total - reach, 0.0), total + reach)


def grain_key(state: StudyState, trial: PlannedTrial) -> MeasurementKey:
    """Grain alone, which needs no reference."""
    view = state.plan.view
    return MeasurementKey(
        appearance=trial.appearance,
        exposure=view.exposure,
        curve=view.curve,
        area=WHOLE,
        reference="",
    )


def grain_of(state: StudyState, place: Place, trial: PlannedTrial) -> Figure | None:
    """The grain of a trial at another frame; None where it was not measured."""
    measurement = state.at(place).measurements.get(grain_key(state, trial))
    return measurement.current.get(GRAIN.key) if measurement is not None else None


def runs_of(state: StudyState, place: Place, trial: PlannedTrial) -> tuple[Run, ...]:
    """The runs of a trial that worked at a frame on this machine, controls of the study left
    out."""
    return tuple(run for run in state.at(place).runs_on(trial.id, state.machine) if not run.control)


def collect_frames(
    state: StudyState, plan: FramePlan, configurations: Sequence[Configuration]
) -> FrameResults:
    """What was measured of a sequence."""
    rows: list[tuple[int, Configuration, tuple[Run, ...], Figure | None]] = []
    left = 0
    wanted = list(dict.fromkeys(configurations))

    for frame in plan.frames():
        place = state.place_of_frame(frame)
        for configuration in wanted if place is not None else ():
            assert place is not None
            trial = state.trial_of(configuration)
            good = runs_of(state, place, trial)

            if not state.at(place).is_given_up(trial.id, state.machine):
                left += max(0, RUNS - len(good))
            if good:
                rows.append((frame, configuration, good, grain_of(state, place, trial)))

    timed = [
        TimedRun(run.number, row, run.result.seconds["total"], run.host)
        for row, (_, _, good, _) in enumerate(rows)
        for run in good
        if run.result is not None
    ]
    correction = correct_drift(timed)

    kept = [
        [
            run.seconds / correction.factor(run.number)
            for run in timed
            if run.trial == row and run.number not in correction.left_out
        ]
        for row in range(len(rows))
    ]
    spread = common_spread(kept)
    by_configuration: dict[Configuration, list[FrameResult]] = {}

    ready = {
        configuration: [
            max(r.result.ready_seconds for r in good if r.result is not None)
            for _, other, good, _ in rows
            if other == configuration
        ]
        for configuration in wanted
    }
    for (frame, configuration, good, grain), seconds in zip(rows, kept, strict=True):
        results = [run.result for run in good if run.result is not None]
        # A frame whose scene was there already from another run says nothing of building; the
        # others do.
        own = max(r.ready_seconds for r in results)
        told = [one for one in ready[configuration] if one > 0]
        build = float(
            np.median(
                [
                    sum(r.seconds.get(phase, 0.0) for phase in ("load", "textures", "build"))
                    for r in results
                ]
            )
        )

        by_configuration.setdefault(configuration, []).append(
            FrameResult(
                frame,
                median_seconds(seconds, spread),
                build,
                own or (float(np.median(told)) if told else 0.0),
                grain,
            )
        )

    judged = _judged(state, plan, wanted)
    return FrameResults(
        plan, {c: tuple(frames) for c, frames in by_configuration.items()}, left, judged
    )


def grainiest_frame(state: StudyState, plan: FramePlan, configuration: Configuration) -> int | None:
    """The measured frame at which a configuration is grainiest; None while there is none."""
    trial = state.trial_of(configuration)
    grains = {}

    for frame in plan.frames():
        place = state.place_of_frame(frame)
        grain = grain_of(state, place, trial) if place is not None else None
        if grain is not None:
            grains[frame] = grain.value

    return max(grains, key=lambda frame: grains[frame], default=None)


def there(
    state: StudyState, plan: FramePlan, configurations: Sequence[Configuration]
) -> StudyState | None:
    """The study as it would be looked at where the last of the configurations is grainiest."""
    frame = grainiest_frame(state, plan, configurations[-1])
    return (
        None
        if frame is None
        else Elsewhere(state.plan.size, frame, tuple(configurations)).state(state)
    )


def _judged(
    state: StudyState, plan: FramePlan, configurations: Sequence[Configuration]
) -> dict[Configuration, Judged]:
    look = there(state, plan, configurations)
    if look is None:
        return {}

    results = collect(look)
    found = {c: results.by_effect.get(c.effective()) for c in configurations}

    return {
        c: Judged(
            look.plan.frame,
            trial.verdict,
            trial.share,
            why_not(trial, results) if trial.verdict != ACCEPTABLE else "",
        )
        for c, trial in found.items()
        if trial is not None and trial.share is not None and trial.is_whole
    }

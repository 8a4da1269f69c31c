"""How long a configuration is foreseen to take, from the work that a recording says it is.

Sampling takes work times pace. Work is known: processor cycles up to where paths of a configuration
end, as a share of those for another picture of the same recording. Pace is learned from every trial
that was timed, and with it what settings do that change no pixel (tiles, threads, caches): a linear
regression of the logarithm of seconds over work, with a normal prior of mean zero on each effect,
which is ridge regression (Hoerl and Kennard 1970) in the form of a Bayesian linear model (Bishop
2006, section 3.3). What scatters around it beside the trials' own intervals widens what is
foreseen. Denoising, reading, building and writing are taken as they were timed.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.settings.setting import KEEPS_SCENE, PREPARES
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.events import Derived

EFFECT = 0.3
"""Standard deviation, in log, of what a setting that changes no pixel does to the time of
sampling, before anything is known of it."""

LEAST_SCATTER = 0.03
"""Standard deviation in log that work and pace leave unexplained at least."""

FIRST_SCATTER = 0.06
"""and before trials have shown how much it is; a trial counts as much as FIRST_TRIALS of these."""

FIRST_TRIALS = 4

REACH_90 = 1.645

PREPARING = ("load", "textures", "build")
"""Phases before the sampling."""


@dataclass(frozen=True)
class Timed:
    """A trial that was timed, with the work that recordings say it is."""

    trial: TrialResult
    work: float


class Pace:
    """What trials that were timed teach of the time of others.

    `base` is timed; `timed` are all trials with work, the base among them.
    """

    def __init__(self, base: TrialResult, timed: Sequence[Timed], renders_per_opening: int) -> None:
        self._base = base
        self._renders_per_opening = renders_per_opening
        self._effects = self._columns(timed)
        self._denoise = _denoise_seconds(timed)
        self._fit(timed)

    def _columns(self, timed: Sequence[Timed]) -> dict[tuple[str, Value], int]:
        """A column for each value, other than the base's, of a setting that changes no pixel."""
        own = self._base.configuration
        met: dict[tuple[str, Value], int] = {}
        for one in timed:
            for key, value in one.trial.configuration.differences(own).items():
                if not own.catalogue[key].changes_pixels:
                    met.setdefault((key, value), len(met) + 1)

        return met

    def _row(self, configuration: Configuration) -> np.ndarray:
        row = np.zeros(len(self._effects) + 1)
        row[0] = 1.0
        for key, value in configuration.differences(self._base.configuration).items():
            column = self._effects.get((key, value))
            if column is not None:
                row[column] = 1.0

        return row

    def _fit(self, timed: Sequence[Timed]) -> None:
        rows = np.array([self._row(one.trial.configuration) for one in timed])
        told = np.array([math.log(_sampling(one.trial) / one.work) for one in timed])
        own = np.array([_own_scatter(one.trial) for one in timed])
        scatter = FIRST_SCATTER

        # The scatter is found in turn with the effects that it is weighed with.
        for _ in range(5):
            weight = 1 / (own**2 + scatter**2)
            prior = np.full(rows.shape[1], 1 / EFFECT**2)
            prior[0] = 0.0
            precision = (rows.T * weight) @ rows + np.diag(prior)
            self._covariance = np.linalg.inv(precision)
            self._mean = self._covariance @ ((rows.T * weight) @ told)
            left = told - rows @ self._mean
            beyond = float(np.maximum(left**2 - own**2, 0).sum())
            shown = max(0, len(timed) - rows.shape[1])
            pooled = FIRST_TRIALS * FIRST_SCATTER**2 + beyond
            scatter = max(LEAST_SCATTER, math.sqrt(pooled / (FIRST_TRIALS + shown)))

        self.scatter = scatter
        """standard deviation in log that is left"""

    def seconds(self, configuration: Configuration, derived: Derived) -> Figure:
        """The foreseen time of a render, with its 90 % interval."""
        return self.seconds_of_work(configuration, derived.work, derived.denoise_seconds)

    def seconds_of_work(
        self, configuration: Configuration, work: float, denoise_seconds: float = 0.0
    ) -> Figure:
        """The same for so much work. `denoise_seconds` count where the configuration's denoising
        was never timed."""
        row = self._row(configuration)
        sampling = work * math.exp(float(row @ self._mean))
        variance = self.scatter**2 + float(row @ self._covariance @ row)
        variance += EFFECT**2 * self._unknown_effects(configuration)

        denoising = configuration.denoising()
        denoise = 0.0
        if denoising is not None:
            denoise = self._denoise.get(denoising, denoise_seconds)

        rest = self._preparing(configuration) + self._phase("write")
        reach = math.exp(REACH_90 * math.sqrt(variance))
        value = rest + denoise + sampling

        return Figure(value, rest + denoise + sampling / reach, rest + denoise + sampling * reach)

    def _unknown_effects(self, configuration: Configuration) -> int:
        """How many settings have values of which nothing is known that may change the time of
        sampling."""
        own = self._base.configuration
        prepares = {s.key for s in own.catalogue.values() if s.role in (KEEPS_SCENE, PREPARES)}
        return sum(
            not own.catalogue[key].changes_pixels
            and key not in prepares
            and (key, value) not in self._effects
            for key, value in configuration.differences(own).items()
        )

    def _phase(self, name: str) -> float:
        figure = self._base.phases.get(name)
        return figure.value if figure is not None else 0.0

    def _preparing(self, configuration: Configuration) -> float:
        """Reading and building: each time, or a part of once."""
        first = self._base.first_render_seconds
        total = self._base.phases.get("total")
        seconds = sum(self._phase(name) for name in PREPARING)
        if first is not None and total is not None:
            seconds += first - total.value

        if configuration.is_on(PREPARES) and not self._base.configuration.is_on(PREPARES):
            seconds -= self._phase("textures")  # found on disk, where it is put once

        return seconds / (self._renders_per_opening if configuration.is_on(KEEPS_SCENE) else 1)


def _sampling(trial: TrialResult) -> float:
    return max(trial.phases["sampling"].value, 1e-6)


def _own_scatter(trial: TrialResult) -> float:
    """Standard deviation in log of a trial's own seconds of sampling."""
    figure = trial.phases["sampling"]
    if not figure.has_interval or figure.low <= 0:
        return 0.1
    return math.log(figure.high / figure.low) / (2 * 1.96)


def _denoise_seconds(timed: Sequence[Timed]) -> Mapping[tuple[Value, ...], float]:
    """Mean seconds of each denoising that was timed."""
    found: dict[tuple[Value, ...], list[float]] = {}
    for one in timed:
        denoising = one.trial.configuration.denoising()
        phase = one.trial.phases.get("denoise")
        if denoising is not None and phase is not None:
            found.setdefault(denoising, []).append(phase.value)

    return {denoising: float(np.mean(seconds)) for denoising, seconds in found.items()}

"""What other configurations are expected to cost and to show, from what one render of the base
recorded.

Expectations guide a search and are never shown as measurements: sampling takes time by samples and
by the bounces that are left; grain falls with samples as its record's curve does; lower caps and
clamps leave out the light, and clamps the grain, that the record says they take, and a noise
threshold the samples; denoisers are run on the base's stored pictures. What no record tells is
expected to stay as it is, and is learned from the trials that follow (`surrogate`).
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from swift_sample.core.measure.kinds import LIGHT_SHIFT, WORST_MARK
from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.renderers.falls import raw_fall
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.settings.setting import (
    BOUNCES,
    KEEPS_SCENE,
    PREPARES,
    SAMPLES,
    SCALE,
    THREADS,
)
from swift_sample.core.study.answers.acceptance import COSTS
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.plan.model import AREA_MARK

FALL = {"grain": 0.5, "rms": 0.5, "perceptual": 0.5, "stray_pixels": 1.0}
"""By which power of samples errors of the raw picture fall, where no record says."""
GRAINY = ("grain", "rms", "perceptual")
SMOOTHED_FALL = {
    "grain": 0.35,
    "rms": 0.35,
    "perceptual": 0.3,
    "stray_pixels": 0.8,
    "detail_kept": 0.3,
    "light_shift": 0.3,
}
"""The powers for denoised pictures, where a part of the error is not grain; usual values of the
demo's denoisers."""
LEAST_LEFT = 0.1
"""Of a light shift, where all is open as in the reference; every opening is expected to bring its
part of the light."""
LEAST_SHARE = 0.01
"""Limit shares below this are all the same to a search."""
SECONDS = "time"
"""The key under which a configuration's time is expected."""


@dataclass(frozen=True)
class Denoised:
    """The base's pictures with another denoising: seconds for one picture, and the share of each
    limit."""

    seconds: float
    shares: Mapping[str, float]


Denoising = tuple[Value, ...] | None
"""Which denoising a configuration has (`Configuration.denoising`); None for none."""

GROWS = ((SAMPLES, 1), (SCALE, 2), (THREADS, -1))
"""By which power of a setting with this role the sampling takes longer."""


def sampling_ratio(one: Configuration, other: Configuration) -> float:
    """How many times longer sampling is expected to take with one configuration than with another,
    by its samples, pixels and threads."""
    ratio = 1.0
    for role, power in GROWS:
        ratio *= _ratio(one, other, role) ** power

    return ratio


@dataclass(frozen=True, kw_only=True)
class Expectation:
    """Expects from the base's trial, its typical run, and its pictures denoised in other ways."""

    base: TrialResult
    run: RunRecord
    goal: str
    denoised: Mapping[Denoising, Denoised]
    renders_per_opening: int = 1
    opens: Mapping[str, Value] = field(default_factory=dict)
    """what the reference opens and the base does not, where an artist may choose
    (`Study.reference_opens`)"""

    def of(self, configuration: Configuration) -> dict[str, float]:
        """Logarithms of the expected seconds of the goal (`SECONDS`) and of every limit share that
        the base has."""
        seconds = self._seconds(configuration)
        expected = {
            SECONDS: math.log(
                max(seconds["total" if self.goal == "final" else "first_picture"], 1e-6)
            )
        }
        for key, share in self.base.shares.items():
            expected[key] = math.log(
                max(self._share(key, share.value, configuration, seconds), LEAST_SHARE)
            )

        return expected

    def _seconds(self, configuration: Configuration) -> dict[str, float]:
        base = self.base.configuration
        phase = {name: figure.value for name, figure in self.base.phases.items()}
        prepare = self._prepare_seconds()

        if configuration.is_on(PREPARES) and not base.is_on(PREPARES):
            prepare -= phase.get("textures", 0.0)  # found on disk, where it is put once

        prepare /= self.renders_per_opening if configuration.is_on(KEEPS_SCENE) else 1
        sampling = phase.get("sampling", phase.get("total", 0.0))

        sampling *= (
            sampling_ratio(configuration, base)
            * self._bounce_time(configuration)
            * self._spared(configuration, self._fall)[0]
        )
        denoising = configuration.denoising()
        known = self.denoised.get(denoising)

        if denoising is None:
            denoise = 0.0
        elif known is not None:
            denoise = known.seconds
        else:
            denoise = phase.get("denoise", 0.0)

        return {
            "total": prepare + sampling + denoise + phase.get("write", 0.0),
            "first_picture": prepare + phase.get("first_picture", 0.0),
        }

    def _prepare_seconds(self) -> float:
        """Reading and building, as the base's renders show it; where they keep the scene, what it
        took before the clock."""
        shown = sum(
            self.base.phases[name].value
            for name in ("load", "textures", "build")
            if name in self.base.phases
        )
        first = self.base.first_render_seconds
        total = self.base.phases.get("total")

        return shown + (first - total.value if first is not None and total is not None else 0.0)

    def _bounce_time(self, configuration: Configuration) -> float:
        """The share of the sampling's time that bounces up to the configuration's most took, as far
        as records tell."""
        cap = configuration.number_in_role(BOUNCES)
        seconds = [sum(kinds.values()) for kinds in self.run.seconds_by_bounce]
        whole = sum(seconds)
        own = self.base.configuration.number_in_role(BOUNCES)

        if (
            cap is None
            or whole <= 0
            or int(cap) + 1 >= len(seconds)
            or (own is not None and cap >= own)
        ):
            return 1.0

        return sum(seconds[: int(cap) + 1]) / whole

    def _share(
        self, key: str, share: float, configuration: Configuration, seconds: Mapping[str, float]
    ) -> float:
        measure = key.partition(AREA_MARK)[0].removesuffix(WORST_MARK)
        if measure in COSTS:
            same = {"seconds": "total", "first_picture": "first_picture"}.get(measure)
            before = self._seconds(self.base.configuration)
            return share * seconds[same] / max(before[same], 1e-6) if same is not None else share

        denoising = configuration.denoising()
        base = self.base.configuration
        known = self.denoised.get(denoising)

        if known is not None:
            share = known.shares.get(key, share)

        fall = (FALL if denoising is None else SMOOTHED_FALL).get(measure, 0.0)
        if measure in GRAINY and denoising is None:
            fall = self._fall

        share *= _ratio(base, configuration, SAMPLES) ** fall
        if measure in (*GRAINY, "stray_pixels"):
            share *= self._spared(configuration, fall)[1]
            # Less grain is worth what more samples are.
            share *= self._calmed(configuration) ** (
                1.0 if measure in GRAINY and denoising is None else 2 * fall
            )

        return self._shifted(key, share, configuration) if measure == LIGHT_SHIFT.key else share

    def _spared(self, configuration: Configuration, fall: float) -> tuple[float, float]:
        """How many times the samples, and how many times the grain, settings lead to that the
        record was replayed with, beside what the most samples alone would: samples in proportion to
        them, grain by `fall` of their ratio."""
        samples = 1.0
        grain = 1.0
        base = self.base.configuration
        taken = self.run.samples
        more = _ratio(configuration, base, SAMPLES)

        for key, replayed in self.run.samples_by_setting.items():
            value = float(configuration[key])
            own = float(base[key])
            if own not in replayed or taken is None:
                continue

            most = float(base.number_in_role(SAMPLES) or taken.mean)
            if _is_off(configuration, key):
                spared = most / taken.mean
                samples = samples * spared
                grain = grain * spared**-fall
                continue

            values = sorted(v for v in replayed if v > 0)
            mean, error, going = (
                float(np.interp(math.log(value), np.log(values), [replayed[v][k] for v in values]))
                for k in range(3)
            )

            if more > 1:  # only pixels that had not stopped go on
                stopped = (1 - going) * (value * LEVELS) ** 2 / max(error**2, 1e-12)
                mean = mean + going * most * (more - 1)
                left = min(1.0, stopped)
                error *= math.sqrt(left + (1 - left) / more)
            else:
                mean = min(mean, most * more)
                error = max(error, replayed[own][1] * more**-self._fall)

            samples *= mean / (more * replayed[own][0])
            grain *= error / max(replayed[own][1], 1e-6) * more**fall

        return samples, grain

    def _calmed(self, configuration: Configuration) -> float:
        """How many times the base's grain a configuration's clamps are predicted to leave."""
        grain = 1.0
        for key, told in self.run.grain_by_setting.items():
            values = sorted(value for value in told if value > 0)
            if _is_off(configuration, key):
                grain *= told[0.0]
            else:
                at = math.log(float(configuration[key]))
                grains = [told[value] for value in values]
                grain *= float(np.interp(at, np.log(values), grains, right=told[0.0]))

        return grain

    def _shifted(self, key: str, share: float, configuration: Configuration) -> float:
        """A share of a limit of light shift with the light that the configuration's limits take in
        place of the base's. Records tell of the whole picture, so it is the whole picture's limit
        that counts, where it has one."""
        whole = LIGHT_SHIFT.key if LIGHT_SHIFT.key in self.base.shares else key
        figure = self.base.figures.get(whole)
        limited = self.base.shares[whole]
        base = self.base.configuration
        told = self.run.shift_by_setting
        opens = {key: value for key, value in self.opens.items() if key not in told}

        if opens:
            opened = sum(configuration[key] == value for key, value in opens.items())
            share *= max(LEAST_LEFT, 1 - opened / len(self.opens))

        if figure is None or figure.high <= 0 or limited.high <= 0:
            return share

        levels_per_share = (
            figure.high / limited.high
        )  # a figure of nothing has an upper end all the same
        own = self._taken(base)
        other = self._taken(configuration)
        left = (share * levels_per_share) ** 2 - own**2

        return (
            math.hypot(max(LEAST_LEFT * share * levels_per_share, math.sqrt(max(0.0, left))), other)
            / levels_per_share
        )

    def _taken(self, configuration: Configuration) -> float:
        """Levels of light shift that a configuration's limits are predicted to cost beyond what the
        base's bounces cost."""
        cap = configuration.number_in_role(BOUNCES)
        own = self.base.configuration.number_in_role(BOUNCES)
        taken = 0.0

        if cap is not None and own is not None and cap < own:
            taken = self.run.shift_by_bounces.get(int(cap), 0.0)

        for key, shifts in self.run.shift_by_setting.items():
            if not _is_off(configuration, key):
                values = sorted(shifts)
                at = np.interp(
                    float(configuration[key]),
                    values,
                    [shifts[value] for value in values],
                    right=0.0,
                )
                taken = math.hypot(taken, float(at))

        return taken

    @cached_property
    def _fall(self) -> float:
        """By which power of samples grain of a raw picture falls here."""
        return raw_fall(self.run)[1]


def _is_off(configuration: Configuration, key: str) -> bool:
    return configuration.catalogue[key].off_at_zero and float(configuration[key]) == 0


def _ratio(one: Configuration, other: Configuration, role: str) -> float:
    """Of the values of the setting with a role; 1 where there is none, or one of them is off."""
    own = one.number_in_role(role)
    others = other.number_in_role(role)
    return own / others if own and others else 1.0

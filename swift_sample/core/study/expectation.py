"""What other configurations are expected to cost and to show, from what one render of the base recorded.

Expectations guide a search and are never shown as measurements: sampling takes time by samples and by the bounces that are
left; grain falls with the root of samples; a lower bounce cap leaves out the light that the record says came after it; and
denoisers are run on the base's stored pictures. What no record tells is expected to stay as it is, and is learned from the
trials that follow (`surrogate`).
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.plan.model import AREA_MARK
from swift_sample.core.study.results import COSTS, TrialResult

DENOISE_KEYS = ("denoise.method", "denoise.strength", "denoise.guides")
"""What distinguishes one smoothing of a stored picture from another; light passes are not stored."""
FALL = {"grain": 0.5, "rms": 0.5, "perceptual": 0.5, "stray_pixels": 0.7}
"""By which power of samples errors of the raw picture fall; exact for grain, usual for the others."""
SMOOTHED_FALL = {"grain": 0.35, "rms": 0.35, "perceptual": 0.3, "stray_pixels": 0.5, "detail_kept": 0.3, "light_shift": 0.3}
"""The same for smoothed pictures, where a part of the error is not grain; usual values of the demo's denoisers."""
LEAST_SHARE = 0.01
"""Limit shares below this are all the same to a search."""
SECONDS = "time"
"""The key under which a configuration's time is expected."""


@dataclass(frozen=True)
class Smoothed:
    """The base's pictures with another denoising: seconds for one picture, and the share of each limit."""

    seconds: float
    shares: Mapping[str, float]


Smoothing = tuple[Value, ...]


def smoothing_of(configuration: Configuration) -> Smoothing:
    """Which denoising a configuration has, by DENOISE_KEYS; all that leave a picture raw are one."""
    if configuration["denoise.method"] == "none" or configuration["denoise.strength"] == 0:
        return ("none", 0.0, False)
    return tuple(configuration[key] for key in DENOISE_KEYS)


@dataclass(frozen=True)
class Expectation:
    """Expects from the base's trial, its typical run, and its pictures smoothed in other ways."""

    base: TrialResult
    run: RunRecord
    goal: str
    smoothed: Mapping[Smoothing, Smoothed]

    def of(self, configuration: Configuration) -> dict[str, float]:
        """Logarithms of the expected seconds of the goal (`SECONDS`) and of every limit share that the base has."""
        seconds = self._seconds(configuration)
        found = {SECONDS: math.log(max(seconds["total" if self.goal == "final" else "first_picture"], 1e-6))}
        for key, share in self.base.shares.items():
            found[key] = math.log(max(self._share(key, share.value, configuration, seconds), LEAST_SHARE))
        return found

    def _seconds(self, configuration: Configuration) -> dict[str, float]:
        base, phase = self.base.configuration, {name: figure.value for name, figure in self.base.phases.items()}
        prepare = 0.0 if configuration["scene.keep_built"] else self._prepare_seconds()
        sampling = (
            phase.get("sampling", 0.0)
            * _ratio(configuration, base, "samples.max")
            * _ratio(configuration, base, "output.scale") ** 2
            / _ratio(configuration, base, "device.threads")
            * self._bounce_time(int(configuration["bounces.total"]))
        )
        smoothing = smoothing_of(configuration)
        known = self.smoothed.get(smoothing)
        denoise = 0.0 if smoothing[0] == "none" else known.seconds if known is not None else phase.get("denoise", 0.0)
        return {
            "total": prepare + sampling + denoise + phase.get("write", 0.0),
            "first_picture": prepare + phase.get("first_picture", 0.0),
        }

    def _prepare_seconds(self) -> float:
        """Reading and building, as the base's renders show it; where they keep the scene, what it took before the clock."""
        shown = sum(self.base.phases[name].value for name in ("load", "textures", "build") if name in self.base.phases)
        first, total = self.base.first_render_seconds, self.base.phases.get("total")
        return shown + (first - total.value if first is not None and total is not None else 0.0)

    def _bounce_time(self, cap: int) -> float:
        """The share of the sampling's time that bounces up to a cap took."""
        seconds = [sum(kinds.values()) for kinds in self.run.seconds_by_bounce]
        whole = sum(seconds)
        return sum(seconds[: cap + 1]) / whole if whole > 0 and cap + 1 < len(seconds) else 1.0

    def _share(self, key: str, share: float, configuration: Configuration, seconds: Mapping[str, float]) -> float:
        measure = key.partition(AREA_MARK)[0]
        if measure in COSTS:
            same = {"seconds": "total", "first_picture": "first_picture"}.get(measure)
            before = self._seconds(self.base.configuration)
            return share * seconds[same] / max(before[same], 1e-6) if same is not None else share
        smoothing, base = smoothing_of(configuration), self.base.configuration
        known = self.smoothed.get(smoothing)
        if known is not None:
            share = known.shares.get(key, share)
        fall = (FALL if smoothing[0] == "none" else SMOOTHED_FALL).get(measure, 0.0)
        share *= _ratio(base, configuration, "samples.max") ** fall
        return math.hypot(share, self._missing(measure, configuration)) if measure == "light_shift" else share

    def _missing(self, measure: str, configuration: Configuration) -> float:
        """The share of the light shift's limit that a lower bounce cap adds by the record."""
        cap = int(configuration["bounces.total"])
        figure, share = self.base.figures.get(measure), self.base.shares.get(measure)
        if figure is None or share is None or figure.value <= 0 or cap >= int(self.base.configuration["bounces.total"]):
            return 0.0
        return self.run.shift_by_bounces.get(cap, 0.0) * share.value / figure.value


def _ratio(one: Configuration, other: Configuration, key: str) -> float:
    return float(one[key]) / float(other[key])

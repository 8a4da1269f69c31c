"""How errors fall with samples: by the record of a render where it tells, else as is usual; and how
many that makes."""

import math

import numpy as np

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import SAMPLES

Fall = tuple[float, float, float]
"""By which power of samples an error falls: least, likeliest and most."""
RAW_FALL = (0.40, 0.50, 0.55)
DENOISED_FALL = (0.22, 0.35, 0.50)
"""Of grain, where no record says: of raw pictures, and of denoised ones, in which a part of the
error falls slower."""
STRAY_FALL = (0.5, 0.9, 1.6)
"""Of stray pixels, as the demo scenes show it."""
LEAST_POINTS = 3
"""Counts of samples of a record by which its own power is found."""


def fall_of(configuration: Configuration, record: RunRecord | None, measure: str = "grain") -> Fall:
    """Of a measure's figure under a configuration."""
    if measure.startswith("stray_pixels"):
        return STRAY_FALL
    return DENOISED_FALL if configuration.denoising() is not None else raw_fall(record)


def raw_fall(record: RunRecord | None) -> Fall:
    """Of the grain of a raw picture, as its own record shows it, by least squares on logarithms;
    else what is usual."""
    curve = record.grain_by_samples if record is not None else {}
    points = sorted((count, grain) for count, grain in curve.items() if grain > 0)[-4:]
    if len(points) < LEAST_POINTS:
        return RAW_FALL

    counts, grains = np.log(np.array(points, float)).T
    spread = float(((counts - counts.mean()) ** 2).sum())
    power = -float(((counts - counts.mean()) * (grains - grains.mean())).sum()) / spread
    left = grains - grains.mean() + power * (counts - counts.mean())
    off = max(0.03, 2 * math.sqrt(float((left**2).sum()) / max(1, len(points) - 2) / spread))
    power = min(max(power, 0.25), 0.6)

    return max(0.2, power - off), power, min(0.65, power + off)


def samples_needed(
    configuration: Configuration, figure: Figure, limit: float, fall: Fall
) -> Figure | None:
    """How many samples a pixel would bring an error down to a limit, with an interval that holds
    what is uncertain of the error and of how fast it falls. None where the renderer counts no
    samples, or there is no error."""
    own = configuration.number_in_role(SAMPLES)
    if not own or figure.value <= 0:
        return None

    slow, usual, fast = fall

    def count(error: float, power: float) -> float:
        return max(1.0, own * (max(error, 1e-9) / limit) ** (1 / power))

    ends = [count(error, power) for error in (figure.low, figure.high) for power in (slow, fast)]
    return Figure(count(figure.value, usual), min(ends), max(ends))

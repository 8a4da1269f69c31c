"""What a verdict may cost, and from when on a faster trial is worth it: known to searches and to
how many runs trials get."""

import math

from swift_sample.core.measure.counts import count_interval
from swift_sample.core.measure.kinds import STRAY_PIXELS, Figure
from swift_sample.core.study.plan.model import AREA_MARK, Study

MOST_FOR_VERDICT = 3
"""Runs beyond the study's number that may be spent on an open verdict."""
MOST_TO_DECIDE = 12
"""Runs of a trial in all that a limit may ask for which counts single pixels: such limits take more
where pictures are small, and renders of small pictures are cheap."""
WORTH_GAIN = 0.03
"""A configuration must promise to be faster than the pick by more than this share."""


def pixels_of(study: Study, key: str) -> int:
    """How many pixels a limit is about: of the picture, or of the watch area that its key names."""
    name = key.partition(AREA_MARK)[2]
    for area in study.areas:
        if area.name == name:
            return area.width * area.height

    return study.size[0] * study.size[1]


def counts_pixels(key: str) -> bool:
    """Whether a limit is about how many pixels there are of a kind."""
    return key.partition(AREA_MARK)[0] == STRAY_PIXELS.key


def one_pixel(key: str, limit: float, study: Study) -> float:
    """The limit share of one stray pixel in one picture."""
    return 1e6 / pixels_of(study, key) / limit


def upper_end(key: str, share: Figure, runs: int, wanted: int, limit: float, study: Study) -> float:
    """Where the upper end of a limit share is likely to lie with `wanted` runs, after `runs` of
    them.

    Intervals fall with the root of the runs; of a count of pixels the upper end is that of the
    count which is likely then.
    """
    if runs <= 0 or wanted <= runs:
        return share.high

    if counts_pixels(key):
        one = one_pixel(key, limit, study)
        return count_interval(share.value / one * wanted)[1] / wanted * one

    return share.value + (share.high - share.value) * math.sqrt(runs / wanted)


def runs_without(key: str, limit: float, study: Study) -> int:
    """How many runs without any stray pixel it takes to tell that a limit on them is kept."""
    return math.ceil(count_interval(0.0)[1] * one_pixel(key, limit, study) - 1e-9)

"""When a trial is accepted: every limit, how much of it a trial uses, and the verdict.

A trial is acceptable when the upper end of every interval is inside its limit, not acceptable when
any lower end is outside, undecided in between. Nothing is rejected on the picture of one run unless
its error is beyond any doubt.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from swift_sample.core.measure.kinds import IN_WORST_PLACE, KINDS, STRAY_PIXELS, Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.verdict_runs import pixels_of, runs_without
from swift_sample.core.study.plan.model import (
    AREA_LIMITS,
    AREA_MARK,
    NO_REMARK,
    Limits,
    Remark,
    Study,
)

ACCEPTABLE = "acceptable"
NOT_ACCEPTABLE = "not acceptable"
UNDECIDED = "undecided"
UNMEASURED = "unmeasured"
RANKS = (ACCEPTABLE, UNDECIDED, NOT_ACCEPTABLE, UNMEASURED)
"""Verdicts, the better ones first."""
BEYOND_DOUBT = 1.5
"""The picture of a single run rejects a trial only where even the lower end is this many times over
a limit."""
NO_WORSE = 1.1
"""Where nothing may be worse than the base, a tenth more of its error is taken for none,"""
LEAST_WORSE = {
    "grain": 0.1,
    "light_shift": 0.1,
    "detail_kept": 0.5,
    "stray_pixels": 10.0,
    "rms": 0.1,
    "perceptual": 0.1,
}
"""and so much at least, in the unit of the measure."""


@dataclass(frozen=True)
class Quantity:
    """What can be limited: an image measure, of the whole picture or of a watch area, or a cost."""

    label: str
    unit: str
    higher_is_better: bool = False

    @property
    def short(self) -> str:
        """The label where there is little room: "worst grain"."""
        plain = self.label.removesuffix(IN_WORST_PLACE)
        return plain if plain == self.label else f"worst {plain}"


COSTS = {
    "seconds": Quantity("time", "s"),
    "first_picture": Quantity("first picture", "s"),
    "memory": Quantity("memory", "MiB"),
    "file": Quantity("file size", "MiB"),
}


def quantity(key: str) -> Quantity:
    """By the key of a limit or figure, with the mark and name of a watch area where it is for
    one."""
    measure, mark, area = key.partition(AREA_MARK)
    if measure in COSTS:
        return COSTS[measure]

    kind = KINDS[measure]
    return Quantity(
        f"{kind.label} in {area}" if mark else kind.label, kind.unit, kind.higher_is_better
    )


Figures = Mapping[str, Figure | None]


@dataclass(frozen=True)
class Acceptance:
    """All limits of a study as they count. `wanted` by measure, those of watch areas as measure,
    mark and name; `picture` are those of the picture and of costs. `base` has the base's figures
    where nothing may be worse than those."""

    wanted: Mapping[str, float]
    picture: Limits
    base: Figures | None = None

    @staticmethod
    def of(study: Study, base: Figures) -> "Acceptance":
        """The study's limits; where nothing may be worse than the base, the base's own errors, in
        every area too, as soon as they are known."""
        wanted = dict(study.goal_limits.items())
        for area in study.areas:
            for key, value in (area.limits or study.goal_limits).items():
                if key in AREA_LIMITS:
                    wanted[f"{key}{AREA_MARK}{area.name}"] = value

        pixels = {
            "": study.size[0] * study.size[1],
            **{area.name: area.width * area.height for area in study.areas},
        }
        for key in wanted:
            measure, _, name = key.partition(AREA_MARK)
            if (
                measure == "stray_pixels"
            ):  # of a small picture, or a place in it, one pixel is more than its limit
                wanted[key] = max(wanted[key], 1e6 / pixels[name])

        if not study.no_worse_than_base:
            own = {key: value for key, value in wanted.items() if AREA_MARK not in key}
            return Acceptance(wanted, replace(study.goal_limits, **own))

        for key in wanted:
            figure = base.get(key)
            if figure is not None and not is_cost(key):
                wanted[key] = _no_worse_than(key, figure.value)

        own = {key: value for key, value in wanted.items() if AREA_MARK not in key}
        return Acceptance(wanted, replace(study.goal_limits, **own), base)

    def shares(self, figures: Figures) -> dict[str, Figure]:
        """Measured error over its limit, with the interval. For percentages kept, what is lost over
        what may be lost. Compared with the base, what is uncertain of its figure widens the
        interval; of the base itself nothing does."""
        shares = {}
        for key, limit in self.wanted.items():
            figure = figures.get(key)
            if figure is None:
                continue

            share = _share(key, figure, limit)
            base = self.base.get(key) if self.base is not None and not is_cost(key) else None

            if base is not None and base == figure:
                share = Figure(share.value, share.value, share.value)
            elif base is not None:
                share = _widened(share, _share(key, base, limit))

            shares[key] = share

        return shares


def _no_worse_than(key: str, value: float) -> float:
    measure = key.partition(AREA_MARK)[0].removesuffix("_worst")
    if quantity(key).higher_is_better:
        lost = max(0.0, 100 - value)
        return max(0.1, 100 - max(NO_WORSE * lost, lost + LEAST_WORSE[measure]))

    return max(NO_WORSE * value, value + LEAST_WORSE[measure])


def _share(key: str, figure: Figure, limit: float) -> Figure:
    if quantity(key).higher_is_better:
        value, low, high = (
            max(0.0, 100 - v) / (100 - limit) for v in (figure.value, figure.high, figure.low)
        )
        return Figure(value, low, high)
    return Figure(figure.value / limit, figure.low / limit, figure.high / limit)


def _widened(share: Figure, base: Figure) -> Figure:
    """A share whose limit is itself uncertain, as that of the base is: independent errors add up as
    squares."""
    return Figure(
        share.value,
        max(0.0, share.value - math.hypot(share.value - share.low, base.high - base.value)),
        share.value + math.hypot(share.high - share.value, base.value - base.low),
    )


def is_cost(key: str) -> bool:
    return key in COSTS


def worst(shares: Sequence[Figure]) -> Figure | None:
    """The limit share: the largest value, and the largest of each end."""
    if not shares:
        return None
    return Figure(
        max(s.value for s in shares), max(s.low for s in shares), max(s.high for s in shares)
    )


def surely_over(shares: Mapping[str, Figure], pictures: int, more_may_come: bool = True) -> float:
    """The limit share that a trial has beyond doubt: under an acceptance line below it, it is
    rejected. A single picture must be further over where more may come."""
    doubt = BEYOND_DOUBT if pictures < 2 and more_may_come else 1.0
    return max(
        (share.low / (1.0 if is_cost(key) else doubt) for key, share in shares.items()), default=0.0
    )


@dataclass(frozen=True)
class Standing:
    """What a verdict rests on, beside where the acceptance line is."""

    share: Figure | None
    surely: float
    forbidden: bool
    unmeasured: bool
    unknown: bool
    """whether a limited figure was measured and cannot be known"""

    def verdict(self, line: float) -> str:
        """Nothing that was not measured counts as inside its limit."""
        if self.share is None:
            return UNMEASURED
        if self.surely > line or self.forbidden:
            return NOT_ACCEPTABLE
        if self.share.high > line or self.unmeasured or self.unknown:
            return UNDECIDED

        return ACCEPTABLE


def is_unknown(figures: Figures, limited: Mapping[str, float]) -> bool:
    """Whether a figure that has a limit was measured and cannot be known. Detail of an area of even
    colour has nothing that could be lost."""
    return any(
        key in figures
        and figures[key] is None
        and not (AREA_MARK in key and key.startswith("detail_kept"))
        for key in limited
    )


def forbidden_words(configuration: Configuration, study: Study, remark: Remark = NO_REMARK) -> str:
    """Why a trial must not be the pick, whatever is measured of it: it is left out, or has values
    that must not be used; "" where it may."""
    if remark.left_out:
        return f"left out: {remark.left_out}"

    words = [
        study.catalogue[key].told(configuration[key])
        for key, values in study.forbidden.items()
        if configuration[key] in values
    ]
    return f"{', '.join(words)} must not be used" if words else ""


def small_picture_words(study: Study) -> tuple[str, ...]:
    """That a limit on stray pixels is less than one pixel of the picture, or of a watch area, and
    what counts instead."""
    told = []
    for name in ("", *(area.name for area in study.areas)):
        key = f"{STRAY_PIXELS.key}{AREA_MARK}{name}" if name else STRAY_PIXELS.key
        own = next((area.limits for area in study.areas if area.name == name), None)
        limit = (own or study.goal_limits).stray_pixels
        pixels = pixels_of(study, key)

        if limit is None or limit * pixels >= 1e6:
            continue

        where = f"in {name}" if name else "here"
        runs = runs_without(key, 1e6 / pixels, study)
        told.append(
            f"stray pixels: {limit:g} per million are {limit * pixels / 1e6:.1g} pixels {where}, "
            "less than one; one a render "
            f"counts as the limit, and {runs} renders without any show that it is kept"
        )

    return tuple(told)


def show_limit(key: str, figure: Figure, limit: float, short: bool = False) -> str:
    """A figure beside its limit, as a person would write it: "1.8 of 2.0 levels"; without the unit
    where short."""
    unit = "" if short else f" {quantity(key).unit}"
    if quantity(key).higher_is_better:
        return f"{figure.value:.1f} %" + ("" if short else f", at least {limit:.3g}")
    if key.partition(AREA_MARK)[0] in ("stray_pixels", "memory"):
        return f"{figure.value:.0f} of {limit:.0f}{unit}"

    return f"{figure.value:.1f} of {limit:.1f}{unit}"

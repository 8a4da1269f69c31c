"""What can stand on the map's axes: the limit share or any figure up, time or another cost
across."""

from dataclasses import dataclass

from swift_sample.core.measure.kinds import BRIGHTNESS, KINDS, Figure
from swift_sample.core.study.answers.acceptance import COSTS, quantity
from swift_sample.core.study.answers.field import FieldPoint
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult

SHARE = "share"
TIME = "time"
LEAST_FIGURE = 2.0**-7
"""Figures below this share of their limit (of 1 where there is none) stand there: an axis is
logarithmic."""


@dataclass(frozen=True)
class Axis:
    """One quantity on an axis; less is always better. `limit` is in its unit, None where there is
    none."""

    key: str
    label: str
    unit: str
    limit: float | None = None
    is_lost: bool = False
    """whether the figure is what is kept, in percent, and the axis shows what is lost"""

    def figure(self, trial: TrialResult | FieldPoint) -> Figure | None:
        """A trial's figure on this axis, or that of a combination of the field, as far as it is
        known."""
        if self.key == SHARE:
            return trial.share
        if self.key == TIME:
            return trial.seconds

        known = trial.all_figures.get(self.key)
        if known is None or not self.is_lost:
            return known

        return Figure(100 - known.value, 100 - known.high, 100 - known.low)

    @property
    def least(self) -> float:
        """What is drawn for anything smaller."""
        return LEAST_FIGURE * (self.limit or 1.0)


def upper_axes(results: Results) -> list[Axis]:
    """The limit share, then every figure: those with a limit first."""
    keys = [key for key in results.wanted if key not in COSTS]
    keys += [
        key
        for key, kind in KINDS.items()
        if key not in keys and key != BRIGHTNESS.key and _falls(kind.key)
    ]
    return [Axis(SHARE, "limit share", "", 1.0), *(_axis(key, results) for key in keys)]


def lower_axes(results: Results) -> list[Axis]:
    """The time of the study's goal, then the costs."""
    goal = "time until the first picture" if results.study.goal != "final" else "time of a render"
    told = [
        key
        for key in COSTS
        if key != "first_picture" or results.study.catalogue.capabilities.first_picture
    ]
    return [
        Axis(TIME, goal, "s", results.wanted.get("seconds")),
        *(_axis(key, results) for key in told if key != "seconds"),
    ]


def _falls(key: str) -> bool:
    """Whether a figure is better the smaller it is, or is what is kept of a hundred."""
    return not KINDS[key].higher_is_better or KINDS[key].unit == "%"


def _axis(key: str, results: Results) -> Axis:
    shown = quantity(key)
    limit = results.wanted.get(key)
    if not shown.higher_is_better:
        return Axis(key, shown.label, shown.unit, limit)

    return Axis(
        key,
        shown.label.replace("kept", "lost"),
        shown.unit,
        None if limit is None else 100 - limit,
        is_lost=True,
    )


def axis_named(axes: list[Axis], key: str) -> Axis:
    """The axis of a key; the first where there is none of that."""
    return next((axis for axis in axes if axis.key == key), axes[0])

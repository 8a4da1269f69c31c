"""The field as the map shows it: what recordings say of combinations that nobody has timed."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import RANKS
from swift_sample.core.study.answers.field import (
    FieldPoint,
    combinations,
    field_of,
    foreseen,
    pace_of,
)
from swift_sample.core.study.measuring.snapshot import Snapshot


@dataclass(frozen=True)
class Field:
    """Combinations that were derived and not timed, with a foreseen time. `combinations` is how
    many there are of all values that the plan tries, `timed` how many of those were timed."""

    points: tuple[FieldPoint, ...]
    combinations: int
    timed: int
    known: Mapping[Configuration, FieldPoint] = field(default_factory=dict)
    """all that was derived, timed ones among them"""
    foresee: Callable[[Configuration], Figure | None] = field(default=lambda _: None)
    """the time of a configuration, derived or not"""

    def verdicts(self, line: float) -> np.ndarray:
        """The places among RANKS of all points' verdicts under an acceptance line, intp[n]."""
        told = [RANKS.index(point.standing.verdict(line)) for point in self.points]
        return np.array(told, np.intp)

    @cached_property
    def by_name(self) -> dict[str, FieldPoint]:
        """The points by the names that marks of the map have."""
        return dict(zip(self.names, self.points, strict=True))

    @cached_property
    def names(self) -> list[str]:
        """What marks of the map are called."""
        return [f"field {number}" for number in range(len(self.points))]

    @property
    def is_whole(self) -> bool:
        """Whether every combination is derived."""
        return len(self.points) + self.timed >= self.combinations

    @property
    def words(self) -> str:
        """How much of the field there is: "508 of 2,400 combinations derived, 3 timed"."""
        derived = len(self.points) + self.timed
        return f"{derived:,} of {self.combinations:,} combinations derived, {self.timed} timed"

    def named(self, configuration: Configuration) -> str | None:
        """The name of a configuration's mark; None where it has none."""
        for name, point in self.by_name.items():
            if point.configuration == configuration:
                return name

        return None


def field_shown(snapshot: Snapshot) -> Field | None:
    """What a snapshot knows of the field; None while nothing was derived. It takes a millisecond a
    combination at most: not for the window's own thread."""
    state = snapshot.state
    name = state.reference_name
    if not any(reference == name for reference, _ in state.recordings):
        return None

    every = list(combinations(state.plan))
    points = field_of(state, snapshot.results, every)
    pace = pace_of(state, snapshot.results)
    shown = tuple(
        point
        for point in points
        if point.trial is None and point.seconds is not None and point.share is not None
    )
    timed = sum(point.trial is not None for point in points)
    if not points:
        return None

    return Field(
        shown,
        len(every),
        timed,
        {point.configuration: point for point in points},
        lambda configuration: foreseen(state, pace, configuration),
    )

"""The search where recordings hold the pictures: what to derive, and what to time, next.

Figures of derived pictures are measurements, so only time is open. First the fastest acceptable
appearances are found by deriving: along samples, bounces and thresholds a picture only gets better,
so that one that surely fails settles all that are worse, and one that is acceptable all that take
longer. Then those are timed that may be the fastest, until none is likely to beat the pick by
WORTH_GAIN, and no change of the pick could be taken back at no cost.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from scipy.special import ndtr

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration, Derivation, Setting, Value
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE, UNDECIDED
from swift_sample.core.study.answers.field import (
    FieldPoint,
    combinations,
    derived_of,
    field_of,
    pace_of,
    recorded_for,
    work_of,
)
from swift_sample.core.study.answers.foreseen import Pace
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.verdict_runs import WORTH_GAIN
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.search.search import ENOUGH_CHANCE, SHOWN, Outlook

SLOPES = {Derivation.SAMPLES: -0.4, Derivation.PATH: -0.8, Derivation.STOPS: -0.5}
"""By which power of a value errors are taken to change, where nothing near is known: only for the
order in which pictures are derived."""

NEAR_SCATTER = 0.15
FAR_SCATTER = 0.5
"""Standard deviation in log of a limit share that is told by a near one; how much it grows by the
distance in log."""

OTHER_BRANCH = 1.0
"""The distance to a picture with another clamp or denoising."""

MAY_BE = 0.2
"""The least chance of being acceptable of a picture for which more recordings are made."""

STRICTEST = 1e-5
"""In place of a threshold that is off."""

REACH_90 = 1.645
REACH_95 = 1.96


@dataclass(frozen=True)
class Advised:
    """What to do next: derive a configuration, time one, or neither, since the search is at its
    end. `seconds` and `share` are what is foreseen and derived of one that is to be timed."""

    derive: Configuration | None
    time: Configuration | None
    why: str
    contender: Configuration | None = None
    """one that may be the fastest, and of which more recordings shall tell whether it will do"""
    seconds: Figure | None = None
    share: Figure | None = None
    outlooks: tuple[Outlook, ...] = ()
    """what is foreseen of those that promise most"""


class Space:
    """Every combination that recordings hold, and each of their pictures once; the same for as long
    as the plan and what is recorded stay."""

    def __init__(self, state: StudyState) -> None:
        plan = state.plan
        base = plan.base
        same = {s.key: base[s.key] for s in base.catalogue.values() if not s.changes_pixels}
        along = _those(base, Derivation.SAMPLES, Derivation.PATH)
        stops = _thresholds_of(base)

        self.configurations = [
            one
            for one in combinations(plan)
            if not any(one[key] in values for key, values in plan.forbidden.items())
            and recorded_for(state, one)
        ]
        self.pictures = list(
            dict.fromkeys(one.replace(same).effective() for one in self.configurations)
        )
        kinds = [s.derived for s in (*along, *stops)]
        self.slopes = np.array([SLOPES[kind] for kind in kinds if kind is not None])
        """by which powers of the columns of `quality` errors change"""

        quality = [
            [math.log(1 + float(one[s.key])) for s in along]
            + [-math.log(float(one[s.key]) or STRICTEST) for s in stops]
            for one in self.pictures
        ]
        self.quality = np.array(quality, np.float64).reshape(len(self.pictures), -1)
        """values along which a picture only gets better, in log, float64[n, k]"""

        keys = {s.key for s in (*along, *stops)}
        rest = [tuple(v for k, v in one.items() if k not in keys) for one in self.pictures]
        numbers = {values: k for k, values in enumerate(dict.fromkeys(rest))}
        self.branch = np.array([numbers[values] for values in rest], np.int64)
        """a number for each combination of all other values, int[n]"""

        samples = _those(base, Derivation.SAMPLES)
        self.samples = [
            math.log(float(one[samples[0].key])) if samples else 0.0 for one in self.pictures
        ]
        held = _those(base, Derivation.STOPS)
        self.stops = [tuple(one[s.key] for s in held) for one in self.pictures]
        self.work = [work_of(state, one) for one in self.pictures]


@lru_cache(4)
def _space(known: "_SameState") -> Space:
    return Space(known.state)


class _SameState:
    """A state, equal to others with the same plan and recordings."""

    def __init__(self, state: StudyState) -> None:
        self.state = state
        plan = state.plan
        self._key = (
            plan.base,
            tuple(plan.space().items()),
            tuple(plan.forbidden.items()),
            plan.view,
            state.reference_name,
            frozenset(
                (key, kept.digest)
                for key, kept in state.recordings.items()
                if key[0] == state.reference_name
            ),
        )

    def __hash__(self) -> int:
        return hash(self._key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _SameState) and other._key == self._key


class FieldSearch:
    """Looks at one state of a study whose base is timed and derived."""

    def __init__(
        self,
        state: StudyState,
        results: Results,
        most_recordings: int,
        failed: Sequence[Configuration] = (),
    ) -> None:
        self._state = state
        self._results = results
        self._most_recordings = most_recordings
        self._failed = {one.effective() for one in failed}
        self._base = state.plan.base
        pace = pace_of(state, results)
        assert pace is not None
        self._pace: Pace = pace
        self._space = _space(_SameState(state))

    def advise(self, only_time: bool = False) -> Advised:
        """What to do next; the same for the same state. With `only_time` nothing more is
        derived."""
        if only_time:
            return self._next_to_time()

        wanted = self._next_to_derive()
        if wanted is not None:
            return Advised(wanted, None, "its picture may be acceptable, and it would be faster")

        contender = self._contender()
        if contender is not None:
            why = "it may be the fastest: more recordings tell whether it will do"
            return Advised(None, None, why, contender)

        return self._next_to_time()

    def _contender(self) -> Configuration | None:
        """The fastest picture that may be acceptable, while it is not known whether it is; None
        where one that is known to be is as fast."""
        fastest = (1 - WORTH_GAIN) * min(
            (
                point.seconds.value
                for point in self._points.values()
                if point.verdict == ACCEPTABLE and point.seconds is not None
            ),
            default=math.inf,
        )
        open_ = [
            (point.seconds.value, one)
            for one, point in self._points.items()
            if point.verdict == UNDECIDED
            and point.seconds is not None
            and point.seconds.value < fastest
            and self._chance_of(point) >= MAY_BE
            and not self._is_settled(one)
        ]
        return min(open_, key=lambda pair: pair[0])[1] if open_ else None

    def _is_settled(self, configuration: Configuration) -> bool:
        """Whether no more recordings will be had that tell of it."""
        derived = derived_of(self._state, configuration)
        reference = self._state.reference
        if derived is None or reference is None:
            return False

        # Not every recording holds every number of samples: the first chunk has fewer.
        held = len(recorded_for(self._state, configuration))
        grown = reference.chunks >= 2 * self._most_recordings
        most = min(self._most_recordings, held) if grown else self._most_recordings
        return len(derived.chunks) >= most

    @cached_property
    def _points(self) -> Mapping[Configuration, FieldPoint]:
        """What is known of pictures, by their configuration in `_pictures`."""
        found = field_of(self._state, self._results, self._space.pictures)
        return {point.configuration: point for point in found}

    # What to derive.

    def _next_to_derive(self) -> Configuration | None:
        """The picture that settles most: none where all that could be the fastest are known."""
        space = self._space
        pictures = space.pictures
        tried = [derived_of(self._state, one) is not None for one in pictures]
        seconds = self._seconds()
        quality = space.quality
        branch = space.branch
        verdicts = [self._points[one].verdict if one in self._points else "" for one in pictures]

        open_ = ~np.array(tried)
        for k, verdict in enumerate(verdicts):
            if verdict == NOT_ACCEPTABLE:
                open_ &= ~((branch == branch[k]) & (quality <= quality[k]).all(axis=1))

        good = [seconds[k] for k, verdict in enumerate(verdicts) if verdict == ACCEPTABLE]
        if good:
            open_ &= seconds < (1 - WORTH_GAIN) * min(good)

        left = np.flatnonzero(open_)
        chance = self._chances(quality, branch, left)
        left, chance = left[chance >= ENOUGH_CHANCE], chance[chance >= ENOUGH_CHANCE]
        if not len(left):
            return None

        faster = (seconds[left][None, :] >= seconds[left][:, None]).sum(axis=1)
        worse = np.array(
            [
                ((branch[left] == branch[k]) & (quality[left] <= quality[k]).all(axis=1)).sum()
                for k in left
            ]
        )
        settled = chance * faster + (1 - chance) * worse
        return pictures[int(left[np.lexsort((seconds[left], -settled))[0]])]

    def _seconds(self) -> np.ndarray:
        """Foreseen seconds of every picture, derived or not yet, float64[n]."""
        space = self._space
        spared = self._spared()
        found = []

        for k, one in enumerate(space.pictures):
            point = self._points.get(one)
            if point is not None and point.seconds is not None:
                found.append(point.seconds.value)
                continue

            share = _nearest(spared.get(space.stops[k], ()), space.samples[k])
            found.append(self._pace.seconds_of_work(one, space.work[k] * share).value)

        return np.array(found)

    def _spared(self) -> dict[tuple[Value, ...], list[tuple[float, float]]]:
        """By values of what stops pixels: log samples, and the share of the work that was left, of
        pictures that were derived."""
        space = self._space
        found: dict[tuple[Value, ...], list[tuple[float, float]]] = {}
        for k, one in enumerate(space.pictures):
            derived = derived_of(self._state, one) if one in self._points else None
            if derived is not None:
                share = derived.work / max(space.work[k], 1e-9)
                found.setdefault(space.stops[k], []).append((space.samples[k], share))

        return found

    def _chances(self, quality: np.ndarray, branch: np.ndarray, left: np.ndarray) -> np.ndarray:
        """How likely pictures are to be acceptable, by the nearest that are known, float64[n]."""
        places = {one: k for k, one in enumerate(self._space.pictures)}
        known = [
            (places[one], math.log(max(point.share.value, 1e-3)))
            for one, point in self._points.items()
            if point.share is not None
        ]
        if not known:
            return np.full(len(left), 0.5)

        there = np.array([k for k, _ in known])
        shares = np.array([share for _, share in known])
        slopes = self._space.slopes
        moved = quality[left][:, None, :] - quality[there][None, :, :]
        distance = np.abs(moved * np.abs(slopes)).sum(axis=2)
        distance += OTHER_BRANCH * (branch[left][:, None] != branch[there][None, :])
        nearest = distance.argmin(axis=1)
        rows = np.arange(len(left))

        mean = shares[nearest] + (moved[rows, nearest] * slopes).sum(axis=1)
        scatter = NEAR_SCATTER + FAR_SCATTER * distance[rows, nearest]
        chances: np.ndarray = ndtr((math.log(self._results.line) - mean) / scatter)
        return chances

    # What to time.

    def _next_to_time(self) -> Advised:
        results = self._results
        pick = results.pick()
        timed = {t.configuration.effective() for t in results.trials if t.is_on_map}
        candidates = [
            one
            for one in self._space.configurations
            if one.effective() not in timed and one.effective() not in self._failed
        ]
        points = [
            point
            for point in field_of(self._state, results, candidates)
            if point.verdict != NOT_ACCEPTABLE and point.seconds is not None
        ]
        # What recordings leave undecided no render decides; it is timed where nothing else will do.
        sure = [point for point in points if point.verdict == ACCEPTABLE]
        if pick is None:
            return self._first(sure or points)

        points = sure

        goal = pick.trial.seconds
        assert goal is not None
        target = math.log((1 - WORTH_GAIN) * goal.value)
        promising = []

        for point in points:
            mean, scatter = _in_log(point.seconds)
            chance = self._chance_of(point) * float(ndtr((target - mean) / scatter))
            gain = chance * max(WORTH_GAIN, target - mean + scatter)
            promising.append((gain, chance, point))

        promising.sort(key=lambda one: -one[0])
        outlooks = _outlooks([(chance, point) for _, chance, point in promising])
        found = [one for one in promising if one[1] >= ENOUGH_CHANCE]
        if found:
            _, chance, point = found[0]
            why = f"with a chance of {chance:.0%} acceptable and faster than the pick"
            return self._timed(point, why, outlooks)

        plainer = self._plainer(pick.trial.configuration, points)
        if plainer is not None:
            return plainer

        return Advised(
            None,
            None,
            f"no combination that is left is likely to beat the pick by {WORTH_GAIN:.0%}",
            outlooks=outlooks,
        )

    def _first(self, points: Sequence[FieldPoint]) -> Advised:
        """Where nothing is acceptable yet: the fastest that is likely to be."""
        likely = [(self._chance_of(point), point) for point in points]
        likely = [one for one in likely if one[0] >= ENOUGH_CHANCE]
        if not likely:
            return Advised(None, None, "no combination is likely to be acceptable")

        hopeful = [one for one in likely if one[0] >= 0.5] or [max(likely, key=lambda one: one[0])]
        chance, point = min(hopeful, key=lambda one: one[1].seconds.value)  # type: ignore[union-attr]
        why = f"the fastest that is likely to be acceptable, with a chance of {chance:.0%}"
        return self._timed(point, why, _outlooks([(chance, point)]))

    def _plainer(self, pick: Configuration, points: Sequence[FieldPoint]) -> Advised | None:
        """The pick with a change taken back, where that is foreseen to cost nothing."""
        derived = derived_of(self._state, pick)
        if derived is None:
            return None

        known = {point.configuration.effective(): point for point in points}
        own = self._pace.seconds(pick, derived)
        for key in pick.differences(self._base):
            point = known.get(pick.replace({key: self._base[key]}).effective())
            if point is None or point.seconds is None or self._chance_of(point) < 0.5:
                continue
            if point.seconds.value <= own.value * (1 + WORTH_GAIN / 3):
                label = self._base.catalogue[key].full_label.lower()
                return self._timed(point, f"the pick without its change of {label}")

        return None

    def _chance_of(self, point: FieldPoint) -> float:
        """How likely a picture is to be acceptable, by its figures' intervals."""
        if point.share is None or point.share.high <= 0:
            return 0.0 if point.share is None else 1.0
        if point.verdict == ACCEPTABLE:
            return 1.0

        value = max(point.share.value, 1e-6)
        scatter = max(math.log(point.share.high / value) / REACH_95, 1e-3)
        return float(ndtr((math.log(self._results.line) - math.log(value)) / scatter))

    @staticmethod
    def _timed(point: FieldPoint, why: str, outlooks: tuple[Outlook, ...] = ()) -> Advised:
        return Advised(
            None,
            point.configuration,
            why,
            seconds=point.seconds,
            share=point.share,
            outlooks=outlooks,
        )


def _outlooks(promising: Sequence[tuple[float, FieldPoint]]) -> tuple[Outlook, ...]:
    """The first few of those that promise most."""
    return tuple(
        Outlook(point.configuration, point.seconds, point.share, chance)
        for chance, point in promising[:SHOWN]
        if point.seconds is not None and point.share is not None
    )


def _nearest(known: Sequence[tuple[float, float]], samples: float) -> float:
    """The share that is known for the nearest number of samples, in log; 1 where none is."""
    return min(known, key=lambda pair: abs(pair[0] - samples))[1] if known else 1.0


def _in_log(seconds: Figure | None) -> tuple[float, float]:
    """Mean and standard deviation of the logarithm of a foreseen time."""
    assert seconds is not None
    return math.log(seconds.value), max(
        math.log(seconds.high / max(seconds.low, 1e-6)) / (2 * REACH_90), 1e-3
    )


def _those(configuration: Configuration, *kinds: Derivation) -> list[Setting]:
    """Settings that are derived in one of these ways."""
    return [s for s in configuration.catalogue.values() if s.derived in kinds]


def _thresholds_of(configuration: Configuration) -> list[Setting]:
    """Those that stop samples by a number, of which less is stricter and 0 is off."""
    stops = _those(configuration, Derivation.STOPS)
    return [s for s in stops if s.kind == "number" and s.off_at_zero]

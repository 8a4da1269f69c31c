"""The guided search: which configuration to render next, so that the pick is found with few
renders.

Every value that the study tries is combined with every other, and values beyond them where the
answer lies at their edge. What each combination would cost and show is expected from the base's
records (`expectation`) and corrected by all trials so far (`surrogate`). The one that promises most
is rendered; the search ends when none is likely to beat the measured pick by WORTH_GAIN. A
prediction never becomes the pick, and is kept and scored (`scoring`).
"""

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations, product

import numpy as np
from scipy.special import ndtr

from swift_sample.core.measure.kinds import DETAIL_KEPT, LIGHT_SHIFT, WORST_MARK, Figure
from swift_sample.core.renderers.falls import fall_of, samples_needed
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration, Setting, Value
from swift_sample.core.settings.setting import BOUNCES, SAMPLES
from swift_sample.core.study.answers.acceptance import NOT_ACCEPTABLE
from swift_sample.core.study.answers.guidance import FALLS, MARGIN
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.answers.verdict_runs import (
    MOST_FOR_VERDICT,
    WORTH_GAIN,
    counts_pixels,
    upper_end,
)
from swift_sample.core.study.plan.model import AREA_MARK
from swift_sample.core.study.search.expectation import LEAST_SHARE, SECONDS, Expectation
from swift_sample.core.study.search.surrogate import PAIRS, PAIRS_UNTOLD, Axes, predict

CHEAPER = (0.5, 0.75)
DEARER = (1.5, 2.0, 4.0)
"""Beyond the values given: shares of the cheapest, where the pick has that; and times the dearest,
where nothing will do."""
NEAR = (1.0, 1.25, 1.6)
"""Times the samples that would just do by the record of the base, which is only as sure as one
render."""
LEAST_STEP = 1.25
"""Values closer to each other than this, by factors, are not parted again."""
CHANGE_COSTS = 0.97
"""What every change from the base must promise to be worth trying: without it, settings that do
nothing tag along."""
ENOUGH_CHANCE = 0.02
FIRST_CHANCE = 0.002
FIRST_TRIALS = 8
"""The search ends when no configuration has a larger chance of that; of the first few trials, which
teach most, less will do."""
CLOSER = 0.8
"""Without hope for a pick the search still goes where the limit share is expected to be this much
of the smallest so far."""
TOO_FAR = 20.0
"""Limit shares from which nobody climbs back."""
HOPELESS = 0.01
"""or, without a pick, of being acceptable."""
LIKELY = 0.3
"""The least chance of being acceptable of a pick with a change taken back, for it to be tried."""
LEAST_NEW_PAIRS = 4
"""Pairs of values that a trial which is tried for them tries first."""
MOST_CANDIDATES = 4000
"""Combinations that are looked at each time; of a larger space, those near what is known and others
drawn at random."""
SHOWN = 12
"""Predictions that are shown beside measurements."""
REACH_95 = 1.96
REACH_90 = 1.645
LEAST_NOISE = 0.01
"""Standard deviation of log figures below which no measurement is taken to be."""


Spread = tuple[np.ndarray, np.ndarray]
"""means and standard deviations in log, float64[candidates] each"""


@dataclass(frozen=True)
class Outlook:
    """A prediction, never a measurement: seconds and limit share with 90 % intervals, and the
    chance of being acceptable and faster than the pick by WORTH_GAIN (of being acceptable, while
    there is no pick)."""

    configuration: Configuration
    seconds: Figure
    share: Figure
    chance: float


@dataclass(frozen=True)
class Advice:
    """What to render next, or None at the end, with the reason; and the most promising
    predictions."""

    configuration: Configuration | None
    why: str
    outlooks: tuple[Outlook, ...] = ()


def advise(
    results: Results,
    expectation: Expectation,
    failed: Iterable[Configuration] = (),
    longest: float = math.inf,
    advised: Sequence[Mapping[str, Value]] = (),
    only_plainer: bool = False,
) -> Advice:
    """What to render next. `failed` are not tried again; what is expected to take more than
    `longest` seconds is left out; `advised` are changes of the base that findings propose. With
    `only_plainer` nothing faster is looked for any more, only whether each change of the pick earns
    its place."""
    study = results.study
    space = widened(results, expectation.run, advised)
    if not space:
        return Advice(None, "there is nothing to combine: try more values of the settings")

    seen = [t for t in results.trials if t.is_on_map]
    known = {t.configuration.effective() for t in seen} | {c.effective() for c in failed}
    pick = results.pick()
    rng = np.random.default_rng(len(seen))

    wanted = [
        c
        for c in candidates(
            study.base, space, [pick.trial.configuration] if pick is not None else [], rng
        )
        if c.effective() not in known
    ]
    if not wanted:
        return Advice(None, "every combination was measured")

    met = {
        key: dict.fromkeys((*values, *(t.configuration[key] for t in seen)))
        for key, values in space.items()
    }
    axes = Axes(study.catalogue, {key: tuple(values) for key, values in met.items()})
    seconds, shares = _predictions(results, expectation, axes, seen, wanted)
    short = np.flatnonzero(seconds[0] <= (math.log(longest) if longest > 0 else -math.inf))

    if not len(short):
        return Advice(
            None,
            (
                f"each of the {len(wanted)} other combinations would take longer than the time "
                "that is left"
            ),
        )

    if len(short) < len(wanted):
        wanted = [wanted[int(k)] for k in short]
        seconds = seconds[0][short], seconds[1][short]
        shares = {key: (means[short], spreads[short]) for key, (means, spreads) in shares.items()}

    inside = [
        ndtr((_room(key, results, seen) - mean) / spread) for key, (mean, spread) in shares.items()
    ]
    acceptable = np.prod(inside, axis=0) if inside else np.ones(len(wanted))
    mean, spread = seconds

    if pick is None:
        chance = acceptable
        gain = acceptable * (mean.max() - mean + spread)
    else:
        assert pick.trial.seconds is not None
        limit = math.log(pick.trial.seconds.value)
        chance = acceptable * ndtr((limit + math.log(1 - WORTH_GAIN) - mean) / spread)
        gain = acceptable * _expected_gain(limit, mean, spread)

    changed = np.array([len(c.differences(study.base)) for c in wanted])
    order = np.argsort(-gain * CHANGE_COSTS**changed, kind="stable")
    outlooks = tuple(
        _outlook(wanted[k], float(mean[k]), float(spread[k]), shares, int(k), float(chance[k]))
        for k in order[:SHOWN]
    )
    most = float(chance.max())
    others = f"{len(wanted)} other combinations"
    enough = ENOUGH_CHANCE if len(seen) > FIRST_TRIALS else FIRST_CHANCE

    if pick is not None and (most < enough or only_plainer):
        surprising = None if only_plainer else _untried_together(results, space, seen, wanted, mean)
        if surprising is not None:
            own = _outlook(
                wanted[surprising],
                float(mean[surprising]),
                float(spread[surprising]),
                shares,
                surprising,
                most,
            )
            why = (
                "this renderer tells nothing of its light, and values of it that were not tried "
                "together may surprise"
            )
            return Advice(own.configuration, why, (own, *outlooks))

        plainer = _plainer(results, wanted, mean, acceptable)
        if plainer is not None:
            own = _outlook(
                wanted[plainer], float(mean[plainer]), float(spread[plainer]), shares, plainer, most
            )
            why = "it takes back a change of the pick that may do nothing"
            return Advice(own.configuration, why, (own, *outlooks))

        return Advice(
            None,
            (
                f"of {others}, the likeliest has {_percent(most)} chance to beat the pick by "
                f"{WORTH_GAIN:.0%}"
            ),
            outlooks,
        )

    if pick is None and most < HOPELESS:
        return _climb(results, wanted, (mean, spread), shares, chance, outlooks)

    best = outlooks[0]
    goal = "be acceptable" if pick is None else f"beat the pick by {WORTH_GAIN:.0%}"
    why = (
        f"expected to take {best.seconds.value:.3g} s, with {_percent(best.chance)} chance to "
        f"{goal}, the most promising "
        f"of {len(wanted)} combinations"
    )

    return Advice(best.configuration, why, outlooks)


def _plainer(
    results: Results, wanted: Sequence[Configuration], mean: np.ndarray, acceptable: np.ndarray
) -> int | None:
    """The place of the pick with changes taken back, where that is likely to be acceptable and
    expected to take no longer: a change that does nothing should not stay in a pick because nobody
    looked. All of those at once first, then one by one. None where each change earns its place."""
    pick = results.pick()
    if pick is None or pick.trial.seconds is None:
        return None

    own = pick.trial.configuration
    base = results.study.base
    places = {configuration.effective(): place for place, configuration in enumerate(wanted)}
    limit = math.log(pick.trial.seconds.value * (1 + WORTH_GAIN))

    def without(keys: Sequence[str]) -> int | None:
        place = places.get(own.replace({key: base[key] for key in keys}).effective())
        return (
            place
            if place is not None and mean[place] <= limit and acceptable[place] >= LIKELY
            else None
        )

    alone = {key: place for key in own.differences(base) if (place := without([key])) is not None}
    together = without(list(alone)) if len(alone) > 1 else None
    return together if together is not None else next(iter(alone.values()), None)


def _untried_together(
    results: Results,
    space: Mapping[str, Sequence[Value]],
    seen: Sequence[TrialResult],
    wanted: Sequence[Configuration],
    mean: np.ndarray,
    least: int = LEAST_NEW_PAIRS,
) -> int | None:
    """The place of what tries the most pairs of values for its time that were never together in a
    trial, among those that are expected to be faster than the pick: effects of settings add up, but
    for those that come in pairs, and nothing else finds these (Cohen et al. 1997, "The AETG
    system", IEEE TSE 23(7)). None where records of the renderer say what settings do, or each pair
    was tried."""
    pick = results.pick()
    if results.study.catalogue.capabilities.bounces or pick is None or pick.trial.seconds is None:
        return None

    def pairs(configuration: Configuration) -> set[tuple[tuple[str, Value], tuple[str, Value]]]:
        return set(combinations(((key, configuration[key]) for key in space), 2))

    known = set().union(*(pairs(trial.configuration) for trial in seen))
    limit = math.log(pick.trial.seconds.value * (1 - WORTH_GAIN))
    best = None
    most = 0.0

    for place in np.flatnonzero(mean < limit):
        new = len(pairs(wanted[int(place)]) - known)
        worth = new / math.exp(mean[place])

        if new >= least and worth > most:
            best = int(place)
            most = worth

    return best


def _climb(
    results: Results,
    wanted: Sequence[Configuration],
    seconds: Spread,
    shares: Mapping[str, Spread],
    chance: np.ndarray,
    outlooks: tuple[Outlook, ...],
) -> Advice:
    """Where nothing is likely to keep every limit: what is expected to come much closer than
    anything so far, from where values further out may do; or the end."""
    others = f"{len(wanted)} other combinations"
    closest = results.closest
    worst = (
        np.exp(np.max([m for m, _ in shares.values()], axis=0)) if shares else np.ones(len(wanted))
    )

    if closest is None or closest.share is None:
        return Advice(None, f"none of {others} is likely to keep every limit", outlooks)

    closer = np.flatnonzero(worst <= min(CLOSER * closest.share.value, TOO_FAR))
    if not len(closer):
        return Advice(None, f"none of {others} is likely to keep every limit", outlooks)

    # Of what comes closer, that with the most for its time: as much closer on the way to the limits
    # as it takes longer.
    changed = np.array([len(wanted[int(k)].differences(results.study.base)) for k in closer])
    effort = (
        np.log(np.maximum(worst[closer], 0.5))
        + 0.5 * seconds[0][closer]
        - changed * math.log(CHANGE_COSTS)
    )
    best = int(closer[np.argmin(effort)])
    told = _outlook(
        wanted[best],
        float(seconds[0][best]),
        float(seconds[1][best]),
        shares,
        best,
        float(chance[best]),
    )
    why = (
        f"none of {others} is likely to keep every limit; this one is expected to come closest, "
        f"{told.share.value:.2g} of the limits where {closest.share.value:.2g} was measured"
    )

    return Advice(told.configuration, why, (told, *outlooks))


def widened(
    results: Results, record: RunRecord | None = None, advised: Sequence[Mapping[str, Value]] = ()
) -> dict[str, tuple[Value, ...]]:
    """The values that a search combines: those of the plan, and beyond them, within a setting's
    bounds, what is worth it.

    What findings advise (`advised`, changes of the base). Where the pick has the cheapest value
    that was tried, cheaper ones. Where the base fails, what would just do: as many samples as
    `record`, of its typical run, says, and where light is missing, what the reference opens. Where
    a pick beyond the plan's own values was found, what lies between.
    """
    study = results.study
    space = dict(study.space())
    pick = results.pick()
    base = results.base
    fails = base is not None and base.verdict == NOT_ACCEPTABLE
    dark = _fails(results, LIGHT_SHIFT.key)

    def add(key: str, values: Iterable[Value]) -> None:
        known = space.get(key, (study.base[key],))
        allowed = (
            value for value in (*known, *values) if value not in study.forbidden.get(key, ())
        )
        space[key] = tuple(dict.fromkeys(allowed))

    for changes in advised:
        for key, value in changes.items():
            if study.catalogue[key].role != SAMPLES:
                add(key, [value])

    if fails and dark and pick is None:
        for key, value in study.reference_opens().items():
            opening = study.catalogue[key].reference
            if opening is not None and opening.is_choice:
                add(key, [value])

    for key, declared in study.catalogue.items():
        if not declared.more_takes_longer or declared.minimum is None or declared.maximum is None:
            continue
        if key not in space and not (fails and declared.role == SAMPLES):
            continue
        beyond = _beyond(results, declared, space.get(key, ()), record, fails, dark)
        if beyond:
            add(key, beyond)

    return {key: values for key, values in space.items() if len(values) > 1}


def _fails(results: Results, measure: str) -> bool:
    """Whether the base surely does not keep a limit of a measure, of the picture, its worst place
    or a watch area."""
    base = results.base
    return base is not None and any(
        key.startswith(measure) and share.low > 1 for key, share in base.shares.items()
    )


def _beyond(
    results: Results,
    declared: Setting,
    tried: Sequence[Value],
    record: RunRecord | None,
    fails: bool,
    dark: bool,
) -> list[Value]:
    """Values of a setting beyond those that are tried that are worth trying, within its bounds."""
    study = results.study
    pick = results.pick()
    measured = [trial.configuration[declared.key] for trial in results.trials if trial.is_on_map]
    own = [study.base[declared.key], *tried, *measured]
    numbers = sorted({float(value) for value in own if not isinstance(value, str)})
    wanted: list[float] = []

    if pick is not None:
        value = pick.trial.configuration[declared.key]
        if tried and not isinstance(value, str):
            wanted += [share * numbers[0] for share in CHEAPER if float(value) <= numbers[0]]
            wanted += _between(
                float(value), numbers, [float(v) for v in tried if not isinstance(v, str)]
            )
    elif fails and declared.role == SAMPLES:
        needed = _just_enough(results, record)
        if needed is not None:
            wanted = [factor * needed for factor in NEAR]
        elif _fails(results, DETAIL_KEPT.key):  # a denoiser smears less where it has more to go by
            wanted = [factor * numbers[-1] for factor in DEARER]
    elif fails and (dark or not study.catalogue.capabilities.bounces or declared.role != BOUNCES):
        wanted = [factor * numbers[-1] for factor in DEARER]

    assert declared.minimum is not None
    assert declared.maximum is not None
    whole = [round(number) if declared.kind == "whole" else number for number in wanted]

    return [
        declared.check(number) for number in whole if declared.minimum <= number <= declared.maximum
    ]


def _between(value: float, numbers: Sequence[float], tried: Sequence[float]) -> list[float]:
    """The value half-way, by factors, to the next smaller one that was measured, where the pick's
    lies above all that the plan tries: it was a guess, and less may do."""
    smaller = [number for number in numbers if number < value]
    if not smaller or value <= max(tried) or value / smaller[-1] < LEAST_STEP:
        return []

    return [math.sqrt(value * smaller[-1])]


def _just_enough(results: Results, record: RunRecord | None) -> float | None:
    """With how many samples the trial that comes closest would keep the limits that it does not
    keep, by the record of the base; None where no samples mend those, or nobody knows."""
    closest = results.closest
    if closest is None:
        return None

    needed = []
    for key, share in closest.shares.items():
        if share.high <= 1:
            continue

        measure = key.partition(AREA_MARK)[0].removesuffix(WORST_MARK)
        figure = closest.figures[key]
        if measure not in FALLS or figure is None:
            continue

        fall = fall_of(closest.configuration, record, measure)
        enough = samples_needed(closest.configuration, figure, MARGIN * results.wanted[key], fall)
        if enough is not None:
            needed.append(enough.value)

    return max(needed, default=None)


def candidates(
    base: Configuration,
    space: Mapping[str, Sequence[Value]],
    near: Sequence[Configuration],
    rng: np.random.Generator,
) -> list[Configuration]:
    """The combinations to look at: all, or of a large space those that differ in up to two settings
    from the base or from `near`, and others drawn at random. None twice, none that renders the same
    as another."""
    keys = list(space)
    if math.prod(len(values) for values in space.values()) <= MOST_CANDIDATES:
        changes: Iterable[Mapping[str, Value]] = (
            dict(zip(keys, chosen, strict=True)) for chosen in product(*space.values())
        )
        return _distinct(base.replace(change) for change in changes)

    nearby = [c for centre in (*near, base) for c in _neighbours(centre, space)][:MOST_CANDIDATES]
    while len(nearby) < MOST_CANDIDATES:
        nearby.append(
            base.replace(
                {key: values[int(rng.integers(len(values)))] for key, values in space.items()}
            )
        )

    return _distinct(nearby)


def _neighbours(
    centre: Configuration, space: Mapping[str, Sequence[Value]]
) -> Iterable[Configuration]:
    single = [
        {key: value} for key, values in space.items() for value in values if value != centre[key]
    ]
    yield centre

    for place, one in enumerate(single):
        yield centre.replace(one)
        for other in single[place + 1 :]:
            if one.keys() != other.keys():
                yield centre.replace({**one, **other})


def _distinct(found: Iterable[Configuration]) -> list[Configuration]:
    return list({c.effective(): c for c in found}.values())


def _predictions(
    results: Results,
    expectation: Expectation,
    axes: Axes,
    seen: Sequence[TrialResult],
    wanted: Sequence[Configuration],
) -> tuple[Spread, dict[str, Spread]]:
    """Of seconds, and of every limit share that the base has."""
    hoped = [expectation.of(c) for c in wanted]
    told = [expectation.of(t.configuration) for t in seen]

    def corrected(key: str, figures: Sequence[Figure | None]) -> Spread:
        rows = [k for k, figure in enumerate(figures) if figure is not None]
        off = np.array([_log(figures[k]) - told[k][key] for k in rows])
        noise = np.array([_noise(figures[k]) for k in rows])
        by_pairs = PAIRS if results.study.catalogue.capabilities.bounces else PAIRS_UNTOLD
        means, spreads = predict(
            axes, [seen[k].configuration for k in rows], off, noise, wanted, by_pairs
        )

        return means + np.array([expected[key] for expected in hoped]), spreads

    return (
        corrected(SECONDS, [t.seconds for t in seen]),
        {key: corrected(key, [t.shares.get(key) for t in seen]) for key in expectation.base.shares},
    )


def _room(key: str, results: Results, seen: Sequence[TrialResult]) -> float:
    """The limit share, in log, under which a trial's upper end usually lies inside once it has all
    the runs that it may get: what is just within its limit cannot be shown to be."""
    most = results.study.repeats + MOST_FOR_VERDICT
    limit = results.wanted[key]

    ends = [
        (
            share.value,
            upper_end(key, share, trial.pictures, max(most, trial.pictures), limit, results.study),
        )
        for trial in seen
        if trial.pictures > 1 and (share := trial.shares.get(key)) is not None
    ]
    if not ends:
        return 0.0

    if counts_pixels(key):  # of a count that is often nought, the upper end is no multiple
        beyond = float(np.median([end - value for value, end in ends]))
        return math.log(max(1 - beyond, LEAST_SHARE))

    ratios = [math.log(max(end, LEAST_SHARE) / max(value, LEAST_SHARE)) for value, end in ends]
    return -float(np.median(ratios))


def _log(figure: Figure | None) -> float:
    assert figure is not None
    return math.log(max(figure.value, LEAST_SHARE))


def _noise(figure: Figure | None) -> float:
    """The standard deviation of a measured figure, in log."""
    assert figure is not None
    low, high = max(figure.low, LEAST_SHARE), max(figure.high, LEAST_SHARE)
    return max(math.log(high / low) / (2 * REACH_95), LEAST_NOISE)


def _expected_gain(limit: float, mean: np.ndarray, spread: np.ndarray) -> np.ndarray:
    """The mean of max(limit - x, 0) for normal x: expected improvement (Jones et al. 1998, J. Glob.
    Optim. 13, eq. 15)."""
    z = (limit - mean) / spread
    density = np.exp(-0.5 * z**2) / math.sqrt(2 * math.pi)
    gain: np.ndarray = spread * (z * ndtr(z) + density)

    return gain


def _outlook(
    configuration: Configuration,
    mean: float,
    spread: float,
    shares: Mapping[str, Spread],
    place: int,
    chance: float,
) -> Outlook:
    worst = [_interval(float(m[place]), float(s[place])) for m, s in shares.values()] or [
        Figure(0.0, 0.0, 0.0)
    ]
    share = Figure(
        max(f.value for f in worst), max(f.low for f in worst), max(f.high for f in worst)
    )
    return Outlook(configuration, _interval(mean, spread), share, chance)


def _interval(mean: float, spread: float) -> Figure:
    return Figure(
        math.exp(mean), math.exp(mean - REACH_90 * spread), math.exp(mean + REACH_90 * spread)
    )


def _percent(chance: float) -> str:
    return f"{chance:.0%}" if chance >= 0.01 else "under 1%"

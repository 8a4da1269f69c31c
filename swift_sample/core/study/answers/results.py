"""What the study knows: each trial's time, errors and verdict (`acceptance`), the frontier, and the
pick (`pick`)."""

import statistics
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from swift_sample.core.measure.drift import DriftCorrection, TimedRun, correct_drift
from swift_sample.core.measure.kinds import BRIGHTNESS, LIGHT_SHIFT, Figure
from swift_sample.core.measure.timing import (
    NO_SPREAD,
    Spread,
    common_spread,
    factor,
    median_seconds,
)
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.settings.setting import KEEPS_SCENE, PREPARES, SAMPLES
from swift_sample.core.study.answers.acceptance import (
    COSTS,
    NOT_ACCEPTABLE,
    RANKS,
    UNDECIDED,
    UNMEASURED,
    Acceptance,
    Standing,
    forbidden_words,
    is_unknown,
    quantity,
    show_limit,
    surely_over,
    worst,
)
from swift_sample.core.study.answers.derived import derived_figures
from swift_sample.core.study.answers.pick import Pick, choose
from swift_sample.core.study.answers.trial import (
    LEAST_BRIGHTNESS_TOLD,
    TrialResult,
    _share,
    _time_then_share,
    costs_of,
)
from swift_sample.core.study.answers.verdict_runs import counts_pixels
from swift_sample.core.study.log.events import Derived, Run
from swift_sample.core.study.log.records import ReferenceState
from swift_sample.core.study.log.state import PlannedTrial, StudyState
from swift_sample.core.study.plan.model import AREA_MARK, NO_REMARK, Limits, Study

CLEANER_TIMES = 4
"""How many times a trial's samples the reference must have before it may judge which of the two is
wrong in a pixel: it then has half of the noise."""
MAX_REFERENCE_CHUNKS = 64
NO_SLOWER = 1.001
"""The least upper end of how many times faster something is that cannot be slower."""


class _ById(Mapping[str, "TrialResult"]):
    """Trials by name, by way of their places, which results share whose line alone differs."""

    def __init__(self, results: "Results") -> None:
        self._results = results

    def __getitem__(self, name: str) -> "TrialResult":
        return self._results.trials[self._results.places[name]]

    def __iter__(self) -> Iterator[str]:
        return iter(self._results.places)

    def __len__(self) -> int:
        return len(self._results.trials)


@dataclass(frozen=True, kw_only=True)
class Results:
    """Everything derived from a plan and its runs, at one moment."""

    study: Study
    trials: tuple[TrialResult, ...]
    line: float = 1.0
    """limit share up to which a trial is accepted; dragging it asks what if"""
    correction: DriftCorrection = field(default_factory=DriftCorrection)
    acceptance: Acceptance = field(default_factory=lambda: Acceptance({}, Limits()))
    sought: frozenset[str] = frozenset()
    """trials that only a search asks for"""

    @property
    def limits(self) -> Limits:
        """Of the picture as they count: the study's, or what is no worse than the base."""
        return self.acceptance.picture

    @property
    def wanted(self) -> Mapping[str, float]:
        """Every limit as it counts, by measure, those of watch areas as measure, mark and name."""
        return self.acceptance.wanted

    @property
    def base(self) -> TrialResult | None:
        return next((trial for trial in self.trials if trial.is_base), None)

    @property
    def origin(self) -> "Results":
        """The results without a dragged line: the same object as long as nothing but the line
        moves."""
        origin = self.__dict__.get("_origin", self)
        assert isinstance(origin, Results)
        return origin

    @cached_property
    def by_id(self) -> Mapping[str, TrialResult]:
        return _ById(self)

    @cached_property
    def alone(self) -> Mapping[str, Mapping[Value, str]]:
        """Trials that differ from the base in exactly one setting, by that and its value."""
        by_setting: dict[str, dict[Value, str]] = {}
        base = self.study.base

        for trial in self.trials:
            changes = trial.configuration.differences(base)
            if len(changes) == 1:
                ((key, value),) = changes.items()
                by_setting.setdefault(key, {})[value] = trial.id

        return by_setting

    @cached_property
    def by_effect(self) -> Mapping[Configuration, TrialResult]:
        """Trials by what of their configuration has an effect."""
        return {trial.configuration.effective(): trial for trial in self.trials}

    def with_value(self, key: str, value: Value) -> frozenset[str]:
        """The trials that have a value of a setting."""
        known = self.origin.__dict__.setdefault("_by_value", {})
        if key not in known:
            by_value: dict[Value, set[str]] = {}
            for trial in self.trials:
                by_value.setdefault(trial.configuration[key], set()).add(trial.id)
            known[key] = {one: frozenset(names) for one, names in by_value.items()}

        return known[key].get(value, frozenset())

    @cached_property
    def places(self) -> Mapping[str, int]:
        """Where each trial stands among `trials`."""
        return {trial.id: place for place, trial in enumerate(self.trials)}

    @cached_property
    def ranks(self) -> np.ndarray:
        """Every trial's verdict as its place in `RANKS`, int8[n]."""
        return np.array([RANKS.index(trial.verdict) for trial in self.trials], np.int8)

    @cached_property
    def closest(self) -> TrialResult | None:
        """The trial with the smallest limit share, of those of which everything limited is
        known."""
        return min((t for t in self.trials if t.is_whole), key=_share, default=None)

    @cached_property
    def on_map(self) -> np.ndarray:
        """Places of the trials that have time and limit share, intp[n]."""
        return np.array(
            [place for place, trial in enumerate(self.trials) if trial.is_on_map], np.intp
        )

    @cached_property
    def _shares(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Of every trial the line below which it is rejected, the limit share's high end, and the
        best verdict that it could have (by `RANKS`)."""
        lows = np.array([t.standing.surely for t in self.trials])
        highs = np.array([t.share.high if t.share is not None else 0.0 for t in self.trials])
        best = np.array([RANKS.index(t.standing.verdict(np.inf)) for t in self.trials], np.int8)

        return lows, highs, best

    @cached_property
    def spread(self) -> Spread:
        """The scatter of times that all trials have in common."""
        return _spread(self.study, [t.times for t in self.trials])

    def frontier(self) -> list[TrialResult]:
        """The trials that no other one beats in both time and limit share, fastest first."""
        return [self.trials[place] for place in self.origin._frontier]

    @cached_property
    def _frontier(self) -> tuple[int, ...]:
        """Places of the frontier's trials; a line that is dragged does not move it."""
        best: list[int] = []
        whole = (
            place
            for place, trial in enumerate(self.trials)
            if trial.is_whole and not trial.remark.left_out
        )

        for place in sorted(whole, key=lambda place: _time_then_share(self.trials[place])):
            if not best or _share(self.trials[place]) < _share(self.trials[best[-1]]):
                best.append(place)

        return tuple(best)

    def pick(self) -> Pick | None:
        """The fastest acceptable trial, or None yet."""
        return self._pick

    @cached_property
    def _pick(self) -> Pick | None:
        return choose(self)

    def with_line(self, line: float) -> "Results":
        """The same results, accepting limit shares up to `line`."""
        origin = self.origin
        lows, highs, best = origin._shares

        ranks = np.where(
            best == RANKS.index(UNMEASURED),
            best,
            np.where(
                lows > line,
                RANKS.index(NOT_ACCEPTABLE),
                np.where(highs > line, np.maximum(best, RANKS.index(UNDECIDED)), best),
            ),
        )
        trials = list(origin.trials)
        for place in np.flatnonzero(ranks != origin.ranks).tolist():
            trials[place] = _judged(trials[place], RANKS[ranks[place]])

        made = replace(origin, trials=tuple(trials), line=line)
        made.__dict__.update(
            _origin=origin,
            spread=origin.spread,
            alone=origin.alone,
            ranks=ranks,
            on_map=origin.on_map,
            places=origin.places,
        )
        return made


def results_of(state: StudyState) -> Results:
    """Times, figures and verdicts of a state; worked out once for each state."""
    results = state.__dict__.get("_results")
    if results is None:
        results = state.__dict__["_results"] = collect(state)

    assert isinstance(results, Results)
    return results


def collect(state: StudyState) -> Results:
    """Put together what a state knows of the place that is looked at, with times of this machine.

    Trials come as they are planned, the base first. Trials of one appearance share pictures,
    figures and verdict.
    """
    study = state.plan
    records = state.results
    machine = state.machine
    runs = {trial.id: records.runs_on(trial.id, machine) for trial in state.planned}
    correction = drift_of(runs, study.goal)
    preparing = _preparing_seconds(state, runs)
    opening = _opening_seconds(state, runs, preparing)
    shared = {name: seconds / study.renders_per_opening for name, seconds in opening.items()}
    times = {
        name: counted_seconds(own, study.goal, correction, shared[name])
        for name, own in runs.items()
    }
    spread = _spread(study, times.values())
    base_times = times[state.base.id]
    known = _Figures(state)
    acceptance = Acceptance.of(study, known.of(state.base.appearance))

    trials = tuple(
        _result(
            state,
            trial,
            runs[trial.id],
            times[trial.id],
            base_times,
            spread,
            correction,
            known,
            acceptance,
            opening[trial.id],
            preparing.get(trial.id, 0.0),
        )
        for trial in state.planned
    )
    made = Results(
        study=study,
        trials=trials,
        line=1.0,
        correction=correction,
        acceptance=acceptance,
        sought=frozenset(trial.id for trial in state.planned if trial.sought),
    )
    made.__dict__["spread"] = spread

    return made


def collect_earlier(
    state: StudyState, results: Results, configurations: Mapping[str, Configuration]
) -> tuple[TrialResult, ...]:
    """Trials that are not planned any more, such as those of another base, as far as they can stand
    beside those that are: timed on this machine, and with figures against the present reference.

    `results` are those of the state; `configurations` are the trials' own, by name.
    """
    study = state.plan
    known = _Figures(state)
    base_times = next((trial.times for trial in results.trials if trial.is_base), ())
    planned = {trial.id for trial in state.planned}
    found = []

    for name, configuration in configurations.items():
        runs = state.results.runs_on(name, state.machine) if name not in planned else ()
        if not runs:
            continue

        prepares = _only_prepares(configuration)
        ready = ready_seconds(runs)
        opening, preparing = (0.0, ready) if prepares else (ready, 0.0)
        times = counted_seconds(
            runs, study.goal, results.correction, opening / study.renders_per_opening
        )

        trial = _result(
            state,
            replace(state.trial_of(configuration), id=name),
            runs,
            times,
            base_times,
            results.spread,
            results.correction,
            known,
            results.acceptance,
            opening,
            preparing,
        )
        if trial.is_on_map:
            found.append(trial)

    return tuple(found)


class _Figures:
    """Figures of appearances as they are wanted, worked out once for trials that share them."""

    def __init__(self, state: StudyState) -> None:
        self._state = state
        self._known: dict[str, dict[str, Figure | None]] = {}

    def reference_samples(self, appearance: str) -> int:
        """Samples of the reference that the whole picture was measured against; 0 where it was
        not."""
        known = self._state.results.measurements.get(self._state.measurement_key(appearance, None))
        return known.reference_samples if known is not None else 0

    def runs(self, appearance: str) -> int:
        """How many pictures the figures are of: rendered ones, or derived."""
        pictures = len(self._state.independent_pictures(appearance))
        derived = self._state.derived_of(appearance)
        return max(pictures, len(derived.chunks) if derived is not None else 0)

    def _is_surer(self, derived: Derived) -> bool:
        """Whether derived figures are of no fewer pictures than rendered ones, and complete."""
        pictures = self._state.independent_pictures(derived.appearance)
        return bool(derived.areas) and len(derived.chunks) >= len(pictures)

    def are_derived(self, appearance: str) -> bool:
        """Whether the figures are of derived pictures."""
        derived = self._state.derived_of(appearance)
        return derived is not None and self._is_surer(derived)

    def of(self, appearance: str) -> dict[str, Figure | None]:
        """By measure, those of watch areas as measure, mark and name."""
        found = self._known.get(appearance)
        if found is None:
            derived = self._state.derived_of(appearance)
            if derived is not None and self._is_surer(derived):
                found = derived_figures(self._state, derived)
                self._known[appearance] = found
                return found

            found = {}
            for area in self._state.areas_measured:
                tail = "" if area is None else f"{AREA_MARK}{area.name}"
                for kind, figure in (self._state.figures(appearance, area) or {}).items():
                    found[kind + tail] = figure

            self._known[appearance] = found

        return found


def _result(
    state: StudyState,
    trial: PlannedTrial,
    runs: tuple[Run, ...],
    times: tuple[float, ...],
    base_times: tuple[float, ...],
    spread: Spread,
    correction: DriftCorrection,
    known: _Figures,
    acceptance: Acceptance,
    opening: float,
    preparing: float,
) -> TrialResult:
    records = state.results
    image = known.of(trial.appearance) if runs else {}
    figures: Mapping[str, Figure | None] = image
    wanted = acceptance.wanted

    if image and not COSTS.keys().isdisjoint(wanted):
        figures = {**image, **costs_of(runs, correction, opening / state.plan.renders_per_opening)}

    shares = acceptance.shares(figures)
    doubted = _doubted(state, trial, runs, shares, known.reference_samples(trial.appearance))
    if doubted:
        shares = {
            key: replace(share, low=0.0) if key in doubted else share
            for key, share in shares.items()
        }

    unmeasured = frozenset(key for key in wanted if key not in figures)
    failed = records.failures(trial.id, state.machine, also_forgiven=True)
    failure = (
        failed[0].reason
        if failed and (not times or records.is_given_up(trial.id, state.machine))
        else ""
    )
    pictures = known.runs(trial.appearance)
    left_out = (
        frozenset(run.number for run in runs if run.number in correction.left_out)
        if correction.left_out
        else _NONE
    )
    remark = state.plan.remarks.get(trial.id, NO_REMARK)
    forbidden = forbidden_words(trial.configuration, state.plan, remark)
    unknown = is_unknown(figures, wanted)
    share = worst(list(shares.values()))
    can = state.plan.catalogue.capabilities
    surely = surely_over(shares, pictures, can.starts and can.seeds)
    standing = Standing(share, surely, bool(forbidden), bool(unmeasured), unknown)

    return TrialResult(
        id=trial.id,
        configuration=trial.configuration,
        is_base=trial.id == state.base.id,
        runs=runs,
        seconds=median_seconds(times, spread) if times else None,
        times_faster=_times_faster(state, trial, base_times, times, spread),
        figures=figures,
        shares=shares,
        share=share,
        verdict=standing.verdict(1.0),
        failure=failure or None,
        times=times,
        left_out=left_out,
        correction=correction,
        forbidden=forbidden,
        unmeasured=unmeasured,
        pictures=pictures,
        derived=bool(runs) and known.are_derived(trial.appearance),
        standing=standing,
        missing=_missing(state, runs, image, unmeasured),
        opening_seconds=opening if runs else 0.0,
        preparing_seconds=preparing if runs else 0.0,
        opening_share=opening / state.plan.renders_per_opening if runs else 0.0,
        remark=remark,
        failed=tuple(run.reason for run in records.own_failures(trial.id, state.machine)),
        doubted=doubted,
    )


def _times_faster(
    state: StudyState,
    trial: PlannedTrial,
    base_times: Sequence[float],
    times: Sequence[float],
    spread: Spread,
) -> Figure | None:
    """How many times faster than the base a trial is. That it is slower, where all it changes is to
    do less of what takes time, is chance or another program: the interval then reaches as far as to
    be no difference."""
    if not times or not base_times:
        return None

    faster = factor(base_times, times, spread)
    if faster.high < 1 and does_less(trial.configuration, state.plan.base):
        return replace(faster, high=NO_SLOWER)

    return faster


def does_less(configuration: Configuration, base: Configuration) -> bool:
    """Whether all that a configuration changes of the base is less of something that takes longer
    the more of it there is."""
    catalogue = configuration.catalogue
    changes = configuration.differences(base)

    return bool(changes) and all(
        catalogue[key].more_takes_longer
        and not isinstance(value, str)
        and float(value) < float(base[key])
        for key, value in changes.items()
    )


def _doubted(
    state: StudyState,
    trial: PlannedTrial,
    runs: Sequence[Run],
    shares: Mapping[str, Figure],
    reference_samples: int,
) -> frozenset[str]:
    """Limits on stray pixels that a trial seems not to keep, where it is not the reference that is
    right for sure: a pixel in which that is wrong is off in all renders, the more surely the
    cleaner they are."""
    known = state.reference
    if known is None or not reference_samples or not can_grow(state, known):
        return _NO_LIMITS
    if reference_samples >= CLEANER_TIMES * samples_of(trial.configuration, runs):
        return _NO_LIMITS

    return frozenset(
        key
        for key, share in shares.items()
        if counts_pixels(key) and share.high > 1 and share.value > 0
    )


def can_grow(state: StudyState, reference: ReferenceState) -> bool:
    """Whether there can be more of the reference."""
    return (
        state.plan.catalogue.capabilities.extends_reference
        and reference.chunks < MAX_REFERENCE_CHUNKS
    )


def samples_of(configuration: Configuration, runs: Sequence[Run]) -> float:
    """Samples a pixel that renders took, as far as they tell, else the most that they may take."""
    taken = [
        run.result.samples_mean
        for run in runs
        if run.result is not None and run.result.samples_mean
    ]
    return statistics.median(taken) if taken else float(configuration.number_in_role(SAMPLES) or 0)


_NO_LIMITS: frozenset[str] = frozenset()
_NONE: frozenset[int] = frozenset()


def _judged(trial: TrialResult, verdict: str) -> TrialResult:
    """The same trial with another verdict, and what was worked out of its runs."""
    made = replace(trial, verdict=verdict)
    if "phases" in trial.__dict__:
        made.__dict__["phases"] = trial.__dict__["phases"]

    return made


def _missing(
    state: StudyState,
    runs: Sequence[Run],
    image: Mapping[str, Figure | None],
    unmeasured: frozenset[str],
) -> str:
    if not runs:
        return "not rendered yet"
    if not image:
        return "its pictures are not measured yet"

    return (
        f"{', '.join(sorted(quantity(key).label for key in unmeasured))} not measured yet"
        if unmeasured
        else ""
    )


def drift_of(by_trial: Mapping[str, Sequence[Run]], goal: str) -> DriftCorrection:
    """Corrections for drift, and the runs to leave out."""
    return correct_drift(
        TimedRun(run.number, place, goal_seconds(run, goal), run.host)
        for place, own in enumerate(by_trial.values())
        for run in own
    )


def _only_prepares(configuration: Configuration) -> bool:
    """Whether what a configuration's caches do before the clock starts stays on disk, and nothing
    of it in memory."""
    return configuration.is_on(PREPARES) and not configuration.is_on(KEEPS_SCENE)


def _preparing_seconds(state: StudyState, runs: Mapping[str, Sequence[Run]]) -> dict[str, float]:
    """What trials make once for good. It was made before one of them, and found there by the
    others, so that it is what the one took that had to."""
    ready = {
        trial.id: ready_seconds(runs[trial.id])
        for trial in state.planned
        if _only_prepares(trial.configuration)
    }
    made = [seconds for seconds in ready.values() if seconds > 0]
    usual = statistics.median(made) if made else 0.0

    return {name: seconds or usual for name, seconds in ready.items()}


def _opening_seconds(
    state: StudyState, runs: Mapping[str, Sequence[Run]], preparing: Mapping[str, float]
) -> dict[str, float]:
    """What each trial's caches in memory take once, when the scene is opened. A kept scene that an
    earlier trial had made ready already takes what it took others; where none was seen to, what
    reading and building take the base."""
    own = {name: 0.0 if name in preparing else ready_seconds(those) for name, those in runs.items()}
    kept = {trial.id for trial in state.planned if trial.configuration.is_on(KEEPS_SCENE)}
    if not kept:
        return own

    seen = [seconds for name, seconds in own.items() if name in kept and seconds > 0]
    if seen:
        usual = statistics.median(seen)
    else:
        prepared = [
            sum(run.result.seconds.get(phase, 0.0) for phase in ("load", "textures", "build"))
            for run in runs[state.base.id]
            if run.result is not None
        ]
        usual = statistics.median(prepared) if prepared else 0.0

    return {name: seconds or (usual if name in kept else 0.0) for name, seconds in own.items()}


def ready_seconds(runs: Sequence[Run]) -> float:
    """What a trial's caches had to do before the first run's clock started; 0 for a trial without
    caches."""
    ready = [
        run.result.ready_seconds
        for run in runs
        if run.result is not None and run.result.ready_seconds > 0
    ]
    return statistics.median(ready) if ready else 0.0


def counted_seconds(
    runs: Sequence[Run], goal: str, correction: DriftCorrection, shared: float = 0.0
) -> tuple[float, ...]:
    """The times that count: corrected for drift, without the runs that are left out; `shared` is
    each render's part of what opening the scene takes once."""
    return tuple(
        goal_seconds(run, goal) / correction.factor(run.number) + shared
        for run in runs
        if run.number not in correction.left_out
    )


def _spread(study: Study, times: Iterable[Sequence[float]]) -> Spread:
    """The scatter of times that all trials have in common; of renders that were finished before,
    what repeats tell alone."""
    told = list(times)
    if not study.catalogue.capabilities.starts and all(len(seconds) < 2 for seconds in told):
        return NO_SPREAD

    return common_spread(told)


def goal_seconds(run: Run, goal: str) -> float:
    """The time of a run that counts for a goal."""
    assert run.result is not None
    return max(run.result.seconds["total" if goal == "final" else "first_picture"], 1e-6)


def show_error(key: str, trial: TrialResult, results: Results, short: bool = False) -> str:
    """A trial's figure beside its limit; light shift also says which way."""
    figure = trial.figures[key]
    limit = results.wanted.get(key)
    if figure is None:
        return "not known"

    text = (
        f"{figure.value:.1f} {quantity(key).unit}"
        if limit is None
        else show_limit(key, figure, limit, short)
    )
    measure, mark, area = key.partition(AREA_MARK)
    change = (
        trial.figures.get(f"{BRIGHTNESS.key}{mark}{area}") if measure == LIGHT_SHIFT.key else None
    )

    if (
        change is None
        or change.low <= 0 <= change.high
        or abs(change.value) < LEAST_BRIGHTNESS_TOLD
    ):
        return text

    which = "brighter" if change.value > 0 else "darker"
    return f"{text}, {abs(change.value):.1f} {which}" + ("" if short else " on average")

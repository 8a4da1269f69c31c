"""What the study knows: each trial's time, errors and verdict, the frontier, and the pick with its reasons.

A trial is acceptable when the upper end of every interval is inside its limit, not acceptable when any lower end is
outside, undecided in between.
"""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from swift_sample.core.measure.figures import MEASURES, Figure
from swift_sample.core.measure.timing import Spread, common_spread, factor, is_difference, median_seconds
from swift_sample.core.settings import Configuration
from swift_sample.core.study.model import Limits, Study
from swift_sample.core.study.store import StoredMeasures, StoredRun

ACCEPTABLE, NOT_ACCEPTABLE, UNDECIDED, UNMEASURED = "acceptable", "not acceptable", "undecided", "unmeasured"


@dataclass(frozen=True)
class TrialResult:
    """One trial as far as it is measured. `share` is the limit share: the worst over all limits, 1.0 is the line."""

    number: int
    configuration: Configuration
    is_base: bool
    runs: tuple[StoredRun, ...]
    seconds: Figure | None
    times_faster: Figure | None
    figures: Mapping[str, Figure | None]
    shares: Mapping[str, Figure]
    share: Figure | None
    verdict: str
    failure: str | None

    @property
    def is_on_map(self) -> bool:
        return self.seconds is not None and self.share is not None

    def worst_limit(self) -> str:
        """The measure that comes closest to its limit, or is furthest over it."""
        return max(self.shares, key=lambda key: self.shares[key].value)


@dataclass(frozen=True)
class Pick:
    """The fastest acceptable trial, those that tie with it, and why the next faster one fails."""

    trial: TrialResult
    ties: tuple[TrialResult, ...]
    next_faster: TrialResult | None
    reason: str


@dataclass(frozen=True)
class Results:
    """Everything derived from a plan and its runs, at one moment."""

    study: Study
    trials: tuple[TrialResult, ...]
    line: float = 1.0
    """limit share up to which a trial is accepted; dragging it asks what if"""

    @property
    def base(self) -> TrialResult | None:
        return next((trial for trial in self.trials if trial.is_base), None)

    def frontier(self) -> list[TrialResult]:
        """The trials that no other one beats in both time and limit share, fastest first."""
        best: list[TrialResult] = []
        for trial in sorted((t for t in self.trials if t.is_on_map), key=_time_then_share):
            if not best or _share(trial) < _share(best[-1]):
                best.append(trial)
        return best

    def pick(self) -> Pick | None:
        """The fastest acceptable trial, or None yet."""
        acceptable = sorted((t for t in self.trials if t.verdict == ACCEPTABLE), key=_time_then_share)
        if not acceptable:
            return None
        spread = spread_of([t.runs for t in self.trials], self.study.goal)
        own = run_seconds(acceptable[0].runs, self.study.goal)
        ties = tuple(t for t in acceptable[1:]
                     if not is_difference(factor(run_seconds(t.runs, self.study.goal), own, spread)))
        faster = [t for t in self.trials if t.is_on_map and _time(t) < _time(acceptable[0])]
        nearest = max(faster, key=_time, default=None)
        return Pick(acceptable[0], ties, nearest, _why_not(nearest) if nearest else "no faster one was measured")

    def with_line(self, line: float) -> "Results":
        """The same results, accepting limit shares up to `line`."""
        trials = tuple(
            TrialResult(t.number, t.configuration, t.is_base, t.runs, t.seconds, t.times_faster, t.figures, t.shares,
                        t.share, verdict_of(t.share, line, self.study.limits, t.shares), t.failure) for t in self.trials)
        return Results(self.study, trials, line)


def collect(study: Study, configurations: Mapping[int, Configuration], runs: Sequence[StoredRun],
            measures: Mapping[int, StoredMeasures], scene_key: str, machine: str) -> Results:
    """Put the stored pieces together. Only runs of this scene version and machine count.

    configurations: every trial by number. Trials come in the order of their numbers.
    """
    by_trial: dict[int, list[StoredRun]] = defaultdict(list)
    failures: dict[int, str] = {}
    for run in runs:
        if run.scene_key == scene_key and run.machine == machine:
            if run.result is not None:
                by_trial[run.trial].append(run)
                failures.pop(run.trial, None)
            elif run.reason:
                failures[run.trial] = run.reason
    spread = spread_of(list(by_trial.values()), study.goal)
    base_number = next((n for n, c in configurations.items() if c == study.base), None)
    base_seconds = run_seconds(by_trial.get(base_number, []), study.goal) if base_number is not None else []
    found = []
    for number, configuration in configurations.items():
        own, seconds = by_trial.get(number, []), run_seconds(by_trial.get(number, []), study.goal)
        figures: dict[str, Figure | None] = {}
        if own and number in measures:
            figures = {k: Figure(*v) if v else None for k, v in measures[number].figures.items()}
        shares = limit_shares(figures, study.limits) if figures else {}
        share = worst(list(shares.values()))
        found.append(TrialResult(
            number, configuration, number == base_number, tuple(own),
            median_seconds(seconds, spread) if seconds else None,
            factor(base_seconds, seconds, spread) if seconds and base_seconds else None,
            figures, shares, share, verdict_of(share, 1.0, study.limits, shares), failures.get(number)))
    return Results(study, tuple(found))


def goal_seconds(run: StoredRun, goal: str) -> float:
    """The time of a run that counts for a goal."""
    assert run.result is not None
    return max(run.result.seconds["total" if goal == "final" else "first_picture"], 1e-6)


def run_seconds(runs: Sequence[StoredRun], goal: str) -> list[float]:
    return [goal_seconds(run, goal) for run in runs]


def spread_of(runs: Sequence[Sequence[StoredRun]], goal: str) -> Spread:
    return common_spread([run_seconds(own, goal) for own in runs])


def limit_shares(figures: Mapping[str, Figure | None], limits: Limits) -> dict[str, Figure]:
    """Measured error over its limit, with the interval. For percentages kept, what is lost over what may be lost."""
    shares = {}
    for key, limit in limits.items():
        figure = figures.get(key)
        if figure is None:
            continue
        if MEASURES[key].higher_is_better:
            lost = [max(0.0, 100 - v) / (100 - limit) for v in (figure.value, figure.high, figure.low)]
            shares[key] = Figure(*lost)
        else:
            shares[key] = Figure(figure.value / limit, figure.low / limit, figure.high / limit)
    return shares


def worst(shares: Sequence[Figure]) -> Figure | None:
    """The limit share: the largest value, and the largest of each end."""
    if not shares:
        return None
    return Figure(max(s.value for s in shares), max(s.low for s in shares), max(s.high for s in shares))


def verdict_of(share: Figure | None, line: float, limits: Limits, shares: Mapping[str, Figure]) -> str:
    """The verdict under an acceptance line. A limit whose figure is not known yet leaves a trial undecided at best."""
    if share is None:
        return UNMEASURED
    if share.low > line:
        return NOT_ACCEPTABLE
    known = all(key in shares for key, _ in limits.items())
    return ACCEPTABLE if share.high <= line and known else UNDECIDED


def show_limit(key: str, figure: Figure, limits: Limits, short: bool = False) -> str:
    """A figure beside its limit, as a person would write it: "1.8 of 2.0 levels"; without the unit where short."""
    limit, unit = dict(limits.items())[key], "" if short else f" {MEASURES[key].unit}"
    if key == "detail_kept":
        return f"{figure.value:.1f} %" + ("" if short else f", at least {limit:g}")
    if key == "stray_pixels":
        return f"{figure.value:.0f} of {limit:.0f}{unit}"
    return f"{figure.value:.1f} of {limit:.1f}{unit}"


def _why_not(trial: TrialResult) -> str:
    worst_key = trial.worst_limit()
    figure = trial.figures[worst_key]
    assert figure is not None
    words = {NOT_ACCEPTABLE: "is over its limit", UNDECIDED: "is too close to its limit to say; more runs would tell"}
    value = f"{figure.value:.0f}" if figure.value >= 100 else f"{figure.value:.3g}"
    return f"{MEASURES[worst_key].label} {value} {words.get(trial.verdict, 'is not measured yet')}"


def _time(trial: TrialResult) -> float:
    assert trial.seconds is not None
    return trial.seconds.value


def _share(trial: TrialResult) -> float:
    assert trial.share is not None
    return trial.share.value


def _time_then_share(trial: TrialResult) -> tuple[float, float]:
    return _time(trial), _share(trial)

"""The guided search against random search and a general-purpose optimiser, on a grid that was measured whole.

The grid of the demo scene (96 configurations and the base, three runs each) is measured once into build/grid.study, which
takes about half an hour. Searches then replay it: a run they ask for takes the measured median time with the measured
scatter, and shows what was measured, with its own uncertainty. All three judge trials with the same rules, and the other two
may spend what the guided search spent, seed by seed.
"""

import math
import statistics
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from swift_sample.commands.measuring import measure_study
from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.measure.timing import common_spread
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.study.costs import typical_run
from swift_sample.core.study.events import Event, Happened, Measured, Measurement, Run, RunFinished, TrialChosen
from swift_sample.core.study.expectation import Denoised, Denoising, Expectation
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.model import Study, Sweep
from swift_sample.core.study.policies.runs_wanted import wanted_runs
from swift_sample.core.study.results import Results, TrialResult, collect
from swift_sample.core.study.search import advise, candidates
from swift_sample.core.study.snapshot import Snapshot
from swift_sample.core.study.state import StudyState, apply
from swift_sample.core.study.store import create_study, is_study, look_at_study
from swift_sample.core.study.surroundings import read_snapshot
from swift_sample.core.worker.messages import Failed, MeasureJob
from swift_sample.core.worker.messages import Measured as MeasuredReply
from swift_sample.core.worker.process import Worker

GRID = Path("build/grid.study")
SEEDS = 20
WITHIN = 1.05
"""A pick counts as found within 5 % of the fastest acceptable time."""
DEVIATIONS_95 = 1.96


def grid_study() -> Study:
    """The demo's scene, base and limits, with every combination of four settings."""
    grid = Sweep(
        "grid",
        {
            "samples.max": (12, 16, 24, 32),
            "bounces.total": (2, 4, 6, 8),
            "denoise.method": ("none", "wavelet", "patches"),
            "scene.keep_built": (False, True),
        },
    )
    return replace(demo_study(), name="Honey stall, whole grid", sweeps=(grid,))


@dataclass
class Replay:
    """A whole measured grid, revealed run by run. `spent` are seconds of rendering."""

    whole: Results
    trials: dict[Configuration, TrialResult]
    spread: float
    rng: np.random.Generator
    state: StudyState
    spent: float = 0.0

    @property
    def chosen(self) -> tuple[Configuration, ...]:
        return self.state.results.chosen

    def happen(self, event: Event) -> None:
        self.state = apply(self.state, Happened(self.state.version + 1, "", event))

    def render(self, configuration: Configuration) -> None:
        """Reveal one more run of a configuration, and its figures."""
        trial, planned, place = self.trials[configuration], self.state.trial_of(configuration), self.state.here
        assert trial.seconds is not None
        assert place is not None
        run = typical_run(trial)
        assert run is not None
        assert run.result is not None
        had = len(self.state.results.trials.get(planned.id, ()))
        seconds = trial.seconds.value * math.exp(self.spread * self.rng.normal())
        share = seconds / run.result.seconds["total"]
        result = replace(run.result, seconds={k: v * share for k, v in run.result.seconds.items()})
        picture = f"{planned.id}-{had}.exr"
        made = Run(
            self.state.version + 1,
            "",
            place,
            planned.id,
            planned.appearance,
            self.state.machine,
            had,
            had,
            False,
            picture,
            result,
        )
        self.happen(RunFinished(made, configuration))
        self.spent += seconds
        grainless = had == 0 and configuration["denoise.method"] != "none"
        figures = {
            key: None if figure is None or (grainless and key == "grain") else self._seen(figure)
            for key, figure in trial.figures.items()
            if key in KINDS
        }
        self.happen(
            Measured(
                (
                    Measurement(
                        place,
                        self.state.measurement_key(planned.appearance, None),
                        (picture,),
                        0,
                        figures,
                        {key: kind.version for key, kind in KINDS.items()},
                    ),
                )
            )
        )

    def _seen(self, figure: Figure) -> Figure:
        off = (figure.high - figure.low) / (2 * DEVIATIONS_95) * self.rng.normal()
        return Figure(figure.value + off, figure.low + off, figure.high + off)

    def results(self) -> Results:
        return replace(collect(self.state), study=self.whole.study)

    def try_out(self, configuration: Configuration) -> TrialResult:
        """Render a new trial as often as the study's rules for a search want, and judge it."""
        assert self.state.here is not None
        self.happen(TrialChosen(self.state.here, configuration.identity_values(), "tried out"))
        self.render(configuration)
        name = self.state.trial_of(configuration).id
        while True:
            results = self.results()
            wanted = wanted_runs(results, exploring=True).get(name)
            if wanted is None or wanted.count <= len(self.state.results.trials[name]):
                return results.by_id[name]
            self.render(configuration)

    def settle(self) -> None:
        """Give every trial that may be the pick all its runs."""
        for _ in range(100):
            results = self.results()
            wanted = wanted_runs(results)
            short = [
                t.configuration
                for t in results.trials
                if t.id in results.sought and len(t.runs) < (wanted[t.id].count if t.id in wanted else results.study.repeats)
            ]
            if not short:
                return
            self.render(short[0])

    def score(self) -> float:
        """The measured time of what was picked over that of the grid's pick; that of the base where nothing was found, or
        what was picked is over a limit. Below 1 where a search dares to pick what the grid's own runs left undecided."""
        found = self.results().pick()
        picked = self.trials[found.trial.configuration if found is not None else self.whole.study.base]
        if not within(picked):
            picked = self.trials[self.whole.study.base]
        best = self.whole.pick()
        assert best is not None
        return seconds_of(picked) / seconds_of(best.trial)


def within(trial: TrialResult) -> bool:
    """Whether what was measured of a trial is within every limit, its intervals aside."""
    return trial.share is not None and trial.share.value <= 1


def seconds_of(trial: TrialResult) -> float:
    assert trial.seconds is not None
    return trial.seconds.value


def guided(replay: Replay, denoised: dict[Denoising, Denoised], budget: float, record: RunRecord) -> None:
    """The search of the application. The base's 12 bounces were not measured with other values: those are closed."""
    base, space = replay.whole.study.base, replay.whole.study.space()
    closed = [c for c in candidates(base, space, [], replay.rng) if c not in replay.trials]
    while replay.spent < budget:
        results = replay.results()
        assert results.base is not None
        advice = advise(results, Expectation(results.base, record, results.study.goal, denoised), closed)
        if advice.configuration is None:
            before = replay.spent
            replay.settle()
            if replay.spent == before:
                return
        else:
            replay.try_out(advice.configuration)


def at_random(replay: Replay, budget: float) -> None:
    """Any combination that was not tried yet."""
    order = replay.rng.permutation(len(replay.trials))
    for place in order:
        if replay.spent >= budget:
            break
        configuration = list(replay.trials)[place]
        if configuration != replay.whole.study.base:
            replay.try_out(configuration)
    replay.settle()


def optimised(replay: Replay, budget: float) -> None:
    """Optuna's default sampler, told the time, and the worst limit share as its constraint."""
    import optuna

    optuna.logging.set_verbosity(optuna.logging.ERROR)
    space, base = replay.whole.study.sweeps[0].values, replay.whole.study.base

    def judged(trial: "optuna.Trial") -> float:
        wanted = base.replace({key: trial.suggest_categorical(key, list(values)) for key, values in space.items()})
        configuration = next(c for c in replay.trials if c.effective() == wanted.effective())
        known = configuration in replay.chosen or configuration == base
        found = (
            next(t for t in replay.results().trials if t.configuration == configuration)
            if known
            else replay.try_out(configuration)
        )
        trial.set_constraint("over a limit", found.share.value - 1 if found.share is not None else 1.0)
        return seconds_of(found)

    study = optuna.create_study(sampler=optuna.samplers.TPESampler(seed=int(replay.rng.integers(2**31))))
    for _ in range(10 * len(replay.trials)):
        if replay.spent >= budget:
            break
        study.optimize(judged, n_trials=1)
    replay.settle()


def main() -> None:
    """Print how close each search comes, over SEEDS seeds."""
    if not is_study(GRID):
        create_study(GRID, grid_study())
    with look_at_study(GRID) as reading:
        left = read_snapshot(reading).to_come
    if left:
        print(f"  measuring the grid first: {len(left)} runs")
        measure_study(GRID, as_json=False)
    with look_at_study(GRID) as reading:
        snapshot = read_snapshot(reading)
        whole, denoised = snapshot.results, _smoothed(snapshot)
        run = typical_run(whole.base) if whole.base is not None else None
        record = snapshot.record(run.number) if run is not None else None
    if record is None:
        print("  the base was not measured")
        return
    empty = apply(StudyState(replace(whole.study, sweeps=())), Happened(0, "", snapshot.state.surroundings))
    trials = {t.configuration: t for t in whole.trials if t.is_on_map}
    grid = sum(map(seconds_of, trials.values())) * whole.study.repeats
    spread = math.sqrt(common_spread([t.times for t in whole.trials]).variance)
    best = whole.pick()
    if best is None:
        print("  no configuration of the grid is acceptable")
        return
    print(
        f"  {len(trials)} configurations, {grid:.0f} s of rendering; the best takes {seconds_of(best.trial):.2f} s: "
        f"{best.trial.configuration.describe(whole.study.base)}; scatter of one run {spread:.1%}"
    )
    scores: dict[str, list[float]] = {"guided": [], "random": [], "optuna": []}
    budgets = []
    for seed in range(SEEDS):

        def begun(name: str, seed: int = seed) -> Replay:
            replay = Replay(whole, trials, spread, np.random.default_rng([seed, len(name)]), empty)
            for _ in range(whole.study.repeats):
                replay.render(whole.study.base)
            return replay

        searches: dict[str, Callable[[Replay, float], None]] = {
            "guided": lambda replay, budget: guided(replay, denoised, budget, record),
            "random": at_random,
            "optuna": optimised,
        }
        budget = math.inf
        for name, search in searches.items():
            replay = begun(name)
            search(replay, budget)
            scores[name].append(replay.score())
            if name == "guided":
                budget = replay.spent
                budgets.append(budget / grid)
    print(
        f"  render time over the grid's: {statistics.median(budgets):.1%} ({min(budgets):.1%} to {max(budgets):.1%})   "
        "reach under 15%"
    )
    for name, found in scores.items():
        print(
            f"  {name:8s} time of the pick over the best: {statistics.median(found):.3f} "
            f"({min(found):.3f} to {max(found):.3f}), within 5% in {sum(s <= WITHIN for s in found)} of {len(found)}"
        )


def _smoothed(snapshot: Snapshot) -> dict[Denoising, Denoised]:
    """The base's stored pictures with every denoising of the grid."""
    results, folder = snapshot.results, snapshot.folder
    study, found = results.study, {}
    names = snapshot.state.results.pictures[snapshot.state.base.appearance][:2]
    worker = Worker(RENDERER, lambda _reply: None)  # type: ignore[arg-type]
    for method in study.space()["denoise.method"]:
        configuration = study.base.replace({"denoise.method": method})
        outcome = worker.do(
            MeasureJob(
                pictures=[str(folder.picture(name)) for name in names],
                reference=str(snapshot.reference_path),
                exposure=study.view.exposure,
                curve=study.view.curve,
                size=study.size,
                denoise=dict(configuration),
            )
        )
        if isinstance(outcome, Failed) or not isinstance(outcome, MeasuredReply):
            raise SystemExit(f"denoising failed: {outcome}")
        figures = {key: Figure.of(values) if values else None for key, values in outcome.areas[""].items()}
        shares = results.acceptance.shares(figures)
        found[configuration.denoising()] = Denoised(outcome.seconds, {key: share.value for key, share in shares.items()})
    return found

"""The guided search against random search and a general-purpose optimiser, run by run, on three
scenes of which every combination was rendered (`bank`).

All three searches judge trials by the application's own rules, and the other two may spend what the
guided search spent, seed by seed. What a pick is worth is told by all renders of it: its time over
that of the fastest combination that all its renders show to be acceptable, intervals included; the
base's where it is not acceptable, or nothing was found. Also told: how many of the guided search's
predictions held what was measured then.
"""

import math
import statistics
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache, partial
from multiprocessing import get_context

from benchmarks.search.bank import Pool, Replay, combinations
from benchmarks.search.bank_builtin import STUDIES, BuiltinPool
from swift_sample.core.study.measuring.policies.search import Searching
from swift_sample.core.study.search.scoring import score

SEEDS = 20
WITHIN = 1.05
"""A pick counts as found within 5 % of the fastest acceptable time."""
PROCESSES = 2
"""Replays at a time; nothing of them is timed."""


def guided(replay: Replay, budget: float) -> None:
    """The search of the application."""
    replay.follow(Searching(replay.record), budget)


def at_random(replay: Replay, budget: float) -> None:
    """Any combination that was not tried yet."""
    every = combinations(replay.state.plan)
    for place in replay.rng.permutation(len(every)):
        if replay.spent >= budget:
            break
        if every[place] != replay.state.plan.base:
            replay.choose(every[place])

    replay.settle()


def optimised(replay: Replay, budget: float) -> None:
    """Optuna's default sampler, told the time, and the worst limit share as its constraint."""
    import optuna

    optuna.logging.set_verbosity(optuna.logging.ERROR)
    study = replay.state.plan
    space = study.space()

    def judged(trial: "optuna.Trial") -> float:
        wanted = study.base.replace(
            {key: trial.suggest_categorical(key, list(values)) for key, values in space.items()}
        )
        known = replay.results.by_effect.get(wanted.effective())
        if known is None or known.seconds is None:
            replay.choose(wanted)

        found = replay.results.by_effect[wanted.effective()]
        trial.set_constraint(
            "over a limit", found.share.value - 1 if found.share is not None else 1.0
        )
        assert found.seconds is not None

        return found.seconds.value

    made = optuna.create_study(
        sampler=optuna.samplers.TPESampler(seed=int(replay.rng.integers(2**31)))
    )
    for _ in range(1000):
        if replay.spent >= budget:
            break
        made.optimize(judged, n_trials=1)

    replay.settle()


SEARCHES: dict[str, Callable[[Replay, float], None]] = {
    "guided": guided,
    "random": at_random,
    "optuna": optimised,
}


@dataclass
class Found:
    """What the searches of one scene and seed came to: each one's time of the pick over the best;
    of the guided one also the seconds of runs and of the reference, the trials, and how many
    predictions held of how many, of time and limit share."""

    times: dict[str, float] = field(default_factory=dict)
    spent: float = 0.0
    reference: float = 0.0
    trials: int = 0
    held: tuple[tuple[int, int], tuple[int, int]] = ((0, 0), (0, 0))


@lru_cache(1)
def _opened(pool: Callable[[], Pool]) -> Pool:
    """Once a process."""
    return pool()


def _searched(opened: Callable[[], Pool], seed: int, best: float) -> Found:
    pool = _opened(opened)
    found = Found()
    budget = math.inf

    for number, (name, search) in enumerate(SEARCHES.items()):
        replay = Replay(pool, pool.study, 10 * seed + number)
        search(replay, budget)
        found.times[name] = worth(pool, replay) / best

        if name == "guided":
            budget = replay.spent
            predictions = score(replay.results, replay.state.results.predictions)
            found.spent = replay.spent
            found.reference = replay.reference_spent
            found.trials = len(predictions.scored)
            found.held = (
                predictions.share_that_held("seconds"),
                predictions.share_that_held("share"),
            )

    return found


def worth(pool: Pool, replay: Replay) -> float:
    """The true seconds of what was picked, or of the base where nothing was, or what is not
    acceptable."""
    pick = replay.results.pick()
    base = replay.state.plan.base
    wanted = (
        base
        if pick is None or pool.share(pick.trial.configuration).value > 1
        else pick.trial.configuration
    )

    return pool.seconds(wanted)


def compare(opened: Callable[[], Pool], reach: float) -> None:
    """Print how close each search comes over SEEDS seeds of the pool that `opened` gives; `reach`
    is the share of the grid's time that the guided one should stay below."""
    pool = opened()
    study = pool.study
    pool.make(lambda text: print(f"  {text}", flush=True))
    every = combinations(study)
    grid = sum(map(pool.seconds, every)) * study.repeats
    good = [c for c in every if pool.share(c).high <= 1]

    if not good:
        print(f"  {pool.name}: nothing is acceptable")
        return

    best = min(good, key=pool.seconds)
    print(
        f"  {pool.name}: {len(every)} combinations, {grid:.0f} s of rendering; {len(good)} are "
        "acceptable, the fastest takes "
        f"{pool.seconds(best):.2f} s: {best.describe(study.base)}; the base "
        f"{pool.seconds(study.base):.2f} s"
    )
    with get_context("spawn").Pool(PROCESSES) as processes:
        found = processes.starmap(
            _searched, [(opened, seed, pool.seconds(best)) for seed in range(SEEDS)]
        )

    spent = [one.spent / grid for one in found]
    print(
        f"    runs over the grid's: {statistics.median(spent):.1%} ({min(spent):.1%} to "
        f"{max(spent):.1%}), reach {reach:.0%}; with the reference "
        f"{statistics.median((f.spent + f.reference) / grid for f in found):.1%}; "
        f"{statistics.median(f.trials for f in found):.0f} trials"
    )

    for name in SEARCHES:
        times = [one.times[name] for one in found]
        ahead = sum(one.times["guided"] <= one.times[name] for one in found)

        print(
            f"    {name:8s} time of the pick over the best: {statistics.median(times):.2f} "
            f"({min(times):.2f} to "
            f"{max(times):.2f}), within 5% in {sum(t <= WITHIN for t in times)} of {SEEDS}"
            + ("" if name == "guided" else f"; guided is ahead or level in {ahead}")
        )

    for what, place in (("time", 0), ("limit share", 1)):
        held, of = (sum(one.held[place][k] for one in found) for k in (0, 1))
        print(f"    predictions of {what} that held: {held / of:.0%} of {of}, reach 85 to 95%")


def main() -> None:
    """Every scene of the built-in renderer."""
    for study in STUDIES.values():
        compare(partial(BuiltinPool, study), 0.03)

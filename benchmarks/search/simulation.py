"""Does a measured study pick rightly? A hundred studies of three scenes, run by run, with the
renderer's own noise (`bank`).

Each measures a random part of a scene's combinations as *Measure* does: shuffled blocks, controls,
more runs for open verdicts. What all renders of a trial say is the truth: whether the pick is
acceptable, and how far it is from the fastest of the study's trials that are.
"""

import statistics
from dataclasses import replace
from functools import lru_cache
from multiprocessing import get_context

import numpy as np

from benchmarks.search.bank import Replay
from benchmarks.search.bank_builtin import STUDIES, BuiltinPool
from swift_sample.core.settings import Value
from swift_sample.core.study.measuring.policies.sweep import Sweeping
from swift_sample.core.study.plan.model import Study, Sweep

COUNT = 102
PROCESSES = 2
WITHIN = 1.05
VALUES = {
    "samples.max": 3,
    "bounces.total": 3,
    "denoise.method": 2,
    "denoise.strength": 1,
    "scene.keep_built": 2,
}
"""How many values of each setting a study tries, in every combination."""


@lru_cache(1)
def _pool(scene: str) -> BuiltinPool:
    return BuiltinPool(STUDIES[scene])


def part_of(study: Study, seed: int) -> Study:
    """A random part of a scene's combinations."""
    rng = np.random.default_rng(seed)
    space = study.space()
    values: dict[str, tuple[Value, ...]] = {}

    for key, count in VALUES.items():
        chosen = sorted(
            int(k) for k in rng.choice(len(space[key]), min(count, len(space[key])), replace=False)
        )
        values[key] = tuple(space[key][k] for k in chosen)

    return replace(study, sweeps=(Sweep("grid", values),))


def _measured(scene: str, seed: int) -> tuple[bool, float] | None:
    """Whether the pick is truly acceptable, and its time over that of the fastest trial that all
    its renders show to be acceptable; None where the study ends without a pick."""
    pool = _pool(scene)
    study = part_of(STUDIES[scene], seed)
    replay = Replay(pool, study, seed)
    replay.follow(Sweeping())
    pick = replay.results.pick()

    if pick is None:
        return None

    good = [c for c in study.planned() if pool.share(c).high <= 1]
    best = min((pool.seconds(c) for c in good), default=pool.seconds(study.base))
    return pool.share(pick.trial.configuration).value <= 1, pool.seconds(
        pick.trial.configuration
    ) / best


def main() -> None:
    """Print how many picks are right."""
    for study in STUDIES.values():
        BuiltinPool(study).make(lambda text: print(f"  {text}", flush=True))

    scenes = list(STUDIES)
    tasks = [(scene, seed) for scene in scenes for seed in range(COUNT // len(scenes))]
    with get_context("spawn").Pool(PROCESSES) as processes:
        found = processes.starmap(_measured, tasks, chunksize=4)

    for scene in (*scenes, ""):
        own = [f for (name, _), f in zip(tasks, found, strict=True) if name == scene or not scene]
        picks = [f for f in own if f is not None]
        times = [over for _, over in picks]

        print(
            f"  {scene or 'all':12s} {len(own)} studies, {len(own) - len(picks)} without a pick; "
            "picks truly acceptable "
            f"{sum(right for right, _ in picks)} of {len(picks)}, reach 97 of 100; within 5% of "
            f"the fastest {sum(over <= WITHIN for over in times)}, reach 95; time over the fastest "
            f"{statistics.median(times):.3f} "
            f"(at most {max(times):.2f})"
        )

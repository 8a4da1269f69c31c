"""After how many renders a cache has paid for itself, from renders repeated in turn: with
intervals, and without touching what the user's own caches hold."""

import math
import os
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import common_spread, median_seconds
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.records import RenderSpec, RunRecord
from swift_sample.core.settings import Value

ROUNDS = 3


@dataclass(frozen=True)
class CacheCost:
    """Seconds of a whole render without the cache, of the first with it, and of every later one;
    memory it holds."""

    name: str
    without: Figure
    first: Figure
    later: Figure
    memory_bytes: int

    @property
    def pays_after(self) -> int | None:
        """How many renders in a row take less time with it than without; None where it never
        does."""
        return renders_to_pay(self.without.value, self.first.value, self.later.value)

    @property
    def pays_between(self) -> tuple[int | None, int | None]:
        """The same with every time at the end of its interval that speaks for the cache, and
        against it."""
        soonest = renders_to_pay(self.without.high, self.first.low, self.later.low)
        return soonest, renders_to_pay(self.without.low, self.first.high, self.later.high)

    def as_dict(self) -> dict[str, object]:
        return {
            "name": self.name,
            "seconds_without": self.without.value,
            "seconds_first": self.first.value,
            "seconds_later": self.later.value,
            "intervals": {
                "without": self.without.numbers,
                "first": self.first.numbers,
                "later": self.later.numbers,
            },
            "memory_bytes": self.memory_bytes,
            "pays_after": self.pays_after,
            "pays_between": list(self.pays_between),
        }


def renders_to_pay(without: float, first: float, later: float) -> int | None:
    """The smallest n with first + (n - 1) later < n without; a first render that seems cheaper
    counts as costing the same."""
    if later >= without:
        return None

    first = max(first, without)
    return math.floor((first - later) / (without - later)) + 1


def measure_caches(
    spec: RenderSpec, tell: Callable[[str], None] = lambda _: None, rounds: int = ROUNDS
) -> list[CacheCost]:
    """Render a scene without each cache, and twice with it, in so many rounds. Prepared textures
    are made in a folder of their own, which is removed afterwards."""
    plain: dict[str, Value] = {"scene.keep_built": False, "textures.prepared": False}
    taken: dict[str, list[RunRecord]] = {}

    def take(name: str, scene_cache: SceneCache, changes: dict[str, Value]) -> None:
        tell(f"{name}, {len(taken.get(name, ())) + 1} of {rounds}")
        settings = dict(spec.configuration(CATALOGUE).replace({**plain, **changes}))
        record = run_render(spec.model_copy(update={"settings": settings}), scene_cache, None)[1]
        taken.setdefault(name, []).append(record)

    for _ in range(rounds):
        take("Without any cache", SceneCache(), {})
        scene_cache = SceneCache()
        take("Keeping the scene, first render", scene_cache, {"scene.keep_built": True})
        take("Keeping the scene, second render", scene_cache, {"scene.keep_built": True})

        with caches_elsewhere():
            take("Prepared textures, first render", SceneCache(), {"textures.prepared": True})
            take("Prepared textures, second render", SceneCache(), {"textures.prepared": True})

    times = {
        name: [record.seconds["total"] for record in records] for name, records in taken.items()
    }
    spread = common_spread(times.values())
    figures = {name: median_seconds(seconds, spread) for name, seconds in times.items()}

    def cost(key: str, name: str, held: int) -> CacheCost:
        later = figures[f"{name}, second render"]
        return CacheCost(
            key, figures["Without any cache"], figures[f"{name}, first render"], later, held
        )

    kept = taken["Keeping the scene, second render"][-1].memory_bytes
    textures = taken["Prepared textures, second render"][-1].memory_bytes["textures"]

    return [
        cost(
            "scene.keep_built",
            "Keeping the scene",
            sum(size for holder, size in kept.items() if holder != "film"),
        ),
        cost("textures.prepared", "Prepared textures", textures),
    ]


@contextmanager
def caches_elsewhere() -> Iterator[None]:
    """Within it, what is kept on disk and could be made again is kept in a folder that is empty at
    first and then removed."""
    before = os.environ.get("SWIFT_SAMPLE_CACHE")
    with tempfile.TemporaryDirectory() as folder:
        os.environ["SWIFT_SAMPLE_CACHE"] = folder
        try:
            yield
        finally:
            if before is None:
                del os.environ["SWIFT_SAMPLE_CACHE"]
            else:
                os.environ["SWIFT_SAMPLE_CACHE"] = before

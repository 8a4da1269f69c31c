"""After how many renders a cache has paid for itself, from measured figures."""

import math
from collections.abc import Callable
from dataclasses import dataclass

from swift_sample.core.caches import clear_cache
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.records import RenderSpec, RunRecord
from swift_sample.core.settings import Value


@dataclass(frozen=True)
class CacheCost:
    """Seconds of a whole render without the cache, of the first with it, and of every later one; memory it holds."""

    name: str
    without: float
    first: float
    later: float
    memory_bytes: int

    @property
    def pays_after(self) -> int | None:
        """How many renders in a row take less time with it than without; None where it never does."""
        return renders_to_pay(self.without, self.first, self.later)

    def as_dict(self) -> dict[str, object]:
        return {
            "name": self.name,
            "seconds_without": self.without,
            "seconds_first": self.first,
            "seconds_later": self.later,
            "memory_bytes": self.memory_bytes,
            "pays_after": self.pays_after,
        }


def renders_to_pay(without: float, first: float, later: float) -> int | None:
    """The smallest n with first + (n - 1) later < n without; a first render that seems cheaper counts as costing the same."""
    if later >= without:
        return None
    first = max(first, without)
    return math.floor((first - later) / (without - later)) + 1


def measure_caches(spec: RenderSpec, tell: Callable[[str], None] = lambda _: None) -> list[CacheCost]:
    """Render a scene without each cache, and twice with it. Prepared textures are cleared first, to be made anew."""
    plain: dict[str, Value] = {"scene.keep_built": False, "textures.prepared": False}

    def take(name: str, scene_cache: SceneCache, changes: dict[str, Value]) -> RunRecord:
        tell(name)
        settings = dict(spec.configuration(CATALOGUE).replace({**plain, **changes}))
        return run_render(spec.model_copy(update={"settings": settings}), scene_cache, None)[1]

    without = take("Without any cache", SceneCache(), {})
    costs, keeping = [], {"scene.keep_built": True}
    scene_cache = SceneCache()
    first, later = (take(f"Keeping the scene, {which} render", scene_cache, dict(keeping)) for which in ("first", "second"))
    held = sum(size for holder, size in later.memory_bytes.items() if holder != "film")
    costs.append(_cost("scene.keep_built", without, first, later, held))
    clear_cache("textures")
    first, later = (
        take(f"Prepared textures, {which} render", SceneCache(), {"textures.prepared": True}) for which in ("first", "second")
    )
    costs.append(_cost("textures.prepared", without, first, later, later.memory_bytes["textures"]))
    return costs


def _cost(name: str, without: RunRecord, first: RunRecord, later: RunRecord, held: int) -> CacheCost:
    return CacheCost(name, without.seconds["total"], first.seconds["total"], later.seconds["total"], held)

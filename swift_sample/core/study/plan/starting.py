"""What a new study tries first, when the artist has chosen nothing yet."""

from swift_sample.core.picture.view import View
from swift_sample.core.settings import CATALOGUE, Configuration, Value
from swift_sample.core.study.plan.model import Study, Sweep

FIRST_KEYS = (
    "samples.max",
    "samples.noise_threshold",
    "bounces.total",
    "light.clamp_indirect",
    "denoise.method",
    "tiles.size",
    "scene.keep_built",
)
"""The settings that win or lose the most on most scenes."""


def starting_study(name: str, scene: str, size: tuple[int, int], view: View, base: Configuration) -> Study:
    """A study with each of FIRST_KEYS swept over its suggested values, up to the base's own."""
    values: dict[str, tuple[Value, ...]] = {}
    for key in FIRST_KEYS:
        declared, own = CATALOGUE[key], base[key]
        tried = [v for v in declared.suggested if key not in ("samples.max", "bounces.total") or float(v) <= float(own)]
        values[key] = tuple(dict.fromkeys([*tried, own]))
    return Study(name, scene, size, view, base, (Sweep("one at a time", values),))

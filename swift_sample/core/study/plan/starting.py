"""What a new study tries first, when the artist has chosen nothing yet."""

from swift_sample.core.picture.view import View
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.plan.model import Limits, Study, Sweep

NO_GRAIN = Limits(grain=None, grain_worst=None, rms=3.0)
"""Where grain cannot be told from other errors their sum has a limit: 2 levels of grain beside the others' are about 3."""


def starting_study(name: str, scene: str, size: tuple[int, int], view: View, base: Configuration) -> Study:
    """A study in which the settings that the renderer recommends to begin with are swept over their suggested values, up to
    the base's own where larger ones are known to take longer."""
    values: dict[str, tuple[Value, ...]] = {}
    for key, declared in base.catalogue.items():
        if declared.tried_first:
            own = base[key]
            tried = [v for v in declared.suggested if not declared.more_takes_longer or float(v) <= float(own)]
            values[key] = tuple(dict.fromkeys([*tried, own]))
    can = base.catalogue.capabilities
    limits = Limits() if can.seeds or can.halves else NO_GRAIN
    sweeps = (Sweep("one at a time", values),) if values else ()
    return Study(name, scene, size, view, sweeps, limits, base=base)

"""What a new study tries first, when the artist has chosen nothing yet."""

from collections.abc import Sequence
from dataclasses import dataclass

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.port import Finding, SceneFacts
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.plan.model import Limits, Study, Sweep

NO_SEEDS = Limits(grain_worst=None, detail_kept_worst=None)
"""Where grain is an estimate from one picture, that is too rough for a single place, and so is
detail there."""


@dataclass(frozen=True)
class Suggestion:
    """Values of a setting that are worth trying on a scene, and why; `first` where a new study
    begins with them."""

    key: str
    values: tuple[Value, ...]
    why: str
    first: bool


def suggestions(base: Configuration, facts: SceneFacts | None = None) -> list[Suggestion]:
    """What is worth trying on a scene with these facts: what the renderer recommends to begin with,
    and then settings for which the scene has what they act on. Values go up to the base's own where
    larger ones are known to take longer."""
    found = []
    for key, declared in base.catalogue.items():
        if not declared.tried_first and not (declared.needs and facts is not None):
            continue
        if facts is not None and facts.reason_against(declared.needs):
            continue

        own = base[key]
        offered = (*declared.suggested, *(facts.choices.get(key, ()) if facts is not None else ()))
        tried = [v for v in offered if not declared.more_takes_longer or float(v) <= float(own)]
        values = tuple(dict.fromkeys([*tried, own]))

        if len(values) > 1:
            found.append(
                Suggestion(key, values, declared.why_tried or declared.help, declared.tried_first)
            )

    return sorted(found, key=lambda one: not one.first)


def with_dear(
    offered: Sequence[Suggestion], base: Configuration, dear: Sequence[Finding]
) -> list[Suggestion]:
    """The suggestions with what takes much of the time and can be spared, which comes first."""
    found = {one.key: one for one in offered}
    for finding in dear:
        for key, value in finding.changes.items():
            known = found.get(key)
            values = tuple(
                dict.fromkeys((*(known.values if known is not None else (base[key],)), value))
            )
            found[key] = Suggestion(key, values, finding.text, True)

    return sorted(found.values(), key=lambda one: not one.first)


def not_worth_trying(base: Configuration, facts: SceneFacts) -> dict[str, str]:
    """Settings that cannot change this scene, with the reason."""
    return {
        key: facts.reason_against(declared.needs)
        for key, declared in base.catalogue.items()
        if facts.reason_against(declared.needs)
    }


def starting_study(
    name: str,
    scene: str,
    size: tuple[int, int],
    view: View,
    base: Configuration,
    facts: SceneFacts | None = None,
) -> Study:
    """A study in which the settings that the renderer recommends to begin with are swept."""
    values = {one.key: one.values for one in suggestions(base, facts) if one.first}
    can = base.catalogue.capabilities
    limits = Limits() if can.seeds or can.halves else NO_SEEDS
    sweeps = (Sweep("one at a time", values),) if values else ()

    return Study(
        name=name, scene=scene, size=size, view=view, sweeps=sweeps, limits=limits, base=base
    )

"""Help where there is no pick: the closest trial, which limits it fails, where and by how much, and
one trial that is likely to meet them."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from swift_sample.core.measure.kinds import WORST_MARK
from swift_sample.core.renderers.falls import fall_of, samples_needed
from swift_sample.core.renderers.port import Finding
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.study.answers.acceptance import (
    forbidden_words,
    is_cost,
    quantity,
    show_limit,
)
from swift_sample.core.study.answers.costs import typical_run
from swift_sample.core.study.answers.pick import place_of
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.plan.model import AREA_MARK

MARGIN = 0.95
"""What is proposed is meant to come out at this share of a limit."""
SURER = 1.5
"""Times the samples of a trial of which it is open whether it keeps a limit."""
FALLS = ("stray_pixels", "grain", "rms", "perceptual")
"""Errors that fall with samples."""


@dataclass(frozen=True)
class Help:
    """`closest` is the trial nearest to being acceptable; `failing` tells its limits, the worst
    first; `proposal` is what may meet them, and `words` why."""

    closest: TrialResult
    failing: tuple[str, ...]
    proposal: Configuration | None
    words: str


def without_pick(
    results: Results, record: Callable[[int], RunRecord | None], mending: Sequence[Finding] = ()
) -> Help | None:
    """The help; None where there is a pick, or nothing was measured whole. `record` reads the whole
    record of a run; `mending` are findings about the closest trial that name what may bring it
    within a limit."""
    origin = results.origin
    closest = origin.closest
    if results.pick() is not None or closest is None:
        return None

    over = sorted(
        (k for k, s in closest.shares.items() if s.high > 1), key=lambda k: -closest.shares[k].value
    )
    failing = tuple(_fails(closest, key, origin) for key in over)
    run = typical_run(closest)
    proposal, words = _mended(closest, over, origin, mending)

    if proposal is None:
        proposal, words = _proposal(
            closest, over, origin, record(run.number) if run is not None else None
        )

    return Help(closest, failing, proposal, words)


def _mended(
    trial: TrialResult, over: Sequence[str], results: Results, mending: Sequence[Finding]
) -> tuple[Configuration | None, str]:
    """The trial with what a finding proposes for the limit that is furthest from being kept, unless
    that is more samples, of which the record tells better how many, or must not be used."""
    counted = trial.configuration.catalogue.with_role(SAMPLES)
    for finding in mending:
        if (
            not over
            or finding.mends != over[0]
            or (counted is not None and counted.key in finding.changes)
        ):
            continue
        proposal = trial.configuration.replace(finding.changes)
        if proposal != trial.configuration and not forbidden_words(proposal, results.study):
            return proposal, finding.text[:1].lower() + finding.text[1:].rstrip(".")

    return None, ""


def not_known(results: Results) -> str:
    """Which limited figures the trials measured so far cannot tell, and why; "" where each tells
    all or none was measured."""
    partial = [t for t in results.trials if t.is_on_map and t.standing.unknown]
    if not partial or results.origin.closest is not None:
        return ""

    trial = max(partial, key=lambda one: one.pictures)
    missing = [
        quantity(key).label
        for key in results.wanted
        if key in trial.figures and trial.figures[key] is None
    ]
    why = (
        "a second run tells it"
        if trial.pictures < 2
        else "nothing here can tell it; lift that limit"
    )

    return f"{', '.join(missing)} not known: {why}"


def _fails(trial: TrialResult, key: str, results: Results) -> str:
    figure = trial.figures[key]
    share = trial.shares[key]
    assert figure is not None
    told = (
        f"{quantity(key).label} "
        f"{show_limit(key, figure, results.wanted[key])}{place_of(trial, key, results)}"
    )

    if key in trial.doubted:
        return (
            f"{told}, open: the reference is not cleaner than this render, and may be the one "
            "that is wrong there"
        )

    return (
        told
        if share.low > 1
        else f"{told}, open: it is between {share.low:.0%} and {share.high:.0%} of the limit"
    )


def _proposal(
    trial: TrialResult, over: list[str], results: Results, record: RunRecord | None
) -> tuple[Configuration | None, str]:
    """One trial that may be acceptable, and why."""
    if not over:
        return None, trial.forbidden if trial.forbidden else "more runs would tell"

    costs = [key for key in over if is_cost(key)]
    if costs:
        return (
            None,
            f"its {quantity(costs[0]).label} is over the limit: a faster trial, or a wider limit",
        )

    measures = {key.partition(AREA_MARK)[0].removesuffix(WORST_MARK): key for key in reversed(over)}
    changes: dict[str, object] = {}
    why = []
    counted = trial.configuration.catalogue.with_role(SAMPLES)
    needs = []

    for measure in FALLS:
        key = measures.get(measure, "")
        figure = trial.figures[key] if key and trial.shares[key].low > 1 else None

        if figure is not None:
            fall = fall_of(trial.configuration, record, measure)
            needed = samples_needed(trial.configuration, figure, MARGIN * results.wanted[key], fall)
            if needed is not None:
                needs.append((needed, key))

    open_ones = [measures[measure] for measure in FALLS if measure in measures]
    if needs and counted is not None:
        needed, key = max(needs, key=lambda need: need[0].value)
        changes[counted.key] = min(math.ceil(needed.value), int(counted.maximum or needed.value))
        why.append(
            f"for {quantity(key).label} {results.wanted[key]:.3g} it needs about "
            f"{math.ceil(needed.value)} samples "
            f"({math.ceil(needed.low)} to {math.ceil(needed.high)})"
        )
    elif open_ones and counted is not None:
        own = int(trial.configuration.number_in_role(SAMPLES) or 1)
        changes[counted.key] = min(math.ceil(SURER * own), int(counted.maximum or own))
        why.append(
            f"whether its {quantity(open_ones[0]).label} is inside is open; half as many "
            "samples again would be surer"
        )

    missing = [
        key for key in over if key.partition(AREA_MARK)[0].removesuffix(WORST_MARK) == "light_shift"
    ]
    if missing and not any(trial.shares[key].low > 1 for key in missing):
        why.append(
            "whether its light shift is inside is open: more runs, or more of the reference, "
            "would tell"
        )
    elif missing:
        opened = {
            key: value
            for key, value in results.study.reference_opens().items()
            if trial.configuration[key] != value
        }
        named = [
            trial.configuration.catalogue[key]
            for key in opened
            if trial.configuration.catalogue[key].reference
        ]
        light = [
            declared
            for declared in named
            if declared.reference is not None and declared.reference.is_choice
        ]

        if light:
            changes |= {declared.key: opened[declared.key] for declared in light}
            named_so = " and ".join(declared.told(opened[declared.key]) for declared in light)
            why.append(f"light is missing that the reference has with {named_so}")

    if (
        "detail_kept" in measures
        and trial.configuration.denoising() is not None
        and not changes
        and counted is not None
    ):
        changes[counted.key] = min(
            2 * int(trial.configuration.number_in_role(SAMPLES) or 1), int(counted.maximum or 1)
        )
        why.append("a denoiser smears less where it has more samples to go by")

    if not changes and why:
        return None, "; ".join(why)

    if not changes:
        starts = trial.configuration.catalogue.capabilities.starts
        more = (
            "settings that were not tried yet" if starts else "finished renders with other settings"
        )
        return None, f"{more}, or wider limits"

    proposal = trial.configuration.replace(changes)
    return (proposal, "; ".join(why)) if proposal != trial.configuration else (None, "wider limits")

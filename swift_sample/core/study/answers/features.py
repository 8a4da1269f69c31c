"""What each feature of the scene costs, and whether anyone would see it gone: one feature at a time
against the base."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import is_difference
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import ScenePart, Setting, Value
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.core.study.answers.costs import typical_run
from swift_sample.core.study.answers.pick import why_not
from swift_sample.core.study.answers.pick_report import show_factor
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.plan.model import Study

MOST_AUDITED = 60
"""Features that are tried at first, those of the costliest materials; the others can be asked
for."""
LEAST_WON = 0.01
LEAST_SHARE = 0.03
MEMORY_WORTH = 0.02
"""Share of the memory that a scene holds from which a change of it is told."""


@dataclass(frozen=True, kw_only=True)
class Row:
    """One feature with a cheaper value, and the trial that shows what it costs, None while there is
    none."""

    setting: Setting
    value: Value
    part: ScenePart
    share: float | None
    """of the base's sampling time, of pixels that show its material or object first; None where the
    renderer does not tell"""
    seen: float | None
    """share of the picture that shows its material first; None where the renderer does not tell"""
    most: float | None
    """share of the base's time that it is expected to win at most, by the base's record; None where
    that says nothing"""
    trial: TrialResult | None
    told: tuple[str, ...] = ()
    """what the renderer says of the scene with it, and not of the base's"""

    @property
    def saved(self) -> Figure | None:
        """Share of the base's time that is saved, with its interval; below 0 where it takes
        longer."""
        return _saved(self.trial)

    @property
    def is_measurable(self) -> bool:
        """Whether the time differs measurably from the base's."""
        times = self.trial.times_faster if self.trial is not None else None
        return times is not None and is_difference(times)

    @property
    def held(self) -> bool | None:
        """Whether no more was won than was expected at most; None where nothing was expected, or
        nothing is measured."""
        saved = self.saved
        return None if saved is None or self.most is None else saved.low <= self.most


def _saved(trial: TrialResult | None) -> Figure | None:
    times = trial.times_faster if trial is not None else None
    return (
        None
        if times is None
        else Figure(1 - 1 / times.value, 1 - 1 / times.low, 1 - 1 / times.high)
    )


def rows_of(results: Results, record_of: Callable[[int], RunRecord | None]) -> list[Row]:
    """A row for every cheaper value of every feature: measured ones first, those that save most at
    the top; then those that were not tried, by what they may win. `record_of` reads a run's whole
    record."""
    base = _record(results.base, record_of)
    rows = []

    for setting in results.study.catalogue.of_parts:
        if not _has_effect(setting, results.study):
            continue

        part = _part(setting)
        share = _share(part, base)
        seen = _seen(part, base)
        most = expected(part, base)

        for value in _cheaper(setting, results.study):
            name = results.alone.get(setting.key, {}).get(value)
            trial = results.by_id[name] if name is not None else None
            measured = trial if trial is not None and trial.is_on_map else None
            told = _told(_record(measured, record_of), base)
            rows.append(
                Row(
                    setting=setting,
                    value=value,
                    part=part,
                    share=share,
                    seen=seen,
                    most=most,
                    trial=measured,
                    told=told,
                )
            )

    return sorted(rows, key=_order)


def _order(row: Row) -> tuple[bool, float]:
    saved = row.saved
    return saved is None, -(saved.value if saved is not None else row.most or row.share or 0.0)


def _record(
    trial: TrialResult | None, record_of: Callable[[int], RunRecord | None]
) -> RunRecord | None:
    run = typical_run(trial) if trial is not None else None
    return record_of(run.number) if run is not None else None


def _told(changed: RunRecord | None, base: RunRecord | None) -> tuple[str, ...]:
    if changed is None or base is None:
        return ()

    notes = tuple(note for note in changed.notes if note not in base.notes)
    more = sum(changed.memory_bytes.values()) - sum(base.memory_bytes.values())
    if abs(more) < MEMORY_WORTH * sum(base.memory_bytes.values()):
        return notes

    return (*notes, f"the scene holds {abs(more) / 2**20:.1f} MiB {'more' if more > 0 else 'less'}")


def _share(part: ScenePart, record: RunRecord | None) -> float | None:
    spent = (
        {}
        if record is None
        else {"material": record.seconds_by_material, "object": record.seconds_by_object}.get(
            part.kind
        )
    )
    total = sum(spent.values()) if spent else 0.0
    return spent.get(part.name, 0.0) / total if spent and total else None


def _seen(part: ScenePart, record: RunRecord | None) -> float | None:
    seen = record.picture_by_material if record is not None and part.kind == "material" else {}
    return seen.get(part.name, 0.0) if seen else None


def expected(part: ScenePart, record: RunRecord | None) -> float | None:
    """The share of a render's time that a feature of a part of its scene may win at most: of a
    material, the time of the pixels that show it first; and no more than the time from the first
    bounce on whose rays pay for it. None where the record says nothing of that."""
    if record is None or not record.seconds.get("total"):
        return None

    sampling = record.seconds.get("sampling", 0.0) / record.seconds["total"]
    bounces = record.seconds_by_bounce
    own = [k for k, kinds in enumerate(bounces) if any(kinds.get(ray) for ray in part.rays)]
    times = [sum(kinds.values()) for kinds in bounces]
    share = _share(part, record)

    if part.rays and sum(times):
        after = sum(times[own[0] :]) / sum(times) if own else 0.0

        if part.kind != "material":
            share = after
        elif share is not None:
            share = min(share, after)
        else:
            share = None

    elif part.kind != "material":
        return None

    return None if share is None else share * sampling


def words_of(row: Row, results: Results) -> str:
    """What came of it: "costs 12 %, gone within all limits"; "costs 3 %, but light shift 4.0 of 1.0
    is over its limit"."""
    saved = row.saved
    trial = row.trial

    if saved is None or trial is None:
        told = ["not tried yet"]
        if row.seen == 0:
            told.append("no pixel shows its material first")
        elif row.most is not None:
            told.append(f"expected to win {row.most:.0%} at most")

        if row.setting.why_tried:
            told.append(row.setting.why_tried)

        return "; ".join(told)

    if not row.is_measurable:
        cost = "costs nothing measurable"
    elif saved.value < 0:
        cost = f"takes {-saved.value:.0%} longer without"
    else:
        cost = f"costs {saved.value:.0%} ({max(0.0, saved.low):.0%} to {saved.high:.0%})"

    if row.held is False:
        cost += f", more than the {row.most:.0%} expected"

    if trial.verdict == ACCEPTABLE:
        missed = ", gone within all limits"
    elif trial.verdict == NOT_ACCEPTABLE:
        missed = f", but {why_not(trial, results)}"
    else:
        missed = f"; {why_not(trial, results)}"

    return "; ".join([cost + missed, *row.told])


def score_words(rows: Sequence[Row]) -> str:
    """How many features won no more than their base's record had led to expect; "" where none was
    tried."""
    held = [row.held for row in rows if row.held is not None]
    return (
        f"{sum(held)} of {len(held)} that were tried won no more than expected at most"
        if held
        else ""
    )


@dataclass(frozen=True)
class Group:
    """What was not tried yet of one part of the scene."""

    part: ScenePart
    rows: tuple[Row, ...]

    @property
    def words(self) -> str:
        """Its name, and what of the time it takes."""
        first = self.rows[0]
        name = self.part.name if self.part.name != self.part.kind else self.part.name.capitalize()
        shares = [f"{first.share:.0%} of the time"] if first.share is not None else []

        if first.seen == 0:
            shares = ["no pixel shows it first"]
        elif first.seen:
            shares.append(f"{first.seen:.0%} of the picture")

        return f"{name} ({', '.join(shares)})" if shares else name


def groups_of(rows: Sequence[Row]) -> list[Group]:
    """Rows without a trial by what they are of: materials and objects that take most of the time
    first."""
    found: dict[tuple[str, str], list[Row]] = {}
    for row in rows:
        if row.trial is None:
            found.setdefault((row.part.kind, row.part.name), []).append(row)

    groups = [Group(own[0].part, tuple(own)) for own in found.values()]
    return sorted(groups, key=lambda group: -(group.rows[0].share or 0.0))


def audited(study: Study, record: RunRecord | None = None) -> Study:
    """The study with one trial for each feature that may matter, left out or in its cheapest form:
    by a record of the base, what takes most of the time first, no more than MOST_AUDITED. Without
    effect, by that record, are features that can win less than LEAST_WON, and objects that take
    less than LEAST_SHARE of the time."""
    tried = dict(study.values_to_try())
    chosen = [
        setting for setting in study.catalogue.of_parts if _is_worth_trying(setting, study, record)
    ]
    chosen.sort(key=lambda setting: -(_share(_part(setting), record) or 0.0))
    for setting in chosen[:MOST_AUDITED]:
        tried[setting.key] = tuple(
            dict.fromkeys(
                (*tried.get(setting.key, ()), study.base[setting.key], setting.cheaper[-1])
            )
        )

    return study.with_values_to_try(tried)


def _part(setting: Setting) -> ScenePart:
    assert setting.part is not None
    return setting.part


def _cheaper(setting: Setting, study: Study) -> list[Value]:
    """Its cheaper values than the base's."""
    own = study.base[setting.key]
    return [
        value
        for value in setting.cheaper
        if value != own and not (setting.kind == "whole" and float(value) > float(own))
    ]


def _has_effect(setting: Setting, study: Study) -> bool:
    return (
        setting.neutral_when is None
        or study.base[setting.neutral_when[0]] not in setting.neutral_when[1]
    )


def _is_worth_trying(setting: Setting, study: Study, record: RunRecord | None) -> bool:
    if not _has_effect(setting, study) or not _cheaper(setting, study):
        return False

    part = _part(setting)
    most = expected(part, record)
    share = _share(part, record)

    if part.kind == "object":
        return share is None or share >= LEAST_SHARE

    return most is None or most >= LEAST_WON


@dataclass(frozen=True)
class Together:
    """Features that each cost something and are gone within all limits, taken away at once: what
    their times alone would give, and the trial that tells whether they act on each other, None
    while there is none."""

    changes: Mapping[str, Value]
    expected: Figure
    """share of the base's time, if each acted by itself"""
    trial: TrialResult | None

    @property
    def saved(self) -> Figure | None:
        """Share of the base's time that was measured to be saved."""
        return _saved(self.trial)


def together(rows: Sequence[Row], results: Results) -> Together | None:
    """All features that nobody misses, at once, each at the value that saves most; None where fewer
    than two are known."""
    best: dict[str, Row] = {}
    for row in rows:
        known = best.get(row.setting.key)
        saved = row.saved
        if (
            saved is None
            or row.trial is None
            or not row.is_measurable
            or saved.value <= 0
            or row.trial.verdict != ACCEPTABLE
        ):
            continue
        if known is None or known.saved is None or saved.value > known.saved.value:
            best[row.setting.key] = row

    if len(best) < 2:
        return None

    alone = [row.saved for row in best.values() if row.saved is not None]
    expected = Figure(
        1 - math.prod(1 - saved.value for saved in alone),
        1 - math.prod(1 - saved.low for saved in alone),
        1 - math.prod(1 - saved.high for saved in alone),
    )

    changes = {key: row.value for key, row in best.items()}
    wanted = results.study.base.replace(changes)
    trial = next(
        (trial for trial in results.trials if trial.configuration == wanted and trial.is_on_map),
        None,
    )

    return Together(changes, expected, trial)


def words_of_all(found: Together, results: Results) -> str:
    """What taking all of them away wins: expected, or as it was measured."""
    saved = found.saved
    trial = found.trial
    expected = found.expected
    about = f"{expected.value:.0%} ({max(0.0, expected.low):.0%} to {expected.high:.0%})"

    if saved is None or trial is None:
        return (
            f"{len(found.changes)} features are not missed; all gone at once would save about "
            f"{about}"
        )

    if saved.high < expected.low:
        acts = "less than alone"
    elif saved.low > expected.high:
        acts = "more than alone"
    else:
        acts = "as expected"

    limits = "within all limits" if trial.verdict == ACCEPTABLE else why_not(trial, results)
    return (
        f"{len(found.changes)} features gone at once save {saved.value:.0%}, {acts} ({about}); "
        f"{limits}"
    )


def as_data(row: Row, results: Results) -> dict[str, object]:
    """The same as plain data."""
    saved = row.saved
    trial = row.trial

    return {
        "key": row.setting.key,
        "part": row.part.kind,
        "name": row.part.name,
        "value": row.value,
        "share_of_time": row.share,
        "share_of_picture": row.seen,
        "expected_at_most": row.most,
        "saved": None
        if saved is None
        else [saved.value, saved.low, saved.high if math.isfinite(saved.high) else None],
        "times_faster": None if trial is None else show_factor(trial.times_faster),
        "verdict": None if trial is None else trial.verdict,
        "words": words_of(row, results),
    }

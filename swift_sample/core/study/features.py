"""What each feature of the scene costs, and whether anyone would see it gone: one feature at a time against the base."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import is_difference
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Setting, Value
from swift_sample.core.study.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.core.study.pick import why_not
from swift_sample.core.study.pick_report import show_factor
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.results import Results, TrialResult

MOST_AUDITED = 60
"""Features that are tried at first, those of the costliest materials; the others can be asked for."""


@dataclass(frozen=True)
class Row:
    """One feature with a cheaper value: the trial that shows what it costs, None while there is none, and how much it can win
    at most by the time of the pixels that show its material first."""

    setting: Setting
    value: Value
    material: str
    share: float | None
    """of the base's sampling time, of pixels that show the material first; None where the renderer does not tell"""
    seen: float | None
    """share of the picture that shows the material first; None where the renderer does not tell"""
    trial: TrialResult | None

    @property
    def saved(self) -> Figure | None:
        """Share of the base's time that is saved, with its interval; below 0 where it takes longer."""
        return _saved(self.trial)

    @property
    def is_measurable(self) -> bool:
        """Whether the time differs measurably from the base's."""
        times = self.trial.times_faster if self.trial is not None else None
        return times is not None and is_difference(times)


def _saved(trial: TrialResult | None) -> Figure | None:
    times = trial.times_faster if trial is not None else None
    return None if times is None else Figure(1 - 1 / times.value, 1 - 1 / times.low, 1 - 1 / times.high)


def rows_of(results: Results, record: RunRecord | None) -> list[Row]:
    """A row for every cheaper value of every feature: measured ones first, those that save most at the top; then those that
    were not tried, by the time of their materials. `record` is that of the base's typical run."""
    spent = record.seconds_by_material if record is not None else {}
    seen = record.picture_by_material if record is not None else {}
    total = sum(spent.values())
    rows = []
    for setting in results.study.catalogue.of_scene:
        material = setting.label.partition(": ")[0]
        share = spent.get(material, 0.0) / total if total else None
        for value in setting.values:
            if value != setting.default:
                name = results.alone.get(setting.key, {}).get(value)
                trial = results.by_id[name] if name is not None else None
                measured = trial if trial is not None and trial.is_on_map else None
                rows.append(Row(setting, value, material, share, seen.get(material, 0.0) if seen else None, measured))
    return sorted(rows, key=_order)


def _order(row: Row) -> tuple[bool, float]:
    saved = row.saved
    return saved is None, -(saved.value if saved is not None else row.share or 0.0)


def words_of(row: Row, results: Results) -> str:
    """What came of it: "costs 12 %, gone within all limits"; "costs 3 %, but light shift 4.0 of 1.0 is over its limit"."""
    saved, trial = row.saved, row.trial
    if saved is None or trial is None:
        told = ["not tried yet"]
        if row.seen == 0:
            told.append("no pixel shows its material first")
        elif row.share is not None:
            told.append(
                f"its pixels take {row.share:.0%} of the time" + (f", {row.seen:.0%} of the picture" if row.seen else "")
            )
        return "; ".join([*told, *([row.setting.why_tried] if row.setting.why_tried else [])])
    if not row.is_measurable:
        cost = "costs nothing measurable"
    elif saved.value < 0:
        cost = f"takes {-saved.value:.0%} longer without"
    else:
        cost = f"costs {saved.value:.0%} ({max(0.0, saved.low):.0%} to {saved.high:.0%})"
    if trial.verdict == ACCEPTABLE:
        return f"{cost}, gone within all limits"
    if trial.verdict == NOT_ACCEPTABLE:
        return f"{cost}, but {why_not(trial, results)}"
    return f"{cost}; {why_not(trial, results)}"


def audited(study: Study, record: RunRecord | None = None) -> Study:
    """The study with one trial for each feature, left out or in its cheapest form; the costliest materials first, by a record
    of the base, no more than MOST_AUDITED."""
    spent = record.seconds_by_material if record is not None else {}
    settings = sorted(study.catalogue.of_scene, key=lambda s: -spent.get(s.label.partition(": ")[0], 0.0))
    tried = dict(study.values_to_try())
    for setting in settings[:MOST_AUDITED]:
        cheapest = setting.values[-1]
        tried[setting.key] = tuple(dict.fromkeys((*tried.get(setting.key, ()), study.base[setting.key], cheapest)))
    return study.with_values_to_try(tried)


@dataclass(frozen=True)
class Together:
    """Features that each cost something and are gone within all limits, taken away at once: what their times alone would
    give, and the trial that tells whether they act on each other, None while there is none."""

    changes: Mapping[str, Value]
    expected: Figure
    """share of the base's time, if each acted by itself"""
    trial: TrialResult | None

    @property
    def saved(self) -> Figure | None:
        """Share of the base's time that was measured to be saved."""
        return _saved(self.trial)


def together(rows: Sequence[Row], results: Results) -> Together | None:
    """All features that nobody misses, at once, each at the value that saves most; None where fewer than two are known."""
    best: dict[str, Row] = {}
    for row in rows:
        known, saved = best.get(row.setting.key), row.saved
        if saved is None or row.trial is None or not row.is_measurable or saved.value <= 0 or row.trial.verdict != ACCEPTABLE:
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
    trial = next((trial for trial in results.trials if trial.configuration == wanted and trial.is_on_map), None)
    return Together(changes, expected, trial)


def words_of_all(found: Together, results: Results) -> str:
    """What taking all of them away wins: expected, or as it was measured."""
    saved, trial, expected = found.saved, found.trial, found.expected
    about = f"{expected.value:.0%} ({max(0.0, expected.low):.0%} to {expected.high:.0%})"
    if saved is None or trial is None:
        return f"{len(found.changes)} features are not missed; all gone at once would save about {about}"
    acts = (
        "less than alone" if saved.high < expected.low else "more than alone" if saved.low > expected.high else "as expected"
    )
    limits = "within all limits" if trial.verdict == ACCEPTABLE else why_not(trial, results)
    return f"{len(found.changes)} features gone at once save {saved.value:.0%}, {acts} ({about}); {limits}"


def as_data(row: Row, results: Results) -> dict[str, object]:
    """The same as plain data."""
    saved, trial = row.saved, row.trial
    return {
        "key": row.setting.key,
        "material": row.material,
        "value": row.value,
        "share_of_time": row.share,
        "share_of_picture": row.seen,
        "saved": None if saved is None else [saved.value, saved.low, saved.high if math.isfinite(saved.high) else None],
        "times_faster": None if trial is None else show_factor(trial.times_faster),
        "verdict": None if trial is None else trial.verdict,
        "words": words_of(row, results),
    }

"""What each feature of the scene costs, and whether anyone would see it gone: one feature at a time against the base."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

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
    trial: TrialResult | None

    @property
    def saved(self) -> Figure | None:
        """Share of the base's time that is saved, with its interval; below 0 where it takes longer."""
        times = self.trial.times_faster if self.trial is not None else None
        return None if times is None else Figure(1 - 1 / times.value, 1 - 1 / times.low, 1 - 1 / times.high)

    @property
    def is_measurable(self) -> bool:
        """Whether the time differs measurably from the base's."""
        times = self.trial.times_faster if self.trial is not None else None
        return times is not None and is_difference(times)


def rows_of(results: Results, record: RunRecord | None) -> list[Row]:
    """A row for every cheaper value of every feature: measured ones first, those that save most at the top; then those that
    were not tried, by the time of their materials. `record` is that of the base's typical run."""
    spent = record.seconds_by_material if record is not None else {}
    total = sum(spent.values())
    rows = []
    for setting in results.study.catalogue.of_scene:
        material = setting.label.partition(": ")[0]
        share = spent.get(material, 0.0) / total if total else None
        for value in setting.values:
            if value != setting.default:
                name = results.alone.get(setting.key, {}).get(value)
                trial = results.by_id[name] if name is not None else None
                rows.append(Row(setting, value, material, share, trial if trial is not None and trial.is_on_map else None))
    return sorted(rows, key=_order)


def _order(row: Row) -> tuple[bool, float]:
    saved = row.saved
    return saved is None, -(saved.value if saved is not None else row.share or 0.0)


def words_of(row: Row, results: Results) -> str:
    """What came of it: "costs 12 %, gone within all limits"; "costs 3 %, but light shift 4.0 of 1.0 is over its limit"."""
    saved, trial = row.saved, row.trial
    if saved is None or trial is None:
        told = ["not tried yet"]
        if row.share is not None:
            told.append(f"its pixels take {row.share:.0%} of the time")
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


def only_features(study: Study) -> Study:
    """The study whose sweeps are those of features alone."""
    keys = {setting.key for setting in study.catalogue.of_scene}
    kept = {key: values for key, values in study.values_to_try().items() if key in keys}
    return replace(study, sweeps=()).with_values_to_try(kept)


def pairs(rows: Sequence[Row]) -> list[tuple[Row, Row]]:
    """Features of one material that each cost something measurable: what both together save may be less than their sum."""
    costly = [row for row in rows if row.is_measurable and row.saved is not None and row.saved.value > 0]
    return [
        (one, other)
        for k, one in enumerate(costly)
        for other in costly[k + 1 :]
        if one.material == other.material and one.setting is not other.setting
    ]


def as_data(row: Row, results: Results) -> dict[str, object]:
    """The same as plain data."""
    saved, trial = row.saved, row.trial
    return {
        "key": row.setting.key,
        "material": row.material,
        "value": row.value,
        "share_of_time": row.share,
        "saved": None if saved is None else [saved.value, saved.low, saved.high if math.isfinite(saved.high) else None],
        "times_faster": None if trial is None else show_factor(trial.times_faster),
        "verdict": None if trial is None else trial.verdict,
        "words": words_of(row, results),
    }

"""What the ledger shows, worked out from a snapshot; no widgets in here."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from swift_sample.app.field import Field
from swift_sample.core.measure.timing import is_difference
from swift_sample.core.renderers.port import SceneFacts
from swift_sample.core.settings import Setting, Value
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, UNMEASURED, quantity
from swift_sample.core.study.answers.field import FieldPoint
from swift_sample.core.study.answers.pick_report import show_factor, show_seconds
from swift_sample.core.study.answers.results import Results, show_error
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.plan.model import Study

NO_DIFFERENCE = "no measurable difference"


@dataclass(frozen=True, kw_only=True)
class ChipState:
    """What a chip shows. `time_share` is its time over the longest in the row, None while it is not
    measured."""

    value: Value
    is_base: bool
    planned: bool
    time_share: float | None
    verdict: str
    tip: str
    forbidden: bool = False
    """it must not be used: measured, but never picked"""
    told: str = ""
    """its time and verdict in words; empty while it is not measured"""
    foreseen: bool = False
    """whether its verdict is of a derived picture, and its time only foreseen"""
    fixed: bool = False
    """it is there, or not, whatever is wanted: of finished renders"""


@dataclass(frozen=True, kw_only=True)
class StripState:
    """One setting: its chips, and a remark on what it can win."""

    declared: Setting
    chips: tuple[ChipState, ...]
    remark: str
    idle_reason: str
    """why the setting has no effect on this scene or beside the base's other values; empty where it
    has"""
    leverage: float
    """share of the base's time that its best acceptable value saves; 0 for none"""
    folded: bool = False
    """its chips are worth no room, unless asked for"""
    in_other_bases: str = ""
    """what the kept bases have here, where it is not what the base has: "night 4 · preview 2";
    empty otherwise"""

    @property
    def is_tried(self) -> bool:
        """Whether values beside the base's are tried."""
        return any(chip.planned and not chip.is_base for chip in self.chips)

    @property
    def matters(self) -> bool:
        """Whether it stands first: it is tried, was found to win something, or is what kept bases
        differ in."""
        return self.is_tried or self.leverage > 0 or bool(self.in_other_bases)


class StripStates:
    """A strip for every setting, in the catalogue's order; one is worked out anew only where
    something of it changed, so that a dragged line costs little."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[tuple[object, ...], StripState]] = {}

    def of(
        self,
        study: Study,
        results: Results | None,
        facts: SceneFacts | None = None,
        field: Field | None = None,
    ) -> list[StripState]:
        """`field` tells of values that were derived and not timed."""
        alone = _alone_by_value(study, results)
        strips = []
        origin, base = (results.origin, results.base) if results is not None else (None, None)

        for key, declared in study.catalogue.items():
            trials = alone.get(key, {})
            verdicts = tuple(trial.verdict for trial in trials.values())
            base_verdict = base.verdict if base is not None else ""
            mine = (study, origin, facts, field, verdicts, base_verdict)
            known = self._known.get(key)

            if known is None or any(
                one is not other and (place < 4 or one != other)
                for place, (one, other) in enumerate(zip(known[0], mine, strict=True))
            ):
                known = self._known[key] = (
                    mine,
                    _strip(study, results, declared, trials, facts, field),
                )

            strips.append(known[1])

        return strips


def strip_states(
    study: Study, results: Results | None, facts: SceneFacts | None = None
) -> list[StripState]:
    """A strip for every setting, in the catalogue's order."""
    return StripStates().of(study, results, facts)


def group_words(states: Sequence[StripState]) -> str:
    """What a folded group comes to: "2 of 7 tried, wins up to 41 %"."""
    tried = sum(state.is_tried for state in states)
    best = max((state.leverage for state in states), default=0.0)

    if tried:
        words = f"{tried} of {len(states)} tried"
    elif len(states) > 1:
        words = f"{len(states)} settings"
    else:
        words = "1 setting"

    return words + (f", wins up to {best:.0%}" if best >= 0.005 else "")


def trail_of(study: Study, results: Results, key: str) -> list[TrialResult]:
    """The measured trials that differ from the base in one setting only, with the base, in the
    order of the values."""
    by_value = _alone_by_value(study, results).get(key, {})
    trials = [t for t in (*by_value.values(), results.base) if t is not None and t.is_on_map]

    def place(trial: TrialResult) -> float:
        value = trial.configuration[key]
        declared = study.catalogue[key]
        return (
            float(declared.values.index(str(value))) if declared.kind == "choice" else float(value)
        )

    return sorted(trials, key=place)


def _alone_by_value(study: Study, results: Results | None) -> dict[str, dict[Value, TrialResult]]:
    """Trials that differ from the base in exactly one setting."""
    if results is None or study.base != results.study.base:
        return {}  # a base that was just edited: its results follow in a moment
    return {
        key: {value: results.by_id[name] for value, name in values.items()}
        for key, values in results.alone.items()
    }


def _strip(
    study: Study,
    results: Results | None,
    declared: Setting,
    alone: dict[Value, TrialResult],
    facts: SceneFacts | None,
    field: Field | None,
) -> StripState:
    key = declared.key
    base_value = study.base[declared.key]
    fixed = not study.catalogue.capabilities.starts
    planned = {
        base_value,
        *study.values_to_try().get(key, ()),
        *(declared.suggested if fixed else alone),
    }
    base = results.base if results is not None else None
    offered = facts.choices.get(key, ()) if facts is not None else ()
    shown = list(dict.fromkeys([*declared.suggested, *offered, *planned]))

    if declared.kind in ("whole", "number"):
        shown.sort(key=float)

    trials = {**alone, **({base_value: base} if base is not None else {})}
    points = _derived_alone(study, results, key, shown, trials, field)
    told = [trial.seconds for trial in trials.values()]
    told += [point.seconds for point in points.values()]
    longest = max((seconds.value for seconds in told if seconds is not None), default=0.0)
    chips = []

    for value in shown:
        chip = _chip(study, results, declared, value, value in planned, trials.get(value), longest)
        if value in points:
            chip = _foreseen(chip, points[value], longest)
        chips.append(replace(chip, fixed=fixed))

    reason = facts.reason_against(declared.needs) if facts is not None else ""
    if not reason and study.base.is_idle(declared) and declared.neutral_when is not None:
        other = study.catalogue[declared.neutral_when[0]]
        reason = (
            f"has no effect with {other.full_label.lower()}: {other.show(study.base[other.key])}"
        )

    leverage, remark = _leverage(alone, results)
    others = " · ".join(
        f"{name} {declared.show(kept[key])}"
        for name, kept in study.bases.items()
        if key in kept and kept[key] != base_value
    )
    return StripState(
        declared=declared,
        chips=tuple(chips),
        remark=remark,
        idle_reason=reason,
        leverage=leverage,
        folded=bool(reason) or remark == NO_DIFFERENCE,
        in_other_bases=others,
    )


def _derived_alone(
    study: Study,
    results: Results | None,
    key: str,
    values: Sequence[Value],
    trials: Mapping[Value, TrialResult],
    field: Field | None,
) -> dict[Value, FieldPoint]:
    """What recordings say of the base with other values of one setting, those that were timed left
    out."""
    if field is None or results is None or study.base != results.study.base:
        return {}

    timed = {value for value, trial in trials.items() if trial.seconds is not None}
    wanted = {v: study.base.replace({key: v}).effective() for v in values if v not in timed}
    return {v: field.known[one] for v, one in wanted.items() if one in field.known}


def _foreseen(chip: ChipState, point: FieldPoint, longest: float) -> ChipState:
    """A chip with what recordings say of its value."""
    if point.seconds is None:
        return chip

    told = f"about {show_seconds(point.seconds.value)}, foreseen, {point.verdict}"
    return replace(
        chip,
        time_share=point.seconds.value / longest if longest else None,
        verdict=point.verdict,
        tip=f"{chip.tip}\n{told}, not timed",
        told=told,
        foreseen=True,
    )


def _chip(
    study: Study,
    results: Results | None,
    declared: Setting,
    value: Value,
    planned: bool,
    trial: TrialResult | None,
    longest: float,
) -> ChipState:
    is_base = value == study.base[declared.key]
    tip = f"{declared.label} {declared.show(value)}"
    if is_base:
        tip += ", as in the base"

    share = None
    if results is not None and trial is not None and trial.seconds is not None:
        share = trial.seconds.value / longest if longest else None
        tip += f"\n{show_seconds(trial.seconds.value)}" + (
            "" if is_base else f", {show_factor(trial.times_faster)}"
        )
        tip += "".join(
            f"\n{quantity(k).label} {show_error(k, trial, results)}" for k in trial.shares
        )
    elif trial is not None and trial.failure:
        tip += f"\nfailed: {trial.failure}"
    elif not planned:
        tip += "\nclick to try it"

    forbidden = value in study.forbidden.get(declared.key, ())
    tip += "\nmust not be used: measured, but never picked" if forbidden else ""
    told = (
        f"{show_seconds(trial.seconds.value)}, {trial.verdict}"
        if trial is not None and trial.seconds is not None
        else ""
    )

    return ChipState(
        value=value,
        is_base=is_base,
        planned=planned,
        time_share=share,
        verdict=trial.verdict if trial is not None else UNMEASURED,
        tip=tip,
        forbidden=forbidden,
        told=told,
    )


def _leverage(alone: dict[Value, TrialResult], results: Results | None) -> tuple[float, str]:
    measured = [t for t in alone.values() if t.is_on_map and t.times_faster is not None]
    if not measured or results is None:
        return 0.0, ""

    different = [
        t for t in measured if t.times_faster is not None and is_difference(t.times_faster)
    ]
    if not different:
        same_picture = all(t.verdict == ACCEPTABLE for t in measured)
        return 0.0, NO_DIFFERENCE if same_picture else ""

    wins = [
        1 - 1 / t.times_faster.value
        for t in different
        if t.verdict == ACCEPTABLE and t.times_faster is not None
    ]
    best = max(wins, default=0.0)
    return (best, f"wins up to {best:.0%}") if best >= 0.005 else (0.0, "wins nothing acceptable")

"""Does it hold? The pick, the base and the runners-up at a second size or frame: whether their
order and factors stay."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import factor, is_difference
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE, quantity
from swift_sample.core.study.answers.pick import why_not
from swift_sample.core.study.answers.results import Results, collect
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.state import StudyState, replace_state
from swift_sample.core.study.plan.model import Study, Sweep

RUNNERS_UP = 2
HOLDS = "holds"
DOES_NOT = "does not hold"
CANNOT_TELL = "cannot be told"


@dataclass(frozen=True)
class Elsewhere:
    """A second size and frame, and the configurations that are looked at there; the base is always
    among them."""

    size: tuple[int, int]
    frame: int
    configurations: tuple[Configuration, ...]

    def plan(self, study: Study) -> Study:
        """What would be measured there: nothing but these, with watch areas in the same part of the
        picture."""
        wanted = [c.differences(study.base) for c in self.configurations]
        sweeps = tuple(
            Sweep("grid", {key: (value,) for key, value in changes.items()})
            for changes in wanted
            if changes
        )
        across = self.size[0] / study.size[0]
        down = self.size[1] / study.size[1]

        areas = tuple(
            replace(
                area,
                x=min(self.size[0] - 1, round(area.x * across)),
                y=min(self.size[1] - 1, round(area.y * down)),
                width=max(
                    1, min(self.size[0] - round(area.x * across), round(area.width * across))
                ),
                height=max(1, min(self.size[1] - round(area.y * down), round(area.height * down))),
            )
            for area in study.areas
        )
        return replace(
            study, size=self.size, frame=self.frame, sweeps=sweeps, areas=areas, frames=None
        )

    def state(self, state: StudyState) -> StudyState:
        """The study as it would be looked at there."""
        return replace_state(state, plan=self.plan(state.plan), shown=None)


def candidates(results: Results) -> tuple[Configuration, ...]:
    """The base, the pick and the fastest other acceptable trials."""
    pick = results.pick()
    if pick is None:
        return (results.study.base,)

    others = [
        t
        for t in results.trials
        if t.verdict == ACCEPTABLE and t is not pick.trial and t.seconds is not None
    ]
    others.sort(key=lambda t: t.seconds.value if t.seconds is not None else 0.0)
    found = [
        results.study.base,
        pick.trial.configuration,
        *(t.configuration for t in others[:RUNNERS_UP]),
    ]

    return tuple(dict.fromkeys(found))


@dataclass(frozen=True)
class Held:
    """One configuration here and there. `there` is None while it was not measured there."""

    configuration: Configuration
    here: TrialResult
    there: TrialResult | None


@dataclass(frozen=True)
class Answer:
    """What was found: `verdict` is one of HOLDS, DOES_NOT and CANNOT_TELL, `reasons` say why."""

    elsewhere: Elsewhere
    rows: tuple[Held, ...]
    verdict: str
    reasons: tuple[str, ...]


def compare(here: Results, state: StudyState, elsewhere: Elsewhere) -> Answer:
    """Compare a study's results with what is known there."""
    there = collect(elsewhere.state(state))
    rows = []

    for configuration in elsewhere.configurations:
        own = here.by_effect.get(configuration.effective())
        other = there.by_effect.get(configuration.effective())
        if own is not None:
            rows.append(
                Held(configuration, own, other if other is not None and other.is_on_map else None)
            )

    verdict, reasons = _verdict(here, there, rows)
    return Answer(elsewhere, tuple(rows), verdict, reasons)


def answers(here: Results, state: StudyState) -> tuple[Answer, ...]:
    """What is known at every other size and frame at which all of them were measured whole, in the
    order of first runs."""
    wanted = candidates(here)
    found = []

    for place in state.records:
        there = state.size_and_frame(place)
        if there is None or there == (state.plan.size, state.plan.frame) or len(wanted) < 2:
            continue

        elsewhere = Elsewhere(*there, wanted)
        if elsewhere.state(state).here != place:
            continue  # of another version of the scene or the renderer

        answer = compare(here, state, elsewhere)
        if all(row.there is not None and row.there.is_whole for row in answer.rows):
            found.append((min(run.number for run in state.at(place).runs), answer))

    return tuple(answer for _, answer in sorted(found, key=lambda pair: pair[0]))


def _verdict(here: Results, there: Results, rows: Sequence[Held]) -> tuple[str, tuple[str, ...]]:
    pick = here.pick()
    if pick is None or any(row.there is None for row in rows):
        return CANNOT_TELL, (
            "not everything was measured there yet"
            if pick is not None
            else "there is no pick to compare",
        )

    row = next((row for row in rows if row.here.id == pick.trial.id), None)
    if row is None or row.there is None:
        return CANNOT_TELL, ("the pick was not measured there",)

    name = row.configuration.describe(here.study.base)
    against = []
    open_ = []

    if row.there.verdict == NOT_ACCEPTABLE:
        against.append(f"{name} is not acceptable there: {why_not(row.there, there)}")
    elif row.there.verdict != ACCEPTABLE:
        open_.append(f"whether {name} is acceptable there is open: {why_not(row.there, there)}")

    for other in rows:
        if other.there is None or other is row:
            continue
        order = _order(row, other, here, there)
        if order != HOLDS:
            (against if order == DOES_NOT else open_).append(
                _order_words(row, other, here.study.base, order)
            )

    changed = _factors(row)
    if changed:
        against.append(changed)
    if against:
        return DOES_NOT, tuple(against)
    if open_:
        return CANNOT_TELL, tuple(open_)

    return HOLDS, ("the order stays, and so do the factors as far as they can be told",)


def _order(row: Held, other: Held, here: Results, there: Results) -> str:
    """Whether what is measurably faster here is so there."""
    assert row.there is not None
    assert other.there is not None
    before = factor(other.here.times, row.here.times, here.spread)
    after = factor(other.there.times, row.there.times, there.spread)

    if not is_difference(before):
        return HOLDS
    if is_difference(after):
        return HOLDS if (after.value > 1) == (before.value > 1) else DOES_NOT

    return CANNOT_TELL


def _order_words(row: Held, other: Held, base: Configuration, order: str) -> str:
    name = row.configuration.describe(base)
    beside = other.configuration.describe(base)
    beside = "the base" if other.here.is_base else beside
    name = "the base" if row.here.is_base else name

    return (
        f"{name} is not faster there than {beside}"
        if order == DOES_NOT
        else f"{name} and {beside} cannot be told apart there"
    )


def _factors(row: Held) -> str:
    """That the factor of the pick differs measurably; "" where it does not."""
    before = row.here.times_faster
    after = row.there.times_faster if row.there is not None else None
    if before is None or after is None or row.here.is_base or _overlap(before, after):
        return ""

    return (
        f"it is {after.value:.1f}× as fast as the base there ({after.low:.1f} to "
        f"{after.high:.1f}), here {before.value:.1f}×"
    )


def _overlap(one: Figure, other: Figure) -> bool:
    return one.low <= other.high and other.low <= one.high


def sentences(found: Answer, base: Configuration) -> list[str]:
    """The comparison for the terminal and the report."""
    size = found.elsewhere.size
    frame = found.elsewhere.frame
    lines = [f"at {size[0]}x{size[1]}, frame {frame}: {found.verdict}: {'; '.join(found.reasons)}"]

    for row in found.rows:
        name = "base" if row.here.is_base else row.configuration.describe(base)
        lines.append(f"  {name}: here {_row_words(row.here)}; there {_row_words(row.there)}")

    return lines


def _row_words(trial: TrialResult | None) -> str:
    if trial is None or trial.seconds is None:
        return "not measured"

    factor = (
        "" if trial.times_faster is None or trial.is_base else f", {trial.times_faster.value:.2f}×"
    )
    closest = trial.worst_limit() if trial.shares else ""
    share = (
        f", {quantity(closest).label} at {trial.shares[closest].value:.0%} of its limit"
        if closest
        else ""
    )

    return f"{trial.seconds.value:.2f} s{factor}, {trial.verdict}{share}"


def as_data(found: Answer, base: Configuration) -> dict[str, object]:
    """The comparison for `--json`."""

    def row(trial: TrialResult | None) -> dict[str, object] | None:
        if trial is None or trial.seconds is None:
            return None

        factor = trial.times_faster
        return {
            "seconds": trial.seconds.numbers,
            "times_faster_than_base": factor.numbers if factor is not None else None,
            "verdict": trial.verdict,
            "limit_share": trial.share.numbers if trial.share is not None else None,
        }

    return {
        "size": list(found.elsewhere.size),
        "frame": found.elsewhere.frame,
        "verdict": found.verdict,
        "reasons": list(found.reasons),
        "trials": [
            {
                "differs_from_base": dict(r.configuration.differences(base)),
                "here": row(r.here),
                "there": row(r.there),
            }
            for r in found.rows
        ],
    }

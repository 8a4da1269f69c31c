"""Every edit of a plan, once: window, command line and *Begin* make the same change by the same
words.

An edit is a label, which undoing says, and a pure change of the plan. What cannot be raises a
`SwiftSampleError` when the change is made, and nothing is changed then.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from swift_sample.core.errors import UsageError
from swift_sample.core.measure.kinds import WORST_MARK
from swift_sample.core.picture.view import View
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.plan.model import (
    IMAGE_LIMITS,
    LIMIT_KEYS,
    NO_REMARK,
    SHARES_KEPT,
    FramePlan,
    Limits,
    Remark,
    Study,
    Sweep,
    WatchArea,
)

Change = Callable[[Study], Study]

WORST_TIMES = {"grain": 2.0, "light_shift": 2.0, "detail_kept": 3.0}
"""How many times the limit of the whole picture its worst place may have, unless a person says
otherwise; of detail kept, how many times as much may be lost there. The limits of a new study stand
in these proportions."""
LEAST_KEPT = 1.0
"""The least share of detail, in percent, that a limit that follows another asks for."""


@dataclass(frozen=True)
class PlanEdit:
    """A change of the plan. `label` is what undoing it is called; edits of one `field` soon after
    one another are undone together, and "" is none."""

    label: str
    change: Change
    field: str = ""


def together(edits: Sequence[PlanEdit]) -> PlanEdit:
    """Several edits, undone as one."""

    def change(plan: Study) -> Study:
        for one in edits:
            plan = one.change(plan)
        return plan

    return PlanEdit(", ".join(one.label for one in edits), change)


# What is rendered


def set_base_values(changes: Mapping[str, Value]) -> PlanEdit:
    """Other values of the base. The old ones stay among the values to try, so that what they cost
    is still known."""

    def change(plan: Study) -> Study:
        base = plan.base.replace(changes)
        tried = dict(plan.values_to_try())

        for key in changes:
            values = (*tried.get(key, ()), plan.base[key], base[key])
            tried[key] = tuple(dict.fromkeys(values))

        return replace(plan, base=base).with_values_to_try(tried)

    return PlanEdit(f"Base: {', '.join(changes)}", change, f"base {' '.join(changes)}")


def set_base(base: Configuration) -> PlanEdit:
    """A whole configuration as the base."""
    return PlanEdit("Other base", lambda plan: replace(plan, base=base))


def use_base(name: str) -> PlanEdit:
    """What is kept under a name as the base."""
    return PlanEdit(f"Base: {name}", lambda plan: plan.with_base_of(name))


def keep_base(name: str) -> PlanEdit:
    """The base kept under a name."""
    return PlanEdit(f"Keep the base as {name}", lambda plan: plan.with_base_kept(name, plan.base))


def forget_base(name: str) -> PlanEdit:
    """A name under which nothing is kept any more."""

    def change(plan: Study) -> Study:
        if name not in plan.bases:
            plan.with_base_of(name)  # says so
        return plan.with_base_kept(name, None)

    return PlanEdit(f"Delete the base {name}", change)


def set_scene(
    size: tuple[int, int] | None = None,
    frame: int | None = None,
    view: View | None = None,
    stage: Callable[[Staging], Staging] = lambda staging: staging,
) -> PlanEdit:
    """Size, frame, view, light and camera; None leaves one as it is."""

    def change(plan: Study) -> Study:
        return replace(
            plan.with_size(size or plan.size),
            frame=plan.frame if frame is None else frame,
            view=plan.view if view is None else view,
            staging=stage(plan.staging),
        )

    return PlanEdit("What is rendered", change)


def as_begun(draft: Study) -> PlanEdit:
    """All that can be chosen where a study is begun, as it was chosen."""

    def change(plan: Study) -> Study:
        return replace(
            plan.with_size(draft.size),
            base=draft.base,
            sweeps=draft.sweeps,
            limits=draft.limits,
            first_picture_limits=draft.first_picture_limits,
            no_worse_than_base=draft.no_worse_than_base,
            goal=draft.goal,
            frame=draft.frame,
            view=draft.view,
            staging=draft.staging,
        )

    return PlanEdit("What is rendered, tried and accepted", change)


def set_frames(frames: FramePlan) -> PlanEdit:
    """The sequence that the scene is rendered for."""
    return PlanEdit("Sequence", lambda plan: replace(plan, frames=frames))


# What is tried


def set_values(key: str, values: Sequence[Value], keep: bool = False) -> PlanEdit:
    """The values to try of one setting, none to leave it alone; with `keep` beside those that are
    tried already."""

    def change(plan: Study) -> Study:
        declared = plan.catalogue.setting(key)
        tried = plan.values_to_try()
        before = tried.get(declared.key, ()) if keep else ()
        return plan.with_values_to_try(
            {**tried, declared.key: tuple(dict.fromkeys((*before, *values)))}
        )

    return PlanEdit(f"Values of {key}", change)


def try_changes(changes: Mapping[str, Value]) -> PlanEdit:
    """A trial that differs from the base in these values."""
    if len(changes) == 1:
        ((key, value),) = changes.items()
        return replace(
            set_values(key, (value,), keep=True), label="Trial to test a finding", field=""
        )

    values = {key: (value,) for key, value in changes.items()}
    return PlanEdit(
        "Trial to test a finding",
        lambda plan: replace(plan, sweeps=(*plan.sweeps, Sweep("grid", values))),
    )


def set_grid(keys: Sequence[str]) -> PlanEdit:
    """All combinations of what is tried of these settings; without any, no such combinations any
    more."""

    def change(plan: Study) -> Study:
        if not keys:
            return replace(plan, sweeps=tuple(one for one in plan.sweeps if one.kind != "grid"))
        return plan.with_grid([plan.catalogue.setting(key).key for key in keys])

    return PlanEdit("Combinations", change)


def forbid(key: str, value: Value, forbidden: bool = True) -> PlanEdit:
    """A value that must not be used, or may be again."""
    words = "must not be used" if forbidden else "may be used"

    def change(plan: Study) -> Study:
        return plan.forbidding(plan.catalogue.setting(key).key, value, forbidden)

    return PlanEdit(f"{key} {words}", change)


def remark(trial: str, said: Remark, before: Remark = NO_REMARK) -> PlanEdit:
    """A trial's name, note, or why it is left out; empty text takes it back."""
    label = "Name and note of a trial"
    if said.left_out != before.left_out:
        label = "Leave a trial out" if said.left_out else "Count a trial again"

    return PlanEdit(label, lambda plan: plan.remarked(trial, said))


# What is acceptable


def set_limit(key: str, value: float | None, in_force: Limits | None = None) -> PlanEdit:
    """One limit of the goal, or None for no limit. That of the worst place follows that of the
    picture, unless it was set apart.

    `in_force` are the limits that count now. Where those of the picture come from the base ("no
    worse than the base"), setting one of them keeps the others as they are in force; limits of time
    and memory leave that rule alone.
    """
    if key not in LIMIT_KEYS:
        raise UsageError(f"{key}: no such limit; expected one of {', '.join(LIMIT_KEYS)}")

    def change(plan: Study) -> Study:
        from_base = plan.no_worse_than_base and key in IMAGE_LIMITS
        before = in_force if from_base and in_force is not None else plan.goal_limits
        after = replace(before, **{key: value}, **_worst_following(before, key, value))
        return replace(
            plan.with_goal_limits(after),
            no_worse_than_base=plan.no_worse_than_base and not from_base,
        )

    words = "no limit" if value is None else f"limit {value:g}"
    return PlanEdit(f"{key}: {words}", change, f"limit {key}")


def _worst_following(before: Limits, key: str, value: float | None) -> dict[str, float | None]:
    """The limit of the worst place that follows one of the picture, by its key; nothing where it
    was set apart."""
    if key not in WORST_TIMES:
        return {}

    worst = f"{key}{WORST_MARK}"
    follows = getattr(before, worst) == worst_limit(key, getattr(before, key))
    return {worst: worst_limit(key, value)} if follows else {}


def worst_limit(key: str, value: float | None) -> float | None:
    """The limit of the worst place that goes with one of the picture, in the unit of the measure;
    None for none."""
    if value is None:
        return None
    if key in SHARES_KEPT:
        return max(LEAST_KEPT, 100 - WORST_TIMES[key] * (100 - value))

    return WORST_TIMES[key] * value


def set_area_limit(area: str, key: str, value: float | None) -> PlanEdit:
    """One limit of a watch area's own, or None for no limit."""
    if key not in LIMIT_KEYS:
        raise UsageError(f"{key}: no such limit; expected one of {', '.join(LIMIT_KEYS)}")

    def change(plan: Study) -> Study:
        own = area_named(plan, area)
        limits = own.limits or Limits(**dict.fromkeys(LIMIT_KEYS))
        return plan.with_area(own, replace(own, limits=replace(limits, **{key: value})))

    return PlanEdit(f"{key} in {area}", change, f"limit {key} {area}")


def set_no_worse(no_worse: bool) -> PlanEdit:
    """Whether the base's own errors are the limits of the picture, or those that are set."""
    label = "No worse than the base" if no_worse else "Limits of its own"
    return PlanEdit(label, lambda plan: replace(plan, no_worse_than_base=no_worse))


def set_goal(goal: str) -> PlanEdit:
    """What is compared: total times, or times until anything is visible."""
    return PlanEdit("Goal", lambda plan: replace(plan, goal=goal))


def accept(limits: Limits, line: float) -> PlanEdit:
    """The limits that a dragged acceptance line stands for."""
    return PlanEdit("Limits from the line", lambda plan: plan.accepting(limits, line))


# How it is measured


def set_repeats(repeats: int) -> PlanEdit:
    """Runs of each trial."""
    return PlanEdit(
        f"{repeats} runs a trial", lambda plan: replace(plan, repeats=repeats), "repeats"
    )


def set_renders_per_opening(renders: int) -> PlanEdit:
    """How often the scene is rendered each time it is opened."""
    return PlanEdit(
        f"{renders} renders per opening",
        lambda plan: replace(plan, renders_per_opening=renders),
        "renders per opening",
    )


# Watch areas


def area_named(plan: Study, name: str) -> WatchArea:
    """A watch area. Raises UsageError where there is none of that name."""
    for area in plan.areas:
        if area.name == name:
            return area

    there = (
        f"there are {', '.join(area.name for area in plan.areas)}"
        if plan.areas
        else "there is none yet"
    )
    raise UsageError(f"area {name}: there is none of that name; {there}")


def watch(name: str, x: int, y: int, width: int, height: int) -> PlanEdit:
    """A part of the picture watched under a name, in pixels from the top left; one of that name is
    put there."""

    def change(plan: Study) -> Study:
        placed = tuple(
            replace(area, x=x, y=y, width=width, height=height) if area.name == name else area
            for area in plan.areas
        )
        if any(area.name == name for area in plan.areas):
            return replace(plan, areas=placed)

        return replace(
            plan, areas=(*plan.areas, WatchArea(name=name, x=x, y=y, width=width, height=height))
        )

    return PlanEdit(f"Watch {name}", change, f"area {name}")


def rename_area(old: str, new: str) -> PlanEdit:
    """Another name of a watch area."""
    name = new.strip()
    return PlanEdit(
        f"Name {name}",
        lambda plan: plan.with_area(
            area_named(plan, old), replace(area_named(plan, old), name=name)
        ),
    )


def remove_area(name: str) -> PlanEdit:
    """A part of the picture that is watched no longer."""
    return PlanEdit(f"No {name}", lambda plan: plan.with_area(area_named(plan, name), None))

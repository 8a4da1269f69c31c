"""Commands that change a study's plan: everything that the window's pages edit. Each says what
became of it; `--json` prints the plan. A study that is open in the window is edited there."""

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.completing import (
    complete_changes,
    complete_keys,
    complete_measures,
    complete_values,
)
from swift_sample.commands.measuring import driving
from swift_sample.commands.staging import with_staging
from swift_sample.commands.terminal import Size, changes_of, check_writable, quoted, say
from swift_sample.core.errors import UsageError
from swift_sample.core.picture.view import CURVES, View
from swift_sample.core.scene.lighting import SOFT_SKY, is_dark
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.typed import read_values
from swift_sample.core.study.plan.words import staging_words

if TYPE_CHECKING:
    from swift_sample.core.renderers.port import Finding, SceneFacts
    from swift_sample.core.study.answers.results import Results
    from swift_sample.core.study.answers.trial import TrialResult
    from swift_sample.core.study.measuring.snapshot import Snapshot
    from swift_sample.core.study.plan.edits import PlanEdit
    from swift_sample.core.study.plan.model import Study

    EditOf = Callable[[Snapshot], PlanEdit]

STUDY = click.argument("study", type=click.Path(path_type=Path))
AS_JSON = click.option("--json", "as_json", is_flag=True, help="Print the plan as one JSON object.")
OFF = ("off", "none")
PAIR = 2


def edit_plan(path: Path, edit: "EditOf", as_json: bool, told: "Callable[[Study], str]") -> int:
    """Change a study's plan, and say what became of it. An edit may depend on what the study
    knows."""
    from swift_sample.core.study.answers.acceptance import small_picture_words
    from swift_sample.core.study.plan.file import plan_as_data

    with driving(path) as driver:
        driver.start()
        made = edit(driver.snapshot)
        plan = driver.edit(made.label, made.change, made.field).result().plan
        waiting = driver.snapshot.trials_waiting
        trials = len(driver.state.planned)

    if as_json:
        print(json.dumps(plan_as_data(plan)))

    say(told(plan))
    for words in small_picture_words(plan):
        say(words)

    if not plan.catalogue.capabilities.starts:
        return 0  # what there is was measured, and nothing else can be

    left = (
        f"{waiting} of {trials} trials to measure" if waiting else f"{trials} trials, all measured"
    )
    say(f"{left}, {plan.combinations():,} combinations for `swift-sample search {quoted(path)}`")
    return 0


@click.command(name="set")
@STUDY
@click.argument(
    "changes", nargs=-1, required=True, metavar="KEY=VALUE...", shell_complete=complete_changes
)
@AS_JSON
def set_(study: Path, changes: tuple[str, ...], as_json: bool) -> int:
    """Change values of the base: your settings today. The old values stay among those to try."""
    from swift_sample.core.study.plan import edits

    return edit_plan(
        study,
        lambda known: edits.set_base_values(changes_of(changes, known.study.catalogue)),
        as_json,
        lambda plan: f"base: {plan.base.describe(most=12)}",
    )


@click.command(name="try")
@STUDY
@click.argument("key", shell_complete=complete_keys)
@click.argument("values", nargs=-1, shell_complete=complete_values)
@click.option("--add", is_flag=True, help="Keep the values that are tried already.")
@AS_JSON
def try_(study: Path, key: str, values: tuple[str, ...], add: bool, as_json: bool) -> int:
    """Choose the values to try of one setting: 16 32 64, or 16..256 x2; none at all leaves it
    alone."""
    from swift_sample.core.study.plan import edits

    def edit(known: "Snapshot") -> "PlanEdit":
        declared = known.study.catalogue.setting(key)
        return edits.set_values(
            key, read_values(declared, " ".join(values)) if values else (), keep=add
        )

    def told(plan: "Study") -> str:
        declared = plan.catalogue.setting(key)
        tried = plan.values_to_try().get(declared.key, ())
        return f"{declared.label}: {', '.join(map(declared.show, tried)) if tried else 'not tried'}"

    return edit_plan(study, edit, as_json, told)


MEASURES = (
    "grain light_shift detail_kept stray_pixels grain_worst light_shift_worst detail_kept_worst "
    "rms perceptual seconds first_picture memory file"
)
"""Every limit by its key, for help; a test holds that these are all."""


@click.command(epilog=f"Measures: {', '.join(MEASURES.split())}.")
@STUDY
@click.argument(
    "limits", nargs=-1, required=True, metavar="MEASURE VALUE...", shell_complete=complete_measures
)
@click.option("--area", help="The limits of one watch area instead of the picture's.")
@AS_JSON
def limit(study: Path, limits: tuple[str, ...], area: str | None, as_json: bool) -> int:
    """Set how much of an error, time or memory is acceptable; off lifts a limit. Several at once:
    grain 3 detail_kept 90.

    The limit of the worst place follows that of the picture, unless it was set to something
    else."""
    from swift_sample.core.study.plan import edits
    from swift_sample.core.study.plan.model import LIMIT_KEYS

    if len(limits) % 2:
        raise UsageError(
            f"limit: expected a measure and its value, as in grain 3; got {' '.join(limits)}"
        )

    wanted = [
        (measure, _limit_value(measure, text))
        for measure, text in zip(limits[::2], limits[1::2], strict=True)
    ]
    for measure, _ in wanted:
        if measure not in LIMIT_KEYS:
            raise UsageError(f"{measure}: no such limit; expected one of {', '.join(LIMIT_KEYS)}")

    def edit(known: "Snapshot") -> "PlanEdit":
        if area is not None:
            made = [edits.set_area_limit(area, measure, value) for measure, value in wanted]
        else:
            made = [
                edits.set_limit(measure, value, known.results.limits) for measure, value in wanted
            ]

        return edits.together(made)

    def told(plan: "Study") -> str:
        if area is None:
            return "limits: " + ", ".join(
                f"{key} {limited:g}" for key, limited in plan.goal_limits.items()
            )
        own = edits.area_named(plan, area).limits or plan.goal_limits
        return f"limits of {area}: " + ", ".join(
            f"{key} {limited:g}" for key, limited in own.items()
        )

    return edit_plan(study, edit, as_json, told)


def _limit_value(measure: str, text: str) -> float | None:
    """A limit as it was typed; None for none. Raises UsageError."""
    try:
        return None if text.lower() in OFF else float(text)
    except ValueError:
        raise UsageError(f"{measure}={text}: expected a number, or off") from None


@click.command()
@STUDY
@click.argument("name")
@click.argument("place", required=False, metavar="X,Y,W,H")
@click.option("--remove", is_flag=True, help="Watch it no longer.")
@AS_JSON
def area(study: Path, name: str, place: str | None, remove: bool, as_json: bool) -> int:
    """Watch a part of the picture under a name."""
    from swift_sample.core.measure.compare import Area
    from swift_sample.core.study.plan import edits

    if (place is None) != remove:
        raise UsageError(f"area {name}: give its place as x,y,w,h, or --remove")

    def edit(known: "Snapshot") -> "PlanEdit":
        if place is None:
            return edits.remove_area(name)
        box = Area.parse(place)
        return edits.watch(name, box.x, box.y, box.width, box.height)

    def told(plan: "Study") -> str:
        return "watch areas: " + (
            ", ".join(f"{a.name} {a.x},{a.y},{a.width},{a.height}" for a in plan.areas) or "none"
        )

    return edit_plan(study, edit, as_json, told)


@click.command()
@STUDY
@click.option("--preset", type=click.Path(path_type=Path), help="A preset file.")
@click.option(
    "--from-render",
    type=click.Path(path_type=Path),
    help="A finished render whose header has its settings.",
)
@click.option("--from-pick", is_flag=True, help="The pick.")
@click.option("--use", metavar="NAME", help="What the study keeps under a name.")
@click.option("--keep", metavar="NAME", help="Keep the base under a name, whatever becomes of it.")
@click.option("--drop", metavar="NAME", help="Drop a name.")
@click.option(
    "--compare",
    metavar="NAME",
    help="Tell how what is kept under a name differs from the base, and what that did.",
)
@AS_JSON
def base(
    study: Path,
    preset: Path | None,
    from_render: Path | None,
    from_pick: bool,
    use: str | None,
    keep: str | None,
    drop: str | None,
    compare: str | None,
    as_json: bool,
) -> int:
    """Make a preset, the settings of a finished render, the pick, or what was kept under a name the
    base; keep it by name."""
    from swift_sample.core.renderers.headers import settings_of_file
    from swift_sample.core.settings.presets import read_preset
    from swift_sample.core.study.log.store import look_at_study
    from swift_sample.core.study.plan import edits

    if [
        from_pick,
        *(given is not None for given in (preset, from_render, use, keep, drop, compare)),
    ].count(True) != 1:
        raise UsageError(
            "base: give one of --preset, --from-render, --from-pick, --use, --keep, --drop and "
            "--compare"
        )
    if compare is not None:
        return _compare(study, compare, as_json)

    picked: Configuration | None = None
    if from_pick:
        from swift_sample.core.study.measuring.surroundings import read_snapshot

        with look_at_study(study) as reading:
            found = read_snapshot(reading).results.pick()

        if found is None:
            raise UsageError(
                f"{study}: has no pick yet; `swift-sample search {quoted(study)}` finds it"
            )
        picked = found.trial.configuration

    def edit(known: "Snapshot") -> "PlanEdit":
        catalogue = known.study.catalogue
        if keep is not None:
            return edits.keep_base(keep)
        if drop is not None:
            return edits.forget_base(drop)
        if use is not None:
            return edits.use_base(use)
        if preset is not None:
            return edits.set_base(read_preset(preset, catalogue))
        if from_render is not None:
            return edits.set_base(Configuration(catalogue, settings_of_file(from_render)))

        assert picked is not None
        return edits.set_base(picked)

    return edit_plan(study, edit, as_json, _base_words)


@click.command()
@STUDY
@click.option(
    "-o", "--output", type=click.Path(path_type=Path), help="The file to write; else it is printed."
)
@click.option(
    "--of", "which", type=click.Choice(("pick", "base")), default="pick", help="Whose settings."
)
@click.option(
    "--form",
    type=click.Choice(("list", "preset", "json", "command")),
    default="preset",
    help="As a list for typing, a preset, JSON, or a command.",
)
def preset(study: Path, output: Path | None, which: str, form: str) -> int:
    """Write the settings of the pick, or of the base, in one of four forms."""
    from swift_sample.core.settings.forms import FORMS, told_as
    from swift_sample.core.study.log.store import look_at_study
    from swift_sample.core.study.measuring.policies.specs import spec_of
    from swift_sample.core.study.measuring.surroundings import read_snapshot

    if output is not None:
        check_writable(output)

    with look_at_study(study) as reading:
        snapshot = read_snapshot(reading)
        plan = snapshot.study
        found = snapshot.results.pick()

    if which == "pick" and found is None:
        raise UsageError(
            f"{study}: has no pick yet; `swift-sample search {quoted(study)}` finds it, --of "
            "base writes the base"
        )

    chosen = found.trial.configuration if which == "pick" and found is not None else plan.base
    named = dict(zip(("list", "preset", "json", "command"), FORMS, strict=True))[form]
    command = reading.renderer.command_for(spec_of(plan, chosen, 1)) if form == "command" else ""
    text = told_as(named, chosen, plan.base, command)

    if output is None:
        print(text)
    else:
        output.write_text(text + "\n", encoding="utf-8")
        say(f"written to {output}")

    return 0


@click.command()
@STUDY
@click.option("--size", type=Size(), help="Width and height of the pictures.")
@click.option("--frame", type=click.IntRange(0, 100_000), help="Which frame of an animated scene.")
@click.option("--exposure", type=float, help="In stops.")
@click.option("--curve", type=click.Choice(CURVES), help="Tone curve.")
@with_staging
@AS_JSON
def view(
    study: Path,
    size: tuple[int, int] | None,
    frame: int | None,
    exposure: float | None,
    curve: str | None,
    stage: Callable[[Staging], Staging],
    as_json: bool,
) -> int:
    """Change what is rendered and how it is looked at: size, frame, view, light and camera."""

    from swift_sample.core.study.plan import edits

    def edit(known: "Snapshot") -> "PlanEdit":
        before = known.study.view
        seen = View(before.exposure if exposure is None else exposure, curve or before.curve)
        return edits.set_scene(size, frame, seen, stage)

    def told(plan: "Study") -> str:
        return (
            f"{plan.size[0]}x{plan.size[1]}, frame {plan.frame}, exposure {plan.view.exposure:g}, "
            f"curve {plan.view.curve}, {staging_words(plan.staging)}"
        )

    return edit_plan(study, edit, as_json, told)


@click.command()
@STUDY
@click.option("--runs", type=click.IntRange(1, 100), help="How often each trial is rendered.")
@click.option(
    "--renders-per-opening",
    "renders",
    type=click.IntRange(1, 1_000_000),
    help="Renders each time the scene opens.",
)
@click.option(
    "--no-worse-than-base/--own-limits",
    "no_worse",
    default=None,
    help="Whose errors are the limits.",
)
@AS_JSON
def plan(
    study: Path, runs: int | None, renders: int | None, no_worse: bool | None, as_json: bool
) -> int:
    """Change how a study is measured and judged: runs of each trial, renders per opening of the
    scene, and whether the base's own errors are the limits. Without options it tells them."""
    from swift_sample.core.study.plan import edits
    from swift_sample.core.study.plan.edits import PlanEdit

    made = [
        *([edits.set_repeats(runs)] if runs is not None else []),
        *([edits.set_renders_per_opening(renders)] if renders is not None else []),
        *([edits.set_no_worse(no_worse)] if no_worse is not None else []),
    ]
    whole = edits.together(made) if made else PlanEdit("", lambda same: same)

    def told(now: "Study") -> str:
        limits = "no worse than the base" if now.no_worse_than_base else "limits of its own"
        return (
            f"{now.repeats} runs a trial, {now.renders_per_opening} renders per opening, {limits}"
        )

    return edit_plan(study, lambda known: whole, as_json, told)


@click.command()
@STUDY
@click.argument("trial_", metavar="TRIAL")
@click.option("--name", help="What it is called; empty takes the name back.")
@click.option("--note", help="Something to remember of it.")
@click.option(
    "--leave-out",
    "reason",
    metavar="REASON",
    help="It is never the pick, and not measured any more.",
)
@click.option("--count", "counts", is_flag=True, help="It counts again.")
@AS_JSON
def trial(
    study: Path,
    trial_: str,
    name: str | None,
    note: str | None,
    reason: str | None,
    counts: bool,
    as_json: bool,
) -> int:
    """Name a trial, note something of it, or leave it out. TRIAL is its number or its name in
    `swift-sample trials`."""
    from swift_sample.core.study.plan import edits
    from swift_sample.core.study.plan.model import NO_REMARK

    def edit(known: "Snapshot") -> "PlanEdit":
        found = trial_named(known.results, trial_)
        before = known.study.remarks.get(found.id, NO_REMARK)

        said = replace(
            before,
            name=before.name if name is None else name,
            note=before.note if note is None else note,
            left_out="" if counts else before.left_out if reason is None else reason,
        )
        return edits.remark(found.id, said, before)

    def told(now: "Study") -> str:
        count = sum(bool(remark.left_out) for remark in now.remarks.values())
        return f"{len(now.remarks)} trials have a name or a note; {count} left out"

    return edit_plan(study, edit, as_json, told)


def trial_named(results: "Results", text: str) -> "TrialResult":
    """A trial by its place in the table of trials, or by its name. Raises UsageError."""
    if text.isdigit() and 1 <= int(text) <= len(results.trials):
        return results.trials[int(text) - 1]

    for one in results.trials:
        if text in (one.id, one.remark.name) or (text == "base" and one.is_base):
            return one

    raise UsageError(f"{text}: no such trial; `swift-sample trials` lists them by number and name")


@click.command()
@STUDY
@click.argument("goal_", metavar="GOAL", type=click.Choice(("final", "first-picture")))
@AS_JSON
def goal(study: Path, goal_: str, as_json: bool) -> int:
    """Compare total times (final), or the time until anything is visible (first-picture)."""
    from swift_sample.core.study.plan import edits

    return edit_plan(
        study, lambda known: edits.set_goal(goal_), as_json, lambda plan: f"goal: {plan.goal}"
    )


@click.command()
@STUDY
@click.argument("key", shell_complete=complete_keys)
@click.argument("value", shell_complete=complete_values)
@click.option("--allow", is_flag=True, help="It may be used again.")
@AS_JSON
def forbid(study: Path, key: str, value: str, allow: bool, as_json: bool) -> int:
    """Say that a value must not be used where this will be rendered: it is measured, but never
    picked."""

    from swift_sample.core.study.plan import edits

    def edit(known: "Snapshot") -> "PlanEdit":
        return edits.forbid(key, known.study.catalogue.setting(key).parse(value), not allow)

    def told(plan: "Study") -> str:
        words = [
            f"{plan.catalogue[k].label} {plan.catalogue[k].show(v)}"
            for k, vs in plan.forbidden.items()
            for v in vs
        ]
        return f"must not be used: {', '.join(words) or 'nothing'}"

    return edit_plan(study, edit, as_json, told)


@click.command()
@STUDY
@click.argument("kind", type=click.Choice(("pair", "grid", "none")))
@click.argument("keys", nargs=-1)
@AS_JSON
def sweep(study: Path, kind: str, keys: tuple[str, ...], as_json: bool) -> int:
    """Also try all combinations of what is tried of two settings (pair) or more (grid); none drops
    such grids."""
    if kind == "pair" and len(keys) != PAIR:
        raise UsageError("sweep pair: expected two settings")

    from swift_sample.core.study.plan import edits

    def told(plan: "Study") -> str:
        grids = [
            "{" + " x ".join(f"{len(v)} {k}" for k, v in one.values.items()) + "}"
            for one in plan.grids()
        ]
        return f"grids: {', '.join(grids) or 'none'}"

    return edit_plan(
        study, lambda known: edits.set_grid(keys if kind != "none" else ()), as_json, told
    )


@click.command()
@click.argument("scene")
@click.option(
    "--size",
    type=Size(),
    default="640x360",
    show_default=True,
    help="Width and height of the pictures.",
)
@click.option(
    "--environment",
    help="Light from everywhere: r,g,b or an .exr or .hdr picture; replaces the scene's own.",
)
@click.option(
    "--frame", type=click.IntRange(0, 100_000), default=0, help="Which frame of an animated scene."
)
@click.option(
    "--preset",
    "preset_",
    type=click.Path(path_type=Path),
    help="A preset file with your settings today.",
)
@click.option("--set", "changes", multiple=True, metavar="KEY=VALUE", help="A setting of today.")
@click.option(
    "--renderer",
    "file",
    type=click.Path(path_type=Path),
    help="The file of another renderer than the built-in one.",
)
@click.option(
    "--yes", is_flag=True, help="Confirm that file without being asked: it names programs to start."
)
@click.option("--no-pilot", is_flag=True, help="Do not render once to tell what measuring takes.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def begin(
    scene: str,
    size: tuple[int, int],
    environment: str | None,
    frame: int,
    preset_: Path | None,
    changes: tuple[str, ...],
    no_pilot: bool,
    file: Path | None,
    yes: bool,
    as_json: bool,
) -> int:
    """Tell what a scene holds, what is worth trying on it, and what measuring it would take.
    Nothing is written."""
    from swift_sample.commands.renderers import confirmed_renderer
    from swift_sample.core.renderers.registry import DEFAULT, renderer_named
    from swift_sample.core.settings.presets import read_preset
    from swift_sample.core.study.answers.acceptance import small_picture_words
    from swift_sample.core.study.plan.starting import (
        not_worth_trying,
        starting_study,
        suggestions,
        with_dear,
    )

    renderer = (
        renderer_named(DEFAULT) if file is None else confirmed_renderer(file, scene, size, yes)
    )
    chosen = (
        read_preset(preset_, renderer.catalogue)
        if preset_ is not None
        else Configuration(renderer.catalogue)
    )
    today = chosen.replace(changes_of(changes, renderer.catalogue))
    staging = Staging(environment)
    facts = renderer.facts(scene, today, frame, staging)
    name = scene if scene in renderer.scene_names else str(Path(scene).resolve())
    plan = starting_study(Path(scene).stem, name, size, View(curve="soft"), today, facts)
    plan = replace(
        plan,
        staging=staging,
        frame=frame,
        renderer_file=str(file.resolve()) if file is not None else "",
    )
    offered = suggestions(today, facts)
    without = not_worth_trying(today, facts)
    cost, dear, dark = (None, [], False) if no_pilot else _pilot_cost(plan)
    light = light_words(scene, dark, facts)
    offered = with_dear(offered, today, dear)

    if as_json:
        told = {
            "scene": scene,
            "about": list(facts.about),
            "notes": list(facts.notes),
            "cameras": list(facts.cameras),
            "frames": facts.frames,
            "memory_bytes": facts.memory_bytes,
            "base": dict(today),
            "worth_trying": [
                {"key": o.key, "values": list(o.values), "why": o.why, "first": o.first}
                for o in offered
            ],
            "without_effect": without,
            "light": light,
            "cost": cost,
        }
        print(json.dumps(told))
        return 0

    building = (
        f"; building it takes up to {facts.memory_bytes / 2**20:,.0f} MiB"
        if facts.memory_bytes
        else ""
    )
    print(f"{scene}: {', '.join(facts.about)}{building}")
    for note in (*facts.notes, *([light] if light else [])):
        print(f"  {note}")

    if facts.cameras:
        print(f"  cameras: {', '.join(facts.cameras)}")

    print(f"today: {today.describe(most=12)}")
    for heading, first in (
        ("worth trying", True),
        ("also, since the scene has what it acts on", False),
    ):
        listed = [one for one in offered if one.first == first]
        if listed:
            print(f"{heading}:")
        for one in listed:
            declared = today.catalogue[one.key]
            values = ", ".join(declared.show(v) for v in one.values if v != today[one.key])
            print(f"  {one.key} {values}" + (f"  ({one.why})" if one.why else ""))

    for reason in dict.fromkeys(without.values()):
        print(f"not worth it: {', '.join(k for k, r in without.items() if r == reason)} ({reason})")

    for words in small_picture_words(plan):
        print(words)

    if cost is not None:
        print(cost["words"])

    with_it = f" --renderer {quoted(file)}" if file is not None else ""
    with_it += (
        f" --environment {SOFT_SKY}" if dark and facts.only_glows and environment is None else ""
    )
    say(f"`swift-sample new STUDY --scene {quoted(scene)}{with_it}` makes a study of it")

    return 0


def _pilot_cost(plan: "Study") -> "tuple[dict[str, object], list[Finding], bool]":
    """What measuring takes, what much of the time goes into, and whether the picture is nearly
    black: from a short render."""
    from swift_sample.commands.terminal import Terminal
    from swift_sample.core.renderers.registry import renderer_of
    from swift_sample.core.study.answers.pick_report import show_seconds
    from swift_sample.core.study.beginning.pilot import Pilot, pilot_of, pilot_size
    from swift_sample.core.study.measuring.policies.specs import spec_of

    terminal = Terminal()
    engine = renderer_of(plan.catalogue, plan.renderer_file).engine()
    engine.warm_up(lambda share, text: terminal.show(f"{text} …"))
    spec = spec_of(plan, pilot_of(plan.base), 1).model_copy(update={"size": pilot_size(plan.size)})
    picture, record = engine.render(
        spec, None, lambda share: terminal.show(f"Rendering once {share:.0%}"), lambda stop: None
    )
    terminal.clear()
    pilot = Pilot(plan, record)
    once = pilot.seconds(plan.base)
    search = pilot.of_search()
    everything = pilot.of_everything()

    def span(low: float, high: float) -> str:
        return f"{show_seconds(low)} to {show_seconds(high)}"

    told: dict[str, object] = {
        "once_seconds": once,
        "search_seconds": [search.low, search.high],
        "everything_seconds": [everything.low, everything.high],
        "trials": everything.trials,
        "combinations": search.trials,
        "words": f"once, as it is today: about {show_seconds(once)}; finding the fastest of "
        f"{search.trials:,} combinations: "
        f"{span(search.low, search.high)}; all {everything.trials} trials: "
        f"{span(everything.low, everything.high)}",
    }
    return told, pilot.dear(engine.renderer), is_dark(picture.beauty, plan.view)


def light_words(scene: str, dark: bool, facts: "SceneFacts") -> str:
    """What to do about a picture that is nearly black; "" where it is not."""
    if not dark:
        return ""

    if facts.only_glows:
        name = Path(scene).name
        return (
            f"what glows in {name} does not light it, the picture is black: --environment "
            f"{SOFT_SKY} adds a soft sky"
        )

    return "the picture is nearly black: choose other light (--environment), or a higher exposure"


def _compare(study: Path, name: str, as_json: bool) -> int:
    """Print how a kept base differs from the base, and what each difference did."""
    from swift_sample.core.study.answers.comparing import differences, show_differences
    from swift_sample.core.study.answers.pick_report import figures_as_data
    from swift_sample.core.study.log.store import look_at_study
    from swift_sample.core.study.measuring.surroundings import read_snapshot

    with look_at_study(study) as reading:
        results = read_snapshot(reading).results
        here = results.study.base
        there = results.study.with_base_of(name).base

        if as_json:
            told = [
                {
                    "key": d.key,
                    "base": d.here,
                    name: d.there,
                    **figures_as_data({"times_faster": d.times_faster}),
                }
                for d in differences(results, here, there)
            ]
            print(json.dumps(told))
        else:
            print("\n".join(show_differences(results, here, there)))

    return 0


def _base_words(plan: "Study") -> str:
    kept = [
        f"{name}{' (the base)' if one == plan.base else ''}" for name, one in plan.bases.items()
    ]
    return f"base: {plan.base.describe(most=12)}" + (f"; kept: {', '.join(kept)}" if kept else "")

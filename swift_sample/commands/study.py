"""Commands on studies: make, measure, search, judge and export them."""

import json
import os
import sys
from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.terminal import Interrupts, Size, Span, Terminal, changes_of, say
from swift_sample.core.errors import StudyError, SwiftSampleError, UsageError, one_line
from swift_sample.core.settings import Configuration, format_value, setting
from swift_sample.core.view import CURVES, View

if TYPE_CHECKING:
    from swift_sample.core.study.desk import Desk, Snapshot
    from swift_sample.core.study.frames import FrameWalk
    from swift_sample.core.study.machine import Machine
    from swift_sample.core.study.searcher import Searcher
    from swift_sample.core.study.store import StudyFolder

NONE_ACCEPTABLE = 3


@click.command()
@click.option("--headless", is_flag=True, help="Measure without a window and print the pick.")
@click.option("--out", "out", type=click.Path(path_type=Path), help="Where the study is kept.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object (with --headless).")
def demo(headless: bool, out: Path | None, as_json: bool) -> int:
    """Measure the demo scene, the honey stall."""
    from swift_sample.core.study.demo import demo_path, demo_study
    from swift_sample.core.study.store import PLAN, StudyFolder

    path = out or demo_path()
    if not (path / PLAN).is_file():
        StudyFolder.create(path, demo_study()).close()
    return measure_study(path, as_json) if headless else open_window(path, measure=True)


@click.command(name="open")
@click.argument("study", type=click.Path(path_type=Path))
def open_(study: Path) -> int:
    """Open a study in the window."""
    from swift_sample.core.study.store import StudyFolder

    StudyFolder.open(study).close()
    return open_window(study)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--scene", required=True, help="A .gltf or .glb file, or the name of a demo scene.")
@click.option("--size", type=Size(), default="640x360", help="Width and height of the pictures.")
@click.option("--environment", help="Light from everywhere: r,g,b or an .exr or .hdr picture; replaces the scene's own.")
@click.option("--frame", type=click.IntRange(0, 100_000), default=0, help="Which frame of an animated scene.")
@click.option("--preset", type=click.Path(path_type=Path), help="A preset file with the base.")
@click.option("--set", "changes", multiple=True, metavar="KEY=VALUE", help="A setting of the base; goes before the preset.")
@click.option("--curve", type=click.Choice(CURVES), default="straight", help="Tone curve of the view.")
@click.option("--exposure", type=float, default=0.0, help="Exposure of the view in stops.")
def new(study: Path, scene: str, size: tuple[int, int], environment: str | None, frame: int, preset: Path | None,
        changes: tuple[str, ...], curve: str, exposure: float) -> int:
    """Make a study of your scene, with a first set of values to try."""
    from swift_sample.core.exchange.presets import read_preset
    from swift_sample.core.scene import DEMO_SCENES, NO_LIGHT_NOTE, open_scene, parse_environment
    from swift_sample.core.study.starting import starting_study
    from swift_sample.core.study.store import StudyFolder

    opened = open_scene(scene)
    for note in opened.notes:
        if environment is None or note != NO_LIGHT_NOTE:
            say(note)
    if environment is not None:
        parse_environment(environment)
        environment = str(Path(environment).resolve()) if Path(environment).is_file() else environment
    name = scene if scene in DEMO_SCENES else str(Path(scene).resolve())
    base = (read_preset(preset) if preset is not None else Configuration()).replace(changes_of(changes))
    plan = starting_study(Path(study).stem, name, size, View(exposure, curve), base)
    plan = replace(plan, environment=environment, frame=frame)
    StudyFolder.create(study, plan).close()
    say(f"{study}: {len(plan.planned())} trials planned; `swift-sample run {study}` measures them")
    return 0


@click.command(name="run")
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--only", default="", metavar="KEY,...", help="Measure only these settings' values.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def run_(study: Path, only: str, as_json: bool) -> int:
    """Measure what is still to be measured, then print the pick."""
    keys = tuple(setting(key.strip()).key for key in only.split(",") if key.strip())
    return measure_study(study, as_json, keys)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--budget", type=Span(), help="End after this long: seconds, or 10m, or 2h.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def search(study: Path, budget: float | None, as_json: bool) -> int:
    """Find the pick among all combinations of the values to try with few renders, then print it."""
    return measure_study(study, as_json, search=True, budget_seconds=budget)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--goal", type=click.Choice(["final", "first-picture"]), help="Which time counts.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def pick(study: Path, goal: str | None, as_json: bool) -> int:
    """The fastest acceptable configuration, and why."""
    from swift_sample.core.study.desk import Desk
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(study) as folder:
        desk = Desk(folder)
        plan = folder.study if goal is None else replace(folder.study, goal=goal)
        return _print_pick(desk.snapshot(plan).results, as_json)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("-o", "--output", "output", required=True, type=click.Path(path_type=Path), help="A .json or .csv file.")
def export(study: Path, output: Path) -> int:
    """Write all results as open data: JSON with every run, or CSV with a row a trial."""
    from swift_sample.core.exchange.open_data import write_results

    return _write(study, output, write_results)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--first", type=click.IntRange(0, 100_000), help="The first frame of the sequence; kept in the study.")
@click.option("--last", type=click.IntRange(1, 100_000), help="The last frame.")
@click.option("--count", type=click.IntRange(2, 60), help="How many frames to measure, spread over it.")
@click.option("--machines", type=click.IntRange(1, 10_000), default=1,
              help="How many machines like this one share the sequence.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def frames(study: Path, first: int | None, last: int | None, count: int | None, machines: int, as_json: bool) -> int:
    """Measure base and pick at frames of a sequence, and forecast the whole of it."""
    from swift_sample.core.study.desk import Desk
    from swift_sample.core.study.frames import FrameWalk, collect_frames
    from swift_sample.core.study.frames_report import forecast_as_data, forecast_sentences
    from swift_sample.core.study.model import FramePlan
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(study) as folder:
        old, desk = folder.study.frames, Desk(folder)
        pick = desk.snapshot().results.pick()
        if old is None and last is None:
            raise UsageError("frames: expected --last, the last frame of the sequence")
        plan = FramePlan(first if first is not None else old.first if old else 0,
                         last if last is not None else old.last if old else 1,
                         count if count is not None else old.count if old else 5)
        if plan != old:
            folder.save_plan(replace(folder.study, frames=plan))
        wanted = [folder.study.base, *([pick.trial.configuration] if pick is not None else [])]
        if not _work(folder, desk, walk=FrameWalk(desk, plan, wanted)):
            say(f"stopped; `swift-sample frames {study}` carries on")
            return 1
        found = collect_frames(desk, plan, wanted)
    names = dict(zip(wanted, ("base", "pick"), strict=False))
    if as_json:
        print(json.dumps(forecast_as_data(found, names, machines)))
    else:
        print("\n".join(forecast_sentences(found, names, machines)))
    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("-o", "--output", "output", required=True, type=click.Path(path_type=Path), help="An .html or .pdf file.")
def report(study: Path, output: Path) -> int:
    """Write what was found, the pictures, curves, figures and method, as a page for others."""
    from swift_sample.core.exchange.report import write_report

    return _write(study, output, write_report)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--of-pick", is_flag=True, help="Look at the pick instead of the base.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def cost(study: Path, of_pick: bool, as_json: bool) -> int:
    """Where the time of the base goes, and what is worth trying because of it."""
    from swift_sample.core.study.desk import Desk
    from swift_sample.core.study.findings import find
    from swift_sample.core.study.spending import bounces_of, materials_of, memory_of, objects_of, phases_of, typical_run
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(study) as folder:
        results = Desk(folder).snapshot().results
    pick = results.pick()
    trial = results.base if not of_pick else pick.trial if pick is not None else None
    run = typical_run(trial) if trial is not None else None
    if trial is None or run is None or run.result is None:
        which = "pick" if of_pick else "base"
        raise StudyError(f"{study}: there is no measured {which} yet; `swift-sample run {study}` measures it")
    findings, phases, bounces = find(results, trial), phases_of(trial), bounces_of(run.result)
    ranked = {"materials": materials_of(run.result), "objects": objects_of(run.result), "memory": memory_of(run.result)}
    if as_json:
        print(json.dumps({"findings": [asdict(finding) for finding in findings], "phases": [asdict(p) for p in phases],
                          "bounces": [asdict(b) for b in bounces],
                          **{name: [asdict(part) for part in parts] for name, parts in ranked.items()}}))
        return 0
    print(", ".join(f"{part.name} {part.amount:.2f} s ({part.share:.0%})" for part in phases))
    for finding in findings:
        print(f"- {finding.text} Try {', '.join(f'{key}={format_value(value)}' for key, value in finding.changes.items())}")
    for bounce in bounces:
        print(f"  bounce {bounce.number:2d}  {bounce.time_share:6.1%} of the time  {bounce.light_share:7.2%} of the light")
    for name, parts in ranked.items():
        print(f"  {name}: " + ", ".join(f"{part.name} {part.share:.0%}" for part in parts))
    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def log(study: Path, as_json: bool) -> int:
    """What was decided while a study was measured, why, and what happened."""
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(study) as folder:
        events = folder.events()
    if as_json:
        print(json.dumps({"events": [{"at": at, "kind": kind, "text": text} for at, kind, text in events]}))
    else:
        print("\n".join(f"{at}  {kind}: {text}" for at, kind, text in events) or "nothing was measured yet")
    return 0


def _write(study: Path, output: Path, writer: Callable[[Path, "Snapshot", "Machine"], None]) -> int:
    """Write what a study knows to a file, in the way of `writer`."""
    from swift_sample.core.study.desk import Desk
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(study) as folder:
        desk = Desk(folder)
        writer(output, desk.snapshot(), desk.machine)
    say(f"written to {output}")
    return 0


def measure_study(path: Path, as_json: bool, only: tuple[str, ...] = (), search: bool = False,
             budget_seconds: float | None = None) -> int:
    """Measure a study to the end in this process, or search it, telling progress on standard error."""
    from swift_sample.core.study.desk import Desk
    from swift_sample.core.study.searcher import Searcher
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(path) as folder:
        desk = Desk(folder)
        desk.only = only
        searcher = Searcher(desk, budget_seconds) if search else None
        if not _work(folder, desk, searcher):
            say(f"stopped; `swift-sample {'search' if search else 'run'} {path}` carries on")
            return 1
        if searcher is not None and searcher.advice is not None:
            say(f"the search ended: {searcher.advice.why}")
        say(f"study kept in {path}")
        return _print_pick(desk.snapshot().results, as_json)


def _work(folder: "StudyFolder", desk: "Desk", searcher: "Searcher | None" = None, walk: "FrameWalk | None" = None) -> bool:
    """Run to the end, telling progress; whether that came. Raises StudyError for what ended it before."""
    from swift_sample.core.study.runner import Ended, Event, Looked, Runner, StepProgress, StepStarted
    from swift_sample.core.study.schedule import step_words

    terminal, ended = Terminal(), []

    def tell(event: Event) -> None:
        if isinstance(event, Ended):
            ended.append(event)
        elif isinstance(event, StepProgress):
            terminal.show(f"{event.text or terminal.doing} {event.share:.0%}")
        elif isinstance(event, StepStarted):
            words = step_words(event.step, folder.study.base)
            terminal.start(words[0].upper() + words[1:])
        elif isinstance(event, Looked) and event.advice.configuration is not None:
            terminal.keep(f"{event.advice.configuration.describe(folder.study.base)}: {event.advice.why}")

    runner = Runner(folder, tell, desk=desk, searcher=searcher, walk=walk)
    with Interrupts(runner.stop):
        runner.start()
        while not runner.join(0.2):
            pass
    terminal.clear()
    if ended[0].problem is not None:
        raise StudyError(ended[0].problem)
    return bool(ended[0].finished)


def _print_pick(results, as_json: bool) -> int:  # type: ignore[no-untyped-def]
    from swift_sample.core.study.pick_report import pick_as_data, pick_sentences

    found = results.pick()
    if as_json:
        print(json.dumps(pick_as_data(results, found)))
    elif found is not None:
        print("\n".join(pick_sentences(results, found)))
    if found is None:
        measured = sum(1 for t in results.trials if t.is_on_map)
        if not as_json:
            say(f"no acceptable configuration yet: {measured} of {len(results.trials)} trials are measured"
                 + (", none of them keeps every limit" if measured else ""))
        return NONE_ACCEPTABLE
    return 0


def open_window(path: Path | None, measure: bool = False) -> int:
    try:
        from swift_sample.ui.application import run_window
    except ImportError as error:
        raise SwiftSampleError(f"the window cannot start ({one_line(error)}); `make setup` installs what it needs") from error
    if sys.platform == "linux" and not any(os.environ.get(v) for v in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise SwiftSampleError("there is no display; `swift-sample demo --headless` and `run` work without one")
    return run_window(path, measure)

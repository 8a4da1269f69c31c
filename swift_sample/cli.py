"""The command line: everything the window does, without a display. Results go to standard output, words to standard
error. Exit status: 0 done, 1 the work failed, 2 the command was wrong, 3 no acceptable configuration was found."""

import json
import os
import signal
import sys
import threading
import time
from dataclasses import asdict, replace
from pathlib import Path
from types import FrameType
from typing import Any

import click

from swift_sample import __version__
from swift_sample.core.errors import StudyError, SwiftSampleError, UsageError, one_line
from swift_sample.core.settings import CATALOGUE, Configuration, Value, format_value, setting
from swift_sample.core.view import CURVES, View

NONE_ACCEPTABLE = 3
FIRST_SEED = 1
MAX_SIDE = 16384


class _Size(click.ParamType):
    name = "WxH"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[int, int]:
        if isinstance(value, tuple):
            return value
        width, _, height = str(value).partition("x")
        if width.isdigit() and height.isdigit() and 1 <= int(width) <= MAX_SIDE and 1 <= int(height) <= MAX_SIDE:
            return int(width), int(height)
        raise UsageError(f"size={value}: expected WIDTHxHEIGHT, each from 1 to {MAX_SIDE}")


def main() -> None:
    """Run the command line and end the process with the right exit status."""
    sys.exit(run(sys.argv[1:]))


def run(arguments: list[str]) -> int:
    """Run one command; returns the exit status. Every problem is one line on standard error."""
    try:
        status = commands.main(args=arguments, prog_name="swift-sample", standalone_mode=False)
        return status if isinstance(status, int) else 0
    except SwiftSampleError as error:
        _say(f"swift-sample: {one_line(error)}")
        return error.exit_status
    except click.exceptions.NoArgsIsHelpError as error:
        _say(error.format_message())
        return 2
    except click.ClickException as error:
        _say(f"swift-sample: {one_line(Exception(error.format_message()))} (--help lists what is allowed)")
        return 2
    except (click.Abort, KeyboardInterrupt):
        _say("swift-sample: stopped")
        return 1
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 1
    except (OSError, MemoryError) as error:
        _say(f"swift-sample: {one_line(error)}")
        return 1


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, message="Swift Sample %(version)s")
@click.pass_context
def commands(context: click.Context) -> int:
    """Finds the fastest render settings you would still deliver. Without a command, the window opens."""
    if context.invoked_subcommand is None:
        return _open_window(None)
    return 0


@commands.command()
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
    return _measure(path, as_json) if headless else _open_window(path, measure=True)


@commands.command(name="open")
@click.argument("study", type=click.Path(path_type=Path))
def open_(study: Path) -> int:
    """Open a study in the window."""
    from swift_sample.core.study.store import StudyFolder

    StudyFolder.open(study).close()
    return _open_window(study)


@commands.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--scene", required=True, help="A .gltf or .glb file, or the name of a demo scene.")
@click.option("--size", type=_Size(), default="640x360", help="Width and height of the pictures.")
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
            _say(note)
    if environment is not None:
        parse_environment(environment)
        environment = str(Path(environment).resolve()) if Path(environment).is_file() else environment
    name = scene if scene in DEMO_SCENES else str(Path(scene).resolve())
    base = (read_preset(preset) if preset is not None else Configuration()).replace(_changes(changes))
    plan = starting_study(Path(study).stem, name, size, View(exposure, curve), base)
    plan = replace(plan, environment=environment, frame=frame)
    StudyFolder.create(study, plan).close()
    _say(f"{study}: {len(plan.planned())} trials planned; `swift-sample run {study}` measures them")
    return 0


@commands.command(name="run")
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--only", default="", metavar="KEY,...", help="Measure only these settings' values.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def run_(study: Path, only: str, as_json: bool) -> int:
    """Measure what is still to be measured, then print the pick."""
    keys = tuple(setting(key.strip()).key for key in only.split(",") if key.strip())
    return _measure(study, as_json, keys)


@commands.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--goal", type=click.Choice(["final", "first-picture"]), help="Which time counts.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def pick(study: Path, goal: str | None, as_json: bool) -> int:
    """The fastest acceptable configuration, and why."""
    from swift_sample.core.study.runner import Desk
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(study) as folder:
        desk = Desk(folder)
        plan = folder.study if goal is None else replace(folder.study, goal=goal)
        return _print_pick(desk.snapshot(plan).results, as_json)


@commands.command()
@click.argument("scene")
@click.option("-o", "--output", "output", required=True, type=click.Path(path_type=Path), help="The EXR to write.")
@click.option("--set", "changes", multiple=True, metavar="KEY=VALUE", help="A setting; may be given several times.")
@click.option("--size", type=_Size(), default="640x360", help="Width and height before output.scale.")
@click.option("--environment", help="Light from everywhere: r,g,b or an .exr or .hdr picture; replaces the scene's own.")
@click.option("--frame", type=click.IntRange(0, 100_000), default=0, help="Which frame of an animated scene.")
@click.option("--seed", type=click.IntRange(0, 2**31 - 1), default=FIRST_SEED, help="Another seed, another grain.")
@click.option("--json", "as_json", is_flag=True, help="Print the record of the render.")
def render(scene: str, output: Path, changes: tuple[str, ...], size: tuple[int, int], environment: str | None, frame: int,
           seed: int, as_json: bool) -> int:
    """Render a scene once."""
    configuration = Configuration(_changes(changes))
    if output.suffix.lower() != ".exr":
        raise UsageError(f"{output}: expected a name that ends in .exr")
    if not output.parent.is_dir():
        raise StudyError(f"{output.parent}: no such folder; make it first")
    from swift_sample.core.scene import open_scene, parse_environment
    from swift_sample.core.study.messages import RenderSpec
    from swift_sample.core.study.pipeline import SceneShelf, run_render, warm_up

    if environment is not None:
        parse_environment(environment)
    from swift_sample.core.render.render import choices_of

    open_scene(scene, choices_of(configuration, frame))
    progress = _Terminal()
    warm_up(lambda share, text: progress.show(f"{text} …"))
    spec = RenderSpec(scene=scene, size=size, settings=dict(configuration), seed=seed, environment=environment, frame=frame)
    with _KeepOnInterrupt() as interrupts:
        _, result = run_render(spec, SceneShelf(), output, lambda share: progress.show(f"Rendering {share:.0%}"),
                               interrupts.watch)
    progress.clear()
    if result.stopped:
        _say(f"stopped {'when clean' if result.stopped == 'clean' else result.stopped} after {result.samples.max} samples; "
             f"about {result.saved_seconds:.1f} s saved")
    for note in result.notes:
        _say(note)
    if as_json:
        print(result.model_dump_json())
    else:
        _say(f"{output}: {result.size[0]}x{result.size[1]} in {result.seconds['total']:.2f} s")
    return 0


@commands.command()
@click.argument("frame", type=click.Path(path_type=Path))
@click.argument("neighbours", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("-o", "--output", "output", required=True, type=click.Path(path_type=Path), help="The EXR to write.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def steady(frame: Path, neighbours: tuple[Path, ...], output: Path, as_json: bool) -> int:
    """Smooth a rendered frame together with its neighbours, against flicker."""
    from swift_sample.core.denoise.frames import steady_frame
    from swift_sample.core.exchange.exr import read_exr, write_exr
    from swift_sample.core.study.machine import available_processors

    pictures = [read_exr(path) for path in (frame, *neighbours)]
    started = time.perf_counter()
    shown = steady_frame(pictures[0], pictures[1:], available_processors())
    seconds = time.perf_counter() - started
    write_exr(output, shown)
    if as_json:
        print(json.dumps({"seconds": seconds, "frames": len(pictures), "size": [shown.width, shown.height]}))
    else:
        _say(f"{output}: {len(pictures)} frames in {seconds:.2f} s")
    return 0


@commands.command()
@click.argument("scene")
@click.option("--set", "changes", multiple=True, metavar="KEY=VALUE", help="A setting; may be given several times.")
@click.option("--size", type=_Size(), default="640x360", help="Width and height before output.scale.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def caching(scene: str, changes: tuple[str, ...], size: tuple[int, int], as_json: bool) -> int:
    """After how many renders each cache pays for itself, measured."""
    configuration = Configuration(_changes(changes))
    from swift_sample.core.study.break_even import measure_caches
    from swift_sample.core.study.messages import RenderSpec
    from swift_sample.core.study.pipeline import warm_up

    progress = _Terminal()
    warm_up(lambda share, text: progress.show(f"{text} …"))
    spec = RenderSpec(scene=scene, size=size, settings=dict(configuration), seed=FIRST_SEED)
    found = measure_caches(spec, lambda text: progress.show(f"{text} …"))
    progress.clear()
    if as_json:
        print(json.dumps({"caches": [cost.as_dict() for cost in found]}))
        return 0
    print(f"{'':20s} {'without':>9s} {'first':>9s} {'later':>9s} {'memory':>9s}  pays after")
    for cost in found:
        pays = "never" if cost.pays_after is None else f"{cost.pays_after} render{'s' if cost.pays_after > 1 else ''}"
        print(f"{cost.name:20s} {cost.without:7.2f} s {cost.first:7.2f} s {cost.later:7.2f} s "
              f"{cost.memory_bytes / 2**20:5.0f} MiB  {pays}")
    return 0


@commands.command()
@click.argument("image", type=click.Path(path_type=Path))
@click.argument("reference", type=click.Path(path_type=Path))
@click.option("--area", "areas", multiple=True, metavar="x,y,w,h", help="A part of the picture; may be repeated.")
@click.option("--exposure", type=float, default=0.0, help="Exposure of the view in stops.")
@click.option("--curve", type=click.Choice(CURVES), default="straight", help="Tone curve of the view.")
@click.option("--then", "later", multiple=True, nargs=2, type=click.Path(path_type=Path), metavar="IMAGE REFERENCE",
              help="The next frame and its reference, for flicker; may be repeated.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def compare(image: Path, reference: Path, areas: tuple[str, ...], exposure: float, curve: str,
            later: tuple[tuple[Path, Path], ...], as_json: bool) -> int:
    """Measure how far a picture is from a reference."""
    from swift_sample.core.exchange.pictures import check_comparable, read_picture
    from swift_sample.core.measure.compare import WHOLE, Area, measure
    from swift_sample.core.measure.figures import Comparison
    from swift_sample.core.measure.kinds import KINDS

    view, wanted = View(exposure, curve), tuple(Area.parse(text) for text in areas)
    first, second = read_picture(image), read_picture(reference)
    check_comparable(first, image, second, reference)
    raw = first.halves if "raw" not in first.layers else None
    found = measure(Comparison([first.beauty], second.beauty, view, raw, second.halves), wanted)
    flickers = _flicker([(image, reference), *later], view) if later else None
    if as_json:
        def plain(name: str) -> dict[str, float | None]:
            return {key: _finite(figure.value) if figure else None for key, figure in found[name].items()}

        intervals = {key: [_finite(f.low), _finite(f.high)] if f else None for key, f in found[WHOLE].items()}
        print(json.dumps({**plain(WHOLE), "flicker": flickers, "intervals": intervals,
                          "areas": {a.name: plain(a.name) for a in wanted}}))
        return 0
    for name in found:
        print(name or "whole picture")
        for key, figure in found[name].items():
            measure_ = KINDS[key]
            text = "not known from these pictures" if figure is None else \
                f"{figure.value:.4g} {measure_.unit}  ({figure.low:.4g} to {figure.high:.4g})"
            print(f"  {measure_.label:26s} {text}")
    if flickers is not None:
        print(f"  {'flicker':26s} {flickers:.4g} levels over {len(later) + 1} frames")
    return 0


@commands.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("-o", "--output", "output", required=True, type=click.Path(path_type=Path), help="A .json or .csv file.")
def export(study: Path, output: Path) -> int:
    """Write all results as open data: JSON with every run, or CSV with a row a trial."""
    from swift_sample.core.exchange.open_data import write_results
    from swift_sample.core.study.runner import Desk
    from swift_sample.core.study.store import StudyFolder

    with StudyFolder.open(study) as folder:
        desk = Desk(folder)
        write_results(output, desk.snapshot(), desk.machine)
    _say(f"written to {output}")
    return 0


@commands.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--of-pick", is_flag=True, help="Look at the pick instead of the base.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def cost(study: Path, of_pick: bool, as_json: bool) -> int:
    """Where the time of the base goes, and what is worth trying because of it."""
    from swift_sample.core.study.findings import find
    from swift_sample.core.study.runner import Desk
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


@commands.command()
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


@commands.command()
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def settings(as_json: bool) -> int:
    """List every setting."""
    if as_json:
        fields = [{"key": s.key, "group": s.group, "label": s.label, "help": s.help, "unit": s.unit, "type": s.kind,
                   "default": s.default, "minimum": s.minimum, "maximum": s.maximum, "values": list(s.values),
                   "suggested": list(s.suggested)} for s in CATALOGUE.values()]
        print(json.dumps({"settings": fields}))
        return 0
    group = ""
    for s in CATALOGUE.values():
        if s.group != group:
            group = s.group
            print(group)
        print(f"  {s.key:26s} {s.help} ({s.expected}; {s.show(s.default)} by default)")
    return 0


@commands.command()
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@click.option("--seconds", type=click.FloatRange(0.1, 60), default=2.0, help="How long to listen.")
@click.option("--clear", "clear", type=click.Choice(["kernels", "textures"]), help="Empty one of the caches first.")
def check(as_json: bool, seconds: float, clear: str | None) -> int:
    """What this machine has, what is kept on disk, and whether it is quiet enough to time."""
    from swift_sample.core.caches import clear_cache, list_caches
    from swift_sample.core.kernels import cache_root, is_compiled
    from swift_sample.core.render.accelerator import own_description, read_accelerator
    from swift_sample.core.study.machine import QUIET_SHARE, LoadMeter, this_machine

    if clear is not None:
        _say(f"{clear}: {clear_cache(clear) / 2**20:.1f} MiB freed")
    accelerator = read_accelerator()
    machine, meter = this_machine(), LoadMeter()
    time.sleep(seconds)
    load = meter.share()
    if as_json:
        print(json.dumps({"machine": machine.as_dict(), "load_of_others": load, "quiet": load <= QUIET_SHARE,
                          "kernels_compiled": is_compiled(), "cache": str(cache_root()),
                          "caches": [cache.as_dict() for cache in list_caches()],
                          "accelerator": {"simulated": True, "own_description": str(own_description()),
                                          **accelerator.model_dump()}}))
        return 0
    print(f"{machine.processor}, {machine.cores} cores, {machine.threads} threads, "
          f"{machine.memory_bytes / 2**30:.0f} GiB, {machine.system}")
    print(machine.versions)
    print(f"renderer {'ready' if is_compiled() else 'not compiled yet: the first start takes about a minute'}; "
          f"cache in {cache_root()}")
    for cache in list_caches():
        print(f"  {cache.name}: {cache.size_bytes / 2**20:.1f} MiB in {cache.files} files: {cache.about}")
    print(f"accelerator (simulated): {accelerator.name}; {own_description()} would be used instead")
    print(f"other programs use {load:.1%} of the processor: " + ("quiet enough to time" if load <= QUIET_SHARE else
          "too busy to time well; close what you can"))
    return 0


class _KeepOnInterrupt:
    """Ctrl-C ends a progressive render after the pass in hand and keeps the picture; a second one, and any other render,
    stops at once."""

    def __init__(self) -> None:
        self._finish: Any = None

    def watch(self, sampling: Any) -> None:
        self._finish = sampling.finish

    def __enter__(self) -> "_KeepOnInterrupt":
        self._before = signal.signal(signal.SIGINT, self._interrupt)
        return self

    def __exit__(self, *_: object) -> None:
        signal.signal(signal.SIGINT, self._before)

    def _interrupt(self, *_: object) -> None:
        finish, self._finish = self._finish, None
        if finish is None or not finish():
            raise KeyboardInterrupt


def _changes(changes: tuple[str, ...]) -> dict[str, Value]:
    values: dict[str, Value] = {}
    for change in changes:
        key, equals, text = change.partition("=")
        if not equals:
            raise UsageError(f"--set {change}: expected KEY=VALUE")
        values[key.strip()] = setting(key.strip()).parse(text)
    return values


def _flicker(frames: list[tuple[Path, Path]], view: View) -> float:
    """Flicker of frames against their references."""
    from swift_sample.core.exchange.pictures import check_comparable, read_picture
    from swift_sample.core.measure.flicker import flicker

    first = read_picture(frames[0][0])
    pictures = [(read_picture(shown), read_picture(reference)) for shown, reference in frames]
    for (shown, reference), (one, other) in zip(pictures, frames, strict=True):
        check_comparable(shown, one, reference, other)
        check_comparable(shown, one, first, frames[0][0])
    return flicker([shown.beauty for shown, _ in pictures], [reference.beauty for _, reference in pictures], view)


def _measure(path: Path, as_json: bool, only: tuple[str, ...] = ()) -> int:
    """Measure a study to the end in this process, telling progress on standard error."""
    from swift_sample.core.study.runner import Desk, Ended, Event, Runner, StepProgress, StepStarted
    from swift_sample.core.study.schedule import step_words
    from swift_sample.core.study.store import StudyFolder

    terminal, ended = _Terminal(), []
    with StudyFolder.open(path) as folder:
        desk = Desk(folder)
        if only:
            desk.only = only

        def tell(event: Event) -> None:
            if isinstance(event, Ended):
                ended.append(event)
            elif isinstance(event, StepProgress):
                terminal.show(f"{event.text or terminal.doing} {event.share:.0%}")
            elif isinstance(event, StepStarted):
                words = step_words(event.step, folder.study.base)
                terminal.start(words[0].upper() + words[1:])

        runner = Runner(folder, tell, desk=desk)
        with _Interrupts(runner.stop):
            runner.start()
            while not runner.join(0.2):
                pass
        terminal.clear()
        if ended[0].problem is not None:
            raise StudyError(ended[0].problem)
        if not ended[0].finished:
            _say(f"stopped; `swift-sample run {path}` carries on")
            return 1
        _say(f"study kept in {path}")
        return _print_pick(desk.snapshot().results, as_json)


class _Interrupts:
    """Within it, an interrupt or a request to end calls `stop` instead of killing the process."""

    def __init__(self, stop) -> None:  # type: ignore[no-untyped-def]
        self._stop = stop
        self._before: dict[signal.Signals, Any] = {}

    def __enter__(self) -> None:
        if threading.current_thread() is threading.main_thread():
            for number in (signal.SIGINT, signal.SIGTERM):
                self._before[number] = signal.signal(number, self._on_signal)

    def __exit__(self, *_: object) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)

    def _on_signal(self, number: int, frame: FrameType | None) -> None:
        self._stop()


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
            _say(f"no acceptable configuration yet: {measured} of {len(results.trials)} trials are measured"
                 + (", none of them keeps every limit" if measured else ""))
        return NONE_ACCEPTABLE
    return 0


def _open_window(path: Path | None, measure: bool = False) -> int:
    try:
        from swift_sample.ui.application import run_window
    except ImportError as error:
        raise SwiftSampleError(f"the window cannot start ({one_line(error)}); `make setup` installs what it needs") from error
    if sys.platform == "linux" and not any(os.environ.get(v) for v in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise SwiftSampleError("there is no display; `swift-sample demo --headless` and `run` work without one")
    return run_window(path, measure)


class _Terminal:
    """One line of progress on a terminal; nothing at all elsewhere."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self.doing = ""

    def start(self, text: str) -> None:
        self.doing = text
        self.show(text)

    def show(self, text: str) -> None:
        if self._live:
            sys.stderr.write(f"\r\x1b[K{text[:100]}")
            sys.stderr.flush()

    def clear(self) -> None:
        if self._live:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()


def _finite(value: float) -> float | None:
    return value if abs(value) != float("inf") and value == value else None


def _say(text: str) -> None:
    print(text, file=sys.stderr)


if __name__ == "__main__":
    main()

"""Proving a renderer file: the program is started with every setting in turn, and what comes of it
is told."""

import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from swift_sample.core.errors import RenderStoppedError, SwiftSampleError, one_line
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.command.renderer import CommandEngine, CommandRenderer
from swift_sample.core.renderers.command.values import command_words
from swift_sample.core.renderers.port import Stop
from swift_sample.core.renderers.records import RenderSpec, RunRecord
from swift_sample.core.settings import Configuration, Setting, Value

GOOD = "good"
BAD = "bad"
NOTE = "note"
SEED = 1
OTHER_SEED = 2
MUCH_OVERHEAD = 0.05


@dataclass(frozen=True)
class Checked:
    """One thing that was tried. `state` is GOOD, BAD, where the file has to be changed, or NOTE."""

    what: str
    state: str
    words: str


def check(
    renderer: CommandRenderer,
    scene: str,
    size: tuple[int, int],
    tell: Callable[[str], None] = lambda words: None,
    show: Callable[[Picture], None] = lambda picture: None,
    started: Callable[[Stop], None] = lambda stop: None,
) -> Iterator[Checked]:
    """Everything that can be found out by starting the program; `tell` hears what is being done,
    `show` gets its first picture, `started` what stops each render. The file must have been
    confirmed. Ends early where nothing can be rendered, and with RenderStoppedError where it is
    stopped."""
    engine = _Engine(renderer, started)
    base = Configuration(renderer.catalogue)
    yield Checked("command", NOTE, command_line(renderer, scene, size))

    try:
        tell("asking for its version")
        version = renderer.version
        renderer.scene_content(scene, RenderSpec.model_fields["staging"].default)
        yield Checked(
            "version",
            GOOD if renderer.described.version else NOTE,
            _version_words(renderer, version),
        )
        tell("rendering once")
        picture, record = _render(engine, scene, size, base, SEED)
    except RenderStoppedError:
        raise
    except SwiftSampleError as error:
        yield Checked("picture", BAD, one_line(error))
        return

    show(picture)
    wrong = int((~np.isfinite(picture.beauty)).sum())

    yield Checked(
        "picture",
        BAD if wrong else GOOD,
        f"{wrong:,} of its values are not finite numbers"
        if wrong
        else f"found, {size[0]}x{size[1]}, {_times_words(record)}",
    )
    for note in record.notes:
        yield Checked("while it ran", NOTE, note)

    tell("rendering the same again")
    try:
        began = time.perf_counter()
        again, second = _render(engine, scene, size, base, SEED)
        around = time.perf_counter() - began - second.seconds["total"]
        state = GOOD if around <= MUCH_OVERHEAD else NOTE
        yield Checked("overhead", state, f"{1000 * around:.0f} ms around the program's own time")
        yield from _repeats(
            renderer,
            picture,
            again,
            lambda: _render(engine, scene, size, base, OTHER_SEED)[0],
            tell,
        )
    except RenderStoppedError:
        raise
    except SwiftSampleError as error:
        yield Checked("repeat", BAD, one_line(error))

    same = np.array_equal(picture.beauty, again.beauty)
    for key, setting in renderer.catalogue.items():
        value = _another(setting)
        if value is None:
            yield Checked(key, NOTE, "has no second value to try")
            continue

        tell(f"trying {setting.told(value)}")
        try:
            changed, other = _render(engine, scene, size, base.replace({key: value}), SEED)
        except RenderStoppedError:
            raise
        except SwiftSampleError as error:
            yield Checked(key, BAD, f"{setting.show(value)}: {one_line(error)}")
            continue

        yield _effect(setting, value, same, (picture, record), (changed, other))


class _Engine(CommandEngine):
    """Tells what stops the render in hand."""

    def __init__(self, renderer: CommandRenderer, started: Callable[[Stop], None]) -> None:
        super().__init__(renderer)
        self.started = started


def command_line(renderer: CommandRenderer, scene: str, size: tuple[int, int]) -> str:
    """What is started for the base, for people: (python) is the Python that runs this program,
    (here) the folder of the file, (work) that of the render. Raises RendererError."""
    base = Configuration(renderer.catalogue)
    with tempfile.TemporaryDirectory() as folder:
        prepared = CommandEngine(renderer).prepare(
            _spec(scene, size, base, SEED), base, Path(folder)
        )
        shown = {folder: "(work)", sys.executable: "(python)", str(renderer.path.parent): "(here)"}
        return command_words(prepared, shown)


def _spec(scene: str, size: tuple[int, int], configuration: Configuration, seed: int) -> RenderSpec:
    return RenderSpec(scene=scene, size=size, settings=dict(configuration), seed=seed)


def _render(
    engine: "_Engine", scene: str, size: tuple[int, int], configuration: Configuration, seed: int
) -> tuple[Picture, RunRecord]:
    return engine.render(
        _spec(scene, size, configuration, seed), None, lambda share: None, engine.started
    )


def _version_words(renderer: CommandRenderer, version: str) -> str:
    if renderer.described.version:
        return f"told ({version[:8]})"
    return (
        "not told: results of another version of the program would count as the same; add version"
    )


def _times_words(record: RunRecord) -> str:
    phases = [f"{name} {value:.2f} s" for name, value in record.seconds.items() if name != "total"]
    told = f" ({', '.join(phases)})" if phases else ""
    held = f"{record.peak_memory_bytes / 2**20:.0f} MiB"
    return f"{record.seconds['total']:.2f} s{told}, {record.cpu_seconds:.2f} s of processor, {held}"


def _repeats(
    renderer: CommandRenderer,
    picture: Picture,
    again: Picture,
    other: Callable[[], Picture],
    tell: Callable[[str], None],
) -> Iterator[Checked]:
    same = np.array_equal(picture.beauty, again.beauty)
    seeds = renderer.capabilities.seeds

    if same:
        yield Checked(
            "repeat",
            GOOD,
            "the same seed gives the same picture" if seeds else "gives the same picture",
        )
    elif seeds:
        yield Checked(
            "repeat",
            NOTE,
            "the same seed gives another picture: runs still differ, but none can be had again",
        )
    else:
        yield Checked("repeat", NOTE, "every render has another grain, although no {seed} is given")

    if not seeds:
        yield Checked(
            "seed",
            NOTE,
            (
                f"it {'' if same else 'is given no seed; it '}takes grain from one picture, as an "
                "estimate"
            ),
        )
        return

    tell("rendering with another seed")
    effective = not np.array_equal(picture.beauty, other().beauty)

    yield Checked(
        "seed",
        GOOD if effective else BAD,
        "another seed gives another grain"
        if effective
        else "another seed gives the same picture: grain would be told as none",
    )


def _another(setting: Setting) -> Value | None:
    """A value that is not the default, among those to try or allowed."""
    if setting.kind == "switch":
        return not setting.default
    return next(
        (value for value in (*setting.suggested, *setting.values) if value != setting.default), None
    )


def _effect(
    setting: Setting,
    value: Value,
    repeats: bool,
    base: tuple[Picture, RunRecord],
    changed: tuple[Picture, RunRecord],
) -> Checked:
    ratio = base[1].seconds["total"] / max(changed[1].seconds["total"], 1e-9)
    told = (
        f"{setting.show(value)} in place of {setting.show(setting.default)}: {ratio:.2f} times "
        "as fast"
    )
    pixels = not np.array_equal(base[0].beauty, changed[0].beauty)

    if not repeats:
        return Checked(setting.key, GOOD, told)

    if setting.changes_pixels and not pixels:
        return Checked(
            setting.key,
            NOTE,
            (
                f"{told}; the picture is the same: does it reach the program? If so, "
                "changes_pixels = false"
            ),
        )

    if not setting.changes_pixels and pixels:
        return Checked(
            setting.key, BAD, f"{told}; the picture changes, although changes_pixels is false"
        )

    return Checked(
        setting.key,
        GOOD,
        told + ("" if pixels else "; the picture stays the same, as its file says"),
    )

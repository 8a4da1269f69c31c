"""Commands on pictures: render, compare and smooth them."""

import json
import signal
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from swift_sample.commands.completing import complete_changes
from swift_sample.commands.staging import with_staging
from swift_sample.commands.terminal import Size, Terminal, changes_of, check_writable, finite, say
from swift_sample.core.errors import UsageError
from swift_sample.core.picture.view import CURVES, View
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.scene.features.listing import PREFIX
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.presets import read_preset

if TYPE_CHECKING:
    from swift_sample.core.scene.staging import Staging

FIRST_SEED = 1


@click.command()
@click.argument("scene")
@click.option(
    "-o",
    "--output",
    "output",
    required=True,
    type=click.Path(path_type=Path),
    help="The file to write: .exr, or .png.",
)
@click.option("--preset", type=click.Path(path_type=Path), help="A preset file with the settings.")
@click.option(
    "--set",
    "changes",
    multiple=True,
    metavar="KEY=VALUE",
    help="A setting; may be given several times, goes before the preset.",
    shell_complete=complete_changes,
)
@click.option(
    "--size",
    type=Size(),
    default="640x360",
    show_default=True,
    help="Width and height before output.scale.",
)
@with_staging
@click.option(
    "--frame", type=click.IntRange(0, 100_000), default=0, help="Which frame of an animated scene."
)
@click.option(
    "--seed",
    type=click.IntRange(0, 2**31 - 1),
    default=FIRST_SEED,
    help="Another seed, another grain.",
)
@click.option("--json", "as_json", is_flag=True, help="Print the record of the render.")
def render(
    scene: str,
    output: Path,
    preset: Path | None,
    changes: tuple[str, ...],
    size: tuple[int, int],
    stage: Callable[["Staging"], "Staging"],
    frame: int,
    seed: int,
    as_json: bool,
) -> int:
    """Render a scene once, as light with all layers (.exr) or as it is seen (.png)."""
    catalogue = RENDERER.catalogue
    if any(change.startswith(PREFIX) for change in changes):
        catalogue = catalogue.with_scene(RENDERER.scene_settings(scene, frame))

    chosen = read_preset(preset, catalogue) if preset is not None else Configuration(catalogue)
    configuration = chosen.replace(changes_of(changes, catalogue))
    suffix = output.suffix.lower()

    if suffix not in (".exr", ".png"):
        raise UsageError(f"{output}: expected a name that ends in .exr or .png")

    check_writable(output)
    for doubt in RENDERER.doubts(configuration):
        say(doubt)

    from swift_sample.core.picture.formats import OUTPUT_FORMATS, write_display
    from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render, warm_up
    from swift_sample.core.renderers.records import RenderSpec
    from swift_sample.core.scene.environment import parse_environment
    from swift_sample.core.scene.open import open_scene
    from swift_sample.core.scene.staging import Staging

    staging = stage(Staging())
    if staging.environment is not None:
        parse_environment(staging.environment)

    from swift_sample.core.renderers.builtin.rendering.building import choices_of

    open_scene(scene, choices_of(configuration, frame))
    progress = Terminal()
    warm_up(lambda share, text: progress.show(f"{text} …"))

    spec = RenderSpec(
        scene=scene,
        size=size,
        settings=configuration.of_renderer(),
        changes=configuration.of_scene(),
        seed=seed,
        staging=staging,
        frame=frame,
    )
    with _KeepOnInterrupt() as interrupts:
        picture, result = run_render(
            spec,
            SceneCache(),
            output if suffix == ".exr" else None,
            lambda share: progress.show(f"Rendering {share:.0%}"),
            interrupts.watch,
        )

    if suffix == ".png":
        write_display(output, OUTPUT_FORMATS["png-8"], picture.beauty, View())

    progress.clear()
    if result.stopped and result.samples is not None:
        say(
            f"stopped {'when clean' if result.stopped == 'clean' else result.stopped} after "
            f"{result.samples.max} samples; "
            f"about {result.saved_seconds:.1f} s saved"
        )

    for note in result.notes:
        say(note)

    if as_json:
        print(result.model_dump_json())
    else:
        say(f"{output}: {result.size[0]}x{result.size[1]} in {result.seconds['total']:.2f} s")

    return 0


@click.command()
@click.argument("frame", type=click.Path(path_type=Path))
@click.argument("neighbours", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "-o",
    "--output",
    "output",
    required=True,
    type=click.Path(path_type=Path),
    help="The EXR to write.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def denoise(frame: Path, neighbours: tuple[Path, ...], output: Path, as_json: bool) -> int:
    """Denoise a rendered frame together with its neighbours, against flicker."""
    from swift_sample.core.machine import available_processors
    from swift_sample.core.picture.exr import read_exr, write_exr
    from swift_sample.core.renderers.builtin.denoise.frames import denoise_frame

    check_writable(output)
    pictures = [read_exr(path) for path in (frame, *neighbours)]
    started = time.perf_counter()
    shown = denoise_frame(pictures[0], pictures[1:], available_processors())
    seconds = time.perf_counter() - started
    write_exr(output, shown)

    if as_json:
        print(
            json.dumps(
                {"seconds": seconds, "frames": len(pictures), "size": [shown.width, shown.height]}
            )
        )
    else:
        say(f"{output}: {len(pictures)} frames in {seconds:.2f} s")

    return 0


@click.command()
@click.argument("picture", type=click.Path(path_type=Path))
@click.option(
    "-o",
    "--output",
    "output",
    required=True,
    type=click.Path(path_type=Path),
    help="The EXR to write.",
)
@click.option(
    "--strength",
    type=click.FloatRange(0, 1),
    default=0.5,
    help="0 is the raw picture, 1 the denoised one.",
)
@click.option(
    "--mask",
    "mask",
    type=click.Path(path_type=Path),
    help="A grey picture: white where strength counts in full.",
)
@click.option(
    "--method", help="Denoise the raw picture with this; without it what was rendered is taken."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def blend(
    picture: Path,
    output: Path,
    strength: float,
    mask: Path | None,
    method: str | None,
    as_json: bool,
) -> int:
    """Blend a picture between raw and denoised, everywhere or as a mask says."""
    from swift_sample.core.display.blend import blended
    from swift_sample.core.picture.exr import write_exr
    from swift_sample.core.picture.picture import Picture
    from swift_sample.core.picture.reading import read_picture
    from swift_sample.core.renderers.builtin.denoise import DENOISERS

    check_writable(output)
    if method is not None and method not in DENOISERS:
        raise UsageError(f"--method={method}: expected one of {', '.join(DENOISERS)}")

    first = read_picture(picture)
    if method is None and "raw" not in first.layers:
        raise UsageError(f"{picture}: was not denoised when it was rendered; give --method")

    smooth = first.beauty
    if method is not None:
        from swift_sample.core.display.blend import at_full_strength

        lacking = [
            name
            for name in ("albedo", "normal", "depth", "half_a", "half_b")
            if name not in first.layers
        ]
        if lacking:
            raise UsageError(
                f"{picture}: has no layers {', '.join(lacking)}, which denoisers go by; render "
                "it here"
            )

        layers = {name: values for name, values in first.layers.items() if name != "raw"}
        plain = Picture(first.layers.get("raw", first.beauty), layers)
        wanted = at_full_strength(Configuration(RENDERER.catalogue), method)
        smooth = RENDERER.engine().denoise(plain, wanted).beauty

    share = None if mask is None else View().levels(read_picture(mask).beauty).mean(axis=2) / 255
    write_exr(output, blended(first, smooth, strength, share))
    told = {
        "strength": strength,
        "mask": str(mask) if mask else None,
        "method": method or "as rendered",
    }

    if as_json:
        print(json.dumps(told))
    else:
        say(
            f"{output}: {strength:.0%} {told['method']}"
            + (f", where {mask} is white" if mask else "")
        )

    return 0


@click.command()
@click.argument("image", type=click.Path(path_type=Path))
@click.argument("reference", type=click.Path(path_type=Path))
@click.option(
    "--area",
    "areas",
    multiple=True,
    metavar="x,y,w,h",
    help="A part of the picture; may be repeated.",
)
@click.option("--exposure", type=float, default=0.0, help="Exposure of the view in stops.")
@click.option(
    "--curve", type=click.Choice(CURVES), default="straight", help="Tone curve of the view."
)
@click.option(
    "--then",
    "later",
    multiple=True,
    nargs=2,
    type=click.Path(path_type=Path),
    metavar="IMAGE REFERENCE",
    help="The next frame and its reference, for flicker; may be repeated.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def compare(
    image: Path,
    reference: Path,
    areas: tuple[str, ...],
    exposure: float,
    curve: str,
    later: tuple[tuple[Path, Path], ...],
    as_json: bool,
) -> int:
    """Measure how far a picture is from a reference."""
    from swift_sample.core.measure.compare import WHOLE, Area, measure
    from swift_sample.core.measure.comparison import Comparison
    from swift_sample.core.measure.kinds import KINDS
    from swift_sample.core.picture.reading import check_comparable, read_picture

    view = View(exposure, curve)
    wanted = tuple(Area.parse(text) for text in areas)
    first = read_picture(image)
    second = read_picture(reference)
    check_comparable(first, image, second, reference)
    raw = first.halves if "raw" not in first.layers else None
    figures = measure(
        Comparison([first.beauty], second.beauty, view, raw, second.halves, seeds=False), wanted
    )
    flickers = _flicker([(image, reference), *later], view) if later else None

    if as_json:

        def plain(name: str) -> dict[str, float | None]:
            return {
                key: finite(figure.value) if figure else None
                for key, figure in figures[name].items()
            }

        intervals = {
            key: [finite(f.low), finite(f.high)] if f else None for key, f in figures[WHOLE].items()
        }
        print(
            json.dumps(
                {
                    **plain(WHOLE),
                    "flicker": flickers,
                    "intervals": intervals,
                    "areas": {a.name: plain(a.name) for a in wanted},
                }
            )
        )

        return 0

    for name in figures:
        print(name or "whole picture")
        for key, figure in figures[name].items():
            kind = KINDS[key]
            text = (
                "not known from these pictures"
                if figure is None
                else f"{figure.value:.4g} {kind.unit}  ({figure.low:.4g} to {figure.high:.4g})"
            )

            print(f"  {kind.label:26s} {text}")

    if flickers is not None:
        print(f"  {'flicker':26s} {flickers:.4g} levels over {len(later) + 1} frames")

    return 0


@click.command()
@click.argument("scene")
@click.option(
    "--set",
    "changes",
    multiple=True,
    metavar="KEY=VALUE",
    help="A setting; may be given several times.",
)
@click.option(
    "--size", type=Size(), default="640x360", help="Width and height before output.scale."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def caching(scene: str, changes: tuple[str, ...], size: tuple[int, int], as_json: bool) -> int:
    """After how many renders each cache pays for itself, measured."""
    configuration = Configuration(RENDERER.catalogue, changes_of(changes, RENDERER.catalogue))
    from swift_sample.core.renderers.builtin.break_even import measure_caches
    from swift_sample.core.renderers.builtin.pipeline import warm_up
    from swift_sample.core.renderers.records import RenderSpec

    progress = Terminal()
    warm_up(lambda share, text: progress.show(f"{text} …"))
    spec = RenderSpec(scene=scene, size=size, settings=dict(configuration), seed=FIRST_SEED)
    costs = measure_caches(spec, lambda text: progress.show(f"{text} …"))
    progress.clear()

    if as_json:
        print(json.dumps({"caches": [cost.as_dict() for cost in costs]}))
        return 0

    print(f"{'':20s} {'without':>14s} {'first':>14s} {'later':>14s} {'memory':>9s}  pays after")
    for cost in costs:
        pays = (
            "never"
            if cost.pays_after is None
            else f"{cost.pays_after} render{'s' if cost.pays_after > 1 else ''}"
        )
        soonest, latest = cost.pays_between
        if soonest != latest:
            pays += f" ({soonest or 'never'} to {latest or 'never'})"
        times = " ".join(
            f"{f.value:7.2f} s ±{(f.high - f.low) / 2:4.2f}"
            for f in (cost.without, cost.first, cost.later)
        )
        print(f"{cost.name:20s} {times} {cost.memory_bytes / 2**20:5.0f} MiB  {pays}")

    return 0


class _KeepOnInterrupt:
    """Ctrl-C ends a progressive render after the pass in hand and keeps the picture; a second one,
    and any other render, stops at once."""

    def __init__(self) -> None:
        self._finish: Any = None

    def watch(self, sampling: Any) -> None:
        self._finish = sampling.rounds.finish

    def __enter__(self) -> "_KeepOnInterrupt":
        self._before = signal.signal(signal.SIGINT, self._interrupt)
        return self

    def __exit__(self, *_: object) -> None:
        signal.signal(signal.SIGINT, self._before)

    def _interrupt(self, *_: object) -> None:
        finish = self._finish
        self._finish = None
        if finish is None or not finish():
            raise KeyboardInterrupt


def _flicker(frames: list[tuple[Path, Path]], view: View) -> float:
    """Flicker of frames against their references."""
    from swift_sample.core.measure.flicker import flicker
    from swift_sample.core.picture.reading import check_comparable, read_picture

    first = read_picture(frames[0][0])
    pictures = [(read_picture(shown), read_picture(reference)) for shown, reference in frames]

    for (shown, reference), (one, other) in zip(pictures, frames, strict=True):
        check_comparable(shown, one, reference, other)
        check_comparable(shown, one, first, frames[0][0])

    return flicker(
        [shown.beauty for shown, _ in pictures],
        [reference.beauty for _, reference in pictures],
        view,
    )

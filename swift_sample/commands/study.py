"""Commands that make studies, move them, and open the window."""

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.terminal import Size, changes_of, check_writable, quoted, say
from swift_sample.commands.window import open_window
from swift_sample.core.picture.view import CURVES, View
from swift_sample.core.scene.lighting import DARK_GLOW_NOTE, SOFT_SKY
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import SAMPLES

if TYPE_CHECKING:
    from swift_sample.core.renderers.port import Renderer
LOOK_PIXELS = 96
LOOK_SAMPLES = 8
"""The longer side, and the samples, of a picture that only tells whether there is anything to be
seen."""


@click.command(name="open")
@click.argument("study", type=click.Path(path_type=Path), required=False)
def open_(study: Path | None) -> int:
    """Open a study or a scene in the window."""
    from swift_sample.core.study.log.store import look_at_study

    if study is not None and study.suffix.lower() not in (".gltf", ".glb"):
        with look_at_study(study, say):
            pass  # says what is wrong with it, if anything is

    return open_window(study)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--scene", required=True, help="A .gltf or .glb file, or the name of a demo scene.")
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
@click.option("--preset", type=click.Path(path_type=Path), help="A preset file with the base.")
@click.option(
    "--set",
    "changes",
    multiple=True,
    metavar="KEY=VALUE",
    help="A setting of the base; goes before the preset.",
)
@click.option(
    "--curve", type=click.Choice(CURVES), default="straight", help="Tone curve of the view."
)
@click.option("--exposure", type=float, default=0.0, help="Exposure of the view in stops.")
@click.option(
    "--renderer",
    "file",
    type=click.Path(path_type=Path),
    help="The file of another renderer than the built-in one.",
)
@click.option(
    "--yes", is_flag=True, help="Confirm that file without being asked: it names programs to start."
)
def new(
    study: Path,
    scene: str,
    size: tuple[int, int],
    environment: str | None,
    frame: int,
    preset: Path | None,
    changes: tuple[str, ...],
    curve: str,
    exposure: float,
    file: Path | None,
    yes: bool,
) -> int:
    """Make a study of your scene, with a first set of values to try."""
    from swift_sample.commands.renderers import confirmed_renderer
    from swift_sample.core.renderers.registry import DEFAULT, renderer_named
    from swift_sample.core.settings.presets import read_preset
    from swift_sample.core.study.answers.acceptance import small_picture_words
    from swift_sample.core.study.log.store import create_study
    from swift_sample.core.study.plan.starting import starting_study

    renderer = (
        renderer_named(DEFAULT) if file is None else confirmed_renderer(file, scene, size, yes)
    )
    catalogue = renderer.catalogue
    chosen = read_preset(preset, catalogue) if preset is not None else Configuration(catalogue)
    base = chosen.replace(changes_of(changes, catalogue))

    if environment is not None and Path(environment).is_file():
        environment = str(Path(environment).resolve())

    staging = Staging(environment)
    facts = renderer.facts(scene, base, frame, staging)
    for note in facts.notes:
        say(note)

    if environment is None and facts.only_glows and looks_dark(renderer, scene, size, base, frame):
        staging = Staging(SOFT_SKY)
        say(f"{DARK_GLOW_NOTE} (`swift-sample view {quoted(study)} --environment own`)")

    name = scene if scene in renderer.scene_names else str(Path(scene).resolve())
    for doubt in renderer.doubts(base):
        say(doubt)

    plan = starting_study(Path(study).stem, name, size, View(exposure, curve), base)
    plan = replace(
        plan,
        staging=staging,
        frame=frame,
        renderer_file=str(file.resolve()) if file is not None else "",
    )
    create_study(study, plan)
    for words in small_picture_words(plan):
        say(words)

    say(
        f"{study}: {len(plan.planned())} trials planned; `swift-sample run {quoted(study)}` "
        "measures them"
    )
    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "-o",
    "--output",
    "output",
    required=True,
    type=click.Path(path_type=Path),
    help="A .zip file to write.",
)
def pack(study: Path, output: Path) -> int:
    """Put a study with its scene and pictures into one file; it may be measured meanwhile."""
    from swift_sample.core.study.package.pack import pack_study

    check_writable(output)
    written = pack_study(study, output, say)
    say(
        f"written to {output}, {written / 2**20:.1f} MiB; `swift-sample unpack "
        f"{quoted(output)} STUDY` makes a study of it"
    )

    return 0


@click.command()
@click.argument("packed", type=click.Path(path_type=Path))
@click.argument("study", type=click.Path(path_type=Path))
def unpack(packed: Path, study: Path) -> int:
    """Make a study folder of a packed study."""
    from swift_sample.core.study.package.pack import unpack_study

    unpack_study(packed, study, say)
    say(f"{study}: unpacked; `swift-sample pick {quoted(study)}` tells what was found")
    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.argument("other", type=click.Path(path_type=Path))
def merge(study: Path, other: Path) -> int:
    """Add to STUDY what OTHER knows, as after measuring copies of one study on two computers."""
    from swift_sample.core.study.package.merge import merge_study

    merged = merge_study(study, other)
    for words in merged.left_out[:3]:
        say(f"left out: {words}")

    if len(merged.left_out) > 3:
        say(f"and {len(merged.left_out) - 3} more were left out")

    say(f"{study}: {merged.words}; `swift-sample pick {quoted(study)}` tells what is known now")
    return 0


def looks_dark(
    renderer: "Renderer", scene: str, size: tuple[int, int], base: Configuration, frame: int
) -> bool:
    """Whether a small picture of a scene shows hardly anything."""
    from swift_sample.core.renderers.records import RenderSpec
    from swift_sample.core.scene.lighting import is_dark

    width, height = (max(1, side * LOOK_PIXELS // max(size)) for side in size)
    few = (
        base.replace({counted.key: LOOK_SAMPLES})
        if (counted := base.catalogue.with_role(SAMPLES)) is not None
        else base
    )
    spec = RenderSpec(
        scene=scene, size=(width, height), settings=few.of_renderer(), seed=1, frame=frame
    )
    picture, _ = renderer.engine().render(spec, None, lambda share: None, lambda stop: None)

    return is_dark(picture.beauty)

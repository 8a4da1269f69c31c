"""Commands about renderers that are programs of their own."""

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.terminal import Size, Terminal, check_writable, quoted, say
from swift_sample.core.errors import RendererError, UsageError
from swift_sample.core.scene.staging import AS_IN_THE_FILE

if TYPE_CHECKING:
    from swift_sample.core.renderers.command.renderer import CommandRenderer

FAILED = 1


@click.group(name="renderer")
def renderer_() -> None:
    """Other renderers: programs that a renderer file describes."""


@renderer_.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--scene", required=True, help="A scene that it renders.")
@click.option(
    "--size", type=Size(), default="160x90", help="Width and height of the pictures that are tried."
)
@click.option(
    "--yes", is_flag=True, help="Confirm the file without being asked: it names programs to start."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def check(file: Path, scene: str, size: tuple[int, int], yes: bool, as_json: bool) -> int:
    """Show what a renderer file starts, ask whether it may, and prove it: picture, seed, times,
    every setting."""
    from swift_sample.core.renderers.command.check import BAD, NOTE
    from swift_sample.core.renderers.command.check import check as prove
    from swift_sample.core.renderers.command.trust import is_confirmed, seen_file

    asked = not is_confirmed(seen_file(file))
    renderer = confirmed_renderer(file, scene, size, yes)
    terminal = Terminal()
    found = []

    for one in prove(renderer, scene, size, lambda words: terminal.show(f"{words} …")):
        terminal.clear()
        found.append(one)
        if one.what == "command" and asked:
            continue  # it was shown with the question
        if not as_json:
            state = {BAD: "wrong: ", NOTE: "note: "}.get(one.state, "")
            print(f"{state}{one.what}: {one.words}")

    failed = any(one.state == BAD for one in found)
    if as_json:
        print(
            json.dumps(
                {"file": str(file), "good": not failed, "checked": [vars(one) for one in found]}
            )
        )
    elif not failed:
        say(
            f"`swift-sample new STUDY --scene {quoted(Path(scene))} --renderer {quoted(file)}` "
            "makes a study with it"
        )

    return FAILED if failed else 0


def confirmed_renderer(
    file: Path, scene: str, size: tuple[int, int], yes: bool
) -> "CommandRenderer":
    """The renderer of a file that a person has confirmed, now if not before; raises UsageError
    where they do not."""
    from swift_sample.core.renderers.command.check import command_line
    from swift_sample.core.renderers.command.description import filled
    from swift_sample.core.renderers.command.trust import confirm, is_confirmed
    from swift_sample.core.renderers.registry import renderer_in

    renderer = renderer_in(file)
    renderer.scene_content(scene, AS_IN_THE_FILE)

    if not is_confirmed(renderer.seen):
        say(
            f"{renderer.path} starts this for every render:\n  "
            f"{command_line(renderer, scene, size)}"
        )
        if renderer.described.version:
            holes = {"here": "(here)", "python": "(python)"}
            words = " ".join(filled(word, holes) for word in renderer.described.version)
            say(f"and this for its version:\n  {words}")

        if not yes and not click.confirm("May it?", default=False, err=True):
            raise UsageError(f"{renderer.path}: was not confirmed, and nothing was started")

        confirm(renderer.seen)

    return renderer


@renderer_.command(name="list")
@click.argument("files", type=click.Path(path_type=Path), nargs=-1)
def list_(files: tuple[Path, ...]) -> int:
    """List renderers: those that come with Swift Sample, and what renderer files describe."""
    from swift_sample.core.renderers.command.trust import is_confirmed
    from swift_sample.core.renderers.registry import RENDERERS, renderer_in

    for name, make in RENDERERS.items():
        print(f"{name}: {make().title}, {len(make().catalogue)} settings")

    for file in files:
        try:
            renderer = renderer_in(file)
        except RendererError as error:
            say(str(error))
            continue

        state = "confirmed" if is_confirmed(renderer.seen) else "not confirmed yet"
        print(
            f"{renderer.name}: {renderer.title}, {len(renderer.catalogue)} settings, {file}, "
            f"{state}"
        )

    return 0


@renderer_.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--name", required=True, help="A short name in small letters.")
@click.option(
    "--command",
    "words",
    required=True,
    help="The command line, with {scene}, {picture} and the like in it.",
)
@click.option(
    "--picture",
    "suffix",
    type=click.Choice([".exr", ".png", ".tif", ".jpg"]),
    default=".exr",
    help="What it writes.",
)
@click.option(
    "--copy",
    "copies",
    multiple=True,
    metavar="NAME=FILE",
    help="A file that each render gets a copy of, for {NAME} in the command line.",
)
def new(file: Path, name: str, words: str, suffix: str, copies: tuple[str, ...]) -> int:
    """Write a renderer file to begin with; its settings are added by hand."""
    from swift_sample.core.renderers.command.starting import starting_file

    check_writable(file)
    if file.exists():
        raise UsageError(f"{file}: exists already; choose another name")

    named: dict[str, str] = {}
    for text in copies:
        key, mark, source = text.partition("=")
        if not (mark and key and source):
            raise UsageError(f"--copy {text}: expected NAME=FILE")
        named[key] = source

    file.write_text(starting_file(name, words, suffix, copies=named), "utf-8")
    say(
        f"{file}: written; add its settings, then `swift-sample renderer check {quoted(file)} "
        "--scene SCENE` proves it"
    )
    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--table",
    type=click.Path(path_type=Path),
    help="A CSV file: picture, seconds, and columns that are settings.",
)
@click.option(
    "--pictures",
    type=click.Path(path_type=Path),
    help="A folder of pictures that tell of themselves, in place of a table.",
)
@click.option(
    "--reference",
    required=True,
    type=click.Path(path_type=Path),
    help="The picture that the others are compared with.",
)
@click.option(
    "--base",
    type=click.IntRange(min=1),
    help="Which row is today's settings; the slowest unless told.",
)
@click.option(
    "--write-table",
    type=click.Path(path_type=Path),
    help="Write what the pictures tell as a table to complete, and stop.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def finished(
    study: Path,
    table: Path | None,
    pictures: Path | None,
    reference: Path,
    base: int | None,
    write_table: Path | None,
    as_json: bool,
) -> int:
    """Make a study of renders that are finished, with their times, and measure their pictures."""
    from swift_sample.commands.measuring import measure_study
    from swift_sample.core.renderers.finished.table import (
        guess_rows,
        pictures_in,
        read_table,
        table_text,
        told_apart,
    )
    from swift_sample.core.study.package.finished import finished_plan, make_finished_study

    if (table is None) == (pictures is None):
        raise UsageError("expected either --table or --pictures")

    if table is not None:
        source = table
        rows = read_table(table)
    else:
        assert pictures is not None
        source = pictures
        found = [path for path in pictures_in(pictures) if path.resolve() != reference.resolve()]
        rows, notes = guess_rows(found, pictures)

        if write_table is not None:
            write_table.write_text(table_text(rows, write_table.parent), "utf-8")
            say(f"{write_table}: {len(rows)} renders{'; ' + '; '.join(notes) if notes else ''}")
            return 0

        if notes:
            raise UsageError(f"{pictures}: {notes[0]}: --write-table writes a table to complete")

        rows = told_apart(rows, pictures)

    if base is not None and base > len(rows):
        raise UsageError(f"--base {base}: there are {len(rows)} rows")

    plan = finished_plan(study.stem, source.resolve(), rows, base - 1 if base is not None else -1)
    terminal = Terminal()
    make_finished_study(
        study,
        plan,
        rows,
        reference,
        lambda done, every: terminal.show(f"copying picture {done} of {every}"),
    )
    terminal.clear()

    return measure_study(study, as_json)

"""How a configuration reaches a program: as words, environment variables, places in copied files,
or one JSON file of all."""

import json
import shutil
import sys
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from swift_sample.core.errors import RendererError, plain
from swift_sample.core.files import read_text
from swift_sample.core.renderers.command.description import InFile, RendererFile, filled
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.settings.setting import THREADS

SETTINGS_FILE = "settings.json"
ARGUMENTS = "{arguments}"


@dataclass(frozen=True)
class Order:
    """One render as it is asked of a program."""

    scene: Path
    size: tuple[int, int]
    frame: int
    seed: int
    threads: int


@dataclass(frozen=True)
class Prepared:
    """What is started, and where its picture will be."""

    command: list[str]
    folder: Path
    environment: dict[str, str]
    picture: Path
    report: Path | None


def prepare(
    described: RendererFile, here: Path, configuration: Configuration, order: Order, work: Path
) -> Prepared:
    """Copy, edit and write what a program reads, in the folder `work`; `here` is the folder of the
    renderer file.

    Raises RendererError where a file cannot be edited as described.
    """
    first = described.seed.first if described.seed is not None else 0
    holes = {
        "python": sys.executable,
        "scene": str(order.scene),
        "scene_folder": str(order.scene.parent),
        "picture": str(work / f"picture{described.picture.suffix}"),
        "width": str(order.size[0]),
        "height": str(order.size[1]),
        "frame": str(order.frame),
        "seed": str(order.seed + first),
        "threads": str(order.threads),
        "settings": str(work / SETTINGS_FILE),
        "here": str(here),
        "work": str(work),
    }
    for name, source in described.copies.items():
        holes[name] = str(_copied(Path(filled(source, holes)), work, name))

    words = []
    environment = {name: filled(text, holes) for name, text in described.environment.items()}
    edits: dict[str, list[tuple[InFile, Value, str]]] = {}

    for one in described.setting:
        value = configuration[one.key]
        written = one.word_for(value)

        if one.arguments is not None:
            words += [filled(word, {**holes, "value": written}) for word in one.arguments]
        elif one.environment is not None:
            environment[one.environment] = written
        elif one.in_file is not None:
            edits.setdefault(one.in_file.file, []).append((one.in_file, one.placed(value), written))

    for name, wanted in edits.items():
        _edit(Path(holes[name]), wanted)

    if described.uses("settings"):
        (work / SETTINGS_FILE).write_text(json.dumps(dict(configuration)), "utf-8")

    command: list[str] = []
    for word in described.command:
        command += words if word == ARGUMENTS else [filled(word, holes)]

    if ARGUMENTS not in described.command:
        command += words

    report = described.times.report
    return Prepared(
        command,
        Path(filled(described.folder, holes)),
        environment,
        Path(filled(described.picture.file, holes)),
        Path(filled(report, holes)) if report is not None else None,
    )


def threads_of(configuration: Configuration, available: int) -> int:
    """How many threads a configuration asks for; all that there are where no setting says."""
    return int(configuration.number_in_role(THREADS) or available)


def _copied(source: Path, work: Path, name: str) -> Path:
    target = work / f"{name}{source.suffix}"
    try:
        shutil.copyfile(source, target)
    except OSError as error:
        raise RendererError(
            f"{source}: cannot be copied for {name} ({error.strerror}); check copies in the "
            "renderer file"
        ) from error

    return target


def _edit(path: Path, wanted: list[tuple[InFile, Value, str]]) -> None:
    """Put values in their places in a copied file. Raises RendererError where one is not there."""
    try:
        text = read_text(path)
    except (OSError, UnicodeDecodeError) as error:
        raise RendererError(
            f"{path.name}: the copied file is no text that could be edited"
        ) from error

    for kind, members in (("pointer", []), ("key", []), ("between", [])):
        members += [
            (place, value, written)
            for place, value, written in wanted
            if getattr(place, kind) is not None
        ]
        if not members:
            continue

        if kind == "between":
            for place, _, written in members:
                text = _between(text, place, written, path)
            continue

        document = _parsed(text, kind, path)
        for place, value, _ in members:
            steps = (
                place.pointer.split("/")[1:]
                if place.pointer is not None
                else str(place.key).split(".")
            )
            _put(
                document,
                [
                    step.replace("~1", "/").replace("~0", "~") if kind == "pointer" else step
                    for step in steps
                ],
                value,
                path,
            )

        text = (
            json.dumps(document, ensure_ascii=False)
            if kind == "pointer"
            else tomlkit.dumps(document)
        )

    path.write_text(text, "utf-8")


def _parsed(text: str, kind: str, path: Path) -> Any:
    try:
        return json.loads(text) if kind == "pointer" else tomlkit.parse(text)
    except (ValueError, RecursionError, TOMLKitError) as error:
        raise RendererError(
            f"{path.name}: the copied file is no {'JSON' if kind == 'pointer' else 'TOML'} "
            f"({plain(str(error), 120)})"
        ) from error


def _put(document: Any, steps: list[str], value: Value, path: Path) -> None:
    """Replace what is there; a place that is not there is a mistake in the renderer file, and not
    made."""
    at = document
    try:
        for step in steps[:-1]:
            at = at[int(step)] if isinstance(at, list) else at[step]

        last: str | int = int(steps[-1]) if isinstance(at, list) else steps[-1]
        at[last]
        at[last] = value
    except (KeyError, IndexError, ValueError, TypeError) as error:
        raise RendererError(
            f"{path.name}: there is no {'/'.join(steps)} in the copied file; check in_file in "
            "the renderer file"
        ) from error


def _between(text: str, place: InFile, written: str, path: Path) -> str:
    assert place.between is not None
    start, end = place.between
    first = text.find(start)
    last = text.find(end, first + len(start)) if first >= 0 else -1

    if last < 0:
        raise RendererError(
            f"{path.name}: the copied file has nothing between {start!r} and {end!r}; check "
            "in_file in the renderer file"
        )

    return text[: first + len(start)] + written + text[last:]


def command_words(prepared: Prepared, shown: Mapping[str, str] | None = None) -> str:
    """A command line for people to read: words with spaces in quotation marks, paths as `shown`
    names them."""
    told = []
    for word in prepared.command:
        for long, short in (shown or {}).items():
            word = word.replace(long, short)

        told.append(
            word
            if word and all(c.isprintable() and not c.isspace() and c not in "\"'" for c in word)
            else repr(word)
        )

    return " ".join(told)

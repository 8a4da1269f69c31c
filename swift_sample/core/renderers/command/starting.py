"""Renderer files to begin with: from a command line, and settings that a form was filled in
with."""

import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import tomlkit

from swift_sample.core.errors import RendererError
from swift_sample.core.renderers.command.description import parse_renderer_file
from swift_sample.core.settings.setting import SAMPLES


@dataclass(frozen=True)
class FormSetting:
    """One line of the form: `today` and `tried` as they were typed, `words` the argument with
    {value} in it."""

    label: str
    today: str
    tried: str
    words: str
    is_samples: bool = False


EXAMPLE = (FormSetting("Samples", "64", "16 32 64", "--samples {value}", True),)


def starting_file(
    name: str,
    command: str,
    suffix: str,
    settings: Sequence[FormSetting] = EXAMPLE,
    copies: Mapping[str, str] | None = None,
) -> str:
    """Its text. `copies` are files that each render gets a copy of, by the placeholder for the
    copy. Raises RendererError where something cannot be read, or the file would be none."""
    document = tomlkit.document()
    document.add(
        tomlkit.comment(f"How Swift Sample starts {name}. docs/renderers.md explains every line.")
    )
    document["format"] = 1
    document["name"] = name
    document["title"] = name
    document["command"] = _words(command, "command")
    document["picture"] = {"kind": "light" if suffix == ".exr" else "shown", "suffix": suffix}

    if copies:
        document["copies"] = dict(copies)
    if "{seed}" in command:
        document["seed"] = {}

    document["limits"] = {"seconds": 3600}
    tables = tomlkit.aot()
    for one in settings:
        tables.append(_table(one))

    document["setting"] = tables
    text = tomlkit.dumps(document)
    parse_renderer_file(text)

    return text


def _words(text: str, what: str) -> list[str]:
    try:
        return shlex.split(text)
    except ValueError as error:
        raise RendererError(
            f"{what}: cannot be read ({error}); close every quotation mark"
        ) from error


def _table(one: FormSetting) -> "tomlkit.items.Table":
    """A setting as numbers where all values are some, yes and no where all are that, else as
    words."""
    label = one.label.strip()
    typed = [word.strip(",;") for word in one.tried.replace(",", " ").split()]
    values = list(dict.fromkeys([*typed, one.today.strip()]))
    table = tomlkit.table()
    table["key"] = "samples.max" if one.is_samples else _key(label)
    table["label"] = label or "Setting"

    if all(value in ("yes", "no") for value in values):
        table["kind"] = "switch"
        table["default"] = one.today.strip() == "yes"
        table["tried"] = [value == "yes" for value in values]
    elif numbers := _numbers(values):
        whole = all(number == int(number) for number in numbers)
        made = [int(n) if whole else n for n in numbers]
        table["kind"] = "whole" if whole else "number"
        table["default"] = made[-1]
        table["tried"] = sorted(set(made))
        table["minimum"] = min(0, *made)
        table["maximum"] = max(1_000_000, *made)
    else:
        table["kind"] = "choice"
        table["default"] = one.today.strip()
        table["values"] = values
        table["tried"] = values

    if one.is_samples:
        table["role"] = SAMPLES
        table["reference"] = 16 * int(float(one.today))
        table["minimum"] = 1

    table["arguments"] = _words(one.words, label)
    return table


def _numbers(values: Sequence[str]) -> list[float]:
    try:
        return [float(value) for value in values]
    except ValueError:
        return []


def _key(label: str) -> str:
    plain = "".join(c if c.isalnum() and c.isascii() else "_" for c in label.lower()).strip("_")
    return f"program.{plain or 'setting'}"

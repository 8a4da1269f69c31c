"""A configuration in the forms in which it leaves the tool: for typing into another program, as a preset, for a program, and
for a terminal."""

import json
import shlex

from swift_sample.core.settings.configuration import Configuration
from swift_sample.core.settings.presets import preset_text
from swift_sample.core.settings.setting import format_value

FORMS = ("reading list", "preset", "JSON", "command line")


def reading_list(configuration: Configuration, base: Configuration | None = None) -> str:
    """Every setting that differs from the base, or from its default, in the order of the settings, by group."""
    lines: list[str] = []
    group = ""
    for key, declared in configuration.catalogue.items():
        value, was = configuration[key], base[key] if base is not None else declared.default
        if value == was and value == declared.default:
            continue
        if configuration.is_idle(declared):
            continue
        if declared.group != group:
            group = declared.group
            lines += ["", group] if lines else [group]
        changed = f"  (was {declared.show(was)})" if value != was else ""
        lines.append(f"  {declared.label}: {declared.show(value)}{changed}")
    return "\n".join(lines) if lines else "Every setting is at its default."


def command_line(configuration: Configuration, scene: str, size: tuple[int, int]) -> str:
    """The command that renders a scene so."""
    words = ["swift-sample", "render", scene, "-o", "picture.exr", "--size", f"{size[0]}x{size[1]}"]
    for key, value in configuration.without_defaults().items():
        words += ["--set", f"{key}={format_value(value)}"]
    return shlex.join(words)


def told_as(form: str, configuration: Configuration, base: Configuration, scene: str, size: tuple[int, int]) -> str:
    """A configuration in one of FORMS."""
    if form == "preset":
        return preset_text(configuration)
    if form == "JSON":
        return json.dumps({"settings": dict(configuration.without_defaults())}, indent=2)
    if form == "command line":
        return command_line(configuration, scene, size)
    return reading_list(configuration, base)

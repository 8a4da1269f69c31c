"""A configuration in the forms in which it leaves the tool: for typing into another program, as a
preset, for a program, and for a terminal."""

import json

from swift_sample.core.settings.configuration import Configuration
from swift_sample.core.settings.presets import preset_text

FORMS = ("reading list", "preset", "JSON", "command line")


def reading_list(configuration: Configuration, base: Configuration | None = None) -> str:
    """Every setting that differs from the base, or from its default, in the order of the settings,
    by group."""
    lines: list[str] = []
    group = ""

    for key, declared in configuration.catalogue.items():
        value = configuration[key]
        was = base[key] if base is not None else declared.default
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


def told_as(form: str, configuration: Configuration, base: Configuration, command: str) -> str:
    """A configuration in one of FORMS; `command` is what renders it in a terminal
    (`Renderer.command_for`)."""
    if form == "preset":
        return preset_text(configuration)
    if form == "JSON":
        return json.dumps({"settings": dict(configuration.without_defaults())}, indent=2)
    if form == "command line":
        return command

    return reading_list(configuration, base)

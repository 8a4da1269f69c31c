"""What a shell may complete: keys of settings, their values, and measures that have limits."""

from pathlib import Path
from typing import TYPE_CHECKING

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from swift_sample.core.settings import Catalogue


def complete_keys(
    context: click.Context, parameter: click.Parameter, typed: str
) -> list[CompletionItem]:
    """Settings by their keys."""
    return [
        CompletionItem(key, help=one.label)
        for key, one in _catalogue(context).items()
        if key.startswith(typed)
    ]


def complete_values(
    context: click.Context, parameter: click.Parameter, typed: str
) -> list[CompletionItem]:
    """Values that are worth trying of the setting named before."""
    from swift_sample.core.settings import format_value

    declared = _catalogue(context).get(str(context.params.get("key", "")))
    if declared is None:
        return []

    values = dict.fromkeys(format_value(value) for value in (*declared.suggested, *declared.values))
    return [CompletionItem(value) for value in values if value.startswith(typed)]


def complete_changes(
    context: click.Context, parameter: click.Parameter, typed: str
) -> list[CompletionItem]:
    """Settings with their values, as KEY=VALUE."""
    from swift_sample.core.settings import format_value

    key, equals, value = typed.partition("=")
    catalogue = _catalogue(context)
    if not equals:
        return [
            CompletionItem(f"{known}=", help=one.label)
            for known, one in catalogue.items()
            if known.startswith(key)
        ]

    declared = catalogue.get(key)
    if declared is None:
        return []

    values = dict.fromkeys(format_value(one) for one in (*declared.suggested, *declared.values))
    return [CompletionItem(f"{key}={one}") for one in values if one.startswith(value)]


def complete_measures(
    context: click.Context, parameter: click.Parameter, typed: str
) -> list[CompletionItem]:
    """Measures that may have limits, with what they mean; off where a value follows."""
    from swift_sample.core.measure.kinds import MEANINGS
    from swift_sample.core.study.plan.model import LIMIT_KEYS

    if len(context.params.get("limits") or ()) % 2:
        return [CompletionItem("off")] if "off".startswith(typed) else []

    return [
        CompletionItem(key, help=MEANINGS.get(key, ""))
        for key in LIMIT_KEYS
        if key.startswith(typed)
    ]


def _catalogue(context: click.Context) -> "Catalogue":
    """The settings of the study that is named, else of the built-in renderer."""
    from swift_sample.core.errors import SwiftSampleError
    from swift_sample.core.renderers.registry import DEFAULT, renderer_named
    from swift_sample.core.study.log.store import look_at_study

    study = context.params.get("study")
    if study is not None:
        try:
            with look_at_study(Path(study), lambda words: None) as reading:
                return reading.state.plan.catalogue
        except SwiftSampleError:
            pass  # whoever completes a name is not told what is wrong with it

    return renderer_named(DEFAULT).catalogue

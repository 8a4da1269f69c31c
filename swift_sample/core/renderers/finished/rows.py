"""Finished renders as rows: a picture, the seconds that it took, and values of settings; and the
settings that they make."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from swift_sample.core.errors import UsageError
from swift_sample.core.settings import (
    Capabilities,
    Catalogue,
    Configuration,
    Opening,
    Setting,
    Value,
)

NAME = "finished"
"""Of the renderer that such studies have, which cannot be started."""
MOST_ROWS = 10_000
MOST_COLUMNS = 60
EMPTY = "(empty)"
_NUMBER = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")
_CLOCK = re.compile(r"^(?:(\d+):)?(\d{1,2}):(\d{1,2}(?:[.,]\d+)?)$")
_UNITS = {
    "": 1.0,
    "s": 1.0,
    "sec": 1.0,
    "secs": 1.0,
    "seconds": 1.0,
    "ms": 0.001,
    "min": 60.0,
    "m": 60.0,
    "h": 3600.0,
}
SWITCHES = {"yes": True, "no": False, "true": True, "false": False, "on": True, "off": False}


@dataclass(frozen=True, kw_only=True)
class Row:
    """One finished render. `repeat` tells renders with the same settings apart; memory in bytes,
    None where nobody told."""

    picture: Path
    seconds: float
    values: Mapping[str, str] = field(default_factory=dict)
    """by the names of their columns, as they were written"""
    memory_bytes: int | None = None
    seed: int | None = None
    repeat: int = 0


def number_of(text: str) -> float:
    """A number with a point or a comma. Raises ValueError."""
    plain = text.strip().replace(" ", "").replace("\u00a0", "")
    if not _NUMBER.match(plain):
        raise ValueError(f"{text.strip()[:40]!r} is no number")

    return float(plain.replace(",", "."))


def seconds_of(text: str) -> float:
    """A duration: "12.5", "12,5 s", "1:02:03", "2:03.5", "3 min". Raises ValueError."""
    plain = text.strip()
    clock = _CLOCK.match(plain)

    if clock:
        hours, minutes, seconds = (number_of(part) if part else 0.0 for part in clock.groups())
        return 3600 * hours + 60 * minutes + seconds

    split = re.match(r"^(.*?)\s*([a-zA-Z]*)$", plain)
    number, unit = split.groups() if split else (plain, "")
    if unit.lower() not in _UNITS:
        raise ValueError(f"{plain[:40]!r} is no time")

    found = number_of(number) * _UNITS[unit.lower()]
    if not 0 < found < 1e8:
        raise ValueError(f"{plain[:40]!r} is no time of a render")

    return found


def key_of(name: str) -> str:
    """A column's name as a setting's key."""
    return re.sub(r"[^a-z0-9.]+", "_", name.lower()).strip("_.") or "column"


def catalogue_of(rows: Sequence[Row]) -> Catalogue:
    """The settings that the columns of rows make: numbers, switches or choices, by what stands in
    them. Raises UsageError."""
    columns = list(dict.fromkeys(name for row in rows for name in row.values))
    if len(columns) > MOST_COLUMNS:
        raise UsageError(
            f"{len(columns)} columns are settings, at most {MOST_COLUMNS} can be; leave some out"
        )

    keys: dict[str, str] = {}
    for name in columns:
        key = key_of(name)
        if key in keys.values():
            raise UsageError(f"{name}: another column has the same name for a setting; rename one")
        keys[name] = key

    return Catalogue(
        NAME, [_setting(name, keys[name], rows) for name in columns], Capabilities(starts=False)
    )


def _setting(name: str, key: str, rows: Sequence[Row]) -> Setting:
    """A column as a setting. Its default is in the reference, which is one picture whatever the
    settings of others."""
    texts = list(dict.fromkeys(row.values.get(name, "").strip() for row in rows))
    more: dict[str, Any] = {}
    tried: tuple[Value, ...]

    if all(text.lower() in SWITCHES for text in texts):
        kind = "switch"
        tried = tuple(dict.fromkeys(SWITCHES[text.lower()] for text in texts))
    elif all(_NUMBER.match(text) for text in texts):
        numbers = sorted({number_of(text) for text in texts})
        whole = all(number == int(number) for number in numbers)
        kind = "whole" if whole else "number"
        tried = tuple(int(n) if whole else n for n in numbers)
        more = {"minimum": min(0.0, numbers[0]), "maximum": max(numbers[-1], 1.0)}
    else:
        kind = "choice"
        tried = tuple(dict.fromkeys(text or EMPTY for text in texts))
        more = {"values": tried}

    label = name.strip()[:60] or key
    default = tried[-1]
    return Setting(
        key=key,
        group="",
        label=label,
        help="",
        kind=kind,
        default=default,
        suggested=tried,
        short=label,
        reference=Opening(default, is_choice=False),
        **more,
    )


def configuration_of(row: Row, catalogue: Catalogue) -> Configuration:
    """The settings that a row was rendered with."""
    values: dict[str, Value] = {}
    for name, text in row.values.items():
        setting = catalogue[key_of(name)]
        if setting.kind == "switch":
            values[setting.key] = SWITCHES[text.strip().lower()]
        elif setting.kind in ("whole", "number"):
            number = number_of(text)
            values[setting.key] = int(number) if setting.kind == "whole" else number
        else:
            values[setting.key] = text.strip() or EMPTY

    return Configuration(catalogue, values)

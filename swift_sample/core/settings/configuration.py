"""A configuration: a value for every setting."""

import hashlib
import json
from collections.abc import Iterator, Mapping

from swift_sample.core.settings.catalogue import CATALOGUE, Setting, Value, setting


class Configuration(Mapping[str, Value]):
    """An immutable, hashable value for every setting; settings not named have their default.

    Raises SettingError for unknown keys and values that are not allowed.
    """

    def __init__(self, values: Mapping[str, object] | None = None) -> None:
        given = {key: setting(key).check(value) for key, value in (values or {}).items()}
        self._values: dict[str, Value] = {key: given.get(key, s.default) for key, s in CATALOGUE.items()}
        self._text = json.dumps(self._values, sort_keys=True)

    def __getitem__(self, key: str) -> Value:
        return self._values[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)

    def __hash__(self) -> int:
        return hash(self._text)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Configuration) and self._text == other._text

    def __repr__(self) -> str:
        return f"Configuration({self.without_defaults()})"

    @property
    def digest(self) -> str:
        """Twelve hexadecimal digits that name this configuration on disk."""
        return hashlib.sha256(self._text.encode()).hexdigest()[:12]

    def replace(self, changes: Mapping[str, object]) -> "Configuration":
        """This configuration with some values changed."""
        return Configuration({**self._values, **changes})

    def without_defaults(self) -> dict[str, Value]:
        """Only the values that differ from the catalogue's defaults."""
        return {key: value for key, value in self._values.items() if value != CATALOGUE[key].default}

    def differences(self, base: "Configuration") -> dict[str, Value]:
        """The values of this configuration that differ from `base`, in the catalogue's order."""
        return {key: value for key, value in self._values.items() if value != base[key]}

    def effective(self) -> "Configuration":
        """The same picture with settings that have no effect here put back to their default.

        Two configurations with equal effective ones render the same, so only one needs measuring.
        """
        idle = [key for key, s in CATALOGUE.items() if self.is_idle(s)]
        return Configuration({key: value for key, value in self._values.items() if key not in idle})

    def is_idle(self, declared: Setting) -> bool:
        """Whether a setting has no effect because of another one."""
        if declared.neutral_when is None:
            return False
        key, values = declared.neutral_when
        return self._values[key] in values

    def describe(self, base: "Configuration | None" = None, most: int = 5) -> str:
        """The telling values in words: "64 samples · 4 bounces · wavelet 0.6"."""
        parts = []
        if base is None or self["samples.max"] != base["samples.max"]:
            parts.append(_counted(self["samples.max"], "sample"))
        if base is None or self["bounces.total"] != base["bounces.total"]:
            parts.append(_counted(self["bounces.total"], "bounce"))
        smoothing = ("denoise.method", "denoise.strength")
        if base is None or any(self[key] != base[key] for key in smoothing):
            if self["denoise.method"] != "none":
                parts.append(f"{self['denoise.method']} {self['denoise.strength']:g}")
            elif base is not None and base["denoise.method"] != "none":
                parts.append("no denoising")
        told = {"samples.max", "bounces.total", "denoise.method", "denoise.strength"}
        for key in self.differences(base or Configuration()):
            if key not in told:
                declared = CATALOGUE[key]
                value = self._values[key]
                if declared.kind == "switch":
                    parts.append(declared.short if value else f"{declared.short}: no")
                else:
                    parts.append(f"{declared.short} {declared.show(value)}")
        if len(parts) > most:
            parts = [*parts[: most - 1], f"{len(parts) - most + 1} more"]
        return " · ".join(parts) if parts else "same as base"


def _counted(number: Value, noun: str) -> str:
    return f"{number} {noun}" if number == 1 else f"{number} {noun}s"

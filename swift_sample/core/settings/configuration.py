"""A configuration: a value for every setting."""

from collections.abc import Iterator, Mapping
from functools import cached_property

from swift_sample.core.settings.catalogue import CATALOGUE, Setting, Value, setting


class Configuration(Mapping[str, Value]):
    """An immutable, hashable value for every setting; settings not named have their default.

    Raises SettingError for unknown keys and values that are not allowed.
    """

    def __init__(self, values: Mapping[str, object] | None = None) -> None:
        given = {key: setting(key).check(value) for key, value in (values or {}).items()}
        self._take({key: given.get(key, s.default) for key, s in CATALOGUE.items()})

    def _take(self, values: dict[str, Value]) -> None:
        self._values = values
        self._row = tuple(values.values())
        self._hash = hash(self._row)

    @classmethod
    def _of(cls, values: dict[str, Value]) -> "Configuration":
        """From values that were checked already."""
        made = cls.__new__(cls)
        made._take(values)
        return made

    def __getitem__(self, key: str) -> Value:
        return self._values[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Configuration) and self._hash == other._hash and self._row == other._row

    def __repr__(self) -> str:
        return f"Configuration({self.without_defaults()})"

    def replace(self, changes: Mapping[str, object]) -> "Configuration":
        """This configuration with some values changed."""
        return Configuration._of({**self._values, **{key: setting(key).check(value) for key, value in changes.items()}})

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
        return self._effective

    @cached_property
    def _effective(self) -> "Configuration":
        idle = {key: s.default for key, s in CATALOGUE.items() if s.neutral_when is not None and self.is_idle(s)}
        return Configuration._of({**self._values, **idle}) if idle else self

    def is_idle(self, declared: Setting) -> bool:
        """Whether a setting has no effect because of another one."""
        if declared.neutral_when is None:
            return False
        key, values = declared.neutral_when
        return self._values[key] in values

    def identity_values(self) -> dict[str, Value]:
        """What names this configuration for good: values that have an effect and are not those that identities leave out.
        Sorted by key, so that the catalogue's order does not matter. A setting added later changes none of them."""
        effective = self.effective()
        named = {
            key: effective[key]
            for key, s in CATALOGUE.items()
            if not self.is_idle(s) and effective[key] != s.left_out_of_identities
        }
        return dict(sorted(named.items()))

    @staticmethod
    def from_identity_values(values: Mapping[str, object]) -> "Configuration":
        """The configuration that `identity_values` named. Raises SettingError for keys and values that are no more."""
        left_out = {key: s.left_out_of_identities for key, s in CATALOGUE.items() if s.left_out_of_identities is not None}
        return Configuration({**left_out, **values})

    def pixel_values(self) -> dict[str, Value]:
        """Those of `identity_values` that can change pixels; values that render the same pixels are written alike."""
        found: dict[str, Value] = {}
        for key, value in self.identity_values().items():
            declared = CATALOGUE[key]
            if not (declared.changes_pixels or any(self._is_on(other) for other in declared.pixels_with)):
                continue
            if value in declared.same_pixels:
                value = declared.same_pixels[0]
                if value == declared.left_out_of_identities:
                    continue
            found[key] = value
        return found

    def needs_view(self) -> bool:
        """Whether pixels depend on the view through which the picture is judged or delivered."""
        return any(
            s.view_matters_except is not None and self._values[key] not in s.view_matters_except and not self.is_idle(s)
            for key, s in CATALOGUE.items()
        )

    def _is_on(self, key: str) -> bool:
        return not self.is_idle(CATALOGUE[key]) and bool(self._values[key])

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
                    parts.append(f"{declared.short} {declared.show(value)}".strip())
        if len(parts) > most:
            parts = [*parts[: most - 1], f"{len(parts) - most + 1} more"]
        return " · ".join(parts) if parts else "same as base"


def _counted(number: Value, noun: str) -> str:
    return f"{number} {noun}" if number == 1 else f"{number} {noun}s"

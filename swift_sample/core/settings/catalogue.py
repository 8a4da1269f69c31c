"""A catalogue: every setting of one renderer, declared once. Ledger, command line, store and help read these declarations."""

from collections.abc import Iterator, Mapping, Sequence
from difflib import get_close_matches
from functools import cached_property
from typing import Any

from pydantic import TypeAdapter, ValidationError

from swift_sample.core.errors import CatalogueError, SettingError
from swift_sample.core.settings.capabilities import Capabilities
from swift_sample.core.settings.setting import ROLES, SAMPLES, SINGLE_ROLES, Setting, Value

KINDS = ("choice", "whole", "number", "switch", "text")


class Catalogue(Mapping[str, Setting]):
    """The settings of a renderer by key, in the order in which they are shown, with what the renderer can do and tell.

    `name` is the renderer's; identities of trials and appearances hold it. Raises CatalogueError where a setting is doubled,
    contradicts itself, or refers to one that is not there.
    """

    def __init__(self, name: str, settings: Sequence[Setting], capabilities: Capabilities | None = None) -> None:
        self.name = name
        self.capabilities = capabilities or Capabilities()
        self._settings: dict[str, Setting] = {}
        for one in settings:
            if one.key in self._settings:
                raise CatalogueError(f"{name}: {one.key} is declared twice")
            self._settings[one.key] = one
        for one in settings:
            _check(name, one, self._settings)
        for role in SINGLE_ROLES:
            keys = [one.key for one in settings if one.role == role]
            if len(keys) > 1:
                raise CatalogueError(f"{name}: {' and '.join(keys)} both have the role {role}; give it to one")
        if self.capabilities.extends_reference and self.with_role(SAMPLES) is None:
            raise CatalogueError(f"{name}: a reference can be extended, but no setting has the role {SAMPLES}")

    def __getitem__(self, key: str) -> Setting:
        return self._settings[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self._settings)

    def __len__(self) -> int:
        return len(self._settings)

    def __repr__(self) -> str:
        return f"Catalogue({self.name}, {len(self)} settings)"

    def setting(self, key: str) -> Setting:
        """The setting with this key. Raises SettingError that names the closest one."""
        known = self._settings.get(key)
        if known is None:
            near = get_close_matches(key, self._settings, n=1, cutoff=0.5)
            hint = f"; did you mean {near[0]}?" if near else "; `swift-sample settings` lists them"
            raise SettingError(f"unknown setting {key}{hint}")
        return known

    @cached_property
    def groups(self) -> tuple[str, ...]:
        """Under which headings settings are shown."""
        return tuple(dict.fromkeys(one.group for one in self.values()))

    def with_role(self, role: str) -> Setting | None:
        """The setting with one of SINGLE_ROLES; None where there is none."""
        return next((one for one in self.values() if one.role == role), None)

    def all_with_role(self, role: str) -> tuple[Setting, ...]:
        return tuple(one for one in self.values() if one.role == role)

    @cached_property
    def openings(self) -> tuple[Setting, ...]:
        """Settings that references open unless the study keeps the base's value."""
        return tuple(one for one in self.values() if one.reference is not None and one.reference.is_choice)

    def as_data(self) -> dict[str, Any]:
        """The whole catalogue as plain data, for a study that outlives its renderer."""
        return {
            "name": self.name,
            "capabilities": _CAPABILITIES.dump_python(self.capabilities, mode="json"),
            "settings": [_SETTING.dump_python(one, mode="json", exclude_defaults=True) for one in self.values()],
        }

    @staticmethod
    def from_data(data: Mapping[str, Any]) -> "Catalogue":
        """Raises CatalogueError where it is not one."""
        try:
            settings = [_SETTING.validate_python(_listed(one)) for one in data["settings"]]
            return Catalogue(str(data["name"]), settings, _CAPABILITIES.validate_python(data["capabilities"]))
        except (ValidationError, KeyError, TypeError, AttributeError) as error:
            raise CatalogueError(f"not a catalogue of settings ({' '.join(str(error).split())[:200]})") from error


_SETTING = TypeAdapter(Setting)
_CAPABILITIES = TypeAdapter(Capabilities)


def _listed(data: Mapping[str, Any]) -> dict[str, Any]:
    return {key: tuple(value) if isinstance(value, list) else value for key, value in data.items()}


def _check(name: str, one: Setting, settings: Mapping[str, Setting]) -> None:
    """Raise CatalogueError where a declaration contradicts itself or refers to what is not there."""

    def refuse(words: str) -> None:
        raise CatalogueError(f"{name}: {one.key}: {words}")

    if one.kind not in KINDS:
        refuse(f"kind={one.kind}: expected one of {', '.join(KINDS)}")
    if one.role not in ROLES:
        refuse(f"role={one.role}: expected one of {', '.join(ROLES[1:])}")
    if one.kind in ("whole", "number") and (one.minimum is None or one.maximum is None or one.minimum > one.maximum):
        refuse("a number needs a minimum and a maximum that is not below it")
    if one.kind == "choice" and not one.values:
        refuse("a choice needs values")
    values: dict[str, tuple[Value, ...]] = {
        "default": (one.default,),
        "suggested": one.suggested,
        "same_pixels": one.same_pixels,
        "off_values": one.off_values,
        "simulated_values": one.simulated_values,
        "view_matters_except": one.view_matters_except or (),
        "unnamed_value": () if one.unnamed_value is None else (one.unnamed_value,),
        "reference": () if one.reference is None else (one.reference.value, *one.reference.instead_of),
    }
    for field, some in values.items():
        for value in some:
            try:
                one.check(value)
            except SettingError as error:
                refuse(f"{field}: {error}")
    if one.neutral_when is not None:
        other = settings.get(one.neutral_when[0])
        if other is None:
            refuse(f"neutral_when={one.neutral_when[0]}: there is no such setting")
        else:
            for value in one.neutral_when[1]:
                try:
                    other.check(value)
                except SettingError as error:
                    refuse(f"neutral_when: {error}")
    for field, keys in (("pixels_with", one.pixels_with), ("told_with", (one.told_with,) if one.told_with else ())):
        for key in keys:
            if key not in settings:
                refuse(f"{field}={key}: there is no such setting")

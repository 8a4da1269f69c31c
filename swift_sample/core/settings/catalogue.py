"""A catalogue: every setting of one renderer, declared once. Ledger, command line, store and help
read these declarations."""

from collections.abc import Iterator, Mapping, Sequence
from difflib import get_close_matches
from functools import cached_property, lru_cache
from typing import Any

from pydantic import TypeAdapter, ValidationError

from swift_sample.core.errors import CatalogueError, SettingError
from swift_sample.core.settings.capabilities import Capabilities
from swift_sample.core.settings.setting import ROLES, SAMPLES, SINGLE_ROLES, Setting, Value

KINDS = ("choice", "whole", "number", "switch", "text")


class Catalogue(Mapping[str, Setting]):
    """The settings of a renderer by key, in the order in which they are shown, with what the
    renderer can do and tell.

    `name` is the renderer's; identities of trials and appearances hold it. Raises CatalogueError
    where a setting is doubled, contradicts itself, or refers to one that is not there.
    """

    def __init__(
        self, name: str, settings: Sequence[Setting], capabilities: Capabilities | None = None
    ) -> None:
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
            keys = [setting.key for setting in settings if setting.role == role]
            if len(keys) > 1:
                raise CatalogueError(
                    f"{name}: {' and '.join(keys)} both have the role {role}; give it to one"
                )

        if self.capabilities.extends_reference and self.with_role(SAMPLES) is None:
            raise CatalogueError(
                f"{name}: a reference can be extended, but no setting has the role {SAMPLES}"
            )

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
            group = [known for known in self._settings if known.startswith(f"{key}.")]
            near = group or get_close_matches(key, self._settings, n=1, cutoff=0.5)
            hint = (
                f"; did you mean {' or '.join(near)}?"
                if near
                else "; `swift-sample settings` lists them"
            )
            raise SettingError(f"unknown setting {key}{hint}")

        return known

    @cached_property
    def groups(self) -> tuple[str, ...]:
        """Under which headings settings are shown."""
        return tuple(dict.fromkeys(setting.group for setting in self.values()))

    @cached_property
    def of_parts(self) -> tuple[Setting, ...]:
        """Settings at which a part of the scene costs less: its features, and the renderer's own
        for such parts."""
        parts = {setting.part.kind for setting in self.of_scene if setting.part is not None}
        return tuple(
            s for s in self.values() if s.part is not None and s.cheaper and s.part.kind in parts
        )

    @cached_property
    def of_scene(self) -> tuple[Setting, ...]:
        """Settings that are about something of one scene."""
        return tuple(setting for setting in self.values() if setting.of_scene)

    def with_scene(self, settings: Sequence[Setting]) -> "Catalogue":
        """The renderer's own settings, and these of a scene; the same object for the same
        settings."""
        own = [setting for setting in self.values() if not setting.of_scene]
        if tuple(settings) == self.of_scene:
            return self

        return _extended(self.name, (*own, *settings), self.capabilities)

    def with_role(self, role: str) -> Setting | None:
        """The setting with one of SINGLE_ROLES; None where there is none."""
        return next(iter(self._by_role.get(role, ())), None)

    def all_with_role(self, role: str) -> tuple[Setting, ...]:
        return self._by_role.get(role, ())

    @cached_property
    def _by_role(self) -> dict[str, tuple[Setting, ...]]:
        """Asked for each of thousands of configurations that a search looks at."""
        by_role: dict[str, tuple[Setting, ...]] = {}
        for setting in self.values():
            by_role[setting.role] = (*by_role.get(setting.role, ()), setting)

        return by_role

    @cached_property
    def conditional(self) -> tuple[Setting, ...]:
        """Settings that have no effect at some values of another one. Asked for as often as the
        above."""
        return tuple(setting for setting in self.values() if setting.neutral_when is not None)

    @cached_property
    def openings(self) -> tuple[Setting, ...]:
        """Settings that references open unless the study keeps the base's value."""
        return tuple(
            setting
            for setting in self.values()
            if setting.reference is not None and setting.reference.is_choice
        )

    def as_data(self) -> dict[str, Any]:
        """The whole catalogue as plain data, for a study that outlives its renderer."""
        return {
            "name": self.name,
            "capabilities": _CAPABILITIES.dump_python(self.capabilities, mode="json"),
            "settings": [
                _SETTING.dump_python(setting, mode="json", exclude_defaults=True)
                for setting in self.values()
            ],
        }

    @staticmethod
    def from_data(data: Mapping[str, Any]) -> "Catalogue":
        """Raises CatalogueError where it is not one."""
        try:
            settings = [_SETTING.validate_python(_listed(setting)) for setting in data["settings"]]
            return Catalogue(
                str(data["name"]), settings, _CAPABILITIES.validate_python(data["capabilities"])
            )
        except (ValidationError, KeyError, TypeError, AttributeError) as error:
            raise CatalogueError(
                f"not a catalogue of settings ({' '.join(str(error).split())[:200]})"
            ) from error


@lru_cache(32)
def _extended(name: str, settings: tuple[Setting, ...], capabilities: Capabilities) -> Catalogue:
    return Catalogue(name, settings, capabilities)


_SETTING = TypeAdapter(Setting)
_CAPABILITIES = TypeAdapter(Capabilities)


def _listed(data: Mapping[str, Any]) -> dict[str, Any]:
    listed = {
        key: tuple(value) if isinstance(value, list) else value for key, value in data.items()
    }
    if (
        listed.get("of_scene") and "part" not in listed
    ):  # as it was written before parts of scenes had kinds
        listed["part"] = {"kind": "material", "name": str(data.get("label", "")).partition(": ")[0]}
        listed["cheaper"] = listed.get("values", ())[1:]

    return listed


def _check(name: str, setting: Setting, settings: Mapping[str, Setting]) -> None:
    """Raise CatalogueError where a declaration contradicts itself or refers to what is not
    there."""

    def refuse(words: str) -> None:
        raise CatalogueError(f"{name}: {setting.key}: {words}")

    if setting.kind not in KINDS:
        refuse(f"kind={setting.kind}: expected one of {', '.join(KINDS)}")
    if setting.role not in ROLES:
        refuse(f"role={setting.role}: expected one of {', '.join(ROLES[1:])}")

    if setting.kind in ("whole", "number") and (
        setting.minimum is None or setting.maximum is None or setting.minimum > setting.maximum
    ):
        refuse("a number needs a minimum and a maximum that is not below it")

    if setting.kind == "choice" and not setting.values:
        refuse("a choice needs values")

    values: dict[str, tuple[Value, ...]] = {
        "default": (setting.default,),
        "suggested": setting.suggested,
        "same_pixels": setting.same_pixels,
        "off_values": setting.off_values,
        "simulated_values": setting.simulated_values,
        "view_matters_except": setting.view_matters_except or (),
        "cheaper": setting.cheaper,
        "rendered_at": setting.rendered_at,
        "unnamed_value": () if setting.unnamed_value is None else (setting.unnamed_value,),
        "reference": ()
        if setting.reference is None
        else (setting.reference.value, *setting.reference.instead_of),
    }
    for field, some in values.items():
        for value in some:
            try:
                setting.check(value)
            except SettingError as error:
                refuse(f"{field}: {error}")

    if setting.neutral_when is not None:
        other = settings.get(setting.neutral_when[0])
        if other is None:
            refuse(f"neutral_when={setting.neutral_when[0]}: there is no such setting")
        else:
            for value in setting.neutral_when[1]:
                try:
                    other.check(value)
                except SettingError as error:
                    refuse(f"neutral_when: {error}")

    for field, keys in (
        ("pixels_with", setting.pixels_with),
        ("told_with", (setting.told_with,) if setting.told_with else ()),
    ):
        for key in keys:
            if key not in settings:
                refuse(f"{field}={key}: there is no such setting")

"""A configuration: a value for every setting of a catalogue."""

from collections.abc import Iterator, Mapping
from functools import cached_property

from swift_sample.core.settings.catalogue import Catalogue
from swift_sample.core.settings.setting import DENOISING, DENOISING_PASSES, Setting, Value


class Configuration(Mapping[str, Value]):
    """An immutable, hashable value for every setting; settings not named have their default. Two
    are equal that set the same, also where the catalogue of one has settings of a scene that the
    other leaves as they are.

    Raises SettingError for unknown keys and values that are not allowed.
    """

    def __init__(self, catalogue: Catalogue, values: Mapping[str, object] | None = None) -> None:
        given = {key: catalogue.setting(key).check(value) for key, value in (values or {}).items()}
        self._take(catalogue, {key: given.get(key, s.default) for key, s in catalogue.items()})

    def _take(self, catalogue: Catalogue, values: dict[str, Value]) -> None:
        self.catalogue = catalogue
        self._values = values
        row = tuple(values.values())
        self._changed_of_scene: frozenset[tuple[str, Value]] = frozenset()

        if catalogue.of_scene:
            # They come last, and a study's catalogue may get more of them: what they leave as it is
            # sets nothing.
            row = row[: len(row) - len(catalogue.of_scene)]
            changed = (
                (one.key, values[one.key])
                for one in catalogue.of_scene
                if values[one.key] != one.default
            )
            self._changed_of_scene = frozenset(changed)

        self._row = row
        self._hash = hash((row, self._changed_of_scene))

    def _with(self, values: dict[str, Value]) -> "Configuration":
        """Of the same catalogue, from values that were checked already."""
        made = Configuration.__new__(Configuration)
        made._take(self.catalogue, values)
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
        return (
            isinstance(other, Configuration)
            and self._hash == other._hash
            and self._row == other._row
            and self._changed_of_scene == other._changed_of_scene
            and self.catalogue.name == other.catalogue.name
        )

    def __repr__(self) -> str:
        return f"Configuration({self.catalogue.name}, {self.without_defaults()})"

    def replace(self, changes: Mapping[str, object]) -> "Configuration":
        """This configuration with some values changed."""
        checked = {key: self.catalogue.setting(key).check(value) for key, value in changes.items()}
        return self._with({**self._values, **checked})

    def on(self, catalogue: Catalogue) -> "Configuration":
        """The same values for a catalogue that has more or fewer settings of a scene; those that it
        has not are left out."""
        return Configuration(
            catalogue, {key: value for key, value in self._values.items() if key in catalogue}
        )

    def of_renderer(self) -> dict[str, Value]:
        """The values of the renderer's own settings."""
        return {
            key: value for key, value in self._values.items() if not self.catalogue[key].of_scene
        }

    def of_scene(self) -> dict[str, str]:
        """What is changed of the scene: the values of its settings that are not as it is."""
        return {
            s.key: str(self._values[s.key])
            for s in self.catalogue.of_scene
            if self._values[s.key] != s.default
        }

    def without_defaults(self) -> dict[str, Value]:
        """Only the values that differ from the catalogue's defaults."""
        return {
            key: value
            for key, value in self._values.items()
            if value != self.catalogue[key].default
        }

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
        own = self._values
        idle = {
            s.key: s.default
            for s in self.catalogue.conditional
            if own[s.key] != s.default and self.is_idle(s)
        }
        return self._with({**self._values, **idle}) if idle else self

    def is_idle(self, declared: Setting) -> bool:
        """Whether a setting has no effect because of another one."""
        if declared.neutral_when is None:
            return False

        key, values = declared.neutral_when
        return self._values[key] in values

    @property
    def is_simulated(self) -> bool:
        """Whether its times are those of a stand-in for a device."""
        return any(
            self._values[key] in s.simulated_values
            for key, s in self.catalogue.items()
            if s.simulated_values
        )

    def number_in_role(self, role: str) -> float | None:
        """The value of the setting with a role; None where the renderer has no such setting."""
        declared = self.catalogue.with_role(role)
        return None if declared is None else float(self._values[declared.key])

    def is_on(self, role: str) -> bool:
        """Whether the setting with a role is there and not off."""
        declared = self.catalogue.with_role(role)
        return declared is not None and bool(self._values[declared.key])

    def denoising(self) -> tuple[Value, ...] | None:
        """What distinguishes the denoising of this configuration from another, by its DENOISING
        settings in order; None where it leaves pictures as they are."""
        settings = self.catalogue.all_with_role(DENOISING)
        if not settings or any(self._values[s.key] in s.off_values for s in settings):
            return None

        return tuple(self._values[s.key] for s in settings)

    def with_denoising(self, values: Mapping[str, object]) -> "Configuration":
        """This configuration denoised as these values of DENOISING settings say, in the way that
        can be tried on stored pictures."""
        passes = {s.key: s.default for s in self.catalogue.all_with_role(DENOISING_PASSES)}
        return self.replace({**values, **passes})

    def identity_values(self) -> dict[str, Value]:
        """What names this configuration for good: values that have an effect and are not those that
        identities leave out. Sorted by key, so that the catalogue's order does not matter. A
        setting added later changes none of them."""
        effective = self.effective()
        named = {
            key: effective[key]
            for key, s in self.catalogue.items()
            if not self.is_idle(s) and effective[key] != s.left_out_of_identities
        }

        return dict(sorted(named.items()))

    @staticmethod
    def from_identity_values(catalogue: Catalogue, values: Mapping[str, object]) -> "Configuration":
        """The configuration that `identity_values` named. Raises SettingError for keys and values
        that are no more."""
        left_out = {
            key: s.left_out_of_identities
            for key, s in catalogue.items()
            if s.left_out_of_identities is not None
        }
        return Configuration(catalogue, {**left_out, **values})

    def pixel_values(self) -> dict[str, Value]:
        """Those of `identity_values` that can change pixels; values that render the same pixels are
        written alike."""
        named: dict[str, Value] = {}
        for key, value in self.identity_values().items():
            declared = self.catalogue[key]
            if not (
                declared.changes_pixels
                or any(self._is_effective(other) for other in declared.pixels_with)
            ):
                continue

            if value in declared.same_pixels:
                value = declared.same_pixels[0]
                if value == declared.left_out_of_identities:
                    continue

            named[key] = value

        return named

    def stem(self) -> dict[str, Value]:
        """Those of `pixel_values` that a recording does not hold apart: two configurations with
        the same stem may come out of one recording."""
        stem = {}
        for key, value in self.pixel_values().items():
            declared = self.catalogue[key]
            has_its_own = declared.changes_pixels and declared.derived is None
            if has_its_own or value in declared.rendered_at:
                stem[key] = value

        return stem

    def needs_view(self) -> bool:
        """Whether pixels depend on the view through which the picture is judged or delivered."""
        return any(
            s.view_matters_except is not None
            and self._values[key] not in s.view_matters_except
            and not self.is_idle(s)
            for key, s in self.catalogue.items()
        )

    def _is_effective(self, key: str) -> bool:
        return not self.is_idle(self.catalogue[key]) and bool(self._values[key])

    def describe(self, base: "Configuration | None" = None, most: int = 5) -> str:
        """The telling values in words: "64 samples · 4 bounces · wavelet 0.6"."""
        changed = self.differences(base or Configuration(self.catalogue))
        if base is None:
            whole = (
                not self.catalogue.capabilities.starts
            )  # of renders that are finished no value is usual
            changed |= {
                key: self._values[key] for key, s in self.catalogue.items() if s.noun or whole
            }

        leaders = {self.catalogue[key].told_with or key for key in changed}
        leading = [s for key, s in self.catalogue.items() if key in leaders]
        leading.sort(key=lambda s: 0 if s.noun else 1 if s.off_values else 2)
        parts = [words for s in leading if (words := self._told(s, base))]

        if len(parts) > most:
            parts = [*parts[: most - 1], f"{len(parts) - most + 1} more"]

        return " · ".join(parts) if parts else "same as base"

    def _told(self, declared: Setting, base: "Configuration | None") -> str:
        """A setting's value in words, with the values that are told with it; "" where there is
        nothing to tell."""
        value = self._values[declared.key]
        if value in declared.off_values:
            return declared.off_words if base is not None and base[declared.key] != value else ""
        if declared.noun:
            return f"{value} {declared.noun}" if value == 1 else f"{value} {declared.noun}s"
        if declared.kind == "switch":
            return declared.short if value else f"{declared.short}: no"

        own = f"{declared.short} {declared.show(value)}".strip()
        followers = [
            s
            for s in self.catalogue.values()
            if s.told_with == declared.key and not self.is_idle(s)
        ]
        return " ".join([own, *(s.show(self._values[s.key]) for s in followers)])

"""The study's plan: what is rendered, what is varied, and what is acceptable. Kept in
study.toml."""

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from itertools import product
from typing import Any

from swift_sample.core.errors import UsageError
from swift_sample.core.picture.view import View
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging
from swift_sample.core.settings import Catalogue, Configuration, Setting, Value
from swift_sample.core.settings.setting import SAMPLES

FIRST_PICTURE = "first-picture"
GOALS = ("final", FIRST_PICTURE)
"""`final` compares total times, `first-picture` the time until anything is visible."""

MAX_TRIALS = 5000
LONGEST_NAME = 60
LONGEST_NOTE = 2000


@dataclass(frozen=True, kw_only=True)
class Limits:
    """The most error, and optionally time, memory and file size, that is acceptable. None means no
    limit."""

    grain: float | None = 2.0
    light_shift: float | None = 1.0
    detail_kept: float | None = 95.0
    stray_pixels: float | None = 20.0
    grain_worst: float | None = 4.0
    light_shift_worst: float | None = 2.0
    detail_kept_worst: float | None = 85.0
    rms: float | None = None
    perceptual: float | None = None
    seconds: float | None = None
    first_picture: float | None = None
    memory: float | None = None
    file: float | None = None

    def __post_init__(self) -> None:
        for key, value in self.items():
            share = key in SHARES_KEPT
            if not (math.isfinite(value) and value > 0) or (share and value >= 100):
                expected = "a percentage below 100" if share else "a number above 0"
                raise UsageError(f"limits.{key}={value:g}: expected {expected}")

    def items(self) -> list[tuple[str, float]]:
        """All limits that are set, by measure."""
        limits = {key: getattr(self, key) for key in LIMIT_KEYS}
        return [(key, value) for key, value in limits.items() if value is not None]

    def scaled(self, line: float) -> "Limits":
        """Limits that accept what these do with the acceptance line at `line`."""
        moved = {
            key: max(0.1, 100 - (100 - value) * line) if key in SHARES_KEPT else value * line
            for key, value in self.items()
        }
        return Limits(**{**dict.fromkeys(LIMIT_KEYS), **moved})

    @staticmethod
    def read(values: Mapping[str, Any], where: str) -> "Limits":
        """Limits as they stand in a file; those not named are not set. Raises UsageError."""
        for key, value in values.items():
            if (
                key not in LIMIT_KEYS
                or isinstance(value, bool)
                or not isinstance(value, int | float)
            ):
                raise UsageError(
                    f"{where}.{key}={value}: expected one of {', '.join(LIMIT_KEYS)} with a number"
                )

        return Limits(
            **{**dict.fromkeys(LIMIT_KEYS), **{key: float(value) for key, value in values.items()}}
        )


SHARES_KEPT = ("detail_kept", "detail_kept_worst")
"""Limited from below, in percent."""
LIMIT_KEYS = tuple(Limits.__dataclass_fields__)
IMAGE_LIMITS = LIMIT_KEYS[: LIMIT_KEYS.index("seconds")]
"""Errors of the picture; the others are costs."""
AREA_LIMITS = tuple(key for key in IMAGE_LIMITS if not key.endswith("_worst"))
"""Those that a watch area takes over from the whole picture where it has none of its own."""


@dataclass(frozen=True)
class WatchArea:
    """A named rectangle in pixels of the study's size, origin top left; `limits` are its own, else
    those of the picture."""

    name: str
    x: int
    y: int
    width: int
    height: int
    limits: Limits | None = None

    def check(self, size: tuple[int, int]) -> None:
        """Raise UsageError unless it has a usable name and lies inside the picture."""
        if not (
            self.name.strip()
            and len(self.name) <= 60
            and AREA_MARK not in self.name
            and self.name.isprintable()
        ):
            raise UsageError(
                f"area={self.name[:60]}: expected a name of 1 to 60 letters without {AREA_MARK}"
            )

        inside = (
            self.x >= 0
            and self.y >= 0
            and self.x + self.width <= size[0]
            and self.y + self.height <= size[1]
        )
        if min(self.width, self.height) < 1 or not inside:
            raise UsageError(
                f"area {self.name}: {self.x},{self.y},{self.width},{self.height} does not lie "
                f"inside the picture of {size[0]}x{size[1]}"
            )


AREA_MARK = "@"
"""Between a measure and the name of its watch area."""


@dataclass(frozen=True)
class Remark:
    """What a person says of a trial: a name, a note, and why it is left out ("" for not)."""

    name: str = ""
    note: str = ""
    left_out: str = ""

    def __post_init__(self) -> None:
        for what, text, longest in (
            ("name", self.name, LONGEST_NAME),
            ("note", self.note, LONGEST_NOTE),
            ("left_out", self.left_out, LONGEST_NOTE),
        ):
            if (
                not isinstance(text, str)
                or len(text) > longest
                or not text.replace("\n", "").isprintable()
            ):
                raise UsageError(
                    f"trial.{what}={str(text)[:40]}: expected at most {longest} letters"
                )


NO_REMARK = Remark()


@dataclass(frozen=True)
class Sweep:
    """Configurations to measure. `values` maps settings to values to try.

    kind "one at a time" changes a single setting against the base; "grid" tries every combination.
    """

    kind: str
    values: Mapping[str, tuple[Value, ...]]

    def __post_init__(self) -> None:
        if self.kind not in ("one at a time", "grid"):
            raise UsageError(f"sweep kind={self.kind}: expected one at a time, or grid")

    def configurations(self, base: Configuration) -> list[Configuration]:
        """The configurations, without the base itself. Raises UsageError if there are more than
        MAX_TRIALS."""
        if self.kind == "one at a time":
            if sum(map(len, self.values.values())) > MAX_TRIALS:
                raise UsageError(f"a sweep has more than {MAX_TRIALS} values; try fewer values")
            changes = [{key: value} for key, values in self.values.items() for value in values]
        else:
            if math.prod(len(values) for values in self.values.values()) > MAX_TRIALS:
                raise UsageError(f"the grid has more than {MAX_TRIALS} trials; try fewer values")
            changes = [
                dict(zip(self.values, chosen, strict=True))
                for chosen in product(*self.values.values())
            ]

        return [found for change in changes if (found := base.replace(change)) != base]


MOST_RENDERS = 1_000_000
MOST_FRAMES = 100_000
MOST_SAMPLED_FRAMES = 60


@dataclass(frozen=True)
class FramePlan:
    """A sequence from `first` to `last`, of which `count` frames are measured, the ends among
    them."""

    first: int
    last: int
    count: int

    def __post_init__(self) -> None:
        if not 0 <= self.first < self.last <= MOST_FRAMES:
            raise UsageError(
                f"frames={self.first} to {self.last}: expected two different frames from 0 to "
                f"{MOST_FRAMES}"
            )
        if not 2 <= self.count <= MOST_SAMPLED_FRAMES:
            raise UsageError(f"frames.count={self.count}: expected 2 to {MOST_SAMPLED_FRAMES}")

    def frames(self) -> list[int]:
        """The frames that are measured, as evenly spread as whole numbers allow."""
        steps = min(self.count, self.last - self.first + 1) - 1
        return [
            self.first + (2 * k * (self.last - self.first) + steps) // (2 * steps)
            for k in range(steps + 1)
        ]


@dataclass(frozen=True, kw_only=True)
class Study:
    """A study's plan. Immutable: an edit makes a new one."""

    name: str
    scene: str
    size: tuple[int, int] = (640, 360)
    view: View = field(default_factory=View)
    base: Configuration = field(kw_only=True)
    sweeps: tuple[Sweep, ...] = ()
    limits: Limits = field(default_factory=Limits)
    first_picture_limits: Limits | None = None
    """those that count where the goal is the first picture; None for the same"""
    repeats: int = 3
    renders_per_opening: int = 1
    """how often the scene is rendered each time it is opened: what reading and building cost once
    is shared among them"""
    goal: str = "final"
    staging: Staging = AS_IN_THE_FILE
    """light and camera in place of the scene's own"""
    frame: int = 0
    areas: tuple[WatchArea, ...] = ()
    forbidden: Mapping[str, tuple[Value, ...]] = field(default_factory=dict)
    """values that another place to render does not have; such trials are measured, but never the
    pick"""
    no_worse_than_base: bool = False
    """the base's own errors are the limits of the picture, instead of those set"""
    reference_keeps: tuple[str, ...] = ()
    """settings that the reference takes from the base although it would open them: a look, not an
    error"""
    frames: FramePlan | None = None
    """the sequence that the study's scene is rendered for; None for a single picture"""
    bases: Mapping[str, Configuration] = field(default_factory=dict)
    """configurations kept by name, each of which can be the base"""
    renderer_file: str = ""
    """the file that describes the renderer, where that is a program of its own"""
    remarks: Mapping[str, Remark] = field(default_factory=dict)
    """what was said of trials, by their identities"""

    def __eq__(self, other: object) -> bool:
        """Also of the same settings: configurations are equal by what they set, whatever else there
        is to be set."""
        if not isinstance(other, Study):
            return NotImplemented

        same = all(getattr(self, one.name) == getattr(other, one.name) for one in fields(self))
        return same and self.catalogue == other.catalogue

    def __post_init__(self) -> None:
        for area in self.areas:
            area.check(self.size)

        for name in self.bases:
            if not (name.strip() and len(name) <= LONGEST_NAME and name.isprintable()):
                raise UsageError(
                    f"base {name[:LONGEST_NAME]}: expected a name of 1 to {LONGEST_NAME} letters"
                )

        if len({area.name for area in self.areas}) < len(self.areas):
            raise UsageError("areas: two have one name; give each its own")

        openings = [declared.key for declared in self.catalogue.openings]
        for key in self.reference_keeps:
            if key not in openings:
                raise UsageError(
                    f"reference.keep={key}: expected one of {', '.join(openings) or 'nothing'}"
                )

        if not (self.name.strip() and len(self.name) <= 200):
            raise UsageError("name: expected 1 to 200 characters")
        if not all(1 <= side <= 16384 for side in self.size):
            raise UsageError(
                f"size={self.size[0]}x{self.size[1]}: expected sides from 1 to 16384 pixels"
            )
        if not 1 <= self.repeats <= 100:
            raise UsageError(f"repeats={self.repeats}: expected 1 to 100")
        if not 1 <= self.renders_per_opening <= MOST_RENDERS:
            raise UsageError(
                f"renders_per_opening={self.renders_per_opening}: expected 1 to {MOST_RENDERS}"
            )
        if self.goal not in GOALS:
            raise UsageError(f"goal={self.goal}: expected one of {', '.join(GOALS)}")
        if self.goal == FIRST_PICTURE and not self.catalogue.capabilities.first_picture:
            raise UsageError(
                f"goal={self.goal}: {self.catalogue.capabilities.why_not('first_picture')}"
            )

    @property
    def goal_limits(self) -> Limits:
        """Those of the picture that count for the goal."""
        return (
            self.first_picture_limits or self.limits if self.goal == FIRST_PICTURE else self.limits
        )

    def with_goal_limits(self, limits: Limits) -> "Study":
        """The same study with other limits for its goal; those of the other goal stay as they
        are."""
        if self.goal == FIRST_PICTURE:
            return replace(self, first_picture_limits=limits)
        return replace(self, limits=limits)

    @property
    def base_name(self) -> str:
        """Under which name the base is kept; "" where it is under none."""
        return next((name for name, kept in self.bases.items() if kept == self.base), "")

    def with_base_kept(self, name: str, configuration: Configuration | None) -> "Study":
        """The same study with a configuration kept under a name, or with that name dropped."""
        bases = {key: kept for key, kept in self.bases.items() if key != name}
        return replace(
            self, bases=bases if configuration is None else {**bases, name: configuration}
        )

    def with_base_of(self, name: str) -> "Study":
        """The same study whose base is what is kept under a name; today's stays, under its name or
        as "before".

        Raises UsageError where there is none of that name.
        """
        if name not in self.bases:
            there = f"there are {', '.join(self.bases)}" if self.bases else "none is kept yet"
            raise UsageError(f"base {name[:LONGEST_NAME]}: no such name; {there}")

        kept = self if self.base_name else self.with_base_kept("before", self.base)
        return replace(kept, base=self.bases[name])

    @property
    def catalogue(self) -> Catalogue:
        """The settings of the study's renderer."""
        return self.base.catalogue

    def with_scene_settings(self, settings: Sequence[Setting]) -> "Study":
        """The same study with these settings of its scene beside the renderer's own; values of
        others are forgotten."""
        catalogue = self.catalogue.with_scene(settings)

        def known(values: Mapping[str, tuple[Value, ...]]) -> dict[str, tuple[Value, ...]]:
            return {key: kept for key, kept in values.items() if key in catalogue}

        return replace(
            self,
            base=self.base.on(catalogue),
            bases={name: kept.on(catalogue) for name, kept in self.bases.items()},
            sweeps=tuple(Sweep(s.kind, values) for s in self.sweeps if (values := known(s.values))),
            forbidden=known(self.forbidden),
            reference_keeps=tuple(key for key in self.reference_keeps if key in catalogue),
        )

    def planned(self, chosen: Iterable[Configuration] = ()) -> list[Configuration]:
        """Every configuration to measure, the base first, then those of the sweeps, then what a
        search chose; none twice, and none that renders the same as another. Raises UsageError for
        more than MAX_TRIALS."""
        by_effect = dict(self._planned)
        for configuration in chosen:
            by_effect.setdefault(configuration.effective(), configuration)

        if len(by_effect) > MAX_TRIALS:
            raise UsageError(f"the study has more than {MAX_TRIALS} trials; try fewer values")

        return list(by_effect.values())

    @cached_property
    def _planned(self) -> dict[Configuration, Configuration]:
        """What base and sweeps plan, by what has an effect."""
        planned = {self.base.effective(): self.base}
        for sweep in self.sweeps:
            for configuration in sweep.configurations(self.base):
                planned.setdefault(configuration.effective(), configuration)
            if len(planned) > MAX_TRIALS:
                raise UsageError(f"the study has more than {MAX_TRIALS} trials; try fewer values")

        return planned

    def plans(self, configuration: Configuration) -> bool:
        """Whether base or sweeps ask for a configuration, or for one that renders the same."""
        return configuration.effective() in self._planned

    def values_to_try(self) -> dict[str, tuple[Value, ...]]:
        """What the one-at-a-time sweeps try, by setting."""
        by_setting: dict[str, tuple[Value, ...]] = {}
        for sweep in self.sweeps:
            if sweep.kind == "one at a time":
                for key, values in sweep.values.items():
                    by_setting[key] = tuple(dict.fromkeys((*by_setting.get(key, ()), *values)))

        return by_setting

    def with_values_to_try(self, values: Mapping[str, tuple[Value, ...]]) -> "Study":
        """The same study with other values in its one-at-a-time sweep."""
        rest = tuple(sweep for sweep in self.sweeps if sweep.kind != "one at a time")
        kept = {
            key: tuple(self.catalogue.setting(key).check(v) for v in tried)
            for key, tried in values.items()
            if tried
        }
        return replace(self, sweeps=((Sweep("one at a time", kept),) if kept else ()) + rest)

    def space(self) -> dict[str, tuple[Value, ...]]:
        """Every value that any sweep tries, with the base's, by setting: what a search combines.
        Forbidden ones are left out, and settings of which a single value is left."""
        by_setting: dict[str, list[Value]] = {}
        for sweep in self.sweeps:
            for key, values in sweep.values.items():
                by_setting.setdefault(key, [self.base[key]]).extend(values)

        allowed = {
            key: tuple(v for v in dict.fromkeys(values) if v not in self.forbidden.get(key, ()))
            for key, values in by_setting.items()
        }
        return {key: values for key, values in allowed.items() if len(values) > 1}

    def combinations(self) -> int:
        """How many combinations a search has, those that render the same counted apart."""
        return math.prod(len(values) for values in self.space().values())

    def grids(self) -> tuple[Sweep, ...]:
        """The sweeps that try every combination."""
        return tuple(sweep for sweep in self.sweeps if sweep.kind == "grid")

    def with_grid(self, keys: Sequence[str]) -> "Study":
        """The same study with every combination of what is tried of these settings, the base's
        values among them.

        Raises UsageError for fewer than two settings, or one of which only a single value is tried.
        """
        tried = self.values_to_try()
        values = {
            key: tuple(dict.fromkeys((self.base[key], *tried.get(key, ()))))
            for key in dict.fromkeys(keys)
        }

        if len(values) < 2 or min(map(len, values.values())) < 2:
            raise UsageError(
                f"combinations of {', '.join(values) or 'nothing'}: expected two or more settings, "
                "each with another value to try than the base's"
            )

        return replace(self, sweeps=(*self.sweeps, Sweep("grid", values)))

    def without_sweep(self, sweep: Sweep) -> "Study":
        """The same study without one of its sweeps."""
        return replace(self, sweeps=tuple(each for each in self.sweeps if each != sweep))

    def accepting(self, limits: Limits, line: float) -> "Study":
        """The same study with these limits, and those of its watch areas, moved to an acceptance
        line."""
        areas = tuple(
            replace(a, limits=a.limits.scaled(line)) if a.limits is not None else a
            for a in self.areas
        )
        return replace(self, areas=areas, no_worse_than_base=False).with_goal_limits(
            limits.scaled(line)
        )

    def forbidding(self, key: str, value: Value, forbidden: bool = True) -> "Study":
        """The same study in which a value must not, or may again, be used."""
        values = tuple(v for v in self.forbidden.get(key, ()) if v != value)
        if forbidden:
            values = (*values, self.catalogue.setting(key).check(value))

        return replace(
            self, forbidden={k: v for k, v in {**self.forbidden, key: values}.items() if v}
        )

    def remarked(self, trial: str, remark: Remark) -> "Study":
        """The same study with something said of a trial; an empty remark says nothing."""
        remarks = {name: kept for name, kept in self.remarks.items() if name != trial}
        return replace(self, remarks=remarks if remark == NO_REMARK else {**remarks, trial: remark})

    def with_size(self, size: tuple[int, int]) -> "Study":
        """The same study at another size; watch areas stay where they are in the picture."""
        (width, height), (old_width, old_height) = size, self.size
        areas = []

        for area in self.areas:
            x, y = round(area.x * width / old_width), round(area.y * height / old_height)
            x, y = min(x, max(0, width - 1)), min(y, max(0, height - 1))
            across = max(1, min(round(area.width * width / old_width), width - x))
            down = max(1, min(round(area.height * height / old_height), height - y))
            areas.append(replace(area, x=x, y=y, width=across, height=down))

        return replace(self, size=size, areas=tuple(areas))

    def with_area(self, old: WatchArea, new: WatchArea | None) -> "Study":
        """The same study with a watch area in another's place, or without it."""
        return replace(
            self,
            areas=tuple(
                kept for area in self.areas if (kept := new if area == old else area) is not None
            ),
        )

    def reference_keeping(self, key: str, kept: bool) -> "Study":
        """The same study whose reference keeps the base's value of a setting, or opens it."""
        others = tuple(k for k in self.reference_keeps if k != key)
        return replace(self, reference_keeps=(*others, key) if kept else others)

    def reference_opens(self) -> dict[str, Value]:
        """The settings that the reference opens and in which it so differs from the base, with the
        reference's values."""
        reference = self.reference_configuration(1)
        openings = (declared.key for declared in self.catalogue.openings)
        return {key: reference[key] for key in openings if reference[key] != self.base[key]}

    def reference_configuration(self, samples: int) -> Configuration:
        """What the reference is rendered with: light-limiting settings open, the base's artistic
        choices kept. `samples` a pixel, where the renderer can add to a reference; else as many as
        its catalogue says."""
        opened = {
            key: declared.reference.applied_to(self.base[key])
            for key, declared in self.catalogue.items()
            if declared.reference is not None and key not in self.reference_keeps
        }
        counted = self.catalogue.with_role(SAMPLES)
        if counted is not None and self.catalogue.capabilities.extends_reference:
            opened[counted.key] = min(samples, int(counted.maximum or samples))

        return self.base.replace(opened)

"""The renderer file: models that are its schema, and a strict reader. Unknown members and
contradictions are errors."""

import re
import tomllib
from collections.abc import Iterator, Mapping
from functools import cached_property
from pathlib import PurePosixPath
from typing import Annotated, Literal

import regex
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from swift_sample.core.errors import CatalogueError, RendererError
from swift_sample.core.renderers.command.trust import SeenFile
from swift_sample.core.renderers.records import PHASES
from swift_sample.core.settings import Capabilities, Catalogue, Opening, Setting, Value
from swift_sample.core.settings.setting import BOUNCES, ROLES, SAMPLES, SCALE, THREADS

FORMAT = 1
SUFFIX = ".toml"
MOST_SETTINGS = 500
MOST_WORDS = 1000
PLACEHOLDERS = (
    "python",
    "scene",
    "picture",
    "width",
    "height",
    "frame",
    "seed",
    "threads",
    "settings",
    "arguments",
    "here",
    "work",
    "scene_folder",
)
"""What may stand in braces: the Python that runs Swift Sample; the scene's file; where the picture
is expected, its size, the frame, the seed, how many threads; a JSON file of all settings; the words
of settings that are given as arguments; the folders of the renderer file, of this one render, and
of the scene. Names of `copies` come beside them."""
GIVEN_ROLES = ("", SAMPLES, SCALE, THREADS, BOUNCES)
"""Roles that the settings of a program may have."""
_NAME = r"^[a-z][a-z0-9_-]{0,39}$"
_HOLE = re.compile(r"\{([a-z_0-9]*)\}")

Text = Annotated[str, Field(max_length=4000)]
Words = Annotated[list[Text], Field(max_length=MOST_WORDS)]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class InFile(_Strict):
    """A place in a copied file: a JSON pointer (RFC 6901), a dotted TOML key, or all text between
    two marks."""

    file: Annotated[str, Field(pattern=_NAME)]
    pointer: str | None = None
    key: str | None = None
    between: tuple[str, str] | None = None

    @model_validator(mode="after")
    def _one_of(self) -> "InFile":
        if sum(one is not None for one in (self.pointer, self.key, self.between)) != 1:
            raise ValueError("expected one of pointer, key and between")
        if self.between is not None and not all(self.between):
            raise ValueError("between: expected two marks that are not empty")

        return self


class SettingPart(_Strict):
    """One setting: what it is, and how its value reaches the program."""

    key: Annotated[str, Field(pattern=r"^[a-z][a-z0-9_.-]{0,59}$")]
    label: Annotated[str, Field(min_length=1, max_length=60)]
    group: Annotated[str, Field(min_length=1, max_length=40)] = "Settings"
    help: Annotated[str, Field(max_length=400)] = ""
    kind: Literal["choice", "whole", "number", "switch", "text"]
    default: bool | int | float | str
    values: Annotated[list[str], Field(max_length=200)] = []
    tried: Annotated[list[bool | int | float | str], Field(max_length=100)] = []
    minimum: float | None = None
    maximum: float | None = None
    off_at_zero: bool = False
    unit: Annotated[str, Field(max_length=20)] = ""
    role: str = ""
    reference: bool | int | float | str | None = None
    changes_pixels: bool = True
    tried_first: bool = True
    arguments: Words | None = None
    environment: Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")] | None = None
    in_file: InFile | None = None
    written: dict[str, str] = {}
    """how values are written, where not as they are: by "yes" and "no", or by the value"""

    @model_validator(mode="after")
    def _is_given_once(self) -> "SettingPart":
        if sum(one is not None for one in (self.arguments, self.environment, self.in_file)) > 1:
            raise ValueError(
                f"{self.key}: expected one of arguments, environment and in_file, or none of them"
            )
        if self.role not in GIVEN_ROLES:
            raise ValueError(
                f"{self.key}: role={self.role}: expected one of {', '.join(GIVEN_ROLES[1:])}"
            )

        return self

    def as_setting(self) -> Setting:
        """What the rest of the program knows of it. Raises CatalogueError."""
        role = self.role if self.role in ROLES else ""
        label = self.label

        return Setting(
            key=self.key,
            group=self.group,
            label=label,
            help=self.help,
            kind=self.kind,
            default=self.default,
            suggested=tuple(self.tried) or (self.default,),
            unit=self.unit,
            short="" if role == SAMPLES else label[0].lower() + label[1:],
            minimum=self.minimum,
            maximum=self.maximum,
            values=tuple(self.values),
            off_at_zero=self.off_at_zero,
            changes_pixels=self.changes_pixels,
            role=role,
            reference=None
            if self.reference is None
            else Opening(self.reference, is_choice=role != SAMPLES),
            tried_first=self.tried_first and len(self.tried) > 1,
            noun="sample" if role == SAMPLES else "",
        )

    def placed(self, value: Value) -> Value:
        """A value as it stands in a JSON or TOML file: of its own type, unless it is written
        differently."""
        return self.written[word] if (word := self._plain(value)) in self.written else value

    def word_for(self, value: Value) -> str:
        """How a value is written for the program."""
        return self.written.get(word := self._plain(value), word)

    @staticmethod
    def _plain(value: Value) -> str:
        if isinstance(value, bool):
            return "yes" if value else "no"
        return repr(value).removesuffix(".0") if isinstance(value, float) else str(value)


class PicturePart(_Strict):
    """Where the picture appears. `kind` is "light" for linear EXR, "shown" for PNG, TIFF or JPEG as
    they are displayed."""

    kind: Literal["light", "shown"]
    suffix: Literal[".exr", ".png", ".tif", ".tiff", ".jpg", ".jpeg"]
    file: Text = "{picture}"

    @model_validator(mode="after")
    def _fits(self) -> "PicturePart":
        if (self.kind == "light") != (self.suffix == ".exr"):
            raise ValueError(
                f"suffix={self.suffix}: pictures of light are .exr, shown ones .png, .tif or .jpg"
            )
        return self


class SeedPart(_Strict):
    first: Annotated[int, Field(ge=0)] = 0
    """added to the numbers of runs, which begin at 1"""


class ReferencePart(_Strict):
    average: bool = False
    """whether renders with different seeds may be averaged into a cleaner one"""


class PhasePart(_Strict):
    """A phase of a render ends with the first line that matches."""

    name: str
    ends: Text

    @model_validator(mode="after")
    def _is_known(self) -> "PhasePart":
        if self.name not in PHASES:
            raise ValueError(f"phase {self.name}: expected one of {', '.join(PHASES)}")
        return self


class TimesPart(_Strict):
    """What its output lines, or a JSON file that it leaves, tell of a render."""

    progress: Text | None = None
    """a regular expression whose first group is how many percent are done"""
    first_picture: Text | None = None
    phases: Annotated[list[PhasePart], Field(max_length=len(PHASES))] = []
    report: Text | None = None
    """a JSON file with seconds by the names of phases"""


class LimitsPart(_Strict):
    """What a render may take before it is ended."""

    seconds: Annotated[float, Field(gt=0, le=1e6)] = 3600.0
    memory_mb: Annotated[float, Field(gt=0)] | None = None
    output_mb: Annotated[float, Field(gt=0)] = 2000.0
    """of everything that it writes into its folder, and of what it prints"""


class ScenesPart(_Strict):
    suffixes: Annotated[list[str], Field(max_length=50)] = []
    reads: Annotated[list[Text], Field(max_length=50)] = []
    """files beside the scene that it depends on, as patterns such as "textures/*.png" """

    @model_validator(mode="after")
    def _stays_beside_the_scene(self) -> "ScenesPart":
        for pattern in self.reads:
            parts = PurePosixPath(pattern).parts
            if not parts or ".." in parts or pattern.startswith(("/", "~")):
                raise ValueError(
                    f"reads: {pattern!r} leads out of the scene's folder; name files beside "
                    "the scene"
                )

        return self


class RendererFile(_Strict):
    """A program that renders."""

    format: Literal[1]
    name: Annotated[str, Field(pattern=_NAME)]
    title: Annotated[str, Field(min_length=1, max_length=80)]
    command: Annotated[Words, Field(min_length=1)]
    folder: Text = "{work}"
    environment: Annotated[dict[str, Text], Field(max_length=200)] = {}
    version: Words = []
    copies: Annotated[dict[str, Text], Field(max_length=20)] = {}
    """files that are copied into the folder of the render, by the name of the placeholder that
    stands for the copy"""
    picture: PicturePart
    seed: SeedPart | None = None
    reference: ReferencePart = ReferencePart()
    times: TimesPart = TimesPart()
    limits: LimitsPart = LimitsPart()
    scene: ScenesPart = ScenesPart()
    setting: Annotated[list[SettingPart], Field(min_length=1, max_length=MOST_SETTINGS)]

    @model_validator(mode="after")
    def _holds_together(self) -> "RendererFile":
        known = {*PLACEHOLDERS, *self.copies}
        if set(self.copies) & set(PLACEHOLDERS):
            raise ValueError(
                f"copies: {', '.join(sorted(set(self.copies) & set(PLACEHOLDERS)))}: is a "
                "placeholder already"
            )

        for where, text in self._texts():
            for hole in _HOLE.findall(text):
                if hole not in known and not (hole == "value" and where.startswith("setting ")):
                    there = ", ".join(sorted(known))
                    raise ValueError(
                        f"{where}: {{{hole}}}: no such placeholder; there are {there}, and "
                        "names of [copies]"
                    )

        for one in self.setting:
            if one.in_file is not None and one.in_file.file not in self.copies:
                raise ValueError(
                    f"setting {one.key}: in_file.file={one.in_file.file}: is not among copies"
                )

        if (self.seed is not None) != self.uses("seed"):
            raise ValueError(
                "seed: expected a table [seed] and {seed} somewhere in command or environment, "
                "or neither"
            )

        for name, pattern in self.patterns.items():
            try:
                regex.compile(pattern)
            except regex.error as error:
                raise ValueError(f"times.{name}: is no regular expression ({error})") from error

        return self

    def _texts(self) -> Iterator[tuple[str, str]]:
        """Every text that may have placeholders, with where it stands."""
        for number, word in enumerate(self.command):
            yield f"command[{number}]", word

        for name, text in self.environment.items():
            yield f"environment.{name}", text

        for name, text in self.copies.items():
            yield f"copies.{name}", text

        for one in self.setting:
            for word in one.arguments or ():
                yield f"setting {one.key}", word

        yield "folder", self.folder
        yield "picture.file", self.picture.file
        if self.times.report is not None:
            yield "times.report", self.times.report

        for number, word in enumerate(self.version):
            yield f"version[{number}]", word

    def uses(self, placeholder: str) -> bool:
        """Whether a placeholder stands anywhere."""
        return any(placeholder in _HOLE.findall(text) for _, text in self._texts())

    @property
    def patterns(self) -> Mapping[str, str]:
        """Regular expressions by what they tell."""
        told = {"progress": self.times.progress, "first_picture": self.times.first_picture}
        return {name: p for name, p in told.items() if p is not None} | {
            f"phase {p.name}": p.ends for p in self.times.phases
        }

    @property
    def capabilities(self) -> Capabilities:
        """What it can do and tell."""
        has_report = self.times.report is not None
        roles = {one.role for one in self.setting}

        return Capabilities(
            seeds=self.seed is not None,
            extends_reference=self.seed is not None and self.reference.average and SAMPLES in roles,
            stops=True,
            phases=bool(self.times.phases) or has_report,
            first_picture=self.times.first_picture is not None,
            progress=self.times.progress is not None,
        )

    @cached_property
    def catalogue(self) -> Catalogue:
        """Its settings. Raises CatalogueError."""
        return Catalogue(self.name, [one.as_setting() for one in self.setting], self.capabilities)


def filled(text: str, values: Mapping[str, str]) -> str:
    """A text with what stands for its placeholders; others are left as they are."""
    return _HOLE.sub(lambda hole: values.get(hole[1], hole[0]), text)


def described_by(seen: SeenFile) -> RendererFile:
    """What a renderer file says. Raises RendererError naming the file, the place in it, and what is
    wrong there."""
    path = seen.path
    try:
        text = seen.content.decode("utf-8")
    except UnicodeDecodeError as error:
        raise RendererError(
            f"{path}: the renderer file cannot be read ({_words(error)})"
        ) from error

    try:
        return parse_renderer_file(text)
    except RendererError as error:
        raise RendererError(f"{path}: {error}") from error


def parse_renderer_file(text: str) -> RendererFile:
    """Raises RendererError that says where and what is wrong."""
    try:
        made = RendererFile.model_validate(tomllib.loads(text))
        made.catalogue  # noqa: B018  contradictions between settings show here
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise RendererError(
            f"{where + ': ' if where else ''}{first['msg'].removeprefix('Value error, ')}"
        ) from error
    except (ValueError, RecursionError, CatalogueError) as error:
        raise RendererError(_words(error)) from error

    return made


def _words(error: Exception) -> str:
    return getattr(error, "strerror", None) or " ".join(str(error).split())[:200]

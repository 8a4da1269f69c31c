"""One thing about a render that can be changed, with all that the rest of the program may know of
it."""

import math
from dataclasses import dataclass
from enum import StrEnum

from swift_sample.core.errors import SettingError

Value = bool | int | float | str

LONGEST_TEXT = 200

SAMPLES = "samples"
"""Role: samples per pixel. Sampling takes time in proportion, errors fall with them, and references
are made of them."""
SCALE = "scale"
"""Role: share of the full width and height. Sampling takes time by its square."""
THREADS = "threads"
"""Role: how much of the processor works at once. Sampling takes time in inverse proportion."""
BOUNCES = "bounces"
"""Role: the most bounces; records of time and light by bounce are counted by it."""
KEEPS_SCENE = "keeps scene"
"""Role: a switch that spares later renders reading and building the scene."""
PREPARES = "prepares"
"""Role: a switch that keeps something on disk for good, which every later render is spared to
make."""
DENOISING = "denoising"
"""Role: acts on a finished picture and nothing else, so that its values can be tried on pictures
that are stored."""
DENOISING_PASSES = "denoising of passes"
"""Role: acts on a finished picture as well, but on light passes, which are not stored; its default
is what can be tried."""
ROLES = ("", SAMPLES, SCALE, THREADS, BOUNCES, KEEPS_SCENE, PREPARES, DENOISING, DENOISING_PASSES)
SINGLE_ROLES = (SAMPLES, SCALE, THREADS, BOUNCES, KEEPS_SCENE, PREPARES)
"""Roles that one setting of a catalogue may have at most."""


class Derivation(StrEnum):
    """What a setting does to a picture, where that can be seen in a recording: a render that keeps
    its samples apart, and so holds the pictures of other values too."""

    SAMPLES = "takes the first samples"
    STOPS = "stops by how clean the picture is"
    PATH = "ends paths earlier"
    SAMPLE = "acts on each sample"
    FILM = "acts on the finished film"


@dataclass(frozen=True)
class Opening:
    """What a reference takes instead of the base's value, which limits light or detail, or would
    only cost it time.

    With `at_least` a larger value of the base stays. `instead_of` are the base's values that give
    way, where not all do: the others are a look. `is_choice` is False where no artist could want to
    keep the base's value in the reference.
    """

    value: Value
    at_least: bool = False
    instead_of: tuple[Value, ...] = ()
    is_choice: bool = True

    def applied_to(self, own: Value) -> Value:
        """The reference's value, where the base has `own`."""
        if self.instead_of and own not in self.instead_of:
            return own
        return (
            max(float(own), float(self.value))
            if self.at_least and not isinstance(own, str)
            else self.value
        )


@dataclass(frozen=True)
class ScenePart:
    """Something in a scene, such as the material "jar glass". `rays` are the kinds of rays that pay
    for what a setting takes away, none where all do."""

    kind: str
    name: str
    rays: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class Setting:
    """One thing that can be changed.

    `kind` is "choice", "whole" (an integer), "number", "switch" or "text". Numbers lie in [minimum,
    maximum]; where `off_at_zero` holds, 0 switches the setting off and is allowed even below the
    minimum. `suggested` are the values worth trying on most scenes; `tried_first` says whether a
    new study begins with them, and `why_tried` what they may win, in a few words. `neutral_when`
    names another setting and the values of it at which this one has no effect; `needs` a feature
    without which a scene does not change (`SceneFacts.reason_against`).

    What a setting does to pixels is declared here as well, since pictures, figures and verdicts are
    shared by all trials that render the same pixels: `changes_pixels` is False where no value ever
    changes one, unless one of the settings in `pixels_with` is on; the values in `same_pixels` all
    render the same ones. `view_matters_except` are the values at which pixels do not depend on the
    view; None where they never do.

    `role` is what it is to the rest of the program, one of ROLES; `reference` what references take
    instead of it. At the values in `off_values` a DENOISING setting leaves pictures as they are;
    `off_words` say so. With the values in `simulated_values` times are those of a stand-in for a
    device.

    In words, `noun` is counted and always told ("64 samples"), `short` stands before a value, and a
    setting with `told_with` follows the value of the setting that it names ("wavelet 0.6"). `words`
    replace values on screen.
    """

    key: str
    group: str
    label: str
    help: str
    kind: str
    default: Value
    suggested: tuple[Value, ...]
    unit: str = ""
    short: str = ""
    minimum: float | None = None
    maximum: float | None = None
    values: tuple[str, ...] = ()
    off_at_zero: bool = False
    neutral_when: tuple[str, tuple[Value, ...]] | None = None
    needs: str = ""
    derived: Derivation | None = None
    """how pictures with other values come out of a recording; None where each has to be rendered"""
    rendered_at: tuple[Value, ...] = ()
    """values that have to be rendered nevertheless"""
    changes_pixels: bool = True
    pixels_with: tuple[str, ...] = ()
    same_pixels: tuple[Value, ...] = ()
    view_matters_except: tuple[Value, ...] | None = None
    unnamed_value: Value | None = None
    """The value that identities leave out, where that is not the default: a default that changes
    later must keep its first value here, so that what was measured before keeps its name."""
    default_of_machine: bool = False
    """Whether the default differs from machine to machine; identities then name every value."""
    role: str = ""
    reference: Opening | None = None
    off_values: tuple[Value, ...] = ()
    off_words: str = ""
    simulated_values: tuple[Value, ...] = ()
    tried_first: bool = False
    why_tried: str = ""
    noun: str = ""
    told_with: str = ""
    words: tuple[tuple[Value, str], ...] = ()
    synonyms: tuple[str, ...] = ()
    """what else the trade calls it, for finding it"""
    of_scene: bool = False
    """whether it comes with one scene, such as a feature of a material, and is not the renderer's
    own"""
    part: ScenePart | None = None
    """the part of a scene that it is about; None for everything"""
    cheaper: tuple[Value, ...] = ()
    """values at which that part costs less, the cheapest last"""

    def is_found_by(self, text: str) -> bool:
        """Whether every word that is typed begins a word of its label, group, help, key or
        synonyms."""
        own = " ".join(
            (
                self.label,
                self.group,
                self.key.replace(".", " ").replace("_", " "),
                self.help,
                *self.synonyms,
            )
        )
        words = own.lower().replace(",", " ").split()
        return all(any(word.startswith(part) for word in words) for part in text.lower().split())

    @property
    def full_label(self) -> str:
        """The label, with its group where one word says too little."""
        return (
            self.label
            if " " in self.label or not self.group
            else f"{self.group}, {self.label.lower()}"
        )

    @property
    def left_out_of_identities(self) -> Value | None:
        """The value that an identity does not spell out; None where it spells out all."""
        if self.default_of_machine:
            return None
        return self.default if self.unnamed_value is None else self.unnamed_value

    @property
    def more_takes_longer(self) -> bool:
        """Whether larger values are known to take longer."""
        return self.role in (SAMPLES, BOUNCES)

    def check(self, value: object) -> Value:
        """Return `value` in this setting's own type.

        Raises SettingError, naming the key, the value and what is allowed.
        """
        if self.kind == "switch":
            if isinstance(value, bool):
                return value
        elif self.kind == "choice":
            if isinstance(value, str) and value in self.values:
                return value
        elif self.kind == "text":
            if isinstance(value, str) and len(value) <= LONGEST_TEXT and value.isprintable():
                return value
        elif isinstance(value, int | float) and not isinstance(value, bool):
            try:
                exact = (
                    float(value) + 0.0
                )  # minus zero becomes zero: the two are one value and must be written alike
            except OverflowError:
                exact = math.inf

            number = int(exact) if self.kind == "whole" and exact.is_integer() else exact
            fits_type = self.kind == "number" or isinstance(number, int)
            if fits_type and (self._in_range(number) or (self.off_at_zero and number == 0)):
                return number

        raise SettingError(f"{self.key}={format_value(value)}: expected {self.expected}")

    def parse(self, text: str) -> Value:
        """Read a value as it is written on the command line: true, false, a number, or a choice's
        name."""
        text = text.strip()
        if self.kind == "switch":
            return self.check({"true": True, "false": False}.get(text.lower(), text))
        if self.kind in ("choice", "text"):
            return self.check(text)

        try:
            return self.check(float(text))
        except (ValueError, OverflowError):
            raise SettingError(f"{self.key}={text}: expected {self.expected}") from None

    @property
    def expected(self) -> str:
        """What is allowed, in words."""
        if self.kind == "switch":
            return "true or false"
        if self.kind == "choice":
            return "one of " + ", ".join(self.values)
        if self.kind == "text":
            return f"a name of at most {LONGEST_TEXT} letters"

        noun = "a whole number" if self.kind == "whole" else "a number"
        off = ", or 0 for off" if self.off_at_zero and (self.minimum or 0) > 0 else ""
        return f"{noun} from {self.minimum:g} to {self.maximum:g}{off}"

    def show(self, value: Value) -> str:
        """A value as an artist would write it."""
        for known, words in self.words:
            if value == known and type(value) is type(known):
                return words

        if self.kind == "switch":
            return "yes" if value else "no"

        return "off" if self.off_at_zero and value == 0 else format_value(value)

    def told(self, value: Value) -> str:
        """The setting with a value, within a sentence: "max bounces 8"."""
        return f"{self.label[0].lower()}{self.label[1:]} {self.show(value)}"

    def _in_range(self, number: float) -> bool:
        assert self.minimum is not None
        assert self.maximum is not None
        return self.minimum <= number <= self.maximum


def format_value(value: object) -> str:
    """A value as it is written on the command line."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:g}"

    return str(value)

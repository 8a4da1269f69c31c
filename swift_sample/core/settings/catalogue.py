"""The catalogue: every setting, declared once. Ledger, command line, store and help read these declarations."""

import os
from dataclasses import dataclass
from difflib import get_close_matches

from swift_sample.core.errors import SettingError

Value = bool | int | float | str


@dataclass(frozen=True)
class Setting:
    """One thing that can be changed.

    `kind` is "choice", "whole" (an integer), "number" or "switch". Numbers lie in [minimum, maximum];
    where `off_at_zero` holds, 0 switches the setting off and is allowed even below the minimum.
    `suggested` are the values worth trying on most scenes. `neutral_when` names another setting and the value
    of it at which this one has no effect. Settings with `needs_new_scene` cannot reuse a built scene.
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
    neutral_when: tuple[str, Value] | None = None
    needs_new_scene: bool = False

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
        elif isinstance(value, int | float) and not isinstance(value, bool):
            number = int(value) if self.kind == "whole" and float(value).is_integer() else float(value)
            fits_type = self.kind == "number" or isinstance(number, int)
            if fits_type and (self._in_range(number) or (self.off_at_zero and number == 0)):
                return number
        raise SettingError(f"{self.key}={format_value(value)}: expected {self.expected}")

    def parse(self, text: str) -> Value:
        """Read a value as it is written on the command line: true, false, a number, or a choice's name."""
        text = text.strip()
        if self.kind == "switch":
            return self.check({"true": True, "false": False}.get(text.lower(), text))
        if self.kind == "choice":
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
        noun = "a whole number" if self.kind == "whole" else "a number"
        off = ", or 0 for off" if self.off_at_zero and (self.minimum or 0) > 0 else ""
        return f"{noun} from {self.minimum:g} to {self.maximum:g}{off}"

    def show(self, value: Value) -> str:
        """A value as an artist would write it."""
        if self.kind == "switch":
            return "yes" if value else "no"
        if self.off_at_zero and value == 0:
            return "auto" if self.key == "samples.min" else "off"
        return format_value(value)

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


_THREADS = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1

GROUPS = ("Sampling", "Light bounces", "Light limits", "Denoise", "Tiles and devices", "Caching", "Output")

_DECLARED = (
    Setting("samples.max", "Sampling", "Samples, at most",
            "How many samples each pixel may take. Four times as many halve the grain.",
            "whole", 128, (16, 32, 64, 128, 256), "samples per pixel", "samples", 1, 65536),
    Setting("samples.min", "Sampling", "Samples, at least",
            "Every pixel spends this many before the noise threshold may stop it.",
            "whole", 0, (0, 8, 16, 32), "samples per pixel", "least samples", 1, 65536, off_at_zero=True,
            neutral_when=("samples.noise_threshold", 0.0)),
    Setting("samples.noise_threshold", "Sampling", "Noise threshold",
            "A pixel stops early once its grain falls under this share of the display range.",
            "number", 0.0, (0.0, 0.005, 0.01, 0.02, 0.05), "share of the display range", "threshold", 0.0001, 1.0,
            off_at_zero=True),
    Setting("samples.pattern", "Sampling", "Sample pattern",
            "Even patterns spread the samples so that grain falls faster than by chance.",
            "choice", "even", ("even", "random"), "", "pattern", values=("even", "random")),
    Setting("bounces.total", "Light bounces", "Bounces, all kinds",
            "How often light may be scattered on its way. Too few and corners behind glass go dark.",
            "whole", 12, (1, 2, 3, 4, 6, 8, 12), "bounces", "bounces", 0, 64),
    Setting("bounces.roulette_start", "Light bounces", "Give up faint paths after",
            "From this bounce on, faint paths are ended at random. Saves time, adds a little grain, loses no light.",
            "whole", 3, (1, 3, 6), "bounces", "give up after", 0, 64),
    Setting("light.clamp_direct", "Light limits", "Clamp direct light",
            "The most one sample may add by direct light. Removes stray pixels, and some light with them.",
            "number", 0.0, (0.0, 4.0, 16.0), "radiance", "direct clamp", 0.001, 1e6, off_at_zero=True),
    Setting("light.clamp_indirect", "Light limits", "Clamp indirect light",
            "The most one sample may add by bounced light. Removes stray pixels, and some light with them.",
            "number", 0.0, (0.0, 1.0, 4.0, 16.0), "radiance", "clamp", 0.001, 1e6, off_at_zero=True),
    Setting("denoise.method", "Denoise", "Method",
            "How grain is smoothed after sampling.",
            "choice", "none", ("none", "wavelet"), "", "", values=("none", "wavelet")),
    Setting("denoise.strength", "Denoise", "Strength",
            "How much of the smoothed picture is mixed in. 0 is the raw picture.",
            "number", 1.0, (0.4, 0.6, 0.8, 1.0), "", "strength", 0.0, 1.0, neutral_when=("denoise.method", "none")),
    Setting("denoise.guides", "Denoise", "Follow surfaces",
            "Keeps edges and textures by looking at surface colour and direction.",
            "switch", True, (True, False), "", "guides", neutral_when=("denoise.method", "none")),
    Setting("tiles.size", "Tiles and devices", "Tile size",
            "The edge of the squares that threads work on. Never changes the picture.",
            "whole", 32, (8, 16, 32, 64, 128), "pixels", "tiles", 4, 4096),
    Setting("device.threads", "Tiles and devices", "Processor threads",
            "How many parts of the processor work at once.",
            "whole", _THREADS, tuple(sorted({1, max(1, _THREADS // 2), _THREADS})), "threads", "threads", 1, 1024),
    Setting("scene.keep_built", "Caching", "Keep the built scene",
            "The next render starts from the scene as it was built for the last one. Costs memory.",
            "switch", False, (False, True), "", "scene kept"),
    Setting("output.scale", "Output", "Picture scale",
            "The share of the full width and height that is rendered.",
            "number", 1.0, (0.5, 0.75, 1.0), "", "scale", 0.01, 4.0),
)

CATALOGUE: dict[str, Setting] = {declared.key: declared for declared in _DECLARED}


def setting(key: str) -> Setting:
    """The setting with this key. Raises SettingError that names the closest one."""
    found = CATALOGUE.get(key)
    if found is None:
        near = get_close_matches(key, CATALOGUE, n=1, cutoff=0.5)
        hint = f"; did you mean {near[0]}?" if near else "; `swift-sample settings` lists them"
        raise SettingError(f"unknown setting {key}{hint}")
    return found

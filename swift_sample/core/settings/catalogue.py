"""The catalogue: every setting, declared once. Ledger, command line, store and help read these declarations."""

import math
import os
from dataclasses import dataclass
from difflib import get_close_matches

from swift_sample.core.errors import SettingError

Value = bool | int | float | str

LONGEST_TEXT = 200


@dataclass(frozen=True)
class Setting:
    """One thing that can be changed.

    `kind` is "choice", "whole" (an integer), "number", "switch" or "text". Numbers lie in [minimum, maximum];
    where `off_at_zero` holds, 0 switches the setting off and is allowed even below the minimum.
    `suggested` are the values worth trying on most scenes. `neutral_when` names another setting and the values
    of it at which this one has no effect; `needs` a feature without which a scene does not change (scene/facts.py).

    What a setting does to pixels is declared here as well, since pictures, figures and verdicts are shared by all trials
    that render the same pixels: `changes_pixels` is False where no value ever changes one, unless one of the settings in
    `pixels_with` is on; the values in `same_pixels` all render the same ones. `view_matters_except` are the values at which
    pixels do not depend on the view; None where they never do.
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
    changes_pixels: bool = True
    pixels_with: tuple[str, ...] = ()
    same_pixels: tuple[Value, ...] = ()
    view_matters_except: tuple[Value, ...] | None = None
    unnamed_value: Value | None = None
    """The value that identities leave out, where that is not the default: a default that changes later must keep its first
    value here, so that what was measured before keeps its name."""
    default_of_machine: bool = False
    """Whether the default differs from machine to machine; identities then name every value."""

    @property
    def left_out_of_identities(self) -> Value | None:
        """The value that an identity does not spell out; None where it spells out all."""
        if self.default_of_machine:
            return None
        return self.default if self.unnamed_value is None else self.unnamed_value

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
                exact = float(value) + 0.0  # minus zero becomes zero: the two are one value and must be written alike
            except OverflowError:
                exact = math.inf
            number = int(exact) if self.kind == "whole" and exact.is_integer() else exact
            fits_type = self.kind == "number" or isinstance(number, int)
            if fits_type and (self._in_range(number) or (self.off_at_zero and number == 0)):
                return number
        raise SettingError(f"{self.key}={format_value(value)}: expected {self.expected}")

    def parse(self, text: str) -> Value:
        """Read a value as it is written on the command line: true, false, a number, or a choice's name."""
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
        if self.kind == "switch":
            return "yes" if value else "no"
        if self.off_at_zero and value == 0:
            return "auto" if self.key == "samples.min" else "off"
        if self.key == "device.kind" and value != self.default:
            return f"{value} (simulated)"
        if self.kind == "text" and not value:
            return "as in the file"
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

GROUPS = ("Sampling", "Light bounces", "Light limits", "Denoise", "Tiles and devices", "Caching", "Scene choices", "Output")

UNLIMITED_BOUNCES = 64
"""More than any path takes: where a kind's cap stands by itself, only the cap on all kinds counts."""


def _cap(kind: str, help: str, suggested: tuple[int, ...], needs: str = "", default: int = UNLIMITED_BOUNCES) -> "Setting":
    return Setting(
        f"bounces.{kind}",
        "Light bounces",
        f"Bounces, {kind}",
        help,
        "whole",
        default,
        suggested,
        "bounces",
        f"{kind} bounces",
        minimum=0,
        maximum=UNLIMITED_BOUNCES,
        needs=needs,
    )


_DECLARED = (
    Setting(
        "samples.max",
        "Sampling",
        "Samples, at most",
        "How many samples each pixel may take. Four times as many halve the grain.",
        "whole",
        128,
        (16, 32, 64, 128, 256),
        "samples per pixel",
        "samples",
        1,
        65536,
    ),
    Setting(
        "samples.min",
        "Sampling",
        "Samples, at least",
        "Every pixel spends this many before the noise threshold may stop it.",
        "whole",
        0,
        (0, 8, 16, 32),
        "samples per pixel",
        "least samples",
        1,
        65536,
        off_at_zero=True,
        neutral_when=("samples.noise_threshold", (0.0,)),
    ),
    Setting(
        "samples.noise_threshold",
        "Sampling",
        "Noise threshold",
        "A pixel stops early once its grain falls under this share of the display range.",
        "number",
        0.0,
        (0.0, 0.005, 0.01, 0.02, 0.05),
        "share of the display range",
        "threshold",
        0.0001,
        1.0,
        off_at_zero=True,
        view_matters_except=(0.0,),
    ),
    Setting(
        "samples.stop_at_grain",
        "Sampling",
        "Stop when clean",
        "The whole picture stops once its grain falls under this many levels. Works in progressive mode.",
        "number",
        0.0,
        (0.0, 2.0, 4.0),
        "levels",
        "stop at grain",
        0.05,
        255.0,
        off_at_zero=True,
        neutral_when=("tiles.mode", ("tiles",)),
        view_matters_except=(0.0,),
    ),
    Setting(
        "samples.pattern",
        "Sampling",
        "Sample pattern",
        "Even patterns spread the samples so that grain falls faster than by chance.",
        "choice",
        "even",
        ("even", "random"),
        "",
        "pattern",
        values=("even", "random"),
    ),
    Setting(
        "samples.pixel_filter",
        "Sampling",
        "Pixel filter",
        "Over what width samples are gathered into a pixel: box 1 pixel, tent 2, bell 3. Wider is softer.",
        "choice",
        "tent",
        ("box", "tent", "bell"),
        "",
        "filter",
        values=("box", "tent", "bell"),
    ),
    Setting(
        "bounces.total",
        "Light bounces",
        "Bounces, all kinds",
        "How often light may be scattered on its way. Too few and corners behind glass go dark.",
        "whole",
        12,
        (1, 2, 3, 4, 6, 8, 12),
        "bounces",
        "bounces",
        0,
        64,
    ),
    _cap("diffuse", "How often light may be scattered by matt surfaces, wax and skin included.", (1, 2, 3, 4)),
    _cap("glossy", "How often light may be reflected by shiny surfaces.", (1, 2, 4, 8)),
    _cap("transmission", "How often light may pass into or out of glass and liquids.", (2, 4, 8, 12), "clear"),
    _cap("volume", "How often light may be scattered in haze.", (0, 1, 2, 4), "haze"),
    _cap("cutout", "How many cut-out surfaces light may pass through.", (2, 4, 8, 16), "cut-outs"),
    Setting(
        "bounces.roulette_start",
        "Light bounces",
        "Give up faint paths after",
        "From this bounce on, faint paths are ended at random. Saves time, adds a little grain, loses no light.",
        "whole",
        3,
        (1, 3, 6),
        "bounces",
        "give up after",
        0,
        64,
    ),
    Setting(
        "light.clamp_direct",
        "Light limits",
        "Clamp direct light",
        "The most one sample may add by direct light. Removes stray pixels, and some light with them.",
        "number",
        0.0,
        (0.0, 4.0, 16.0),
        "radiance",
        "direct clamp",
        0.001,
        1e6,
        off_at_zero=True,
    ),
    Setting(
        "light.clamp_indirect",
        "Light limits",
        "Clamp indirect light",
        "The most one sample may add by bounced light. Removes stray pixels, and some light with them.",
        "number",
        0.0,
        (0.0, 1.0, 4.0, 16.0),
        "radiance",
        "clamp",
        0.001,
        1e6,
        off_at_zero=True,
    ),
    Setting(
        "light.caustics",
        "Light limits",
        "Caustics",
        "Which light counts that reaches a matt surface off or through something smooth. It is grainy.",
        "choice",
        "all",
        ("all", "reflected", "refracted", "none"),
        "",
        "caustics",
        values=("all", "reflected", "refracted", "none"),
    ),
    Setting(
        "light.roughness_floor",
        "Light limits",
        "Least roughness after a matt bounce",
        "After a matt surface, light sees everything at least this rough. Calms grain, blurs caustics.",
        "number",
        0.0,
        (0.0, 0.1, 0.2, 0.4),
        "",
        "roughness floor",
        0.0,
        1.0,
        off_at_zero=True,
    ),
    Setting(
        "light.indirect",
        "Light limits",
        "Bounced light",
        "Off keeps only what lights and sky reach directly, and what is seen in clear glass and mirrors.",
        "switch",
        True,
        (True, False),
        "",
        "bounced light",
    ),
    Setting(
        "denoise.method",
        "Denoise",
        "Method",
        "How grain is smoothed: wavelet is quick, patches finds likenesses, regression fits light to surfaces.",
        "choice",
        "none",
        ("none", "wavelet", "patches", "regression"),
        "",
        "",
        values=("none", "wavelet", "patches", "regression"),
    ),
    Setting(
        "denoise.strength",
        "Denoise",
        "Strength",
        "How much of the smoothed picture is mixed in. 0 is the raw picture.",
        "number",
        1.0,
        (0.4, 0.6, 0.8, 1.0),
        "",
        "strength",
        0.0,
        1.0,
        neutral_when=("denoise.method", ("none",)),
    ),
    Setting(
        "denoise.guides",
        "Denoise",
        "Follow surfaces",
        "Keeps edges and textures by looking at surface colour and direction.",
        "switch",
        True,
        (True, False),
        "",
        "guides",
        neutral_when=("denoise.method", ("none",)),
    ),
    Setting(
        "denoise.per_pass",
        "Denoise",
        "Each light pass by itself",
        "Smooths direct and bounced light apart, which keeps more and takes several times as long.",
        "switch",
        False,
        (False, True),
        "",
        "per pass",
        neutral_when=("denoise.method", ("none",)),
    ),
    Setting(
        "tiles.size",
        "Tiles and devices",
        "Tile size",
        "The edge of the squares that threads work on, up to the whole picture. Never changes the picture.",
        "whole",
        32,
        (8, 16, 32, 64, 256),
        "pixels",
        "tiles",
        4,
        32768,
        changes_pixels=False,
    ),
    Setting(
        "tiles.order",
        "Tiles and devices",
        "Tile order",
        "Which tiles come first: by rows, by columns, from the middle, neighbours together, or scattered.",
        "choice",
        "rows",
        ("rows", "columns", "middle", "nearby", "scattered"),
        "",
        "tile order",
        values=("rows", "columns", "middle", "nearby", "scattered"),
        changes_pixels=False,
    ),
    Setting(
        "tiles.mode",
        "Tiles and devices",
        "Mode",
        "Tiles are finished one by one; progressive shows the whole picture early and cleans it in passes.",
        "choice",
        "tiles",
        ("tiles", "progressive"),
        "",
        "mode",
        values=("tiles", "progressive"),
        changes_pixels=False,
        pixels_with=("samples.noise_threshold", "samples.stop_at_grain"),
    ),
    Setting(
        "device.threads",
        "Tiles and devices",
        "Processor threads",
        "How many parts of the processor work at once.",
        "whole",
        _THREADS,
        tuple(sorted({1, max(1, _THREADS // 2), _THREADS})),
        "threads",
        "threads",
        1,
        1024,
        changes_pixels=False,
        default_of_machine=True,
    ),
    Setting(
        "device.kind",
        "Tiles and devices",
        "Device",
        "What renders. Accelerator and both are stand-ins: the same picture, with simulated times.",
        "choice",
        "processor",
        ("processor", "accelerator", "both"),
        "",
        "device",
        values=("processor", "accelerator", "both"),
        changes_pixels=False,
    ),
    Setting(
        "scene.keep_built",
        "Caching",
        "Keep the built scene",
        "The next render starts from the scene as it was built for the last one. Costs memory.",
        "switch",
        False,
        (False, True),
        "",
        "scene kept",
        changes_pixels=False,
    ),
    Setting(
        "textures.prepared",
        "Caching",
        "Prepared textures",
        "Textures are kept on disk in tiles and sizes, made once; a render reads only the tiles that it needs.",
        "switch",
        False,
        (False, True),
        "",
        "textures prepared",
        needs="textures",
        changes_pixels=False,
    ),
    Setting(
        "textures.max_size",
        "Caching",
        "Largest texture",
        "Larger textures are halved until they fit. Saves memory; fine patterns get softer.",
        "whole",
        0,
        (0, 512, 1024, 2048),
        "pixels",
        "textures at most",
        16,
        65536,
        off_at_zero=True,
        needs="textures",
    ),
    Setting(
        "textures.memory",
        "Caching",
        "Memory for textures",
        "How much of the prepared textures is held at once. Too little, and tiles are read again and again.",
        "whole",
        256,
        (16, 64, 256),
        "MiB",
        "texture memory",
        1,
        65536,
        neutral_when=("textures.prepared", (False,)),
        needs="textures",
        changes_pixels=False,
    ),
    Setting(
        "geometry.variant",
        "Scene choices",
        "Variant",
        "Which of the scene's variants is shown. Empty is the file's own choice.",
        "text",
        "",
        ("",),
        "",
        "variant",
        needs="variants",
    ),
    Setting(
        "geometry.subdivision",
        "Scene choices",
        "Subdivision",
        "How often every triangle is cut into four. Finer displacement, more memory, longer building.",
        "whole",
        0,
        (0, 1, 2),
        "steps",
        "subdivision",
        0,
        6,
    ),
    Setting(
        "geometry.displacement",
        "Scene choices",
        "Displacement",
        "Whether textures move surfaces, or leave them flat.",
        "switch",
        True,
        (True, False),
        "",
        "displacement",
        needs="displacement",
    ),
    Setting(
        "volume.scattering",
        "Scene choices",
        "Haze",
        "How haze is followed: exact without any error, stepped with a chosen step, or left out.",
        "choice",
        "exact",
        ("exact", "stepped", "off"),
        "",
        "haze",
        values=("exact", "stepped", "off"),
        needs="haze",
    ),
    Setting(
        "volume.step",
        "Scene choices",
        "Haze step",
        "How far apart stepped haze is looked at. Longer is faster and less exact.",
        "number",
        0.02,
        (0.005, 0.02, 0.08),
        "metres",
        "haze step",
        1e-5,
        1e6,
        neutral_when=("volume.scattering", ("exact", "off")),
        needs="haze",
    ),
    Setting(
        "camera.depth_of_field",
        "Scene choices",
        "Depth of field",
        "Whether what is out of focus gets soft.",
        "switch",
        True,
        (True, False),
        "",
        "depth of field",
        needs="aperture",
    ),
    Setting(
        "camera.motion_blur",
        "Scene choices",
        "Motion blur",
        "Whether what moves while the shutter is open gets soft.",
        "switch",
        True,
        (True, False),
        "",
        "motion blur",
        needs="motion",
    ),
    Setting(
        "camera.shutter",
        "Scene choices",
        "Shutter",
        "For which share of a frame the shutter is open.",
        "number",
        0.5,
        (0.25, 0.5, 1.0),
        "share of a frame",
        "shutter",
        0.0,
        1.0,
        neutral_when=("camera.motion_blur", (False,)),
        needs="motion",
    ),
    Setting(
        "output.scale",
        "Output",
        "Picture scale",
        "The share of the full width and height that is rendered.",
        "number",
        1.0,
        (0.5, 0.75, 1.0),
        "",
        "scale",
        0.01,
        4.0,
    ),
    Setting(
        "output.format",
        "Output",
        "File format",
        "How the finished picture is written. exr-dwaa and jpeg lose a little; png and jpeg keep what the view shows.",
        "choice",
        "exr-zip",
        ("exr-zip", "exr-piz", "exr-none", "exr-dwaa", "png-8", "png-16", "jpeg"),
        "",
        "",
        values=("exr-zip", "exr-piz", "exr-none", "exr-dwaa", "png-8", "png-16", "jpeg"),
        same_pixels=("exr-zip", "exr-piz", "exr-none"),
        view_matters_except=("exr-zip", "exr-piz", "exr-none", "exr-dwaa"),
    ),
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

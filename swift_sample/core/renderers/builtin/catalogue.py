"""Every setting of the built-in path tracer, declared once."""

import os
from collections.abc import Mapping
from dataclasses import replace

from swift_sample.core.settings import Catalogue, Configuration, Opening, ScenePart, Setting, Value
from swift_sample.core.settings.capabilities import ALL
from swift_sample.core.settings.setting import (
    BOUNCES,
    DENOISING,
    DENOISING_PASSES,
    KEEPS_SCENE,
    PREPARES,
    SAMPLES,
    SCALE,
    THREADS,
)

NAME = "built-in"

_THREADS = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1

UNLIMITED_BOUNCES = 64
"""More than any path takes: where a kind's cap stands by itself, only the cap on all kinds
counts."""


HAZE_PART = ScenePart("haze", "haze", ("volume",))


def _cap(
    kind: str,
    help: str,
    suggested: tuple[int, ...],
    needs: str = "",
    default: int = UNLIMITED_BOUNCES,
    part: ScenePart | None = None,
    cheaper: tuple[Value, ...] = (),
) -> "Setting":
    return Setting(
        key=f"bounces.{kind}",
        group="Light bounces",
        label=f"Bounces, {kind}",
        help=help,
        kind="whole",
        default=default,
        suggested=suggested,
        unit="bounces",
        short=f"{kind} bounces",
        minimum=0,
        maximum=UNLIMITED_BOUNCES,
        needs=needs,
        reference=Opening(UNLIMITED_BOUNCES),
        part=part,
        cheaper=cheaper,
    )


_DECLARED: tuple[Setting, ...] = (
    Setting(
        key="samples.max",
        group="Sampling",
        label="Samples, at most",
        help="How many samples each pixel may take. Four times as many halve the grain.",
        kind="whole",
        default=128,
        suggested=(16, 32, 64, 128, 256),
        unit="samples per pixel",
        short="samples",
        minimum=1,
        maximum=65536,
        role=SAMPLES,
        tried_first=True,
        noun="sample",
        why_tried="more samples: slower, less grain",
    ),
    Setting(
        key="samples.min",
        group="Sampling",
        label="Samples, at least",
        help="Every pixel spends this many before the noise threshold may stop it.",
        kind="whole",
        default=0,
        suggested=(0, 8, 32, 64),
        unit="samples per pixel",
        short="least samples",
        minimum=1,
        maximum=65536,
        off_at_zero=True,
        neutral_when=("samples.noise_threshold", (0.0,)),
        reference=Opening(0, is_choice=False),
        words=((0, "auto"),),
    ),
    Setting(
        key="samples.noise_threshold",
        group="Sampling",
        label="Noise threshold",
        help=(
            "Pixels stop early once the grain around them falls under this share of the display "
            "range."
        ),
        kind="number",
        default=0.0,
        suggested=(0.0, 0.005, 0.01, 0.02, 0.05),
        unit="share of the display range",
        short="threshold",
        minimum=0.0001,
        maximum=1.0,
        off_at_zero=True,
        view_matters_except=(0.0,),
        reference=Opening(0.0, is_choice=False),
        tried_first=True,
        why_tried="stops early where clean",
    ),
    Setting(
        key="samples.stop_at_grain",
        group="Sampling",
        label="Stop when clean",
        help=(
            "The whole picture stops once its grain falls under this many levels. Works in "
            "progressive "
            "mode."
        ),
        kind="number",
        default=0.0,
        suggested=(0.0, 2.0, 4.0),
        unit="levels",
        short="stop at grain",
        minimum=0.05,
        maximum=255.0,
        off_at_zero=True,
        neutral_when=("tiles.mode", ("tiles",)),
        view_matters_except=(0.0,),
        reference=Opening(0.0, is_choice=False),
    ),
    Setting(
        key="samples.pattern",
        group="Sampling",
        label="Sample pattern",
        help=(
            "Even patterns let grain fall faster than by chance. Blue noise spreads it over the "
            "picture too: it looks finer."
        ),
        kind="choice",
        default="even",
        suggested=("even", "blue noise", "random"),
        unit="",
        short="pattern",
        values=("even", "random", "blue noise"),
    ),
    Setting(
        key="samples.pixel_filter",
        group="Sampling",
        label="Pixel filter",
        help=(
            "Over what width samples are gathered into a pixel: box 1 pixel, tent 2, bell 3. Wider "
            "is "
            "softer."
        ),
        kind="choice",
        default="tent",
        suggested=("box", "tent", "bell"),
        unit="",
        short="filter",
        values=("box", "tent", "bell"),
    ),
    Setting(
        key="bounces.total",
        group="Light bounces",
        label="Bounces, all kinds",
        help=(
            "How often light may be scattered on its way. Too few and corners behind glass go dark."
        ),
        kind="whole",
        default=12,
        suggested=(1, 2, 3, 4, 6, 8, 12),
        unit="bounces",
        short="bounces",
        minimum=0,
        maximum=64,
        role=BOUNCES,
        reference=Opening(32, at_least=True),
        tried_first=True,
        noun="bounce",
        why_tried="late bounces cost time; some bring no light",
    ),
    _cap(
        "diffuse",
        "How often light may be scattered by matt surfaces, wax and skin included.",
        (1, 2, 3, 4),
    ),
    _cap("glossy", "How often light may be reflected by shiny surfaces.", (1, 2, 4, 8)),
    _cap(
        "transmission",
        "How often light may pass into or out of glass and liquids.",
        (2, 4, 8, 12),
        "clear",
    ),
    _cap(
        "volume",
        "How often light may be scattered in haze.",
        (0, 1, 2, 4),
        "haze",
        part=HAZE_PART,
        cheaper=(1,),
    ),
    _cap("cutout", "How many cut-out surfaces light may pass through.", (2, 4, 8, 16), "cut-outs"),
    Setting(
        key="bounces.roulette_start",
        group="Light bounces",
        label="End faint paths after",
        help=(
            "From this bounce on, faint paths are ended at random. Saves time, adds a little "
            "grain, "
            "loses no light."
        ),
        kind="whole",
        default=2,
        suggested=(1, 2, 4),
        unit="bounces",
        short="give up after",
        minimum=0,
        maximum=64,
    ),
    Setting(
        key="light.clamp_direct",
        group="Light limits",
        label="Clamp direct light",
        help=(
            "The most one sample may add by direct light. Removes stray pixels, and some light "
            "with "
            "them."
        ),
        kind="number",
        default=0.0,
        suggested=(0.0, 4.0, 16.0),
        unit="radiance",
        short="direct clamp",
        minimum=0.001,
        maximum=1e6,
        off_at_zero=True,
        reference=Opening(0.0),
    ),
    Setting(
        key="light.clamp_indirect",
        group="Light limits",
        label="Clamp indirect light",
        help=(
            "The most one sample may add by bounced light. Removes stray pixels, and some light "
            "with "
            "them."
        ),
        kind="number",
        default=0.0,
        suggested=(0.0, 1.0, 4.0, 16.0),
        unit="radiance",
        short="clamp",
        minimum=0.001,
        maximum=1e6,
        off_at_zero=True,
        reference=Opening(0.0),
        tried_first=True,
        why_tried="removes stray pixels, and a little light",
    ),
    Setting(
        key="light.caustics",
        group="Light limits",
        label="Caustics",
        help="Light that glass or mirrors focus onto matt surfaces; slow to get clean.",
        kind="choice",
        default="all",
        suggested=("all", "reflected", "refracted", "none"),
        unit="",
        short="caustics",
        values=("all", "reflected", "refracted", "none"),
        reference=Opening("all"),
    ),
    Setting(
        key="light.roughness_floor",
        group="Light limits",
        label="Least roughness after a matt bounce",
        help=(
            "After a matt surface, light sees everything at least this rough. Calms grain, blurs "
            "caustics."
        ),
        kind="number",
        default=0.0,
        suggested=(0.0, 0.1, 0.2, 0.4),
        unit="",
        short="roughness floor",
        minimum=0.0,
        maximum=1.0,
        off_at_zero=True,
        reference=Opening(0.0),
    ),
    Setting(
        key="light.indirect",
        group="Light limits",
        label="Bounced light",
        help=(
            "Off keeps only what lights and sky reach directly, and what is seen in clear glass "
            "and "
            "mirrors."
        ),
        kind="switch",
        default=True,
        suggested=(True, False),
        unit="",
        short="bounced light",
        reference=Opening(True),
    ),
    Setting(
        key="denoise.method",
        group="Denoise",
        label="Method",
        help=(
            "How grain is denoised: wavelet is quick, patches compares similar places, regression "
            "fits "
            "light to surfaces."
        ),
        kind="choice",
        default="none",
        suggested=("none", "wavelet", "patches", "regression"),
        unit="",
        short="",
        values=("none", "wavelet", "patches", "regression"),
        role=DENOISING,
        reference=Opening("none"),
        off_values=("none",),
        off_words="no denoising",
        tried_first=True,
        why_tried="may allow fewer samples; can cost detail",
    ),
    Setting(
        key="denoise.strength",
        group="Denoise",
        label="Strength",
        help="How much of the denoised picture is mixed in. 0 is the raw picture.",
        kind="number",
        default=1.0,
        suggested=(0.4, 0.6, 0.8, 1.0),
        unit="",
        short="strength",
        minimum=0.0,
        maximum=1.0,
        neutral_when=("denoise.method", ("none",)),
        role=DENOISING,
        off_values=(0.0,),
        told_with="denoise.method",
    ),
    Setting(
        key="denoise.guides",
        group="Denoise",
        label="Follow surfaces",
        help="Keeps edges and textures by looking at surface colour and direction.",
        kind="switch",
        default=True,
        suggested=(True, False),
        unit="",
        short="guides",
        neutral_when=("denoise.method", ("none",)),
        role=DENOISING,
    ),
    Setting(
        key="denoise.per_pass",
        group="Denoise",
        label="Each light pass by itself",
        help=(
            "Smooths direct and bounced light apart, which keeps more and takes several times as "
            "long."
        ),
        kind="switch",
        default=False,
        suggested=(False, True),
        unit="",
        short="per pass",
        neutral_when=("denoise.method", ("none",)),
        role=DENOISING_PASSES,
    ),
    Setting(
        key="tiles.size",
        group="Tiles and devices",
        label="Tile size",
        help=(
            "The edge of the squares that threads work on, up to the whole picture. Never changes "
            "the "
            "picture."
        ),
        kind="whole",
        default=32,
        suggested=(8, 16, 32, 64, 256),
        unit="pixels",
        short="tiles",
        minimum=4,
        maximum=32768,
        changes_pixels=False,
        tried_first=True,
        why_tried="changes no pixel",
    ),
    Setting(
        key="tiles.order",
        group="Tiles and devices",
        label="Tile order",
        help=(
            "Which tiles come first: by rows, by columns, from the middle, neighbours together, or "
            "scattered."
        ),
        kind="choice",
        default="rows",
        suggested=("rows", "columns", "middle", "nearby", "scattered"),
        unit="",
        short="tile order",
        values=("rows", "columns", "middle", "nearby", "scattered"),
        changes_pixels=False,
    ),
    Setting(
        key="tiles.mode",
        group="Tiles and devices",
        label="Mode",
        help=(
            "Tiles are finished one by one; progressive shows the whole picture early and cleans "
            "it in "
            "passes."
        ),
        kind="choice",
        default="tiles",
        suggested=("tiles", "progressive"),
        unit="",
        short="mode",
        values=("tiles", "progressive"),
        changes_pixels=False,
        pixels_with=("samples.noise_threshold", "samples.stop_at_grain"),
    ),
    Setting(
        key="device.threads",
        group="Tiles and devices",
        label="Processor threads",
        help="How many parts of the processor work at once.",
        kind="whole",
        default=_THREADS,
        suggested=tuple(sorted({1, max(1, _THREADS // 2), _THREADS})),
        unit="threads",
        short="threads",
        minimum=1,
        maximum=1024,
        changes_pixels=False,
        default_of_machine=True,
        role=THREADS,
    ),
    Setting(
        key="device.kind",
        group="Tiles and devices",
        label="Device",
        help=(
            "What renders. Accelerator and both are stand-ins: the same picture, with simulated "
            "times."
        ),
        kind="choice",
        default="processor",
        suggested=("processor", "accelerator", "both"),
        unit="",
        short="device",
        values=("processor", "accelerator", "both"),
        changes_pixels=False,
        reference=Opening("processor", is_choice=False),
        simulated_values=("accelerator", "both"),
        words=(("accelerator", "accelerator (simulated)"), ("both", "both (simulated)")),
    ),
    Setting(
        key="scene.keep_built",
        group="Caching",
        label="Keep the built scene",
        help=(
            "The next render starts from the scene as it was built for the last one. Costs memory."
        ),
        kind="switch",
        default=False,
        suggested=(False, True),
        unit="",
        short="scene kept",
        changes_pixels=False,
        role=KEEPS_SCENE,
        reference=Opening(True, is_choice=False),
        tried_first=True,
        why_tried="saves rebuilding",
    ),
    Setting(
        key="textures.prepared",
        group="Caching",
        label="Prepared textures",
        help=(
            "Textures are kept on disk in tiles and sizes, made once; a render reads only the "
            "tiles "
            "that it needs."
        ),
        kind="switch",
        default=False,
        suggested=(False, True),
        unit="",
        short="textures prepared",
        needs="textures",
        changes_pixels=False,
        role=PREPARES,
        why_tried="saves converting them",
    ),
    Setting(
        key="textures.max_size",
        group="Caching",
        label="Largest texture",
        help="Larger textures are halved until they fit. Saves memory; fine patterns get softer.",
        kind="whole",
        default=0,
        suggested=(0, 512, 1024, 2048),
        unit="pixels",
        short="textures at most",
        minimum=16,
        maximum=65536,
        off_at_zero=True,
        needs="textures",
        reference=Opening(0),
        why_tried="finer than any pixel needs",
    ),
    Setting(
        key="textures.memory",
        group="Caching",
        label="Memory for textures",
        help=(
            "How much of the prepared textures is held at once. Too little, and tiles are read "
            "again "
            "and again."
        ),
        kind="whole",
        default=256,
        suggested=(16, 64, 256),
        unit="MiB",
        short="texture memory",
        minimum=1,
        maximum=65536,
        neutral_when=("textures.prepared", (False,)),
        needs="textures",
        changes_pixels=False,
    ),
    Setting(
        key="geometry.variant",
        group="Scene choices",
        label="Variant",
        help="Which of the scene's variants is shown. Empty is the file's own choice.",
        kind="text",
        default="",
        suggested=("",),
        unit="",
        short="variant",
        needs="variants",
        words=(("", "as in the file"),),
    ),
    Setting(
        key="geometry.subdivision",
        group="Scene choices",
        label="Subdivision",
        help=(
            "How often every triangle is cut into four. Finer displacement, more memory, longer "
            "building."
        ),
        kind="whole",
        default=0,
        suggested=(0, 1, 2),
        unit="steps",
        short="subdivision",
        minimum=0,
        maximum=6,
    ),
    Setting(
        key="geometry.displacement",
        group="Scene choices",
        label="Displacement",
        help="Whether textures move surfaces, or leave them flat.",
        kind="switch",
        default=True,
        suggested=(True, False),
        unit="",
        short="displacement",
        needs="displacement",
        why_tried="bumps may do",
    ),
    Setting(
        key="volume.scattering",
        group="Scene choices",
        label="Haze",
        help=(
            "How haze is followed: exact without any error, stepped with a chosen step, or left "
            "out."
        ),
        kind="choice",
        default="exact",
        suggested=("exact", "stepped", "off"),
        unit="",
        short="haze",
        values=("exact", "stepped", "off"),
        needs="haze",
        reference=Opening("exact", instead_of=("stepped",)),
        why_tried="steps may be faster than exact",
        part=HAZE_PART,
        cheaper=("stepped",),
    ),
    Setting(
        key="volume.step",
        group="Scene choices",
        label="Haze step",
        help="How far apart stepped haze is looked at. Longer is faster and less exact.",
        kind="number",
        default=0.02,
        suggested=(0.005, 0.02, 0.08),
        unit="metres",
        short="haze step",
        minimum=1e-5,
        maximum=1e6,
        neutral_when=("volume.scattering", ("exact", "off")),
        needs="haze",
        why_tried="longer steps, softer haze",
    ),
    Setting(
        key="camera.depth_of_field",
        group="Scene choices",
        label="Depth of field",
        help="Blurs what is out of focus.",
        kind="switch",
        default=True,
        suggested=(True, False),
        unit="",
        short="depth of field",
        needs="aperture",
        why_tried="blur takes samples",
    ),
    Setting(
        key="camera.motion_blur",
        group="Scene choices",
        label="Motion blur",
        help="Blurs what moves while the shutter is open.",
        kind="switch",
        default=True,
        suggested=(True, False),
        unit="",
        short="motion blur",
        needs="motion",
        why_tried="blur takes samples",
    ),
    Setting(
        key="camera.shutter",
        group="Scene choices",
        label="Shutter",
        help="For which share of a frame the shutter is open.",
        kind="number",
        default=0.5,
        suggested=(0.25, 0.5, 1.0),
        unit="share of a frame",
        short="shutter",
        minimum=0.0,
        maximum=1.0,
        neutral_when=("camera.motion_blur", (False,)),
        needs="motion",
    ),
    Setting(
        key="output.scale",
        group="Output",
        label="Picture scale",
        help="The share of the full width and height that is rendered.",
        kind="number",
        default=1.0,
        suggested=(0.5, 0.75, 1.0),
        unit="",
        short="scale",
        minimum=0.01,
        maximum=4.0,
        role=SCALE,
        reference=Opening(1.0, is_choice=False),
    ),
    Setting(
        key="output.format",
        group="Output",
        label="File format",
        help=(
            "How the finished picture is written. exr-dwaa and jpeg lose a little; png and jpeg "
            "keep "
            "what the view shows."
        ),
        kind="choice",
        default="exr-zip",
        suggested=("exr-zip", "exr-piz", "exr-none", "exr-dwaa", "png-8", "png-16", "jpeg"),
        unit="",
        short="",
        values=("exr-zip", "exr-piz", "exr-none", "exr-dwaa", "png-8", "png-16", "jpeg"),
        same_pixels=("exr-zip", "exr-piz", "exr-none"),
        view_matters_except=("exr-zip", "exr-piz", "exr-none", "exr-dwaa"),
        reference=Opening("exr-zip", is_choice=False),
    ),
)

_SYNONYMS = {
    "samples.max": (
        "spp",
        "quality",
        "render time",
        "rays per pixel",
        "anti-aliasing",
        "AA",
        "oversampling",
        "supersampling",
    ),
    "samples.min": ("spp", "adaptive"),
    "samples.noise_threshold": ("adaptive", "error", "variance"),
    "samples.stop_at_grain": ("convergence", "progressive", "time limit", "render time"),
    "samples.pattern": ("sampler", "sequence", "blue noise", "random"),
    "samples.pixel_filter": ("anti-aliasing", "AA", "reconstruction", "gaussian", "sharpness"),
    "bounces.total": (
        "depth",
        "ray depth",
        "path length",
        "global illumination",
        "gi",
        "render time",
    ),
    "bounces.diffuse": ("SSS", "subsurface scattering", "wax", "skin"),
    "bounces.glossy": ("reflection", "specular"),
    "bounces.transmission": ("glass", "refraction"),
    "bounces.volume": ("fog", "mist", "smoke"),
    "bounces.cutout": ("alpha", "leaves", "opacity"),
    "bounces.roulette_start": ("russian roulette", "termination"),
    "light.clamp_direct": ("fireflies", "firefly", "sparks", "clamping"),
    "light.clamp_indirect": ("fireflies", "firefly", "sparks", "clamping"),
    "light.caustics": ("glass", "reflections", "focused light"),
    "light.roughness_floor": ("blur", "caustics", "fireflies", "firefly"),
    "light.indirect": ("global illumination", "gi", "ambient"),
    "denoise.method": ("denoiser", "noise reduction", "smoothing"),
    "denoise.strength": ("denoiser", "blend", "mix"),
    "denoise.guides": ("auxiliary", "albedo", "normal", "features"),
    "denoise.per_pass": ("light groups", "aov", "components"),
    "tiles.size": ("buckets", "blocks"),
    "tiles.order": ("buckets",),
    "tiles.mode": ("progressive", "buckets"),
    "device.threads": ("cores", "cpu", "processors"),
    "device.kind": ("gpu", "cpu", "accelerator"),
    "scene.keep_built": ("cache", "keep", "acceleration structure", "bvh"),
    "textures.prepared": ("mipmaps", "cache", "tiled"),
    "textures.max_size": ("resolution", "downscale"),
    "textures.memory": ("ram", "cache"),
    "geometry.variant": ("lod", "level of detail", "proxy", "simplify"),
    "geometry.subdivision": ("subdivide", "tessellation"),
    "geometry.displacement": ("bump", "height"),
    "volume.scattering": ("fog", "mist", "haze", "smoke"),
    "volume.step": ("fog", "mist", "haze", "smoke", "step size"),
    "camera.depth_of_field": ("DOF", "bokeh", "focus", "aperture", "lens"),
    "camera.motion_blur": ("shutter",),
    "camera.shutter": ("motion blur", "exposure time"),
    "output.scale": ("resolution", "percentage", "size"),
    "output.format": ("exr", "png", "jpeg", "compression"),
}
_DECLARED = tuple(
    replace(declared, synonyms=_SYNONYMS.get(declared.key, ())) for declared in _DECLARED
)

CATALOGUE = Catalogue(NAME, _DECLARED, ALL)


def configured(values: Mapping[str, object] | None = None) -> Configuration:
    """A configuration of the built-in path tracer; settings not named have their default. Raises
    SettingError."""
    return Configuration(CATALOGUE, values)

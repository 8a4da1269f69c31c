"""What the built-in path tracer can advise from the record of a render, each with its figures and
what would test it.

A finding names what was measured, the trial that would tell, and between which shares of the time
that is expected to save. Those about limits that are not kept stand in `findings_of_errors`. Adding
one means one class and its place in FINDINGS.
"""

import math

from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.findings_of_errors import OF_ERRORS
from swift_sample.core.renderers.costs import bounces_of
from swift_sample.core.renderers.port import Case, Finding, FindingKind
from swift_sample.core.scene.features.objects import NOT_DIVIDED
from swift_sample.core.settings import Setting, Value

LITTLE_LIGHT = 0.005
"""Bounces that bring a smaller share of all light than this, together, are worth leaving out
once."""
WORTH_TIME = 0.03
"""Shares of the time under this are not worth a finding."""
MUCH = 0.3
LARGE = 0.4
"""Shares of the time that one thing takes, from which it stands out: denoising, a material."""
DEAR = 0.08
DEAR_TIMES = 2.5
"""A material is dear that takes more than this share of the time, and so many times its share of
the picture."""
OFTEN = 0.01
"""Share of texture reads that miss, from which it is worth more memory."""
MUCH_MEMORY = 64 << 20
LEAST_MATERIALS = 4
TEXELS_TO_SPARE = 4
TRIANGLES_TO_SPARE = 4
"""Texels across a pixel from which half as many look the same, twice over; triangles on a pixel
from which fewer do."""
LEAST_SPARED = 0.05
"""Share of the time that a noise threshold must be expected to spare to be proposed."""
MARGIN = 0.9
"""Something is proposed where its predicted error stays below this share of the limit."""


class LateBounces:
    """Bounces that could be left out: by the record of this render, what they bring would hardly be
    missed."""

    def look(self, case: Case) -> Finding | None:
        bounces = bounces_of(case.record)
        sampling = case.phase("sampling").share
        limit = case.limits.get("light_shift")
        cap = int(case.settings["bounces.total"])
        missing = case.record.shift_by_bounces

        for value in sorted(int(v) for v in CATALOGUE["bounces.total"].suggested if int(v) < cap):
            later = [bounce for bounce in bounces if bounce.number > value]
            light = sum(b.light_share for b in later)
            time = sum(b.time_share for b in later) * sampling

            if time < WORTH_TIME:
                return None

            if value not in missing or limit is None:
                enough = light < LITTLE_LIGHT
                effect = ""
            else:
                own = case.figures.get("light_shift")
                shift = math.hypot(missing[value], own.value if own is not None else 0.0)
                enough = shift <= MARGIN * limit
                effect = (
                    f" By this render's record the light shift would be about {shift:.1f} "
                    f"levels of {limit:.1f}."
                )

            if enough:
                return Finding(
                    f"After bounce {value} arrives {light:.2%} of the light, for {time:.0%} of the "
                    f"time.{effect} Look at the darkest places before you take it.",
                    time,
                    {"bounces.total": value},
                )

        return None


class UnusedThreshold:
    """A noise threshold that is off, or never triggers."""

    def look(self, case: Case) -> Finding | None:
        threshold = float(case.settings["samples.noise_threshold"])
        samples = case.record.samples
        share = case.phase("sampling").share

        if samples is None or (threshold and samples.share_at_max <= MARGIN):
            return None

        higher = [
            float(v)
            for v in CATALOGUE["samples.noise_threshold"].suggested
            if float(v) > max(threshold, 0.01)
        ]
        spared = {value: share * _samples_spared(case, value) for value in sorted(higher)}
        worth = [value for value in spared if spared[value] >= LEAST_SPARED]

        if not worth or case.settings["tiles.mode"] != "tiles":
            return None

        value = worth[0]
        never = (
            f"{samples.share_at_max:.0%} of the pixels use every sample: the threshold of "
            f"{threshold:g} hardly triggers."
        )
        unset = (
            f"Every pixel takes all {samples.max} samples, also where it is clean early: no "
            "noise threshold is set."
        )

        return Finding(
            never if threshold else unset, spared[value], {"samples.noise_threshold": value}
        )


def _samples_spared(case: Case, threshold: float) -> float:
    """The share of samples that a noise threshold would spare by the render's record; 1 where that
    holds none."""
    replayed = case.record.samples_by_setting.get("samples.noise_threshold", {})
    known = [value for value in replayed if value <= threshold]
    if case.record.samples is None or not known:
        return 1.0

    return max(0.0, 1 - replayed[max(known)][0] / case.record.samples.mean)


class UnusedSamples:
    """A most that the average stays far below."""

    def look(self, case: Case) -> Finding | None:
        samples = case.record.samples
        most = int(case.settings["samples.max"])
        if (
            samples is None
            or not float(case.settings["samples.noise_threshold"])
            or samples.mean > most / 3
        ):
            return None

        fewer = [
            int(v) for v in CATALOGUE["samples.max"].suggested if samples.mean * 1.5 < int(v) < most
        ]
        if not fewer:
            return None

        share = case.phase("sampling").share * samples.share_at_max
        return Finding(
            f"Pixels take {samples.mean:.0f} samples on average of at most {most}; "
            f"{samples.share_at_max:.1%} of "
            "them reach the most.",
            share,
            {"samples.max": max(fewer)},
        )


class GrainToSpare:
    """Fewer samples would still be within every limit on grain, by the record of the render
    itself."""

    def look(self, case: Case) -> Finding | None:
        limit = case.limits.get("grain")
        most = int(case.settings["samples.max"])
        if limit is None or case.settings["denoise.method"] != "none":
            return None

        for count, grain in sorted(case.record.grain_by_samples.items()):
            if count < most and grain <= MARGIN * limit and self._keeps_other_limits(case, grain):
                return Finding(
                    (
                        f"With {count} samples the grain was {grain:.1f} levels of {limit:.1f}; "
                        f"{most} were taken."
                    ),
                    case.phase("sampling").share * (1 - count / most),
                    {"samples.max": int(count)},
                )

        return None

    @staticmethod
    def _keeps_other_limits(case: Case, grain: float) -> bool:
        """Whether grain in the worst place and in watch areas stays inside too, where that of the
        picture is so many levels: it rises in proportion."""
        now = case.figures.get("grain")
        if now is None or now.value <= 0:
            return True

        own = [key for key in case.limits if key.startswith("grain") and key != "grain"]
        there = [
            (figure.value, case.limits[key])
            for key in own
            if (figure := case.figures.get(key)) is not None
        ]
        return all(value * grain / now.value <= MARGIN * limit for value, limit in there)


class ColdStart:
    """Reading and building that a kept scene spares, where it is rendered more than once each time
    it is opened."""

    def look(self, case: Case) -> Finding | None:
        parts = [case.phase(name) for name in ("load", "textures", "build")]
        share = sum(p.share for p in parts)
        seconds = sum(p.amount for p in parts)
        share *= 1 - 1 / case.renders_per_opening

        if share < WORTH_TIME or case.settings["scene.keep_built"]:
            return None

        held = sum(case.record.memory_bytes.values()) / 2**20
        return Finding(
            f"Reading and building the scene takes {seconds:.1f} s of every render; a kept scene "
            f"spares all of {case.renders_per_opening} but the first, for {held:.0f} MiB.",
            share,
            {"scene.keep_built": True},
        )


class SlowTextures:
    """Textures that are converted at every cold start."""

    def look(self, case: Case) -> Finding | None:
        part = case.phase("textures")
        if (
            part.share < WORTH_TIME
            or case.settings["textures.prepared"]
            or case.settings["scene.keep_built"]
        ):
            return None

        return Finding(
            (
                f"Converting textures takes {part.amount:.2f} s, {part.share:.0%} of every render; "
                "prepared ones are made once."
            ),
            part.share,
            {"textures.prepared": True},
        )


class SlowWriting:
    """Compression that costs time."""

    def look(self, case: Case) -> Finding | None:
        part = case.phase("write")
        if part.share < WORTH_TIME or case.settings["output.format"] in (
            "exr-none",
            "exr-dwaa",
            "png-8",
            "png-16",
            "jpeg",
        ):
            return None

        return Finding(
            f"Writing takes {part.amount:.2f} s, {part.share:.0%} of every render, for "
            f"{case.record.picture_bytes / 2**20:.1f} MiB; without compression it is quicker and "
            "larger.",
            part.share,
            {"output.format": "exr-none"},
        )


class CostlyHaze:
    """Scattering in haze that takes much of the time."""

    def look(self, case: Case) -> Finding | None:
        spent = [kinds.get("volume", 0.0) for kinds in case.record.seconds_by_bounce]
        total = sum(sum(kinds.values()) for kinds in case.record.seconds_by_bounce) or 1.0
        share = sum(spent) / total * case.phase("sampling").share

        if share < WORTH_TIME or case.settings["volume.scattering"] != "exact":
            return None

        return Finding(
            f"Rays scattered in haze take {share:.0%} of the time.",
            share,
            {"volume.scattering": "stepped"},
        )


class IdleThreads:
    """Threads that wait for the last tiles."""

    def look(self, case: Case) -> Finding | None:
        waited = case.record.tail_seconds or 0.0
        share = waited / max(case.record.seconds["total"], 1e-9)
        smaller = [
            int(v)
            for v in CATALOGUE["tiles.size"].suggested
            if int(v) < int(case.settings["tiles.size"])
        ]

        if share < WORTH_TIME or not smaller or case.settings["tiles.mode"] != "tiles":
            return None

        return Finding(
            f"For {waited:.2f} s, {share:.0%} of the time, threads only wait for the last tiles.",
            share,
            {"tiles.size": max(smaller)},
        )


class MinimumTooHigh:
    """A fixed minimum of samples that most pixels stop at: they were clean before."""

    def look(self, case: Case) -> Finding | None:
        samples = case.record.samples
        own = int(case.settings["samples.min"])
        if (
            samples is None
            or not float(case.settings["samples.noise_threshold"])
            or own <= 8
            or samples.mean > 1.25 * own
        ):
            return None

        fewer = max(int(v) for v in CATALOGUE["samples.min"].suggested if 0 < int(v) < own)
        return Finding(
            f"Pixels take {samples.mean:.0f} samples on average, hardly more than the minimum of "
            f"{own}: most were clean before that.",
            case.phase("sampling").share * (1 - fewer / own),
            {"samples.min": fewer},
        )


class CostlyDenoising:
    """Denoising that takes much of the time."""

    def look(self, case: Case) -> Finding | None:
        part = case.phase("denoise")
        method = str(case.settings["denoise.method"])
        if part.share < MUCH or method == "none":
            return None

        change: dict[str, Value] = (
            {"denoise.per_pass": False} if case.settings["denoise.per_pass"] else {}
        )
        change = change or (
            {"denoise.method": "wavelet"} if method != "wavelet" else {"denoise.method": "none"}
        )

        return Finding(
            (
                f"Denoising takes {part.amount:.2f} s, {part.share:.0%} of every render, with "
                f"{method}."
            ),
            part.share,
            change,
        )


class TextureMisses:
    """Prepared textures that do not fit the memory given to them."""

    def look(self, case: Case) -> Finding | None:
        reads = case.record.texture_reads
        misses = case.record.texture_misses
        own = int(case.settings["textures.memory"])

        if (
            not reads
            or not misses
            or misses / reads < OFTEN
            or not case.settings["textures.prepared"]
        ):
            return None

        return Finding(
            (
                f"{misses / reads:.1%} of {reads:,} texture reads went to the disk: {own} MiB do "
                "not hold what it needs."
            ),
            case.phase("sampling").share * min(1.0, 10 * misses / reads),
            {"textures.memory": min(4 * own, int(CATALOGUE["textures.memory"].maximum or 4 * own))},
        )


class LargeTextures:
    """Textures that hold more memory than all else, of any size."""

    def look(self, case: Case) -> Finding | None:
        held = case.record.memory_bytes.get("textures", 0)
        width = case.record.size[0]
        total = sum(case.record.memory_bytes.values())
        own = int(case.settings["textures.max_size"])
        smaller = [
            int(v)
            for v in CATALOGUE["textures.max_size"].suggested
            if int(v) >= width and (not own or int(v) < own)
        ]

        if held < MUCH_MEMORY or held < total / 2 or not smaller:
            return None

        return Finding(
            f"Textures hold {held / 2**20:.0f} MiB, {held / total:.0%} of all; in a picture "
            f"{width} pixels wide none is seen "
            f"with more than {min(smaller)} texels across, unless it repeats or is cropped.",
            case.phase("textures").share,
            {"textures.max_size": min(smaller)},
        )


class FineTextures:
    """Pictures of one material with more texels than any pixel shows, as far as the camera itself
    sees them."""

    def look(self, case: Case) -> Finding | None:
        part = case.phase("textures")
        held = case.record.textures
        fine = {name: n for name, n in case.record.texels_a_pixel.items() if n >= TEXELS_TO_SPARE}
        spare = sum(
            t.bytes for t in held if t.materials and all(name in fine for name in t.materials)
        )
        total = sum(case.record.memory_bytes.values())

        if int(case.settings["textures.max_size"]) or (
            part.share < WORTH_TIME and spare < total * MUCH
        ):
            return None

        sizes = {
            name: max((t.bytes for t in held if name in t.materials), default=0) for name in fine
        }
        name = max(sizes, key=lambda one: sizes[one], default="")
        if not name:
            return None

        value = "quarter size" if fine[name] >= 2 * TEXELS_TO_SPARE else "half size"
        setting = _of_part(case, "material", name, value)

        return Finding(
            f"The pictures of {name} have {fine[name]:.0f} texels across a pixel even where it is "
            "nearest to the camera: "
            f"{value} looks the same. They hold {sizes[name] / 2**20:.1f} MiB.",
            part.share * sizes[name] / max(1, sum(t.bytes for t in held)),
            {setting.key: value} if setting is not None else {},
        )


class FineTriangles:
    """An object with several triangles on every pixel that shows it."""

    def look(self, case: Case) -> Finding | None:
        part = case.phase("build")
        own = int(case.settings["geometry.subdivision"])
        name, count = max(
            case.record.triangles_a_pixel.items(), key=lambda pair: pair[1], default=("", 0.0)
        )

        if count < TRIANGLES_TO_SPARE or part.share < WORTH_TIME:
            return None

        text = f"{name} has {count:.0f} triangles on every pixel that shows it"
        if not own:
            return Finding(
                (
                    f"{text}, and building takes {part.share:.0%} of the time: fewer would look "
                    "the same."
                ),
                part.share,
            )

        setting = _of_part(case, "object", name, NOT_DIVIDED)
        change: dict[str, Value] = (
            {setting.key: NOT_DIVIDED} if setting is not None else {"geometry.subdivision": own - 1}
        )
        return Finding(
            f"{text}, as the scene is cut finer {own} time{'s' if own > 1 else ''}.",
            part.share,
            change,
        )


def _of_part(case: Case, kind: str, name: str, value: str) -> Setting | None:
    """The feature of a part of the scene that has this value, where the study has it."""
    for setting in case.settings.catalogue.of_scene:
        part = setting.part
        if part is not None and (part.kind, part.name) == (kind, name) and value in setting.values:
            return setting

    return None


class FewThreads:
    """Fewer threads than the machine has."""

    def look(self, case: Case) -> Finding | None:
        most = CATALOGUE["device.threads"].default
        own = case.record.threads
        if own is None or own >= int(most) or int(case.settings["device.threads"]) >= int(most):
            return None

        share = case.phase("sampling").share * (1 - own / int(most))
        return Finding(
            f"{own} of {most} threads render: the others are idle.",
            share,
            {"device.threads": int(most)},
        )


class CostlyPart:
    """One material that takes most of the time; nothing is proposed, for what would replace it is
    the artist's to say."""

    def look(self, case: Case) -> Finding | None:
        spent = case.record.seconds_by_material
        total = sum(spent.values())
        if len(spent) < LEAST_MATERIALS or total <= 0:
            return None

        name, seconds = max(spent.items(), key=lambda pair: pair[1])
        share = seconds / total * case.phase("sampling").share
        if share < LARGE:
            return None

        kinds: dict[str, float] = {}
        for bounce in case.record.seconds_by_bounce:
            for kind, own in bounce.items():
                kinds[kind] = kinds.get(kind, 0.0) + own

        most = max(kinds, key=lambda kind: kinds[kind]) if kinds else ""
        after = f"; most of all rays' time goes to {most} rays" if most and most != "camera" else ""
        return Finding(
            f"Places where {name} is seen first take {share:.0%} of the time{after}.", share
        )


class DearMaterial:
    """A material that takes far more of the time than of the picture; what to do without is the
    audit's to say."""

    def look(self, case: Case) -> Finding | None:
        spent = case.record.seconds_by_material
        seen = case.record.picture_by_material
        total = sum(spent.values())

        if len(spent) < LEAST_MATERIALS or total <= 0:
            return None

        sampling = case.phase("sampling").share
        shares = {
            name: seconds / total * sampling for name, seconds in spent.items() if seen.get(name)
        }
        dear = {name: share / seen[name] for name, share in shares.items() if DEAR <= share < LARGE}
        name = max(dear, key=lambda name: dear[name], default="")

        if not name or dear[name] < DEAR_TIMES:
            return None

        return Finding(
            f"{name} takes {shares[name]:.0%} of the time for {seen[name]:.1%} of the picture. "
            "By material tells which of its features that pays for.",
            shares[name],
        )


FINDINGS: tuple[FindingKind, ...] = (
    LateBounces(),
    UnusedThreshold(),
    UnusedSamples(),
    GrainToSpare(),
    ColdStart(),
    SlowTextures(),
    SlowWriting(),
    CostlyHaze(),
    IdleThreads(),
    MinimumTooHigh(),
    CostlyDenoising(),
    TextureMisses(),
    LargeTextures(),
    FineTextures(),
    FineTriangles(),
    FewThreads(),
    CostlyPart(),
    DearMaterial(),
    *OF_ERRORS,
)

"""What the built-in path tracer can advise from the record of a render, each with its figures and what would test it.

A finding never says what will be gained; it names what was measured, and the trial that would tell. Adding one means one
class and its place in FINDINGS.
"""

import math

from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.costs import bounces_of
from swift_sample.core.renderers.port import Case, Finding, FindingKind

LITTLE_LIGHT = 0.005
"""Bounces that bring a smaller share of all light than this, together, are worth leaving out once."""
WORTH_TIME = 0.03
"""Shares of the time under this are not worth a finding."""
MARGIN = 0.9
"""Something is proposed where its predicted error stays below this share of the limit."""


class LateBounces:
    """Bounces that could be left out: by the record of this render, what they bring would hardly be missed."""

    def look(self, case: Case) -> Finding | None:
        bounces, sampling, limit = bounces_of(case.record), case.phase("sampling").share, case.limits.get("light_shift")
        cap, missing = int(case.settings["bounces.total"]), case.record.shift_by_bounces
        for value in sorted(int(v) for v in CATALOGUE["bounces.total"].suggested if int(v) < cap):
            later = [bounce for bounce in bounces if bounce.number > value]
            light, time = sum(b.light_share for b in later), sum(b.time_share for b in later) * sampling
            if time < WORTH_TIME:
                return None
            if value not in missing or limit is None:
                enough, effect = light < LITTLE_LIGHT, ""
            else:
                own = case.figures.get("light_shift")
                shift = math.hypot(missing[value], own.value if own is not None else 0.0)
                enough = shift <= MARGIN * limit
                effect = f" By this render's record the light shift would be about {shift:.1f} levels of {limit:.1f}."
            if enough:
                return Finding(
                    f"After bounce {value} arrives {light:.2%} of the light, for {time:.0%} of the time.{effect} "
                    "Look at the darkest places before you take it.",
                    time,
                    {"bounces.total": value},
                )
        return None


class UnusedThreshold:
    """A noise threshold that is off, or never triggers."""

    def look(self, case: Case) -> Finding | None:
        threshold, samples = float(case.settings["samples.noise_threshold"]), case.record.samples
        share = case.phase("sampling").share
        if samples is None or (threshold and samples.share_at_max <= MARGIN):
            return None
        higher = [float(v) for v in CATALOGUE["samples.noise_threshold"].suggested if float(v) > max(threshold, 0.01)]
        if not higher or case.settings["tiles.mode"] != "tiles":
            return None
        never = f"{samples.share_at_max:.0%} of the pixels use every sample: the threshold of {threshold:g} hardly triggers."
        unset = f"Every pixel takes all {samples.max} samples, also where it is clean early: no noise threshold is set."
        return Finding(never if threshold else unset, share, {"samples.noise_threshold": min(higher)})


class UnusedSamples:
    """A most that the average stays far below."""

    def look(self, case: Case) -> Finding | None:
        samples, most = case.record.samples, int(case.settings["samples.max"])
        if samples is None or not float(case.settings["samples.noise_threshold"]) or samples.mean > most / 3:
            return None
        fewer = [int(v) for v in CATALOGUE["samples.max"].suggested if samples.mean * 1.5 < int(v) < most]
        if not fewer:
            return None
        share = case.phase("sampling").share * samples.share_at_max
        return Finding(
            f"Pixels take {samples.mean:.0f} samples on average of at most {most}; {samples.share_at_max:.1%} of "
            "them reach the most.",
            share,
            {"samples.max": max(fewer)},
        )


class GrainToSpare:
    """Fewer samples would still be within the grain limit, by the record of the render itself."""

    def look(self, case: Case) -> Finding | None:
        limit, most = case.limits.get("grain"), int(case.settings["samples.max"])
        if limit is None or case.settings["denoise.method"] != "none":
            return None
        for count, grain in sorted(case.record.grain_by_samples.items()):
            if count < most and grain <= MARGIN * limit:
                return Finding(
                    f"With {count} samples the grain was {grain:.1f} levels of {limit:.1f}; {most} were taken.",
                    case.phase("sampling").share * (1 - count / most),
                    {"samples.max": int(count)},
                )
        return None


class ColdStart:
    """Reading and building that a kept scene spares."""

    def look(self, case: Case) -> Finding | None:
        parts = [case.phase(name) for name in ("load", "textures", "build")]
        share, seconds = sum(p.share for p in parts), sum(p.amount for p in parts)
        if share < WORTH_TIME or case.settings["scene.keep_built"]:
            return None
        held = sum(case.record.memory_bytes.values()) / 2**20
        return Finding(
            f"Reading and building the scene takes {seconds:.1f} s, {share:.0%} of every render; a kept scene "
            f"spares it, for {held:.0f} MiB.",
            share,
            {"scene.keep_built": True},
        )


class SlowTextures:
    """Textures that are converted at every cold start."""

    def look(self, case: Case) -> Finding | None:
        part = case.phase("textures")
        if part.share < WORTH_TIME or case.settings["textures.prepared"] or case.settings["scene.keep_built"]:
            return None
        return Finding(
            f"Converting textures takes {part.amount:.2f} s, {part.share:.0%} of every render; prepared ones are made once.",
            part.share,
            {"textures.prepared": True},
        )


class SlowWriting:
    """Compression that costs time."""

    def look(self, case: Case) -> Finding | None:
        part = case.phase("write")
        if part.share < WORTH_TIME or case.settings["output.format"] in ("exr-none", "exr-dwaa"):
            return None
        return Finding(
            f"Writing takes {part.amount:.2f} s, {part.share:.0%} of every render, for "
            f"{case.record.picture_bytes / 2**20:.1f} MiB; without compression it is quicker and larger.",
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
        return Finding(f"Rays scattered in haze take {share:.0%} of the time.", share, {"volume.scattering": "stepped"})


class IdleThreads:
    """Threads that wait for the last tiles."""

    def look(self, case: Case) -> Finding | None:
        waited = case.record.tail_seconds or 0.0
        share = waited / max(case.record.seconds["total"], 1e-9)
        smaller = [int(v) for v in CATALOGUE["tiles.size"].suggested if int(v) < int(case.settings["tiles.size"])]
        if share < WORTH_TIME or not smaller or case.settings["tiles.mode"] != "tiles":
            return None
        return Finding(
            f"For {waited:.2f} s, {share:.0%} of the time, threads only wait for the last tiles.",
            share,
            {"tiles.size": max(smaller)},
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
)

"""What to do about a picture that fails a limit, and about settings that take light or do nothing.

Each says what was measured and where, and names one trial that would tell; whether it mends the
limit is seen when that is measured (`Finding.mends`).
"""

import math

from swift_sample.core.measure.kinds import WORST_MARK, Figure, place_words
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.falls import fall_of, samples_needed
from swift_sample.core.renderers.port import Case, Finding
from swift_sample.core.renderers.records import RunRecord

LITTLE_LIGHT = 0.005
"""Indirect light under this share of all is not what makes stray pixels."""
MARGIN = 0.95
"""A proposal is meant to come out at this share of a limit."""
LEAST_CLAMPED = 0.3
"""Levels of light shift that a clamp must be seen to cost before it is told although the limit is
kept."""
CLAMPS = ("light.clamp_indirect", "light.clamp_direct")


def over(case: Case, measure: str) -> tuple[str, Figure, float] | None:
    """The limit of a measure that is surely not kept, of the picture or of its worst place, with
    figure and limit."""
    for key in (measure, measure + WORST_MARK):
        figure = case.figures.get(key)
        limit = case.limits.get(key)
        if figure is None or limit is None:
            continue
        if figure.high < limit if measure == "detail_kept" else figure.low > limit:
            return key, figure, limit

    return None


def where(figure: Figure, record: RunRecord) -> str:
    return f" {place_words(figure.place, record.size)}" if figure.place is not None else ""


def next_of(key: str, own: float, up: bool) -> float | None:
    """The next suggested value of a setting above or below its own; None where there is none."""
    values = sorted(
        float(value) for value in CATALOGUE[key].suggested if not isinstance(value, str)
    )
    wanted = [v for v in values if (v > own if up else 0 < v < own)]
    return (min(wanted) if up else max(wanted)) if wanted else None


class TooGrainy:
    """Grain over its limit: how many samples it would take."""

    measure = "grain"

    def look(self, case: Case) -> Finding | None:
        failing = over(case, self.measure)
        if failing is None:
            return None

        key, figure, limit = failing
        needed = samples_needed(
            case.settings, figure, MARGIN * limit, fall_of(case.settings, case.record, self.measure)
        )
        if needed is None:
            return None

        count = min(math.ceil(needed.value), int(CATALOGUE["samples.max"].maximum or needed.value))
        return Finding(
            f"{self.words} {figure.value:.3g} of {limit:.3g}{where(figure, case.record)}. It would "
            f"take about {count} samples ({math.ceil(needed.low)} to {math.ceil(needed.high)}).",
            case.phase("sampling").share,
            {"samples.max": count},
            mends=key,
        )

    words = "Grain is over its limit:"


class StrayPixels(TooGrainy):
    """Stray pixels over their limit: clamping indirect light first, where nothing clamps it and
    there is some."""

    measure = "stray_pixels"
    words = "Stray pixels are over their limit:"

    def look(self, case: Case) -> Finding | None:
        failing = over(case, self.measure)
        if failing is None:
            return None
        if float(case.settings["light.clamp_indirect"]) or not self._from_indirect(case):
            return super().look(case)

        key, figure, limit = failing
        return Finding(
            f"{self.words} {figure.value:.0f} of {limit:.0f} per million. Indirect light is not "
            "clamped, and rays after the "
            "first bounce bring the rarest bright ones; clamping them costs a little light.",
            case.phase("sampling").share,
            {"light.clamp_indirect": 16.0},
            mends=key,
        )

    def _from_indirect(self, case: Case) -> bool:
        light = [sum(colour) for colour in case.record.light_by_bounce]
        return not light or sum(light[1:]) > LITTLE_LIGHT * sum(light)


class DetailLost:
    """Detail over its limit: a denoiser that smooths too much."""

    def look(self, case: Case) -> Finding | None:
        failing = over(case, "detail_kept")
        if failing is None or case.settings["denoise.method"] == "none":
            return None

        key, figure, limit = failing
        softer = next_of("denoise.strength", float(case.settings["denoise.strength"]), up=False)
        change = {"denoise.strength": softer} if softer is not None else {"denoise.method": "none"}

        return Finding(
            (
                f"The denoiser keeps {figure.value:.1f} % of the detail, {limit:.3g} % are "
                f"wanted{where(figure, case.record)}."
            ),
            case.phase("denoise").share,
            change,
            mends=key,
        )


class LightMissing:
    """Light shift over its limit, with the cap that is likely to take the light."""

    def look(self, case: Case) -> Finding | None:
        failing = over(case, "light_shift")
        if failing is None:
            return None

        key, figure, limit = failing
        cause, changes = self._cause(case)
        if not changes:
            return None

        return Finding(
            (
                f"Light shift is {figure.value:.1f} levels of "
                f"{limit:.1f}{where(figure, case.record)}: {cause}."
            ),
            case.phase("sampling").share,
            changes,
            mends=key,
        )

    def _cause(self, case: Case) -> tuple[str, dict[str, float | str]]:
        settings = case.settings
        light = [sum(colour) for colour in case.record.light_by_bounce]
        taken = {key: clamped(case, key) for key in CLAMPS if float(settings[key])}

        if taken and max(taken.values()) > LEAST_CLAMPED:
            clamp = max(taken, key=lambda key: taken[key])
            return f"{_clamp_words(case, clamp)} takes light, {taken[clamp]:.1f} levels of it", {
                clamp: 0.0
            }

        if settings["light.caustics"] != "all":
            return f"caustics are {settings['light.caustics']}", {"light.caustics": "all"}

        own = int(settings["bounces.total"])
        last = light[own] / sum(light) if len(light) > own and sum(light) > 0 else 0.0
        more = next_of("bounces.total", own, up=True) or min(
            2 * own, int(CATALOGUE["bounces.total"].maximum or own)
        )

        if more > own:
            return f"the last bounce of {own} still brings {last:.2%} of the light", {
                "bounces.total": int(more)
            }

        return "", {}


def clamped(case: Case, key: str) -> float:
    """Levels of light shift that the render's own clamp cost, as its record says; 0 where it has
    none, or does not say."""
    return case.record.shift_by_setting.get(key, {}).get(float(case.settings[key]), 0.0)


def _clamp_words(case: Case, key: str) -> str:
    return f"{CATALOGUE[key].label.lower()} at {case.settings[key]:g}"


class ClampedLight:
    """A clamp that takes light although the limit is kept."""

    def look(self, case: Case) -> Finding | None:
        clamp = max(CLAMPS, key=lambda key: clamped(case, key))
        light = case.record.light_by_bounce
        taken = case.record.light_clamped.get(clamp)

        if (
            clamped(case, clamp) < LEAST_CLAMPED
            or not taken
            or over(case, "light_shift") is not None
        ):
            return None

        share = sum(taken) / (sum(taken) + sum(map(sum, light)))
        return Finding(
            f"{_clamp_words(case, clamp).capitalize()} took {share:.1%} of all light in this "
            f"render, about {clamped(case, clamp):.1f} levels of light shift.",
            0.0,
            {clamp: 0.0},
        )


class TooMuchMemory:
    """Memory over its limit, with what holds most of it."""

    def look(self, case: Case) -> Finding | None:
        figure = case.figures.get("memory")
        limit = case.limits.get("memory")
        if figure is None or limit is None or figure.low <= limit or not case.record.memory_bytes:
            return None

        name, size = max(case.record.memory_bytes.items(), key=lambda pair: pair[1])
        changes: dict[str, float | bool] = {}

        if name == "textures" and case.settings["textures.max_size"] != 512:
            smaller = next_of(
                "textures.max_size", float(case.settings["textures.max_size"]) or math.inf, up=False
            )
            changes = {"textures.max_size": int(smaller or 512)}
        elif name in ("geometry", "acceleration") and int(case.settings["geometry.subdivision"]):
            changes = {"geometry.subdivision": int(case.settings["geometry.subdivision"]) - 1}
        elif name in ("geometry", "acceleration") and case.settings["geometry.displacement"]:
            changes = {"geometry.displacement": False}

        words = (
            f"A render holds {figure.value:.0f} MiB of {limit:.0f}; {name} {size / 2**20:.0f} "
            "MiB of it."
        )
        return Finding(words, 0.0, changes, mends="memory")


class NoEffect:
    """Settings of the base that were changed and do nothing here."""

    def look(self, case: Case) -> Finding | None:
        idle = [
            declared
            for key, declared in CATALOGUE.items()
            if declared.neutral_when is not None
            and case.settings[key] != declared.default
            and case.settings.is_idle(declared)
        ]
        if not idle:
            return None

        reasons = []
        for declared in idle:
            assert declared.neutral_when is not None
            because = CATALOGUE[declared.neutral_when[0]]
            reasons.append(
                f"{declared.told(case.settings[declared.key])}, while "
                f"{because.told(case.settings[because.key])}"
            )

        return Finding(f"Set without effect: {'; '.join(reasons)}.", 0.0)


OF_ERRORS = (
    TooGrainy(),
    StrayPixels(),
    DetailLost(),
    LightMissing(),
    ClampedLight(),
    TooMuchMemory(),
    NoEffect(),
)

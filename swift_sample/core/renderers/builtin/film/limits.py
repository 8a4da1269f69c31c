"""What one recorded render says of others with tighter limits: the light that clamps and caps by
kind would take, the grain that clamps would, and the samples that a noise threshold would spare."""

import numpy as np

from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.adaptive import next_target, samples_wanted
from swift_sample.core.renderers.builtin.film.film import (
    FilmArrays,
    pixels_by_cell,
    samples_by_cell,
)
from swift_sample.core.renderers.builtin.lowlevel.records import CLAMPS, KIND_COUNTS, KINDS
from swift_sample.core.renderers.builtin.prediction import CELL_LOSS

CLAMP_KEYS = ("light.clamp_direct", "light.clamp_indirect")
LEAST_CLAMP = 0.25
"""The lowest clamp that is tried on every sample, as a share of what the view shows as full
light."""
THRESHOLDS = tuple(0.002 * 2 ** (k / 2) for k in range(14))
LEAST_SHIFT = 1e-4
"""Levels below which a limit is taken to cost no light."""
LEAST_CHANGE = 1e-4
"""Below which a factor of the grain is taken to be 1."""


def least_clamp(view: View) -> float:
    """The lowest clamp that is tried under a view, in radiance."""
    return float(LEAST_CLAMP * 2.0**-view.exposure)


def light_clamped(film: FilmArrays) -> dict[str, list[float]]:
    """Mean radiance that the render's own clamps took, red, green, blue, by setting; only of those
    that took any."""
    taken = film.clamped[:, :, :, CLAMPS].sum(axis=(0, 1)) / max(1, int(film.samples.sum()))
    return {
        key: [float(c) for c in light]
        for key, light in zip(CLAMP_KEYS, taken, strict=True)
        if light.any()
    }


def shift_by_setting(
    film: FilmArrays, view: View, own_clamps: tuple[float, float]
) -> dict[str, dict[float, float]]:
    """Levels of light shift that each value of a clamp or of a cap by kind is predicted to cost
    against none, by setting.

    Compared are means over cells, as for bounce caps (`prediction`), from the same samples, so that
    their grain hardly counts. `own_clamps` are the render's own, direct and indirect, 0 for off;
    lower ones can be tried beside them. A cap by kind is told up to how often the records count,
    and as far as light was scattered more often.
    """
    count = samples_by_cell(film)[..., None]
    own = film.clamped[:, :, :, CLAMPS].sum(axis=2) / count
    shown = film.by_kind[:, :, 0, 0] / count
    open_levels = view.levels((shown + own).astype(np.float32))
    weights = pixels_by_cell(*film.samples.shape)

    def shift(taken: np.ndarray) -> float:
        off = ((view.levels((shown + own - taken).astype(np.float32)) - open_levels) ** 2).mean(
            axis=2
        )
        return CELL_LOSS * float(np.sqrt((off * weights).sum() / weights.sum()))

    found: dict[str, dict[float, float]] = {}
    for which, (key, own_clamp) in enumerate(zip(CLAMP_KEYS, own_clamps, strict=True)):
        values = _clamps(view) + ([(own_clamp, CLAMPS)] if own_clamp > 0 else [])
        found[key] = {
            value: shift(film.clamped[:, :, which, k] / count) for value, k in sorted(values)
        }

    for kind, name in enumerate(KINDS[:4]):
        by_cap = {
            cap: shift(film.by_kind[:, :, kind, cap + 1 :].sum(axis=2) / count)
            for cap in range(KIND_COUNTS - 1)
            if film.by_kind[:, :, kind, cap + 1 :].any()
        }
        found[f"bounces.{name}"] = {float(cap): levels for cap, levels in by_cap.items()}

    return {
        key: shifts
        for key, shifts in found.items()
        if any(levels > LEAST_SHIFT for levels in shifts.values())
    }


def grain_by_setting(
    film: FilmArrays, view: View, own_clamps: tuple[float, float]
) -> dict[str, dict[float, float]]:
    """How many times the grain of the render each value of a clamp would show, 0 for off, by
    setting; only of clamps that take any. `own_clamps` are as in `shift_by_setting`."""
    distances = film.clamped_grain.sum(axis=(0, 1))
    if distances[-1] <= 0:
        return {}

    factors = np.sqrt(np.maximum(1 + distances[:-1] / distances[-1], 0)).reshape(2, CLAMPS + 1)
    found: dict[str, dict[float, float]] = {}

    for key, own_clamp, by_clamp in zip(CLAMP_KEYS, own_clamps, factors, strict=True):
        own = {own_clamp: 1.0} if own_clamp > 0 else {}
        found[key] = (
            {0.0: float(by_clamp[CLAMPS])}
            | {value: float(by_clamp[k]) for value, k in _clamps(view)}
            | own
        )

    return {
        key: grains
        for key, grains in found.items()
        if any(abs(grain - 1) > LEAST_CHANGE for grain in grains.values())
    }


def _clamps(view: View) -> list[tuple[float, int]]:
    """The clamps that are tried on every sample, and their places."""
    return [(least_clamp(view) * 2**k, k) for k in range(CLAMPS)]


def by_threshold(
    film: FilmArrays, error: np.ndarray, minimum: int, maximum: int, own: float
) -> dict[float, tuple[float, float, float]]:
    """Samples a pixel, grain in levels, and the share of pixels that take all samples, with the
    render's own noise threshold (0 for off), and with each that stops more.

    Every pixel's error is taken to fall with the root of its samples up to the error it has now; it
    stops in the first round after which it has the samples that it wants, as `Rounds.run` would
    stop it. error: float32[h, w], as shares of the display's range.
    """
    done = np.maximum(film.samples, 1).astype(np.float64)
    least = min(minimum, maximum)
    rounds = [least]
    while rounds[-1] < maximum:
        rounds.append(next_target(rounds[-1], least, maximum))

    ends = np.array(rounds, np.float64)
    whole = LEVELS * float(np.sqrt((error.astype(np.float64) ** 2).mean()))
    found = {own: (float(done.mean()), whole, float((done >= maximum).mean()))}

    for threshold in THRESHOLDS:
        if threshold <= own:
            continue
        wanted = np.minimum(samples_wanted(error, film.samples, threshold), done)
        taken = np.minimum(ends[np.minimum(np.searchsorted(ends, wanted), len(ends) - 1)], done)
        grain = LEVELS * float(np.sqrt((error.astype(np.float64) ** 2 * done / taken).mean()))
        found[threshold] = (float(taken.mean()), grain, float((taken >= maximum).mean()))

    return found

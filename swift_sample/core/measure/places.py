"""Places worth watching: where a picture has most grain, has lost most light, most detail, and has
most stray pixels."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter, uniform_filter

from swift_sample.core.measure.cells import cell_side
from swift_sample.core.measure.comparison import luminance
from swift_sample.core.picture.view import View

FINE_SIGMA = 1.0
STRAY_DEVIATIONS = 8.0
STRAY_LEVELS = 24.0
"""A pixel is stray where it differs by so many of the place's usual deviations, and by so many
levels."""
CLEAR_OF_BEST = 0.25
"""A place less worth watching than this share of the best one of its kind in the same picture is
not told."""


@dataclass(frozen=True)
class Place:
    """A part of the picture in pixels, and what it is worth watching for."""

    what: str
    x: int
    y: int
    width: int
    height: int


def places_worth_watching(beauty: np.ndarray, reference: np.ndarray, view: View) -> list[Place]:
    """Up to four places of a picture float32[h, w, 3] against its reference of the same size; no
    two of them the same.

    Each is the cell of an eighth of the height where something is largest: the deviation after the
    smooth part is taken off (grain), the smooth part that is missing (light), the fine structure of
    the reference that is missing (detail), and the count of pixels that stand out from all around
    them (stray pixels).
    """
    shown = luminance(view.levels(beauty))
    true = luminance(view.levels(reference))
    height, width = shown.shape
    side = max(8, min(int(cell_side(height)), width, height))
    off = shown - true
    smooth = gaussian_filter(off, side / 4)
    grain = uniform_filter((off - smooth) ** 2, side)
    usual = np.sqrt(np.maximum(uniform_filter(off * off, side), 1e-6))
    stray = (np.abs(off) > STRAY_LEVELS) & (
        np.abs(off) > STRAY_DEVIATIONS * np.minimum(usual, np.median(usual))
    )
    fine = true - gaussian_filter(true, 4 * FINE_SIGMA)
    kept = gaussian_filter(shown, FINE_SIGMA) - gaussian_filter(shown, 4 * FINE_SIGMA)
    wanted = gaussian_filter(true, FINE_SIGMA) - gaussian_filter(true, 4 * FINE_SIGMA)
    lost = uniform_filter(np.maximum(wanted * wanted - wanted * kept, 0), side) * (
        uniform_filter(fine * fine, side) > 1
    )
    found: list[Place] = []

    for what, map_ in (
        ("most grain", grain),
        ("most light lost", uniform_filter(np.maximum(-smooth, 0), side)),
        ("most detail lost", lost),
        ("most stray pixels", uniform_filter(stray.astype(np.float32), side)),
    ):
        place = _largest(map_, side, found, what)
        if place is not None:
            found.append(place)

    return found


def _largest(map_: np.ndarray, side: int, taken: list[Place], what: str) -> Place | None:
    """Where a map is largest, clear of places that are taken; None where there is nothing of it."""
    height, width = map_.shape
    half = side // 2
    inside = map_[half : height - side + half + 1, half : width - side + half + 1].copy()
    most = float(inside.max(initial=0.0))
    for place in taken:
        inside[max(0, place.y - half) : place.y + half, max(0, place.x - half) : place.x + half] = 0

    if most <= 0 or float(inside.max(initial=0.0)) < CLEAR_OF_BEST * most:
        return None

    row, column = divmod(int(inside.argmax()), inside.shape[1])
    return Place(what, column, row, side, side)

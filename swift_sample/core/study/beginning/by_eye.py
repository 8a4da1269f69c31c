"""Limits by eye: crops of the artist's own picture as it would come out under each limit, to choose
from.

Grain is the picture's own: the difference of its halves, scaled to the levels told, over what a
denoiser makes of it. Smearing blends that clean picture with a blurred one, as far as the detail
measure says that so much is kept. Darkness is the light of late bounces, as the render recorded it,
taken away as far as the light shift measure says.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter, uniform_filter, zoom

from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.measure.figures import MEASURES
from swift_sample.core.measure.intervals import Regions, figure_with_interval, summed
from swift_sample.core.picture.colour import LEVELS, LUMINANCE
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.port import SMOOTH

GRAINS = (1.0, 2.0, 4.0, 8.0)
DETAILS = (95.0, 85.0)
"""Percent of detail kept."""
SHIFTS = (1.0, 2.0)
"""Levels of light shift."""
LATE = 2
"""Bounces from which light counts as late."""
WIDTH = 116
HEIGHT = 66
MOST_DEVIATIONS = 4.0
"""Stray pixels beyond so many deviations are cut off: they have a limit of their own."""
SMEAR_PIXELS = 2.0
WIDE_PIXELS = 12.0
STEPS = 12
DARK = 16.0
"""Levels, beside which structure counts by its share of the brightness."""
FINE_PERCENTILE = 90
"""Structure counts up to this percentile of the picture's: fine texture everywhere rather than one
hard edge."""


@dataclass(frozen=True)
class Crop:
    """A part of the picture with so much error of one measure: uint8[h, w, 3]."""

    measure: str
    value: float
    pixels: np.ndarray


def crops_by_eye(
    picture: Picture, view: View, size: tuple[int, int] = (WIDTH, HEIGHT)
) -> list[Crop]:
    """Crops with each grain, where things stand out from what is around them; with each share of
    detail, where there is most structure; and with each light shift, where late bounces bring most.
    Empty for a picture without halves or a denoised layer."""
    halves = picture.halves
    smooth = picture.layers.get(SMOOTH)
    if halves is None or smooth is None:
        return []

    clean = view.levels(smooth)
    noise = (view.levels(halves[0]) - view.levels(halves[1])) / 2
    width, height = min(size[0], picture.width), min(size[1], picture.height)
    light = clean @ np.asarray(LUMINANCE, np.float32)
    wide = gaussian_filter(light, WIDE_PIXELS)
    grainy = _where_most(
        np.abs(gaussian_filter(light, SMEAR_PIXELS) - wide) / (wide + DARK), width, height
    )
    calm = noise[grainy]
    own = float(np.sqrt((calm**2).mean())) or 1.0
    calm = np.clip(calm, -MOST_DEVIATIONS * own, MOST_DEVIATIONS * own)
    calm = calm / max(float(np.sqrt((calm**2).mean())), 1e-6)
    crops = [Crop("grain", grain, _shown(clean[grainy] + grain * calm)) for grain in GRAINS]
    even = gaussian_filter(light, 1.5)
    fine = np.abs(light - even) / (even + DARK)
    structure = _where_most(np.minimum(fine, np.percentile(fine, FINE_PERCENTILE)), width, height)
    blurred = gaussian_filter(smooth, (SMEAR_PIXELS, SMEAR_PIXELS, 0))

    for kept in DETAILS:
        share = _share_at(kept, "detail_kept", smooth, blurred, view)
        crops.append(
            Crop(
                "detail_kept",
                kept,
                _shown(view.levels((smooth + share * (blurred - smooth))[structure])),
            )
        )

    late = _late_light(picture)
    if late is not None:
        dimmed = np.maximum(smooth - late, 0)
        lost = _where_most(
            (clean - view.levels(dimmed)) @ np.asarray(LUMINANCE, np.float32), width, height
        )

        for shift in SHIFTS:
            if _figure("light_shift", dimmed, smooth, view) > shift:
                share = _share_at(shift, "light_shift", smooth, dimmed, view)
                crops.append(
                    Crop(
                        "light_shift",
                        shift,
                        _shown(view.levels((smooth + share * (dimmed - smooth))[lost])),
                    )
                )

    return crops


def _late_light(picture: Picture) -> np.ndarray | None:
    """What bounces from LATE on brought, float32[h, w, 3], smooth between the record's cells; None
    where it does not tell."""
    layers = [values for name, values in picture.reduced.items() if _bounce(name) >= LATE]
    if not layers:
        return None

    cells = np.sum(layers, axis=0)
    factors = (picture.height / cells.shape[0], picture.width / cells.shape[1], 1)
    late: np.ndarray = zoom(cells, factors, order=1, mode="nearest", grid_mode=True)[
        : picture.height, : picture.width
    ]

    return late.astype(np.float32)


def _bounce(name: str) -> int:
    kind, _, number = name.partition(".")
    return int(number) if kind == "light" and number.isdigit() else -1


def _share_at(
    wanted: float, measure: str, smooth: np.ndarray, worse: np.ndarray, view: View
) -> np.float32:
    """How much of a worse picture may be in it for a figure to be as wanted, by halving."""
    low = 0.0
    high = 1.0
    falls = MEASURES[measure].kind.higher_is_better

    for _ in range(STEPS):
        middle = (low + high) / 2
        found = _figure(measure, smooth + np.float32(middle) * (worse - smooth), smooth, view)
        low, high = (middle, high) if (found > wanted) == falls else (low, middle)

    return np.float32(low)


def _figure(measure: str, picture: np.ndarray, clean: np.ndarray, view: View) -> float:
    """A measure of a picture against a clean one, the whole of them; the best there is where it
    tells nothing."""
    one = MEASURES[measure]
    best = 100.0 if one.kind.higher_is_better else 0.0
    evidence = one.look(Comparison([picture], clean, view, None, None, seeds=False))

    if evidence is None:
        return best

    height, width = picture.shape[:2]
    (sums,) = summed(evidence, [Regions.blocks(0, 0, width, height, 64)])
    figure = figure_with_interval(sums, one.figure)

    return figure.value if figure is not None else best


def _where_most(values: np.ndarray, width: int, height: int) -> tuple[slice, slice]:
    """The crop in which the mean is largest."""
    means = uniform_filter(values, (height, width), mode="constant")
    rows, columns = values.shape
    inner = means[
        height // 2 : rows - (height - height // 2) + 1,
        width // 2 : columns - (width - width // 2) + 1,
    ]
    y, x = np.unravel_index(int(np.argmax(inner)), inner.shape)

    return slice(int(y), int(y) + height), slice(int(x), int(x) + width)


def _shown(levels: np.ndarray) -> np.ndarray:
    shown: np.ndarray = (np.clip(levels, 0, LEVELS) + 0.5).astype(np.uint8)
    return shown

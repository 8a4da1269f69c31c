"""An edge-avoiding wavelet filter, guided by surface colour, direction and distance. Fast enough
for previews.

Dammertz et al. 2010, "Edge-Avoiding A-Trous Wavelet Transform for fast Global Illumination
Filtering". The colour weight is scaled by the grain of each pixel as the two halves show it, in the
manner of Schied et al. 2017, "Spatiotemporal Variance-Guided Filtering", section 4.4. Light is
filtered apart from surface colour, so textures stay.
"""

import numpy as np

from swift_sample.core.kernels.compiling import kernel, row_kernel
from swift_sample.core.kernels.vector import ONE, f32
from swift_sample.core.picture.colour import LUMINANCE
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.guides import LEAST_ALBEDO, SHARPNESS, Guides
from swift_sample.core.renderers.builtin.denoise.rows import (
    add_row,
    clear,
    in_bands,
    repad,
    set_five_sum,
    set_quotient,
    set_scaled_square,
    to_weights,
)

LEVELS = 4
"""Passes of a 3x3 kernel, at steps of 1, 2, 4 and 8 pixels: reaches 15 pixels."""
PAD = 1 << (LEVELS - 1)

COLOUR_TOLERANCE = 2.2
"""Differences of light within about this many standard errors count as grain."""

SPLINE = (0.5, 0.25)
"""The kernel from its centre outwards."""

VARIANCE, BRIGHTNESS, INVERSE = 3, 4, 5
"""Planes of a pass behind those of light: the variance of its brightness, that itself, and what
differences are judged by."""
PLANES = 6
BOX = 2
"""The variance is correction over so many pixels to each side."""


def denoise_wavelet(picture: Picture, guides: Guides | None, threads: int) -> np.ndarray:
    """The smoothed beauty, float32[h, w, 3].

    Needs the layers half_a and half_b. The result does not depend on `threads`.
    """
    height, width = picture.beauty.shape[:2]
    values = guides.values if guides is not None else np.ones((height, width, 7), np.float32)
    features = np.empty(
        (values.shape[2] - 2 if guides is not None else 0, height + 2 * PAD, width + 2 * PAD),
        np.float32,
    )
    now, then = (
        np.empty((PLANES, height + 2 * PAD, width + 2 * PAD), np.float32) for _ in range(2)
    )
    given = [np.ascontiguousarray(picture.layers[name]) for name in ("half_a", "half_b")]
    result = np.ascontiguousarray(picture.beauty)
    in_bands(
        lambda top, bottom: _take_apart(result, *given, values, top, bottom, now, features),
        height,
        threads,
    )
    for planes in (now[:4], features):
        repad(planes, PAD)

    in_bands(
        lambda top, bottom: _steady_variance(
            now, top, bottom, then, np.empty((2, width + 2 * BOX), np.float32)
        ),
        height,
        threads,
    )
    now[VARIANCE] = then[VARIANCE]
    repad(now[VARIANCE:], PAD)

    for level in range(LEVELS):

        def filter_band(
            top: int,
            bottom: int,
            step: int = 1 << level,
            now: np.ndarray = now,
            then: np.ndarray = then,
        ) -> None:
            _filter_rows(now, features, step, top, bottom, then, np.empty((6, width), np.float32))

        in_bands(filter_band, height, threads)
        repad(then, PAD)
        now, then = then, now

    result = np.empty_like(result)
    in_bands(lambda top, bottom: _put_together(now, values, top, bottom, result), height, threads)
    return result


@kernel
def _take_apart(beauty, half_a, half_b, values, top, bottom, now, features):
    """Light apart from surface colour, the squared difference of its halves, and the features, of
    rows [top, bottom).

    A quarter of the squared difference of two independent halves is an unbiased estimate of the
    variance of their mean.
    """
    for row in range(top, bottom):
        y = row + PAD
        for x in range(beauty.shape[1]):
            difference = shade = f32(0)
            for c in range(3):
                albedo = max(values[row, x, c], f32(LEAST_ALBEDO))
                now[c, y, PAD + x] = beauty[row, x, c] / albedo
                difference += f32(LUMINANCE[c]) * (half_a[row, x, c] - half_b[row, x, c]) / albedo
                shade += f32(LUMINANCE[c]) * values[row, x, c]

            now[VARIANCE, y, PAD + x] = difference * difference * f32(0.25)
            if features.shape[0]:
                # One plane for surface colour is enough, since light is taken apart from it.
                features[0, y, PAD + x] = shade * f32(SHARPNESS)
                for c in range(1, features.shape[0]):
                    features[c, y, PAD + x] = values[row, x, c + 2] * f32(SHARPNESS)


@kernel
def _steady_variance(now, top, bottom, then, scratch):
    """The variance averaged over a few pixels goes to `then`; with the plain brightness it
    completes `now`, but for that."""
    width = now.shape[2] - 2 * PAD
    total = scratch[0]

    for row in range(top, bottom):
        y = row + PAD
        clear(total)
        for j in range(-BOX, BOX + 1):
            add_row(total, now[VARIANCE, y + j, PAD - BOX : PAD + width + BOX])

        set_five_sum(scratch[1, :width], total)
        for x in range(width):
            then[VARIANCE, y, PAD + x] = scratch[1, x] * f32(1 / (2 * BOX + 1) ** 2)

        _judge(now, then[VARIANCE, y, PAD : PAD + width], y)


@kernel
def _judge(planes, variance, y):
    """Set brightness and the inverse of tolerated differences in a row of planes with light."""
    for x in range(variance.shape[0]):
        r = planes[0, y, PAD + x]
        g = planes[1, y, PAD + x]
        b = planes[2, y, PAD + x]
        planes[BRIGHTNESS, y, PAD + x] = (
            f32(LUMINANCE[0]) * r + f32(LUMINANCE[1]) * g + f32(LUMINANCE[2]) * b
        )
        planes[INVERSE, y, PAD + x] = ONE / (f32(COLOUR_TOLERANCE**2) * variance[x] + f32(1e-8))


@kernel
def _weigh(weight, now, features, y, v, u, factor):
    """Set how much the pixels of row y go by those of row v from column u on: like in light and in
    features."""
    width = weight.shape[0]
    set_scaled_square(
        weight,
        now[BRIGHTNESS, y, PAD : PAD + width],
        now[BRIGHTNESS, v, u : u + width],
        now[INVERSE, y, PAD : PAD + width],
    )

    if features.shape[0]:
        _add_features(
            weight,
            features[0, y, PAD : PAD + width],
            features[0, v, u : u + width],
            features[1, y, PAD : PAD + width],
            features[1, v, u : u + width],
            features[2, y, PAD : PAD + width],
            features[2, v, u : u + width],
            features[3, y, PAD : PAD + width],
            features[3, v, u : u + width],
            features[4, y, PAD : PAD + width],
            features[4, v, u : u + width],
        )

    to_weights(weight, factor)


@row_kernel
def _add_features(row, a, a2, b, b2, c, c2, d, d2, e, e2):
    """row += the squared distance of five features."""
    for x in range(row.shape[0]):
        p = a[x] - a2[x]
        q = b[x] - b2[x]
        r = c[x] - c2[x]
        s = d[x] - d2[x]
        t = e[x] - e2[x]
        row[x] += p * p + q * q + r * r + s * s + t * t


@row_kernel
def _add_weighted(total, red, green, blue, spread, weight, r, g, b, variance):
    """Add the weights, the light by them, and its variance by their squares."""
    for x in range(total.shape[0]):
        w = weight[x]
        total[x] += w
        red[x] += w * r[x]
        green[x] += w * g[x]
        blue[x] += w * b[x]
        spread[x] += w * w * variance[x]


@kernel
def _filter_rows(now, features, step, top, bottom, then, scratch):
    """One pass with holes of `step` over rows [top, bottom) of the inner part; scratch: float32[6,
    w]."""
    width = scratch.shape[1]
    weight = scratch[0]
    total = scratch[1]
    spread = scratch[5]

    for row in range(top, bottom):
        y = row + PAD
        for k in range(1, 6):
            clear(scratch[k])

        for j in range(-1, 2):
            for i in range(-1, 2):
                v, u = y + j * step, PAD + i * step
                _weigh(weight, now, features, y, v, u, f32(SPLINE[abs(i)] * SPLINE[abs(j)]))

                _add_weighted(
                    total,
                    scratch[2],
                    scratch[3],
                    scratch[4],
                    spread,
                    weight,
                    now[0, v, u : u + width],
                    now[1, v, u : u + width],
                    now[2, v, u : u + width],
                    now[VARIANCE, v, u : u + width],
                )

        for c in range(3):
            set_quotient(then[c, y, PAD : PAD + width], scratch[2 + c], total)

        for x in range(width):
            then[VARIANCE, y, PAD + x] = spread[x] / (total[x] * total[x])

        _judge(then, then[VARIANCE, y, PAD : PAD + width], y)


@kernel
def _put_together(now, values, top, bottom, result):
    """The light times the surface colour, of rows [top, bottom)."""
    for row in range(top, bottom):
        for x in range(result.shape[1]):
            for c in range(3):
                result[row, x, c] = now[c, row + PAD, PAD + x] * max(
                    values[row, x, c], f32(LEAST_ALBEDO)
                )

"""An edge-avoiding wavelet filter, guided by surface colour, direction and distance. Fast enough for previews.

Dammertz et al. 2010, "Edge-Avoiding A-Trous Wavelet Transform for fast Global Illumination Filtering". The colour
weight is scaled by the grain of each pixel as the two halves show it, in the manner of Schied et al. 2017,
"Spatiotemporal Variance-Guided Filtering", section 4.4. Light is filtered apart from surface colour, so textures stay.
"""

import numpy as np
from scipy.ndimage import uniform_filter

from swift_sample.core.compiling import kernel
from swift_sample.core.denoise.guides import LEAST_ALBEDO, SHARPNESS, Guides
from swift_sample.core.denoise.rows import (
    add_product,
    add_row,
    add_square_product,
    add_squared,
    clear,
    in_bands,
    picture_of,
    planes_of,
    repad,
    set_quotient,
    set_scaled_square,
    to_weights,
)
from swift_sample.core.render.film import Picture
from swift_sample.core.render.vector import f32
from swift_sample.core.view import LUMINANCE

LEVELS = 4
"""Passes of a 3x3 kernel, at steps of 1, 2, 4 and 8 pixels: reaches 15 pixels."""
PAD = 1 << (LEVELS - 1)

COLOUR_TOLERANCE = 2.2
"""Differences of light within about this many standard errors count as grain."""

SPLINE = (0.5, 0.25)
"""The kernel from its centre outwards."""


def denoise_wavelet(picture: Picture, guides: Guides | None, threads: int) -> np.ndarray:
    """The smoothed beauty, float32[h, w, 3].

    Needs the layers half_a and half_b. The result does not depend on `threads`.
    """
    layers = picture.layers
    albedo = np.maximum(guides.albedo, LEAST_ALBEDO) if guides is not None else np.ones((1, 1, 3), np.float32)
    light = planes_of(picture.beauty / albedo, PAD)
    variance = np.pad(_variance_of_light(layers["half_a"] / albedo, layers["half_b"] / albedo), PAD, mode="edge")
    features = light[:0]
    if guides is not None:
        # One plane for surface colour is enough, since light is taken apart from it.
        features = planes_of(guides.values[..., 2:], PAD)
        features[0, PAD:-PAD, PAD:-PAD] = guides.albedo @ LUMINANCE
        features *= np.float32(SHARPNESS)
        repad(features[0], PAD)
    height, width = picture.beauty.shape[:2]
    for level in range(LEVELS):
        brightness = np.tensordot(LUMINANCE, light, 1)
        inverse = 1 / (np.float32(COLOUR_TOLERANCE**2) * variance + np.float32(1e-8))
        smooth, left = np.empty_like(light), np.empty_like(variance)

        def filter_band(top: int, bottom: int, step: int = 1 << level, light: np.ndarray = light,
                        brightness: np.ndarray = brightness, variance: np.ndarray = variance,
                        inverse: np.ndarray = inverse, smooth: np.ndarray = smooth, left: np.ndarray = left) -> None:
            _filter_rows(light, brightness, variance, inverse, features, step, top, bottom, smooth, left,
                         np.empty((6, width), np.float32))

        in_bands(filter_band, height, threads)
        repad(smooth, PAD)
        repad(left, PAD)
        light, variance = smooth, left
    return picture_of(light, PAD) * albedo


def _variance_of_light(half_a: np.ndarray, half_b: np.ndarray) -> np.ndarray:
    """The variance of the mean of the halves, as luminance, steadied over a few pixels; float32[h, w].

    A quarter of the squared difference of two independent halves is an unbiased estimate.
    """
    difference = (half_a - half_b) @ LUMINANCE
    return uniform_filter(difference * difference * np.float32(0.25), 5).astype(np.float32)


@kernel
def _filter_rows(light, brightness, variance, inverse, features, step, top, bottom, smooth, left, scratch):
    """One pass with holes of `step` over rows [top, bottom) of the inner part; scratch: float32[6, w]."""
    width = scratch.shape[1]
    weight, total = scratch[0], scratch[1]
    spread = scratch[5]
    for row in range(top, bottom):
        y = row + PAD
        for k in range(1, 6):
            clear(scratch[k])
        for j in range(-1, 2):
            for i in range(-1, 2):
                v, u = y + j * step, PAD + i * step
                set_scaled_square(weight, brightness[y, PAD : PAD + width], brightness[v, u : u + width],
                                  inverse[y, PAD : PAD + width])
                for k in range(features.shape[0]):
                    add_squared(weight, features[k, y, PAD : PAD + width], features[k, v, u : u + width])
                to_weights(weight, f32(SPLINE[abs(i)] * SPLINE[abs(j)]))
                add_row(total, weight)
                for c in range(3):
                    add_product(scratch[2 + c], weight, light[c, v, u : u + width])
                add_square_product(spread, weight, variance[v, u : u + width])
        for c in range(3):
            set_quotient(smooth[c, y, PAD : PAD + width], scratch[2 + c], total)
        for x in range(width):
            left[y, PAD + x] = spread[x] / (total[x] * total[x])

"""An edge-avoiding wavelet filter, guided by surface colour and direction. Fast enough for previews.

Dammertz et al. 2010, "Edge-Avoiding A-Trous Wavelet Transform for fast Global Illumination Filtering". The colour
weight is scaled by the grain of each pixel as the two halves show it, in the manner of Schied et al. 2017,
"Spatiotemporal Variance-Guided Filtering", section 4.4. Light is filtered apart from surface colour, so textures stay.
"""

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from scipy.ndimage import gaussian_filter

from swift_sample.core.compiling import kernel
from swift_sample.core.render.film import Picture

LEVELS = 4
"""Passes, at steps of 1, 2, 4 and 8 pixels: reaches 31 pixels."""

COLOUR_TOLERANCE = 2.5
"""Differences of light within this many standard errors count as grain."""

NORMAL_SHARPNESS = 48.0
"""Exponent of the cosine between normals (Schied et al. use 128 with noise-free normals)."""

ALBEDO_TOLERANCE = 0.08
"""Difference in surface colour, 0 to 1, at which the weight has fallen to 1/e."""

LEAST_ALBEDO = 0.02
"""Surface colours darker than this are not divided out any further."""

SPLINE = np.array([3 / 8, 1 / 4, 1 / 16], np.float32)
"""The B3-spline kernel from its centre outwards."""

BAND_ROWS = 16


def denoise_wavelet(picture: Picture, guides: bool, threads: int) -> np.ndarray:
    """The smoothed beauty, float32[h, w, 3].

    Needs the layers half_a, half_b, albedo and normal. The result does not depend on `threads`.
    """
    layers = picture.layers
    albedo = np.maximum(layers["albedo"], LEAST_ALBEDO) if guides else np.ones_like(picture.beauty)
    light = np.ascontiguousarray(picture.beauty / albedo, np.float32)
    variance = _variance_of_light(layers["half_a"] / albedo, layers["half_b"] / albedo)
    colours = np.ascontiguousarray(layers["albedo"], np.float32)
    normals = np.ascontiguousarray(layers["normal"], np.float32)
    height = light.shape[0]
    bands = [(top, min(top + BAND_ROWS, height)) for top in range(0, height, BAND_ROWS)]
    with ThreadPoolExecutor(threads) as pool:
        for level in range(LEVELS):
            smooth, left = np.empty_like(light), np.empty_like(variance)

            def filter_band(band: tuple[int, int], step: int = 1 << level, light: np.ndarray = light,
                            variance: np.ndarray = variance, smooth: np.ndarray = smooth,
                            left: np.ndarray = left) -> None:
                _filter_rows(light, variance, colours, normals, guides, step, band[0], band[1], smooth, left)

            list(pool.map(filter_band, bands))
            light, variance = smooth, left
    return light * albedo


def _variance_of_light(half_a: np.ndarray, half_b: np.ndarray) -> np.ndarray:
    """The variance of the mean of the halves, as luminance, steadied over a few pixels; float32[h, w].

    A quarter of the squared difference of two independent halves is an unbiased estimate.
    """
    difference = (half_a - half_b) @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    return gaussian_filter(difference * difference * np.float32(0.25), 1.5).astype(np.float32)


@kernel
def _luminance(light, y, x):
    return np.float32(0.2126) * light[y, x, 0] + np.float32(0.7152) * light[y, x, 1] + np.float32(0.0722) * light[y, x, 2]


@kernel
def _guide_weight(colours, normals, y, x, v, u):
    """How much two pixels seem to show the same surface, 0 to 1."""
    cosine = np.float32(0)
    change = np.float32(0)
    has_normal = np.float32(0)
    for c in range(3):
        cosine += normals[y, x, c] * normals[v, u, c]
        has_normal += abs(normals[y, x, c]) + abs(normals[v, u, c])
        change += (colours[y, x, c] - colours[v, u, c]) ** 2
    if has_normal == np.float32(0):
        cosine = np.float32(1)
    if cosine <= np.float32(0):
        return np.float32(0)
    exponent = np.float32(NORMAL_SHARPNESS) * math.log(min(cosine, np.float32(1)))
    return math.exp(exponent - change / np.float32(ALBEDO_TOLERANCE * ALBEDO_TOLERANCE))


@kernel
def _filter_rows(light, variance, colours, normals, guides, step, top, bottom, smooth, left):
    """One pass of the 5x5 B3-spline kernel with holes of `step` over rows [top, bottom)."""
    height, width = variance.shape
    for y in range(top, bottom):
        for x in range(width):
            own = _luminance(light, y, x)
            scale = np.float32(1) / (np.float32(COLOUR_TOLERANCE) * math.sqrt(variance[y, x]) + np.float32(1e-4))
            total = np.float32(0)
            red = green = blue = spread = np.float32(0)
            for j in range(-2, 3):
                v = y + j * step
                if v < 0 or v >= height:
                    continue
                for i in range(-2, 3):
                    u = x + i * step
                    if u < 0 or u >= width:
                        continue
                    weight = SPLINE[abs(i)] * SPLINE[abs(j)]
                    if i != 0 or j != 0:
                        weight *= math.exp(-abs(own - _luminance(light, v, u)) * scale)
                        if guides:
                            weight *= _guide_weight(colours, normals, y, x, v, u)
                    total += weight
                    red += weight * light[v, u, 0]
                    green += weight * light[v, u, 1]
                    blue += weight * light[v, u, 2]
                    spread += weight * weight * variance[v, u]
            smooth[y, x, 0], smooth[y, x, 1], smooth[y, x, 2] = red / total, green / total, blue / total
            left[y, x] = spread / (total * total)

"""What denoisers are guided by: surface colour, direction and distance, cleaned where they are
noisy themselves.

Behind a moving or blurred edge, or through glass, a pixel's guides are means of few samples. The
two halves of the samples show how uncertain they are, and cleaning them by non-local means keeps
them from pulling grain into the picture (Rousselle et al. 2013, "Robust Denoising using Feature and
Color Information", section 4).
"""

from dataclasses import dataclass

import numpy as np

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import ZERO, f32
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.patches import denoise_by_itself
from swift_sample.core.renderers.builtin.denoise.rows import in_bands

NORMAL_SCALE = 0.5
DEPTH_SCALE = 0.3
"""So much do normals and relative depths count beside surface colours."""

SHARPNESS = 9.0
"""How fast weights fall with differences of the guides."""

LEAST_ALBEDO = 0.02
"""Surface colours darker than this are not divided out of the light any further."""

NOISY = 1e-4
"""Guides of a smaller variance than this, on average, are left as they are."""


@dataclass(frozen=True)
class Guides:
    """float32[h, w, 7]: surface colour, normal, relative depth; scaled so that a difference of one
    is large."""

    values: np.ndarray

    @property
    def albedo(self) -> np.ndarray:
        return self.values[..., :3]


def guides_of(picture: Picture, threads: int) -> Guides:
    """Cleaned guides from a picture's layers."""
    layers = picture.layers
    values = _joined(layers["albedo"], layers["normal"], layers["depth"], threads)
    if "guides_half" not in layers:
        return Guides(values)

    half = layers["guides_half"]
    other = _joined(half[..., :3], half[..., 3:6], half[..., 6], threads)
    variance = np.empty_like(values)
    in_bands(
        lambda top, bottom: _mean_squares(values, other, variance, top, bottom),
        len(values),
        threads,
    )

    if variance.mean() < NOISY:
        return Guides(values)

    return Guides(denoise_by_itself(values, variance, threads))


def _joined(albedo: np.ndarray, normal: np.ndarray, depth: np.ndarray, threads: int) -> np.ndarray:
    joined = np.empty((*depth.shape, 7), np.float32)

    def join(top: int, bottom: int) -> None:
        rows = slice(top, bottom)
        joined[rows, :, :3] = albedo[rows]
        joined[rows, :, 3:6] = normal[rows] * np.float32(NORMAL_SCALE)
        joined[rows, :, 6] = np.log2(np.maximum(depth[rows], np.float32(1e-3))) * np.float32(
            DEPTH_SCALE
        )

    in_bands(join, len(joined), threads)
    return joined


@kernel
def _mean_squares(values, other, means, top, bottom):  # type: ignore[no-untyped-def]
    """The squared difference of one half's mean from that of both, half of that between the halves,
    averaged over 3x3 pixels, of rows [top, bottom)."""
    height, width, channels = values.shape
    for y in range(top, bottom):
        for x in range(width):
            for c in range(channels):
                total = ZERO
                for j in range(-1, 2):
                    for i in range(-1, 2):
                        v, u = min(max(y + j, 0), height - 1), min(max(x + i, 0), width - 1)
                        difference = values[v, u, c] - other[v, u, c]
                        total += difference * difference

                means[y, x, c] = total / f32(9)

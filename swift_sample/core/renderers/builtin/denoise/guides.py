"""What denoisers are guided by: surface colour, direction and distance, cleaned where they are noisy themselves.

Behind a moving or blurred edge, or through glass, a pixel's guides are means of few samples. The two halves of the samples
show how uncertain they are, and cleaning them by non-local means keeps them from pulling grain into the picture
(Rousselle et al. 2013, "Robust Denoising using Feature and Color Information", section 4).
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter

from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.patches import denoise_by_itself

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
    """float32[h, w, 7]: surface colour, normal, relative depth; scaled so that a difference of one is large."""

    values: np.ndarray

    @property
    def albedo(self) -> np.ndarray:
        return self.values[..., :3]


def guides_of(picture: Picture, threads: int) -> Guides:
    """Cleaned guides from a picture's layers."""
    layers = picture.layers
    values = _joined(layers["albedo"], layers["normal"], layers["depth"])
    if "guides_half" not in layers:
        return Guides(values)
    half = layers["guides_half"]
    other = _joined(half[..., :3], half[..., 3:6], half[..., 6])
    # The kept half against the mean of both: their difference is half of that between the halves.
    squared = (values - other) ** 2
    variance = uniform_filter(squared, (3, 3, 0))
    if variance.mean() < NOISY:
        return Guides(values)
    return Guides(denoise_by_itself(values, variance.astype(np.float32), threads))


def _joined(albedo: np.ndarray, normal: np.ndarray, depth: np.ndarray) -> np.ndarray:
    relative = np.log2(np.maximum(depth, 1e-3)) * DEPTH_SCALE
    return np.dstack([albedo, normal * NORMAL_SCALE, relative]).astype(np.float32)

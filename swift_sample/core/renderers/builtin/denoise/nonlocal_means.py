"""Non-local means on the two halves of the samples: each half is averaged by weights that the other
one gives.

Buades et al. 2005, "A non-local algorithm for image denoising"; with grain taken off the distances
and the halves crossed as Rousselle et al. 2012, "Adaptive Rendering with Non-Local Means
Filtering", equations 3 to 5. Weights come from patches of 5x5 pixels, over a window of 13x13, and
guides can only lower them (Rousselle et al. 2013, section 5).
"""

import numpy as np
from scipy.ndimage import uniform_filter

from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.guides import LEAST_ALBEDO, SHARPNESS, Guides
from swift_sample.core.renderers.builtin.denoise.patches import (
    PAD,
    SEARCH,
    Likeness,
    average_by_likeness,
)
from swift_sample.core.renderers.builtin.denoise.rows import picture_of, planes_of


def denoise_nonlocal(picture: Picture, guides: Guides | None, threads: int) -> np.ndarray:
    """The smoothed beauty, float32[h, w, 3]; needs the layers half_a and half_b. Does not depend on
    `threads`."""
    half_a, half_b = denoise_halves(picture, guides, threads)
    return (half_a + half_b) * np.float32(0.5)


def denoise_halves(
    picture: Picture, guides: Guides | None, threads: int
) -> tuple[np.ndarray, np.ndarray]:
    """Both halves smoothed, each by the weights of the other; their difference tells the grain that
    is left."""
    return denoise_frames([picture], [guides], threads)


def denoise_frames(
    frames: list[Picture], guides: list[Guides | None], threads: int
) -> tuple[np.ndarray, np.ndarray]:
    """Both halves of the first of several frames, smoothed by what is alike in all of them."""
    sides = [_sides(frame, guide) for frame, guide in zip(frames, guides, strict=True)]
    shown = guides[0]
    albedo = _albedo(shown)
    smooth_a = average_by_likeness(sides[0][1], [(b, a.guide) for a, b in sides], SEARCH, threads)
    smooth_b = average_by_likeness(sides[0][0], [(a, b.guide) for a, b in sides], SEARCH, threads)

    return picture_of(smooth_a, PAD) * albedo, picture_of(smooth_b, PAD) * albedo


def _albedo(guides: Guides | None) -> np.ndarray:
    return (
        np.maximum(guides.albedo, LEAST_ALBEDO)
        if guides is not None
        else np.ones((1, 1, 3), np.float32)
    )


def _sides(picture: Picture, guides: Guides | None) -> tuple[Likeness, Likeness]:
    """Both halves of the light, apart from surface colour, and what they are compared by."""
    albedo = _albedo(guides)
    half_a = picture.layers["half_a"] / albedo
    half_b = picture.layers["half_b"] / albedo
    variance = planes_of(half_variance(half_a, half_b), PAD)
    features = (
        planes_of(guides.values * np.float32(SHARPNESS), PAD)
        if guides is not None
        else variance[:0]
    )

    return Likeness(planes_of(half_a, PAD), variance, features), Likeness(
        planes_of(half_b, PAD), variance, features
    )


def half_variance(half_a: np.ndarray, half_b: np.ndarray) -> np.ndarray:
    """Variance of one half by channel, correction over 5x5 pixels: half the squared difference."""
    difference = half_a - half_b
    return uniform_filter(difference * difference * np.float32(0.5), (5, 5, 0)).astype(np.float32)

"""A perceptual difference: pictures as the eye blurs them, compared in a space of even colour
steps.

Zhang and Wandell 1997, "A spatial extension of CIELAB for digital color-image reproduction",
Journal of the SID 5(1): the display's light is split into a light-dark, a red-green and a
blue-yellow plane, each is blurred as the eye resolves it at a viewing distance, and the CIELAB
colour difference (CIE 15:2018, equation 8.20) is taken pixel by pixel.
"""

import numpy as np

from swift_sample.core.measure.blurring import blur
from swift_sample.core.measure.rows import TABLE_STEPS, set_distances, set_lab, set_opponents
from swift_sample.core.picture.colour import LEVELS, srgb_decoded

PIXELS_PER_DEGREE = 60.0
"""A display as far away as its pixels are just told apart."""

_XYZ = np.array(
    [[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]], np.float32
)
"""Linear Rec. 709 to XYZ (IEC 61966-2-1)."""
_OPPONENT = np.array(
    [[0.279, 0.72, -0.107], [-0.449, 0.29, -0.077], [0.086, -0.59, 0.501]], np.float32
)
_SPLIT = _OPPONENT @ _XYZ
_BACK = np.linalg.inv(_OPPONENT).astype(np.float32) / _XYZ.sum(axis=1)[:, None]
"""Opponent planes to XYZ as shares of the white."""
_SHARE = np.arange(int(LEVELS) * TABLE_STEPS + 1) / (LEVELS * TABLE_STEPS)
_LINEAR = srgb_decoded(_SHARE).astype(np.float32)
"""Display light by 64ths of a level (IEC 61966-2-1)."""
_KERNELS = (
    ((0.921, 0.0283), (0.105, 0.133), (-0.108, 4.336)),
    ((0.531, 0.0392), (0.330, 0.494)),
    ((0.488, 0.0536), (0.371, 0.386)),
)
"""For each plane weights, to be scaled to a sum of 1, and spreads in degrees of visual angle (their
table 1)."""


def colour_difference(levels: np.ndarray, reference: np.ndarray) -> np.ndarray:
    """Differences in CIELAB units, float32[h, w]; about 1 can just be seen. levels, reference:
    float32[h, w, 3], 0 to 255."""
    difference = np.empty(levels.shape[:2], np.float32)
    set_distances(
        difference.ravel(), *(seen(picture).reshape(3, -1) for picture in (levels, reference))
    )
    return difference


def seen(levels: np.ndarray) -> np.ndarray:
    """CIELAB of a picture as the eye blurs it, float32[3, h, w]. Spreads are those of exp(-r^2 /
    spread^2)."""
    planes = np.empty((3, *levels.shape[:2]), np.float32)
    set_opponents(
        planes.reshape(3, -1),
        np.ascontiguousarray(levels, np.float32).reshape(-1, 3),
        _LINEAR,
        _SPLIT,
    )

    for plane, kernel in zip(planes, _KERNELS, strict=True):
        total = sum(weight for weight, _ in kernel)
        plane[...] = sum(
            np.float32(weight / total) * blur(plane, spread * PIXELS_PER_DEGREE / 2**0.5)
            for weight, spread in kernel
        )

    set_lab(planes.reshape(3, -1), _BACK)
    return planes

"""A perceptual difference: pictures as the eye blurs them, compared in a space of even colour steps.

Zhang and Wandell 1997, "A spatial extension of CIELAB for digital color-image reproduction", Journal of the SID 5(1): the
display's light is split into a light-dark, a red-green and a blue-yellow plane, each is blurred as the eye resolves it at a
viewing distance, and the CIELAB colour difference (CIE 15:2018, equation 8.20) is taken pixel by pixel.
"""

import numpy as np

from swift_sample.core.measure.blurring import blur
from swift_sample.core.view import LEVELS

PIXELS_PER_DEGREE = 60.0
"""A display as far away as its pixels are just told apart."""

_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]], np.float32)
"""Linear Rec. 709 to XYZ (IEC 61966-2-1)."""
_OPPONENT = np.array([[0.279, 0.72, -0.107], [-0.449, 0.29, -0.077], [0.086, -0.59, 0.501]], np.float32)
_BACK = np.linalg.inv(_OPPONENT).astype(np.float32)
_WHITE = _XYZ.sum(axis=1)
_STEPS = 64
_SHARE = np.arange(int(LEVELS) * _STEPS + 1) / (LEVELS * _STEPS)
_LINEAR = np.where(_SHARE <= 0.04045, _SHARE / 12.92, ((_SHARE + 0.055) / 1.055) ** 2.4).astype(np.float32)
"""Display light by 64ths of a level (IEC 61966-2-1)."""
_KERNELS = (((0.921, 0.0283), (0.105, 0.133), (-0.108, 4.336)), ((0.531, 0.0392), (0.330, 0.494)),
            ((0.488, 0.0536), (0.371, 0.386)))
"""For each plane weights, to be scaled to a sum of 1, and spreads in degrees of visual angle (their table 1)."""


def colour_difference(levels: np.ndarray, reference: np.ndarray) -> np.ndarray:
    """Differences in CIELAB units, float32[h, w]; about 1 can just be seen. levels, reference: float32[h, w, 3], 0 to 255."""
    difference = seen(levels) - seen(reference)
    return np.sqrt((difference * difference).sum(axis=2))


def seen(levels: np.ndarray) -> np.ndarray:
    """CIELAB of a picture as the eye blurs it, float32[h, w, 3]. Spreads are those of exp(-r^2 / spread^2)."""
    linear = _LINEAR[np.clip(levels * np.float32(_STEPS), 0, len(_LINEAR) - 1).astype(np.uint16)]
    planes = linear @ (_OPPONENT @ _XYZ).T
    blurred = np.empty_like(planes)
    for k, kernel in enumerate(_KERNELS):
        total = sum(weight for weight, _ in kernel)
        blurred[..., k] = sum(np.float32(weight / total) * blur(planes[..., k], spread * PIXELS_PER_DEGREE / 2**0.5)
                              for weight, spread in kernel)
    x = np.maximum(blurred @ _BACK.T / _WHITE, 0)
    f = np.where(x > (6 / 29) ** 3, np.cbrt(x), x * np.float32((29 / 6) ** 2 / 3) + np.float32(4 / 29))
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], -1)

"""The view's arithmetic (view.py) as kernels: for one value, and for all of a picture."""

import numpy as np
from numba import uint32

from swift_sample.core.kernels.bits import bits_of, float_of
from swift_sample.core.kernels.compiling import kernel, row_kernel
from swift_sample.core.picture.colour import LEVELS, SOFT_WHITE

f32 = np.float32
ZERO = f32(0)
ONE = f32(1)


@kernel
def cube_root(x):
    """Of a normal number above 0, to float32's precision: a guess from the exponent, refined twice
    after Halley."""
    root = float_of(uint32(bits_of(x) // uint32(3) + uint32(0x2A5137A0)))
    for _ in range(2):
        cube = root * root * root
        root = root * (cube + x + x) / (cube + cube + x)

    return root


@kernel
def displayed(light, gain, soft):
    """The view of a value as a share of the display's range: exposure, curve, sRGB (IEC 61966-2-1),
    clipping."""
    x = max(light * gain, ZERO)
    if soft:
        x = x * (ONE + x * f32(1 / SOFT_WHITE**2)) / (ONE + x)

    x = min(x, ONE)
    # x^(1/2.4) is the fourth root times the sixth root; both branches are worked out, so that rows
    # need no jumps.
    root = np.sqrt(max(x, f32(0.003)))
    curved = f32(1.055) * np.sqrt(root) * cube_root(root) - f32(0.055)

    return x * f32(12.92) if x <= f32(0.0031308) else curved


@row_kernel
def set_levels(levels, light, gain, soft):
    """levels = 255 times the view of light."""
    for k in range(levels.shape[0]):
        levels[k] = displayed(light[k], gain, soft) * f32(LEVELS)

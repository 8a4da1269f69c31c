"""Numbers of light and colour that everything shares: linear Rec. 709 light, display levels, and
what lies between."""

import numpy as np

LEVELS = 255.0
"""The brightest display level."""

_SHARES = (0.2126, 0.7152, 0.0722)
LUMINANCE = np.array(_SHARES, np.float32)
"""Shares of red, green and blue: ITU-R BT.709-6, item 3.2."""

SOFT_WHITE = 4.0
"""Scene value that the soft curve maps to display white."""


def luminance(rgb: np.ndarray) -> np.ndarray:
    """float64[...] of linear light or display levels [..., 3]."""
    found: np.ndarray = rgb @ np.array(_SHARES)
    return found


def srgb_decoded(shown: np.ndarray) -> np.ndarray:
    """Linear light of sRGB values from 0 to 1, of any shape and the same float type (IEC
    61966-2-1)."""
    x = np.asarray(shown)
    return np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)


def srgb_encoded(light: np.ndarray) -> np.ndarray:
    """The inverse: sRGB values of linear light from 0 to 1, of any shape (IEC 61966-2-1)."""
    x = np.asarray(light)
    return np.where(
        x <= 0.0031308, x * 12.92, 1.055 * np.maximum(x, 0.0031308) ** (1 / 2.4) - 0.055
    )

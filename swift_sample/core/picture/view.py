"""The view: exposure and tone curve through which pictures are shown and measured.

D(x) = 255 * view(x), in levels, not rounded. The steps are exposure, tone curve, the sRGB transfer
function (IEC 61966-2-1) and clipping to the display's range.
"""

import math
from dataclasses import dataclass

import numpy as np

from swift_sample.core.errors import UsageError
from swift_sample.core.picture.colour import LEVELS, SOFT_WHITE, srgb_decoded

CURVES = ("straight", "soft")
"""`straight` clips; `soft` rolls highlights off: x (1 + x / w^2) / (1 + x), Reinhard et al. 2002,
equation 4."""

MAX_EXPOSURE = 20.0


@dataclass(frozen=True)
class View:
    """How linear light becomes display levels. `exposure` in stops, from -20 to 20."""

    exposure: float = 0.0
    curve: str = "straight"

    def __post_init__(self) -> None:
        if not math.isfinite(self.exposure) or abs(self.exposure) > MAX_EXPOSURE:
            raise UsageError(
                f"exposure={self.exposure}: expected stops from -{MAX_EXPOSURE:g} to "
                f"{MAX_EXPOSURE:g}"
            )
        if self.curve not in CURVES:
            raise UsageError(f"curve={self.curve}: expected one of {', '.join(CURVES)}")

    def levels(self, pixels: np.ndarray) -> np.ndarray:
        """D: linear light of any shape to display levels from 0 to 255, not rounded, float32."""
        # Loaded where pictures are first shown or measured: the compiler comes with it.
        from swift_sample.core.picture.view_kernels import set_levels

        light = np.ascontiguousarray(pixels, np.float32)
        levels = np.empty_like(light)
        set_levels(
            levels.ravel(), light.ravel(), np.float32(2.0**self.exposure), self.curve == "soft"
        )

        return levels

    def light(self, levels: np.ndarray) -> np.ndarray:
        """The light that is shown at these levels: the inverse of `levels` within the display's
        range, float32."""
        x = np.clip(np.asarray(levels, np.float64) / LEVELS, 0, 1)
        x = srgb_decoded(x)

        if self.curve == "soft":
            # x^2 / w^2 + (1 - y) x - y = 0
            half = (1 - x) * SOFT_WHITE**2 / 2
            x = np.sqrt(half * half + x * SOFT_WHITE**2) - half

        return (x / 2.0**self.exposure).astype(np.float32)

    def eight_bit(self, pixels: np.ndarray) -> np.ndarray:
        """Display levels rounded to uint8, for showing."""
        return (self.levels(np.nan_to_num(pixels)) + 0.5).astype(np.uint8)

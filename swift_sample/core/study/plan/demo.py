"""The demo study: the honey stall, a base as an artist might have it today, and values worth trying."""

from pathlib import Path

import platformdirs

from swift_sample.core.picture.view import View
from swift_sample.core.settings import Configuration
from swift_sample.core.study.plan.model import Limits, Study, Sweep

SIZE = (240, 135)
"""Small enough that three runs of every trial take less than five minutes of rendering on two threads."""

LIMITS = Limits(grain=6.0, light_shift=1.5, detail_kept=92.0, stray_pixels=12000.0)
"""Wider than a delivery's, since the demo takes few samples: at this size one pixel is 31 per million."""


def demo_study(scene: str = "honey-stall", size: tuple[int, int] = SIZE) -> Study:
    """One setting at a time, and a small grid of those that work together."""
    base = Configuration(
        {"samples.max": 32, "bounces.total": 12, "denoise.method": "wavelet", "denoise.strength": 0.8, "tiles.size": 32}
    )
    alone = Sweep(
        "one at a time",
        {
            "samples.max": (12, 16, 24, 32),
            "samples.noise_threshold": (0.0, 0.03),
            "bounces.total": (1, 2, 4, 6, 8, 12),
            "light.clamp_indirect": (0.0, 2.0),
            "denoise.method": ("none", "wavelet", "patches"),
            "denoise.strength": (0.8, 1.0),
            "tiles.size": (8, 32),
            "scene.keep_built": (False, True),
        },
    )
    together = Sweep(
        "grid",
        {"samples.max": (12, 16), "bounces.total": (6, 8), "denoise.method": ("patches",), "scene.keep_built": (True,)},
    )
    return Study("Honey stall", scene, size, View(curve="soft"), base, (alone, together), LIMITS)


def demo_path() -> Path:
    """Where the demo study is kept unless told otherwise, so that opening it again finds what was measured."""
    return Path(platformdirs.user_data_dir("swift-sample")) / "honey-stall.study"

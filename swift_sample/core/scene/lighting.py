"""Whether a first picture shows anything, and what is done where it does not."""

import numpy as np

from swift_sample.core.picture.view import View

SOFT_SKY = "0.5,0.5,0.5"
"""A sky that is equally grey everywhere, as `Staging.environment` has it."""
SEEN_LEVELS = 3.0
"""Display levels under which a pixel is black to the eye."""
LEAST_SEEN = 0.05
"""The share of pixels that must be brighter for a picture to be lit: a small lamp that is seen
itself lights nothing else."""
DARK_GLOW_NOTE = (
    "What glows in the scene does not light it: a soft grey sky was added. The "
    "scene's own light takes it off."
)
DARK_NOTE = "This picture is nearly black: choose other light, or a higher exposure."


def is_dark(light: np.ndarray, view: View | None = None) -> bool:
    """Whether hardly anything can be seen in a picture: linear light, float32[h, w, 3], through a
    view."""
    levels = (view or View()).levels(np.ascontiguousarray(np.nan_to_num(light), np.float32))
    seen = (levels > SEEN_LEVELS).any(axis=2)
    return float(seen.mean()) < LEAST_SEEN

"""What one deep render says of others: the light that any lower bounce cap would leave out, in
display levels."""

from collections.abc import Mapping

import numpy as np

from swift_sample.core.picture.view import View

LIGHT_PREFIX = "light."
CELL_LOSS = 1.3
"""Cells average light before the tone curve, which hides part of a shift: on the small stall,
measured shifts are 1.2 to 1.45 times what their cells show."""


def shift_by_cap(reduced: Mapping[str, np.ndarray], view: View) -> dict[int, float]:
    """Levels of light shift that a cap of n bounces is predicted to add, for each n below the
    deepest that was recorded.

    reduced: a picture's light by bounce, `light.n`, float32[h, w, 3] each; see docs/renderer.md.
    Both sides come from the same samples, so their grain hardly counts.
    """
    cells = {
        int(name.removeprefix(LIGHT_PREFIX)): values
        for name, values in reduced.items()
        if name.startswith(LIGHT_PREFIX)
    }
    if len(cells) < 2:
        return {}

    levels = {}
    so_far = np.zeros_like(cells[min(cells)])

    for bounce in sorted(cells):
        so_far = so_far + cells[bounce]
        levels[bounce] = view.levels(so_far)

    whole = levels[max(cells)]
    return {
        bounce: CELL_LOSS * float(np.sqrt(((shown - whole) ** 2).mean()))
        for bounce, shown in levels.items()
        if bounce < max(cells)
    }

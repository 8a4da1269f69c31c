"""Flicker: change from frame to frame that the reference does not show."""

from itertools import pairwise

import numpy as np

from swift_sample.core.errors import UsageError
from swift_sample.core.picture.view import View


def flicker(frames: list[np.ndarray], references: list[np.ndarray], view: View) -> float:
    """The rms over time, pixels and channels of the change of D(I) - D(R) from each frame to the
    next, in levels.

    frames, references: linear float32[h, w, 3], at least two of each, in order. Raises UsageError.
    """
    if len(frames) < 2 or len(frames) != len(references):
        raise UsageError(
            f"flicker needs at least two frames with a reference each, not {len(frames)} and "
            f"{len(references)}"
        )

    errors = [
        view.levels(frame) - view.levels(reference)
        for frame, reference in zip(frames, references, strict=True)
    ]
    changes = [
        float(((after - before) ** 2).mean(dtype=np.float64)) for before, after in pairwise(errors)
    ]
    return float(np.sqrt(np.mean(changes)))

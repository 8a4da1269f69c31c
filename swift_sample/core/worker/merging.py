"""How a reference gets cleaner: more samples are averaged into it."""

import numpy as np

from swift_sample.core.picture.picture import Picture


def merge_reference(
    old: Picture | None, old_samples: int, new: Picture, new_samples: int
) -> Picture:
    """The reference with more samples: light, and halves where there are some, averaged by numbers
    of samples."""
    share = np.float32(new_samples / (old_samples + new_samples))

    def mean(a: np.ndarray, b: np.ndarray) -> np.ndarray:
        return a + (b - a) * share

    if new.halves is None or (old is not None and old.halves is None):
        return Picture(new.beauty if old is None else mean(old.beauty, new.beauty))

    if old is None or old.halves is None:
        half_a, half_b = new.halves
    else:
        half_a, half_b = (mean(a, b) for a, b in zip(old.halves, new.halves, strict=True))

    return Picture(((half_a + half_b) / 2).astype(np.float32), {"half_a": half_a, "half_b": half_b})

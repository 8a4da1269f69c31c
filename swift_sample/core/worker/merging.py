"""How a reference gets cleaner: more samples are averaged into it."""

from collections.abc import Sequence

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


def without_pieces(
    reference: Picture, samples: int, pieces: Sequence[tuple[Picture, int]]
) -> Picture:
    """The reference of `samples` without some of the pictures, and numbers of samples, that it was
    merged of: what they may be compared with, since its errors are independent of theirs.

    Raises ValueError where nothing would be left.
    """
    left = samples - sum(number for _, number in pieces)
    if left <= 0:
        raise ValueError("a reference without all of its pieces is nothing")

    def rest(whole: np.ndarray, parts: Sequence[np.ndarray]) -> np.ndarray:
        total = whole.astype(np.float64) * samples
        for part, (_, number) in zip(parts, pieces, strict=True):
            total -= part.astype(np.float64) * number

        return (total / left).astype(np.float32)

    whole = reference.halves
    parts = [piece.halves for piece, _ in pieces]
    if whole is None or any(part is None for part in parts):
        return Picture(rest(reference.beauty, [piece.beauty for piece, _ in pieces]))

    half_a, half_b = (rest(whole[k], [part[k] for part in parts if part]) for k in (0, 1))
    return Picture(((half_a + half_b) / 2).astype(np.float32), {"half_a": half_a, "half_b": half_b})

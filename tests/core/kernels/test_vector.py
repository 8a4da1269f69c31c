"""Functions that stand in for the C library's: as close as float32 allows."""

import numpy as np
from numba import njit

from swift_sample.core.kernels.vector import arc_cosine, floor, turned


@njit
def of_all(values):  # type: ignore[no-untyped-def]
    found = np.empty((4, values.size), np.float64)
    for k in range(values.size):
        found[0, k], found[1, k] = turned(values[k])
        found[2, k] = floor(values[k])
        found[3, k] = arc_cosine(max(np.float32(-1), min(np.float32(1), values[k])))

    return found


def test_turns_whole_numbers_and_angles_are_close_to_the_exact_ones() -> None:
    edges = np.array(
        [-2.0, -1.0, -0.75, -0.5, -0.25, -0.0, 0.0, 0.25, 0.5, 0.75, 1.0, 2.0], np.float32
    )
    values = np.concatenate([edges, np.linspace(-1.7, 1.7, 200_001, dtype=np.float32)])
    cosine, sine, whole, angle = of_all(values)
    exact = values.astype(np.float64)
    assert np.abs(cosine - np.cos(2 * np.pi * exact)).max() < 3e-7
    assert np.abs(sine - np.sin(2 * np.pi * exact)).max() < 3e-7
    assert (whole == np.floor(exact)).all()
    assert np.abs(angle - np.arccos(np.clip(exact, -1, 1))).max() < 5e-7

"""Choosing among many by weight in constant time: the alias method (Vose 1991, IEEE TSE 17(9))."""

import numpy as np
from numba import int64

from swift_sample.core.kernels.compiling import allocating_kernel, kernel
from swift_sample.core.kernels.vector import ONE, f32
from swift_sample.core.renderers.builtin.lowlevel.memory import f32_at, i32_at

ALMOST_ONE = f32(0.9999999)


@allocating_kernel
def build_alias(weights):
    """Tables for `pick_alias`: (float32[n] share kept by each place, int32[n] its alias).

    weights: float64[n], n >= 1, not negative; all equal to zero counts as all equal to one.
    """
    count = weights.shape[0]
    total = weights.sum()
    kept = np.ones(count, np.float32)
    alias = np.arange(count).astype(np.int32)
    scaled = weights * (count / total) if total > 0 else np.ones(count)
    small = np.empty(count, np.int64)
    large = np.empty(count, np.int64)
    small_count = 0
    large_count = 0

    for i in range(count):
        if scaled[i] < 1:
            small[small_count] = i
            small_count += 1
        else:
            large[large_count] = i
            large_count += 1

    while small_count > 0 and large_count > 0:
        small_count -= 1
        low, high = small[small_count], large[large_count - 1]
        kept[low] = scaled[low]
        alias[low] = high
        scaled[high] -= 1 - scaled[low]

        if scaled[high] < 1:
            large_count -= 1
            small[small_count] = high
            small_count += 1

    return kept, alias


@kernel
def pick_in_order(sums, count, u):
    """A place chosen by one number in [0, 1) from running sums of weights (float32[count], the last
    1) at an address, and what is left of the number. Unlike an alias table it keeps near numbers
    together, so that even patterns stay even."""
    low, high = int64(0), count - 1
    while low < high:
        middle = (low + high) >> 1
        if u < f32_at(sums, middle):
            high = middle
        else:
            low = middle + 1

    before = f32_at(sums, low - 1) if low > 0 else f32(0)
    width = f32_at(sums, low) - before
    return low, max(f32(0), min((u - before) / width, ALMOST_ONE)) if width > f32(0) else f32(0.5)


@kernel
def pick_alias(kept, alias, count, u):
    """A place chosen by one number in [0, 1) from tables at two addresses, and what is left of the
    number."""
    scaled = u * f32(count)
    place = min(int64(scaled), count - 1)
    rest = scaled - f32(place)
    share = f32_at(kept, place)

    if rest < share:
        return place, min(rest / share, ALMOST_ONE)

    return int64(i32_at(alias, place)), min((rest - share) / (ONE - share), ALMOST_ONE)

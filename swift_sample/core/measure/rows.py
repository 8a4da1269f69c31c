"""What the measures do to rows of pixels: short loops over contiguous float32 that compilers turn
into vector code."""

import numpy as np

from swift_sample.core.kernels.compiling import allocating_kernel, row_kernel
from swift_sample.core.kernels.vector import HALF, ONE, ZERO, f32
from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.view_kernels import cube_root

STRAY_LEVELS = 24.0
STRAY_NEIGHBOURHOOD = 5

TABLE_STEPS = 64
"""Places of a table by display level, for each level."""


@row_kernel
def set_scaled(row, a, factor):
    """row = a factor."""
    for x in range(row.shape[0]):
        row[x] = a[x] * factor


@row_kernel
def add_pair(row, a, b, factor):
    """row += (a + b) factor."""
    for x in range(row.shape[0]):
        row[x] += (a[x] + b[x]) * factor


@row_kernel
def mirrored(place, count):
    """A place beyond either end of 0 to count - 1, reflected as often as needed; the end itself
    counts twice."""
    place %= 2 * count
    return place if place < count else 2 * count - 1 - place


@allocating_kernel
def blurred(rows, channels, weights):
    """float32[h, w c] blurred down and across."""
    height, length = rows.shape
    width = length // channels
    reach = weights.shape[0] - 1
    edge = reach * channels
    result = np.empty_like(rows)
    wide = np.empty(length + 2 * edge, np.float32)
    middle = wide[edge : edge + length]

    for y in range(height):
        set_scaled(middle, rows[y], weights[0])
        for k in range(1, reach + 1):
            add_pair(
                middle, rows[mirrored(y - k, height)], rows[mirrored(y + k, height)], weights[k]
            )

        for k in range(1, reach + 1):
            left, right = mirrored(-k, width), mirrored(width - 1 + k, width)
            for c in range(channels):
                wide[edge - k * channels + c] = middle[left * channels + c]
                wide[edge + (width - 1 + k) * channels + c] = middle[right * channels + c]

        set_scaled(result[y], middle, weights[0])
        for k in range(1, reach + 1):
            add_pair(
                result[y],
                wide[edge - k * channels : edge - k * channels + length],
                wide[edge + k * channels : edge + k * channels + length],
                weights[k],
            )

    return result


@allocating_kernel
def reduced(rows, channels, step):
    """Means over squares of `step` pixels; the last ones hold what is left."""
    height, length = rows.shape
    width = length // channels
    result = np.zeros(
        ((height + step - 1) // step, (width + step - 1) // step * channels), np.float32
    )
    total = np.empty(length, np.float32)

    for j in range(result.shape[0]):
        total[:] = ZERO
        bottom = min(height, (j + 1) * step)
        for y in range(j * step, bottom):
            add_pair(total, rows[y], rows[y], HALF)

        for i in range(result.shape[1] // channels):
            right = min(width, (i + 1) * step)
            share = f32(1) / f32((bottom - j * step) * (right - i * step))

            for x in range(i * step, right):
                for c in range(channels):
                    result[j, i * channels + c] += total[x * channels + c] * share

    return result


@allocating_kernel
def enlarged(small, height, width, channels, step):
    """Every value of `small` on a square of `step` pixels, float32[h, w c]."""
    result = np.empty((height, width * channels), np.float32)
    for y in range(height):
        if y % step:
            result[y] = result[y - 1]
            continue

        for x in range(width):
            for c in range(channels):
                result[y, x * channels + c] = small[y // step, x // step * channels + c]

    return result


@row_kernel
def set_luminance(row, levels, weights):
    for x in range(row.shape[0]):
        row[x] = weights[0] * levels[x, 0] + weights[1] * levels[x, 1] + weights[2] * levels[x, 2]


@row_kernel
def set_mean_square(row, picture, factor):
    for x in range(row.shape[0]):
        r = picture[x, 0]
        g = picture[x, 1]
        b = picture[x, 2]
        row[x] = (r * r + g * g + b * b) * factor


@row_kernel
def count_below(counts, values, bars):
    """counts += 1 where the value lies below the bar."""
    for x in range(counts.shape[0]):
        counts[x] += ONE if values[x] < bars[x] else ZERO


@allocating_kernel
def stands_out(padded):
    """Pixels with any channel more than STRAY_LEVELS above the median of their neighbourhood,
    bool[h, w].

    padded: float32[h + 4, 3 (w + 4)]. A value stands that far above the median of 25 exactly if at
    least 13 of them lie that far below it, so nothing needs sorting.
    """
    reach = STRAY_NEIGHBOURHOOD // 2
    height = padded.shape[0] - 2 * reach
    length = padded.shape[1] - 6 * reach
    most = f32(STRAY_NEIGHBOURHOOD * STRAY_NEIGHBOURHOOD // 2)
    found = np.empty((height, length // 3), np.bool_)
    bars = np.empty(length, np.float32)
    counts = np.empty(length, np.float32)

    for y in range(height):
        bars[:] = padded[y + reach, 3 * reach : 3 * reach + length] - f32(STRAY_LEVELS)
        counts[:] = ZERO

        for j in range(STRAY_NEIGHBOURHOOD):
            for i in range(STRAY_NEIGHBOURHOOD):
                count_below(counts, padded[y + j, 3 * i : 3 * i + length], bars)

        for x in range(length // 3):
            found[y, x] = max(counts[3 * x], counts[3 * x + 1], counts[3 * x + 2]) > most

    return found


@row_kernel
def set_opponents(planes, levels, linear, split):
    """planes[3, n] = the opponent planes of display levels [n, 3]."""
    for k in range(levels.shape[0]):
        r = linear[place(levels[k, 0])]
        g = linear[place(levels[k, 1])]
        b = linear[place(levels[k, 2])]
        for c in range(3):
            planes[c, k] = split[c, 0] * r + split[c, 1] * g + split[c, 2] * b


@row_kernel
def place(level):
    """Where a level stands in the table of display light."""
    return int(min(max(level, ZERO), f32(LEVELS)) * f32(TABLE_STEPS))


@row_kernel
def set_lab(planes, back):
    """Opponent planes [3, n] to CIELAB, in place."""
    for k in range(planes.shape[1]):
        x = response(
            back[0, 0] * planes[0, k] + back[0, 1] * planes[1, k] + back[0, 2] * planes[2, k]
        )
        y = response(
            back[1, 0] * planes[0, k] + back[1, 1] * planes[1, k] + back[1, 2] * planes[2, k]
        )
        z = response(
            back[2, 0] * planes[0, k] + back[2, 1] * planes[1, k] + back[2, 2] * planes[2, k]
        )
        planes[0, k] = f32(116) * y - f32(16)
        planes[1, k] = f32(500) * (x - y)
        planes[2, k] = f32(200) * (y - z)


@row_kernel
def response(share):
    """The eye's response to a share of the white (CIE 15:2018, equation 8.6 and following)."""
    share = max(share, ZERO)
    root = cube_root(max(share, f32(0.005)))
    return root if share > f32((6 / 29) ** 3) else share * f32((29 / 6) ** 2 / 3) + f32(4 / 29)


@row_kernel
def set_distances(distances, a, b):
    """distances[n] between colours [3, n]."""
    for k in range(distances.shape[0]):
        u = a[0, k] - b[0, k]
        v = a[1, k] - b[1, k]
        w = a[2, k] - b[2, k]
        distances[k] = np.sqrt(u * u + v * v + w * w)

"""What a render notes beside its picture: light by bounce, and what limits would take."""

from numba import int64

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import ONE, TWO, ZERO, add, f32, largest, scale, subtract
from swift_sample.core.picture.view_kernels import displayed
from swift_sample.core.renderers.builtin.kernels.path import add_to
from swift_sample.core.renderers.builtin.lowlevel.memory import (
    add_f64_atomic,
    add_vector,
    set_vec,
    vec,
)
from swift_sample.core.renderers.builtin.lowlevel.records import CLAMPS, KIND_COUNTS, SNAPSHOTS


@kernel
def take_snapshot(job, path, cell, number):
    """Where both halves just reached a power of two, note how far apart they are."""
    each = number >> 1
    level = 0
    while (1 << level) < each:
        level += 1

    if (1 << level) != each or level >= SNAPSHOTS:
        return

    a = scale(vec(path.pixel.halves[0]), ONE / f32(each))
    b = scale(vec(path.pixel.halves[1]), ONE / f32(each))
    total = ZERO

    for axis in range(3):
        difference = displayed(a[axis], job.exposure_gain, job.curve) - displayed(
            b[axis], job.exposure_gain, job.curve
        )
        total += difference * difference * f32(0.25)

    add_f64_atomic(job.snapshots, cell * SNAPSHOTS + level, float(total) / 3.0)


@kernel
def forget_limits(path):
    """Begin the sums of what limits take from a pixel."""
    for half in range(2):
        set_vec(path.before[half], vec(path.pixel.halves[half]))
        for which in range(2):
            for k in range(CLAMPS + 1):
                set_vec(path.clamped[half, which, k], (ZERO, ZERO, ZERO))

    for kind in range(4):
        for k in range(KIND_COUNTS):
            set_vec(path.by_kind[kind, k], (ZERO, ZERO, ZERO))


@kernel
def note_limits(job, path, half, last):
    """Add what every clamp would take of one sample, the job's own last, and its light by
    scatterings of each kind."""
    for which in range(2):
        light = vec(path.unclamped[which])
        peak = largest(light)
        limit = job.least_clamp

        for k in range(CLAMPS):
            if peak <= limit:
                break
            add_to(path.clamped[half, which, k], scale(light, ONE - limit / peak))
            limit *= TWO

        own = job.clamp_indirect if which else job.clamp_direct
        if own > ZERO and peak > own:
            add_to(path.clamped[half, which, CLAMPS], scale(light, ONE - own / peak))

    for bounce in range(last + 1):
        light = vec(path.sample.brought[bounce])
        if largest(light) <= ZERO:
            continue

        add_to(path.by_kind[0, 0], light)
        counts = int64(path.counts_at[bounce])

        for kind in range(4):
            count = min((counts >> (8 * kind)) & 255, KIND_COUNTS - 1)
            if count > 0:
                add_to(path.by_kind[kind, count], light)


@kernel
def keep_limits(job, path, cell, first, last):
    """Add a pixel's sums of what limits take to the records; its samples were those from `first` up
    to `last`."""
    for which in range(2):
        for k in range(CLAMPS + 1):
            for axis in range(3):
                taken = path.clamped[0, which, k, axis] + path.clamped[1, which, k, axis]
                if taken > ZERO:
                    add_f64_atomic(
                        job.clamped,
                        ((cell * 2 + which) * (CLAMPS + 1) + k) * 3 + axis,
                        float(taken),
                    )

    for kind in range(4):
        for k in range(KIND_COUNTS):
            for axis in range(3):
                brought = path.by_kind[kind, k, axis]
                if brought > ZERO:
                    add_f64_atomic(
                        job.by_kind,
                        ((cell * 4 + kind) * KIND_COUNTS + k) * 3 + axis,
                        float(brought),
                    )

    odd = (last >> 1) - (first >> 1)
    even = last - first - odd
    if odd > 0 and even > 0:
        keep_clamped_grain(job, path, cell, even, odd)


@kernel
def keep_clamped_grain(job, path, cell, even, odd):
    """Add how far apart the halves of these samples are, and by how much more or less with each
    clamp in place of the job's own."""
    place = cell * (2 * (CLAMPS + 1) + 1)
    a = subtract(vec(path.pixel.halves[0]), vec(path.before[0]))
    b = subtract(vec(path.pixel.halves[1]), vec(path.before[1]))
    shown = distance_of_halves(job, a, b, even, odd)
    add_f64_atomic(job.clamped_grain, place + 2 * (CLAMPS + 1), shown)

    for which in range(2):
        own_a = vec(path.clamped[0, which, CLAMPS])
        own_b = vec(path.clamped[1, which, CLAMPS])
        takes = largest(own_a) > ZERO or largest(own_b) > ZERO
        open_a = add(a, own_a)
        open_b = add(b, own_b)
        whole = distance_of_halves(job, open_a, open_b, even, odd) if takes else shown
        first = place + which * (CLAMPS + 1)

        if takes:
            add_f64_atomic(job.clamped_grain, first + CLAMPS, whole - shown)

        for k in range(CLAMPS):
            taken_a = vec(path.clamped[0, which, k])
            taken_b = vec(path.clamped[1, which, k])
            left = whole

            if largest(taken_a) > ZERO or largest(taken_b) > ZERO:
                left = distance_of_halves(
                    job, subtract(open_a, taken_a), subtract(open_b, taken_b), even, odd
                )
            elif not takes:
                break

            add_f64_atomic(job.clamped_grain, first + k, left - shown)


@kernel
def distance_of_halves(job, a, b, even, odd):
    """The squared distance of two sums of samples as shares of the display's range, times the
    samples."""
    first = scale(a, ONE / f32(even))
    second = scale(b, ONE / f32(odd))
    total = ZERO

    for axis in range(3):
        shown = displayed(first[axis], job.exposure_gain, job.curve)
        difference = shown - displayed(second[axis], job.exposure_gain, job.curve)
        total += difference * difference

    return float(total) * (even + odd)


@kernel
def keep_light(job, path, place, cell, deepest):
    """Add a pixel's light by bounce to the records."""
    entries = job.bounces + 1
    first = place * entries
    first_cell = cell * entries * 3

    for k in range(deepest + 1):
        if job.light != 0:
            add_vector(
                job.light,
                first + k,
                (path.pixel.light[k, 0], path.pixel.light[k, 1], path.pixel.light[k, 2]),
            )
        else:
            for axis in range(3):
                add_f64_atomic(
                    job.light_cells, first_cell + 3 * k + axis, float(path.pixel.light[k, axis])
                )

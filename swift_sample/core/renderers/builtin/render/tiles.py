"""What each thread does: take a tile, take the samples of its pixels, add them to the film."""

import math

from numba import int32, int64, types, uint32

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import (
    HALF,
    ONE,
    TWO,
    ZERO,
    add,
    along,
    f32,
    largest,
    normalize,
    scale,
    subtract,
    turned,
)
from swift_sample.core.picture.view_kernels import displayed
from swift_sample.core.renderers.builtin.render.memory import (
    add_f64_atomic,
    add_vector,
    f32_at,
    i32_at,
    put_f32,
    put_i32,
    put_u64,
    set_vec,
    take_next,
    u8_at,
    u64_at,
    vec,
)
from swift_sample.core.renderers.builtin.render.path import add_to, start_path, trace_path
from swift_sample.core.renderers.builtin.render.records import (
    CELL,
    CLAMPS,
    EMISSION_PASS,
    KIND_COUNTS,
    SNAPSHOTS,
    job_at,
    lens_at,
    path_at,
)
from swift_sample.core.renderers.builtin.render.sampler import BLUE_NOISE, curve_place, hash_bits, pixel_seed, sample_pair
from swift_sample.core.renderers.builtin.render.simd import read_cycles

HALF_SEED = 0x5BD1E995
"""Tells the two halves of the samples apart."""

TIME_DIMENSION = 1 << 20
"""Sample pair of the moment within the shutter, beyond those of all bounces."""

BOX, TENT, BELL = 0, 1, 2
"""Pixel filters, in the order of the catalogue."""
BELL_DEVIATION, BELL_RADIUS = f32(0.5), f32(1.5)


@kernel
def tent(u):
    """An offset in pixels from -1 to 1, distributed as a tent filter's weight."""
    if u < HALF:
        return math.sqrt(TWO * u) - ONE
    return ONE - math.sqrt(TWO - TWO * u)


@kernel
def filter_offset(kind, u, v):
    """Where in or around its pixel a sample falls, from the pixel's middle: drawn by the filter's weight."""
    if kind == BOX:
        return u - HALF, v - HALF
    if kind == TENT:
        return tent(u), tent(v)
    # A bell of Gauss cut off at its radius, by the inverse of its radial distribution.
    edge = f32(1 - math.exp(-0.5 * (1.5 / 0.5) ** 2))
    radius = BELL_DEVIATION * math.sqrt(-TWO * math.log(ONE - u * edge))
    across, upward = turned(v)
    return radius * across, radius * upward


@kernel
def lens_vector(field, lens, time):
    """A vector of the camera at a moment within the shutter."""
    a = (field[0, 0], field[0, 1], field[0, 2])
    if not lens.moving:
        return a
    return add(scale(a, ONE - time), scale((field[1, 0], field[1, 1], field[1, 2]), time))


@kernel
def aim(job, path, x, y, seed, index):
    """Set the path's ray to one sample of a pixel."""
    lens = lens_at(job.lens, 0)
    path.ray.width, path.ray.spread = job.pixel_width, job.pixel_spread
    u, v = sample_pair(seed, index, 0, job.pattern)
    dx, dy = filter_offset(job.filter, u, v)
    across = (f32(x) + HALF + dx) / f32(job.width) * TWO - ONE
    upward = ONE - (f32(y) + HALF + dy) / f32(job.height) * TWO
    path.ray.time = ZERO
    if lens.timed:
        path.ray.time, _ = sample_pair(seed, index, TIME_DIMENSION, job.pattern)
    time = path.ray.time
    right, up = lens_vector(lens.right, lens, time), lens_vector(lens.up, lens, time)
    forward, origin = lens_vector(lens.forward, lens, time), lens_vector(lens.origin, lens, time)
    offset = add(scale(right, across), scale(up, upward))
    if lens.orthographic:
        set_vec(path.ray.origin, add(origin, offset))
        set_vec(path.ray.direction, normalize(forward))
        return
    direction = add(forward, offset)
    if lens.aperture > ZERO:
        # The plane in focus stands at a depth, not a distance: forward has length 1.
        u, v = sample_pair(seed, index, 1, job.pattern)
        radius = lens.aperture * math.sqrt(u)
        turn_x, turn_y = turned(v)
        shift = add(scale(normalize(right), radius * turn_x), scale(normalize(up), radius * turn_y))
        direction = subtract(along(origin, direction, lens.focus), add(origin, shift))
        origin = add(origin, shift)
    set_vec(path.ray.origin, origin)
    set_vec(path.ray.direction, normalize(direction))


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
        difference = displayed(a[axis], job.exposure_gain, job.curve) - displayed(b[axis], job.exposure_gain, job.curve)
        total += difference * difference * f32(0.25)
    add_f64_atomic(job.snapshots, cell * SNAPSHOTS + level, float(total) / 3.0)


@kernel
def add_passes(sums, path):
    """Add one sample's light by the first scattering."""
    for axis in range(3):
        sums[EMISSION_PASS, axis] += path.sample.seen[axis]
    for kind in range(4):
        for axis in range(3):
            sums[kind, axis] += path.sample.direct[kind, axis]
    if path.bounce > 0:
        indirect = 4 + int64(path.first_kind)
        for axis in range(3):
            sums[indirect, axis] += path.sample.indirect[axis]


@kernel
def add_sample(job, path, half):
    """Add one sample to the sums of its pixel."""
    for axis in range(3):
        path.pixel.halves[half, axis] += path.sample.total[axis]
        path.pixel.guides[axis] += path.sample.albedo[axis]
        path.pixel.guides[3 + axis] += path.sample.normal[axis]
    path.pixel.guides[6] += path.sample.depth
    if job.passes != 0:
        add_passes(path.pixel.passes, path)
        if half and job.passes_half != 0:
            add_passes(path.pixel.passes_half, path)
    if half and job.guides_half != 0:
        for axis in range(3):
            path.pixel.guides_half[axis] += path.sample.albedo[axis]
            path.pixel.guides_half[3 + axis] += path.sample.normal[axis]
        path.pixel.guides_half[6] += path.sample.depth


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
    """Add what every clamp would take of one sample, the job's own last, and its light by scatterings of each kind."""
    for which in range(2):
        light = vec(path.unclamped[which])
        peak, limit = largest(light), job.least_clamp
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
    """Add a pixel's sums of what limits take to the records; its samples were those from `first` up to `last`."""
    for which in range(2):
        for k in range(CLAMPS + 1):
            for axis in range(3):
                taken = path.clamped[0, which, k, axis] + path.clamped[1, which, k, axis]
                if taken > ZERO:
                    add_f64_atomic(job.clamped, ((cell * 2 + which) * (CLAMPS + 1) + k) * 3 + axis, float(taken))
    for kind in range(4):
        for k in range(KIND_COUNTS):
            for axis in range(3):
                brought = path.by_kind[kind, k, axis]
                if brought > ZERO:
                    add_f64_atomic(job.by_kind, ((cell * 4 + kind) * KIND_COUNTS + k) * 3 + axis, float(brought))
    odd = (last >> 1) - (first >> 1)
    even = last - first - odd
    if odd > 0 and even > 0:
        keep_clamped_grain(job, path, cell, even, odd)


@kernel
def keep_clamped_grain(job, path, cell, even, odd):
    """Add how far apart the halves of these samples are, and by how much more or less with each clamp in place of the job's
    own."""
    place = cell * (2 * (CLAMPS + 1) + 1)
    a = subtract(vec(path.pixel.halves[0]), vec(path.before[0]))
    b = subtract(vec(path.pixel.halves[1]), vec(path.before[1]))
    shown = distance_of_halves(job, a, b, even, odd)
    add_f64_atomic(job.clamped_grain, place + 2 * (CLAMPS + 1), shown)
    for which in range(2):
        own_a, own_b = vec(path.clamped[0, which, CLAMPS]), vec(path.clamped[1, which, CLAMPS])
        takes = largest(own_a) > ZERO or largest(own_b) > ZERO
        open_a, open_b = add(a, own_a), add(b, own_b)
        whole = distance_of_halves(job, open_a, open_b, even, odd) if takes else shown
        first = place + which * (CLAMPS + 1)
        if takes:
            add_f64_atomic(job.clamped_grain, first + CLAMPS, whole - shown)
        for k in range(CLAMPS):
            taken_a, taken_b = vec(path.clamped[0, which, k]), vec(path.clamped[1, which, k])
            left = whole
            if largest(taken_a) > ZERO or largest(taken_b) > ZERO:
                left = distance_of_halves(job, subtract(open_a, taken_a), subtract(open_b, taken_b), even, odd)
            elif not takes:
                break
            add_f64_atomic(job.clamped_grain, first + k, left - shown)


@kernel
def distance_of_halves(job, a, b, even, odd):
    """The squared distance of two sums of samples as shares of the display's range, times the samples."""
    first, second = scale(a, ONE / f32(even)), scale(b, ONE / f32(odd))
    total = ZERO
    for axis in range(3):
        shown = displayed(first[axis], job.exposure_gain, job.curve)
        difference = shown - displayed(second[axis], job.exposure_gain, job.curve)
        total += difference * difference
    return float(total) * (even + odd)


@kernel
def read_row(field, address, place, length):
    for k in range(length):
        field[k] = f32_at(address, place * length + k)


@kernel
def write_row(field, address, place, length):
    for k in range(length):
        put_f32(address, place * length + k, field[k])


@kernel
def read_passes(field, address, place):
    for k in range(9):
        for axis in range(3):
            field[k, axis] = f32_at(address, (place * 9 + k) * 3 + axis)


@kernel
def write_passes(field, address, place):
    for k in range(9):
        for axis in range(3):
            put_f32(address, (place * 9 + k) * 3 + axis, field[k, axis])


@kernel
def load_pixel(job, path, place):
    """Go on from the sums that the film holds, so that rounds of any length add up to the same bits."""
    read_row(path.pixel.halves[0], job.half_a, place, 3)
    read_row(path.pixel.halves[1], job.half_b, place, 3)
    read_row(path.pixel.guides, job.guides, place, 7)
    if job.passes != 0:
        read_passes(path.pixel.passes, job.passes, place)
    if job.passes_half != 0:
        read_passes(path.pixel.passes_half, job.passes_half, place)
    if job.guides_half != 0:
        read_row(path.pixel.guides_half, job.guides_half, place, 7)


@kernel
def store_pixel(job, path, place):
    """Put the sums back into the film."""
    write_row(path.pixel.halves[0], job.half_a, place, 3)
    write_row(path.pixel.halves[1], job.half_b, place, 3)
    write_row(path.pixel.guides, job.guides, place, 7)
    if job.passes != 0:
        write_passes(path.pixel.passes, job.passes, place)
    if job.passes_half != 0:
        write_passes(path.pixel.passes_half, job.passes_half, place)
    if job.guides_half != 0:
        write_row(path.pixel.guides_half, job.guides_half, place, 7)


@part(types.void(types.int64, types.int64, types.int64, types.int64))
def render_pixel(job_address, path_address, x, y):
    """Take the samples that bring one pixel to the target."""
    job, path = job_at(job_address, 0), path_at(path_address, 0)
    place = y * job.width + x
    started = read_cycles()
    own_seed = pixel_seed(x, y, job.seed)
    deepest = int64(-1)
    done = int64(i32_at(job.samples, place))
    cell = (y // CELL) * job.cell_columns + x // CELL
    load_pixel(job, path, place)
    if job.record:
        forget_limits(path)
    for number in range(done, job.target):
        half, index = number & 1, number >> 1
        seed = hash_bits(own_seed + uint32(half) * uint32(HALF_SEED))
        path.own_seed = seed
        if job.pattern == BLUE_NOISE:
            seed = hash_bits(uint32(job.seed) + uint32(half) * uint32(HALF_SEED))
            index = int64((uint32(curve_place(x, y)) << uint32(job.index_bits)) + uint32(index))
        start_path(path, seed, index)
        aim(job, path, x, y, seed, index)
        trace_path(job_address, path_address)
        radiance = vec(path.sample.total)
        if number == 0:
            put_i32(job.material, place, path.sample.first_material)
            put_i32(job.object, place, path.sample.first_object)
        if not math.isfinite(radiance[0] + radiance[1] + radiance[2]):
            path.thread.dropped += 1
            continue
        add_sample(job, path, half)
        last = min(int64(path.bounce), job.bounces)
        for k in range(deepest + 1, last + 1):
            path.pixel.light[k, 0] = path.pixel.light[k, 1] = path.pixel.light[k, 2] = ZERO
        deepest = max(deepest, last)
        for k in range(last + 1):
            for axis in range(3):
                path.pixel.light[k, axis] += path.sample.brought[k, axis]
        if job.record:
            note_limits(job, path, half, last)
        if half and job.record:
            take_snapshot(job, path, cell, number + 1)
    store_pixel(job, path, place)
    keep_light(job, path, place, cell, deepest)
    if job.record:
        keep_limits(job, path, cell, done, max(done, job.target))
    put_i32(job.samples, place, int32(max(done, job.target)))
    put_u64(job.cycles, place, u64_at(job.cycles, place) + read_cycles() - started)


@kernel
def keep_light(job, path, place, cell, deepest):
    """Add a pixel's light by bounce to the records."""
    entries = job.bounces + 1
    first, first_cell = place * entries, cell * entries * 3
    for k in range(deepest + 1):
        if job.light != 0:
            add_vector(job.light, first + k, (path.pixel.light[k, 0], path.pixel.light[k, 1], path.pixel.light[k, 2]))
        else:
            for axis in range(3):
                add_f64_atomic(job.light_cells, first_cell + 3 * k + axis, float(path.pixel.light[k, axis]))


@part(types.void(types.int64, types.int64))
def render_tiles(job_address, path_address):
    """Work on tiles until none is left: what each thread runs."""
    job, path = job_at(job_address, 0), path_at(path_address, 0)
    while i32_at(job.cancel, 0) == 0:
        k = take_next(job.counter)
        if k >= job.tile_count:
            break
        started = read_cycles()
        x0, y0 = int64(i32_at(job.tiles, 4 * k)), int64(i32_at(job.tiles, 4 * k + 1))
        x1, y1 = int64(i32_at(job.tiles, 4 * k + 2)), int64(i32_at(job.tiles, 4 * k + 3))
        for y in range(y0, y1):
            if i32_at(job.cancel, 0) != 0:
                break
            for x in range(x0, x1):
                if u8_at(job.active, y * job.width + x):
                    render_pixel(job_address, path_address, x, y)
        ended = read_cycles()
        put_u64(job.spent, k, ended - started)
        put_u64(job.finished, k, ended)
    path.thread.ended = read_cycles()

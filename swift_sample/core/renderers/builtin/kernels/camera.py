"""Where the camera sends a sample: pixel filter, lens and shutter."""

import math

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import (
    HALF,
    ONE,
    TWO,
    ZERO,
    add,
    along,
    f32,
    normalize,
    scale,
    subtract,
    turned,
)
from swift_sample.core.renderers.builtin.kernels.sampler import sample_pair
from swift_sample.core.renderers.builtin.lowlevel.memory import set_vec
from swift_sample.core.renderers.builtin.lowlevel.records import lens_at

TIME_DIMENSION = 1 << 20
"""Sample pair of the moment within the shutter, beyond those of all bounces."""
BOX, TENT, BELL = 0, 1, 2
"""Pixel filters, in the order of the catalogue."""
BELL_DEVIATION = f32(0.5)
BELL_RADIUS = f32(1.5)


@kernel
def tent(u):
    """An offset in pixels from -1 to 1, distributed as a tent filter's weight."""
    if u < HALF:
        return math.sqrt(TWO * u) - ONE
    return ONE - math.sqrt(TWO - TWO * u)


@kernel
def filter_offset(kind, u, v):
    """Where in or around its pixel a sample falls, from the pixel's middle: drawn by the filter's
    weight."""
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
    path.ray.width = job.pixel_width
    path.ray.spread = job.pixel_spread
    u, v = sample_pair(seed, index, 0, job.pattern)
    dx, dy = filter_offset(job.filter, u, v)
    across = (f32(x) + HALF + dx) / f32(job.width) * TWO - ONE
    upward = ONE - (f32(y) + HALF + dy) / f32(job.height) * TWO
    path.ray.time = ZERO

    if lens.timed:
        path.ray.time, _ = sample_pair(seed, index, TIME_DIMENSION, job.pattern)

    time = path.ray.time
    right, up = lens_vector(lens.right, lens, time), lens_vector(lens.up, lens, time)
    forward = lens_vector(lens.forward, lens, time)
    origin = lens_vector(lens.origin, lens, time)
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

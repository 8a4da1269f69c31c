"""Haze: where a ray scatters in it, and how much light it lets through.

Unbiased: delta tracking with weights per colour (Woodcock 1965; Kutz et al. 2017, "Spectral and
Decomposition Tracking"), and ratio tracking for what light samples lose (Novak et al. 2014).
Marched: optical depth summed in steps, with one random offset; faster or slower by its step, and
biased by it. An even medium is solved in closed form. Scattering directions: Henyey and Greenstein
1941.
"""

import math

from numba import int64, types

from swift_sample.core.kernels.compiling import VECTOR, kernel, part
from swift_sample.core.kernels.vector import (
    ONE,
    PI,
    TWO,
    ZERO,
    add,
    along,
    f32,
    frame,
    inside,
    largest,
    multiply,
    scale,
    to_world,
    turned,
)
from swift_sample.core.renderers.builtin.kernels.sampler import next_random
from swift_sample.core.renderers.builtin.lowlevel.memory import f32_at, set_vec, vec
from swift_sample.core.renderers.builtin.lowlevel.records import MARCHED, haze_at, path_at, scene_at

MOST_STEPS = 100_000


@kernel
def grid_value(haze, x, y, z):
    return f32_at(haze.density, (z * haze.rows + y) * haze.columns + x)


@kernel
def density_at(haze, point):
    """Density between grid points, which stand in the middle of their cells."""
    if haze.even:
        return grid_value(haze, int64(0), int64(0), int64(0))

    size = (int64(haze.columns), int64(haze.rows), int64(haze.layers))
    x = (point[0] - haze.low[0]) / (haze.high[0] - haze.low[0]) * f32(size[0]) - f32(0.5)
    y = (point[1] - haze.low[1]) / (haze.high[1] - haze.low[1]) * f32(size[1]) - f32(0.5)
    z = (point[2] - haze.low[2]) / (haze.high[2] - haze.low[2]) * f32(size[2]) - f32(0.5)
    x, y = min(max(x, ZERO), f32(size[0] - 1)), min(max(y, ZERO), f32(size[1] - 1))
    z = min(max(z, ZERO), f32(size[2] - 1))
    x0 = int64(x)
    y0 = int64(y)
    z0 = int64(z)
    x1 = min(x0 + 1, size[0] - 1)
    y1 = min(y0 + 1, size[1] - 1)
    z1 = min(z0 + 1, size[2] - 1)
    place = (x - f32(x0), y - f32(y0), z - f32(z0))
    total = ZERO

    for corner in range(8):
        cx = corner & 1
        cy = (corner >> 1) & 1
        cz = corner >> 2
        weight = (
            (place[0] if cx else ONE - place[0])
            * (place[1] if cy else ONE - place[1])
            * (place[2] if cz else ONE - place[2])
        )
        total += weight * grid_value(haze, x1 if cx else x0, y1 if cy else y0, z1 if cz else z0)

    return total


@kernel
def left_after(depth):
    return math.exp(-depth[0]), math.exp(-depth[1]), math.exp(-depth[2])


@kernel
def mean(colour):
    return (colour[0] + colour[1] + colour[2]) * f32(1 / 3)


@kernel
def march(haze, path, origin, direction, near, far, step):
    """Scatter at the place where the optical depth of one colour, drawn at random, reaches a random
    amount."""
    channel = min(int64(next_random(path) * f32(3)), int64(2))
    target = -math.log(ONE - next_random(path))
    extinction = vec(haze.extinction)
    depth = (ZERO, ZERO, ZERO)
    step = far - near if haze.even else max(step, (far - near) / f32(MOST_STEPS))
    offset = next_random(path)
    t = near

    while t < far:
        width = min(step, far - t)
        slab = scale(
            extinction, density_at(haze, along(origin, direction, t + width * offset)) * width
        )

        if depth[channel] + slab[channel] >= target:
            share = (target - depth[channel]) / slab[channel]
            depth = add(depth, scale(slab, share))
            here = left_after(depth)
            weight = ONE / max(mean(multiply(extinction, here)), f32(1e-30))
            set_vec(
                path.throughput,
                multiply(vec(path.throughput), scale(multiply(vec(haze.scattering), here), weight)),
            )
            return t + width * share

        depth = add(depth, slab)
        t += width

    here = left_after(depth)
    set_vec(
        path.throughput,
        scale(multiply(vec(path.throughput), here), ONE / max(mean(here), f32(1e-30))),
    )
    return -ONE


@kernel
def track(haze, path, origin, direction, near, far):
    """Scatter by tentative collisions at the rate of the densest place."""
    majorant = haze.majorant
    t = near
    throughput = vec(path.throughput)
    scattering = vec(haze.scattering)
    extinction = vec(haze.extinction)

    while True:
        t -= math.log(ONE - next_random(path)) / majorant
        if t >= far:
            break

        density = density_at(haze, along(origin, direction, t)) / majorant
        scattered = scale(scattering, density)
        passed = (
            ONE - extinction[0] * density,
            ONE - extinction[1] * density,
            ONE - extinction[2] * density,
        )
        chance_scattered = mean(multiply(throughput, scattered))
        chance_passed = mean(multiply(throughput, passed))
        total = chance_scattered + chance_passed

        if total <= ZERO:
            throughput = (ZERO, ZERO, ZERO)
            break

        if next_random(path) * total < chance_scattered:
            set_vec(
                path.throughput, scale(multiply(throughput, scattered), total / chance_scattered)
            )
            return t

        throughput = scale(multiply(throughput, passed), total / chance_passed)

    set_vec(path.throughput, throughput)
    return -ONE


@part(
    types.void(
        types.int64, types.int64, *VECTOR, *VECTOR, types.float32, types.int64, types.float32
    )
)
def dim_by_haze(scene_address, path_address, ox, oy, oz, dx, dy, dz, limit, method, step):
    """Multiply `path.dimmed` by the share of light that passes the haze."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    haze = haze_at(scene.haze, 0)
    origin = (ox, oy, oz)
    direction = (dx, dy, dz)
    near, far = inside(haze.low, haze.high, origin, direction, limit)

    if near >= far:
        return

    extinction = vec(haze.extinction)
    left = vec(path.dimmed)

    if haze.even:
        depth = scale(extinction, (far - near) * density_at(haze, origin))
        set_vec(path.dimmed, multiply(left, left_after(depth)))
        return

    t = near
    if method == MARCHED:
        offset = next_random(path)
        depth = ZERO
        step = max(step, (far - near) / f32(MOST_STEPS))

        while t < far:
            width = min(step, far - t)
            depth += density_at(haze, along(origin, direction, t + width * offset)) * width
            t += width

        set_vec(path.dimmed, multiply(left, left_after(scale(extinction, depth))))
        return

    while largest(left) > ZERO:
        t -= math.log(ONE - next_random(path)) / haze.majorant
        if t >= far:
            break
        density = density_at(haze, along(origin, direction, t)) / haze.majorant
        left = multiply(
            left,
            (
                ONE - extinction[0] * density,
                ONE - extinction[1] * density,
                ONE - extinction[2] * density,
            ),
        )

    set_vec(path.dimmed, left)


@part(types.float32(types.int64, types.int64, types.float32, types.int64, types.float32))
def haze_event(scene_address, path_address, limit, method, step):
    """The distance along the path's ray at which it scatters in the haze before `limit`, -1 where
    it does not.

    The path's throughput takes what the haze does to it either way.
    """
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    haze = haze_at(scene.haze, 0)
    origin = vec(path.ray.origin)
    direction = vec(path.ray.direction)
    near, far = inside(haze.low, haze.high, origin, direction, limit)

    if near >= far:
        return -ONE

    if largest(vec(haze.scattering)) <= ZERO:
        set_vec(path.dimmed, vec(path.throughput))
        dim_by_haze(
            scene_address,
            path_address,
            origin[0],
            origin[1],
            origin[2],
            direction[0],
            direction[1],
            direction[2],
            limit,
            method,
            step,
        )

        set_vec(path.throughput, vec(path.dimmed))
        return -ONE

    if method == MARCHED or haze.even:
        return march(haze, path, origin, direction, near, far, step)

    return track(haze, path, origin, direction, near, far)


@kernel
def phase(g, cosine):
    """Density per steradian of scattering by this angle; cosine 1 is straight on."""
    base = ONE + g * g - TWO * g * cosine
    return (ONE - g * g) / (f32(4) * PI * base * math.sqrt(max(base, f32(1e-12))))


@kernel
def sample_phase(g, direction, u, v):
    """A direction after scattering, and its density."""
    if abs(g) < f32(1e-3):
        cosine = ONE - TWO * u
    else:
        ratio = (ONE - g * g) / (ONE - g + TWO * g * u)
        cosine = (ONE + g * g - ratio * ratio) / (TWO * g)

    sine = math.sqrt(max(ZERO, ONE - cosine * cosine))
    across, upward = turned(v)
    tangent, bitangent = frame(direction)

    return to_world((sine * across, sine * upward, cosine), tangent, bitangent, direction), phase(
        g, cosine
    )

"""Light sampling: emissive triangles by power and area, the environment by luminance."""

import math

from numba import int64

from swift_sample.core.compiling import kernel
from swift_sample.core.render.alias import pick_alias
from swift_sample.core.render.vector import (
    HUGE,
    ONE,
    PI,
    TWO_PI,
    ZERO,
    add,
    cross,
    dot,
    f32,
    length,
    negate,
    normalize,
    row3,
    scale,
    subtract,
)


@kernel
def environment_place(lights, direction):
    """Continuous picture coordinates (column, row) of a direction."""
    height, width = lights.environment.shape[0], lights.environment.shape[1]
    turn = math.atan2(direction[0], -direction[2]) / TWO_PI + f32(0.5)
    tilt = math.acos(min(ONE, max(-ONE, direction[1]))) / PI
    return turn * f32(width), tilt * f32(height)


@kernel
def environment_at(lights, column, row):
    """Radiance at continuous picture coordinates, interpolated between pixels."""
    environment = lights.environment
    height, width = environment.shape[0], environment.shape[1]
    x, y = column - f32(0.5), row - f32(0.5)
    x0, y0 = math.floor(x), math.floor(y)
    fx, fy = x - f32(x0), y - f32(y0)
    left = int64(x0)
    left = left + width if left < 0 else left
    right = left + 1 if left + 1 < width else 0
    upper, lower = max(int64(y0), 0), min(int64(y0) + 1, height - 1)
    wa, wb, wc, wd = (ONE - fx) * (ONE - fy), fx * (ONE - fy), (ONE - fx) * fy, fx * fy
    return (wa * environment[upper, left, 0] + wb * environment[upper, right, 0]
            + wc * environment[lower, left, 0] + wd * environment[lower, right, 0],
            wa * environment[upper, left, 1] + wb * environment[upper, right, 1]
            + wc * environment[lower, left, 1] + wd * environment[lower, right, 1],
            wa * environment[upper, left, 2] + wb * environment[upper, right, 2]
            + wc * environment[lower, left, 2] + wd * environment[lower, right, 2])


@kernel
def environment_seen(lights, direction):
    """(radiance, probability per steradian with which `sample_light` picks this direction) of the environment."""
    height, width = lights.environment.shape[0], lights.environment.shape[1]
    rows, columns = lights.sky_density.shape
    column, row = environment_place(lights, direction)
    column, row = min(column, f32(width) * f32(0.9999999)), min(row, f32(height) * f32(0.9999999))
    cell_row, cell_column = int64(row) * rows // height, int64(column) * columns // width
    density = lights.sky_density[cell_row, cell_column] * (ONE - lights.triangle_share)
    return environment_at(lights, column, row), density


@kernel
def cluster_weight(lights, cluster, point):
    """Power over squared distance, levelled off inside the cluster."""
    offset = subtract(row3(lights.cluster_centre, cluster), point)
    return lights.cluster_power[cluster] / max(dot(offset, offset), max(lights.cluster_reach[cluster], f32(1e-8)))


@kernel
def cluster_total(lights, point):
    total = ZERO
    for cluster in range(lights.cluster_power.shape[0]):
        total += cluster_weight(lights, cluster, point)
    return total


@kernel
def choose_cluster(lights, point, u):
    """A cluster by its weight at the point: (cluster, probability, what is left of the number).

    One pass: each cluster replaces the one chosen so far with its share of the running total (Chao 1982), and the
    number is stretched again after every choice.
    """
    chosen, chosen_weight, total = 0, ZERO, ZERO
    for cluster in range(lights.cluster_power.shape[0]):
        weight = cluster_weight(lights, cluster, point)
        total += weight
        share = weight / total
        if u < share:
            chosen, chosen_weight = cluster, weight
            u = u / share
        else:
            u = (u - share) / (ONE - share)
        u = min(u, f32(0.9999999))
    return chosen, chosen_weight / total, u


@kernel
def triangle_density(surfaces, lights, triangle, seen_from, direction, distance):
    """Probability per steradian with which `sample_light` at `seen_from` picks the point hit on an emissive triangle."""
    a = row3(surfaces.positions, surfaces.corners[triangle, 0])
    b = row3(surfaces.positions, surfaces.corners[triangle, 1])
    c = row3(surfaces.positions, surfaces.corners[triangle, 2])
    facing = abs(dot(normalize(cross(subtract(b, a), subtract(c, a))), direction))
    if facing <= ZERO:
        return ZERO
    place = surfaces.light[triangle]
    chance = cluster_weight(lights, lights.cluster[place], seen_from) / cluster_total(lights, seen_from)
    return chance * lights.density[place] * lights.triangle_share * distance * distance / facing


@kernel
def emission_of(surfaces, triangle):
    material = surfaces.materials[surfaces.material[triangle]]
    return (material.emit_r, material.emit_g, material.emit_b)


@kernel
def sample_environment(lights, u, v):
    """A direction by luminance: (direction, distance, radiance, density)."""
    height, width = lights.environment.shape[0], lights.environment.shape[1]
    rows, columns = lights.sky_density.shape
    cell, across = pick_alias(lights.sky_kept, lights.sky_alias, u)
    row, column = cell // columns, cell % columns
    top, bottom = math.cos(PI * f32(row) / f32(rows)), math.cos(PI * f32(row + 1) / f32(rows))
    y = top + (bottom - top) * v
    picture_column = (f32(column) + across) / f32(columns)
    turn = (picture_column - f32(0.5)) * TWO_PI
    flat = math.sqrt(max(ZERO, ONE - y * y))
    radiance = environment_at(lights, picture_column * f32(width), math.acos(y) / PI * f32(height))
    density = lights.sky_density[row, column] * (ONE - lights.triangle_share)
    return (math.sin(turn) * flat, y, -math.cos(turn) * flat), HUGE, radiance, density


@kernel
def sample_light(surfaces, lights, point, choice, u, v):
    """A light sample seen from `point`: (direction, distance, radiance, density per steradian).

    Density 0 means that there is nothing to see.
    """
    if choice >= lights.triangle_share:
        return sample_environment(lights, u, v)
    cluster, chance, rest = choose_cluster(lights, point, choice / lights.triangle_share)
    first, end = lights.cluster_first[cluster], lights.cluster_first[cluster + 1]
    pick, _ = pick_alias(lights.kept[first:end], lights.alias[first:end], rest)
    pick += first
    triangle = lights.triangles[pick]
    a = row3(surfaces.positions, surfaces.corners[triangle, 0])
    edge1 = subtract(row3(surfaces.positions, surfaces.corners[triangle, 1]), a)
    edge2 = subtract(row3(surfaces.positions, surfaces.corners[triangle, 2]), a)
    root = math.sqrt(u)
    target = add(a, add(scale(edge1, root * (ONE - v)), scale(edge2, root * v)))
    offset = subtract(target, point)
    distance = length(offset)
    nothing = (ZERO, ZERO, ZERO)
    if distance <= ZERO:
        return nothing, distance, nothing, ZERO
    direction = scale(offset, ONE / distance)
    facing = -dot(normalize(cross(edge1, edge2)), direction)
    if facing <= f32(1e-6):
        return negate(direction), distance, nothing, ZERO
    density = chance * lights.density[pick] * lights.triangle_share * distance * distance / facing
    return direction, distance, emission_of(surfaces, triangle), density

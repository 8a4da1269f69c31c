"""Light sampling: near lights by power over squared distance, the environment by luminance, directional lights evenly."""

import math

from numba import int64, types

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import (
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
    multiply,
    normalize,
    scale,
    subtract,
)
from swift_sample.core.renderers.builtin.render.alias import ALMOST_ONE, pick_alias
from swift_sample.core.renderers.builtin.render.memory import f32_at, set_vec, vec, vector_at
from swift_sample.core.renderers.builtin.render.records import (
    POINT_LIGHT,
    cluster_at,
    light_at,
    path_at,
    scene_at,
    sun_at,
    texture_use_at,
)
from swift_sample.core.renderers.builtin.render.textures import read_use


@kernel
def sky_place(scene, direction):
    """Continuous picture coordinates (column, row) of a direction, each in [0, 1)."""
    turn = (math.atan2(direction[0], -direction[2]) + scene.turn) / TWO_PI + f32(0.5)
    tilt = math.acos(min(ONE, max(-ONE, direction[1]))) / PI
    return min(turn - math.floor(turn), ALMOST_ONE), min(tilt, ALMOST_ONE)


@kernel
def sky_radiance(scene, column, row):
    """Radiance at picture coordinates in [0, 1), interpolated between pixels."""
    width, height = int64(scene.sky_width), int64(scene.sky_height)
    if width == 1 and height == 1:
        return vector_at(scene.environment, 0)
    x, y = column * f32(width) - f32(0.5), row * f32(height) - f32(0.5)
    x0, y0 = math.floor(x), math.floor(y)
    fx, fy = x - f32(x0), y - f32(y0)
    left = int64(x0)
    left = left + width if left < 0 else left
    right = left + 1 if left + 1 < width else int64(0)
    upper, lower = max(int64(y0), 0) * width, min(int64(y0) + 1, height - 1) * width
    a, b = vector_at(scene.environment, upper + left), vector_at(scene.environment, upper + right)
    c, d = vector_at(scene.environment, lower + left), vector_at(scene.environment, lower + right)
    above = add(scale(a, ONE - fx), scale(b, fx))
    below = add(scale(c, ONE - fx), scale(d, fx))
    return add(scale(above, ONE - fy), scale(below, fy))


@kernel
def sky_seen(scene, direction):
    """(radiance, probability per steradian with which `sample_light` picks this direction) of the environment."""
    column, row = sky_place(scene, direction)
    rows, columns = int64(scene.sky_rows), int64(scene.sky_columns)
    cell = int64(row * f32(rows)) * columns + int64(column * f32(columns))
    return sky_radiance(scene, column, row), f32_at(scene.sky_density, cell) * scene.sky_share


@kernel
def cluster_weight(scene, place, point, side):
    """Power over squared distance, levelled off inside the cluster, times a bound of the cosine at the lit side."""
    cluster = cluster_at(scene.clusters, place)
    offset, radius = subtract(vec(cluster.centre), point), cluster.radius
    squared = dot(offset, offset)
    weight = cluster.power / max(squared, max(radius * radius, f32(1e-8)))
    if dot(side, side) > ZERO:
        weight *= min(max(dot(offset, side) + radius, ZERO) / max(math.sqrt(squared), f32(1e-6)), ONE)
    return weight


@kernel
def cluster_chance(scene, place, point, side):
    """Probability that a point chooses this cluster."""
    total = ZERO
    for k in range(scene.cluster_count):
        total += cluster_weight(scene, int64(k), point, side)
    return cluster_weight(scene, place, point, side) / total if total > ZERO else ZERO


@part(types.float32(types.int64, types.int64, types.int64))
def triangle_density(scene_address, path_address, place):
    """Probability per steradian with which `sample_light`, from where the path scattered last, picks the point in hand."""
    scene, path = scene_at(scene_address, 0), path_at(path_address, 0)
    light = light_at(scene.lights, place)
    facing = abs(dot(vec(path.hit.geometric), vec(path.ray.direction)))
    if facing <= ZERO:
        return ZERO
    seen_from = vec(path.scattered_at)
    offset = subtract(vec(path.hit.point), seen_from)
    chance = cluster_chance(scene, int64(light.cluster), seen_from, vec(path.lit_side))
    return chance * light.density * scene.near_share * dot(offset, offset) / facing


@kernel
def set_light_sample(path, direction, distance, radiance, density, exact):
    set_vec(path.light.direction, direction)
    set_vec(path.light.radiance, radiance)
    path.light.distance, path.light.density, path.light.exact = distance, density, exact


@kernel
def sample_sky(scene, path, u, v):
    """A direction by luminance."""
    rows, columns = int64(scene.sky_rows), int64(scene.sky_columns)
    cell, across = pick_alias(scene.sky_kept, scene.sky_alias, rows * columns, u)
    row, column = cell // columns, cell % columns
    top, bottom = math.cos(PI * f32(row) / f32(rows)), math.cos(PI * f32(row + 1) / f32(rows))
    y = top + (bottom - top) * v
    picture_column = (f32(column) + across) / f32(columns)
    turn = (picture_column - f32(0.5)) * TWO_PI - scene.turn
    flat = math.sqrt(max(ZERO, ONE - y * y))
    radiance = sky_radiance(scene, picture_column, min(math.acos(y) / PI, ALMOST_ONE))
    density = f32_at(scene.sky_density, cell) * scene.sky_share
    set_light_sample(path, (math.sin(turn) * flat, y, -math.cos(turn) * flat), HUGE, radiance, density, 0)


@kernel
def choose_cluster(scene, path, point, u):
    """A cluster by its weight at the point: (cluster, probability, what is left of the number)."""
    side = vec(path.lit_side)
    count, total = int64(scene.cluster_count), ZERO
    for k in range(count):
        path.weights[k] = cluster_weight(scene, int64(k), point, side)
        total += path.weights[k]
    rest = u * total
    last = count - 1
    for k in range(count):
        weight = path.weights[k]
        if weight > ZERO and (rest < weight or k == last):
            return int64(k), weight / total, min(rest / weight, ALMOST_ONE)
        rest -= weight
    return int64(0), ZERO, ZERO


@kernel
def spot_share(light, cosine):
    """glTF's falloff between the cones (KHR_lights_punctual)."""
    share = min(max(cosine * light.cone_scale + light.cone_offset, ZERO), ONE)
    return share * share


@part(
    types.void(
        types.int64, types.int64, types.float32, types.float32, types.float32, types.float32, types.float32, types.float32
    )
)
def sample_light(scene_address, path_address, x, y, z, choice, u, v):
    """A light that can reach the path's lit side at (x, y, z), into its light fields; density 0 means that there is nothing.

    `light_exact` is 1 where no scattered ray could find the same light by chance.
    """
    scene, path = scene_at(scene_address, 0), path_at(path_address, 0)
    path.light.density = ZERO
    if choice >= scene.near_share:
        choice -= scene.near_share
        if choice < scene.sky_share:
            sample_sky(scene, path, u, v)
        elif scene.sun_count > 0:
            share = ONE - scene.near_share - scene.sky_share
            k = min(int64((choice - scene.sky_share) / share * f32(scene.sun_count)), int64(scene.sun_count) - 1)
            sun = sun_at(scene.suns, k)
            set_light_sample(path, vec(sun.direction), HUGE, vec(sun.irradiance), share / f32(scene.sun_count), 1)
        return
    point = (x, y, z)
    place, chance, rest = choose_cluster(scene, path, point, choice / scene.near_share)
    if chance <= ZERO:
        return
    cluster = cluster_at(scene.clusters, place)
    first, count = int64(cluster.first), int64(cluster.count)
    scaled = rest * f32(count)
    pick = min(int64(scaled), count - 1)
    light = light_at(scene.lights, first + pick)
    if scaled - f32(pick) >= light.kept:
        light = light_at(scene.lights, first + int64(light.alias))
    if light.kind == POINT_LIGHT:
        offset = subtract(vec(light.corner), point)
        distance = length(offset)
        if distance <= f32(1e-6):
            return
        direction = scale(offset, ONE / distance)
        colour = scale(vec(light.colour), spot_share(light, -dot(direction, vec(light.edge1))) / (distance * distance))
        set_light_sample(path, direction, distance, colour, chance * light.density * scene.near_share, 1)
        return
    edge1, edge2 = vec(light.edge1), vec(light.edge2)
    root = math.sqrt(u)
    wb, wc = root * (ONE - v), root * v
    offset = subtract(add(vec(light.corner), add(scale(edge1, wb), scale(edge2, wc))), point)
    distance = length(offset)
    if distance <= ZERO:
        return
    direction = scale(offset, ONE / distance)
    facing = -dot(normalize(cross(edge1, edge2)), direction)
    if facing <= f32(1e-6):
        return
    density = chance * light.density * scene.near_share * distance * distance / facing
    radiance = vec(light.colour)
    if light.textured >= 0:
        use = texture_use_at(scene.texture_uses, int64(light.textured))
        w = ONE - wb - wc
        texel = read_use(
            scene,
            path,
            use,
            w * light.u[0] + wb * light.u[1] + wc * light.u[2],
            w * light.v[0] + wb * light.v[1] + wc * light.v[2],
            ZERO,
        )
        radiance = multiply(radiance, (texel[0], texel[1], texel[2]))
    set_light_sample(path, direction, distance, radiance, density, 0)

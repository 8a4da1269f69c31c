"""Light sampling. Near lights, patches of the sky and directional lights stand in clusters
(`light_clusters`); one is chosen by what it may bring to a place, and a light within it by
power."""

import math

from numba import int64, types

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import (
    HALF,
    HUGE,
    ONE,
    PI,
    TWO_PI,
    ZERO,
    add,
    arc_cosine,
    cross,
    dot,
    f32,
    floor,
    length,
    multiply,
    normalize,
    scale,
    subtract,
    turned,
)
from swift_sample.core.renderers.builtin.kernels.sampler import hash_bits, to_unit
from swift_sample.core.renderers.builtin.kernels.textures import read_use
from swift_sample.core.renderers.builtin.lowlevel.memory import (
    f32_at,
    i32_at,
    set_vec,
    vec,
    vector_at,
)
from swift_sample.core.renderers.builtin.lowlevel.records import (
    MAX_CLUSTERS,
    POINT_LIGHT,
    SKY,
    SUNS,
    WEIGHTS_OFFSET,
    cluster_at,
    light_at,
    path_at,
    scene_at,
    sun_at,
    texture_use_at,
)
from swift_sample.core.renderers.builtin.lowlevel.simd import (
    eight_far_clusters,
    eight_near_clusters,
)
from swift_sample.core.renderers.builtin.tables.alias import ALMOST_ONE, pick_in_order


@kernel
def sky_place(scene, direction):
    """Continuous picture coordinates (column, row) of a direction, each in [0, 1)."""
    turn = (math.atan2(direction[0], -direction[2]) + scene.turn) / TWO_PI + f32(0.5)
    tilt = arc_cosine(min(ONE, max(-ONE, direction[1]))) / PI
    return min(turn - f32(floor(turn)), ALMOST_ONE), min(tilt, ALMOST_ONE)


@kernel
def sky_radiance(scene, column, row):
    """Radiance at picture coordinates in [0, 1), interpolated between pixels."""
    width, height = int64(scene.sky_width), int64(scene.sky_height)
    if width == 1 and height == 1:
        return vector_at(scene.environment, 0)

    x, y = column * f32(width) - f32(0.5), row * f32(height) - f32(0.5)
    x0, y0 = floor(x), floor(y)
    fx = x - f32(x0)
    fy = y - f32(y0)
    left = x0 + width if x0 < 0 else x0
    right = left + 1 if left + 1 < width else int64(0)
    upper = max(y0, 0) * width
    lower = min(y0 + 1, height - 1) * width
    a = vector_at(scene.environment, upper + left)
    b = vector_at(scene.environment, upper + right)
    c = vector_at(scene.environment, lower + left)
    d = vector_at(scene.environment, lower + right)
    above = add(scale(a, ONE - fx), scale(b, fx))
    below = add(scale(c, ONE - fx), scale(d, fx))

    return add(scale(above, ONE - fy), scale(below, fy))


@kernel
def cluster_chance(path, place):
    """Probability with which a light sample, from where the path scattered last, is of this
    cluster."""
    return (
        path.weights[place] / path.weight_total if place >= 0 and path.weight_total > ZERO else ZERO
    )


@kernel
def sky_seen(scene, path, direction):
    """(radiance, probability per steradian with which `sample_light`, from where the path scattered
    last, picks this direction) of the environment."""
    column, row = sky_place(scene, direction)
    rows, columns = int64(scene.sky_rows), int64(scene.sky_columns)
    cell = int64(row * f32(rows)) * columns + int64(column * f32(columns))
    chance = cluster_chance(path, int64(i32_at(scene.sky_patch, cell)))

    return sky_radiance(scene, column, row), f32_at(scene.sky_density, cell) * chance


@kernel
def visibility_place(scene, path, point):
    """The place of `scene.visibility` at or beside a point. Which, is the same for all samples of a
    pixel, so that their pattern stays even, and differs from pixel to pixel, so that no edge
    between places shows."""
    side = int64(scene.visibility_side)
    if side == 1:
        return int64(0)

    place = int64(0)
    bits = hash_bits(path.own_seed)

    for axis in range(3):
        beside = to_unit(bits) - HALF
        bits = hash_bits(bits)
        at = (point[axis] - scene.visibility_low[axis]) * scene.visibility_scale[axis] + beside
        place = place * side + min(max(int64(at), int64(0)), side - 1)

    return place


@part(types.void(types.int64, types.int64))
def weigh_lights(scene_address, path_address):
    """How much light each cluster may bring to `path.hit.point` and its lit side, into the path's
    weights: what it would bring at most, by power, distance and angles, times how much of that
    arrived when it was tried thereabouts."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    point = vec(path.hit.point)
    side = vec(path.lit_side)
    shares = scene.visibility + MAX_CLUSTERS * visibility_place(scene, path, point)
    sided = dot(side, side)
    total = ZERO
    near = int64(scene.near_clusters) >> 3

    for k in range((int64(scene.cluster_count) + 7) >> 3):
        into = path_address + WEIGHTS_OFFSET + 32 * k
        if k < near:
            own = eight_near_clusters(scene.cluster_rows, 8 * k, shares, point, side, sided, into)
        else:
            own = eight_far_clusters(scene.cluster_rows, 8 * k, shares, side, sided, into)

        path.weight_sums[k] = own
        total += own

    path.weight_total = total


@part(types.float32(types.int64, types.int64, types.int64))
def triangle_density(scene_address, path_address, place):
    """Probability per steradian with which `sample_light`, from where the path scattered last,
    picks the point in hand."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    light = light_at(scene.lights, place)
    facing = abs(dot(vec(path.hit.geometric), vec(path.ray.direction)))

    if facing <= ZERO:
        return ZERO

    seen_from = vec(path.scattered_at)
    offset = subtract(vec(path.hit.point), seen_from)
    return cluster_chance(path, int64(light.cluster)) * light.density * dot(offset, offset) / facing


@kernel
def set_light_sample(path, direction, distance, radiance, density, exact):
    set_vec(path.light.direction, direction)
    set_vec(path.light.radiance, radiance)
    path.light.distance = distance
    path.light.density = density
    path.light.exact = exact


@kernel
def sample_sky(scene, path, cluster, chance, rest, v):
    """A direction within a patch of the sky, by luminance."""
    columns, rows = int64(scene.sky_columns), int64(scene.sky_rows)
    place, down = pick_in_order(
        scene.sky_row_sums + 4 * int64(cluster.first), int64(cluster.count), v
    )
    row = int64(cluster.row) + place
    cell = row * columns + int64(cluster.column)
    place, across = pick_in_order(scene.sky_sums + 4 * cell, int64(cluster.columns), rest)
    cell = cell + place
    column = int64(cluster.column) + place
    top, _ = turned(HALF * f32(row) / f32(rows))
    bottom, _ = turned(HALF * f32(row + 1) / f32(rows))
    y = top + (bottom - top) * down
    picture_column = (f32(column) + across) / f32(columns)
    south, east = turned(picture_column - HALF - scene.turn / TWO_PI)
    flat = math.sqrt(max(ZERO, ONE - y * y))
    radiance = sky_radiance(scene, picture_column, min(arc_cosine(y) / PI, ALMOST_ONE))
    density = f32_at(scene.sky_density, cell) * chance
    set_light_sample(path, (east * flat, y, -south * flat), HUGE, radiance, density, 0)


@kernel
def choose_cluster(scene, path, u):
    """A cluster by its weight: (cluster, probability, what is left of the number)."""
    rest = u * path.weight_total
    block = int64(0)
    last = (int64(scene.cluster_count) - 1) >> 3

    while block < last and rest >= path.weight_sums[block]:
        rest -= path.weight_sums[block]
        block += 1

    chosen = int64(-1)
    weight = ZERO

    for k in range(8 * block, 8 * block + 8):
        own = path.weights[k]
        if own > ZERO:
            chosen = k
            weight = own
            if rest < own:
                break
            rest -= own

    if weight <= ZERO:
        return int64(-1), ZERO, ZERO

    return chosen, weight / path.weight_total, max(ZERO, min(rest / weight, ALMOST_ONE))


@kernel
def spot_share(light, cosine):
    """glTF's falloff between the cones (KHR_lights_punctual)."""
    share = min(max(cosine * light.cone_scale + light.cone_offset, ZERO), ONE)
    return share * share


@kernel
def sample_cluster(scene, path, place, chance, rest, u, v):
    """A light of one cluster, chosen with this probability, into the path's light fields."""
    cluster = cluster_at(scene.clusters, place)
    if cluster.kind == SKY:
        sample_sky(scene, path, cluster, chance, rest, v)
        return

    if cluster.kind == SUNS:
        k = int64(cluster.first) + min(int64(rest * f32(cluster.count)), int64(cluster.count) - 1)
        sun = sun_at(scene.suns, k)
        set_light_sample(
            path,
            vec(sun.direction),
            HUGE,
            vec(sun.irradiance),
            chance / f32(cluster.count),
            sun.exact,
        )
        return

    point = vec(path.hit.point)
    first = int64(cluster.first)
    count = int64(cluster.count)
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
        colour = scale(
            vec(light.colour),
            spot_share(light, -dot(direction, vec(light.edge1))) / (distance * distance),
        )
        set_light_sample(path, direction, distance, colour, chance * light.density, light.exact)
        return

    edge1 = vec(light.edge1)
    edge2 = vec(light.edge2)
    root = math.sqrt(u)
    wb = root * (ONE - v)
    wc = root * v
    offset = subtract(add(vec(light.corner), add(scale(edge1, wb), scale(edge2, wc))), point)
    distance = length(offset)

    if distance <= ZERO:
        return

    direction = scale(offset, ONE / distance)
    facing = -dot(normalize(cross(edge1, edge2)), direction)
    if light.both_sides:
        facing = abs(facing)
    if facing <= f32(1e-6):
        return

    density = chance * light.density * distance * distance / facing
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


@part(types.void(types.int64, types.int64, types.float32, types.float32, types.float32))
def sample_light(scene_address, path_address, choice, u, v):
    """A light that can reach `path.hit.point` on its lit side, by `weigh_lights`, into the path's
    light fields; density 0 means that there is nothing. `choice` and `v` are a pair of an even
    pattern: they choose the cluster, and the column and row of a patch of the sky; `u` chooses
    among near lights.

    `light.exact` is not 0 where no scattered ray could find the same light by chance.
    """
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    path.light.density = ZERO
    place, chance, rest = choose_cluster(scene, path, choice)

    if place >= 0:
        sample_cluster(scene, path, place, chance, rest, u, v)

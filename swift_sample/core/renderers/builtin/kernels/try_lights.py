"""Trying lights out for `visibility`: places that the camera and its light see, and what each
cluster brings there."""

import math

from numba import int32, int64, types, uint32

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import (
    HALF,
    HUGE,
    ONE,
    ZERO,
    dot,
    f32,
    frame,
    normalize,
    to_world,
    turned,
)
from swift_sample.core.renderers.builtin.kernels.hit import find_hit
from swift_sample.core.renderers.builtin.kernels.lights import sample_cluster, weigh_lights
from swift_sample.core.renderers.builtin.kernels.path import moved_off
from swift_sample.core.renderers.builtin.kernels.sampler import hash_bits, to_unit
from swift_sample.core.renderers.builtin.kernels.traverse import EVERYTHING, MET, any_hit
from swift_sample.core.renderers.builtin.lowlevel.memory import f32_at, put_f32, set_vec, vec
from swift_sample.core.renderers.builtin.lowlevel.records import (
    CUT_BLEND,
    MAX_CLUSTERS,
    MOST_HOLES,
    TREE_BYTES,
    UNSHADOWED,
    material_at,
    path_at,
    scene_at,
)

HITS = 3
MOST_PASSED = 8
"""Places on the way of each ray, and clear or cut-out surfaces that it passes."""
PLACE_FLOATS = 7
"""Of a place: point, facing normal, and 1 where there is one."""
NEGLIGIBLE = f32(1e-3)
"""Share of all weight under which a cluster is not tried at a place."""
MOST_RATIO = f32(4.0)
"""What a cluster brings over what it might bring is taken to be no more: one lucky try does not
decide."""


@kernel
def random_of(number, which):
    """A number in [0, 1) for a place and a purpose."""
    return to_unit(hash_bits(uint32(number) * uint32(0x9E3779B9) ^ hash_bits(uint32(which))))


@part(types.void(types.int64, types.int64, types.int64, types.int64, types.int64))
def find_places(scene_address, path_address, rays, count, places):
    """Follow rays (origin and direction, six floats each) and note where they are scattered."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)

    for k in range(count):
        set_vec(
            path.ray.origin, (f32_at(rays, 6 * k), f32_at(rays, 6 * k + 1), f32_at(rays, 6 * k + 2))
        )
        set_vec(
            path.ray.direction,
            (f32_at(rays, 6 * k + 3), f32_at(rays, 6 * k + 4), f32_at(rays, 6 * k + 5)),
        )
        path.ray.time = ZERO
        noted = int64(0)
        passed = int64(0)

        while noted < HITS and passed < MOST_PASSED:
            if not find_hit(scene_address, path_address, HUGE, EVERYTHING if noted == 0 else MET):
                break

            material = material_at(scene.materials, int64(path.hit.material))
            direction = vec(path.ray.direction)
            point = vec(path.hit.point)
            facing = vec(path.hit.facing)

            if material.transmission > HALF or material.cut == CUT_BLEND:
                passed += 1
                set_vec(path.ray.origin, moved_off(point, facing, direction))
                continue

            place = (k * HITS + noted) * PLACE_FLOATS
            for axis in range(3):
                put_f32(places, place + axis, point[axis])
                put_f32(places, place + 3 + axis, facing[axis])

            put_f32(places, place + 6, ONE)
            noted += 1
            u, v = random_of(k, 2 * noted), random_of(k, 2 * noted + 1)
            tangent, bitangent = frame(facing)
            flat = math.sqrt(u)
            cosine, sine = turned(v)
            into = (flat * cosine, flat * sine, math.sqrt(max(ZERO, ONE - u)))
            out = normalize(to_world(into, tangent, bitangent, facing))
            set_vec(path.ray.origin, moved_off(point, facing, out))
            set_vec(path.ray.direction, out)


@part(types.void(types.int64, types.int64, types.int64, types.int64, types.int64))
def try_clusters(scene_address, path_address, places, count, tries):
    """What every cluster brings to each place over what it might bring, into float32[count,
    MAX_CLUSTERS]; below zero where it was not tried."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    clusters = int64(scene.cluster_count)

    for k in range(count):
        first = k * PLACE_FLOATS
        set_vec(
            path.hit.point,
            (f32_at(places, first), f32_at(places, first + 1), f32_at(places, first + 2)),
        )
        normal = (f32_at(places, first + 3), f32_at(places, first + 4), f32_at(places, first + 5))
        set_vec(path.lit_side, normal)
        weigh_lights(scene_address, path_address)
        point = vec(path.hit.point)

        for cluster in range(clusters):
            weight = path.weights[cluster]
            if weight <= NEGLIGIBLE * path.weight_total:
                continue

            seed = k * MAX_CLUSTERS + cluster
            path.light.density = ZERO
            sample_cluster(
                scene,
                path,
                cluster,
                ONE,
                random_of(seed, 1),
                random_of(seed, 2),
                random_of(seed, 3),
            )
            ratio = ZERO
            direction = vec(path.light.direction)
            radiance = vec(path.light.radiance)
            cosine = dot(direction, normal)

            if path.light.density > ZERO and cosine > ZERO:
                brought = cosine * (
                    f32(0.2126) * radiance[0]
                    + f32(0.7152) * radiance[1]
                    + f32(0.0722) * radiance[2]
                )
                ratio = min(brought / (path.light.density * weight), MOST_RATIO)
                origin = moved_off(point, normal, direction)
                far = path.light.distance
                reach = far if far >= HUGE else far * f32(0.9999) - f32(2e-5)
                path.light.open = ONE
                path.light.may_pass = int32(MOST_HOLES)

                for tree in range(scene.met_trees if path.light.exact != UNSHADOWED else 0):
                    if ratio > ZERO and any_hit(
                        scene_address,
                        path_address,
                        scene.trees + tree * TREE_BYTES,
                        path.working,
                        origin[0],
                        origin[1],
                        origin[2],
                        direction[0],
                        direction[1],
                        direction[2],
                        reach,
                        ZERO,
                    ):
                        ratio = ZERO

                ratio *= path.light.open

            put_f32(tries, seed, ratio)

"""Scattering below the surface: a random walk inside the object until it comes out again.

The boundary passes light diffusely both ways; between, distances follow the extinction of one
colour, drawn anew for each step, with weights for all three (Chiang, Kutz and Burley 2016,
"Practical and Controllable Subsurface Scattering for Production Path Tracing", without its
inversion: the coefficients are physical).
"""

import math

from numba import int32, int64, types

from swift_sample.core.kernels.compiling import part
from swift_sample.core.kernels.vector import (
    ONE,
    TWO,
    ZERO,
    along,
    dot,
    f32,
    frame,
    largest,
    multiply,
    negate,
    scale,
    turned,
)
from swift_sample.core.renderers.builtin.kernels.hit import find_hit, shading_normal
from swift_sample.core.renderers.builtin.kernels.sampler import next_random
from swift_sample.core.renderers.builtin.kernels.surface import DIFFUSE_LOBE, LOBES
from swift_sample.core.renderers.builtin.kernels.traverse import WALLS
from swift_sample.core.renderers.builtin.lowlevel.memory import set_vec, vec
from swift_sample.core.renderers.builtin.lowlevel.records import (
    WALK_RAY,
    face_at,
    material_at,
    path_at,
    scene_at,
)

MOST_STEPS = 1024
FREE_STEPS = 16
"""After this many steps faint walks are ended at random."""


@part(types.int64(types.int64, types.int64))
def walk_subsurface(scene_address, path_address):
    """Walk along the path's ray; 1 where light comes out, and the current surface is then that
    place.

    It is then a white diffuse surface; what the walk keeps is in the throughput.
    """
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    material = material_at(scene.materials, int64(path.hit.material))
    extinction = vec(material.walk_extinction)
    albedo = vec(material.walk_albedo)
    kept = (ONE, ONE, ONE)

    for step in range(MOST_STEPS):
        wanted = multiply(kept, albedo)
        total = wanted[0] + wanted[1] + wanted[2]
        if total <= ZERO:
            return 0

        chance = scale(wanted, ONE / total)
        choice = next_random(path)
        rate = (
            extinction[0]
            if choice < chance[0]
            else extinction[1]
            if choice < chance[0] + chance[1]
            else extinction[2]
        )
        distance = -math.log(ONE - next_random(path)) / rate
        found = find_hit(scene_address, path_address, distance, WALLS)
        path.thread.rays[path.bounce, WALK_RAY] += 1

        if found:
            distance = path.hit.distance

        left = (
            math.exp(-extinction[0] * distance),
            math.exp(-extinction[1] * distance),
            math.exp(-extinction[2] * distance),
        )
        if found:
            density = dot(chance, left)
            kept = scale(multiply(kept, left), ONE / max(density, f32(1e-30)))
            break

        density = dot(chance, multiply(extinction, left))
        kept = scale(
            multiply(multiply(kept, multiply(albedo, extinction)), left),
            ONE / max(density, f32(1e-30)),
        )

        if step >= FREE_STEPS:
            survival = min(largest(kept), f32(0.98))
            if next_random(path) >= survival:
                return 0
            kept = scale(kept, ONE / survival)

        set_vec(path.ray.origin, along(vec(path.ray.origin), vec(path.ray.direction), distance))
        z = ONE - TWO * next_random(path)
        flat = math.sqrt(max(ZERO, ONE - z * z))
        cosine, sine = turned(next_random(path))
        set_vec(path.ray.direction, (flat * cosine, flat * sine, z))
    else:
        return 0

    outward = (
        vec(path.hit.geometric)
        if dot(vec(path.hit.geometric), vec(path.ray.direction)) > ZERO
        else negate(vec(path.hit.geometric))
    )
    normal = shading_normal(
        face_at(scene.faces, int64(path.hit.face)), outward, path.hit.wb, path.hit.wc
    )
    tangent, bitangent = frame(normal)
    set_vec(path.throughput, multiply(vec(path.throughput), kept))
    set_vec(path.hit.facing, outward)
    set_vec(path.surface.normal, normal)
    set_vec(path.surface.tangent, tangent)
    set_vec(path.surface.bitangent, bitangent)
    set_vec(path.surface.out, (ZERO, ZERO, ONE))
    set_vec(path.surface.base, (ONE, ONE, ONE))
    path.surface.metallic = path.surface.transmission = path.surface.through = (
        path.surface.specular
    ) = path.surface.coat = ZERO
    path.surface.body = path.surface.under = path.surface.alpha = ONE
    path.surface.smooth = path.surface.walks = int32(0)
    path.surface.plain = path.surface.thin = int32(1)
    path.surface.reflects = path.surface.refracts = int32(0)
    for lobe in range(LOBES):
        path.surface.chance[lobe] = ONE if lobe == DIFFUSE_LOBE else ZERO

    return 1

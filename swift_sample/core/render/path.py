"""The path tracer: unidirectional, with next-event estimation and multiple importance sampling (Veach 1997).

`bounces.total = n` allows n scatterings after the first hit has been lit directly. Light that directly reaches hit
k + 1 belongs to entry k of `light_by_bounce`, whether it was found by a light sample or by the scattered ray.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import int64, uint32, uint64

from swift_sample.core.compiling import kernel
from swift_sample.core.render.compiled import CompiledScene, Lens
from swift_sample.core.render.film import FilmArrays
from swift_sample.core.render.lights import (
    emission_of,
    environment_seen,
    sample_light,
    triangle_density,
)
from swift_sample.core.render.sampler import hash_bits, pixel_seed, sample_pair
from swift_sample.core.render.simd import read_cycles, take_next
from swift_sample.core.render.surface import DIFFUSE, TRANSMISSION, Shading, evaluate, sample
from swift_sample.core.render.traverse import TraversalScratch, any_hit, closest_hit, new_traversal_scratch
from swift_sample.core.render.vector import (
    HUGE,
    ONE,
    TWO,
    ZERO,
    add,
    along,
    cross,
    dot,
    f32,
    frame,
    largest,
    multiply,
    negate,
    normalize,
    row3,
    scale,
    subtract,
    to_local,
    to_world,
)

MAX_NESTED_MEDIA = 8
MAX_PASSED_BOUNDARIES = 64
"""Boundaries inside a medium of higher priority that a path may pass before it is given up."""

PATH_RAY, SHADOW_RAY = 0, 1
"""Kinds of rays counted."""

FIRST_BOUNCE_DIMENSION, DIMENSIONS_PER_BOUNCE = 2, 4
"""Sample pairs: 0 place in the pixel, 1 lens; then for each bounce lobe, direction, light choice, light position."""

HALF_SEED = 0x5BD1E995
"""Tells the two halves of the samples apart."""


class PathSettings(NamedTuple):
    """What the kernels need of a configuration."""

    seed: int
    pattern: int
    bounces: int
    roulette_start: int
    clamp_direct: np.float32
    clamp_indirect: np.float32
    target: int
    """samples each active pixel shall have after this round"""
    record: bool


class Scratch(NamedTuple):
    """Working memory and records of one thread."""

    traversal: TraversalScratch
    media: np.ndarray
    """int32[MAX_NESTED_MEDIA]: materials the ray is inside of"""
    bounce_light: np.ndarray
    """float32[bounces + 1, 3]: light of the current sample by bounce"""
    light: np.ndarray
    """float64[bounces + 1, 3]: summed over samples, where all pixels take equally many"""
    rays: np.ndarray
    """int64[bounces + 2, 2]: by bounce and kind"""
    cycles: np.ndarray
    """uint64[bounces + 2]: by bounce"""
    dropped: np.ndarray
    """int64[1]: samples left out because they were not finite"""


def new_scratch(bounces: int) -> Scratch:
    return Scratch(new_traversal_scratch(), np.zeros(MAX_NESTED_MEDIA, np.int32),
                   np.zeros((bounces + 1, 3), np.float32), np.zeros((bounces + 1, 3), np.float64),
                   np.zeros((bounces + 2, 2), np.int64), np.zeros(bounces + 2, np.uint64), np.zeros(1, np.int64))


class FirstSeen(NamedTuple):
    """What a denoiser is guided by: the first surface that is not perfectly smooth."""

    albedo: tuple[np.float32, np.float32, np.float32]
    normal: tuple[np.float32, np.float32, np.float32]
    depth: np.float32


@kernel
def barycentric(a, b, c, point):
    """Weights of b and c at a point of the triangle."""
    e1, e2, p = subtract(b, a), subtract(c, a), subtract(point, a)
    d11, d12, d22 = dot(e1, e1), dot(e1, e2), dot(e2, e2)
    p1, p2 = dot(p, e1), dot(p, e2)
    size = d11 * d22 - d12 * d12
    inverse = ONE / size if size != ZERO else ZERO
    return (d22 * p1 - d12 * p2) * inverse, (d11 * p2 - d12 * p1) * inverse


@kernel
def texture_colour(surfaces, texture, u, v):
    """A texture at (u, v), repeated and interpolated."""
    first, width, height = surfaces.textures[texture]
    x = (u - math.floor(u)) * f32(width) - f32(0.5)
    y = (v - math.floor(v)) * f32(height) - f32(0.5)
    x0, y0 = math.floor(x), math.floor(y)
    fx, fy = x - f32(x0), y - f32(y0)
    left, upper = int64(x0) % width, int64(y0) % height
    right, lower = (left + 1) % width, (upper + 1) % height
    a = row3(surfaces.texels, first + upper * width + left)
    b = row3(surfaces.texels, first + upper * width + right)
    c = row3(surfaces.texels, first + lower * width + left)
    d = row3(surfaces.texels, first + lower * width + right)
    above = add(scale(a, ONE - fx), scale(b, fx))
    below = add(scale(c, ONE - fx), scale(d, fx))
    return add(scale(above, ONE - fy), scale(below, fy))


@kernel
def shading_normal(surfaces, triangle, geometric, wb, wc):
    """The interpolated normal, on the geometric normal's side; the geometric one where the mesh has none."""
    corners = surfaces.corners[triangle]
    a, b, c = row3(surfaces.normals, corners[0]), row3(surfaces.normals, corners[1]), row3(surfaces.normals, corners[2])
    n = add(scale(a, ONE - wb - wc), add(scale(b, wb), scale(c, wc)))
    if dot(n, n) < f32(1e-6):
        return geometric
    n = normalize(n)
    return n if dot(n, geometric) >= ZERO else negate(n)


@kernel
def base_colour(surfaces, triangle, wb, wc):
    material = surfaces.materials[surfaces.material[triangle]]
    base = (material.base_r, material.base_g, material.base_b)
    if material.texture < 0:
        return base
    corners = surfaces.corners[triangle]
    wa = ONE - wb - wc
    uvs = surfaces.uvs
    u = wa * uvs[corners[0], 0] + wb * uvs[corners[1], 0] + wc * uvs[corners[2], 0]
    v = wa * uvs[corners[0], 1] + wb * uvs[corners[1], 1] + wc * uvs[corners[2], 1]
    return multiply(base, texture_colour(surfaces, material.texture, u * material.repeat_u, v * material.repeat_v))


@kernel
def ruling_medium(surfaces, media, count, without):
    """The place of the medium with the highest priority, the latest of equals, leaving one place out; -1 for air."""
    best, best_priority = -1, -1
    for i in range(count):
        if i != without:
            priority = surfaces.materials[media[i]].priority
            if priority >= best_priority:
                best, best_priority = i, priority
    return best


@kernel
def place_of(media, count, material):
    """The latest place of a material on the stack, -1 where it is missing."""
    for i in range(count - 1, -1, -1):
        if media[i] == material:
            return i
    return -1


@kernel
def ior_at(surfaces, media, place):
    return surfaces.materials[media[place]].ior if place >= 0 else ONE


@kernel
def cross_boundary(media, count, material, entering):
    """Put a material on the stack or take it off; returns the new count."""
    if entering:
        if count < media.shape[0]:
            media[count] = material
            return count + 1
        return count
    place = place_of(media, count, material)
    if place < 0:
        return count
    for i in range(place, count - 1):
        media[i] = media[i + 1]
    return count - 1


@kernel
def absorbed(surfaces, media, count, distance):
    """The share of light that is left after a distance in the ruling medium (Beer-Lambert)."""
    place = ruling_medium(surfaces, media, count, -1)
    if place < 0 or distance >= HUGE:
        return (ONE, ONE, ONE)
    m = surfaces.materials[media[place]]
    return (math.exp(-m.absorb_r * distance), math.exp(-m.absorb_g * distance), math.exp(-m.absorb_b * distance))


@kernel
def moved_off(point, normal, direction):
    """A ray origin off the surface on the side that the ray leaves to."""
    reach = f32(2e-6) * (TWO + max(abs(point[0]), max(abs(point[1]), abs(point[2]))))
    return along(point, normal, reach if dot(direction, normal) >= ZERO else -reach)


@kernel
def add_light(bounce_light, entry, light):
    bounce_light[entry, 0] += light[0]
    bounce_light[entry, 1] += light[1]
    bounce_light[entry, 2] += light[2]


@kernel
def balance(density, other):
    """Power heuristic with exponent two (Veach 1997, section 9.2.4)."""
    a, b = density * density, other * other
    return a / (a + b) if a + b > ZERO else ZERO


@kernel
def light_sample(scene, scratch, media_count, shading, point, normal, geometric, out, seed, index, dimension, pattern):
    """Direct light at a point by one light sample, and whether a shadow ray was cast."""
    nothing = (ZERO, ZERO, ZERO)
    choice, _ = sample_pair(seed, index, dimension, pattern)
    u, v = sample_pair(seed, index, dimension + 1, pattern)
    direction, distance, radiance, density = sample_light(scene.surfaces, scene.lights, point, choice, u, v)
    if density <= ZERO or largest(radiance) <= ZERO:
        return nothing, False
    tangent, bitangent = frame(normal)
    into = to_local(direction, tangent, bitangent, normal)
    if (into[2] > ZERO) != (dot(direction, geometric) > ZERO):
        return nothing, False
    value, scatter_density = evaluate(shading, out, into)
    if largest(value) <= ZERO:
        return nothing, False
    origin = moved_off(point, geometric, direction)
    reach = distance if distance >= HUGE else distance * f32(0.9999) - f32(2e-5)
    if any_hit(scene.tree, origin, direction, reach, scratch.traversal):
        return nothing, True
    weight = balance(density, scatter_density) / density
    left = absorbed(scene.surfaces, scratch.media, media_count, distance)
    return scale(multiply(multiply(radiance, value), left), weight), True


@kernel
def emitted_light(scene, triangle, front, origin, direction, distance, after_smooth, scatter_density):
    """Light that a surface sends back along the ray, weighted against light sampling."""
    surfaces = scene.surfaces
    if surfaces.light[triangle] < 0 or not front:
        return (ZERO, ZERO, ZERO)
    emission = emission_of(surfaces, triangle)
    if after_smooth:
        return emission
    other = triangle_density(surfaces, scene.lights, triangle, origin, direction, distance)
    return scale(emission, balance(scatter_density, other))


@kernel
def sky_light(scene, direction, after_smooth, scatter_density):
    radiance, density = environment_seen(scene.lights, direction)
    if after_smooth:
        return radiance
    return scale(radiance, balance(scatter_density, density))


@kernel
def clamp_factor(light, limit):
    """The factor that brings the largest channel down to the limit; 0 means no limit."""
    peak = largest(light)
    return limit / peak if limit > ZERO and peak > limit else ONE


@kernel
def limit_sample(bounce_light, seen, last, settings):
    """Apply the clamps to one sample's light by bounce; light seen directly is left alone. Returns the sum."""
    direct = row3(bounce_light, 0)
    factor = clamp_factor(direct, settings.clamp_direct)
    add_light(bounce_light, 0, add(scale(direct, factor - ONE), seen))
    total = row3(bounce_light, 0)
    indirect = (ZERO, ZERO, ZERO)
    for k in range(1, last + 1):
        indirect = add(indirect, row3(bounce_light, k))
    factor = clamp_factor(indirect, settings.clamp_indirect)
    if factor < ONE:
        for k in range(1, last + 1):
            add_light(bounce_light, k, scale(row3(bounce_light, k), factor - ONE))
    return add(total, scale(indirect, factor))


@kernel
def trace_path(scene, settings, scratch, origin, direction, seed, index):
    """Follow one path: (radiance, what the denoiser is guided by, last entry of `bounce_light` that was used)."""
    surfaces, media, bounce_light = scene.surfaces, scratch.media, scratch.bounce_light
    throughput, tint = (ONE, ONE, ONE), (ONE, ONE, ONE)
    seen, albedo, normal_seen, depth = (ZERO, ZERO, ZERO), (ZERO, ZERO, ZERO), (ZERO, ZERO, ZERO), ZERO
    eta_scale = ONE
    hit, passed, media_count = 0, 0, 0
    after_smooth, scatter_density, guided = True, ONE, False
    started = read_cycles() if settings.record else uint64(0)
    bounce_light[0, 0] = bounce_light[0, 1] = bounce_light[0, 2] = ZERO
    while True:
        distance, slot = closest_hit(scene.tree, origin, direction, HUGE, scratch.traversal)
        if settings.record:
            scratch.rays[hit, PATH_RAY] += 1
        if slot < 0:
            light = multiply(throughput, sky_light(scene, direction, after_smooth, scatter_density))
            if hit == 0:
                seen = light
            else:
                add_light(bounce_light, hit - 1, light)
            if not guided:
                albedo = (min(light[0], ONE), min(light[1], ONE), min(light[2], ONE))
            break
        triangle = scene.tree.triangles[slot]
        material_index = surfaces.material[triangle]
        material = surfaces.materials[material_index]
        point = along(origin, direction, distance)
        a = row3(surfaces.positions, surfaces.corners[triangle, 0])
        b = row3(surfaces.positions, surfaces.corners[triangle, 1])
        c = row3(surfaces.positions, surfaces.corners[triangle, 2])
        geometric = normalize(cross(subtract(b, a), subtract(c, a)))
        front = dot(geometric, direction) < ZERO
        if media_count > 0:
            throughput = multiply(throughput, absorbed(surfaces, media, media_count, distance))
        ior_here, ior_behind = ONE, material.ior
        ruling = ruling_medium(surfaces, media, media_count, -1)
        if material.volume:
            own = -1 if front else place_of(media, media_count, material_index)
            hidden = False
            if ruling >= 0:
                hidden = surfaces.materials[media[ruling]].priority > material.priority if front else ruling != own
            if hidden:
                media_count = cross_boundary(media, media_count, material_index, front)
                passed += 1
                if passed > MAX_PASSED_BOUNDARIES:
                    break
                origin, after_smooth = moved_off(point, geometric, direction), True
                continue
            if front:
                ior_here = ior_at(surfaces, media, ruling)
            else:
                ior_here = material.ior
                ior_behind = ior_at(surfaces, media, ruling_medium(surfaces, media, media_count, own))
        elif ruling >= 0:
            ior_here = ior_at(surfaces, media, ruling)
        if material.emits:
            light = multiply(throughput, emitted_light(scene, triangle, front, origin, direction, distance,
                                                       after_smooth, scatter_density))
            if hit == 0:
                seen = light
            else:
                add_light(bounce_light, hit - 1, light)
        if hit > settings.bounces:
            break
        if hit > 0:
            bounce_light[hit, 0] = bounce_light[hit, 1] = bounce_light[hit, 2] = ZERO
        wb, wc = barycentric(a, b, c, point)
        facing = geometric if front else negate(geometric)
        normal = shading_normal(surfaces, triangle, geometric, wb, wc)
        normal = normal if front else negate(normal)
        view = negate(direction)
        if dot(normal, view) < f32(1e-4):
            normal = facing
        tangent, bitangent = frame(normal)
        out = to_local(view, tangent, bitangent, normal)
        out = (out[0], out[1], max(out[2], f32(1e-5)))
        shading = Shading(base_colour(surfaces, triangle, wb, wc), material.metallic, material.alpha,
                          material.transmission, ior_behind / ior_here, material.smooth != 0,
                          material.volume == 0)
        if hit == 0:
            depth = distance
        mirror_like = material.smooth != 0 and (ONE - material.metallic) * (ONE - material.transmission) <= ZERO
        if not guided and not mirror_like:
            albedo, normal_seen, guided = multiply(tint, shading.base), normal, True
        dimension = FIRST_BOUNCE_DIMENSION + hit * DIMENSIONS_PER_BOUNCE
        if not mirror_like:
            light, cast = light_sample(scene, scratch, media_count, shading, point, normal, facing, out, seed, index,
                                       dimension + 2, settings.pattern)
            add_light(bounce_light, hit, multiply(throughput, light))
            if settings.record and cast:
                scratch.rays[hit, SHADOW_RAY] += 1
        choice, survival = sample_pair(seed, index, dimension, settings.pattern)
        u, v = sample_pair(seed, index, dimension + 1, settings.pattern)
        into, weight, scatter_density, kind, after_smooth = sample(shading, out, choice, u, v)
        direction = normalize(to_world(into, tangent, bitangent, normal))
        throughput = multiply(throughput, weight)
        if not guided and kind == TRANSMISSION:
            tint = multiply(tint, shading.base)
        if (dot(direction, facing) > ZERO) == (kind == TRANSMISSION) or largest(throughput) <= ZERO:
            hit += 1
            break
        if kind == TRANSMISSION and material.volume:
            media_count = cross_boundary(media, media_count, material_index, front)
            eta_scale *= shading.eta * shading.eta
        if hit >= settings.roulette_start and kind >= DIFFUSE:
            chance = min(f32(0.95), largest(throughput) * eta_scale)
            if survival >= chance:
                hit += 1
                break
            throughput = scale(throughput, ONE / chance)
        origin = moved_off(point, facing, direction)
        hit += 1
        if settings.record:
            now = read_cycles()
            scratch.cycles[hit - 1] += now - started
            started = now
    if settings.record:
        scratch.cycles[hit] += read_cycles() - started
    last = min(max(hit - 1, 0), settings.bounces)
    radiance = limit_sample(bounce_light, seen, last, settings)
    return radiance, FirstSeen(albedo, normal_seen, depth), last


@kernel
def tent(u):
    """An offset in pixels from -1 to 1, distributed as a tent filter's weight."""
    if u < f32(0.5):
        return math.sqrt(TWO * u) - ONE
    return ONE - math.sqrt(TWO - TWO * u)


@kernel
def camera_ray(lens, width, height, x, y, u, v):
    across = (f32(x) + f32(0.5) + tent(u)) / f32(width) * TWO - ONE
    upward = ONE - (f32(y) + f32(0.5) + tent(v)) / f32(height) * TWO
    direction = (lens.forward[0] + across * lens.right[0] + upward * lens.up[0],
                 lens.forward[1] + across * lens.right[1] + upward * lens.up[1],
                 lens.forward[2] + across * lens.right[2] + upward * lens.up[2])
    return (lens.origin[0], lens.origin[1], lens.origin[2]), normalize(direction)


@kernel
def add_rgb(picture, y, x, colour):
    picture[y, x, 0] += colour[0]
    picture[y, x, 1] += colour[1]
    picture[y, x, 2] += colour[2]


@kernel
def render_pixel(scene, lens, settings, film, scratch, x, y):
    """Take the samples that bring one pixel to the target."""
    height, width = film.samples.shape
    started = read_cycles()
    per_pixel_light = film.light.shape[0] > 0
    own_seed = pixel_seed(x, y, settings.seed)
    for number in range(film.samples[y, x], settings.target):
        half, index = number & 1, number >> 1
        seed = hash_bits(own_seed + uint32(half) * uint32(HALF_SEED))
        u, v = sample_pair(seed, index, 0, settings.pattern)
        origin, direction = camera_ray(lens, width, height, x, y, u, v)
        radiance, first, last = trace_path(scene, settings, scratch, origin, direction, seed, index)
        if not math.isfinite(radiance[0] + radiance[1] + radiance[2]):
            scratch.dropped[0] += 1
            continue
        add_rgb(film.half_b if half else film.half_a, y, x, radiance)
        add_rgb(film.albedo, y, x, first.albedo)
        add_rgb(film.normal, y, x, first.normal)
        film.depth[y, x] += first.depth
        for k in range(last + 1):
            for channel in range(3):
                if per_pixel_light:
                    film.light[y, x, k, channel] += scratch.bounce_light[k, channel]
                else:
                    scratch.light[k, channel] += scratch.bounce_light[k, channel]
    film.samples[y, x] = settings.target
    film.cycles[y, x] += read_cycles() - started


@kernel
def render_tiles(scene, lens, settings, film, tiles, counter, finished, cancel, scratch):
    """Work on tiles until none is left: what each thread runs.

    tiles: int32[n, 4] of x0, y0, x1, y1; counter: int64[1], the next tile; finished: uint64[n], cycle counter at each
    tile's end; cancel: int32[1], not 0 to stop after the current pixel row.
    """
    while cancel[0] == 0:
        k = take_next(counter)
        if k >= tiles.shape[0]:
            break
        x0, y0, x1, y1 = tiles[k, 0], tiles[k, 1], tiles[k, 2], tiles[k, 3]
        for y in range(y0, y1):
            if cancel[0] != 0:
                break
            for x in range(x0, x1):
                if film.active[y, x]:
                    render_pixel(scene, lens, settings, film, scratch, x, y)
        finished[k] = read_cycles()


__all__ = ["CompiledScene", "FilmArrays", "Lens", "PathSettings", "Scratch", "new_scratch", "render_tiles"]

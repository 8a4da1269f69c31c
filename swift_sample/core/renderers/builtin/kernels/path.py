"""The path tracer: unidirectional, with next-event estimation and multiple importance sampling
(Veach 1997).

`bounces.total = n` allows n scatterings after the first hit has been lit directly. Light that
directly reaches hit k + 1 belongs to entry k of `light_by_bounce`, whether it was found by a light
sample or by the scattered ray. A kind's cap counts scatterings of that kind in the same way;
passing a cut-out counts only as cut-out.
"""

from numba import int32, int64, types, uint32, uint64

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import (
    HUGE,
    ONE,
    TWO,
    ZERO,
    add,
    along,
    dot,
    f32,
    largest,
    multiply,
    normalize,
    scale,
    to_local,
    to_world,
)
from swift_sample.core.renderers.builtin.kernels.haze import (
    dim_by_haze,
    haze_event,
    phase,
    sample_phase,
)
from swift_sample.core.renderers.builtin.kernels.hit import (
    ROUGH_ALPHA,
    emission_at,
    find_hit,
    read_surface,
)
from swift_sample.core.renderers.builtin.kernels.lights import (
    sample_light,
    sky_seen,
    triangle_density,
    weigh_lights,
)
from swift_sample.core.renderers.builtin.kernels.media import (
    absorbed,
    cross_boundary,
    ior_at,
    place_of,
    ruling_medium,
)
from swift_sample.core.renderers.builtin.kernels.opacity import opacity_at
from swift_sample.core.renderers.builtin.kernels.sampler import next_random, sample_pair
from swift_sample.core.renderers.builtin.kernels.subsurface import walk_subsurface
from swift_sample.core.renderers.builtin.kernels.surface import (
    evaluate_surface,
    prepare_surface,
    sample_surface,
)
from swift_sample.core.renderers.builtin.kernels.traverse import EVERYTHING, MET, any_hit
from swift_sample.core.renderers.builtin.lowlevel.memory import set_vec, vec
from swift_sample.core.renderers.builtin.lowlevel.records import (
    CAMERA_RAY,
    CUT_BLEND,
    CUTOUT,
    DIFFUSE,
    EMITS_BOTH,
    KEEP_REFLECTED,
    KEEP_REFRACTED,
    LIGHTS_ONLY,
    SCATTER_ONLY,
    SHADOW_RAY,
    TRANSMISSION,
    TREE_BYTES,
    UNSCATTERED,
    UNSHADOWED,
    VOLUME,
    face_at,
    haze_at,
    job_at,
    material_at,
    path_at,
    scene_at,
)
from swift_sample.core.renderers.builtin.lowlevel.simd import read_cycles

MATT_SPREAD = f32(0.25)
"""Angle in radians of the cone that a path stands for after a matt surface: it decides how finely
textures are read."""
FARTHEST = f32(1e6)

SURVIVAL = f32(2.0)
MOST_SURVIVAL = f32(0.95)
"""A path survives russian roulette by this multiple of what it still carries, up to a bound. Found
by trying on four scenes (docs/renderer.md, "What was tried")."""

MAX_PASSED_BOUNDARIES = 64
"""Boundaries inside a medium of higher priority that a path may pass before it is given up."""

NEVER = 1 << 20
"""A bounce that no path comes to."""

FIRST_BOUNCE_DIMENSION = 2
DIMENSIONS_PER_BOUNCE = 4
"""Sample pairs: 0 place in the pixel, 1 lens; then for each bounce lobe, direction, light choice,
light position."""


@kernel
def moved_off(point, normal, direction):
    """A ray origin off the surface on the side that the ray leaves to."""
    reach = f32(2e-6) * (TWO + max(abs(point[0]), max(abs(point[1]), abs(point[2]))))
    return along(point, normal, reach if dot(direction, normal) >= ZERO else -reach)


@kernel
def balance(density, other):
    """Power heuristic with exponent two (Veach 1997, section 9.2.4)."""
    a = density * density
    b = other * other
    return a / (a + b) if a + b > ZERO else ZERO


@kernel
def add_to(field, light):
    field[0] += light[0]
    field[1] += light[1]
    field[2] += light[2]


@part(types.int64(types.int64, types.int64, types.int64))
def direct_light(job_address, path_address, in_haze):
    """Light that one light sample brings to the current surface, or to the place in the haze, into
    `scatter.value` by kind.

    Returns 1 where there is any.
    """
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    scene = scene_at(job.scene, 0)
    path.light.cast = 0
    dimension = FIRST_BOUNCE_DIMENSION + path.bounce * DIMENSIONS_PER_BOUNCE + 2
    u, _ = sample_pair(path.seed, path.index, dimension, job.pattern)
    choice, v = sample_pair(path.seed, path.index, dimension + 1, job.pattern)
    point = vec(path.hit.point)
    sample_light(job.scene, path_address, choice, u, v)

    if path.light.density <= ZERO or largest(vec(path.light.radiance)) <= ZERO:
        return 0

    direction = vec(path.light.direction)
    value = path.scatter.value
    origin = point

    if in_haze:
        density = phase(haze_at(scene.haze, 0).anisotropy, dot(vec(path.ray.direction), direction))
        value[VOLUME, 0] = value[VOLUME, 1] = value[VOLUME, 2] = density
    else:
        into = to_local(
            direction,
            vec(path.surface.tangent),
            vec(path.surface.bitangent),
            vec(path.surface.normal),
        )
        if (into[2] > ZERO) != (dot(direction, vec(path.hit.facing)) > ZERO):
            return 0

        evaluate_surface(path_address, into[0], into[1], into[2])
        density = path.scatter.density
        peak = ZERO
        for kind in range(3):
            peak = max(peak, largest((value[kind, 0], value[kind, 1], value[kind, 2])))

        if peak <= ZERO:
            return 0

        origin = moved_off(point, vec(path.hit.facing), direction)

    far = path.light.distance
    reach = far if far >= HUGE else far * f32(0.9999) - f32(2e-5)
    path.light.cast = 1
    path.light.open, path.light.may_pass = ONE, int32(job.caps[CUTOUT] + 1 - path.counts[CUTOUT])

    for k in range(scene.met_trees if path.light.exact != UNSHADOWED else 0):
        if any_hit(
            job.scene,
            path_address,
            scene.trees + k * TREE_BYTES,
            path.working,
            origin[0],
            origin[1],
            origin[2],
            direction[0],
            direction[1],
            direction[2],
            reach,
            path.ray.time,
        ):
            return 0

    set_vec(path.light.visible, (path.light.open, path.light.open, path.light.open))
    if path.media_count > 0:
        set_vec(path.light.visible, multiply(vec(path.light.visible), absorbed(scene, path, far)))
    elif scene.haze != 0 and job.haze_method != UNSCATTERED:
        set_vec(path.dimmed, vec(path.light.visible))
        dim_by_haze(
            job.scene,
            path_address,
            origin[0],
            origin[1],
            origin[2],
            direction[0],
            direction[1],
            direction[2],
            far,
            job.haze_method,
            job.haze_step,
        )

        set_vec(path.light.visible, vec(path.dimmed))

    weight = ONE / path.light.density
    if not path.light.exact:
        if job.technique == SCATTER_ONLY:
            return 0
        if job.technique != LIGHTS_ONLY:
            weight *= balance(path.light.density, density)

    light = scale(multiply(vec(path.light.radiance), vec(path.light.visible)), weight)
    first, last = (VOLUME, VOLUME + 1) if in_haze else (DIFFUSE, TRANSMISSION + 1)

    for kind in range(first, last):
        for axis in range(3):
            value[kind, axis] *= light[axis]

    return 1


@kernel
def add_direct(path, in_haze):
    """Add what `direct_light` found, dimmed by the path so far."""
    first, last = (VOLUME, VOLUME + 1) if in_haze else (DIFFUSE, TRANSMISSION + 1)
    throughput = vec(path.throughput)

    for kind in range(first, last):
        for axis in range(3):
            found = path.scatter.value[kind, axis] * throughput[axis]
            path.sample.brought[path.bounce, axis] += found
            if path.bounce == 0:
                path.sample.direct[kind, axis] += found


@part(types.void(types.int64, types.int64, types.int64))
def seek_light(job_address, path_address, in_haze):
    """Light the current surface, or the place in the haze, by a light sample."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    weigh_lights(job.scene, path_address)

    if direct_light(job_address, path_address, in_haze):
        add_direct(path, in_haze)
    if job.record and path.light.cast:
        path.thread.rays[path.bounce, SHADOW_RAY] += 1


@kernel
def add_met(path, light):
    """Add light that the ray itself met."""
    light = multiply(light, vec(path.throughput))
    if path.bounce == 0:
        add_to(path.sample.seen, light)
        return

    for axis in range(3):
        path.sample.brought[path.bounce - 1, axis] += light[axis]
        if path.bounce == 1:
            path.sample.direct[path.first_kind, axis] += light[axis]


@kernel
def found_weight(job, path, light_density):
    """The share of light met by chance that counts, where light samples could have met it too."""
    if path.certain or job.technique == SCATTER_ONLY:
        return ONE
    if job.technique == LIGHTS_ONLY:
        return ZERO

    return balance(path.scatter_density, light_density)


@kernel
def clamp_factor(light, limit):
    """The factor that brings the largest channel down to the limit; 0 means no limit."""
    peak = largest(light)
    return limit / peak if limit > ZERO and peak > limit else ONE


@kernel
def limit_sample(job, path, last):
    """Apply the clamps to one sample's light; light seen directly is left alone. Leaves the sum in
    `path.sample.total`."""
    brought = path.sample.brought
    set_vec(path.unclamped[0], (brought[0, 0], brought[0, 1], brought[0, 2]))
    factor = clamp_factor((brought[0, 0], brought[0, 1], brought[0, 2]), job.clamp_direct)

    for axis in range(3):
        if factor < ONE:
            for kind in range(4):
                path.sample.direct[kind, axis] *= factor
        brought[0, axis] = brought[0, axis] * factor + path.sample.seen[axis]

    indirect = (ZERO, ZERO, ZERO)
    for k in range(1, last + 1):
        indirect = add(indirect, (brought[k, 0], brought[k, 1], brought[k, 2]))

    set_vec(path.unclamped[1], indirect)
    factor = clamp_factor(indirect, job.clamp_indirect)

    if factor < ONE:
        for k in range(1, last + 1):
            for axis in range(3):
                brought[k, axis] *= factor

    set_vec(path.sample.indirect, scale(indirect, factor))
    set_vec(
        path.sample.total,
        add((brought[0, 0], brought[0, 1], brought[0, 2]), vec(path.sample.indirect)),
    )


@kernel
def start_path(path, seed, index):
    zero = (ZERO, ZERO, ZERO)
    set_vec(path.throughput, (ONE, ONE, ONE))
    set_vec(path.tint, (ONE, ONE, ONE))
    set_vec(path.sample.seen, zero)
    set_vec(path.sample.albedo, zero)
    set_vec(path.sample.normal, zero)
    path.sample.depth = ZERO
    path.eta_scale = ONE
    path.bounce = path.media_count = path.sample.guided = path.ending = path.was_rough = (
        path.sample.first_done
    ) = int32(0)
    path.certain = int32(1)
    path.scatter_density = ONE
    path.last_kind = int32(CAMERA_RAY)
    path.first_kind = int32(0)
    path.sample.first_material = path.sample.first_object = int32(-1)
    path.seed = seed
    path.index = int32(index)
    path.random = uint32(seed ^ (uint32(index) * uint32(0x85EBCA6B)))
    for kind in range(5):
        path.counts[kind] = int32(0)

    path.counts_at[0] = uint32(0)
    path.stamps[0] = uint64(0)
    path.guided_from = path.first_matt = int32(NEVER)
    for axis in range(3):
        path.sample.brought[0, axis] = ZERO
        for kind in range(4):
            path.sample.direct[kind, axis] = ZERO


@kernel
def scattered(job, path, kind, rough):
    """Note a scattering: caps, and where the next light would be found from."""
    if path.bounce == 0:
        path.first_kind = int32(kind)

    path.bounce += int32(1)
    path.last_kind = int32(kind)
    path.counts[kind] += int32(1)

    if path.counts[kind] > job.caps[kind] or path.bounce > job.bounces:
        path.ending = int32(1)
    if rough:
        path.was_rough = int32(1)

    path.stamps[path.bounce] = uint64(0)
    path.counts_at[path.bounce] = path.counts_at[path.bounce - 1] + (uint32(1) << uint32(8 * kind))
    for axis in range(3):
        path.sample.brought[path.bounce, axis] = ZERO


@kernel
def survives(job, path, chance):
    """Russian roulette from the chosen bounce on; the throughput of those that go on is raised."""
    if path.bounce <= job.roulette_start:
        return True

    limit = min(MOST_SURVIVAL, SURVIVAL * largest(vec(path.throughput)) * path.eta_scale)
    if chance >= limit:
        return False

    set_vec(path.throughput, scale(vec(path.throughput), ONE / limit))
    return True


@kernel
def guide(path, albedo, normal, bounce):
    """Note what denoisers are guided by, once: it is there for every path that ends at a later
    bounce than this."""
    if not path.sample.guided:
        set_vec(path.sample.albedo, multiply(vec(path.tint), albedo))
        set_vec(path.sample.normal, normal)
        path.sample.guided = int32(1)
        path.guided_from = int32(bounce)


@part(types.int64(types.int64, types.int64))
def scatter_in_haze(job_address, path_address):
    """Light and scatter the path at `path.hit.point` in the haze; 0 where it ends there."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    if path.ending:
        return 0

    guide(path, (ONE, ONE, ONE), (ZERO, ZERO, ZERO), path.bounce)
    set_vec(path.lit_side, (ZERO, ZERO, ZERO))
    seek_light(job_address, path_address, 1)
    haze = haze_at(scene_at(job.scene, 0).haze, 0)
    dimension = FIRST_BOUNCE_DIMENSION + path.bounce * DIMENSIONS_PER_BOUNCE
    _, survival = sample_pair(path.seed, path.index, dimension, job.pattern)
    u, v = sample_pair(path.seed, path.index, dimension + 1, job.pattern)
    direction, density = sample_phase(haze.anisotropy, vec(path.ray.direction), u, v)
    set_vec(path.ray.origin, vec(path.hit.point))
    set_vec(path.ray.direction, normalize(direction))
    set_vec(path.scattered_at, vec(path.hit.point))
    path.scatter_density = density
    path.certain = int32(0)
    path.ray.spread = max(path.ray.spread, MATT_SPREAD)
    scattered(job, path, VOLUME, True)
    path.first_matt = min(path.first_matt, path.bounce)

    if not job.indirect:
        path.ending = int32(1)

    return 1 if survives(job, path, survival) else 0


@part(types.int64(types.int64, types.int64, types.float32))
def scatter_at_surface(job_address, path_address, eta):
    """Light and scatter the path at the current surface; 0 where it ends there."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    scene = scene_at(job.scene, 0)
    material = material_at(scene.materials, int64(path.hit.material))
    floor = job.roughness_floor * job.roughness_floor if path.was_rough else ZERO
    read_surface(job.scene, path_address, eta, floor)
    path.surface.reflects = int32(path.was_rough == 0 or (job.caustics & KEEP_REFLECTED) != 0)
    path.surface.refracts = int32(path.was_rough == 0 or (job.caustics & KEEP_REFRACTED) != 0)
    prepare_surface(job.scene, path_address)
    opaque = (ONE - path.surface.metallic) * (ONE - path.surface.transmission)
    mirror_like = path.surface.smooth and opaque <= ZERO and path.surface.plain

    if not mirror_like:
        guide(path, vec(path.surface.base), vec(path.surface.normal), path.bounce)

    dimension = FIRST_BOUNCE_DIMENSION + path.bounce * DIMENSIONS_PER_BOUNCE
    choice, survival = sample_pair(path.seed, path.index, dimension, job.pattern)
    u, v = sample_pair(path.seed, path.index, dimension + 1, job.pattern)
    one_sided = path.surface.transmission <= ZERO and path.surface.through <= ZERO
    set_vec(path.lit_side, vec(path.surface.normal) if one_sided else (ZERO, ZERO, ZERO))

    if not mirror_like:
        seek_light(job_address, path_address, 0)

    crossed = path.hit.material
    front = path.hit.front
    enters = sample_surface(path_address, choice, u, v)
    direction = normalize(
        to_world(
            vec(path.scatter.into),
            vec(path.surface.tangent),
            vec(path.surface.bitangent),
            vec(path.surface.normal),
        )
    )
    facing = vec(path.hit.facing)
    kind = path.scatter.kind
    set_vec(path.throughput, multiply(vec(path.throughput), vec(path.scatter.weight)))

    if (dot(direction, facing) > ZERO) != (kind != TRANSMISSION and not enters) or largest(
        vec(path.throughput)
    ) <= ZERO:
        return 0

    rough = path.surface.alpha > ROUGH_ALPHA or kind == DIFFUSE
    if enters:
        # Light comes from where the walk leaves the object: that place is lit in this one's stead.
        set_vec(path.ray.origin, moved_off(vec(path.hit.point), facing, direction))
        set_vec(path.ray.direction, direction)
        if not walk_subsurface(job.scene, path_address):
            return 0

        set_vec(path.lit_side, vec(path.surface.normal))
        seek_light(job_address, path_address, 0)
        sample_surface(path_address, ZERO, next_random(path), next_random(path))
        direction = normalize(
            to_world(
                vec(path.scatter.into),
                vec(path.surface.tangent),
                vec(path.surface.bitangent),
                vec(path.surface.normal),
            )
        )
        facing = vec(path.hit.facing)

        if dot(direction, facing) <= ZERO:
            return 0

    if kind == TRANSMISSION:
        if not path.sample.guided:
            set_vec(path.tint, multiply(vec(path.tint), vec(path.surface.base)))
        if material.volume:
            cross_boundary(path, crossed, front)
            path.eta_scale *= path.surface.eta * path.surface.eta

    path.scatter_density = path.scatter.density
    path.certain = path.scatter.delta
    path.ray.spread = max(
        path.ray.spread, MATT_SPREAD if kind == DIFFUSE else path.surface.alpha * MATT_SPREAD
    )
    set_vec(path.scattered_at, vec(path.hit.point))
    set_vec(path.ray.origin, moved_off(vec(path.hit.point), facing, direction))
    set_vec(path.ray.direction, direction)
    scattered(job, path, kind, rough)

    if not mirror_like:
        path.first_matt = min(path.first_matt, path.bounce)
        if not job.indirect:
            path.ending = int32(1)

    return 1 if survives(job, path, survival) else 0


@kernel
def see_sky(job, scene, path):
    """The ray left the scene."""
    radiance, density = sky_seen(scene, path, vec(path.ray.direction))
    add_met(path, scale(radiance, found_weight(job, path, density)))

    if not path.sample.guided:
        light = multiply(radiance, vec(path.throughput))
        set_vec(path.sample.albedo, (min(light[0], ONE), min(light[1], ONE), min(light[2], ONE)))
        path.guided_from = path.bounce - int32(1)


@kernel
def holes_before(path, distance):
    """How many holes the ray has passed up to a distance."""
    passed = 0
    for k in range(path.holes):
        if path.hole_distances[k] < distance:
            passed += 1

    return passed


@kernel
def pass_cutouts(job, path, more, passed):
    """Count cut-outs that the ray has passed; 0 where they are too many and the path ends in
    them."""
    path.counts[CUTOUT] += int32(more)
    if path.counts[CUTOUT] > job.caps[CUTOUT]:
        path.ending = int32(1)

    return path.counts[CUTOUT] <= job.caps[CUTOUT] + 1 and passed <= MAX_PASSED_BOUNDARIES


@kernel
def keep_prefixes(path, last):
    """Keep the indirect light that the path had brought up to each bounce."""
    indirect = (ZERO, ZERO, ZERO)
    set_vec(path.prefix[0], indirect)

    for k in range(1, last + 1):
        brought = path.sample.brought
        indirect = add(indirect, (brought[k, 0], brought[k, 1], brought[k, 2]))
        set_vec(path.prefix[k], indirect)


@part(types.void(types.int64, types.int64))
def trace_path(job_address, path_address):
    """Follow the path from `path.ray.origin` along `path.ray.direction` to its end; what it brings
    stands in the path."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    scene = scene_at(job.scene, 0)
    passed = 0
    come = ZERO
    started = read_cycles() if job.record else uint64(0)

    while True:
        leg = path.bounce
        leg_kind = path.last_kind
        goes_on = 1
        found = find_hit(job.scene, path_address, HUGE, EVERYTHING if path.bounce == 0 else MET)

        if job.record:
            path.thread.rays[leg, leg_kind] += 1

        path.ray.width += path.ray.spread * min(path.hit.distance, FARTHEST)
        event = -ONE
        if scene.haze != 0 and path.media_count == 0 and job.haze_method != UNSCATTERED:
            event = haze_event(
                job.scene, path_address, path.hit.distance, job.haze_method, job.haze_step
            )

        if path.holes:
            holes = holes_before(path, event if event >= ZERO else path.hit.distance)
            passed += holes
            if not pass_cutouts(job, path, holes, passed):
                break

        if event >= ZERO:
            set_vec(path.hit.point, along(vec(path.ray.origin), vec(path.ray.direction), event))
            if path.bounce == 0 and not path.sample.first_done:
                path.sample.depth = come + event
                path.sample.first_done = int32(1)

            if job.end_count:
                path.stamps[path.bounce] = read_cycles()
            goes_on = scatter_in_haze(job_address, path_address)
        elif not found:
            see_sky(job, scene, path)
            break
        else:
            material = material_at(scene.materials, int64(path.hit.material))
            front = path.hit.front != 0
            distance = path.hit.distance

            if path.media_count > 0:
                set_vec(
                    path.throughput, multiply(vec(path.throughput), absorbed(scene, path, distance))
                )

            if material.cut == CUT_BLEND:
                opacity = opacity_at(
                    job.scene, path_address, int64(path.hit.face), path.hit.wb, path.hit.wc
                )
                if opacity < ONE and (opacity <= ZERO or next_random(path) >= opacity):
                    passed += 1
                    if not pass_cutouts(job, path, 1, passed):
                        break
                    path.last_kind = int32(CUTOUT)
                    come += distance
                    set_vec(
                        path.ray.origin,
                        moved_off(
                            vec(path.hit.point), vec(path.hit.facing), vec(path.ray.direction)
                        ),
                    )
                    continue

            ior_here = ONE
            ior_behind = material.ior
            ruling = ruling_medium(scene, path, -1)

            if material.volume:
                own = -1 if front else place_of(path, path.hit.material)
                hidden = False

                if ruling >= 0:
                    above = (
                        material_at(scene.materials, int64(path.media[ruling])).priority
                        > material.priority
                    )
                    hidden = above if front else ruling != own

                if hidden:
                    cross_boundary(path, path.hit.material, front)
                    passed += 1
                    if passed > MAX_PASSED_BOUNDARIES:
                        break

                    set_vec(
                        path.ray.origin,
                        moved_off(
                            vec(path.hit.point), vec(path.hit.geometric), vec(path.ray.direction)
                        ),
                    )
                    path.certain = int32(1)
                    come += distance
                    continue

                if front:
                    ior_here = ior_at(scene, path, ruling)
                else:
                    ior_here = material.ior
                    ior_behind = ior_at(scene, path, ruling_medium(scene, path, own))
            elif ruling >= 0:
                ior_here = ior_at(scene, path, ruling)

            if not path.sample.first_done:
                path.sample.depth = come + distance
                path.sample.first_done = int32(1)
                path.sample.first_material = path.hit.material
                path.sample.first_object = face_at(scene.faces, int64(path.hit.face)).object

            if material.unlit:
                if path.certain:
                    read_surface(job.scene, path_address, ONE, ZERO)
                    add_met(path, vec(path.surface.base))
                    base = vec(path.surface.base)
                    guide(path, base, vec(path.surface.normal), path.bounce - 1)

                break

            if material.emits == EMITS_BOTH or (material.emits and front):
                emission = emission_at(job.scene, path_address)
                place = int64(face_at(scene.faces, int64(path.hit.face)).light)
                density = ZERO

                if place >= 0 and not path.certain:
                    density = triangle_density(job.scene, path_address, place)
                add_met(path, scale(emission, found_weight(job, path, density)))

            if job.end_count:
                path.stamps[path.bounce] = read_cycles()
            if path.ending:
                break

            goes_on = scatter_at_surface(job_address, path_address, ior_behind / ior_here)

        if job.record:
            now = read_cycles()
            path.thread.cycles[leg, leg_kind] += now - started
            started = now

        if not goes_on:
            break

    if job.record:
        path.thread.cycles[path.bounce, path.last_kind] += read_cycles() - started

    if job.end_count:
        path.ended = read_cycles()
        keep_prefixes(path, min(int64(path.bounce), job.bounces))

    limit_sample(job, path, min(int64(path.bounce), job.bounces))

"""How surfaces scatter light: layers of coat, sheen, reflection, and a body that is diffuse or lets
light through.

Directions are local: z along the normal on the viewer's side; `out` points to the viewer, `into` to
the light. `eta` is the index of refraction behind the surface over that on the viewer's side.

GGX and refraction: Walter et al. 2007. Sampling of visible normals: Dupuy and Benyoub 2023,
"Sampling Visible GGX Normals with Spherical Caps". Height-correlated masking: Heitz 2014. Metals:
Schlick 1994. Sheen: Estevez and Kulla
2017. Light lost by counting one meeting only is given back as `energy.py` says. What a layer
      reflects is missing
below it: each layer passes on one minus its albedo towards the viewer.
"""

import math

from numba import int32, types

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import (
    HALF,
    INVERSE_PI,
    ONE,
    PI,
    TWO,
    TWO_PI,
    ZERO,
    add,
    dot,
    f32,
    frame,
    largest,
    luminance,
    negate,
    normalize,
    scale,
    to_local,
    to_world,
    turned,
)
from swift_sample.core.renderers.builtin.kernels.hit import ROUGH_ALPHA
from swift_sample.core.renderers.builtin.lowlevel.memory import set_vec, vec
from swift_sample.core.renderers.builtin.lowlevel.records import (
    DIFFUSE,
    GLOSSY,
    TRANSMISSION,
    path_at,
    scene_at,
)
from swift_sample.core.renderers.builtin.tables.energy import KEPT, SHEEN, dielectric_at, kept_at

LOBES = 5
COAT_LOBE, BOUNDARY_LOBE, DIFFUSE_LOBE, THROUGH_LOBE, WALK_LOBE = range(LOBES)
COAT_ETA = f32(1.5)
"""glTF's clear coat has this index of refraction."""

ENTERS = 1
"""Kind of result of `sample_surface`: the light comes from below the surface, by a walk."""


@kernel
def fresnel(cosine, eta):
    """Reflectance of a dielectric boundary, unpolarised and exact; 1 under total internal
    reflection."""
    cosine = min(abs(cosine), ONE)
    sine_squared = (ONE - cosine * cosine) / (eta * eta)
    if sine_squared >= ONE:
        return ONE

    cosine_behind = math.sqrt(ONE - sine_squared)
    parallel = (eta * cosine - cosine_behind) / (eta * cosine + cosine_behind)
    perpendicular = (cosine - eta * cosine_behind) / (cosine + eta * cosine_behind)

    return HALF * (parallel * parallel + perpendicular * perpendicular)


@kernel
def fifth_power(x):
    squared = x * x
    return squared * squared * x


@kernel
def towards_white(colour, cosine):
    """Schlick's rise of a reflectance towards 1 at grazing angles."""
    grazing = fifth_power(ONE - min(ONE, abs(cosine)))
    return (
        colour[0] + (ONE - colour[0]) * grazing,
        colour[1] + (ONE - colour[1]) * grazing,
        colour[2] + (ONE - colour[2]) * grazing,
    )


@kernel
def ggx_density(alpha, half):
    """D: the GGX distribution of microfacet normals."""
    squared = alpha * alpha
    base = half[2] * half[2] * (squared - ONE) + ONE
    return squared / (PI * base * base)


@kernel
def ggx_lambda(alpha, direction):
    cosine = direction[2] * direction[2]
    return HALF * (math.sqrt(ONE + alpha * alpha * (ONE - cosine) / max(cosine, f32(1e-12))) - ONE)


@kernel
def sample_visible_normal(alpha, out, u, v):
    stretched = normalize((out[0] * alpha, out[1] * alpha, out[2]))
    z = (ONE - v) * (ONE + stretched[2]) - stretched[2]
    sine = math.sqrt(max(ZERO, ONE - z * z))
    across, upward = turned(u)
    cap = add((sine * across, sine * upward, z), stretched)

    return normalize((cap[0] * alpha, cap[1] * alpha, max(cap[2], f32(1e-7))))


@kernel
def sheen_value(alpha, out, into):
    """Scattering times cosine of white sheen."""
    half = normalize(add(out, into))
    sine = math.sqrt(max(ZERO, ONE - half[2] * half[2]))
    power = ONE / alpha
    d = (TWO + power) * sine**power / TWO_PI

    return d * into[2] / (f32(4) * (into[2] + out[2] - into[2] * out[2]))


@kernel
def reflectance_at(path, cosine):
    """Share per colour that the metal or the boundary reflects at a microfacet, compensated."""
    m = path.surface.metallic
    boost = path.surface.boost
    tint = towards_white(vec(path.surface.specular_tint), cosine)
    base = vec(path.surface.base)
    boundary = (
        (ONE - m) * min(ONE, fresnel(cosine, path.surface.eta) * path.surface.specular) * boost
    )

    if m <= ZERO:
        return scale(tint, boundary)

    metal = towards_white(base, cosine)
    more = path.surface.kept_boost - ONE

    return (
        m * metal[0] * (ONE + base[0] * more) + boundary * tint[0],
        m * metal[1] * (ONE + base[1] * more) + boundary * tint[1],
        m * metal[2] * (ONE + base[2] * more) + boundary * tint[2],
    )


@kernel
def passed_at(path, cosine):
    """Share that the boundary lets through at a microfacet, compensated, before the base colour."""
    reflected = min(
        ONE,
        fresnel(cosine, path.surface.eta)
        * path.surface.specular
        * largest(vec(path.surface.specular_tint)),
    )
    boost = path.surface.kept_boost if path.surface.thin else path.surface.boost
    return (
        (ONE - path.surface.metallic)
        * path.surface.transmission
        * (ONE - reflected)
        * boost
        * path.surface.under
    )


@kernel
def reflected_chance(path, cosine):
    """The chance of reflecting rather than passing at a microfacet that was sampled; follows what
    each is worth there."""
    base = luminance(vec(path.surface.base))
    f = min(ONE, fresnel(cosine, path.surface.eta) * path.surface.specular)
    reflected = (
        (path.surface.metallic * base + (ONE - path.surface.metallic) * f)
        if path.surface.reflects
        else ZERO
    )
    passed = (
        (ONE - path.surface.metallic) * path.surface.transmission * (ONE - f) * base
        if path.surface.refracts
        else ZERO
    )
    total = reflected + passed

    return reflected / total if total > ZERO else ONE


@part(types.void(types.int64, types.int64))
def prepare_surface(scene_address, path_address):
    """Work out the energy of each layer towards the viewer, and the chance of sampling each
    lobe."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    cosine = path.surface.out[2]
    under = ONE
    coat = ZERO
    sheen = ZERO

    if not path.surface.plain:
        if path.surface.coat > ZERO:
            coat_cosine = max(dot(vec(path.surface.out), vec(path.surface.coat_normal)), f32(1e-3))
            if path.surface.coat_smooth:
                coat = fresnel(coat_cosine, COAT_ETA)
                path.surface.coat_boost = ONE
            else:
                rough = math.sqrt(path.surface.coat_alpha)
                path.surface.coat_boost = ONE / kept_at(scene.energy, KEPT, rough, coat_cosine)
                reflected, _ = dielectric_at(scene.energy, rough, coat_cosine, COAT_ETA)
                coat = reflected * path.surface.coat_boost

            coat = min(coat * path.surface.coat, ONE)
            if path.surface.coat_alpha <= ROUGH_ALPHA and not path.surface.reflects:
                path.surface.coat = ZERO

            under -= coat

        peak = largest(vec(path.surface.sheen_colour))
        if peak > ZERO:
            albedo = kept_at(scene.energy, SHEEN, math.sqrt(path.surface.sheen_alpha), cosine)
            path.surface.sheen_scale = ONE / max(albedo, ONE)
            sheen = peak * min(albedo, ONE) * under
            under -= sheen

    path.surface.under = under
    rough = math.sqrt(path.surface.alpha)

    if path.surface.smooth:
        path.surface.kept_boost = path.surface.boost = ONE
        reflected = fresnel(cosine, path.surface.eta)
    else:
        path.surface.kept_boost = ONE / kept_at(scene.energy, KEPT, rough, cosine)
        reflected, passed = dielectric_at(scene.energy, rough, cosine, path.surface.eta)
        path.surface.boost = path.surface.kept_boost

        if path.surface.transmission > ZERO and not path.surface.thin:
            path.surface.boost += path.surface.transmission * (
                ONE / max(reflected + passed, f32(0.05)) - path.surface.boost
            )
        reflected = min(reflected * path.surface.boost, ONE)

    reflected *= path.surface.specular
    path.surface.body = (
        (ONE - path.surface.metallic)
        * (ONE - min(ONE, reflected * largest(vec(path.surface.specular_tint))))
        * under
    )
    base = luminance(vec(path.surface.base))
    shiny = path.surface.alpha <= ROUGH_ALPHA
    opaque = path.surface.body * (ONE - path.surface.transmission)
    chance = path.surface.chance
    chance[COAT_LOBE] = coat if path.surface.coat > ZERO else ZERO

    if not shiny:
        path.surface.reflects = path.surface.refracts = int32(1)

    chance[BOUNDARY_LOBE] = ZERO
    if path.surface.reflects:
        chance[BOUNDARY_LOBE] += under * (
            path.surface.metallic * base + (ONE - path.surface.metallic) * reflected
        )
    if path.surface.refracts:
        chance[BOUNDARY_LOBE] += path.surface.body * path.surface.transmission * base

    chance[DIFFUSE_LOBE] = opaque * (ONE - path.surface.through) * base + sheen
    chance[WALK_LOBE] = ZERO

    if path.surface.walks:
        chance[DIFFUSE_LOBE] = sheen
        chance[WALK_LOBE] = opaque * (ONE - path.surface.through)

    chance[THROUGH_LOBE] = (
        opaque * path.surface.through * luminance(vec(path.surface.through_colour))
        if path.surface.through > ZERO
        else ZERO
    )
    total = ZERO
    for k in range(LOBES):
        total += chance[k]

    if total > ZERO:
        for k in range(LOBES):
            chance[k] /= total


@kernel
def reflection_terms(alpha, out, into):
    """(cosine at the microfacet, scattering times cosine of a perfect reflector, density by visible
    normals)."""
    half = normalize(add(out, into))
    d = ggx_density(alpha, half) / (f32(4) * out[2])
    lambda_out = ggx_lambda(alpha, out)

    return dot(out, half), d / (ONE + lambda_out + ggx_lambda(alpha, into)), d / (ONE + lambda_out)


@kernel
def coat_terms(path, out, into):
    """(scattering times cosine, density) of the coat, in the frame of its own normal."""
    n = vec(path.surface.coat_normal)
    tangent, bitangent = frame(n)
    own_out = to_local(out, tangent, bitangent, n)
    own_into = to_local(into, tangent, bitangent, n)

    if own_into[2] <= ZERO:
        return ZERO, ZERO

    own_out = (own_out[0], own_out[1], max(own_out[2], f32(1e-3)))
    cosine, value, density = reflection_terms(path.surface.coat_alpha, own_out, own_into)
    return path.surface.coat * fresnel(cosine, COAT_ETA) * value * path.surface.coat_boost, density


@part(types.void(types.int64, types.float32, types.float32, types.float32))
def evaluate_surface(path_address, x, y, z):
    """Scattering times cosine per kind and colour into `path.scatter.value`, and the density of
    `sample_surface`.

    Perfectly smooth parts are left out.
    """
    path = path_at(path_address, 0)
    out = vec(path.surface.out)
    into = (x, y, z)
    chance = path.surface.chance
    value = path.scatter.value
    density = ZERO
    for kind in range(3):
        value[kind, 0] = value[kind, 1] = value[kind, 2] = ZERO

    if z > ZERO:
        base = vec(path.surface.base)
        if not path.surface.walks:
            body = (
                path.surface.body
                * (ONE - path.surface.transmission)
                * (ONE - path.surface.through)
                * z
                * INVERSE_PI
            )
            for axis in range(3):
                value[DIFFUSE, axis] = base[axis] * body

        density = chance[DIFFUSE_LOBE] * z * INVERSE_PI
        if path.surface.reflects and not path.surface.smooth:
            cosine, perfect, by_normals = reflection_terms(path.surface.alpha, out, into)
            set_vec(
                value[GLOSSY], scale(reflectance_at(path, cosine), perfect * path.surface.under)
            )
            density += chance[BOUNDARY_LOBE] * reflected_chance(path, cosine) * by_normals

        if not path.surface.plain:
            peak = largest(vec(path.surface.sheen_colour))
            if peak > ZERO:
                sheen = sheen_value(path.surface.sheen_alpha, out, into) * path.surface.sheen_scale
                for axis in range(3):
                    value[DIFFUSE, axis] += path.surface.sheen_colour[axis] * sheen

            if path.surface.coat > ZERO and not path.surface.coat_smooth:
                coat, by_normals = coat_terms(path, out, into)
                for axis in range(3):
                    value[GLOSSY, axis] += coat
                density += chance[COAT_LOBE] * by_normals
    elif z < ZERO:
        if chance[THROUGH_LOBE] > ZERO:
            body = (
                path.surface.body
                * (ONE - path.surface.transmission)
                * path.surface.through
                * -z
                * INVERSE_PI
            )
            for axis in range(3):
                value[TRANSMISSION, axis] = path.surface.through_colour[axis] * body
            density = chance[THROUGH_LOBE] * -z * INVERSE_PI

        if path.surface.refracts and path.surface.transmission > ZERO and not path.surface.smooth:
            cosine, passed, by_normals = transmission_terms(path, out, into)
            for axis in range(3):
                value[TRANSMISSION, axis] += path.surface.base[axis] * passed
            density += chance[BOUNDARY_LOBE] * (ONE - reflected_chance(path, cosine)) * by_normals

    path.scatter.density = density


@kernel
def transmission_terms(path, out, into):
    """(cosine at the microfacet, scattering times cosine before the base colour, density) of rough
    transmission."""
    alpha = path.surface.alpha
    eta = path.surface.eta
    lambda_out = ggx_lambda(alpha, out)
    lambda_into = ggx_lambda(alpha, into)

    if path.surface.thin:
        half = normalize(add(out, (into[0], into[1], -into[2])))
        d = ggx_density(alpha, half) / (f32(4) * out[2])
        cosine = dot(out, half)
        return (
            cosine,
            passed_at(path, cosine) * d / (ONE + lambda_out + lambda_into),
            d / (ONE + lambda_out),
        )

    half = normalize(add(out, scale(into, eta)))
    if half[2] < ZERO:
        half = negate(half)

    out_half = dot(out, half)
    into_half = dot(into, half)
    if out_half <= ZERO or into_half >= ZERO:
        return ONE, ZERO, ZERO

    base = out_half + eta * into_half
    common = (
        ggx_density(alpha, half)
        * out_half
        * abs(into_half)
        / (out[2] * max(base * base, f32(1e-12)))
    )

    return (
        out_half,
        passed_at(path, out_half) * common / (ONE + lambda_out + lambda_into),
        common * eta * eta / (ONE + lambda_out),
    )


@kernel
def refract(out, half, eta):
    """`out` bent through the facet `half`; not to be called under total internal reflection."""
    cosine = dot(out, half)
    behind = math.sqrt(max(ZERO, ONE - (ONE - cosine * cosine) / (eta * eta)))
    return normalize(add(scale(out, -ONE / eta), scale(half, cosine / eta - behind)))


@kernel
def reflect(out, half):
    return add(scale(half, TWO * dot(out, half)), negate(out))


@kernel
def set_scatter(path, into, weight, kind, delta):
    set_vec(path.scatter.into, into)
    set_vec(path.scatter.weight, weight)
    path.scatter.kind = int32(kind)
    path.scatter.delta = int32(delta)


@kernel
def choose_lobe(path, choice):
    """A lobe by its chance, and what is left of the number."""
    chosen = 0
    before = ZERO
    running = ZERO

    for k in range(LOBES):
        if path.surface.chance[k] > ZERO:
            chosen = k
            before = running
            running += path.surface.chance[k]

            if choice < running:
                break

    return chosen, min(
        max((choice - before) / max(path.surface.chance[chosen], f32(1e-20)), ZERO), f32(0.9999999)
    )


@kernel
def sample_smooth_boundary(path, out, share, rest):
    """A mirror-like reflection or refraction."""
    reflects = reflected_chance(path, out[2])
    if rest < reflects:
        weight = scale(reflectance_at(path, out[2]), path.surface.under / (share * reflects))
        set_scatter(path, (-out[0], -out[1], out[2]), weight, GLOSSY, True)
        return

    passed = scale(vec(path.surface.base), passed_at(path, out[2]) / (share * (ONE - reflects)))
    if path.surface.thin:
        set_scatter(path, negate(out), passed, TRANSMISSION, True)
        return

    into = refract(out, (ZERO, ZERO, ONE), path.surface.eta)
    set_scatter(
        path, into, scale(passed, ONE / (path.surface.eta * path.surface.eta)), TRANSMISSION, True
    )


@part(types.int64(types.int64, types.float32, types.float32, types.float32))
def sample_surface(path_address, choice, u, v):
    """Choose where light comes from: `path.scatter.into`, `weight`, `density`, `kind`, and `delta`
    where perfectly smooth.

    The weight is scattering times cosine over density; zero ends the path. Returns ENTERS where the
    light comes from below by a walk, whose start is then `into`; else 0.
    """
    path = path_at(path_address, 0)
    out = vec(path.surface.out)
    lobe, rest = choose_lobe(path, choice)
    share = path.surface.chance[lobe]
    black = (ZERO, ZERO, ZERO)
    up = (ZERO, ZERO, ONE)
    path.scatter.density = ONE

    if share <= ZERO:
        set_scatter(path, up, black, DIFFUSE, False)
        return 0

    if lobe == COAT_LOBE and path.surface.coat_smooth:
        n = vec(path.surface.coat_normal)
        into = reflect(out, n)
        reflected = path.surface.coat * fresnel(max(dot(out, n), f32(1e-3)), COAT_ETA) / share
        set_scatter(
            path, into, scale((ONE, ONE, ONE), reflected if into[2] > ZERO else ZERO), GLOSSY, True
        )
        return 0

    if lobe == BOUNDARY_LOBE and path.surface.smooth:
        sample_smooth_boundary(path, out, share, rest)
        return 0

    kind = GLOSSY
    if lobe in (DIFFUSE_LOBE, THROUGH_LOBE, WALK_LOBE):
        radius = math.sqrt(u)
        across, upward = turned(v)
        z = math.sqrt(max(f32(1e-8), ONE - u))
        kind = DIFFUSE
        into = (radius * across, radius * upward, z if lobe == DIFFUSE_LOBE else -z)

        if lobe == WALK_LOBE:
            body = (
                path.surface.body
                * (ONE - path.surface.transmission)
                * (ONE - path.surface.through)
                / share
            )
            set_scatter(path, into, (body, body, body), DIFFUSE, False)
            return ENTERS

        if lobe == THROUGH_LOBE:
            kind = TRANSMISSION
    elif lobe == COAT_LOBE:
        n = vec(path.surface.coat_normal)
        tangent, bitangent = frame(n)
        own = to_local(out, tangent, bitangent, n)
        half = sample_visible_normal(
            path.surface.coat_alpha, (own[0], own[1], max(own[2], f32(1e-3))), u, v
        )
        into = reflect(out, to_world(half, tangent, bitangent, n))
    else:
        half = sample_visible_normal(path.surface.alpha, out, u, v)
        into = reflect(out, half)

        if rest >= reflected_chance(path, dot(out, half)):
            kind = TRANSMISSION
            into = (
                (into[0], into[1], -into[2])
                if path.surface.thin
                else refract(out, half, path.surface.eta)
            )

    if (into[2] > ZERO) != (kind != TRANSMISSION):
        set_scatter(path, into, black, kind, False)
        return 0

    evaluate_surface(path_address, into[0], into[1], into[2])
    if path.scatter.density <= ZERO:
        set_scatter(path, into, black, kind, False)
        return 0

    value = add(
        vec(path.scatter.value[0]), add(vec(path.scatter.value[1]), vec(path.scatter.value[2]))
    )
    set_scatter(path, into, scale(value, ONE / path.scatter.density), kind, False)
    return 0

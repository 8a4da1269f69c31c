"""How surfaces scatter light: a metal, or a dielectric over a diffuse or transmitting body.

Directions are local: z along the normal on the viewer's side; `out` points to the viewer, `into` to the light.
`eta` is the index of refraction behind the surface over that on the viewer's side.

GGX and refraction: Walter et al. 2007. Sampling of visible normals: Dupuy and Benyoub 2023, "Sampling Visible GGX
Normals with Spherical Caps". Height-correlated masking: Heitz 2014. Metals: Schlick 1994.
"""

import math
from typing import NamedTuple

import numpy as np

from swift_sample.core.compiling import kernel
from swift_sample.core.render.vector import (
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
    negate,
    normalize,
    scale,
)

DIFFUSE, GLOSSY, TRANSMISSION = 0, 1, 2
"""Kinds of scattering."""

_LEAST_PICK, _MOST_PICK = f32(0.1), f32(0.9)
BLACK = (ZERO, ZERO, ZERO)


class Shading(NamedTuple):
    """What the surface is like at one point."""

    base: tuple[np.float32, np.float32, np.float32]
    metallic: np.float32
    alpha: np.float32
    transmission: np.float32
    eta: np.float32
    smooth: bool
    thin: bool


@kernel
def fresnel(cosine, eta):
    """Reflectance of a dielectric boundary, unpolarised and exact; 1 under total internal reflection."""
    cosine = min(abs(cosine), ONE)
    sine_squared = (ONE - cosine * cosine) / (eta * eta)
    if sine_squared >= ONE:
        return ONE
    cosine_behind = math.sqrt(ONE - sine_squared)
    parallel = (eta * cosine - cosine_behind) / (eta * cosine + cosine_behind)
    perpendicular = (cosine - eta * cosine_behind) / (cosine + eta * cosine_behind)
    return HALF * (parallel * parallel + perpendicular * perpendicular)


@kernel
def metal_reflectance(base, cosine):
    grazing = (ONE - min(ONE, abs(cosine))) ** 5
    return (base[0] + (ONE - base[0]) * grazing, base[1] + (ONE - base[1]) * grazing,
            base[2] + (ONE - base[2]) * grazing)


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
    turn = TWO_PI * u
    cap = add((sine * math.cos(turn), sine * math.sin(turn), z), stretched)
    return normalize((cap[0] * alpha, cap[1] * alpha, max(cap[2], f32(1e-7))))


@kernel
def reflectance_at(shading, cosine):
    """Reflected share per colour at a microfacet."""
    metal = metal_reflectance(shading.base, cosine)
    coat = (ONE - shading.metallic) * fresnel(cosine, shading.eta)
    m = shading.metallic
    return (m * metal[0] + coat, m * metal[1] + coat, m * metal[2] + coat)


@kernel
def lobe_probabilities(shading, out):
    """Chances of sampling (reflection, diffuse, transmission) for this view; they add up to 1."""
    reflected = fresnel(out[2], shading.eta)
    if not shading.smooth and shading.transmission > ZERO:
        reflected = min(max(reflected, _LEAST_PICK), _MOST_PICK)
    body = (ONE - shading.metallic) * (ONE - reflected)
    return (shading.metallic + (ONE - shading.metallic) * reflected, body * (ONE - shading.transmission),
            body * shading.transmission)


@kernel
def evaluate(shading, out, into):
    """Scattering times cosine per colour, and the density of `sample`, without perfectly smooth parts."""
    pick = lobe_probabilities(shading, out)
    if into[2] > ZERO:
        weight = (ONE - shading.metallic) * (ONE - shading.transmission) * (ONE - fresnel(out[2], shading.eta))
        value = scale(shading.base, weight * into[2] * INVERSE_PI)
        density = pick[1] * into[2] * INVERSE_PI
        if not shading.smooth:
            half = normalize(add(out, into))
            cosine = dot(out, half)
            d = ggx_density(shading.alpha, half)
            lambda_out, lambda_into = ggx_lambda(shading.alpha, out), ggx_lambda(shading.alpha, into)
            reflected = reflectance_at(shading, cosine)
            value = add(value, scale(reflected, d / (f32(4) * out[2] * (ONE + lambda_out + lambda_into))))
            density += pick[0] * d / (f32(4) * out[2] * (ONE + lambda_out))
        return value, density
    if shading.smooth or pick[2] <= ZERO or into[2] == ZERO:
        return BLACK, ZERO
    return evaluate_transmission(shading, out, into, pick[2])


@kernel
def evaluate_transmission(shading, out, into, pick):
    lambda_out, lambda_into = ggx_lambda(shading.alpha, out), ggx_lambda(shading.alpha, into)
    body = (ONE - shading.metallic) * shading.transmission
    if shading.thin:
        half = normalize(add(out, (into[0], into[1], -into[2])))
        passed = (ONE - fresnel(dot(out, half), shading.eta)) * body
        d = ggx_density(shading.alpha, half) / (f32(4) * out[2])
        return scale(shading.base, passed * d / (ONE + lambda_out + lambda_into)), pick * d / (ONE + lambda_out)
    half = normalize(add(out, scale(into, shading.eta)))
    if half[2] < ZERO:
        half = negate(half)
    out_half, into_half = dot(out, half), dot(into, half)
    if out_half <= ZERO or into_half >= ZERO:
        return BLACK, ZERO
    base = out_half + shading.eta * into_half
    common = ggx_density(shading.alpha, half) * out_half * abs(into_half) / (out[2] * max(base * base, f32(1e-12)))
    passed = (ONE - fresnel(out_half, shading.eta)) * body
    value = scale(shading.base, passed * common / (ONE + lambda_out + lambda_into))
    return value, pick * common * shading.eta * shading.eta / (ONE + lambda_out)


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
def sample_smooth(shading, out, kind, chance):
    """A mirror-like reflection or refraction: (into, weight)."""
    if kind == GLOSSY:
        return (-out[0], -out[1], out[2]), scale(reflectance_at(shading, out[2]), ONE / chance)
    passed = (ONE - shading.metallic) * shading.transmission * (ONE - fresnel(out[2], shading.eta)) / chance
    if shading.thin:
        return negate(out), scale(shading.base, passed)
    up = (ZERO, ZERO, ONE)
    return refract(out, up, shading.eta), scale(shading.base, passed / (shading.eta * shading.eta))


@kernel
def sample(shading, out, choice, u, v):
    """Choose where light comes from: (into, weight per colour, density, kind, whether perfectly smooth).

    The weight is scattering times cosine over density; a weight of zero ends the path.
    """
    pick = lobe_probabilities(shading, out)
    kind, chance = TRANSMISSION, pick[2]
    if choice < pick[0]:
        kind, chance = GLOSSY, pick[0]
    elif choice < pick[0] + pick[1] or chance <= ZERO:
        kind, chance = DIFFUSE, pick[1]
    if shading.smooth and kind != DIFFUSE:
        into, weight = sample_smooth(shading, out, kind, chance)
        return into, weight, ONE, kind, True
    if kind == DIFFUSE:
        radius, turn = math.sqrt(u), TWO_PI * v
        into = (radius * math.cos(turn), radius * math.sin(turn), math.sqrt(max(f32(1e-8), ONE - u)))
    else:
        half = sample_visible_normal(shading.alpha, out, u, v)
        into = reflect(out, half)
        if kind == TRANSMISSION and shading.thin:
            into = (into[0], into[1], -into[2])
        elif kind == TRANSMISSION:
            if fresnel(dot(out, half), shading.eta) >= ONE:
                return into, BLACK, ONE, kind, False
            into = refract(out, half, shading.eta)
        if (into[2] > ZERO) != (kind == GLOSSY):
            return into, BLACK, ONE, kind, False
    value, density = evaluate(shading, out, into)
    if density <= ZERO:
        return into, BLACK, ONE, kind, False
    return into, scale(value, ONE / density), density, kind, False

"""Reading textures at a point: coordinates, wrapping, interpolation, decoding."""

import math

from numba import int64, types, uint32

from swift_sample.core.compiling import kernel, part
from swift_sample.core.render.memory import f32_at, u32_at
from swift_sample.core.render.records import path_at, scene_at, texture_use_at
from swift_sample.core.render.vector import f32
from swift_sample.core.scene.model import CLAMP, MIRROR

BYTE = f32(1 / 255)


@kernel
def wrapped(place, size, mode):
    """A texel's place inside the picture."""
    if mode == CLAMP:
        return min(max(place, 0), size - 1)
    if mode == MIRROR:
        place = place % (2 * size)
        return place if place < size else 2 * size - 1 - place
    return place % size


@kernel
def texel(scene, use, x, y):
    """One texel decoded: (red, green, blue, opacity)."""
    packed = u32_at(use.texels, int64(y) * use.width + x)
    red, green = int64(packed & uint32(255)), int64((packed >> uint32(8)) & uint32(255))
    blue, opacity = int64((packed >> uint32(16)) & uint32(255)), f32(packed >> uint32(24)) * BYTE
    if use.srgb:
        return f32_at(scene.decode, red), f32_at(scene.decode, green), f32_at(scene.decode, blue), opacity
    return f32(red) * BYTE, f32(green) * BYTE, f32(blue) * BYTE, opacity


@kernel
def mixed(a, b, share):
    return (a[0] + (b[0] - a[0]) * share, a[1] + (b[1] - a[1]) * share, a[2] + (b[2] - a[2]) * share,
            a[3] + (b[3] - a[3]) * share)


@kernel
def read_use(scene, use, u, v):
    """A texture use at these coordinates: linear (red, green, blue, opacity)."""
    t = use.transform
    x = (t[0] * u + t[1] * v + t[2]) * f32(use.width)
    y = (t[3] * u + t[4] * v + t[5]) * f32(use.height)
    width, height = int64(use.width), int64(use.height)
    if use.nearest:
        return texel(scene, use, wrapped(int64(math.floor(x)), width, use.wrap_u),
                     wrapped(int64(math.floor(y)), height, use.wrap_v))
    x, y = x - f32(0.5), y - f32(0.5)
    x0, y0 = math.floor(x), math.floor(y)
    left, right = wrapped(int64(x0), width, use.wrap_u), wrapped(int64(x0) + 1, width, use.wrap_u)
    upper, lower = wrapped(int64(y0), height, use.wrap_v), wrapped(int64(y0) + 1, height, use.wrap_v)
    above = mixed(texel(scene, use, left, upper), texel(scene, use, right, upper), x - f32(x0))
    below = mixed(texel(scene, use, left, lower), texel(scene, use, right, lower), x - f32(x0))
    return mixed(above, below, y - f32(y0))


@part(types.void(types.int64, types.int64, types.int64))
def read_texture(scene_address, path_address, place):
    """Read the texture use at `place` for the coordinates in `path.uv` into `path.texel`."""
    scene, path = scene_at(scene_address, 0), path_at(path_address, 0)
    use = texture_use_at(scene.texture_uses, place)
    first = 2 * int64(use.uv_set)
    colour = read_use(scene, use, path.uv[first], path.uv[first + 1])
    for k in range(4):
        path.texel[k] = colour[k]
    path.reads += 1


@kernel
def square_decoded(packed):
    """A vertex colour: (red, green, blue, opacity) from square roots in 8 bits."""
    red, green = f32(packed & uint32(255)) * BYTE, f32((packed >> uint32(8)) & uint32(255)) * BYTE
    blue, opacity = f32((packed >> uint32(16)) & uint32(255)) * BYTE, f32(packed >> uint32(24)) * BYTE
    return red * red, green * green, blue * blue, opacity

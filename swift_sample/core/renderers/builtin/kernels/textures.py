"""Reading textures at a point: coordinates, wrapping, interpolation, decoding."""

import numpy as np
from numba import int32, int64, types, uint8, uint32

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import f32, floor
from swift_sample.core.renderers.builtin.lowlevel.memory import (
    f32_at,
    i32_at,
    put_i32,
    put_u8,
    put_u64,
    u8_at,
    u32_at,
    u64_at,
)
from swift_sample.core.renderers.builtin.lowlevel.records import path_at, scene_at, texture_use_at
from swift_sample.core.renderers.builtin.lowlevel.schema import Records
from swift_sample.core.renderers.builtin.tables.pyramids import TILE
from swift_sample.core.scene.model import CLAMP, MIRROR

BYTE = f32(1 / 255)
TILE_BYTES = 4 * TILE * TILE
LEAST_TILES = 16
"""Tiles that each thread may hold however little memory there is: enough for one reading."""


def make_room_for_tiles(paths: Records, total: int, memory_bytes: int) -> None:
    """Give every thread's path its share of the memory for the tiles of textures that it reads from
    disk; `total` are all there are."""
    if not total:
        return

    room = min(total, max(LEAST_TILES, memory_bytes // (len(paths) * TILE_BYTES)))
    for number in range(len(paths)):
        paths.bind("tile_places", np.full(total, -1, np.int32), number)
        paths.bind("tile_texels", np.empty((room, TILE * TILE), np.uint32), number)
        paths.bind("tile_owners", np.zeros(room, np.int32), number)
        paths.bind("tile_used", np.zeros(room, np.uint8), number)
        paths.records[number]["tile_room"] = room


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
def fetch_tile(path, use, tile):
    """The place among the thread's tiles where one now stands; it takes that of one not used of
    late (the clock method)."""
    number = int64(use.first_tile) + tile
    place = int64(i32_at(path.tile_places, number))

    if place < 0:
        if path.tile_held < path.tile_room:
            place = path.tile_held
            path.tile_held += 1
        else:
            while u8_at(path.tile_used, path.tile_hand):
                put_u8(path.tile_used, path.tile_hand, uint8(0))
                path.tile_hand = path.tile_hand + 1 if path.tile_hand + 1 < path.tile_room else 0

            place = path.tile_hand
            path.tile_hand = path.tile_hand + 1 if path.tile_hand + 1 < path.tile_room else 0
            put_i32(path.tile_places, int64(i32_at(path.tile_owners, place)), int32(-1))

        source = use.texels + tile * TILE_BYTES
        target = path.tile_texels + place * TILE_BYTES
        for k in range(TILE_BYTES // 8):
            put_u64(target, k, u64_at(source, k))

        put_i32(path.tile_places, number, int32(place))
        put_i32(path.tile_owners, place, int32(number))
        path.thread.misses += 1

    put_u8(path.tile_used, place, uint8(1))
    return place


@kernel
def texel(scene, path, use, level, x, y):
    """One texel decoded: (red, green, blue, opacity)."""
    columns = (int64(use.widths[level]) + TILE - 1) // TILE
    tile = int64(use.tiles[level]) + (int64(y) // TILE) * columns + int64(x) // TILE
    inside = (int64(y) % TILE) * TILE + int64(x) % TILE

    if use.first_tile < 0:
        packed = u32_at(use.texels, tile * TILE * TILE + inside)
    else:
        packed = u32_at(path.tile_texels, fetch_tile(path, use, tile) * TILE * TILE + inside)

    red = int64(packed & uint32(255))
    green = int64((packed >> uint32(8)) & uint32(255))
    blue = int64((packed >> uint32(16)) & uint32(255))
    opacity = f32(packed >> uint32(24)) * BYTE

    if use.srgb:
        return (
            f32_at(scene.decode, red),
            f32_at(scene.decode, green),
            f32_at(scene.decode, blue),
            opacity,
        )

    return f32(red) * BYTE, f32(green) * BYTE, f32(blue) * BYTE, opacity


@kernel
def mixed(a, b, share):
    return (
        a[0] + (b[0] - a[0]) * share,
        a[1] + (b[1] - a[1]) * share,
        a[2] + (b[2] - a[2]) * share,
        a[3] + (b[3] - a[3]) * share,
    )


@kernel
def level_for(use, footprint):
    """The level whose texels are just finer than the footprint: the width seen at once, in units of
    the coordinates."""
    texels = footprint * use.stretch
    level = int64(0)

    while texels >= f32(2) and level + 1 < use.levels:
        texels *= f32(0.5)
        level += 1

    return level


@kernel
def read_use(scene, path, use, u, v, footprint):
    """A texture use at these coordinates: linear (red, green, blue, opacity)."""
    t = use.transform
    level = level_for(use, footprint)
    width, height = int64(use.widths[level]), int64(use.heights[level])
    x = (t[0] * u + t[1] * v + t[2]) * f32(width)
    y = (t[3] * u + t[4] * v + t[5]) * f32(height)

    if use.nearest:
        return texel(
            scene,
            path,
            use,
            level,
            wrapped(floor(x), width, use.wrap_u),
            wrapped(floor(y), height, use.wrap_v),
        )

    x, y = x - f32(0.5), y - f32(0.5)
    x0, y0 = floor(x), floor(y)
    left, right = wrapped(x0, width, use.wrap_u), wrapped(x0 + 1, width, use.wrap_u)
    upper = wrapped(y0, height, use.wrap_v)
    lower = wrapped(y0 + 1, height, use.wrap_v)
    above = mixed(
        texel(scene, path, use, level, left, upper),
        texel(scene, path, use, level, right, upper),
        x - f32(x0),
    )
    below = mixed(
        texel(scene, path, use, level, left, lower),
        texel(scene, path, use, level, right, lower),
        x - f32(x0),
    )

    return mixed(above, below, y - f32(y0))


@part(types.void(types.int64, types.int64, types.int64, types.float32))
def read_texture(scene_address, path_address, place, width):
    """Read the texture use at `place` for the coordinates in `path.hit.uv` into `path.texel`.

    `width` in metres is how much of the surface is seen at once; 0 reads the finest level.
    """
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    use = texture_use_at(scene.texture_uses, place)
    first = 2 * int64(use.uv_set)
    footprint = width * path.hit.density_of_uv if first == 0 else f32(0)
    colour = read_use(scene, path, use, path.hit.uv[first], path.hit.uv[first + 1], footprint)
    for k in range(4):
        path.texel[k] = colour[k]

    path.thread.reads += 1


@kernel
def square_decoded(packed):
    """A vertex colour: (red, green, blue, opacity) from square roots in 8 bits."""
    red = f32(packed & uint32(255)) * BYTE
    green = f32((packed >> uint32(8)) & uint32(255)) * BYTE
    blue = f32((packed >> uint32(16)) & uint32(255)) * BYTE
    opacity = f32(packed >> uint32(24)) * BYTE

    return red * red, green * green, blue * blue, opacity

"""What each thread does: take a tile, take the samples of its pixels, add them to the film."""

import math

from numba import int32, int64, types, uint32, uint64

from swift_sample.core.kernels.compiling import part
from swift_sample.core.kernels.vector import ZERO
from swift_sample.core.renderers.builtin.kernels.camera import aim
from swift_sample.core.renderers.builtin.kernels.path import start_path, trace_path
from swift_sample.core.renderers.builtin.kernels.pixel import add_sample, load_pixel, store_pixel
from swift_sample.core.renderers.builtin.kernels.recording import add_to_recording
from swift_sample.core.renderers.builtin.kernels.sampler import (
    BLUE_NOISE,
    curve_place,
    hash_bits,
    pixel_seed,
)
from swift_sample.core.renderers.builtin.kernels.tally import (
    forget_limits,
    keep_light,
    keep_limits,
    note_limits,
    take_snapshot,
)
from swift_sample.core.renderers.builtin.lowlevel.memory import (
    i32_at,
    put_i32,
    put_u64,
    take_next,
    u8_at,
    u64_at,
    vec,
)
from swift_sample.core.renderers.builtin.lowlevel.records import CELL, job_at, path_at
from swift_sample.core.renderers.builtin.lowlevel.simd import read_cycles

HALF_SEED = 0x5BD1E995
"""Tells the two halves of the samples apart."""


@part(types.void(types.int64, types.int64, types.int64, types.int64))
def render_pixel(job_address, path_address, x, y):
    """Take the samples that bring one pixel to the target."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    place = y * job.width + x
    started = read_cycles()
    own_seed = pixel_seed(x, y, job.seed)
    deepest = int64(-1)
    done = int64(i32_at(job.samples, place))
    cell = (y // CELL) * job.cell_columns + x // CELL
    load_pixel(job, path, place)

    if job.record:
        forget_limits(path)

    for number in range(done, job.target):
        half = number & 1
        index = number >> 1
        seed = hash_bits(own_seed + uint32(half) * uint32(HALF_SEED))
        path.own_seed = seed

        if job.pattern == BLUE_NOISE:
            seed = hash_bits(uint32(job.seed) + uint32(half) * uint32(HALF_SEED))
            index = int64((uint32(curve_place(x, y)) << uint32(job.index_bits)) + uint32(index))

        began = read_cycles() if job.end_count else uint64(0)
        start_path(path, seed, index)
        aim(job, path, x, y, seed, index)
        trace_path(job_address, path_address)
        radiance = vec(path.sample.total)
        if job.end_count:
            add_to_recording(job_address, path_address, place, half, began)

        if number == 0:
            put_i32(job.material, place, path.sample.first_material)
            put_i32(job.object, place, path.sample.first_object)

        if not math.isfinite(radiance[0] + radiance[1] + radiance[2]):
            path.thread.dropped += 1
            continue

        add_sample(job, path, half)
        last = min(int64(path.bounce), job.bounces)
        for k in range(deepest + 1, last + 1):
            path.pixel.light[k, 0] = path.pixel.light[k, 1] = path.pixel.light[k, 2] = ZERO

        deepest = max(deepest, last)
        for k in range(last + 1):
            for axis in range(3):
                path.pixel.light[k, axis] += path.sample.brought[k, axis]

        if job.record:
            note_limits(job, path, half, last)
        if half and job.record:
            take_snapshot(job, path, cell, number + 1)

    store_pixel(job, path, place)
    keep_light(job, path, place, cell, deepest)
    if job.record:
        keep_limits(job, path, cell, done, max(done, job.target))

    put_i32(job.samples, place, int32(max(done, job.target)))
    put_u64(job.cycles, place, u64_at(job.cycles, place) + read_cycles() - started)


@part(types.void(types.int64, types.int64))
def render_tiles(job_address, path_address):
    """Work on tiles until none is left: what each thread runs."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)

    while i32_at(job.cancel, 0) == 0:
        k = take_next(job.counter)
        if k >= job.tile_count:
            break

        started = read_cycles()
        x0, y0 = int64(i32_at(job.tiles, 4 * k)), int64(i32_at(job.tiles, 4 * k + 1))
        x1, y1 = int64(i32_at(job.tiles, 4 * k + 2)), int64(i32_at(job.tiles, 4 * k + 3))

        for y in range(y0, y1):
            if i32_at(job.cancel, 0) != 0:
                break
            for x in range(x0, x1):
                if u8_at(job.active, y * job.width + x):
                    render_pixel(job_address, path_address, x, y)

        ended = read_cycles()
        put_u64(job.spent, k, ended - started)
        put_u64(job.finished, k, ended)

    path.thread.ended = read_cycles()

"""What a recording adds up beside its own film: what other limits make of the same samples.

A path that may scatter less often is the beginning of the one that was traced, and a clamp acts on
the light of one whole sample. So films of many configurations come out of the samples of one. An
*end* is a way of ending paths: how often they may scatter in all and in each way, and whether there
is bounced light. There is a film for each end, and for each clamp with it; the two are the same up
to the first sample of a pixel on which the clamp acts, and share one sum until then.
"""

import math

from numba import int64, types, uint8, uint32

from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import ZERO, add, largest
from swift_sample.core.renderers.builtin.kernels.path import NEVER, clamp_factor
from swift_sample.core.renderers.builtin.lowlevel.memory import (
    f32_at,
    i32_at,
    put_f32,
    put_u8,
    put_u32,
    put_u64,
    u8_at,
    u32_at,
    u64_at,
    vec,
)
from swift_sample.core.renderers.builtin.lowlevel.records import (
    END_CAPPED,
    END_CAPS,
    END_FIELDS,
    END_INDIRECT,
    END_TOTAL,
    GUIDES,
    job_at,
    path_at,
)

BORROWED = uint32(0x80808080)
"""The highest bit of each kind's count: a count over its cap borrows it from the difference."""


@kernel
def end_of(job, path, end):
    """The bounce at which the path ends by an end's limits; beyond its last one where it does
    not."""
    row = end * END_FIELDS
    bounce = int64(i32_at(job.path_ends, row + END_TOTAL)) + 1
    if not i32_at(job.path_ends, row + END_INDIRECT):
        bounce = min(bounce, int64(path.first_matt))

    if i32_at(job.path_ends, row + END_CAPPED):
        caps = uint32(i32_at(job.path_ends, row + END_CAPS)) | BORROWED
        for k in range(1, min(bounce, int64(path.bounce) + 1)):
            if (uint32(caps - path.counts_at[k]) & BORROWED) != BORROWED:
                return k

    return bounce


@kernel
def acting_clamps(job, peak, column):
    """Which clamps act on direct (column 0) or indirect light (1) with this peak, a bit for
    each."""
    bits = uint32(0)
    for k in range(job.clamp_count):
        limit = f32_at(job.clamps, 2 * k + column)
        if limit > ZERO and peak > limit:
            bits |= uint32(1) << uint32(k)

    return bits


@kernel
def raise_at(address, place, value):
    put_f32(address, place, f32_at(address, place) + value)


@kernel
def add_guides(path, address, place, seen):
    """Add the guides of one sample; without surface where a path of this end never saw one."""
    if seen:
        for axis in range(3):
            raise_at(address, place + axis, path.sample.albedo[axis])
            raise_at(address, place + 3 + axis, path.sample.normal[axis])

    raise_at(address, place + 6, path.sample.depth)


@kernel
def add_end_guides(job, path, film, half, seen):
    """Add to the guides of an end that are no longer those of the recording's own film. They begin
    as what the own film has so far: this sample has not been added to it yet."""
    first = film * 2 * GUIDES
    if not u8_at(job.end_guided, film):
        put_u8(job.end_guided, film, uint8(1))
        for k in range(GUIDES):
            put_f32(job.end_guides, first + k, path.pixel.guides[k])
            put_f32(job.end_guides, first + GUIDES + k, path.pixel.guides_half[k])

    add_guides(path, job.end_guides, first, seen)
    if half:
        add_guides(path, job.end_guides, first + GUIDES, seen)


@kernel
def add_clamped(job, path, film, half, acting, last):
    """Add one sample to the films of an end that have a clamp which has acted on this pixel.
    `last` is the bounce up to which its indirect light counts."""
    split = u32_at(job.end_splits, film)
    wanted = split | acting
    if not wanted:
        return

    put_u32(job.end_splits, film, wanted)
    direct = vec(path.unclamped[0])

    for k in range(job.clamp_count):
        bit = uint32(1) << uint32(k)
        if not wanted & bit:
            continue

        first = (film * job.clamp_count + k) * 6
        if not split & bit:
            for j in range(6):
                put_f32(job.clamp_sums, first + j, f32_at(job.end_sums, film * 6 + j))

        direct_factor = clamp_factor(direct, f32_at(job.clamps, 2 * k))
        factor = clamp_factor(vec(path.prefix[last]), f32_at(job.clamps, 2 * k + 1))
        for axis in range(3):
            # Stored, so that the product is rounded by itself, as it is in `limit_sample`.
            indirect = path.prefix[last, axis] * factor
            path.rounded[axis] = indirect
            shown = path.unclamped[0, axis] * direct_factor + path.sample.seen[axis]
            raise_at(job.clamp_sums, first + 3 * half + axis, shown + indirect)


@part(types.void(types.int64, types.int64, types.int64, types.int64, types.uint64))
def add_to_recording(job_address, path_address, place, half, began):
    """Add one sample of the pixel at `place` to the films of every end and every clamp; `began` is
    the cycle counter at its start."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    deepest = min(int64(path.bounce), job.bounces)
    direct = vec(path.unclamped[0])
    open_direct = add(direct, vec(path.sample.seen))
    peak = largest(direct)
    by_direct = acting_clamps(job, peak, 0) if peak > job.least_direct else uint32(0)
    own = vec(path.sample.total)
    own_dropped = not math.isfinite(own[0] + own[1] + own[2])

    for end in range(job.end_count):
        film = place * job.end_count + end
        bounce = end_of(job, path, end)
        ended = path.ended
        if bounce <= int64(path.bounce) and path.stamps[bounce] != 0:
            ended = path.stamps[bounce]

        put_u64(job.end_cycles, film, u64_at(job.end_cycles, film) + ended - began)
        last = min(bounce - 1, deepest)
        indirect = vec(path.prefix[last])
        total = add(open_direct, indirect)
        if not math.isfinite(total[0] + total[1] + total[2]):
            continue

        peak = largest(indirect)
        acting = by_direct
        if peak > job.least_indirect:
            acting |= acting_clamps(job, peak, 1)
        add_clamped(job, path, film, half, acting, last)

        for axis in range(3):
            raise_at(job.end_sums, film * 6 + 3 * half + axis, total[axis])

        seen = int64(path.guided_from) < bounce
        differs = own_dropped or (path.guided_from < NEVER and not seen)
        if differs or u8_at(job.end_guided, film):
            add_end_guides(job, path, film, half, seen)

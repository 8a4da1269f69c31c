"""Rays against the acceleration tree: the closest hit, and whether light is stopped at all.
Cut-outs are looked at where they are met: a ray passes the holes of any number of them in one go.

The tree's layout is described in `tree.py`. A stack entry is one uint64: the entry distance's bits
above, the child reference below, so that sorting entries sorts by distance.
"""

from numba import float32, int32, int64, types, uint32, uint64

from swift_sample.core.kernels.bits import bits_of, float_of
from swift_sample.core.kernels.compiling import VECTOR, kernel, part
from swift_sample.core.kernels.vector import HUGE, ONE, ZERO
from swift_sample.core.renderers.builtin.kernels.opacity import opacity_met
from swift_sample.core.renderers.builtin.lowlevel.memory import (
    f32_at,
    i32_at,
    put_u64,
    u8_at,
    u64_at,
)
from swift_sample.core.renderers.builtin.lowlevel.records import MOST_HOLES, path_at, tree_at
from swift_sample.core.renderers.builtin.lowlevel.simd import (
    hit_boxes,
    hit_moving_triangles,
    hit_triangles,
    lowest_bit,
)

STACK_ENTRIES = 512
"""Deepest stack: seven waiting siblings a level, and `tree.py` bounds the depth to 64."""

STACK_BYTES = 8 * STACK_ENTRIES + 32
"""Working memory of a traversal: eight distances, then the stack."""

EVERYTHING, MET, WALLS = 0, 1, 2
"""What a ray looks for: all that the camera sees, all that light meets on its way, or the same with
holes as if closed."""

NOTHING_HIT = uint64(0xFFFFFFFF)


@kernel
def safe_inverse(x):
    """1 / x, with a huge value instead of infinity so that 0 * infinity never arises."""
    return ONE / x if x != ZERO else HUGE


@kernel
def entry_of(distance, child):
    return (uint64(bits_of(distance)) << uint64(32)) | uint64(uint32(child))


@kernel
def push_children(nodes, first, mask, distances, top):
    """Push all children whose bit is set, nearest last; returns the new top of the stack."""
    stack = distances + 32
    bottom = top

    while mask != uint32(0):
        lane = lowest_bit(mask)
        mask &= mask - uint32(1)
        entry = entry_of(f32_at(distances, lane), i32_at(nodes, first + 48 + lane))
        place = top
        top += 1

        while place > bottom and u64_at(stack, place - 1) < entry:
            put_u64(stack, place, u64_at(stack, place - 1))
            place -= 1

        put_u64(stack, place, entry)

    return top


@kernel
def hit_packet(tree, packet, origin, direction, limit, time, distances):
    """Bit mask of the triangles of a packet that are hit, leaving out single-sided ones seen from
    behind."""
    if tree.moving:
        found = hit_moving_triangles(
            tree.packets, packet * 144, origin, direction, limit, distances, time
        )
    else:
        found = hit_triangles(tree.packets, packet * 72, origin, direction, limit, distances)

    mask = found & uint32(255)
    if mask != uint32(0):
        mask &= ~((found >> uint32(8)) & uint32(u8_at(tree.single_sided, packet)))

    return mask


@kernel
def note_hole(path, distance, limit):
    """Keep how far away a hole is. Where there is no more room, those behind the nearest surface so
    far make some."""
    if path.holes == MOST_HOLES:
        kept = 0
        for k in range(MOST_HOLES):
            if path.hole_distances[k] < limit:
                path.hole_distances[kept] = path.hole_distances[k]
                kept += 1

        path.holes = int32(kept)

    if path.holes < MOST_HOLES:
        path.hole_distances[path.holes] = distance
        path.holes += int32(1)


@kernel
def closest_in(
    scene_address,
    path_address,
    tree_address,
    working,
    origin,
    direction,
    limit,
    time,
    looks_through,
):
    """The nearest triangle before `limit`: (distance, slot), slot -1 where nothing is hit.
    `looks_through` is a constant, so that a tree without holes is traversed by code that asks for
    none."""
    tree = tree_at(tree_address, 0)
    nodes = tree.nodes
    distances = working
    stack = working + 32
    inverse = (safe_inverse(direction[0]), safe_inverse(direction[1]), safe_inverse(direction[2]))
    scaled = (origin[0] * inverse[0], origin[1] * inverse[1], origin[2] * inverse[2])
    near_x = int64(24) if inverse[0] < ZERO else int64(0)
    near_y = int64(32) if inverse[1] < ZERO else int64(8)
    near_z = int64(40) if inverse[2] < ZERO else int64(16)
    slot = int64(-1)
    top = 0
    child = int64(0)

    while True:
        if child >= 0:
            first = child * 64
            mask = hit_boxes(
                nodes, first, near_x, near_y, near_z, inverse, scaled, limit, distances
            )

            if mask != uint32(0):
                if mask & (mask - uint32(1)) == uint32(0):
                    child = int64(i32_at(nodes, first + 48 + lowest_bit(mask)))
                    continue
                top = push_children(nodes, first, mask, distances, top)
        else:
            leaf = -child - 1
            packet = leaf >> 3

            for k in range(packet, packet + (leaf & 7) + 1):
                mask = hit_packet(tree, k, origin, direction, limit, time, distances)
                if mask == uint32(0):
                    continue

                masked = uint32(u8_at(tree.masked, k)) if looks_through else uint32(0)
                while mask != uint32(0):
                    lane = lowest_bit(mask)
                    mask &= mask - uint32(1)
                    distance = f32_at(distances, lane)

                    if distance < limit:
                        if looks_through and (masked >> uint32(lane)) & uint32(1):
                            opacity = opacity_met(
                                scene_address,
                                path_address,
                                tree_address,
                                k * 8 + lane,
                                origin[0],
                                origin[1],
                                origin[2],
                                direction[0],
                                direction[1],
                                direction[2],
                                distance,
                                time,
                            )
                            if opacity <= ZERO:
                                note_hole(path_at(path_address, 0), distance, limit)
                                continue

                        limit = distance
                        slot = k * 8 + lane

        while True:
            if top == 0:
                return limit, slot
            top -= 1
            entry = u64_at(stack, top)

            if float_of(uint32(entry >> uint64(32))) < limit:
                child = int64(int32(uint32(entry)))
                break


@part(
    types.uint64(*(types.int64,) * 4, *VECTOR, *VECTOR, types.float32, types.float32, types.int64)
)
def closest_hit(
    scene_address, path_address, tree_address, working, ox, oy, oz, dx, dy, dz, limit, time, wanted
):
    """The nearest triangle before `limit`: bits of the distance above, slot below; NOTHING_HIT
    below for none.

    `working` is the address of STACK_BYTES; `time` is 0 to 1 within the shutter; `wanted` is
    EVERYTHING, MET or WALLS. Holes that were looked through are kept in the path, which is asked
    for only where something is masked, as is the scene.
    """
    origin = (ox, oy, oz)
    direction = (dx, dy, dz)

    if wanted != WALLS and tree_at(tree_address, 0).has_cutouts:
        distance, slot = closest_in(
            scene_address, path_address, tree_address, working, origin, direction, limit, time, True
        )
    else:
        distance, slot = closest_in(
            scene_address,
            path_address,
            tree_address,
            working,
            origin,
            direction,
            limit,
            time,
            False,
        )

    return (uint64(bits_of(float32(distance))) << uint64(32)) | uint64(uint32(slot))


@kernel
def any_in(
    scene_address,
    path_address,
    tree_address,
    working,
    origin,
    direction,
    limit,
    time,
    looks_through,
):
    """The same as `any_hit`, with `looks_through` as in `closest_in`."""
    tree = tree_at(tree_address, 0)
    nodes = tree.nodes
    distances = working
    stack = working + 32
    inverse = (safe_inverse(direction[0]), safe_inverse(direction[1]), safe_inverse(direction[2]))
    scaled = (origin[0] * inverse[0], origin[1] * inverse[1], origin[2] * inverse[2])
    near_x = int64(24) if inverse[0] < ZERO else int64(0)
    near_y = int64(32) if inverse[1] < ZERO else int64(8)
    near_z = int64(40) if inverse[2] < ZERO else int64(16)
    top = 0
    child = int64(0)

    while True:
        if child >= 0:
            first = child * 64
            mask = hit_boxes(
                nodes, first, near_x, near_y, near_z, inverse, scaled, limit, distances
            )

            if mask != uint32(0):
                if mask & (mask - uint32(1)) == uint32(0):
                    child = int64(i32_at(nodes, first + 48 + lowest_bit(mask)))
                    continue
                top = push_children(nodes, first, mask, distances, top)
        else:
            leaf = -child - 1
            packet = leaf >> 3

            for k in range(packet, packet + (leaf & 7) + 1):
                mask = hit_packet(tree, k, origin, direction, limit, time, distances)
                if mask == uint32(0):
                    continue
                if not looks_through or mask & ~uint32(u8_at(tree.cutouts, k)) != uint32(0):
                    return 1

                sample = path_at(path_address, 0).light
                while mask != uint32(0):
                    lane = lowest_bit(mask)
                    mask &= mask - uint32(1)

                    sample.open *= ONE - opacity_met(
                        scene_address,
                        path_address,
                        tree_address,
                        k * 8 + lane,
                        origin[0],
                        origin[1],
                        origin[2],
                        direction[0],
                        direction[1],
                        direction[2],
                        f32_at(distances, lane),
                        time,
                    )
                    sample.may_pass -= int32(1)
                    if sample.open <= ZERO or sample.may_pass < 0:
                        return 1

        if top == 0:
            return 0

        top -= 1
        child = int64(int32(uint32(u64_at(stack, top))))


@part(types.int64(*(types.int64,) * 4, *VECTOR, *VECTOR, types.float32, types.float32))
def any_hit(
    scene_address, path_address, tree_address, working, ox, oy, oz, dx, dy, dz, limit, time
):
    """1 where nothing passes to `limit`, else 0. What cut-outs leave is multiplied into
    `light.open` of the path; where there are more than `light.may_pass`, nothing passes."""
    origin = (ox, oy, oz)
    direction = (dx, dy, dz)
    if tree_at(tree_address, 0).has_cutouts:
        return any_in(
            scene_address, path_address, tree_address, working, origin, direction, limit, time, True
        )

    return any_in(
        scene_address, path_address, tree_address, working, origin, direction, limit, time, False
    )

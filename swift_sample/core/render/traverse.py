"""Rays against the acceleration tree: the closest hit, and whether anything is hit at all.

The tree's layout is described in `tree.py`. A stack entry is one uint64: the entry distance's bits above, the
child reference below, so that sorting entries sorts by distance.
"""

from typing import NamedTuple

import numpy as np
from numba import int32, int64, uint32, uint64

from swift_sample.core.render.simd import bits_of, float_of, hit_boxes, hit_triangles, lowest_bit
from swift_sample.core.render.vector import HUGE, ONE, ZERO, kernel

STACK_ENTRIES = 512
"""Deepest stack: seven waiting siblings a level, and `tree.py` bounds the depth to 64."""


class TraversalScratch(NamedTuple):
    """Working memory of one thread."""

    stack: np.ndarray
    """uint64[STACK_ENTRIES]"""
    distances: np.ndarray
    """float32[8]"""


def new_traversal_scratch() -> TraversalScratch:
    return TraversalScratch(np.zeros(STACK_ENTRIES, np.uint64), np.zeros(8, np.float32))


@kernel
def safe_inverse(x):
    """1 / x, with a huge value instead of infinity so that 0 * infinity never arises."""
    return ONE / x if x != ZERO else HUGE


@kernel
def entry_of(distance, child):
    return (uint64(bits_of(distance)) << uint64(32)) | uint64(uint32(child))


@kernel
def push_children(children, first, mask, scratch, top):
    """Push all children whose bit is set, nearest last; returns the new top of the stack."""
    stack, distances = scratch.stack, scratch.distances
    bottom = top
    while mask != uint32(0):
        lane = lowest_bit(mask)
        mask &= mask - uint32(1)
        entry = entry_of(distances[lane], children[first + 48 + lane])
        place = top
        top += 1
        while place > bottom and stack[place - 1] < entry:
            stack[place] = stack[place - 1]
            place -= 1
        stack[place] = entry
    return top


@kernel
def closest_hit(tree, origin, direction, limit, scratch):
    """The nearest triangle before `limit`: (distance, slot), slot -1 where nothing is hit."""
    stack, distances = scratch.stack, scratch.distances
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
            mask = hit_boxes(tree.nodes, first, near_x, near_y, near_z, inverse, scaled, limit, distances)
            if mask != uint32(0):
                if mask & (mask - uint32(1)) == uint32(0):
                    child = int64(tree.children[first + 48 + lowest_bit(mask)])
                    continue
                top = push_children(tree.children, first, mask, scratch, top)
        else:
            leaf = -child - 1
            packet = leaf >> 3
            for k in range(packet, packet + (leaf & 7) + 1):
                mask = hit_triangles(tree.packets, k * 72, origin, direction, limit, distances)
                while mask != uint32(0):
                    lane = lowest_bit(mask)
                    mask &= mask - uint32(1)
                    if distances[lane] < limit:
                        limit = distances[lane]
                        slot = k * 8 + lane
        while True:
            if top == 0:
                return limit, slot
            top -= 1
            entry = stack[top]
            if float_of(uint32(entry >> uint64(32))) < limit:
                child = int64(int32(uint32(entry)))
                break


@kernel
def any_hit(tree, origin, direction, limit, scratch):
    """Whether any triangle is hit before `limit`."""
    stack, distances = scratch.stack, scratch.distances
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
            mask = hit_boxes(tree.nodes, first, near_x, near_y, near_z, inverse, scaled, limit, distances)
            if mask != uint32(0):
                if mask & (mask - uint32(1)) == uint32(0):
                    child = int64(tree.children[first + 48 + lowest_bit(mask)])
                    continue
                top = push_children(tree.children, first, mask, scratch, top)
        else:
            leaf = -child - 1
            packet = leaf >> 3
            for k in range(packet, packet + (leaf & 7) + 1):
                if hit_triangles(tree.packets, k * 72, origin, direction, limit, distances) != uint32(0):
                    return True
        if top == 0:
            return False
        top -= 1
        child = int64(int32(uint32(stack[top])))

"""The acceleration tree: built as a two-wide tree by the surface area heuristic, collapsed to eight
children a node.

Layout, chosen by measurement (docs/renderer.md):
- a node is 256 bytes, 64 floats: rows of eight minima x, y, z, eight maxima x, y, z, then eight
  child references
  (int32 in the same memory) and padding; nodes stand in depth-first order;
- a reference >= 0 is a node; a negative one, -1 - (packet * 8 + packets - 1), is a leaf;
- a packet is 72 floats: rows of eight corner x, y, z, first edge x, y, z, second edge x, y, z; in a
  tree of moving
  triangles 72 more follow, how far each of these moves while the shutter is open.

Building: Wald 2007, "On fast construction of SAH-based bounding volume hierarchies" (binning); the
leaf cost counts packets of eight triangles, since these are tested at once. Collapse: always open
the child of largest area.
"""

import math
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from swift_sample.core.kernels.compiling import allocating_kernel, kernel, row_kernel
from swift_sample.core.kernels.vector import f32
from swift_sample.core.renderers.builtin.lowlevel.simd import (
    keep_least,
    keep_least_centres,
    swap_rows,
)

BINS = 16
MAX_LEAF_PACKETS = 8
MAX_DEPTH = 64
LEAST_SHARED = 4096
"""Parts of fewer triangles are not worth a thread."""
FAR = np.float32(1e20)
"""Half the side of the empty boxes of unused children, which nothing hits."""
INFINITE = np.float32(np.inf)


class Tree(NamedTuple):
    """Arrays that the traversal reads."""

    nodes: np.ndarray
    """float32[64 * n]"""
    packets: np.ndarray
    """float32[72 * p], or float32[144 * p] where triangles move; unused lanes are degenerate and
    never hit"""
    triangles: np.ndarray
    """int32[8 * p]: the triangle in each slot, -1 where unused"""
    moving: bool
    camera_only: bool = False
    """whether only rays from the camera meet what is in it"""

    @property
    def memory_bytes(self) -> int:
        return self.nodes.nbytes + self.packets.nbytes + self.triangles.nbytes


def build_tree(corners: np.ndarray, motion: np.ndarray | None = None, threads: int = 0) -> Tree:
    """Build the tree over triangles.

    corners: float32[n, 3, 3], finite, n >= 1; triangle, corner, axis. motion, of the same shape, is
    how far each corner moves; boxes then hold the triangles at both ends, and so on the straight
    way between. `threads` 0 means all; the tree does not depend on it. Complexity O(n log n).
    """
    corners = np.ascontiguousarray(corners, np.float32)
    motion = np.ascontiguousarray(motion, np.float32) if motion is not None else None
    count = len(corners)
    threads = threads or os.cpu_count() or 1
    records = _aligned_zeros(8 * count).reshape(count, 8)

    _in_chunks(
        lambda first, last: _write_records(
            corners,
            corners if motion is None else motion,
            motion is not None,
            first,
            last,
            records,
            records.view(np.int32),
        ),
        count,
        threads,
    )
    boxes, lefts, starts, counts = _split(records, threads)
    inner = max(1, int((counts == 0).sum()))
    nodes = _aligned_zeros(64 * inner)
    leaves = np.empty((len(lefts) - inner + 1, 3), np.int64)
    used_nodes, used_leaves, used_packets = _collapse(
        boxes, lefts, starts, counts, nodes, nodes.view(np.int32), leaves
    )
    width = 72 if motion is None else 144
    packets = _aligned_zeros(width * used_packets)
    triangles = np.full(8 * used_packets, -1, np.int32)
    order = records.view(np.int32)[:, 6]

    _in_chunks(
        lambda first, last: _write_packets(
            corners,
            corners if motion is None else motion,
            motion is not None,
            order,
            leaves[first:last],
            packets,
            triangles,
        ),
        used_leaves,
        threads,
    )
    return Tree(_aligned_copy(nodes[: 64 * used_nodes]), packets, triangles, motion is not None)


def _in_chunks(work: Callable[[int, int], None], count: int, threads: int) -> None:
    """Call `work(first, last)` for all of 0 to count, on so many threads."""
    step = max(LEAST_SHARED, -(-count // threads))
    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(lambda first: work(first, min(first + step, count)), range(0, count, step)))


def _aligned_zeros(size: int) -> np.ndarray:
    """float32 zeros at a 64-byte address, so that rows never straddle cache lines."""
    raw = np.zeros(size * 4 + 64, np.uint8)
    start = -raw.ctypes.data % 64
    return raw[start : start + size * 4].view(np.float32)


def _aligned_copy(values: np.ndarray) -> np.ndarray:
    copy = _aligned_zeros(len(values))
    copy[:] = values
    return copy


@kernel
def _half_area(box):
    """Of a box as minima and negated maxima."""
    x, y, z = -box[3] - box[0], -box[4] - box[1], -box[5] - box[2]
    return x * y + y * z + z * x


@kernel
def _packets_of(count):
    return (count + 7) // 8


@row_kernel
def _write_records(corners, motion, moves, first, last, records, numbers):
    """The records of triangles first to last: minima, negated maxima, and the triangle's number."""
    for t in range(first, last):
        for axis in range(3):
            low = high = corners[t, 0, axis]
            for k in range(3):
                place = corners[t, k, axis]
                low, high = min(low, place), max(high, place)
                if moves:
                    low, high = (
                        min(low, place + motion[t, k, axis]),
                        max(high, place + motion[t, k, axis]),
                    )

            records[t, axis] = low
            records[t, axis + 3] = -high

        numbers[t, 6] = t


@kernel
def _bounds(records, start, end, box, spread):
    """Write the box of the records to `box` and that of their centres, times two, to `spread`, both
    float32[8]: minima and negated maxima."""
    for k in range(8):
        box[k] = spread[k] = INFINITE

    box_at = box.ctypes.data
    spread_at = spread.ctypes.data
    records_at = records.ctypes.data

    for k in range(start, end):
        keep_least(box_at, records_at + 32 * k)
        keep_least_centres(spread_at, records_at + 32 * k)


@kernel
def _bin_of(record, axis, low, scale):
    return min(BINS - 1, int((record[axis] - record[axis + 3] - low) * scale))


@kernel
def _scale(spread, axis):
    """Bins for each unit of twice a centre; 0 where all centres have one place."""
    extent = -spread[axis + 3] - spread[axis]
    scale = f32(BINS) / extent if extent > f32(0) else f32(0)
    return scale if math.isfinite(scale) else f32(0)


@kernel
def _best_split(records, start, end, spread, bin_boxes, bin_counts, right_cost, side):
    """The cheapest of all binned splits: (axis, first bin of the right side); axis -1 for none."""
    bin_counts[:] = 0
    bin_boxes[:] = INFINITE
    boxes_at = bin_boxes.ctypes.data
    records_at = records.ctypes.data
    scale_x = _scale(spread, 0)
    scale_y = _scale(spread, 1)
    scale_z = _scale(spread, 2)

    for k in range(start, end):
        record = records[k]
        x, y, z = (
            _bin_of(record, 0, spread[0], scale_x),
            _bin_of(record, 1, spread[1], scale_y),
            _bin_of(record, 2, spread[2], scale_z),
        )

        bin_counts[0, x] += 1
        bin_counts[1, y] += 1
        bin_counts[2, z] += 1
        keep_least(boxes_at + 32 * x, records_at + 32 * k)
        keep_least(boxes_at + 32 * (BINS + y), records_at + 32 * k)
        keep_least(boxes_at + 32 * (2 * BINS + z), records_at + 32 * k)

    best_cost = np.inf
    best_axis = -1
    best_bin = 0
    side_at = side.ctypes.data

    for axis in range(3):
        side[:] = INFINITE
        count = 0

        for b in range(BINS - 1, 0, -1):
            keep_least(side_at, boxes_at + 32 * (axis * BINS + b))
            count += bin_counts[axis, b]
            right_cost[b] = _half_area(side) * _packets_of(count) if count else -1.0

        side[:] = INFINITE
        count = 0

        for b in range(BINS - 1):
            keep_least(side_at, boxes_at + 32 * (axis * BINS + b))
            count += bin_counts[axis, b]
            if count == 0 or right_cost[b + 1] < 0:
                continue

            cost = _half_area(side) * _packets_of(count) + right_cost[b + 1]
            if cost < best_cost:
                best_cost = cost
                best_axis = axis
                best_bin = b + 1

    return best_axis, best_bin


@kernel
def _partition(records, start, end, spread, axis, split_bin):
    """Move the records of the left bins to the front; returns the first of the right side."""
    low = spread[axis]
    scale = _scale(spread, axis)
    records_at = records.ctypes.data
    i = start
    j = end - 1

    while i <= j:
        if _bin_of(records[i], axis, low, scale) < split_bin:
            i += 1
        else:
            swap_rows(records_at + 32 * i, records_at + 32 * j)
            j -= 1

    return i


def _split(
    records: np.ndarray, threads: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Sort the records into a two-wide tree: (boxes[m, 8], lefts[m], starts[m], counts[m]); count 0
    marks an inner node.

    The right child stands behind the left one. The first levels are split on one thread, the parts
    below on all: the same splits either way.
    """
    count = len(records)
    apart = max(LEAST_SHARED, count // (3 * threads)) if threads > 1 else 0
    boxes, lefts, starts, counts = _split_range(records, 0, count, 0, apart)
    waiting = np.flatnonzero(counts < 0)

    if not len(waiting):
        return boxes, lefts, starts, counts

    def split_below(node: int) -> tuple[np.ndarray, ...]:
        first = int(starts[node])
        found: tuple[np.ndarray, ...] = _split_range(
            records, first, first - int(counts[node]), -2 - int(lefts[node]), 0
        )
        return found

    with ThreadPoolExecutor(threads) as pool:
        parts = list(pool.map(split_below, waiting))

    all_boxes = [boxes]
    all_lefts = [lefts]
    all_starts = [starts]
    all_counts = [counts]
    used = len(lefts)

    for node, (part_boxes, part_lefts, part_starts, part_counts) in zip(
        waiting, parts, strict=True
    ):
        # The part's first row takes the place of the node that waited; the others follow at the
        # end.
        part_lefts[part_counts == 0] += used - 1
        boxes[node] = part_boxes[0]
        lefts[node] = part_lefts[0]
        starts[node] = part_starts[0]
        counts[node] = part_counts[0]

        for kept, part in zip(
            (all_boxes, all_lefts, all_starts, all_counts),
            (part_boxes, part_lefts, part_starts, part_counts),
            strict=True,
        ):
            kept.append(part[1:])

        used += len(part_lefts) - 1

    return (
        np.concatenate(all_boxes),
        np.concatenate(all_lefts),
        np.concatenate(all_starts),
        np.concatenate(all_counts),
    )


@allocating_kernel
def _split_range(records, first, last, first_depth, apart):
    """Split records[first:last]: (boxes, lefts, starts, counts) as `_split`.

    Nodes of at most `apart` triangles are left waiting: their count is negative, their left is -2 -
    depth.
    """
    count = last - first
    boxes = np.empty((2 * count + 1, 8), np.float32)
    lefts = np.full(2 * count + 1, -1, np.int32)
    starts = np.zeros(2 * count + 1, np.int32)
    counts = np.zeros(2 * count + 1, np.int32)
    spread = np.empty(8, np.float32)
    side = np.empty(8, np.float32)
    bin_boxes = np.empty((3 * BINS, 8), np.float32)
    bin_counts = np.empty((3, BINS), np.int64)
    right_cost = np.empty(BINS, np.float64)
    waiting = np.empty((MAX_DEPTH * 4, 4), np.int64)
    waiting[0] = (0, first, last, first_depth)
    top = 1
    used = 1

    while top > 0:
        top -= 1
        node, start, end, depth = waiting[top]
        box = boxes[node]
        _bounds(records, start, end, box, spread)
        size = end - start
        starts[node] = start
        counts[node] = size

        if size <= apart:
            lefts[node] = -2 - depth
            counts[node] = -size
            continue

        if size <= 8:
            # One packet; two would cost at least as much.
            continue

        axis = -1
        split_bin = 0
        if depth < MAX_DEPTH - 24:
            axis, split_bin = _best_split(
                records, start, end, spread, bin_boxes, bin_counts, right_cost, side
            )

        if axis < 0:
            # All centres coincide, or the tree is already very deep: halve by count.
            if size <= 8 * MAX_LEAF_PACKETS:
                continue
            middle = (start + end) // 2
        else:
            middle = _partition(records, start, end, spread, axis, split_bin)

        counts[node] = 0
        lefts[node] = used
        waiting[top] = (used, start, middle, depth + 1)
        waiting[top + 1] = (used + 1, middle, end, depth + 1)
        top += 2
        used += 2

    return boxes[:used].copy(), lefts[:used].copy(), starts[:used].copy(), counts[:used].copy()


@kernel
def _open_children(root, boxes, lefts, counts, chosen):
    """Fill `chosen` with up to eight descendants of a node, opening the largest first; returns how
    many."""
    if counts[root] > 0:
        chosen[0] = root
        return 1

    chosen[0] = lefts[root]
    chosen[1] = lefts[root] + 1
    count = 2

    while count < 8:
        largest = -1
        best = np.float32(-1)

        for i in range(count):
            c = chosen[i]
            if counts[c] == 0:
                area = _half_area(boxes[c])
                if area > best:
                    largest = i
                    best = area

        if largest < 0:
            break

        opened = chosen[largest]
        chosen[largest] = lefts[opened]
        chosen[count] = lefts[opened] + 1
        count += 1

    return count


@allocating_kernel
def _collapse(boxes, lefts, starts, counts, nodes, children, leaves):
    """Write eight-wide nodes, and for each leaf its first record, its size and its first packet to
    `leaves`; returns how many nodes, leaves and packets there are."""
    waiting = np.empty((len(lefts) + 1, 2), np.int64)
    chosen = np.empty(8, np.int64)
    # An entry is a two-wide node and the place where its eight-wide number is to be written.
    waiting[0] = (0, -1)
    top = 1
    used_nodes = 0
    used_leaves = 0
    used_packets = 0

    while top > 0:
        top -= 1
        root, parent_place = waiting[top]
        node = used_nodes
        used_nodes += 1

        if parent_place >= 0:
            children[parent_place] = node

        count = _open_children(root, boxes, lefts, counts, chosen)
        first = node * 64

        for lane in range(8):
            for axis in range(3):
                nodes[first + axis * 8 + lane] = boxes[chosen[lane], axis] if lane < count else FAR
                nodes[first + (axis + 3) * 8 + lane] = (
                    -boxes[chosen[lane], axis + 3] if lane < count else -FAR
                )

        for lane in range(count - 1, -1, -1):
            c = chosen[lane]
            if counts[c] == 0:
                waiting[top] = (c, first + 48 + lane)
                top += 1
            else:
                size = _packets_of(counts[c])
                leaves[used_leaves, 0] = starts[c]
                leaves[used_leaves, 1] = counts[c]
                leaves[used_leaves, 2] = used_packets
                used_leaves += 1
                children[first + 48 + lane] = -1 - (used_packets * 8 + size - 1)
                used_packets += size

    return used_nodes, used_leaves, used_packets


@row_kernel
def _write_packets(corners, motion, moves, order, leaves, packets, triangles):
    """Write the packets of leaves: corner and edges of each triangle, and how far these move."""
    width = 144 if moves else 72
    for leaf in range(leaves.shape[0]):
        start = leaves[leaf, 0]
        size = leaves[leaf, 1]
        packet = leaves[leaf, 2]

        for k in range(size):
            t = order[start + k]
            base = (packet + k // 8) * width
            lane = k % 8
            triangles[(packet + k // 8) * 8 + lane] = t

            for axis in range(3):
                corner = corners[t, 0, axis]
                packets[base + axis * 8 + lane] = corner
                packets[base + (axis + 3) * 8 + lane] = corners[t, 1, axis] - corner
                packets[base + (axis + 6) * 8 + lane] = corners[t, 2, axis] - corner

                if moves:
                    way = motion[t, 0, axis]
                    packets[base + 72 + axis * 8 + lane] = way
                    packets[base + 72 + (axis + 3) * 8 + lane] = motion[t, 1, axis] - way
                    packets[base + 72 + (axis + 6) * 8 + lane] = motion[t, 2, axis] - way

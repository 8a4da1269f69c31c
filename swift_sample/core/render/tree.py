"""The acceleration tree: built as a two-wide tree by the surface area heuristic, collapsed to eight children a node.

Layout, chosen by measurement (docs/renderer.md):
- a node is 256 bytes, 64 floats: rows of eight minima x, y, z, eight maxima x, y, z, then eight child references
  (int32 in the same memory) and padding; nodes stand in depth-first order;
- a reference >= 0 is a node; a negative one, -1 - (packet * 8 + packets - 1), is a leaf;
- a packet is 72 floats: rows of eight corner x, y, z, first edge x, y, z, second edge x, y, z; in a tree of moving
  triangles 72 more follow, how far each of these moves while the shutter is open.

Building: Wald 2007, "On fast construction of SAH-based bounding volume hierarchies" (binning); the leaf cost counts
packets of eight triangles, since these are tested at once. Collapse: always open the child of largest area.
"""

import math
import os
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from swift_sample.core.compiling import allocating_kernel, kernel

BINS = 16
MAX_LEAF_PACKETS = 8
MAX_DEPTH = 64
LEAST_SHARED = 4096
"""Parts of fewer triangles are not worth a thread."""
_FAR = 1e20


class Tree(NamedTuple):
    """Arrays that the traversal reads."""

    nodes: np.ndarray
    """float32[64 * n]"""
    packets: np.ndarray
    """float32[72 * p], or float32[144 * p] where triangles move; unused lanes are degenerate and never hit"""
    triangles: np.ndarray
    """int32[8 * p]: the triangle in each slot, -1 where unused"""
    moving: bool

    @property
    def memory_bytes(self) -> int:
        return self.nodes.nbytes + self.packets.nbytes + self.triangles.nbytes


def build_tree(corners: np.ndarray, motion: np.ndarray | None = None, threads: int = 0) -> Tree:
    """Build the tree over triangles.

    corners: float32[n, 3, 3], finite, n >= 1; triangle, corner, axis. motion, of the same shape, is how far each corner
    moves; boxes then hold the triangles at both ends, and so on the straight way between. `threads` 0 means all; the
    tree does not depend on it. Complexity O(n log n).
    """
    corners = np.ascontiguousarray(corners, np.float32)
    count = len(corners)
    lows, highs = corners.min(axis=1), corners.max(axis=1)
    if motion is not None:
        ends = corners + motion
        lows, highs = np.minimum(lows, ends.min(axis=1)), np.maximum(highs, ends.max(axis=1))
    order, boxes, lefts, starts, counts = _split(lows, highs, (lows + highs) * np.float32(0.5),
                                                 threads or os.cpu_count() or 1)
    inner = max(1, int((counts == 0).sum()))
    width = 72 if motion is None else 144
    nodes = _aligned_zeros(64 * inner)
    packets = _aligned_zeros(width * (count + 8))
    triangles = np.full(8 * (count + 8), -1, np.int32)
    used_nodes, used_packets = _collapse(corners, order, boxes, lefts, starts, counts, nodes, nodes.view(np.int32),
                                         packets, triangles, width)
    if motion is not None:
        _write_motion(np.ascontiguousarray(motion, np.float32), packets, triangles[: 8 * used_packets])
    return Tree(_aligned_copy(nodes[: 64 * used_nodes]), _aligned_copy(packets[: width * used_packets]),
                triangles[: 8 * used_packets].copy(), motion is not None)


def _write_motion(motion: np.ndarray, packets: np.ndarray, triangles: np.ndarray) -> None:
    slots = np.flatnonzero(triangles >= 0)
    rows = motion[triangles[slots]]
    ways = np.concatenate([rows[:, 0], rows[:, 1] - rows[:, 0], rows[:, 2] - rows[:, 0]], axis=1)
    places = (slots // 8 * 144 + 72 + slots % 8)[:, None] + 8 * np.arange(9)
    packets[places] = ways


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
def _half_area(low_x, low_y, low_z, high_x, high_y, high_z):
    x, y, z = high_x - low_x, high_y - low_y, high_z - low_z
    return x * y + y * z + z * x


@kernel
def _packets_of(count):
    return (count + 7) // 8


@kernel
def _bounds(order, start, end, lows, highs, centres, box, spread):
    """Write the box of the triangles to `box` and that of their centres to `spread`, both float32[6]."""
    for axis in range(3):
        box[axis] = spread[axis] = np.float32(np.inf)
        box[axis + 3] = spread[axis + 3] = np.float32(-np.inf)
    for k in range(start, end):
        t = order[k]
        for axis in range(3):
            box[axis] = min(box[axis], lows[t, axis])
            box[axis + 3] = max(box[axis + 3], highs[t, axis])
            spread[axis] = min(spread[axis], centres[t, axis])
            spread[axis + 3] = max(spread[axis + 3], centres[t, axis])


@kernel
def _bin_of(position, low, scale):
    return min(BINS - 1, int((position - low) * scale))


@kernel
def _best_split(order, start, end, lows, highs, centres, spread, bin_boxes, bin_counts, right_cost):
    """The cheapest of all binned splits: (cost times area, axis, first bin of the right side); axis -1 for none."""
    best_cost, best_axis, best_bin = np.inf, -1, 0
    for axis in range(3):
        extent = spread[axis + 3] - spread[axis]
        if extent <= 0:
            continue
        scale = np.float32(BINS) / extent
        if not math.isfinite(scale):
            continue
        bin_counts[:] = 0
        bin_boxes[:, :3] = np.float32(np.inf)
        bin_boxes[:, 3:] = np.float32(-np.inf)
        for k in range(start, end):
            t = order[k]
            b = _bin_of(centres[t, axis], spread[axis], scale)
            bin_counts[b] += 1
            for a in range(3):
                bin_boxes[b, a] = min(bin_boxes[b, a], lows[t, a])
                bin_boxes[b, a + 3] = max(bin_boxes[b, a + 3], highs[t, a])
        x0 = y0 = z0 = np.float32(np.inf)
        x1 = y1 = z1 = np.float32(-np.inf)
        count = 0
        for b in range(BINS - 1, 0, -1):
            x0, y0, z0 = min(x0, bin_boxes[b, 0]), min(y0, bin_boxes[b, 1]), min(z0, bin_boxes[b, 2])
            x1, y1, z1 = max(x1, bin_boxes[b, 3]), max(y1, bin_boxes[b, 4]), max(z1, bin_boxes[b, 5])
            count += bin_counts[b]
            right_cost[b] = _half_area(x0, y0, z0, x1, y1, z1) * _packets_of(count) if count else -1.0
        x0 = y0 = z0 = np.float32(np.inf)
        x1 = y1 = z1 = np.float32(-np.inf)
        count = 0
        for b in range(BINS - 1):
            x0, y0, z0 = min(x0, bin_boxes[b, 0]), min(y0, bin_boxes[b, 1]), min(z0, bin_boxes[b, 2])
            x1, y1, z1 = max(x1, bin_boxes[b, 3]), max(y1, bin_boxes[b, 4]), max(z1, bin_boxes[b, 5])
            count += bin_counts[b]
            if count == 0 or right_cost[b + 1] < 0:
                continue
            cost = _half_area(x0, y0, z0, x1, y1, z1) * _packets_of(count) + right_cost[b + 1]
            if cost < best_cost:
                best_cost, best_axis, best_bin = cost, axis, b + 1
    return best_cost, best_axis, best_bin


@kernel
def _partition(order, start, end, centres, spread, axis, split_bin):
    """Move the triangles of the left bins to the front; returns the first of the right side."""
    scale = np.float32(BINS) / (spread[axis + 3] - spread[axis])
    i, j = start, end - 1
    while i <= j:
        t = order[i]
        if _bin_of(centres[t, axis], spread[axis], scale) < split_bin:
            i += 1
        else:
            order[i], order[j] = order[j], t
            j -= 1
    return i


def _split(lows: np.ndarray, highs: np.ndarray, centres: np.ndarray,
           threads: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """The two-wide tree: (order, boxes[m, 6], lefts[m], starts[m], counts[m]); count 0 marks an inner node.

    The right child stands behind the left one. The first levels are split on one thread, the parts below on all: the same
    splits either way.
    """
    count = len(lows)
    order = np.arange(count, dtype=np.int32)
    apart = max(LEAST_SHARED, count // (8 * threads)) if threads > 1 else 0
    boxes, lefts, starts, counts = _split_range(order, 0, count, 0, apart, lows, highs, centres)
    waiting = np.flatnonzero(counts < 0)
    if not len(waiting):
        return order, boxes, lefts, starts, counts

    def split_below(node: int) -> tuple[np.ndarray, ...]:
        first = int(starts[node])
        found: tuple[np.ndarray, ...] = _split_range(order, first, first - int(counts[node]), -2 - int(lefts[node]), 0, lows,
                                                     highs, centres)
        return found

    with ThreadPoolExecutor(threads) as pool:
        parts = list(pool.map(split_below, waiting))
    all_boxes, all_lefts, all_starts, all_counts = [boxes], [lefts], [starts], [counts]
    used = len(lefts)
    for node, (part_boxes, part_lefts, part_starts, part_counts) in zip(waiting, parts, strict=True):
        # The part's first row takes the place of the node that waited; the others follow at the end.
        part_lefts[part_counts == 0] += used - 1
        boxes[node], lefts[node], starts[node], counts[node] = part_boxes[0], part_lefts[0], part_starts[0], part_counts[0]
        for kept, part in zip((all_boxes, all_lefts, all_starts, all_counts),
                              (part_boxes, part_lefts, part_starts, part_counts), strict=True):
            kept.append(part[1:])
        used += len(part_lefts) - 1
    return order, np.concatenate(all_boxes), np.concatenate(all_lefts), np.concatenate(all_starts), np.concatenate(all_counts)


@allocating_kernel
def _split_range(order, first, last, first_depth, apart, lows, highs, centres):
    """Split triangles order[first:last]: (boxes, lefts, starts, counts) as `_split`.

    Nodes of at most `apart` triangles are left waiting: their count is negative, their left is -2 - depth.
    """
    count = last - first
    boxes = np.empty((2 * count + 1, 6), np.float32)
    lefts = np.full(2 * count + 1, -1, np.int32)
    starts = np.zeros(2 * count + 1, np.int32)
    counts = np.zeros(2 * count + 1, np.int32)
    spread = np.empty(6, np.float32)
    bin_boxes = np.empty((BINS, 6), np.float32)
    bin_counts = np.empty(BINS, np.int64)
    right_cost = np.empty(BINS, np.float64)
    waiting = np.empty((MAX_DEPTH * 4, 4), np.int64)
    waiting[0] = (0, first, last, first_depth)
    top, used = 1, 1
    while top > 0:
        top -= 1
        node, start, end, depth = waiting[top]
        box = boxes[node]
        _bounds(order, start, end, lows, highs, centres, box, spread)
        size = end - start
        starts[node], counts[node] = start, size
        if size <= apart:
            lefts[node], counts[node] = -2 - depth, -size
            continue
        if size <= 2:
            continue
        cost, axis, split_bin = np.inf, -1, 0
        if depth < MAX_DEPTH - 24:
            cost, axis, split_bin = _best_split(order, start, end, lows, highs, centres, spread, bin_boxes,
                                                bin_counts, right_cost)
        if axis < 0:
            # All centres coincide, or the tree is already very deep: halve by count.
            if size <= 8 * MAX_LEAF_PACKETS:
                continue
            middle = (start + end) // 2
        else:
            area = _half_area(box[0], box[1], box[2], box[3], box[4], box[5])
            if size <= 8 and cost / max(area, 1e-30) + 1.0 >= _packets_of(size):
                continue
            middle = _partition(order, start, end, centres, spread, axis, split_bin)
        counts[node] = 0
        lefts[node] = used
        waiting[top] = (used, start, middle, depth + 1)
        waiting[top + 1] = (used + 1, middle, end, depth + 1)
        top += 2
        used += 2
    return boxes[:used].copy(), lefts[:used].copy(), starts[:used].copy(), counts[:used].copy()


@kernel
def _open_children(root, boxes, lefts, counts, chosen):
    """Fill `chosen` with up to eight descendants of a node, opening the largest first; returns how many."""
    if counts[root] > 0:
        chosen[0] = root
        return 1
    chosen[0], chosen[1] = lefts[root], lefts[root] + 1
    count = 2
    while count < 8:
        largest, best = -1, np.float32(-1)
        for i in range(count):
            c = chosen[i]
            if counts[c] == 0:
                area = _half_area(boxes[c, 0], boxes[c, 1], boxes[c, 2], boxes[c, 3], boxes[c, 4], boxes[c, 5])
                if area > best:
                    largest, best = i, area
        if largest < 0:
            break
        opened = chosen[largest]
        chosen[largest] = lefts[opened]
        chosen[count] = lefts[opened] + 1
        count += 1
    return count


@kernel
def _write_packets(corners, order, start, size, packets, triangles, packet, width):
    for k in range(size):
        t = order[start + k]
        base, lane = (packet + k // 8) * width, k % 8
        triangles[(packet + k // 8) * 8 + lane] = t
        for axis in range(3):
            corner = corners[t, 0, axis]
            packets[base + axis * 8 + lane] = corner
            packets[base + (axis + 3) * 8 + lane] = corners[t, 1, axis] - corner
            packets[base + (axis + 6) * 8 + lane] = corners[t, 2, axis] - corner


@allocating_kernel
def _collapse(corners, order, boxes, lefts, starts, counts, nodes, children, packets, triangles, width):
    """Write eight-wide nodes and packets; returns how many of each were used."""
    waiting = np.empty((len(lefts) + 1, 2), np.int64)
    chosen = np.empty(8, np.int64)
    # An entry is a two-wide node and the place where its eight-wide number is to be written.
    waiting[0] = (0, -1)
    top, used_nodes, used_packets = 1, 0, 0
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
                nodes[first + axis * 8 + lane] = boxes[chosen[lane], axis] if lane < count else _FAR
                nodes[first + (axis + 3) * 8 + lane] = boxes[chosen[lane], axis + 3] if lane < count else -_FAR
        for lane in range(count - 1, -1, -1):
            c = chosen[lane]
            if counts[c] == 0:
                waiting[top] = (c, first + 48 + lane)
                top += 1
            else:
                size = _packets_of(counts[c])
                _write_packets(corners, order, starts[c], counts[c], packets, triangles, used_packets, width)
                children[first + 48 + lane] = -1 - (used_packets * 8 + size - 1)
                used_packets += size
    return used_nodes, used_packets

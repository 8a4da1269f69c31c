"""Near lights and the sky in groups that are chosen together: few, close together, and facing one
way.

A group is split again and again where its power times its extent times the spread of its directions
is largest (the surface area and orientation heuristic of Conty Estevez and Kulla 2018, "Importance
Sampling of Many Lights with Adaptive Tree Splitting", HPG); the leaves of that tree are the
clusters.
"""

import heapq
import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

MOST_NEAR, MOST_SKY, MOST_SUNS = 48, 40, 8
LEAST_GAIN = 1e-4
"""A group of less than this share of the largest first one's cost is not split any more."""


def whole_blocks(count: int) -> int:
    """So many clusters in blocks of eight, the last one filled."""
    return -(-count // 8) * 8


@dataclass(frozen=True)
class NearLights:
    """What clustering looks at, for each light: middle and half extent in metres, power, normal
    (zero for a point)."""

    middles: np.ndarray
    extents: np.ndarray
    powers: np.ndarray
    normals: np.ndarray

    @cached_property
    def lows(self) -> np.ndarray:
        return self.middles - self.extents

    @cached_property
    def highs(self) -> np.ndarray:
        return self.middles + self.extents


def near_clusters(lights: NearLights) -> list[np.ndarray]:
    """Places of the lights of each cluster; emitting surfaces and points are never put together."""
    points = np.linalg.norm(lights.normals, axis=1) < 0.5
    first = [
        members for members in (np.flatnonzero(~points), np.flatnonzero(points)) if len(members)
    ]
    return _split(
        first,
        lambda members: _cost(lights, members),
        lambda members: _halves(lights, members),
        MOST_NEAR,
    )


def cone_of(normals: np.ndarray, powers: np.ndarray) -> tuple[np.ndarray, float]:
    """The middle direction, and the least cosine to it; -1 where there is none."""
    axis = np.maximum(powers, 1e-30) @ normals
    length = math.sqrt(float(axis @ axis))
    if length < 1e-6 * float(powers.sum()):
        return np.array([0.0, 0.0, 1.0]), -1.0

    axis = axis / length
    return axis, min(max(float((normals @ axis).min()), -1.0), 1.0)


def _cost(lights: NearLights, members: np.ndarray) -> float:
    if len(members) < 2:
        return 0.0

    across = lights.highs[members].max(axis=0) - lights.lows[members].min(axis=0)
    powers = lights.powers[members]
    _, cosine = cone_of(lights.normals[members], powers)

    return math.sqrt(float(powers.sum()) * float(across @ across)) * _orientation(cosine)


def _orientation(cosine: float) -> float:
    """The measure of a cone of normals that each light a hemisphere (Conty Estevez and Kulla 2018,
    equation 1)."""
    spread = math.acos(cosine)
    whole = min(spread + math.pi / 2, math.pi)
    sine = math.sin(spread)

    return 2 * math.pi * (1 - cosine) + math.pi / 2 * (
        2 * whole * sine - math.cos(spread - 2 * whole) - 2 * spread * sine + cosine
    )


def _halves(lights: NearLights, members: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """The two parts with the least cost together, cut in the middle along an axis of place or of
    direction; None where there is no cut."""
    best = None
    least = np.inf

    for values in (*lights.middles[members].T, *lights.normals[members].T):
        low, high = values.min(), values.max()
        if high - low <= 1e-9:
            continue

        below = values < (low + high) / 2
        parts = members[below], members[~below]
        cost = _cost(lights, parts[0]) + _cost(lights, parts[1])

        if cost < least:
            best = parts
            least = cost

    return best


Group = np.ndarray


def _split(
    groups: list[Group],
    cost: Callable[[Group], float],
    halves: Callable[[Group], tuple[Group, Group] | None],
    most: int,
) -> list[Group]:
    """Split the group of largest cost until there are as many as there may be, or none is worth
    it."""
    queue = [(-cost(group), number, group) for number, group in enumerate(groups)]
    heapq.heapify(queue)
    done: list[Group] = []
    least = LEAST_GAIN * max((-key for key, _, _ in queue), default=0.0)
    number = len(groups)

    while queue and len(queue) + len(done) < most:
        key, _, group = heapq.heappop(queue)
        parts = halves(group) if -key > least else None

        if parts is None:
            done.append(group)
            continue

        for part in parts:
            number += 1
            heapq.heappush(queue, (-cost(part), number, part))

    return [*done, *(group for _, _, group in queue)]


def sky_patches(weights: np.ndarray, edges: np.ndarray) -> list[tuple[int, int, int, int]]:
    """Rectangles of cells of the sky (first row, last row, first column, last column; ends
    excluded) of like importance.

    weights: float64[rows, columns], light of each cell; edges: float64[rows + 1], cosines from the
    zenith at the rows' edges.
    """
    rows, columns = weights.shape
    tilt = np.arccos(np.clip(edges, -1, 1))

    def size(group: Group) -> tuple[float, float]:
        top, bottom, left, right = group
        middle = np.sin((tilt[top] + tilt[bottom]) / 2)
        return float(tilt[bottom] - tilt[top]), float((right - left) / columns * 2 * np.pi * middle)

    def cost(group: Group) -> float:
        top, bottom, left, right = group
        return float(weights[top:bottom, left:right].sum()) * sum(side**2 for side in size(group))

    def halves(group: Group) -> tuple[Group, Group] | None:
        top, bottom, left, right = (int(value) for value in group)
        tall, wide = size(group)
        by_row = weights[top:bottom, left:right].sum(axis=1)
        by_column = weights[top:bottom, left:right].sum(axis=0)

        if (tall >= wide or right - left < 2) and bottom - top > 1:
            cut = top + _middle(by_row)
            return np.array([top, cut, left, right]), np.array([cut, bottom, left, right])

        if right - left > 1:
            cut = left + _middle(by_column)
            return np.array([top, bottom, left, cut]), np.array([top, bottom, cut, right])

        return None

    found = _split([np.array([0, rows, 0, columns])], cost, halves, MOST_SKY)
    return sorted((int(t), int(b), int(le), int(r)) for t, b, le, r in found)


def _middle(values: np.ndarray) -> int:
    """Where to cut so that both parts weigh alike, at least one value in each."""
    total = np.cumsum(values)
    cut = int(np.searchsorted(total, total[-1] / 2)) + 1 if total[-1] > 0 else len(values) // 2
    return min(max(cut, 1), len(values) - 1)

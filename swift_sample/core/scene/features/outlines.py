"""Outlines of masks, in texels, and what they leave of triangles that show a part of the
picture."""

from dataclasses import dataclass
from itertools import pairwise
from typing import cast

import contourpy
import numpy as np
import shapely

from swift_sample.core.errors import SceneError
from swift_sample.core.scene.model import CLAMP, MIRROR, TextureUse

ERROR_TEXELS = 0.4
"""How far the outline may lie from where the mask has it."""
MOST_OUTLINE = 400_000
"""Texels that an outline may run through: a mask with more of it is noise, and no geometry."""
MOST_WORK = 200_000_000
"""Corners of outlines times triangles that they are cut with."""
LEAST_AREA = 1e-4
"""Square texels, under which a piece is left out."""
BEYOND = 1e4
"""Pictures away from the first one, as far as the edges of a clamped texture go."""


@dataclass(frozen=True)
class Pieces:
    """What is left of each of some triangles: `weights` float32[n, 3] of new corners among a
    triangle's own, `corners` int32[t, 3] among all new ones, and how many of both are of each
    triangle. `seconds` it took to find out."""

    weights: np.ndarray
    corners: np.ndarray
    weights_each: np.ndarray
    corners_each: np.ndarray
    seconds: np.ndarray


def cut(use: TextureUse, level: float, shown: np.ndarray, name: str) -> Pieces:
    """Cut triangles, float64[u, 3, 2] in texels, along the outline."""
    outline = Outline(use, level, name)
    signed = _signed_area(shown)
    flat = np.abs(signed) < LEAST_AREA
    owners, pieces = outline.within(shown, np.flatnonzero(~flat))
    whole = np.flatnonzero(flat)[outline.contains(shown[flat].mean(axis=1))]
    triangles = shapely.constrained_delaunay_triangles(pieces)
    parts, of_piece = shapely.get_parts(triangles, return_index=True)
    corners = shapely.get_coordinates(parts).reshape(-1, 4, 2)[:, :3]
    owner = owners[of_piece]
    area = _signed_area(corners)
    kept = np.abs(area) > 1e-9
    corners = corners[kept]
    owner = owner[kept]
    area = area[kept]
    turned = (area > 0) != (signed[owner] > 0)
    corners[turned] = corners[turned][:, ::-1]
    a, b, c = (shown[owner, k][:, None] for k in range(3))
    doubled = 2 * signed[owner][:, None]
    wb = _cross(corners - a, c - a) / doubled
    wc = _cross(b - a, corners - a) / doubled
    weights = np.stack([1 - wb - wc, wb, wc], axis=-1)
    owner = np.concatenate([owner, whole])
    weights = np.concatenate([weights, np.broadcast_to(np.eye(3), (len(whole), 3, 3))])

    return _welded(weights, owner, len(shown))


def _cross(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    made: np.ndarray = a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
    return made


def _signed_area(triangles: np.ndarray) -> np.ndarray:
    return _cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0]) / 2


def _welded(weights: np.ndarray, owner: np.ndarray, count: int) -> Pieces:
    """New triangles in the order of those that they are of, with each corner once. weights:
    float[t, 3, 3]."""
    order = np.argsort(owner, kind="stable")
    weights = np.clip(weights[order], 0, 1)
    owner = owner[order]
    flat = np.round(weights.reshape(-1, 3), 6)
    keyed = np.concatenate([np.repeat(owner, 3)[:, None].astype(float), flat], axis=1)
    unique, place = np.unique(keyed, axis=0, return_inverse=True)
    weights_each = np.bincount(unique[:, 0].astype(int), minlength=count)
    first = np.concatenate([[0], np.cumsum(weights_each)[:-1]]) if count else np.zeros(0, int)
    corners = place.reshape(-1, 3) - first[owner][:, None]

    return Pieces(
        unique[:, 1:].astype(np.float32),
        corners.astype(np.int32),
        weights_each,
        np.bincount(owner, minlength=count),
        np.zeros(()),
    )


class Outline:
    """What a mask leaves, as polygons in texels."""

    def __init__(self, use: TextureUse, level: float, name: str) -> None:
        self._name = name
        self._wrap = use.texture.wrap
        alpha = use.texture.pixels[..., 3].astype(float) / 255
        self._height, self._width = alpha.shape
        inside = alpha >= level
        crossed = sum(int((np.roll(inside, 1, axis=axis) != inside).sum()) for axis in range(2))

        if crossed > MOST_OUTLINE:
            raise SceneError(
                f"{name}: the outline of its mask runs through {crossed:,} texels, at most "
                f"{MOST_OUTLINE:,} become geometry; keep the mask"
            )

        rows, ys = self._padded_places(self._height, self._wrap[1])
        columns, xs = self._padded_places(self._width, self._wrap[0])
        field = alpha[np.ix_(rows, columns)]
        lines = contourpy.contour_generator(xs, ys, field, fill_type=contourpy.FillType.OuterOffset)
        points, offsets = cast(
            tuple[list[np.ndarray], list[np.ndarray]], lines.filled(level - 1e-6, np.inf)
        )
        polygons = [
            shapely.Polygon(p[o[0] : o[1]], [p[a:b] for a, b in pairwise(o[1:])])
            for p, o in zip(points, offsets, strict=True)
        ]

        simple = (
            shapely.make_valid(shapely.simplify(np.array(polygons, dtype=object), ERROR_TEXELS))
            if polygons
            else []
        )
        low_x, high_x = (-BEYOND, BEYOND) if self._wrap[0] == CLAMP else (0, self._width)
        low_y, high_y = (-BEYOND, BEYOND) if self._wrap[1] == CLAMP else (0, self._height)
        self._polygons = _areas_of(
            shapely.intersection(simple, shapely.box(low_x, low_y, high_x, high_y))
        )
        self._tree = shapely.STRtree(self._polygons)
        self._lengths = shapely.get_num_coordinates(self._polygons)

    def _padded_places(self, size: int, wrap: int) -> tuple[np.ndarray, np.ndarray]:
        """Which texels stand in a row or column with one more at both ends, and where their middles
        are."""
        places = np.arange(-1, size + 1)
        middles = np.arange(-1, size + 1) + 0.5

        if wrap == CLAMP:
            middles[0] = -BEYOND
            middles[-1] = BEYOND

        return (np.clip(places, 0, size - 1) if wrap in (CLAMP, MIRROR) else places % size), middles

    def _tiles(self, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Every picture of the texture that each triangle reaches into: (triangle, column, row) of
        each pair."""
        found: list[tuple[np.ndarray, np.ndarray]] = []
        for axis, size in enumerate((self._width, self._height)):
            if self._wrap[axis] == CLAMP:
                first = last = np.zeros(len(triangles), int)
            else:
                first = np.floor(triangles[..., axis].min(axis=1) / size + 1e-9).astype(int)
                last = np.maximum(
                    first, np.ceil(triangles[..., axis].max(axis=1) / size - 1e-9).astype(int) - 1
                )

            found.append((first, last - first + 1))

        counts = found[0][1] * found[1][1]
        if counts.sum() > MOST_OUTLINE:
            raise SceneError(
                f"{self._name}: its mask is repeated {counts.sum():,} times; keep the mask"
            )

        which = np.repeat(np.arange(len(triangles)), counts)
        within = np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts)
        across = found[0][1][which]

        return which, found[0][0][which] + within % across, found[1][0][which] + within // across

    def _in_first(self, points: np.ndarray, column: np.ndarray, row: np.ndarray) -> np.ndarray:
        """Points of other pictures as the first one has them, and back again. points: float[n, k,
        2]."""
        made = points.copy()
        for axis, (size, tile) in enumerate(((self._width, column), (self._height, row))):
            made[..., axis] -= (size * tile)[:, None]
            if self._wrap[axis] == MIRROR:
                odd = tile % 2 == 1
                made[odd, :, axis] = size - made[odd, :, axis]

        return made

    def contains(self, points: np.ndarray) -> np.ndarray:
        """bool[n] of points in texels, float[n, 2]."""
        column, row = (
            np.floor(points[:, k] / size).astype(int)
            for k, size in enumerate((self._width, self._height))
        )
        for axis, tile in enumerate((column, row)):
            tile[:] = 0 if self._wrap[axis] == CLAMP else tile

        places = self._in_first(points[:, None], column, row)[:, 0]
        held = np.zeros(len(points), bool)
        held[self._tree.query(shapely.points(places), predicate="intersects")[0]] = True

        return held

    def within(self, triangles: np.ndarray, chosen: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Polygons of what is left of triangles: (triangle, polygon) of each."""
        which, column, row = self._tiles(triangles[chosen])
        moved = self._in_first(triangles[chosen][which], column, row)
        shapes = shapely.polygons(moved)
        of_shape, of_polygon = self._tree.query(shapes, predicate="intersects")
        work = int(self._lengths[of_polygon].sum())

        if work > MOST_WORK:
            raise SceneError(
                f"{self._name}: its mask would be cut at {work:,} corners, at most "
                f"{MOST_WORK:,} are; keep the mask"
            )

        cut = shapely.intersection(shapes[of_shape], self._polygons[of_polygon])
        parts, of_cut = shapely.get_parts(cut, return_index=True)
        parts, of_part = shapely.get_parts(parts, return_index=True)
        of_cut = of_cut[of_part]
        is_area = (shapely.get_type_id(parts) == shapely.GeometryType.POLYGON) & (
            shapely.area(parts) > LEAST_AREA
        )
        parts = parts[is_area]
        owner = of_shape[of_cut[is_area]]
        coordinates, of_point = shapely.get_coordinates(parts, return_index=True)
        back = self._back(coordinates, column[owner][of_point], row[owner][of_point])

        return chosen[which[owner]], shapely.set_coordinates(parts, back)

    def _back(self, points: np.ndarray, column: np.ndarray, row: np.ndarray) -> np.ndarray:
        made = points.copy()
        for axis, (size, tile) in enumerate(((self._width, column), (self._height, row))):
            if self._wrap[axis] == MIRROR:
                odd = tile % 2 == 1
                made[odd, axis] = size - made[odd, axis]
            made[:, axis] += size * tile

        return made


def _areas_of(shapes: np.ndarray) -> np.ndarray:
    """The polygons among shapes and their parts."""
    parts = shapely.get_parts(shapely.get_parts(shapes))
    found: np.ndarray = parts[shapely.get_type_id(parts) == shapely.GeometryType.POLYGON]
    return found

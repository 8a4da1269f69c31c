"""From emission, punctual lights and the environment to the tables that light sampling reads."""

from dataclasses import dataclass, fields, replace

import numpy as np

from swift_sample.core.picture.colour import luminance
from swift_sample.core.renderers.builtin.lowlevel.records import (
    CLUSTER,
    CLUSTER_ROWS,
    EMITS_BOTH,
    EXACT,
    LIGHT,
    MAX_CLUSTERS,
    NEAR,
    POINT_LIGHT,
    SKY,
    SUN,
    SUNS,
    TRIANGLE_LIGHT,
    UNSHADOWED,
)
from swift_sample.core.renderers.builtin.tables.alias import build_alias
from swift_sample.core.renderers.builtin.tables.clusters import (
    MOST_SKY,
    MOST_SUNS,
    NearLights,
    cone_of,
    near_clusters,
    sky_patches,
    whole_blocks,
)
from swift_sample.core.renderers.builtin.tables.surfaces import SurfaceTable, TextureTable
from swift_sample.core.scene.model import DIRECTIONAL, SPOT, Light, Scene

SKY_CELLS = 64
"""Most rows of cells that the environment's light is tabulated in,"""
LEAST_SKY_CELLS = 16
"""and fewest, also where its picture has fewer: patches of an even sky are told apart by where they
are."""
EVEN_SHARE = 0.01
"""Of the sky's light samples, so that no direction that carries light has none."""

EMISSION_SLOT = 3


@dataclass(frozen=True)
class LightTable:
    """Records and tables by the names of `records.py`."""

    lights: np.ndarray
    clusters: np.ndarray
    cluster_rows: np.ndarray
    suns: np.ndarray
    environment: np.ndarray
    sky_row_sums: np.ndarray
    sky_sums: np.ndarray
    sky_density: np.ndarray
    sky_patch: np.ndarray

    @property
    def memory_bytes(self) -> int:
        return sum(getattr(self, field.name).nbytes for field in fields(self))


class _Clusters:
    """Collects clusters with what their weights are found from."""

    def __init__(self) -> None:
        self.records: list[tuple[int, ...]] = []
        self.rows = np.zeros((CLUSTER_ROWS, MAX_CLUSTERS), np.float32)

    def add(
        self,
        kind: int,
        first: int,
        count: int,
        centre: np.ndarray,
        radius: float,
        power: float,
        axis: np.ndarray,
        cone: float,
        cells: tuple[int, int, int] = (0, 0, 0),
    ) -> int:
        """Returns its number. `cells` are the row and column that a patch of the sky begins at, and
        its columns."""
        number = len(self.records)
        self.records.append((kind, first, count, *cells))
        self.rows[:, number] = [*centre, radius, power, *axis, cone, np.sqrt(max(0.0, 1 - cone**2))]

        return number

    def table(self) -> np.ndarray:
        """CLUSTER[MAX_CLUSTERS]; those that are not there have no lights."""
        table = np.zeros(MAX_CLUSTERS, CLUSTER)
        table[: len(self.records)] = self.records
        return table

    def end_near(self) -> None:
        """Fill the last block of near clusters: what stands behind it is far."""
        self.records += [(NEAR, 0, 0, 0, 0, 0)] * (
            whole_blocks(len(self.records)) - len(self.records)
        )

    def add_far(
        self,
        kind: int,
        first: int,
        count: int,
        direction: np.ndarray,
        angle: float,
        irradiance: float,
        cells: tuple[int, int, int] = (0, 0, 0),
    ) -> int:
        """Lights in a cone of this half angle around a direction, that bring this irradiance when
        faced."""
        sine = float(np.sin(angle)) if angle < np.pi / 2 else 2.0
        return self.add(kind, first, count, direction, sine, irradiance, -direction, -1.0, cells)


def compile_lights(scene: Scene, surfaces: SurfaceTable, textures: TextureTable) -> LightTable:
    """Tables for choosing light samples; marks the faces that are lights."""
    clusters = _Clusters()
    lights = _cluster_near(clusters, *_near_lights(scene, surfaces, textures))
    triangles = np.flatnonzero(lights["face"] >= 0)
    surfaces.faces["light"][lights["face"][triangles]] = triangles
    clusters.end_near()
    suns = _suns(scene.lights)
    apart = (
        [range(k, k + 1) for k in range(len(suns))]
        if len(suns) <= MOST_SUNS
        else [range(len(suns))]
    )

    for members in apart:
        brightness = luminance(suns["irradiance"][members.start : members.stop].astype(np.float64))
        direction = suns["direction"][members.start].astype(np.float64)
        clusters.add_far(
            SUNS,
            members.start,
            len(members),
            direction,
            0.0 if len(members) == 1 else np.pi,
            brightness.sum(),
        )

    pixels = np.where(
        np.isfinite(scene.environment.pixels) & (scene.environment.pixels > 0),
        scene.environment.pixels,
        0,
    )
    pixels = np.ascontiguousarray(pixels, np.float32)
    sky = _cluster_sky(clusters, pixels, scene.environment.turn)

    return LightTable(
        lights if len(lights) else np.zeros(1, LIGHT),
        clusters.table(),
        clusters.rows,
        suns if len(suns) else np.zeros(1, SUN),
        pixels,
        *sky,
    )


def _cluster_near(
    clusters: _Clusters, lights: np.ndarray, powers: np.ndarray, middles: np.ndarray
) -> np.ndarray:
    """The near lights in the order of their clusters, with the tables of each."""
    if not len(lights):
        return lights

    surfaces = lights["kind"] == TRIANGLE_LIGHT
    corner, edge1, edge2 = (
        lights[name].astype(np.float64) for name in ("corner", "edge1", "edge2")
    )
    normals = np.cross(edge1, edge2) * surfaces[:, None]
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    ends = np.stack([corner + edge * surfaces[:, None] for edge in (0 * edge1, edge1, edge2)])
    found = near_clusters(NearLights(middles, np.ptp(ends, axis=0) / 2, powers, normals))
    first = 0

    for members in found:
        total = powers[members].sum()
        centre = np.average(middles[members], axis=0, weights=powers[members] + 1e-30)
        radius = float(np.sqrt(((ends[:, members] - centre) ** 2).sum(axis=-1).max())) * 1.0001
        glows = bool(surfaces[members[0]])
        axis, cone = (
            cone_of(normals[members], powers[members])
            if glows
            else (np.array([0.0, 0.0, 1.0]), -1.0)
        )

        if lights["both_sides"][members].any():
            cone = -1.0

        # A surface is brightest where it is faced: its power over pi; a point shines evenly.
        number = clusters.add(
            NEAR,
            first,
            len(members),
            centre,
            radius,
            total / (np.pi if glows else 4 * np.pi),
            axis,
            cone,
        )
        lights["cluster"][members] = number
        lights["density"][members] *= 1 / total
        lights["kept"][members], lights["alias"][members] = build_alias(powers[members])
        first += len(members)

    return lights[np.concatenate(found)]


def _near_lights(
    scene: Scene, surfaces: SurfaceTable, textures: TextureTable
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Emissive triangles and punctual lights: records, powers in watts but for a constant,
    middles."""
    candidates = np.flatnonzero(surfaces.materials["emits"][surfaces.faces["material"]] > 0)
    corners = surfaces.corners[candidates].astype(np.float64)
    edge1 = corners[:, 1] - corners[:, 0]
    edge2 = corners[:, 2] - corners[:, 0]
    areas = 0.5 * np.linalg.norm(np.cross(edge1, edge2), axis=1)
    owners = surfaces.faces["material"][candidates]
    brightness = np.array(
        [
            luminance(np.asarray(m.emission)) * _mean_of_texture(scene, i)
            for i, m in enumerate(scene.materials)
        ]
    )[owners]
    lit = (areas > 0) & (brightness > 0)
    candidates = candidates[lit]
    corners = corners[lit]
    edge1 = edge1[lit]
    edge2 = edge2[lit]
    areas = areas[lit]
    brightness = brightness[lit]
    owners = owners[lit]
    records = np.zeros(len(candidates), LIGHT)
    records["corner"] = corners[:, 0]
    records["edge1"] = edge1
    records["edge2"] = edge2
    records["colour"] = surfaces.materials["emission"][owners]
    records["kind"] = TRIANGLE_LIGHT
    records["face"] = candidates
    records["both_sides"] = surfaces.materials["emits"][owners] == EMITS_BOTH
    records["density"] = np.pi * brightness * (1 + records["both_sides"])
    slots = surfaces.materials["slots"][owners, EMISSION_SLOT]
    records["textured"] = slots
    second = textures.uses.records["uv_set"][np.maximum(slots, 0)] == 1
    records["u"] = surfaces.faces["u"][candidates]
    records["v"] = surfaces.faces["v"][candidates]

    if len(surfaces.second_uvs) and second.any():
        pairs = surfaces.second_uvs[candidates].reshape(-1, 3, 2)
        records["u"] = np.where(second[:, None], pairs[..., 0], records["u"])
        records["v"] = np.where(second[:, None], pairs[..., 1], records["v"])

    points = [
        light for light in scene.lights if light.kind != DIRECTIONAL and max(light.colour) > 0
    ]
    extra = np.zeros(len(points), LIGHT)
    point_powers = np.zeros(len(points))

    for k, (record, light) in enumerate(zip(extra, points, strict=True)):
        record["kind"] = POINT_LIGHT
        record["corner"] = light.position
        record["colour"] = light.colour
        record["face"] = -1
        record["edge1"] = _unit(light.direction)
        record["textured"] = -1
        record["exact"] = EXACT if light.shadow else UNSHADOWED
        record["cone_offset"] = 1.0
        solid = 4 * np.pi

        if light.kind == SPOT:
            inner = np.cos(light.inner_cone)
            outer = np.cos(light.outer_cone)
            record["cone_scale"] = 1 / max(1e-3, inner - outer)
            record["cone_offset"] = -outer * record["cone_scale"]
            solid = 2 * np.pi * (1 - outer)

        point_powers[k] = record["density"] = solid * luminance(np.asarray(light.colour))

    middles = np.concatenate([corners.mean(axis=1), extra["corner"].astype(np.float64)])
    powers = areas * np.pi * brightness * (1 + records["both_sides"])
    return np.concatenate([records, extra]), np.concatenate([powers, point_powers]), middles


def _mean_of_texture(scene: Scene, material: int) -> float:
    use = scene.materials[material].textures.get("emission")
    if use is None:
        return 1.0

    pixels = use.texture.pixels[..., :3] / np.float32(255)
    return float(luminance((pixels**2.2 if use.texture.srgb else pixels).mean(axis=(0, 1))))


def _suns(lights: list[Light]) -> np.ndarray:
    found = [light for light in lights if light.kind == DIRECTIONAL and max(light.colour) > 0]
    suns = np.zeros(len(found), SUN)

    for record, light in zip(suns, found, strict=True):
        record["direction"] = -_unit(light.direction)
        record["irradiance"] = light.colour
        record["exact"] = EXACT if light.shadow else UNSHADOWED

    return suns


def _unit(v: tuple[float, float, float]) -> np.ndarray:
    return np.asarray(v, float) / max(float(np.linalg.norm(v)), 1e-20)


def with_finer_sky(table: LightTable, turn: float, shares: np.ndarray) -> LightTable:
    """The same lights with the sky cut finer where it matters. shares: float[clusters], of the
    light of each cluster that arrived where it was tried."""
    near = int(np.flatnonzero(table.clusters["kind"] == SKY).min())
    clusters = _Clusters()
    clusters.records = [tuple(int(v) for v in record) for record in table.clusters[:near]]
    clusters.rows[:, :near] = table.cluster_rows[:, :near]
    importance = np.where(table.sky_patch >= 0, shares[np.maximum(table.sky_patch, 0)], 0.0)
    row_sums, sums, density, patch = _cluster_sky(clusters, table.environment, turn, importance)

    return replace(
        table,
        clusters=clusters.table(),
        cluster_rows=clusters.rows,
        sky_row_sums=row_sums,
        sky_sums=sums,
        sky_density=density,
        sky_patch=patch,
    )


def _cluster_sky(
    clusters: _Clusters, pixels: np.ndarray, turn: float, importance: np.ndarray | None = None
) -> tuple[np.ndarray, ...]:
    """Running sums over the rows of each patch of the sky, and over the cells of each row of a
    patch; densities, and the cluster of each cell. Patches are cut finer where light times
    `importance` (float[rows, columns]) is more.

    Rows are chosen by one number and columns by another, so that an even pattern stays even over a
    patch.

    A cell covers whole pixels, at most SKY_CELLS rows of them, so that the tables stay in the
    processor's cache. A small part of each patch's samples is even over it.
    """
    height, width, _ = pixels.shape
    brightness = luminance(pixels.astype(np.float64))
    brightness = brightness.repeat(-(-LEAST_SKY_CELLS // height), axis=0).repeat(
        -(-2 * LEAST_SKY_CELLS // width), axis=1
    )
    height, width = brightness.shape
    rows, columns = _largest_divisor(height, SKY_CELLS), _largest_divisor(width, 2 * SKY_CELLS)
    edges = np.cos(np.linspace(0, np.pi, height + 1))
    pixel_solid = np.repeat(((edges[:-1] - edges[1:]) * 2 * np.pi / width)[:, None], width, axis=1)

    def by_cell(values: np.ndarray) -> np.ndarray:
        return values.reshape(rows, height // rows, columns, width // columns).sum(axis=(1, 3))

    solid = by_cell(pixel_solid)
    weight = by_cell(brightness * pixel_solid)
    row_sums = np.zeros(MOST_SKY * SKY_CELLS, np.float32)
    sums = np.zeros((rows, columns), np.float32)
    density = np.zeros((rows, columns), np.float32)
    patch = np.full((rows, columns), -1, np.int32)

    if weight.sum() <= 0:
        return row_sums, sums, density, patch

    cell_edges = edges[:: height // rows]
    first = 0

    for top, bottom, left, right in sky_patches(
        weight if importance is None else weight * importance, cell_edges
    ):
        own = weight[top:bottom, left:right]
        room = solid[top:bottom, left:right]
        even = room / room.sum()
        share = (1 - EVEN_SHARE) * own / own.sum() + EVEN_SHARE * even if own.sum() > 0 else even
        power = float(
            (1 - EVEN_SHARE) * own.sum() + EVEN_SHARE * weight.sum() * room.sum() / (4 * np.pi)
        )
        direction, angle = _cone_of_patch(cell_edges, columns, (top, bottom, left, right), turn)
        cells = (top, left, right - left)
        patch[top:bottom, left:right] = clusters.add_far(
            SKY, first, bottom - top, direction, angle, power, cells
        )
        density[top:bottom, left:right] = share / room
        by_row = share.sum(axis=1)
        row_sums[first : first + bottom - top] = _running(by_row)
        sums[top:bottom, left:right] = _running(share / by_row[:, None])
        first += bottom - top

    return row_sums, sums, density, patch


def _running(shares: np.ndarray) -> np.ndarray:
    """Running sums along the last axis, float32, of shares that add up to 1."""
    sums = np.cumsum(shares, axis=-1).astype(np.float32)
    sums[..., -1] = 1.0
    return sums


def _cone_of_patch(
    edges: np.ndarray, columns: int, patch: tuple[int, int, int, int], turn: float
) -> tuple[np.ndarray, float]:
    """The middle direction of a patch of the sky and the half angle of the cone around it; see
    `lights.sky_place`."""
    top, bottom, left, right = patch
    y = np.linspace(edges[top], edges[bottom], 5)[:, None]
    around = (np.linspace(left, right, 9) / columns - 0.5)[None, :] * 2 * np.pi - turn
    flat = np.sqrt(np.maximum(0, 1 - y * y))
    points = np.stack(
        [np.sin(around) * flat, y + 0 * around, -np.cos(around) * flat], axis=-1
    ).reshape(-1, 3)
    middle = points.sum(axis=0)
    length = float(np.linalg.norm(middle))

    if length < 1e-3 * len(points):
        return np.array([0.0, 1.0, 0.0]), float(np.pi)

    middle /= length
    # The points are a fine sample of the patch; a little is added for what lies between them.
    return middle, float(np.arccos(np.clip((points @ middle).min(), -1, 1))) * 1.05 + 0.01


def _largest_divisor(number: int, most: int) -> int:
    return next(d for d in range(min(number, most), 0, -1) if number % d == 0)

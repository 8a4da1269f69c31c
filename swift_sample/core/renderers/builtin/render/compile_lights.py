"""From emission, punctual lights and the environment to the tables that light sampling reads."""

from dataclasses import dataclass

import numpy as np

from swift_sample.core.picture.colour import luminance
from swift_sample.core.renderers.builtin.render.alias import build_alias
from swift_sample.core.renderers.builtin.render.compile_surfaces import SurfaceTable, TextureTable
from swift_sample.core.renderers.builtin.render.records import CLUSTER, LIGHT, MAX_CLUSTERS, POINT_LIGHT, SUN, TRIANGLE_LIGHT
from swift_sample.core.scene.model import DIRECTIONAL, SPOT, Light, Scene

SKY_CELLS = 64
"""Most rows of cells that the environment's light is tabulated in."""

EMISSION_SLOT = 3


@dataclass(frozen=True)
class LightTable:
    """Records and tables by the names of `records.py`."""

    lights: np.ndarray
    clusters: np.ndarray
    suns: np.ndarray
    environment: np.ndarray
    sky_kept: np.ndarray
    sky_alias: np.ndarray
    sky_density: np.ndarray
    near_share: float
    sky_share: float

    @property
    def memory_bytes(self) -> int:
        return sum(
            a.nbytes
            for a in (
                self.lights,
                self.clusters,
                self.suns,
                self.environment,
                self.sky_kept,
                self.sky_alias,
                self.sky_density,
            )
        )


def compile_lights(scene: Scene, surfaces: SurfaceTable, textures: TextureTable) -> LightTable:
    """Tables for choosing light samples; marks the faces that are lights."""
    lights, powers, places = _near_lights(scene, surfaces, textures)
    clusters = cluster_lights(places, powers)
    order = np.concatenate(clusters) if clusters else np.zeros(0, np.int64)
    cluster_records = np.zeros(max(1, len(clusters)), CLUSTER)
    first = 0
    for number, (record, members) in enumerate(zip(cluster_records, clusters, strict=False)):
        total = powers[members].sum()
        centre = np.average(places[members], axis=0, weights=powers[members] + 1e-30)
        outer = np.stack(
            [
                lights["corner"][members] + lights[edge][members] * (lights["kind"][members] == TRIANGLE_LIGHT)[:, None]
                for edge in ("edge1", "edge2")
            ]
            + [lights["corner"][members]]
        )
        record["centre"], record["power"], record["first"], record["count"] = centre, total, first, len(members)
        record["radius"] = np.sqrt(((outer - centre) ** 2).sum(axis=-1).max()) * 1.0001
        lights["cluster"][members] = number
        lights["density"][members] *= 1 / total
        lights["kept"][members], lights["alias"][members] = build_alias(powers[members])
        first += len(members)
    lights = lights[order]
    triangles = np.flatnonzero(lights["face"] >= 0)
    surfaces.faces["light"][lights["face"][triangles]] = triangles
    suns = _suns(scene.lights)
    pixels = np.where(np.isfinite(scene.environment.pixels) & (scene.environment.pixels > 0), scene.environment.pixels, 0)
    pixels = np.ascontiguousarray(pixels, np.float32)
    weights, density, sky = _sky_cells(pixels)
    kept, alias = build_alias(weights.ravel())
    near = 0.0 if not len(order) else 1.0 if sky == 0 and not len(suns) else 0.5
    distant = 1.0 - near
    sky_share = distant if not len(suns) else 0.0 if sky == 0 else distant / 2
    return LightTable(
        lights if len(lights) else np.zeros(1, LIGHT),
        cluster_records,
        suns if len(suns) else np.zeros(1, SUN),
        pixels,
        kept,
        alias,
        density,
        near,
        sky_share,
    )


def _near_lights(scene: Scene, surfaces: SurfaceTable, textures: TextureTable) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Emissive triangles and punctual lights: records, powers in watts but for a constant, middles."""
    candidates = np.flatnonzero(surfaces.materials["emits"][surfaces.faces["material"]] > 0)
    corners = surfaces.corners[candidates].astype(np.float64)
    edge1, edge2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    areas = 0.5 * np.linalg.norm(np.cross(edge1, edge2), axis=1)
    owners = surfaces.faces["material"][candidates]
    brightness = np.array(
        [luminance(np.asarray(m.emission)) * _mean_of_texture(scene, i) for i, m in enumerate(scene.materials)]
    )[owners]
    lit = (areas > 0) & (brightness > 0)
    candidates, corners, edge1, edge2 = candidates[lit], corners[lit], edge1[lit], edge2[lit]
    areas, brightness, owners = areas[lit], brightness[lit], owners[lit]
    records = np.zeros(len(candidates), LIGHT)
    records["corner"], records["edge1"], records["edge2"] = corners[:, 0], edge1, edge2
    records["colour"] = surfaces.materials["emission"][owners]
    records["kind"], records["face"] = TRIANGLE_LIGHT, candidates
    records["density"] = np.pi * brightness
    slots = surfaces.materials["slots"][owners, EMISSION_SLOT]
    records["textured"] = slots
    second = textures.uses.records["uv_set"][np.maximum(slots, 0)] == 1
    records["u"], records["v"] = surfaces.faces["u"][candidates], surfaces.faces["v"][candidates]
    if len(surfaces.second_uvs) and second.any():
        pairs = surfaces.second_uvs[candidates].reshape(-1, 3, 2)
        records["u"] = np.where(second[:, None], pairs[..., 0], records["u"])
        records["v"] = np.where(second[:, None], pairs[..., 1], records["v"])
    points = [light for light in scene.lights if light.kind != DIRECTIONAL and max(light.colour) > 0]
    extra = np.zeros(len(points), LIGHT)
    point_powers = np.zeros(len(points))
    for k, (record, light) in enumerate(zip(extra, points, strict=True)):
        record["kind"], record["corner"], record["colour"], record["face"] = POINT_LIGHT, light.position, light.colour, -1
        record["edge1"], record["textured"] = _unit(light.direction), -1
        record["cone_offset"] = 1.0
        solid = 4 * np.pi
        if light.kind == SPOT:
            inner, outer = np.cos(light.inner_cone), np.cos(light.outer_cone)
            record["cone_scale"] = 1 / max(1e-3, inner - outer)
            record["cone_offset"] = -outer * record["cone_scale"]
            solid = 2 * np.pi * (1 - outer)
        point_powers[k] = record["density"] = solid * luminance(np.asarray(light.colour))
    middles = np.concatenate([corners.mean(axis=1), extra["corner"].astype(np.float64)])
    return np.concatenate([records, extra]), np.concatenate([areas * np.pi * brightness, point_powers]), middles


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
        record["direction"], record["irradiance"] = -_unit(light.direction), light.colour
    return suns


def _unit(v: tuple[float, float, float]) -> np.ndarray:
    return np.asarray(v, float) / max(float(np.linalg.norm(v)), 1e-20)


def cluster_lights(centres: np.ndarray, powers: np.ndarray) -> list[np.ndarray]:
    """Group near lights, given by centre and power, into at most MAX_CLUSTERS groups that lie close together.

    The cluster with the largest power times extent is halved along its longest side, again and again.
    """
    if not len(powers):
        return []
    clusters = [np.arange(len(powers))]
    while len(clusters) < MAX_CLUSTERS:
        extents = [np.ptp(centres[members], axis=0) for members in clusters]
        weights = [powers[members].sum() * extent.max() for members, extent in zip(clusters, extents, strict=True)]
        widest = int(np.argmax(weights))
        if weights[widest] <= 0:
            break
        members, axis = clusters.pop(widest), int(np.argmax(extents[widest]))
        along = centres[members, axis]
        low = along < (along.min() + along.max()) / 2
        clusters += [members[low], members[~low]]
    return clusters


def _sky_cells(pixels: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Weight of each cell and density per steradian in it, [rows, columns], and the light from everywhere.

    A cell covers whole pixels, at most SKY_CELLS rows of them, so that the tables stay in the processor's cache. One
    hundredth of the density is even, so that no direction that carries light has none.
    """
    height, width, _ = pixels.shape
    rows, columns = _largest_divisor(height, SKY_CELLS), _largest_divisor(width, 2 * SKY_CELLS)
    brightness = luminance(pixels.astype(np.float64))
    edges = np.cos(np.linspace(0, np.pi, height + 1))
    pixel_solid = np.repeat(((edges[:-1] - edges[1:]) * 2 * np.pi / width)[:, None], width, axis=1)

    def by_cell(values: np.ndarray) -> np.ndarray:
        return values.reshape(rows, height // rows, columns, width // columns).sum(axis=(1, 3))

    solid, weight = by_cell(pixel_solid), by_cell(brightness * pixel_solid)
    total = float(weight.sum())
    share = 0.99 * weight / total + 0.01 * solid / (4 * np.pi) if total > 0 else solid / (4 * np.pi)
    return share, (share / solid).astype(np.float32), total


def _largest_divisor(number: int, most: int) -> int:
    return next(d for d in range(min(number, most), 0, -1) if number % d == 0)

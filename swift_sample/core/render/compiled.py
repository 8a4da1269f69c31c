"""The compiled scene: the model turned into flat arrays that kernels read."""

from typing import NamedTuple

import numpy as np

from swift_sample.core.errors import SceneError
from swift_sample.core.render.alias import build_alias
from swift_sample.core.render.tree import Tree, build_tree
from swift_sample.core.scene.model import Camera, Environment, Material, Scene

SMOOTH_ROUGHNESS = 0.03
"""At or under this roughness a surface counts as perfectly smooth: GGX lobes this narrow are below a pixel."""

SKY_CELLS = 64
"""Most rows of cells that the environment's light is tabulated in."""

MAX_CLUSTERS = 8
"""Groups of emissive triangles among which each point chooses by power over squared distance."""

MATERIAL_RECORD = np.dtype([
    ("base_r", "f4"), ("base_g", "f4"), ("base_b", "f4"),
    ("metallic", "f4"), ("alpha", "f4"), ("ior", "f4"), ("transmission", "f4"),
    ("absorb_r", "f4"), ("absorb_g", "f4"), ("absorb_b", "f4"),
    ("emit_r", "f4"), ("emit_g", "f4"), ("emit_b", "f4"),
    ("repeat_u", "f4"), ("repeat_v", "f4"),
    ("texture", "i4"), ("smooth", "i4"), ("volume", "i4"), ("priority", "i4"), ("emits", "i4"),
], align=True)
"""One material. `alpha` is roughness squared; `texture` is -1 for none; `volume` marks a closed dielectric."""


class Surfaces(NamedTuple):
    """What the triangles carry, t triangles and n vertices."""

    corners: np.ndarray
    """int32[t, 3]"""
    positions: np.ndarray
    """float32[n, 3], metres"""
    normals: np.ndarray
    """float32[n, 3], unit; zero where the triangle is shaded flat"""
    uvs: np.ndarray
    """float32[n, 2]"""
    material: np.ndarray
    """int32[t]"""
    light: np.ndarray
    """int32[t]: place among the emissive triangles, -1 for none"""
    materials: np.ndarray
    """MATERIAL_RECORD[m]"""
    texels: np.ndarray
    """float32[k, 3], all textures one behind the other"""
    textures: np.ndarray
    """int32[x, 3]: first texel, width, height"""


class Lights(NamedTuple):
    """Emissive triangles in clusters, chosen by power over squared distance; the environment by luminance."""

    triangles: np.ndarray
    """int32[l], sorted by cluster"""
    kept: np.ndarray
    """float32[l] and"""
    alias: np.ndarray
    """int32[l]: alias tables by power, one for each cluster, counting from its first triangle"""
    density: np.ndarray
    """float32[l]: probability per square metre of a point on this triangle, once its cluster is chosen"""
    cluster: np.ndarray
    """int32[l]"""
    cluster_first: np.ndarray
    """int32[c + 1]: places in `triangles`"""
    cluster_centre: np.ndarray
    """float32[c, 3]"""
    cluster_reach: np.ndarray
    """float32[c]: squared radius"""
    cluster_power: np.ndarray
    """float32[c]"""
    triangle_share: np.float32
    """probability that a light sample goes to a triangle rather than to the environment"""
    environment: np.ndarray
    """float32[h, w, 3], radiance"""
    sky_kept: np.ndarray
    """float32[k] and"""
    sky_alias: np.ndarray
    """int32[k]: alias table of the environment's cells by the light from them"""
    sky_density: np.ndarray
    """float32[rows, columns]: probability per steradian within each cell"""


class Lens(NamedTuple):
    """The camera: a ray through (x, y) in [-1, 1] goes along forward + x * right + y * up."""

    origin: np.ndarray
    right: np.ndarray
    up: np.ndarray
    forward: np.ndarray
    """float32[3] each"""


class CompiledScene(NamedTuple):
    """Everything a kernel needs to know about a scene."""

    tree: Tree
    surfaces: Surfaces
    lights: Lights


def compile_surfaces(scene: Scene) -> Surfaces:
    """Flatten meshes, materials and textures. Raises SceneError where there is nothing to render."""
    meshes = [mesh for mesh in scene.meshes if len(mesh.corners)]
    if not meshes:
        raise SceneError(f"{scene.name}: the scene has no triangles; give it at least one mesh")
    firsts = np.cumsum([0] + [len(m.positions) for m in meshes])
    corners = np.concatenate([m.corners + first for m, first in zip(meshes, firsts[:-1], strict=True)])
    materials, texels, textures = _compile_materials(scene.materials)
    material = np.concatenate([np.full(len(m.corners), m.material, np.int32) for m in meshes])
    emits = materials["emits"][material] > 0
    light = np.full(len(corners), -1, np.int32)
    light[emits] = np.arange(emits.sum(), dtype=np.int32)
    return Surfaces(
        np.ascontiguousarray(corners, np.int32),
        np.concatenate([m.positions for m in meshes]).astype(np.float32),
        np.concatenate([_or_zeros(m.normals, len(m.positions), 3) for m in meshes]),
        np.concatenate([_or_zeros(m.uvs, len(m.positions), 2) for m in meshes]),
        material, light, materials, texels, textures,
    )


def build_accelerator(surfaces: Surfaces) -> Tree:
    """The acceleration tree over all triangles."""
    return build_tree(surfaces.positions[surfaces.corners])


def compile_lights(surfaces: Surfaces, environment: Environment) -> Lights:
    """Tables for choosing light samples."""
    triangles = np.flatnonzero(surfaces.light >= 0).astype(np.int32)
    a, b, c = (surfaces.positions[surfaces.corners[triangles, k]].astype(np.float64) for k in range(3))
    areas = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    records = surfaces.materials[surfaces.material[triangles]]
    luminances = _luminance(np.stack([records["emit_r"], records["emit_g"], records["emit_b"]], -1).astype(np.float64))
    powers = areas * luminances
    clusters = cluster_lights((a + b + c) / 3, powers)
    order = np.concatenate(clusters) if clusters else np.zeros(0, np.int64)
    surfaces.light[triangles[order]] = np.arange(len(order), dtype=np.int32)
    tables = [build_alias(powers[members]) for members in clusters]
    totals = np.array([powers[members].sum() for members in clusters])
    owner = np.repeat(np.arange(len(clusters)), [len(members) for members in clusters]).astype(np.int32)
    centres = [np.average((a + b + c)[members] / 3, axis=0, weights=powers[members] + 1e-30) for members in clusters]
    reaches = [((a[members] - centre) ** 2).sum(axis=1).max() for members, centre in zip(clusters, centres, strict=True)]
    pixels = np.where(np.isfinite(environment.pixels) & (environment.pixels > 0), environment.pixels, 0)
    pixels = np.ascontiguousarray(pixels, np.float32)
    sky_weights, sky_density, sky = _sky_cells(pixels)
    share = 0.0 if totals.sum() == 0 else 1.0 if sky == 0 else 0.5
    sky_kept, sky_alias = build_alias(sky_weights.ravel())
    return Lights(
        triangles[order], _joined([t[0] for t in tables], np.float32), _joined([t[1] for t in tables], np.int32),
        (luminances[order] / np.maximum(totals[owner], 1e-30)).astype(np.float32), owner,
        np.concatenate([[0], np.cumsum([len(members) for members in clusters])]).astype(np.int32),
        np.array(centres, np.float32).reshape(-1, 3), np.array(reaches, np.float32), totals.astype(np.float32),
        np.float32(share), pixels, sky_kept, sky_alias, sky_density)


def _joined(tables: list[np.ndarray], dtype: type) -> np.ndarray:
    return np.concatenate(tables) if tables else np.zeros(0, dtype)


def cluster_lights(centres: np.ndarray, powers: np.ndarray) -> list[np.ndarray]:
    """Group emissive triangles, given by centre and power, into at most MAX_CLUSTERS groups that lie close together.

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


def compile_camera(camera: Camera, width: int, height: int) -> Lens:
    """The camera for pictures of this size; the vertical field is kept, the width follows."""
    position, target, up = (np.asarray(v, np.float64) for v in (camera.position, camera.target, camera.up))
    forward = target - position
    forward /= np.linalg.norm(forward)
    right = np.cross(forward, up)
    right /= np.linalg.norm(right)
    upward = np.cross(right, forward)
    half = np.tan(camera.vertical_field / 2)
    return Lens(*(v.astype(np.float32) for v in (position, right * half * width / height, upward * half, forward)))


def _or_zeros(values: np.ndarray, count: int, width: int) -> np.ndarray:
    return values.astype(np.float32) if len(values) == count else np.zeros((count, width), np.float32)


def _compile_materials(materials: list[Material]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    records = np.zeros(len(materials), MATERIAL_RECORD)
    texels: list[np.ndarray] = [np.zeros((1, 3), np.float32)]
    textures: list[tuple[int, int, int]] = []
    places: dict[int, int] = {}
    for record, m in zip(records, materials, strict=True):
        for channel, base, absorb, emit in zip("rgb", m.base_colour, m.absorption, m.emission, strict=True):
            record[f"base_{channel}"], record[f"absorb_{channel}"], record[f"emit_{channel}"] = base, absorb, emit
        record["metallic"], record["alpha"], record["ior"] = m.metallic, max(m.roughness, SMOOTH_ROUGHNESS) ** 2, m.ior
        record["transmission"], record["priority"] = m.transmission, m.priority
        record["smooth"] = m.roughness <= SMOOTH_ROUGHNESS
        record["volume"] = m.transmission > 0 and not m.thin
        record["emits"] = max(m.emission) > 0
        record["repeat_u"], record["repeat_v"] = m.texture_repeat
        record["texture"] = -1
        if m.base_texture is not None:
            if id(m.base_texture) not in places:
                places[id(m.base_texture)] = len(textures)
                pixels = m.base_texture.pixels
                textures.append((sum(len(t) for t in texels), pixels.shape[1], pixels.shape[0]))
                texels.append(pixels.reshape(-1, 3).astype(np.float32))
            record["texture"] = places[id(m.base_texture)]
    return records, np.concatenate(texels), np.array(textures or [(0, 1, 1)], np.int32)


def _luminance(rgb: np.ndarray) -> np.ndarray:
    return rgb @ np.array([0.2126, 0.7152, 0.0722])


def _sky_cells(pixels: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Weight of each cell and density per steradian in it, [rows, columns], and the light from everywhere.

    A cell covers whole pixels, at most SKY_CELLS rows of them, so that the tables stay in the processor's cache. One
    hundredth of the density is even, so that no direction that carries light has none.
    """
    height, width, _ = pixels.shape
    rows, columns = _largest_divisor(height, SKY_CELLS), _largest_divisor(width, 2 * SKY_CELLS)
    luminance = _luminance(pixels.astype(np.float64))
    edges = np.cos(np.linspace(0, np.pi, height + 1))
    pixel_solid = np.repeat(((edges[:-1] - edges[1:]) * 2 * np.pi / width)[:, None], width, axis=1)

    def by_cell(values: np.ndarray) -> np.ndarray:
        return values.reshape(rows, height // rows, columns, width // columns).sum(axis=(1, 3))

    solid, weight = by_cell(pixel_solid), by_cell(luminance * pixel_solid)
    total = float(weight.sum())
    share = 0.99 * weight / total + 0.01 * solid / (4 * np.pi) if total > 0 else solid / (4 * np.pi)
    return share, (share / solid).astype(np.float32), total


def _largest_divisor(number: int, most: int) -> int:
    return next(d for d in range(min(number, most), 0, -1) if number % d == 0)


def compile_scene(scene: Scene) -> CompiledScene:
    """Compile everything at once, where the time of each phase does not matter."""
    surfaces = compile_surfaces(scene)
    return CompiledScene(build_accelerator(surfaces), surfaces, compile_lights(surfaces, scene.environment))


__all__ = ["CompiledScene", "Lens", "Lights", "Surfaces", "build_accelerator", "compile_camera",
           "compile_lights", "compile_scene", "compile_surfaces"]

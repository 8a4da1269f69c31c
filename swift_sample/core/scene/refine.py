"""Finer geometry: cutting triangles into four, and moving them by a displacement texture."""

from dataclasses import replace

import numpy as np

from swift_sample.core.budget import TRIANGLES, over
from swift_sample.core.errors import SceneError
from swift_sample.core.scene.model import (
    CLAMP,
    MIRROR,
    Choices,
    Displacement,
    Mesh,
    Scene,
    TextureUse,
)


def refined(scene: Scene, choices: Choices) -> Scene:
    """The scene with every mesh subdivided and displaced as chosen. Raises SceneError where it
    grows too large."""
    count = sum(len(m.corners) * (4**choices.subdivision if m.divided else 1) for m in scene.meshes)
    words = over(count, TRIANGLES, "triangles")
    if words:
        raise SceneError(
            f"geometry.subdivision={choices.subdivision}: the scene {words}; use a smaller value"
        )

    displaced = choices.displacement and any(m.displacement for m in scene.materials)
    if choices.subdivision == 0 and not displaced:
        return scene

    meshes = []
    for mesh in scene.meshes:
        for _ in range(choices.subdivision if mesh.divided else 0):
            mesh = subdivided(mesh)

        displacement = scene.materials[mesh.material].displacement
        if displaced and displacement is not None:
            mesh = _displaced(mesh, displacement)
        meshes.append(mesh)

    return replace(scene, meshes=meshes)


def subdivided(mesh: Mesh) -> Mesh:
    """Every triangle cut into four at the middles of its edges."""
    corners = mesh.corners.astype(np.int64)
    edges = np.sort(corners[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
    keys, place = np.unique(
        edges[:, 0] * (corners.max(initial=0) + 1) + edges[:, 1], return_inverse=True
    )
    ends = np.stack(np.divmod(keys, corners.max(initial=0) + 1), -1)
    middle = (len(mesh.positions) + place).reshape(-1, 3)
    a, b, c = corners.T
    ab, bc, ca = middle.T
    cut = np.concatenate(
        [np.stack(t, -1) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))]
    )

    def grown(values: np.ndarray) -> np.ndarray:
        return (
            np.concatenate([values, (values[ends[:, 0]] + values[ends[:, 1]]) / 2])
            if len(values)
            else values
        )

    normals = grown(mesh.normals)
    normals = normals / np.maximum(np.linalg.norm(normals, axis=-1, keepdims=True), 1e-12)

    return replace(
        mesh,
        positions=grown(mesh.positions).astype(np.float32),
        corners=cut.astype(np.int32),
        normals=normals.astype(np.float32),
        uvs=grown(mesh.uvs),
        second_uvs=grown(mesh.second_uvs),
        colours=grown(mesh.colours),
        motion=grown(mesh.motion),
    )


def _displaced(mesh: Mesh, displacement: Displacement) -> Mesh:
    """Vertices moved along their normals; new normals from the new surface."""
    uvs = mesh.second_uvs if displacement.use.uv_set == 1 else mesh.uvs
    if not len(uvs):
        return mesh

    normals = mesh.normals if len(mesh.normals) else vertex_normals(mesh.positions, mesh.corners)
    height = (_brightness(displacement.use, uvs) - 0.5) * displacement.scale
    positions = (mesh.positions + normals * height[:, None]).astype(np.float32)
    before = vertex_normals(mesh.positions, mesh.corners)
    after = vertex_normals(positions, mesh.corners)
    turned = normals + after - before
    turned /= np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12)

    return replace(mesh, positions=positions, normals=turned.astype(np.float32))


def vertex_normals(positions: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Unit normals, float32[n, 3], weighted by area, over all triangles that meet in one place."""
    order = np.lexsort(positions.T)
    in_order = positions[order]
    place = np.empty(len(positions), np.int64)
    place[order] = np.cumsum(
        np.append(False, (in_order[1:] != in_order[:-1]).any(axis=1))[: len(order)]
    )
    a, b, c = (positions[corners[:, k]].astype(np.float64) for k in range(3))
    faces = np.cross(b - a, c - a)
    owners = place[corners].T.ravel()
    count = int(place.max(initial=-1)) + 1
    normals = np.stack(
        [np.bincount(owners, np.tile(faces[:, k], 3), count) for k in range(3)], axis=1
    )[place]

    return (normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-20)).astype(
        np.float32
    )


def _brightness(use: TextureUse, uvs: np.ndarray) -> np.ndarray:
    """The first channel between texels, 0 to 1, as stored."""
    pixels = use.texture.pixels[..., 0] / np.float32(255)
    height, width = pixels.shape
    place = uvs @ use.transform[:, :2].T + use.transform[:, 2]
    x, y = place[:, 0] * width - 0.5, place[:, 1] * height - 0.5
    x0, y0 = np.floor(x).astype(int), np.floor(y).astype(int)
    fx = x - x0
    fy = y - y0

    def at(dx: int, dy: int) -> np.ndarray:
        column = _wrapped(x0 + dx, width, use.texture.wrap[0])
        row = _wrapped(y0 + dy, height, use.texture.wrap[1])
        return pixels[row, column]

    return (at(0, 0) * (1 - fx) + at(1, 0) * fx) * (1 - fy) + (
        at(0, 1) * (1 - fx) + at(1, 1) * fx
    ) * fy


def _wrapped(place: np.ndarray, size: int, mode: int) -> np.ndarray:
    if mode == CLAMP:
        return np.clip(place, 0, size - 1)

    if mode == MIRROR:
        place = place % (2 * size)
        return np.where(place < size, place, 2 * size - 1 - place)

    return place % size

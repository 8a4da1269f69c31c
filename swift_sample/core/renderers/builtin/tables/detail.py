"""How much finer a scene is than the pixels that show it: texels across a pixel, and triangles on
one."""

import numpy as np

from swift_sample.core.renderers.builtin.tables.scene import compile_camera, pixel_cone
from swift_sample.core.scene.model import Camera, Material, Mesh, Scene

MOST_LOOKED_AT = 200_000
"""Triangles of a material; of more, evenly spread ones."""


def texels_a_pixel(scene: Scene, width: int, height: int) -> dict[str, float]:
    """How many texels of a material's finest picture lie across a pixel where it is nearest to the
    camera, by its name: of 4 every second one could go. Materials that are not in view, or have no
    pictures, are left out.

    Only where the camera sees them directly counts; mirrors and glass show what is further away.
    """
    least: dict[str, float] = {}
    for mesh in scene.meshes:
        material = scene.materials[mesh.material]
        if material.textures and len(mesh.corners):
            own = _least(scene.camera, width, height, mesh, material)
            if own is not None:
                least[material.name] = min(own, least.get(material.name, np.inf))

    return least


def _least(camera: Camera, width: int, height: int, mesh: Mesh, material: Material) -> float | None:
    corners = mesh.corners[:: max(1, len(mesh.corners) // MOST_LOOKED_AT)]
    points = mesh.positions[corners].astype(np.float64)
    seen = _in_view(camera, width, height, points)

    if not seen.any():
        return None

    corners = corners[seen]
    points = points[seen]
    angle, across = pixel_cone(camera, height)
    pixel = 2 * (across + angle * _distances(points, np.asarray(camera.position, float)))
    a = points[:, 0]
    b = points[:, 1]
    c = points[:, 2]
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    finest = np.zeros(len(points))

    for use in material.textures.values():
        uvs = mesh.second_uvs if use.uv_set else mesh.uvs
        if len(uvs):
            scaled = (
                uvs[corners].astype(float)
                @ np.asarray(use.transform, float)[:, :2].T
                * use.texture.size
            )
            ab = scaled[:, 1] - scaled[:, 0]
            ac = scaled[:, 2] - scaled[:, 0]
            texels = np.abs(ab[:, 0] * ac[:, 1] - ab[:, 1] * ac[:, 0])
            finest = np.maximum(finest, np.sqrt(texels / np.maximum(area, 1e-20)))

    shown = (area > 1e-20) & (finest > 0)
    return float((finest * pixel)[shown].min()) if shown.any() else None


def _in_view(camera: Camera, width: int, height: int, points: np.ndarray) -> np.ndarray:
    """bool[t]: which triangles are not wholly beyond one side of what the camera sees."""
    lens = compile_camera(camera, width, height, motion=False)[0]
    origin, right, up, forward = (
        lens[name][0].astype(float) for name in ("origin", "right", "up", "forward")
    )
    offset = points - origin
    depth = offset @ forward
    x = offset @ right / (right @ right)
    y = offset @ up / (up @ up)
    edge = depth if camera.half_height is None else np.ones_like(depth)

    return ~np.logical_or.reduce(
        [side.all(axis=1) for side in (depth <= 0, x > edge, x < -edge, y > edge, y < -edge)]
    )


def _distances(points: np.ndarray, eye: np.ndarray) -> np.ndarray:
    """From a point to each triangle, float64[t, 3, 3] (Ericson 2005, Real-Time Collision Detection,
    5.1.5: to the plane where the point is above the triangle, else to the nearest edge)."""
    a = points[:, 0]
    b = points[:, 1]
    c = points[:, 2]
    normal = np.cross(b - a, c - a)
    above = np.ones(len(points), bool)
    nearest = np.full(len(points), np.inf)

    for start, end in ((a, b), (b, c), (c, a)):
        edge = end - start
        offset = eye - start
        above &= np.einsum("ij,ij->i", np.cross(edge, offset), normal) >= 0
        along = np.einsum("ij,ij->i", offset, edge) / np.maximum(
            np.einsum("ij,ij->i", edge, edge), 1e-30
        )
        nearest = np.minimum(
            nearest, np.linalg.norm(offset - np.clip(along, 0, 1)[:, None] * edge, axis=1)
        )

    size = np.linalg.norm(normal, axis=1)
    height = np.abs(np.einsum("ij,ij->i", eye - a, normal)) / np.maximum(size, 1e-30)
    return np.where(above & (size > 1e-20), height, nearest)

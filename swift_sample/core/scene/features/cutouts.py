"""Cut-outs as geometry: triangles are cut along the outline of a mask, so that no ray has to read
the mask any more.

The outline is where the texture's alpha, between texels, crosses the cut-off (marching squares),
simplified by ERROR_TEXELS at most. What a texture cuts out of triangles that show the same part of
it is found once, and kept on disk by its content.
"""

import hashlib
import time
from collections.abc import Callable
from dataclasses import fields, replace
from pathlib import Path

import numpy as np

from swift_sample.core.budget import TRIANGLES, over
from swift_sample.core.errors import SceneError, one_line
from swift_sample.core.files import written_whole
from swift_sample.core.kernels.cache import cache_root
from swift_sample.core.scene.features.outlines import ERROR_TEXELS, Pieces, cut
from swift_sample.core.scene.model import CLAMP, MIRROR, OPAQUE, Material, Mesh, Scene, TextureUse

VERSION = 1


def as_geometry(scene: Scene, is_cut: Callable[[Material], bool]) -> Scene:
    """The scene with the cut-outs of these materials as geometry, and a note for each that says
    what became of it.

    Raises SceneError where the outline is too long for that.
    """
    meshes = []
    notes = list(scene.notes)
    added = 0
    told: dict[str, list[float]] = {}

    for mesh in scene.meshes:
        material = scene.materials[mesh.material]
        if is_cut(material):
            made, seconds = cut_out(mesh, material)
            before, after, took = told.get(material.name, [0, 0, 0.0])
            told[material.name] = [
                before + len(mesh.corners),
                after + len(made.corners),
                max(took, seconds),
            ]
            added += len(made.corners) - len(mesh.corners)
            mesh = made

        meshes.append(mesh)
        words = over(scene.triangle_count + added, TRIANGLES, "triangles")
        if words:
            raise SceneError(
                f"{material.name}: with cut-outs as geometry the scene {words}; keep the mask"
            )

    for name, (before, after, took) in told.items():
        notes.append(
            f"{name}: its cut-outs are geometry, {after:,.0f} triangles in place of "
            f"{before:,.0f}; cut in {took:.2g} s, once"
        )

    materials = [
        replace(m, opacity_mode=OPAQUE, opacity=1.0) if is_cut(m) else m for m in scene.materials
    ]
    return replace(scene, meshes=meshes, materials=materials, notes=notes)


def cut_out(mesh: Mesh, material: Material) -> tuple[Mesh, float]:
    """What the material's mask leaves of a mesh, and the seconds that cutting took when it was
    done. Raises SceneError."""
    use = material.textures.get("base")
    if len(mesh.colours) and mesh.colours[:, 3].min() < 1:
        raise SceneError(
            f"{material.name}: colours of corners are see-through as well, which no outline "
            "follows; keep the mask"
        )

    uvs = (mesh.second_uvs if use.uv_set else mesh.uvs) if use is not None else mesh.uvs
    if use is None or not len(uvs):
        alpha = 1.0 if use is None else float(use.texture.pixels[0, 0, 3]) / 255
        kept = material.opacity * alpha >= material.opacity_cutoff
        return (mesh if kept else replace(mesh, corners=mesh.corners[:0])), 0.0

    shown, same = _texels_shown(use, uvs[mesh.corners])
    return _assembled(mesh, _pieces(use, material, shown), same)


def _texels_shown(use: TextureUse, uvs: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which part of the texture each triangle shows, in texels, those that show the same once:
    float64[u, 3, 2], and for every triangle which of them it is. uvs: float[t, 3, 2]."""
    transform = np.asarray(use.transform, float)
    places = uvs.astype(float) @ transform[:, :2].T + transform[:, 2]

    for axis, wrap in enumerate(use.texture.wrap):
        if wrap == CLAMP:
            period = 0
        elif wrap == MIRROR:
            period = 2
        else:
            period = 1

        if period:
            places[..., axis] -= (
                period * np.floor(places[..., axis].min(axis=1) / period + 1e-6)[:, None]
            )

    texels = np.round(places * use.texture.size, 3)
    unique, same = np.unique(texels.reshape(-1, 6), axis=0, return_inverse=True)
    return unique.reshape(-1, 3, 2), same.ravel()


def cutouts_folder() -> Path:
    return cache_root() / "cutouts"


def _pieces(use: TextureUse, material: Material, shown: np.ndarray) -> Pieces:
    """From the disk where the same was cut before."""
    level = material.opacity_cutoff / max(material.opacity, 1e-6)
    text = f"{VERSION} {ERROR_TEXELS} {use.texture.key} {use.texture.wrap} {level:.6f}"
    path = (
        cutouts_folder() / f"{hashlib.sha256(text.encode() + shown.tobytes()).hexdigest()[:24]}.npz"
    )

    try:
        with np.load(path, allow_pickle=False) as found:
            return Pieces(*(found[field.name] for field in fields(Pieces)))
    except (OSError, ValueError, EOFError, KeyError):
        pass  # missing or damaged: made below

    started = time.perf_counter()
    made = cut(use, level, shown, material.name)
    made = replace(made, seconds=np.asarray(time.perf_counter() - started))

    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with written_whole(path) as temporary, temporary.open("wb") as stream:
            np.savez(stream, **{field.name: getattr(made, field.name) for field in fields(Pieces)})
    except OSError as error:
        raise SceneError(
            f"{path.parent}: cut-outs cannot be written ({one_line(error)}); free some space, or "
            "clear it with `swift-sample check --clear cutouts`"
        ) from error

    return made


def _assembled(mesh: Mesh, pieces: Pieces, same: np.ndarray) -> tuple[Mesh, float]:
    """The mesh of what is left of each of its triangles, which shows the part `same` of the
    texture."""
    weights_of = _spread(pieces.weights_each, same)
    triangles_of = _spread(pieces.corners_each, same)
    of_vertex = np.repeat(np.arange(len(same)), pieces.weights_each[same])
    of_triangle = pieces.corners_each[same]
    weights = pieces.weights[weights_of]
    own = mesh.corners[of_vertex]
    first = np.cumsum(pieces.weights_each[same]) - pieces.weights_each[same]
    corners = pieces.corners[triangles_of] + np.repeat(first, of_triangle)[:, None]

    def mixed(values: np.ndarray) -> np.ndarray:
        if not len(values):
            return values
        made: np.ndarray = sum(values[own[:, k]] * weights[:, k, None] for k in range(3))
        return made

    normals = mixed(mesh.normals)
    normals = (
        normals / np.maximum(np.linalg.norm(normals, axis=-1, keepdims=True), 1e-12)
        if len(normals)
        else normals
    )

    made = replace(
        mesh,
        positions=mixed(mesh.positions),
        corners=corners.astype(np.int32),
        normals=normals.astype(np.float32),
        uvs=mixed(mesh.uvs),
        second_uvs=mixed(mesh.second_uvs),
        colours=mixed(mesh.colours),
        motion=mixed(mesh.motion),
    )
    return made, float(pieces.seconds)


def _spread(each: np.ndarray, same: np.ndarray) -> np.ndarray:
    """Places in a list that has `each` entries for every part, of the entries of all parts in
    `same`, one after another."""
    first = np.cumsum(each) - each
    counts = each[same]
    return (
        np.arange(counts.sum())
        - np.repeat(np.cumsum(counts) - counts, counts)
        + np.repeat(first[same], counts)
    )

"""Scenes of the kinds that artists drop: made here, small, and with what was found to go wrong on
such scenes."""

from pathlib import Path

import numpy as np
import trimesh
from PIL import Image
from trimesh.visual import TextureVisuals
from trimesh.visual.material import PBRMaterial


def _painted(mesh: trimesh.Trimesh, material: PBRMaterial) -> trimesh.Trimesh:
    """The mesh in a material, with texture coordinates around it."""
    around = mesh.vertices - mesh.vertices.mean(axis=0)
    turn = np.arctan2(around[:, 0], around[:, 2]) / (2 * np.pi) + 0.5
    height = (around[:, 1] - around[:, 1].min()) / max(float(np.ptp(around[:, 1])), 1e-6)
    mesh.visual = TextureVisuals(uv=np.column_stack([turn, height]), material=material)

    return mesh


def _at(mesh: trimesh.Trimesh, x: float, y: float, z: float) -> trimesh.Trimesh:
    mesh.apply_translation((x, y, z))
    return mesh


def _saved(folder: Path, name: str, parts: list[trimesh.Trimesh]) -> Path:
    scene = trimesh.Scene()
    for number, part in enumerate(parts):
        scene.add_geometry(part, node_name=f"part {number}", geom_name=f"part {number}")

    path = folder / name
    scene.export(path)
    return path


def remote_control(folder: Path) -> Path:
    """Glows a little: nine signs that light nothing, no lamp, no sky (U3)."""
    grey = PBRMaterial(
        baseColorFactor=(0.35, 0.35, 0.38, 1.0), roughnessFactor=0.5, metallicFactor=0.0
    )
    sign = PBRMaterial(
        baseColorFactor=(0, 0, 0, 1.0),
        emissiveFactor=(0.1, 0.4, 0.15),
        roughnessFactor=1.0,
        metallicFactor=0.0,
    )
    body = _painted(trimesh.creation.capsule(height=1.6, radius=0.35, count=(24, 24)), grey)
    keys = [
        _painted(
            _at(trimesh.creation.box((0.05, 0.05, 0.02)), 0.15 * (k % 3 - 1), 0.36, 0.3 * (k // 3)),
            sign,
        )
        for k in range(9)
    ]

    return _saved(folder, "remote.glb", [body, *keys])


def bare_bust(folder: Path) -> Path:
    """Nothing but a shape: no camera, no light, one plain material."""
    plain = PBRMaterial(
        baseColorFactor=(0.7, 0.62, 0.5, 1.0), roughnessFactor=0.8, metallicFactor=0.0
    )
    head = trimesh.creation.icosphere(3, 0.5)
    neck = _at(trimesh.creation.cylinder(0.2, 0.6, sections=32), 0, 0, -0.7)

    return _saved(folder, "bust.glb", [_painted(head, plain), _painted(neck, plain)])


def plaque(folder: Path, pixels: int = 2048) -> Path:
    """A few triangles with large pictures on them: most of a render goes into reading and
    converting those (U6)."""
    rng = np.random.default_rng(4)
    coarse = rng.integers(60, 220, (pixels // 16, pixels // 16, 3), np.uint8)
    picture = Image.fromarray(np.kron(coarse, np.ones((16, 16, 1), np.uint8)))
    rough = Image.fromarray(np.kron(coarse, np.ones((16, 16, 1), np.uint8))[::-1].copy())
    stone = PBRMaterial(
        baseColorTexture=picture,
        metallicRoughnessTexture=rough,
        roughnessFactor=1.0,
        metallicFactor=0.0,
    )

    return _saved(folder, "plaque.glb", [_painted(trimesh.creation.box((1.6, 1.0, 0.1)), stone)])


def lantern(folder: Path) -> Path:
    """A small bright lamp between shiny walls: genuine fireflies, since light finds it by chance
    (U4)."""
    wall = PBRMaterial(
        baseColorFactor=(0.6, 0.6, 0.62, 1.0), roughnessFactor=0.15, metallicFactor=0.9
    )
    floor = PBRMaterial(
        baseColorFactor=(0.5, 0.4, 0.35, 1.0), roughnessFactor=0.9, metallicFactor=0.0
    )
    lamp = PBRMaterial(
        baseColorFactor=(0, 0, 0, 1.0),
        emissiveFactor=(1.0, 0.9, 0.7),
        roughnessFactor=1.0,
        metallicFactor=0.0,
    )

    parts = [
        _painted(_at(trimesh.creation.box((3.0, 0.1, 3.0)), 0, -0.6, 0), floor),
        _painted(_at(trimesh.creation.box((3.0, 2.0, 0.1)), 0, 0.4, -1.2), wall),
        _painted(_at(trimesh.creation.icosphere(3, 0.4), -0.5, -0.15, 0.1), wall),
        _painted(_at(trimesh.creation.icosphere(2, 0.15), 0.7, 0.6, 0.2), lamp),
    ]
    return _saved(folder, "lantern.glb", parts)

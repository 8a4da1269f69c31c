"""What the demo scenes share: how finely they are built, and jars of honey."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from swift_sample.core.scene import honey_textures as textures
from swift_sample.core.scene.model import (
    MEDIUM_PRIORITY_CONTENT,
    MEDIUM_PRIORITY_WALL,
    Colour,
    Material,
    Mesh,
    repeated,
)
from swift_sample.core.scene.shapes import joined, lathe, placed, sheet

SEED = 7
WALL = 0.003
"""Thickness of the jars' glass in metres."""


@dataclass(frozen=True, kw_only=True)
class Detail:
    """How finely the scene is built."""

    segments: int
    cloth: int
    ribs: int
    texture: int
    sky: int
    nuts: int
    smoke: int


SIZES = {
    "small": Detail(segments=24, cloth=40, ribs=8, texture=128, sky=64, nuts=8, smoke=10),
    "standard": Detail(segments=56, cloth=140, ribs=24, texture=256, sky=256, nuts=26, smoke=28),
    "heavy": Detail(segments=112, cloth=420, ribs=48, texture=2048, sky=1024, nuts=2000, smoke=64),
}


class Builder:
    """Collects materials and meshes."""

    def __init__(self, detail: Detail) -> None:
        self.detail = detail
        self.rng = np.random.default_rng(SEED)
        self.materials: list[Material] = []
        self.meshes: list[Mesh] = []

    def material(self, material: Material) -> int:
        self.materials.append(material)
        return len(self.materials) - 1

    def add(self, *meshes: Mesh) -> None:
        self.meshes.extend(meshes)


def jar(
    b: Builder,
    materials: dict[str, int],
    at: tuple[float, float, float],
    radius: float,
    height: float,
    fill: float,
    turn: float,
) -> None:
    r = radius
    h = height
    steps = max(3, b.detail.segments // 16)

    outer = [
        (0.0, 0.0),
        (0.6 * r, 0.0),
        (0.93 * r, 0.001),
        (r, 0.008),
        (r, 0.05),
        (r, 0.72 * h),
        (0.985 * r, 0.79 * h),
        (0.86 * r, 0.87 * h),
        (0.80 * r, 0.90 * h),
        (0.80 * r, 0.97 * h),
        (0.795 * r, h),
    ]
    inner = [
        (0.75 * r, h),
        (0.745 * r, 0.97 * h),
        (0.745 * r, 0.90 * h),
        (0.80 * r, 0.86 * h),
        (0.985 * r - WALL, 0.77 * h),
        (r - WALL, 0.71 * h),
        (r - WALL, 0.05),
        (r - WALL, 0.012),
        (0.9 * r - WALL, 0.0055),
        (0.55 * r, 0.005),
        (0.0, 0.005),
    ]

    glass = lathe("jar", materials["glass"], outer + inner, b.detail.segments, steps)
    grow = 0.001

    body = [
        (0.0, 0.005 - grow),
        (0.55 * r, 0.005 - grow),
        (0.9 * r - WALL, 0.0055 - grow),
        (r - WALL + grow, 0.012),
        (r - WALL + grow, 0.05),
        (r - WALL + grow, fill * h - 0.0005),
    ]
    honey = joined(
        "honey",
        [
            lathe("honey", materials["honey"], body, b.detail.segments, steps),
            lathe(
                "honey",
                materials["honey"],
                [(r - WALL + grow, fill * h - 0.0005), (0.0, fill * h)],
                b.detail.segments,
            ),
        ],
    )

    lid_low = 0.925 * h
    lid_high = 1.02 * h
    lid_r = 0.86 * r

    lid = lathe(
        "lid",
        materials["lid"],
        [
            (lid_r - 0.001, lid_low),
            (lid_r, lid_low + 0.001),
            (lid_r, lid_high - 0.002),
            (lid_r - 0.002, lid_high),
            (0.9 * lid_r - 0.002, lid_high),
            (0.88 * lid_r - 0.002, lid_high - 0.0012),
            (0.0, lid_high - 0.0012),
        ],
        b.detail.segments,
    )
    under = lathe(
        "lid", materials["lid"], [(0.0, 1.001 * h), (0.78 * r, 1.001 * h)], b.detail.segments
    )
    under.corners = under.corners[:, ::-1].copy()
    under.normals = -under.normals

    def paper(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        angle = 1.9 * (u - 0.5) - np.pi / 2
        reach = r + 0.0005
        return reach * np.cos(angle), 0.20 * h + 0.40 * h * v, -reach * np.sin(angle)

    label = sheet("label", materials["label"], b.detail.segments // 2, 1, paper)
    for mesh in (glass, honey, lid, under, label):
        b.add(placed(mesh, at, turn))


def jar_materials(b: Builder) -> Callable[[str, Colour], dict[str, int]]:
    """Glass, lid and label of all jars; what is returned makes the materials of a jar with a honey
    of this absorption."""
    clear = b.material(
        Material(
            name="jar glass",
            base_colour=(1, 1, 1),
            roughness=0.0,
            ior=1.5,
            transmission=1.0,
            absorption=(1.2, 0.5, 0.9),
            priority=MEDIUM_PRIORITY_WALL,
        )
    )
    lid = b.material(
        Material(name="brass lid", base_colour=(0.83, 0.62, 0.30), metallic=1.0, roughness=0.24)
    )

    label = b.material(
        Material(
            name="paper label",
            roughness=0.7,
            textures={"base": repeated(textures.label_texture(14, b.detail.texture // 2), 1, -1)},
        )
    )

    def honey(name: str, absorption: Colour) -> dict[str, int]:
        liquid = b.material(
            Material(
                name=name,
                base_colour=(1, 1, 1),
                roughness=0.0,
                ior=1.49,
                transmission=1.0,
                absorption=absorption,
                priority=MEDIUM_PRIORITY_CONTENT,
            )
        )
        return {"glass": clear, "honey": liquid, "lid": lid, "label": label}

    return honey

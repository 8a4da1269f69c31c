"""Cut-outs as geometry: the surface that is left, its outline, and what is refused."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.errors import SceneError
from swift_sample.core.scene.features import cutouts, with_changes
from swift_sample.core.scene.features.cutouts import cut_out
from swift_sample.core.scene.features.outlines import ERROR_TEXELS
from swift_sample.core.scene.model import (
    CLAMP,
    MASK,
    MIRROR,
    OPAQUE,
    REPEAT,
    Material,
    Mesh,
    Texture,
    TextureUse,
)
from swift_sample.core.scene.open import open_scene

SIDE = 64
RADIUS = 0.3
EMPTY = open_scene("honey-jar")


@pytest.fixture(autouse=True)
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Where cut-outs are kept, empty at first."""
    monkeypatch.setattr(cutouts, "cutouts_folder", lambda: tmp_path / "cutouts")
    return tmp_path / "cutouts"


def disc(wrap: tuple[int, int] = (REPEAT, REPEAT)) -> Material:
    """A disc of RADIUS in the middle of a picture, with an edge that is a few texels soft."""
    y, x = np.mgrid[0:SIDE, 0:SIDE] + 0.5
    distance = np.hypot(x - SIDE / 2, y - SIDE / 2)
    pixels = np.full((SIDE, SIDE, 4), 255, np.uint8)
    pixels[..., 3] = np.clip(128 + 40 * (RADIUS * SIDE - distance), 0, 255)

    return Material(
        name="leaf",
        opacity_mode=MASK,
        textures={"base": TextureUse(Texture("disc", pixels, wrap=wrap))},
    )


def square(turns: float = 1.0, first: float = 0.0) -> Mesh:
    """One square metre that shows `turns` pictures along each side."""
    corners = np.array([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]], np.float32)
    uvs = (corners[:, [0, 2]] * turns + first).astype(np.float32)
    normals = np.broadcast_to(np.array([0, -1, 0], np.float32), (4, 3)).copy()

    return Mesh(
        name="leaf",
        material=0,
        positions=corners,
        corners=np.array([[0, 1, 2], [0, 2, 3]], np.int32),
        normals=normals,
        uvs=uvs,
    )


def area(mesh: Mesh) -> float:
    a, b, c = (mesh.positions[mesh.corners[:, k]].astype(float) for k in range(3))
    crossed = np.cross(b - a, c - a)
    if len(mesh.corners):
        assert (crossed[:, 1] < 0).all(), "all triangles keep the side that they face"

    return float(np.linalg.norm(crossed, axis=1).sum() / 2)


@pytest.mark.parametrize(
    ("turns", "first"), [(1.0, 0.0), (3.0, 0.0), (2.0, 0.5), (0.5, 0.25), (1.0, -7.0)]
)
@pytest.mark.parametrize("wrap", [REPEAT, MIRROR])
def test_what_is_left_has_the_area_of_the_mask(turns: float, first: float, wrap: int) -> None:
    """A disc in every picture; its outline may be off by the stated error all around."""
    made, _ = cut_out(square(turns, first), disc((wrap, wrap)))
    if turns == 0.5:  # the middle quarter of the picture
        ends = 0.25
        x, y = np.meshgrid(np.linspace(-ends, ends, 2001), np.linspace(-ends, ends, 2001))
        wanted = float((np.hypot(x, y) < RADIUS).mean())
    else:
        wanted = np.pi * RADIUS**2

    off = 2 * np.pi * RADIUS * ERROR_TEXELS / SIDE
    assert area(made) == pytest.approx(wanted, abs=off)
    inside = made.uvs[made.corners].mean(axis=1)
    place = np.abs(np.mod(inside, 1) - 0.5)
    assert np.hypot(place[:, 0], place[:, 1]).max() < RADIUS + ERROR_TEXELS / SIDE
    assert np.abs(made.uvs - (made.positions[:, [0, 2]] * turns + first)).max() < 1e-4, (
        "corners show what was there"
    )
    assert made.normals[:, 1] == pytest.approx(-1.0, abs=1e-5)


def test_beyond_a_clamped_picture_its_edge_goes_on() -> None:
    half = np.full((8, 8, 4), 255, np.uint8)
    half[:, 4:, 3] = 0
    use = TextureUse(Texture("half", half, wrap=(CLAMP, CLAMP)))
    made, _ = cut_out(
        square(4.0, -1.0), Material(name="leaf", opacity_mode=MASK, textures={"base": use})
    )
    assert area(made) == pytest.approx(1.5 / 4, abs=0.02), "all that lies left of the middle"


def test_many_leaves_are_cut_once_and_kept_by_content(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    leaf = square()
    count = 200
    positions = np.concatenate([leaf.positions + (0, k, 0) for k in range(count)]).astype(
        np.float32
    )
    corners = np.concatenate([leaf.corners + 4 * k for k in range(count)])

    tree = replace(
        leaf,
        positions=positions,
        corners=corners,
        uvs=np.tile(leaf.uvs, (count, 1)),
        normals=np.tile(leaf.normals, (count, 1)),
    )
    one, _ = cut_out(leaf, disc())

    with monkeypatch.context() as known:
        known.setattr(cutouts, "cut", lambda *_: pytest.fail("what is known is not cut again"))
        all_of_them, seconds = cut_out(tree, disc())

    assert len(all_of_them.corners) == count * len(one.corners)
    assert area(all_of_them) == pytest.approx(count * area(one), rel=1e-5)
    assert seconds > 0, "it is told how long that took when it was done"
    for file in folder.iterdir():
        file.write_bytes(b"damaged")

    assert np.array_equal(cut_out(leaf, disc())[0].corners, one.corners)


def test_the_feature_makes_an_opaque_material_and_says_what_became_of_it() -> None:
    scene = replace(EMPTY, materials=[disc()], meshes=[square(), replace(square(), name="other")])
    made = with_changes(scene, {"feature.leaf.cutout": "geometry"})
    assert made.materials[0].opacity_mode == OPAQUE
    assert all(area(mesh) == pytest.approx(np.pi * RADIUS**2, rel=0.05) for mesh in made.meshes)
    (note,) = made.notes[len(scene.notes) :]
    assert note.startswith(
        f"leaf: its cut-outs are geometry, {made.triangle_count:,} triangles in place of 4; cut in "
    )
    assert scene.materials[0].opacity_mode == MASK


def test_what_has_no_outline_is_all_there_or_not_at_all() -> None:
    for opacity, triangles in ((1.0, 2), (0.3, 0)):
        plain = Material(name="leaf", opacity=opacity, opacity_mode=MASK)
        assert len(cut_out(square(), plain)[0].corners) == triangles

    flat = square(0.0, 0.5)
    assert len(cut_out(flat, disc())[0].corners) == 2, "both triangles show one texel of the middle"
    assert len(cut_out(square(0.0, 0.05), disc())[0].corners) == 0


def test_noise_and_see_through_corners_are_refused_with_the_reason() -> None:
    noise = np.random.default_rng(1).integers(0, 256, (1024, 1024, 4), np.uint8)
    material = Material(
        name="moss", opacity_mode=MASK, textures={"base": TextureUse(Texture("noise", noise))}
    )

    with pytest.raises(
        SceneError,
        match=r"moss: the outline of its mask runs through 1,0\d\d,\d\d\d texels, at most 400,000",
    ):
        cut_out(square(), material)

    with pytest.raises(SceneError, match="its mask is repeated"):
        cut_out(square(2000.0), disc())

    colours = np.full((4, 4), 0.5, np.float32)
    with pytest.raises(SceneError, match="colours of corners are see-through"):
        cut_out(replace(square(), colours=colours), disc())

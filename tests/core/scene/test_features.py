"""What materials have, and what a scene is without it."""

from dataclasses import replace
from itertools import product

import numpy as np
import pytest

from swift_sample.core.picture.colour import srgb_decoded
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.scene.features import AS_IS, BY_WHAT, KINDS, features_of, with_changes
from swift_sample.core.scene.model import (
    BLEND,
    MASK,
    OPAQUE,
    Displacement,
    Material,
    Mesh,
    Subsurface,
    Texture,
    TextureUse,
)
from swift_sample.core.scene.open import open_scene
from swift_sample.core.scene.shapes import ball

SCENE = "honey-stall-small"
STALL = open_scene(SCENE)


def test_every_feature_that_is_found_is_gone_with_its_cheapest_value() -> None:
    found = features_of(STALL)
    assert {
        "feature.jar_glass.transmission",
        "feature.beeswax.subsurface",
        "feature.burlap.displacement",
    } <= {f.key for f in found}

    for feature in found:
        without = with_changes(STALL, {feature.key: feature.kind.values[-1]})
        left = {f.key for f in features_of(without)}
        assert feature.key not in left or feature.kind.what == "frosting"
        others = [m for m in without.materials if m.name != feature.owner]
        assert others == [m for m in STALL.materials if m.name != feature.owner], (
            "no other material changes"
        )


def test_the_scene_itself_is_never_changed() -> None:
    before = [replace(material) for material in STALL.materials]
    with_changes(STALL, {feature.key: feature.kind.values[-1] for feature in features_of(STALL)})
    assert STALL.materials == before
    assert with_changes(STALL, {}) is STALL
    assert with_changes(STALL, {"feature.jar_glass.transmission": AS_IS}) is STALL
    same = with_changes(
        STALL,
        {"feature.of_another_scene.coat": "off", "feature.jar_glass.transmission": "no such value"},
    )
    assert same.materials == STALL.materials


def test_alpha_becomes_a_mask_or_opaque() -> None:
    leaf = Material(name="leaf", opacity=0.4, opacity_mode=BLEND)
    scene = replace(STALL, materials=[leaf], meshes=[replace(STALL.meshes[0], material=0)])
    assert BY_WHAT["alpha"].applied(scene, "leaf", "mask").materials[0].opacity_mode == MASK
    (opaque,) = BY_WHAT["alpha"].applied(scene, "leaf", "opaque").materials
    assert (opaque.opacity_mode, opaque.opacity) == (OPAQUE, 1.0)


def test_materials_without_names_or_with_equal_ones_have_keys_of_their_own() -> None:
    materials = [
        Material(name=name, coat=1.0)
        for name in ("", "Gläser!", "glaser", "gl-ser", "gl ser", "coat")
    ]
    mesh = STALL.meshes[0]
    scene = replace(
        STALL,
        materials=materials,
        meshes=[replace(mesh, material=k) for k in range(len(materials))],
    )
    keys = [feature.key for feature in features_of(scene) if feature.kind.what == "coat"]
    assert len(set(keys)) == len(materials)
    assert "feature.unnamed.coat" in keys
    twice = replace(
        scene,
        materials=[Material(name="jar", coat=1.0), Material(name="jar", coat=0.5)],
        meshes=scene.meshes[:2],
    )
    (coat,) = [feature for feature in features_of(twice) if feature.kind.what == "coat"]
    assert [m.coat for m in with_changes(twice, {coat.key: "off"}).materials] == [0.0, 0.0], (
        "one name, one feature"
    )


@pytest.mark.parametrize("albedo", [0.5, 0.9, 0.99])
def test_a_matt_surface_has_the_colour_that_comes_back_from_below(
    albedo: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A thick slab under an even sky, rendered both ways: means of 96 x 96 samples agree within a
    tenth."""
    below = Subsurface((0.002,) * 3, (albedo,) * 3)
    wax = Material(
        name="wax", base_colour=(1.0, 1.0, 1.0), subsurface=below, specular=0.0, roughness=1.0
    )
    seen = []
    block = replace(_slab(), materials=[wax])

    for scene in (block, with_changes(block, {"feature.wax.subsurface": "matt"})):
        monkeypatch.setattr(
            "swift_sample.core.renderers.builtin.pipeline.open_scene",
            lambda name, choices, s=scene: s,
        )
        settings = {"samples.max": 32, "bounces.total": 64, "device.threads": 2}
        picture, _ = run_render(
            RenderSpec(scene=SCENE, size=(12, 12), settings=settings, seed=1), SceneCache(), None
        )
        seen.append(float(picture.beauty[4:8, 4:8].mean()))

    assert seen[1] == pytest.approx(seen[0], rel=0.1)


def _slab():
    """A block a thousand paths thick, seen from above, under a white sky."""
    sides = ((-5.0, 5.0), (-4.0, 0.0), (-5.0, 5.0))
    corners = np.array(list(product(*sides)), np.float32)
    faces = [
        (0, 1, 3),
        (0, 3, 2),
        (4, 6, 7),
        (4, 7, 5),
        (0, 4, 5),
        (0, 5, 1),
        (2, 3, 7),
        (2, 7, 6),
        (0, 2, 6),
        (0, 6, 4),
    ]
    faces += [(1, 5, 7), (1, 7, 3)]
    mesh = Mesh(name="slab", material=0, positions=corners, corners=np.array(faces, np.int32))
    camera = replace(
        STALL.camera,
        position=(0.0, 3.0, 0.01),
        target=(0.0, 0.0, 0.0),
        aperture=0.0,
        half_height=None,
        closing=None,
    )
    sky = replace(STALL.environment, pixels=np.ones((1, 1, 3), np.float32))

    return replace(STALL, meshes=[mesh], lights=[], haze=None, environment=sky, camera=camera)


def test_features_are_settings_named_after_the_artists_materials() -> None:
    settings = {setting.key: setting for setting in RENDERER.scene_settings(SCENE)}
    glass = settings["feature.jar_glass.transmission"]
    assert glass.label == "jar glass: light through it"
    assert (glass.group, glass.values, glass.default) == ("Materials", ("as is", "off"), "as is")
    assert {key.rpartition(".")[2] for key in settings} <= {kind.what for kind in KINDS}
    cache = SceneCache()
    pictures = []
    base = {"samples.max": 2, "device.threads": 1, "scene.keep_built": True}

    for changes in ({}, {glass.key: "off"}, {}):
        spec = RenderSpec(scene=SCENE, size=(32, 18), settings=base, seed=1, changes=changes)
        picture, record = run_render(spec, cache, None)
        pictures.append(picture.beauty)
        assert record.changes == changes

    assert not np.array_equal(pictures[0], pictures[1])
    assert np.array_equal(pictures[0], pictures[2]), "a kept scene is never taken for another one"


def test_a_lamp_of_the_same_power_brings_the_same_irradiance() -> None:
    """A small sphere of radius r and radiance L lights a place at distance d with pi L (r / d)^2;
    so does the lamp."""
    radius = 0.1
    radiance = 7.0
    sphere = ball("bulb", 0, radius, 64)
    sphere = replace(sphere, positions=sphere.positions + np.array([1, 2, 3], np.float32))
    scene = replace(
        STALL,
        materials=[Material(name="glow", emission=(radiance,) * 3)],
        meshes=[sphere],
        lights=[],
    )
    lit = with_changes(scene, {"feature.glow.emission": "lamp"})
    (lamp,) = lit.lights
    assert lit.meshes == []
    assert lamp.position == pytest.approx((1.0, 2.0, 3.0), abs=1e-3)
    assert lamp.colour[0] == pytest.approx(np.pi * radiance * radius**2, rel=0.01)


def test_textures_get_smaller_and_keep_their_mean() -> None:
    (wood,) = [m for m in STALL.materials if m.name == "oiled wood"]
    texture = wood.textures["base"].texture

    def light(pixels: np.ndarray) -> np.ndarray:
        return srgb_decoded(pixels[..., :3] / 255).mean(axis=(0, 1))

    for value, sides in (("half size", 2), ("quarter size", 4)):
        changed = with_changes(STALL, {"feature.oiled_wood.textures": value})
        smaller = (
            next(m for m in changed.materials if m.name == "oiled wood").textures["base"].texture
        )
        assert smaller.size == (texture.size[0] // sides, texture.size[1] // sides)
        assert light(smaller.pixels) == pytest.approx(light(texture.pixels), rel=0.01)

    plain = next(
        m
        for m in with_changes(STALL, {"feature.oiled_wood.textures": "mean colour"}).materials
        if m.name == "oiled wood"
    )
    assert "base" not in plain.textures
    assert plain.base_colour == pytest.approx(light(texture.pixels) * wood.base_colour, rel=1e-3)


def test_bumps_have_the_slopes_of_the_moved_surface() -> None:
    """A ramp that rises a tenth of a metre over one metre: its normal leans by a tenth."""
    ramp = np.zeros((8, 64, 4), np.uint8)
    ramp[..., 0] = np.arange(64) * 4
    use = TextureUse(Texture("ramp", ramp, srgb=False))
    material = Material(name="cloth", displacement=Displacement(use, 0.1 * 255 / 252))
    corners = np.array([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]], np.float32)
    uvs = np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    sheet = Mesh(
        name="sheet",
        material=0,
        positions=corners,
        corners=np.array([[0, 1, 2], [0, 2, 3]], np.int32),
        uvs=uvs.astype(np.float32),
    )
    scene = replace(STALL, materials=[material], meshes=[sheet])
    (bumpy,) = with_changes(scene, {"feature.cloth.displacement": "bump"}).materials
    assert bumpy.displacement is None
    normal = bumpy.textures["normal"].texture.pixels[4, 32, :3] / 255 * 2 - 1
    assert -normal[0] / normal[2] == pytest.approx(0.1, abs=0.01)
    assert abs(normal[1]) < 0.01


def test_alpha_that_never_cuts_is_told_without_a_render() -> None:
    opaque = np.full((4, 4, 4), 255, np.uint8)
    holed = np.full((4, 4, 4), 255, np.uint8)
    holed[0, 0, 3] = 0

    for pixels, told in ((opaque, True), (holed, False)):
        leaf = Material(
            name="leaf", opacity_mode=MASK, textures={"base": TextureUse(Texture("leaf", pixels))}
        )
        scene = replace(STALL, materials=[leaf], meshes=[replace(STALL.meshes[0], material=0)])
        (cutout,) = [feature for feature in features_of(scene) if feature.kind.what == "cutout"]
        assert ("nothing of it is see-through" in cutout.kind.remark(scene, "leaf")) == told

"""Cheaper values of features of a scene, rendered, against closed forms. Tolerances are four
standard errors, so a false alarm is rare."""

import math
from dataclasses import replace

import numpy as np
import pytest

from swift_sample.core.renderers.builtin.tables.detail import texels_a_pixel
from swift_sample.core.scene.features import with_changes
from swift_sample.core.scene.model import (
    DIRECTIONAL,
    MASK,
    POINT,
    Camera,
    Environment,
    Haze,
    Light,
    Material,
    Scene,
    TextureUse,
)
from swift_sample.core.scene.shapes import ball
from tests.core.renderers.builtin.kernels.scenes import checker, floor, quad, sky, take

GREY = Material(name="grey", base_colour=(0.5, 0.5, 0.5), ior=1.0)
ABOVE = Camera(position=(0, 3.0, 0.001), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.02)


def brightness(scene: Scene, **settings: object) -> tuple[float, float]:
    """The mean of what is seen, and its standard error."""
    picture, _ = take(scene, (16, 16), samples__max=128, **settings)
    half_a, half_b = picture.halves
    return float(picture.beauty.mean()), float(
        (half_a - half_b).std() / 2 / math.sqrt(half_a[..., 0].size)
    )


def lamp(kind: str, **more: object) -> Light:
    return Light(
        kind=kind,
        colour=(2.0, 2.0, 2.0),
        position=(0.0, 2.0, 0.0),
        direction=(0.0, -1.0, 0.0),
        name="lamp",
        **more,
    )  # type: ignore[arg-type]


@pytest.mark.parametrize("kind", [POINT, DIRECTIONAL])
def test_without_shadows_a_lamp_lights_what_lies_behind_others(kind: str) -> None:
    """A lamp of intensity I at height h brings I / h^2, a directional one its irradiance; the floor
    returns half over pi."""
    card = quad("card", 0, [(-1, 1, 0.8), (1, 1, 0.8), (1, 1, -1), (-1, 1, -1)])
    below = replace(ABOVE, position=(0, 0.9, 0.001))
    scene = Scene(
        name="s",
        meshes=[floor(), card],
        materials=[GREY],
        camera=below,
        environment=sky(0.0),
        lights=[lamp(kind)],
    )
    assert brightness(scene, bounces__total=0)[0] == 0.0
    lit, error = brightness(with_changes(scene, {"feature.lamp.shadow": "off"}), bounces__total=0)
    expected = 0.5 / math.pi * (2.0 / 4 if kind == POINT else 2.0)
    assert lit == pytest.approx(expected, abs=4 * error + 1e-3 * expected)
    assert brightness(with_changes(scene, {"feature.lamp.lamp": "off"}))[0] == 0.0


def test_what_only_the_camera_sees_is_seen_and_takes_no_light_away() -> None:
    """Beside a card that covers half of an even sky, the floor returns less than half of it;
    without it, exactly half."""
    card = quad("card", 0, [(-40, 0.5, 0.3), (40, 0.5, 0.3), (40, 0.5, 40), (-40, 0.5, 40)])
    scene = Scene(
        name="s", meshes=[floor(), card], materials=[GREY], camera=ABOVE, environment=sky(0.8)
    )
    hidden = with_changes(scene, {"feature.card.seen": "by the camera only"})
    assert brightness(scene)[0] < 0.37
    value, error = brightness(hidden)
    assert value == pytest.approx(0.4, abs=4 * error + 1e-4)
    on_card = replace(ABOVE, position=(0, 3.0, 2.001), target=(0, 0.5, 2.0))
    seen, error = brightness(replace(hidden, camera=on_card))
    assert seen == pytest.approx(0.4, abs=4 * error + 1e-4), "it is lit as if it were alone"
    picture, _ = take(replace(hidden, camera=on_card), (8, 8), samples__max=4)
    assert set(np.unique(picture.layers["object"])) == {1.0}


def test_what_would_swallow_paths_cannot_be_hidden_from_them() -> None:
    glass = Material(name="glass", transmission=1.0)
    glow = Material(name="glow", emission=(1.0, 1.0, 1.0))
    meshes = [floor(), ball("bowl", 1, 1.0, 16), ball("bulb", 2, 1.0, 16)]
    scene = Scene(
        name="s", meshes=meshes, materials=[GREY, glass, glow], camera=ABOVE, environment=sky(0.8)
    )
    same = with_changes(
        scene, {f"feature.{name}.seen": "by the camera only" for name in ("bowl", "bulb")}
    )
    assert not any(mesh.camera_only for mesh in same.meshes)


def test_cut_out_geometry_lets_the_same_light_through_as_its_mask() -> None:
    """A board of clear squares between a floor and an even sky, as a mask and as geometry: the
    outline is off only where the corners of squares meet."""
    board = quad("board", 1, [(-4, 0.5, 4), (4, 0.5, 4), (4, 0.5, -4), (-4, 0.5, -4)])
    board = replace(board, uvs=np.array([(0, 0), (1, 0), (1, 1), (0, 1)], np.float32))
    holes = Material(
        name="holes",
        base_colour=(0, 0, 0),
        ior=1.0,
        opacity_mode=MASK,
        textures={"base": TextureUse(checker(8, opacity=True))},
    )
    scene = Scene(
        name="s",
        meshes=[floor(4.0), board],
        materials=[GREY, holes],
        camera=replace(ABOVE, position=(0.3, 0.4, 0.301), target=(0.3, 0, 0.3)),
        environment=sky(0.8),
    )
    masked, error = brightness(scene, bounces__total=0)
    cut, more = brightness(
        with_changes(scene, {"feature.holes.cutout": "geometry"}), bounces__total=0
    )
    assert 0.1 < masked < 0.3
    assert cut == pytest.approx(masked, abs=4 * math.hypot(error, more) + 0.01 * masked)


def test_coarser_haze_takes_the_same_light_from_a_ray() -> None:
    """Straight through a box of absorbing haze, whose density varies across between the middles of
    its cells: the mean of exponentials becomes the one of the mean density."""
    density = np.array([[[1.0, 3.0, 1.0, 3.0]]], np.float32)
    haze = Haze(
        low=(-2, 1.0, -2),
        high=(2, 2.0, 2),
        scattering=(0.0, 0.0, 0.0),
        absorption=(0.4, 0.4, 0.4),
        density=density,
    )
    camera = Camera(position=(0.0, 3.0, 0.0), target=(0, 0, 0), up=(0, 0, -1), half_height=1.0)
    glow = Material(name="glow", base_colour=(0, 0, 0), ior=1.0, emission=(1.0, 1.0, 1.0))
    scene = Scene(
        name="s", meshes=[floor()], materials=[glow], camera=camera, environment=sky(0.0), haze=haze
    )
    between = np.exp(
        -0.4 * np.interp(np.linspace(-1, 1, 1001), [-1.5, -0.5, 0.5, 1.5], [1, 3, 1, 3])
    ).mean()

    for value, expected in (
        ("as is", between),
        ("half size", math.exp(-0.8)),
        ("even", math.exp(-0.8)),
    ):
        changed = with_changes(scene, {"feature.haze.cloud": value})
        assert changed.haze is not None
        assert changed.haze.density.mean() == pytest.approx(2.0)
        seen, error = brightness(changed)
        assert seen == pytest.approx(expected, abs=4 * error + 0.002)

    assert with_changes(scene, {"feature.haze.haze": "off"}).haze is None


def test_an_even_sky_brings_as_much_light_to_a_ball_as_its_picture() -> None:
    """Of all sides: means over directions, not over pixels."""
    rows = np.zeros((16, 32, 3), np.float32)
    rows[:4] = 3.0  # within 45 degrees of the zenith: (1 - cos 45) / 2 of all directions
    scene = Scene(
        name="s", meshes=[floor()], materials=[GREY], camera=ABOVE, environment=Environment(rows)
    )
    even = with_changes(scene, {"feature.sky.sky": "even"}).environment.pixels
    assert even.shape == (1, 1, 3)
    assert even[0, 0, 0] == pytest.approx(3.0 * (1 - math.cos(math.pi / 4)) / 2, rel=1e-5)


def test_texels_are_counted_where_the_camera_is_nearest() -> None:
    """A floor that shows a picture of 64 texels on each metre, seen from a height of two metres: a
    pixel of a picture 100 pixels high under a field of 90 degrees is 4 / 100 metres wide."""
    wide = replace(ABOVE, position=(0.0, 2.0, 0.001), vertical_field=math.pi / 2)
    metre = replace(floor(50.0), uvs=np.array([(0, 0), (100, 0), (100, 100), (0, 100)], np.float32))
    material = Material(name="stone", textures={"base": TextureUse(checker(8))})
    scene = Scene(name="s", meshes=[metre], materials=[material], camera=wide, environment=sky(1.0))
    assert texels_a_pixel(scene, 100, 100) == pytest.approx({"stone": 64 * 4 / 100}, rel=0.01)
    assert texels_a_pixel(scene, 200, 200)["stone"] == pytest.approx(64 * 2 / 100, rel=0.01)
    away = replace(wide, target=(0.0, 4.0, 0.0))
    assert texels_a_pixel(replace(scene, camera=away), 100, 100) == {}
    low = replace(wide, position=(0.0, 0.5, 60.0), target=(0.0, 0.5, 0.0), up=(0, 1, 0))
    assert texels_a_pixel(replace(scene, camera=low), 100, 100)["stone"] == pytest.approx(
        64 * 2 * 10 / 100, rel=0.01
    )

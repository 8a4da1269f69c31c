"""Irradiance and absorption against closed forms. Tolerances are four standard errors, so a false
alarm is rare."""

import math

import numpy as np
import pytest

from swift_sample.core.renderers.builtin.lowlevel.records import BOTH, LIGHTS_ONLY, SCATTER_ONLY
from swift_sample.core.renderers.builtin.lowlevel.schema import address_of
from swift_sample.core.renderers.builtin.tables.alias import build_alias, pick_alias
from swift_sample.core.scene.model import Camera, Environment, Material, Scene
from swift_sample.core.scene.shapes import ball, box
from tests.core.renderers.builtin.kernels.scenes import floor, quad, sky, take

ABOVE = Camera(position=(0, 3.0, 0.001), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.02)
"""Looks straight down at the origin through a very narrow field."""


def standard_error(picture, record) -> float:
    half_a, half_b = picture.halves
    return float((half_a - half_b).std() / 2 / math.sqrt(half_a[..., 0].size))


def floor_brightness(scene: Scene, **settings: object) -> tuple[float, float]:
    picture, record = take(scene, (16, 16), samples__max=128, **settings)
    return float(picture.beauty.mean()), standard_error(picture, record)


def grey(emission: float = 0.0) -> Material:
    return Material(name="grey", base_colour=(0.5, 0.5, 0.5), ior=1.0, emission=(emission,) * 3)


def test_even_sky_lights_a_floor_by_its_albedo() -> None:
    value, error = floor_brightness(
        Scene(name="s", meshes=[floor()], materials=[grey()], camera=ABOVE, environment=sky(0.8))
    )
    assert value == pytest.approx(0.4, abs=4 * error + 1e-4)


@pytest.mark.parametrize("bounces", [0, 4])
def test_square_light_parallel_to_the_floor(bounces: int) -> None:
    # Irradiance below the centre of a square of side 2a at height h, from four corner form factors
    # (Howell, B-3).
    a = 0.5
    h = 1.0
    radiance = 3.0
    x = a / h
    corner = x / math.sqrt(1 + x * x) * math.atan(x / math.sqrt(1 + x * x)) / math.pi
    expected = 0.5 * radiance * 4 * corner
    light = quad("light", 1, [(-a, h, -a), (a, h, -a), (a, h, a), (-a, h, a)])

    scene = Scene(
        name="s",
        meshes=[floor(), light],
        materials=[
            grey(),
            Material(name="light", base_colour=(0, 0, 0), ior=1.0, emission=(radiance,) * 3),
        ],
        camera=Camera(
            position=(0.0, 0.5, 0.001), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.02
        ),
        environment=sky(0.0),
    )
    value, error = floor_brightness(scene, bounces__total=bounces)
    assert value == pytest.approx(expected, abs=4 * error + 0.003 * expected)


def test_ball_light_by_inverse_square() -> None:
    # A ball of radius r at distance d straight above gives pi L (r / d)^2.
    radius = 0.25
    distance = 1.5
    radiance = 10.0
    light = ball("light", 1, radius, 128)
    light.positions[:, 1] += distance

    scene = Scene(
        name="s",
        meshes=[floor(), light],
        materials=[
            grey(),
            Material(name="light", base_colour=(0, 0, 0), ior=1.0, emission=(radiance,) * 3),
        ],
        camera=Camera(
            position=(0.0, 0.5, 0.001), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.02
        ),
        environment=sky(0.0),
    )
    value, error = floor_brightness(scene, bounces__total=0)
    expected = 0.5 * radiance * (radius / distance) ** 2
    assert value == pytest.approx(expected, abs=4 * error + 0.005 * expected)


@pytest.mark.parametrize("technique", [BOTH, LIGHTS_ONLY, SCATTER_ONLY])
@pytest.mark.parametrize("double_sided", [False, True])
def test_emission_leaves_the_front_and_of_double_sided_materials_the_back(
    double_sided: bool, technique: int
) -> None:
    """The back of a square light of side 2a, at height a above a floor: nothing, or what its front
    would bring."""
    corner = 1 / math.sqrt(2) * math.atan(1 / math.sqrt(2)) / math.pi
    light = quad("light", 1, [(-1, 1, 1), (1, 1, 1), (1, 1, -1), (-1, 1, -1)])
    material = Material(
        name="light", base_colour=(0, 0, 0), ior=1.0, emission=(5.0,) * 3, double_sided=double_sided
    )
    camera = Camera(
        position=(0.0, 0.5, 0.001), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.02
    )
    scene = Scene(
        name="s",
        meshes=[floor(), light],
        materials=[grey(), material],
        camera=camera,
        environment=sky(0.0),
    )
    picture, record = take(scene, (16, 16), samples__max=128, bounces__total=1, technique=technique)
    value = float(picture.beauty.mean())
    error = standard_error(picture, record)
    expected = 0.5 * 5.0 * 4 * corner if double_sided else 0.0
    assert value == pytest.approx(expected, abs=4 * error + 0.003 * expected)


def test_bright_spot_in_the_sky_is_found() -> None:
    pixels = np.full((32, 64, 3), 0.01, np.float32)
    pixels[4, 20] = 900.0
    scene = Scene(
        name="s",
        meshes=[floor()],
        materials=[grey()],
        camera=ABOVE,
        environment=Environment(pixels),
    )
    rows = (np.arange(32) + 0.5) / 32 * np.pi
    weights = np.cos(rows) * np.sin(rows) * (np.pi / 32) * (2 * np.pi / 64)
    expected = 0.5 / np.pi * (pixels[:16, :, 0] * weights[:16, None]).sum()
    value, error = floor_brightness(scene)
    # Interpolation between sky pixels spreads the spot a little; 2 % covers it.
    assert value == pytest.approx(expected, abs=4 * error + 0.02 * expected)


def test_absorption_follows_beer_lambert() -> None:
    # A slab of thickness t with the index of air: only absorption is left, exp(-a t) seen head on.
    slab = box("slab", 0, (4, 0.5, 4), 1e-4)
    liquid = Material(
        name="liquid",
        base_colour=(1, 1, 1),
        roughness=0.0,
        ior=1.0,
        transmission=1.0,
        absorption=(0.5, 1.0, 2.0),
    )
    scene = Scene(name="s", meshes=[slab], materials=[liquid], camera=ABOVE, environment=sky(1.0))
    picture, _ = take(scene, (8, 8), samples__max=16, bounces__total=4)
    assert picture.beauty.mean(axis=(0, 1)) == pytest.approx(
        [math.exp(-0.5 * a) for a in (0.5, 1.0, 2.0)], rel=2e-3
    )


def test_overlapping_media_count_once() -> None:
    # A liquid that reaches into its vessel's wall: the wall rules where both are, so only 0.5 m of
    # liquid absorb.
    vessel = box("vessel", 0, (4, 0.2, 4), 1e-4)
    liquid = box("liquid", 1, (4, 0.6, 4), 1e-4)
    vessel.positions[:, 1] += 0.35
    materials = [
        Material(
            name="wall", base_colour=(1, 1, 1), roughness=0.0, ior=1.0, transmission=1.0, priority=2
        ),
        Material(
            name="liquid",
            base_colour=(1, 1, 1),
            roughness=0.0,
            ior=1.0,
            transmission=1.0,
            absorption=(1, 1, 1),
            priority=1,
        ),
    ]

    picture, _ = take(
        Scene(
            name="s",
            meshes=[vessel, liquid],
            materials=materials,
            camera=ABOVE,
            environment=sky(1.0),
        ),
        (8, 8),
        samples__max=16,
        bounces__total=8,
    )
    assert picture.beauty.mean() == pytest.approx(math.exp(-0.55), rel=2e-3)


def test_alias_tables_pick_by_weight() -> None:
    weights = np.array([0.0, 1.0, 3.0, 0.5, 5.5])
    kept, alias = build_alias(weights)
    numbers = (np.arange(100_000) + 0.5) / 100_000
    tables = (address_of(kept), address_of(alias), 5)
    places, rests = zip(*(pick_alias(*tables, np.float32(u)) for u in numbers), strict=True)
    assert np.bincount(places, minlength=5) / 100_000 == pytest.approx(weights / 10, abs=1e-3)
    assert all(0 <= r < 1 for r in rests)
    assert np.mean(rests) == pytest.approx(0.5, abs=0.01)

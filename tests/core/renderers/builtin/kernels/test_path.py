"""Light transport against an independent tracer, between its own methods, and by its settings."""

import math
from dataclasses import replace

import numpy as np
import pytest

from swift_sample.core.renderers.builtin.lowlevel.records import (
    BOTH,
    LIGHTS_ONLY,
    PASSES,
    SCATTER_ONLY,
)
from swift_sample.core.scene.model import (
    BLEND,
    DIRECTIONAL,
    MASK,
    Camera,
    Environment,
    Haze,
    Light,
    Material,
    Scene,
    TextureUse,
)
from swift_sample.core.scene.open import open_scene
from swift_sample.core.scene.shapes import ball
from tests.core.renderers.builtin.kernels import oracle
from tests.core.renderers.builtin.kernels.closed_forms import glow, grey
from tests.core.renderers.builtin.kernels.scenes import (
    ball_under_sky,
    checker,
    floor,
    quad,
    sky,
    take,
)

STALL = open_scene("honey-stall-small")


def gradient_sky() -> Environment:
    """The oracle's sky as a picture."""
    height, width = 256, 512
    tilt = (np.arange(height) + 0.5) / height * np.pi
    turn = ((np.arange(width) + 0.5) / width - 0.5) * 2 * np.pi
    turn, tilt = np.meshgrid(turn, tilt)
    directions = np.stack(
        [np.sin(turn) * np.sin(tilt), np.cos(tilt), -np.cos(turn) * np.sin(tilt)], -1
    )
    values = oracle.sky(directions.reshape(-1, 3)).reshape(height, width)

    return Environment(np.repeat(values[..., None], 3, axis=2).astype(np.float32))


@pytest.mark.parametrize("bounces", [0, 1, 4])
def test_agrees_with_an_independent_tracer(bounces: int) -> None:
    balls = [(np.array([-0.7, 1.0, 0.0]), 1.0, 0.8), (np.array([1.0, 0.5, 0.6]), 0.5, 0.4)]
    meshes = [floor(200.0)]
    materials = [grey(0.6)]

    for number, (centre, radius, albedo) in enumerate(balls):
        mesh = ball("ball", number + 1, radius, 192)
        mesh.positions += centre.astype(np.float32)
        meshes.append(mesh)
        materials.append(grey(albedo))

    scene = Scene(
        name="s",
        meshes=meshes,
        materials=materials,
        camera=Camera(position=(0, 1.5, 5), target=(0, 0.7, 0), half_height=1.2),
        environment=gradient_sky(),
    )
    picture, _ = take(
        scene, (12, 12), samples__max=256, bounces__total=bounces, samples__pixel_filter="box"
    )
    # The same rays: an orthographic field of 2.4 metres.
    rng = np.random.default_rng(6)
    samples = 2000
    forward = np.array([0, -0.8, -5]) / math.hypot(0.8, 5)
    right, up = np.array([1.0, 0, 0]), np.cross([1.0, 0, 0], forward)
    y, x = np.indices((12, 12)).reshape(2, -1)
    means = np.zeros(144)
    spread = np.zeros(144)

    for place in range(144):
        dx, dy = rng.random((2, samples))
        across, upward = ((x[place] + dx) / 12 * 2 - 1) * 1.2, (1 - (y[place] + dy) / 12 * 2) * 1.2
        origins = np.array([0, 1.5, 5]) + across[:, None] * right + upward[:, None] * up
        values = oracle.trace(balls, 0.6, origins, np.tile(forward, (samples, 1)), bounces, rng)
        means[place] = values.mean()
        spread[place] = values.std() / math.sqrt(samples)

    own = picture.beauty[..., 0].ravel()
    half_a, half_b = (half[..., 0].ravel() for half in picture.halves)
    error = np.sqrt(spread**2 + ((half_a - half_b) / 2) ** 2) + 0.004
    # Pixel by pixel within five standard errors, and all together within four.
    assert (np.abs(own - means) < 5 * error).mean() > 0.98
    assert own.mean() == pytest.approx(
        means.mean(), abs=float(4 * np.sqrt((spread**2).sum()) / 144 + 0.001)
    )


@pytest.mark.parametrize("roughness", [0.2, 0.7])
def test_light_sampling_and_scattering_find_the_same_light(roughness: float) -> None:
    lamp = quad("lamp", 1, [(-0.6, 1, -0.6), (0.6, 1, -0.6), (0.6, 1, 0.6), (-0.6, 1, 0.6)])
    wood = Material(name="m", base_colour=(0.7, 0.5, 0.3), roughness=roughness, metallic=0.5)
    scene = Scene(
        name="s",
        meshes=[floor(), lamp],
        materials=[wood, glow(2.0)],
        camera=Camera(position=(0, 0.8, 2), target=(0, 0, 0)),
        environment=gradient_sky(),
    )
    found = {}

    for technique in (BOTH, LIGHTS_ONLY, SCATTER_ONLY):
        picture, _ = take(scene, (16, 16), technique=technique, samples__max=1024, bounces__total=1)
        half_a, half_b = picture.halves
        found[technique] = (
            picture.beauty[8:].mean(),
            float((half_a - half_b)[8:].mean(axis=2).std() / 2 / math.sqrt(128)),
        )

    for technique in (LIGHTS_ONLY, SCATTER_ONLY):
        tolerance = 4 * math.hypot(found[BOTH][1], found[technique][1])
        assert found[technique][0] == pytest.approx(found[BOTH][0], abs=tolerance)

    assert found[BOTH][1] < 1.5 * min(found[LIGHTS_ONLY][1], found[SCATTER_ONLY][1])


@pytest.mark.parametrize(
    "settings",
    [
        {},
        {"light__clamp_indirect": 0.5, "light__clamp_direct": 1.0},
        {"samples__noise_threshold": 0.03},
    ],
)
def test_passes_add_up_to_the_beauty_exactly(settings: dict) -> None:
    picture, _ = take(STALL, (40, 24), samples__max=32, bounces__total=8, **settings)
    total = np.zeros_like(picture.beauty)

    for name in PASSES:
        assert (picture.layers[name] >= 0).all()
        total += picture.layers[name]

    assert np.array_equal(total, picture.beauty)
    half_a, half_b = picture.halves
    assert picture.beauty == pytest.approx((half_a + half_b) / 2, rel=1e-3, abs=1e-4)
    for name in (
        "direct.diffuse",
        "indirect.diffuse",
        "indirect.transmission",
        "direct.glossy",
        "emission",
    ):
        assert picture.layers[name].max() > 0, name


@pytest.mark.parametrize("kind", ["diffuse", "glossy", "transmission"])
def test_a_kinds_cap_removes_light_of_that_kind_only(kind: str) -> None:
    common = {"samples__max": 16, "bounces__roulette_start": 64, "bounces__total": 8}
    free, free_record = take(STALL, (40, 24), **common)
    capped, record = take(STALL, (40, 24), **common, **{f"bounces__{kind}": 0})
    assert capped.beauty.mean() < free.beauty.mean()
    assert (capped.beauty <= free.beauty + 1e-4).all()
    # Light that directly reaches the next hit still counts: the first entry is the same.
    assert np.array(record.light_by_bounce[0]) == pytest.approx(
        np.array(free_record.light_by_bounce[0]), rel=1e-4
    )
    assert np.array_equal(
        take(STALL, (40, 24), **common, **{f"bounces__{kind}": 8})[0].beauty, free.beauty
    )


def test_caustics_and_bounced_light_can_be_left_out() -> None:
    means = {}
    for choice in ("all", "reflected", "refracted", "none"):
        means[choice] = take(STALL, (40, 24), samples__max=64, light__caustics=choice)[
            0
        ].beauty.mean()

    assert means["none"] < means["reflected"] < means["all"]
    assert means["none"] < means["refracted"] < means["all"]
    _, record = take(STALL, (40, 24), samples__max=32, light__indirect=False)
    _, full = take(STALL, (40, 24), samples__max=32)
    assert np.sum(record.light_by_bounce) < np.sum(full.light_by_bounce)
    assert np.array(record.light_by_bounce[0]) == pytest.approx(
        np.array(full.light_by_bounce[0]), rel=0.02
    )


def test_roughness_floor_calms_grain_after_a_matt_bounce() -> None:
    def grain(floor_: float) -> tuple[float, float]:
        picture, _ = take(
            STALL, (64, 36), samples__max=64, bounces__total=6, light__roughness_floor=floor_
        )
        half_a, half_b = picture.halves
        return float(((half_a - half_b) ** 2).mean()), float(picture.beauty.mean())

    (sharp, light), (blurred, same) = grain(0.0), grain(0.6)
    assert blurred < sharp
    assert same == pytest.approx(light, rel=0.08)


def test_masked_cut_outs_let_whole_rays_through() -> None:
    veil = Material(
        name="veil",
        base_colour=(0, 0, 0),
        ior=1.0,
        opacity_mode=MASK,
        textures={"base": TextureUse(checker(8, opacity=True))},
    )
    sheet = quad("veil", 0, [(-1, 0.1, 1), (1, 0.1, 1), (1, 0.1, -1), (-1, 0.1, -1)])
    sheet.uvs = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)
    camera = Camera(position=(0, 1, 0), target=(0, 0, 0), up=(0, 0, -1), half_height=1.0)
    scene = Scene(name="s", meshes=[sheet], materials=[veil], camera=camera, environment=sky(1.0))
    picture, _ = take(
        scene, (64, 64), samples__max=16, samples__pixel_filter="box", bounces__total=0
    )
    black, _ = take(
        scene,
        (64, 64),
        samples__max=16,
        samples__pixel_filter="box",
        bounces__total=0,
        bounces__cutout=0,
    )
    # Half of the squares are holes that show the sky; no passing is needed for light that reaches
    # the next hit directly.
    assert picture.beauty.mean() == pytest.approx(0.5, abs=0.02)
    assert np.array_equal(picture.beauty, black.beauty)


@pytest.mark.parametrize("mode", [MASK, BLEND])
def test_holes_one_behind_the_other_are_counted_and_take_nothing_from_the_distance(
    mode: str,
) -> None:
    """Of five, as many as may be passed and one more; beneath them towards a sun as well."""
    hole = Material(name="hole", opacity=0.0, opacity_mode=mode)
    sheets = [
        quad("hole", 1, [(-9, y, 9), (9, y, 9), (9, y, -9), (-9, y, -9)])
        for y in (0.1, 0.2, 0.3, 0.4, 0.5)
    ]
    eye = Camera(position=(0, 1, 0), target=(0, 0, 0), up=(0, 0, -1), half_height=1.0)
    sun = Light(kind=DIRECTIONAL, colour=(math.pi,) * 3, direction=(0, -1, 0))
    seen = Scene(
        name="s",
        meshes=[floor(), *sheets],
        materials=[glow(1.0), hole],
        camera=eye,
        environment=sky(0.0),
    )
    low = replace(eye, position=(0, 0.05, 0))
    lit = Scene(
        name="s",
        meshes=[floor(), *sheets],
        materials=[grey(), hole],
        camera=low,
        environment=sky(0.0),
        lights=[sun],
    )

    for cap, passed in ((5, True), (4, True), (3, False)):
        picture, _ = take(seen, (8, 8), samples__max=4, bounces__cutout=cap)
        assert picture.beauty.mean() == pytest.approx(1.0 if passed else 0.0)
        assert not passed or picture.layers["depth"] == pytest.approx(1.0, abs=1e-4)
        beneath, _ = take(lit, (8, 8), samples__max=4, bounces__cutout=cap)
        assert beneath.beauty.mean() == pytest.approx(0.5 if passed else 0.0, abs=1e-3)


@pytest.mark.parametrize("anisotropy", [-0.5, 0.8])
def test_haze_methods_agree(anisotropy: float) -> None:
    density = np.random.default_rng(3).random((6, 5, 4)).astype(np.float32)
    haze = Haze(
        low=(-1, -1, -1),
        high=(1, 1, 1),
        scattering=(1.5, 0.8, 0.3),
        absorption=(0.2, 0.4, 0.6),
        anisotropy=anisotropy,
        density=density,
    )
    scene = ball_under_sky(Material(name="m", base_colour=(0.6, 0.6, 0.6)))
    scene.meshes[0].positions *= np.float32(0.4)
    scene.haze = haze
    found = []

    for settings in ({}, {"volume__scattering": "stepped", "volume__step": 0.02}):
        picture, _ = take(scene, (16, 16), samples__max=512, **settings)
        half_a, half_b = picture.halves
        found.append((picture.beauty.mean(axis=(0, 1)), (half_a - half_b).std() / 2 / 16))

    tolerance = 4 * math.hypot(found[0][1], found[1][1]) + 0.001
    assert found[0][0] == pytest.approx(found[1][0], abs=tolerance)
    off, _ = take(scene, (16, 16), samples__max=64, volume__scattering="off")
    assert abs(off.beauty.mean() - found[0][0].mean()) > 3 * tolerance


def test_pixel_filters_keep_the_light_and_soften_edges() -> None:
    scene = Scene(
        name="s",
        meshes=[quad("edge", 0, [(0.013, 0, 9), (9, 0, 9), (9, 0, -9), (0.013, 0, -9)])],
        materials=[glow(1.0)],
        camera=Camera(position=(0, 1, 0), target=(0, 0, 0), up=(0, 0, -1), half_height=1.0),
        environment=sky(0.0),
    )
    widths = {}

    for kind in ("box", "tent", "bell"):
        row = (
            take(scene, (32, 32), samples__max=256, samples__pixel_filter=kind)[0]
            .beauty[..., 0]
            .mean(axis=0)
        )
        assert row.mean() == pytest.approx(0.5 - 0.0065, abs=0.004)
        widths[kind] = int(((row > 0.003) & (row < 0.997)).sum())

    assert widths["box"] <= 2 <= widths["tent"] <= widths["bell"] <= 4


def test_records_tell_grain_at_fewer_samples_and_light_by_place() -> None:
    picture, record = take(STALL, (40, 24), samples__max=32, bounces__total=4)
    assert set(record.grain_by_samples) == {2, 4, 8, 16, 32}
    half, _ = take(STALL, (40, 24), samples__max=8, bounces__total=4)
    a, b = (
        255 * np.where(h <= 0.0031308, 12.92 * h, 1.055 * h ** (1 / 2.4) - 0.055)
        for h in np.clip(half.halves, 0, 1)
    )
    assert record.grain_by_samples[8] == pytest.approx(np.sqrt(((a - b) ** 2).mean()) / 2, rel=1e-3)
    cells = np.stack([picture.reduced[f"light.{k}"] for k in range(5)])
    assert cells.shape == (5, 3, 5, 3)
    assert cells.mean(axis=(1, 2)) == pytest.approx(np.array(record.light_by_bounce), rel=1e-3)
    assert picture.reduced["grain.16"].shape == (3, 5)
    grain = picture.reduced["grain.16"].astype(float)
    assert np.sqrt((grain**2).mean()) == pytest.approx(record.grain_by_samples[16], rel=1e-3)

"""Which lights are chosen together, and what is learned of where they reach."""

import math
from dataclasses import replace

import numpy as np
import pytest

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.lowlevel.records import MAX_CLUSTERS, VISIBILITY_SIDE
from swift_sample.core.renderers.builtin.rendering.building import Stopwatch, build_scene
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.renderers.builtin.rendering.visibility import visibility_of
from swift_sample.core.renderers.builtin.tables.clusters import (
    MOST_NEAR,
    MOST_SKY,
    NearLights,
    near_clusters,
    sky_patches,
)
from swift_sample.core.renderers.builtin.tables.scene import EVERYWHERE, put_visibility
from swift_sample.core.scene.model import MASK, OPAQUE, Camera, Material, Scene
from swift_sample.core.scene.shapes import ball, box, placed
from tests.core.renderers.builtin.kernels.scenes import floor, sky

RNG = np.random.default_rng(3)


def near(middles: np.ndarray, normals: np.ndarray) -> list[np.ndarray]:
    count = len(middles)
    return near_clusters(NearLights(middles, np.full((count, 3), 0.01), np.ones(count), normals))


def test_lights_apart_or_facing_apart_are_not_chosen_together() -> None:
    places = RNG.normal(size=(400, 3)) * 0.05
    places[200:, 0] += 5.0
    normals = np.tile([0.0, 0.0, 1.0], (400, 1))
    normals[::2, 2] = -1.0
    normals[::5] = 0.0  # points shine everywhere
    found = near(places, normals)
    assert len(found) <= MOST_NEAR
    assert sorted(np.concatenate(found)) == list(range(400)), "each light in one cluster"

    for members in found:
        assert np.ptp(places[members, 0]) < 1
        assert len(np.unique(normals[members, 2])) == 1


def test_one_light_is_one_cluster() -> None:
    assert [list(members) for members in near(np.zeros((1, 3)), np.array([[0.0, 1.0, 0.0]]))] == [
        [0]
    ]


def test_patches_cover_the_sky_once_and_are_small_where_it_is_bright() -> None:
    weights = RNG.uniform(size=(32, 64))
    weights[5, 20] = 1000.0
    covered = np.zeros(weights.shape, int)
    areas = []
    patches = sky_patches(weights, np.cos(np.linspace(0, math.pi, 33)))

    for top, bottom, left, right in patches:
        covered[top:bottom, left:right] += 1
        areas.append((bottom - top) * (right - left))
        if top <= 5 < bottom and left <= 20 < right:
            bright = areas[-1]

    assert len(patches) == MOST_SKY
    assert (covered == 1).all()
    assert bright == min(areas) < np.median(areas) / 4


def hidden_lamp(slit: bool, mode: str) -> Scene:
    """A bright lamp inside a box that lets out nothing, or what a slit does, and a weaker one in
    the open. The box may be of a material with cut-outs that has none there."""
    lamps = [
        placed(ball("lamp", 1 + k, 0.05, 12), (x, 0.6, 0.0)) for k, x in enumerate((-0.5, 0.5))
    ]
    middle = np.array([0.5, 0.6, 0.0])
    half = 0.2
    thin = 0.01
    walls = []

    for axis in range(3):
        for side in (-half, half):
            size = np.full(3, 2 * half + thin)
            at = middle.copy()
            size[axis] = thin
            at[axis] = middle[axis] + side

            if slit and axis == 1 and side < 0:
                size[0] = size[0] - 0.04
                at[0] = at[0] - 0.02

            walls.append(placed(box("wall", 3, size.tolist(), 0.001), at))

    grey, lamp, bright = (
        Material(name=name, base_colour=(base,) * 3, ior=1.0, emission=(emission,) * 3)
        for name, base, emission in (
            ("grey", 0.5, 0.0),
            ("lamp", 0.0, 20.0),
            ("bright lamp", 0.0, 400.0),
        )
    )
    materials = [grey, lamp, bright, replace(grey, opacity_mode=mode)]
    return Scene(
        name="s",
        meshes=[floor(4.0), *lamps, *walls],
        materials=materials,
        camera=Camera(position=(0, 2.5, 0.01), target=(0, 0, 0)),
        environment=sky(0.02),
    )


@pytest.mark.parametrize(("slit", "mode"), [(False, OPAQUE), (True, OPAQUE), (False, MASK)])
def test_light_samples_go_where_light_comes_from_and_none_is_lost(slit: bool, mode: str) -> None:
    """With what was learned the grain of most pixels is less than two thirds where a lamp is
    hidden; its light through a slit stays. Six standard errors."""
    built = build_scene(hidden_lamp(slit, mode), Stopwatch())
    settings = configured({"samples.max": 64, "bounces.total": 1})

    def brightness() -> tuple[float, float, float]:
        halves = render(built, settings, (48, 32), 1, View(), Stopwatch())[0].halves
        assert halves is not None
        off = np.abs(halves[0] - halves[1]) / 2
        error = math.sqrt(float((off**2).mean()) / halves[0][..., 0].size)

        return float((halves[0] + halves[1]).mean() / 2), error, float(np.median(off))

    learned, error, grain = brightness()
    put_visibility(built.compiled, EVERYWHERE)
    unlearned, larger, more = brightness()
    assert learned == pytest.approx(unlearned, abs=6 * math.hypot(error, larger))

    if not slit:
        assert grain < more / 1.5


def test_lights_that_arrive_now_and_then_are_chosen_by_the_root_of_their_mean_square() -> None:
    """Which leaves the least variance: one that arrives at a quarter of the places of a cube has
    half of its weight there."""
    points = np.concatenate([np.full((400, 3), 0.1), np.full((400, 3), 0.9)]).astype(np.float32)
    tries = np.full((800, MAX_CLUSTERS), -1, np.float32)
    tries[:, 0] = 0
    tries[:400:4, 0] = 1
    known = visibility_of(points, tries)
    low, high = (known.shares[cube, 0] / 255 for cube in (0, VISIBILITY_SIDE**3 - 1))
    assert low == pytest.approx(0.5, abs=0.01)
    assert high < 0.1

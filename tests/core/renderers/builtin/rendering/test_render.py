import threading
from types import SimpleNamespace

import numpy as np
import psutil
import pytest
from scipy.ndimage import gaussian_filter

from swift_sample.core.errors import RenderStoppedError, SceneError
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.film.film import new_film
from swift_sample.core.renderers.builtin.rendering.building import Stopwatch, build_scene
from swift_sample.core.renderers.builtin.rendering.orders import cut_tiles
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.renderers.builtin.rendering.sampling import picture_size
from swift_sample.core.scene.facts import memory_to_build
from swift_sample.core.scene.model import Choices, Material, Scene
from swift_sample.core.scene.open import open_scene
from tests.core.renderers.builtin.kernels.scenes import ball_under_sky, take

STALL = open_scene("honey-stall-small")


@pytest.fixture(scope="module")
def plain():
    return take(STALL, (40, 24), samples__max=12, bounces__total=6)


@pytest.mark.parametrize(
    "settings",
    [
        {"tiles__size": 4},
        {"tiles__size": 64},
        {"device__threads": 1},
        {"device__threads": 3, "tiles__size": 8},
    ],
)
@pytest.mark.parametrize("threshold", [0.0, 0.05])
def test_tiles_and_threads_never_change_a_pixel(settings: dict, threshold: float) -> None:
    common = {
        "samples__max": 40,
        "samples__min": 8,
        "samples__noise_threshold": threshold,
        "bounces__total": 4,
    }
    one, _ = take(STALL, (40, 24), **common)
    other, _ = take(STALL, (40, 24), **common, **settings)
    assert np.array_equal(one.beauty, other.beauty)
    for name in ("half_a", "half_b", "albedo", "normal", "depth", "samples", "error"):
        assert np.array_equal(one.layers[name], other.layers[name]), name


def ball_under_gradient() -> Scene:
    scene = ball_under_sky(Material(name="m", base_colour=(0.5, 0.5, 0.5), ior=1.0))
    scene.environment.pixels = np.linspace(0.2, 1.0, 8, dtype=np.float32)[None, :, None] * np.ones(
        (4, 1, 3), np.float32
    )
    return scene


def test_blue_noise_depends_on_no_tile_and_no_thread() -> None:
    common = {
        "samples__max": 12,
        "samples__noise_threshold": 0.05,
        "bounces__total": 4,
        "samples__pattern": "blue noise",
    }
    one, _ = take(STALL, (40, 24), **common)
    other, _ = take(
        STALL, (40, 24), **common, device__threads=3, tiles__size=8, tiles__mode="progressive"
    )
    assert np.array_equal(one.beauty, other.beauty)


def test_blue_noise_is_fainter_from_afar_and_as_strong_pixel_by_pixel() -> None:
    """The ratio of smoothed variances over 24 seeds is 0.59 with a standard error of 0.05, so that
    0.8 is not met by chance once in ten thousand times; that of pixels 1.05, 0.03."""
    scene = ball_under_gradient()
    truth = take(scene, (48, 48), samples__max=2048, bounces__total=0)[0].beauty

    def errors(pattern: str) -> tuple[float, float]:
        taken = [
            take(
                scene, (48, 48), samples__max=8, samples__pattern=pattern, bounces__total=0, seed=k
            )
            for k in range(24)
        ]
        off = [(picture.beauty - truth)[16:32, 16:32] for picture, _ in taken]
        return float(np.square(off).mean()), float(
            np.square([gaussian_filter(one, (1.5, 1.5, 0)) for one in off]).mean()
        )

    (near, far), (near_blue, far_blue) = errors("even"), errors("blue noise")
    assert near_blue == pytest.approx(near, rel=0.15)
    assert far_blue < 0.8 * far


def test_halves_make_the_beauty(plain) -> None:
    picture, _ = plain
    half_a, half_b = picture.halves
    assert (half_a + half_b) / 2 == pytest.approx(picture.beauty, rel=1e-5, abs=1e-6)
    assert not np.array_equal(half_a, half_b)


def test_another_seed_changes_the_grain_but_not_the_picture() -> None:
    one, _ = take(STALL, (24, 14), samples__max=64, seed=1)
    other, _ = take(STALL, (24, 14), samples__max=64, seed=2)
    assert not np.array_equal(one.beauty, other.beauty)
    spread = np.abs(one.layers["half_a"] - one.layers["half_b"]).mean()
    assert abs(float((one.beauty - other.beauty).mean())) < spread


@pytest.mark.parametrize("threshold", [0.0, 0.02])
def test_light_by_bounce_adds_up(threshold: float) -> None:
    picture, record = take(
        STALL,
        (40, 24),
        samples__max=48,
        samples__noise_threshold=threshold,
        bounces__total=6,
        light__clamp_indirect=2.0,
    )
    assert len(record.light_by_bounce) == 7
    assert np.sum(record.light_by_bounce, axis=0) == pytest.approx(
        picture.beauty.mean(axis=(0, 1)), rel=1e-4
    )


def test_a_cap_shows_the_first_entries_of_a_deeper_render() -> None:
    # Same seed, no roulette: the shallow render is the deep one with the later entries left out.
    common = {"samples__max": 16, "bounces__roulette_start": 64}
    _, deep = take(STALL, (40, 24), bounces__total=6, **common)

    for cap in (0, 1, 3):
        _, record = take(STALL, (40, 24), bounces__total=cap, **common)
        assert np.array(record.light_by_bounce) == pytest.approx(
            np.array(deep.light_by_bounce[: cap + 1]), rel=1e-5
        )


def test_roulette_keeps_the_light() -> None:
    with_it, _ = take(
        STALL, (24, 14), samples__max=256, bounces__total=12, bounces__roulette_start=0
    )
    without, _ = take(
        STALL, (24, 14), samples__max=256, bounces__total=12, bounces__roulette_start=64
    )
    errors = [np.abs(p.layers["half_a"] - p.layers["half_b"]).std() for p in (with_it, without)]
    assert abs(float((with_it.beauty - without.beauty).mean())) < 4 * np.hypot(*errors) / np.sqrt(
        24 * 14 * 3
    )


def test_clamps_only_remove_light() -> None:
    free, _ = take(STALL, (40, 24), samples__max=16)
    clamped, _ = take(
        STALL, (40, 24), samples__max=16, light__clamp_indirect=0.5, light__clamp_direct=0.5
    )
    assert (clamped.beauty <= free.beauty + 1e-5).all()
    assert clamped.beauty.mean() < free.beauty.mean()


def test_error_layer_tells_the_grain(plain) -> None:
    # The rms of the error layer is the grain of a single picture by definition, up to the mirrored
    # edges.
    picture, _ = plain
    levels = [View().levels(half) for half in picture.halves]
    grain = np.sqrt(((levels[0] - levels[1]) ** 2).mean()) / 2 / 255
    assert np.sqrt((picture.layers["error"] ** 2).mean()) == pytest.approx(grain, rel=0.1)


def test_even_pattern_beats_random_on_a_smooth_scene() -> None:
    scene = ball_under_gradient()

    def error(pattern: str, samples: int) -> float:
        picture, _ = take(
            scene, (20, 20), samples__max=samples, samples__pattern=pattern, bounces__total=0
        )
        a, b = (h[6:14, 6:14] for h in picture.halves)
        return float(np.sqrt(((a - b) ** 2).mean()))

    # Random sampling falls as 1 / sqrt(n): sixteen times as many samples leave a quarter. Even
    # sampling falls faster.
    assert error("random", 512) / error("random", 32) == pytest.approx(0.25, rel=0.25)
    assert error("even", 512) / error("even", 32) < 0.23
    assert error("even", 512) < 0.65 * error("random", 512)


def test_records_count_rays_time_and_memory(plain) -> None:
    _, record = plain
    rays = record.rays["by_bounce"]
    assert rays[0]["camera"] == 40 * 24 * 12
    assert rays[0]["shadow"] > 0
    assert set(rays[1]) <= {
        "diffuse",
        "glossy",
        "transmission",
        "volume",
        "cutout",
        "shadow",
        "below the surface",
    }
    assert record.rays["below the surface"] > 0.02 * record.rays["total"], "candles"
    spent = sum(seconds for by_kind in record.seconds_by_bounce for seconds in by_kind.values())
    assert 0 < spent < 1.1 * sum(record.seconds_by_material.values())
    assert sum(record.seconds_by_object.values()) == pytest.approx(
        sum(record.seconds_by_material.values())
    )
    assert "burlap" in record.seconds_by_material
    assert sum(record.picture_by_material.values()) == pytest.approx(1)
    assert set(record.seconds_by_material) <= set(record.picture_by_material)
    assert record.texture_reads > 0
    assert record.memory_bytes["film"] >= 40 * 24 * 3 * 4 * 4
    assert record.dropped_samples == 0
    _, silent = take(STALL, (16, 9), samples__max=2, record=False)
    assert not any(silent.seconds_by_bounce)


def test_stopping_ends_the_render() -> None:
    built = build_scene(STALL, Stopwatch())
    started: list = []

    def stop_soon(sampling) -> None:
        started.append(threading.Timer(0.05, sampling.stop))
        started[0].start()

    with pytest.raises(RenderStoppedError):
        render(
            built,
            configured({"samples.max": 65536}),
            (64, 36),
            1,
            View(),
            Stopwatch(),
            on_start=stop_soon,
        )

    started[0].join()


def test_sizes_round_half_up() -> None:
    assert picture_size((5, 3), 0.5) == (3, 2)
    assert picture_size((1, 1), 0.1) == (1, 1)


def test_tiles_cover_every_pixel_once() -> None:
    seen = np.zeros((30, 50), int)
    for x0, y0, x1, y1 in cut_tiles(50, 30, 16):
        seen[y0:y1, x0:x1] += 1
    assert (seen == 1).all()


def test_single_sample_has_a_half_to_show() -> None:
    picture, _ = take(STALL, (16, 9), samples__max=1)
    assert np.array_equal(picture.layers["half_b"], picture.layers["half_a"])
    assert new_film(4, 2, 3, adaptive=False).light.size == 0
    assert new_film(4, 2, 3, adaptive=True).light_cells.size == 0


def test_a_scene_that_would_not_fit_into_memory_is_told_before_it_is_built(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    free = memory_to_build(STALL, Choices(subdivision=1)) - 1
    monkeypatch.setattr(psutil, "virtual_memory", lambda: SimpleNamespace(available=free))
    assert build_scene(STALL, Stopwatch()).compiled.trees
    with pytest.raises(
        SceneError,
        match=r"building its [\d,]+ triangles takes about .* GB of memory, and .* GB are free",
    ):
        build_scene(STALL, Stopwatch(), Choices(subdivision=1))

"""Stray pixels are spread before anything is smoothed."""

import numpy as np
import pytest

from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.denoise import DENOISERS, denoise_picture
from swift_sample.core.renderers.builtin.denoise.guides import guides_of
from swift_sample.core.renderers.builtin.denoise.strays import spread_strays
from swift_sample.core.scene.open import open_scene
from tests.core.renderers.builtin.denoise.test_denoisers import denoising
from tests.core.renderers.builtin.kernels.scenes import take

RNG = np.random.default_rng(8)


def picture(half_a: np.ndarray, half_b: np.ndarray) -> Picture:
    return Picture((half_a + half_b) / 2, {"half_a": half_a, "half_b": half_b})


def plain(height: int = 61, width: int = 83) -> np.ndarray:
    return np.full((height, width, 3), 0.2, np.float32)


def test_a_stray_pixel_of_one_half_goes_and_its_light_stays_around() -> None:
    half_a = plain()
    half_b = plain()
    half_a[30, 40] = (50.0, 20.0, 5.0)
    calm = spread_strays(picture(half_a, half_b), 2)
    assert calm.beauty.max() < 0.5
    before, after = (
        p[14:46, 24:56].sum(axis=(0, 1), dtype=float) for p in ((half_a + half_b) / 2, calm.beauty)
    )
    assert after == pytest.approx(before, rel=0.01)
    assert calm.layers["half_b"] == pytest.approx(half_b), "the other half had none"


def test_what_shows_in_both_halves_stays_bit_for_bit() -> None:
    bright = plain()
    bright[20, 30] = 80.0
    bright[40:45, 10:70] = RNG.uniform(0, 5, (5, 60, 3))
    calm = spread_strays(picture(bright, bright.copy()), 2)
    assert np.array_equal(calm.beauty, bright)


@pytest.mark.parametrize("shape", [(1, 1), (3, 50), (8, 8), (17, 40)])
def test_any_size_and_any_threads(shape: tuple[int, int]) -> None:
    halves = [RNG.exponential(1.0, (*shape, 3)).astype(np.float32) ** 4 for _ in range(2)]
    one, three = (spread_strays(picture(*halves), threads) for threads in (1, 3))
    assert np.array_equal(one.beauty, three.beauty)
    assert np.isfinite(one.beauty).all()
    assert one.beauty.mean() == pytest.approx((halves[0] + halves[1]).mean() / 2, rel=0.25)


@pytest.mark.parametrize("method", DENOISERS)
def test_denoised_renders_have_fewer_stray_pixels_and_the_same_light(method: str) -> None:
    """Against the filter alone, on a render's own noise: at most four fifths of the pixels that are
    40 levels too bright, a smaller error, and the same light."""
    view = View(0.0, "soft")
    scene = open_scene("honey-stall")
    noisy, _ = take(scene, (160, 90), samples__max=8, bounces__total=8, denoise__method=method)
    clean, _ = take(scene, (160, 90), samples__max=256, bounces__total=8, seed=2)

    def judged(smooth: np.ndarray) -> tuple[int, float]:
        off = view.levels(smooth.astype(np.float32)) - view.levels(clean.beauty)
        return int((off > 40).any(axis=2).sum()), float((off**2).mean())

    calm = denoise_picture(noisy, denoising(method=method)).beauty
    alone = DENOISERS[method](noisy, guides_of(noisy, 2), 2)
    (strays, error), (more, larger) = judged(calm), judged(alone)
    assert strays < 0.8 * more
    assert error < larger
    assert calm.mean() == pytest.approx(alone.mean(), rel=0.005)

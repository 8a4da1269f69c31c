import numpy as np
import pytest

from swift_sample.core.denoise import DENOISERS, denoise_picture
from swift_sample.core.render.film import Picture
from swift_sample.core.settings import CATALOGUE, Configuration

CLEAN = 0.4


def noisy_picture(sigma: float = 0.08) -> Picture:
    """Even light on a checkerboard with two colours and an edge between two walls."""
    rng = np.random.default_rng(4)
    y, x = np.mgrid[0:48, 0:64]
    albedo = np.where(((x // 4 + y // 4) % 2)[..., None] > 0, 0.8, 0.3) * np.ones(3)
    normal = np.zeros((48, 64, 3))
    normal[:, :32, 0], normal[:, 32:, 2] = 1, 1
    light = np.where(x < 32, CLEAN, 2 * CLEAN)[..., None]
    halves = [(albedo * (light + sigma * rng.normal(size=(48, 64, 3)))).astype(np.float32) for _ in range(2)]
    return Picture((halves[0] + halves[1]) / 2, {"half_a": halves[0], "half_b": halves[1],
                                                 "albedo": albedo.astype(np.float32), "normal": normal.astype(np.float32)})


def clean_picture() -> np.ndarray:
    picture = noisy_picture()
    light = np.where(np.mgrid[0:48, 0:64][1] < 32, CLEAN, 2 * CLEAN)[..., None]
    return picture.layers["albedo"] * light


def configured(**changes: object) -> Configuration:
    return Configuration({"denoise.method": "wavelet", "device.threads": 2,
                          **{f"denoise.{key}": value for key, value in changes.items()}})


def rms(picture: np.ndarray) -> float:
    return float(np.sqrt(((picture - clean_picture()) ** 2).mean()))


def test_registry_and_catalogue_name_the_same_methods() -> None:
    assert {"none", *DENOISERS} == set(CATALOGUE["denoise.method"].values)


def test_grain_falls_and_edges_and_texture_stay() -> None:
    noisy = noisy_picture()
    smooth = denoise_picture(noisy, configured()).beauty
    assert rms(smooth) < 0.35 * rms(noisy.beauty)
    assert smooth[:, 30].mean() / smooth[:, 33].mean() == pytest.approx(
        clean_picture()[:, 30].mean() / clean_picture()[:, 33].mean(), rel=0.05)


def test_without_guides_texture_suffers() -> None:
    with_them = rms(denoise_picture(noisy_picture(), configured(guides=True)).beauty)
    assert with_them < 0.7 * rms(denoise_picture(noisy_picture(), configured(guides=False)).beauty)


def test_strength_blends_from_exactly_raw() -> None:
    noisy = noisy_picture()
    assert denoise_picture(noisy, configured(strength=0.0)) is noisy
    full, half = (denoise_picture(noisy, configured(strength=s)) for s in (1.0, 0.5))
    assert half.beauty == pytest.approx((noisy.beauty + full.beauty) / 2, abs=1e-6)
    assert np.array_equal(half.layers["raw"], noisy.beauty)


def test_threads_do_not_change_a_pixel() -> None:
    noisy = noisy_picture()
    one, two = (DENOISERS["wavelet"](noisy, True, threads) for threads in (1, 2))
    assert np.array_equal(one, two)


def test_a_picture_without_grain_is_left_alone() -> None:
    picture = noisy_picture(sigma=0.0)
    assert denoise_picture(picture, configured()).beauty == pytest.approx(picture.beauty, rel=1e-4)

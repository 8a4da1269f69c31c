import numpy as np
import pytest

from swift_sample.core.errors import PictureError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.denoise import DENOISERS, denoise_picture
from swift_sample.core.renderers.builtin.denoise.guides import guides_of
from swift_sample.core.renderers.builtin.lowlevel.records import PASSES
from swift_sample.core.scene.open import open_scene
from swift_sample.core.settings import Configuration
from tests.core.renderers.builtin.kernels.scenes import take

CLEAN = 0.4


def noisy_picture(sigma: float = 0.08) -> Picture:
    """Even light on a checkerboard with two colours and an edge between two walls."""
    rng = np.random.default_rng(4)
    y, x = np.mgrid[0:48, 0:64]
    albedo = np.where(((x // 4 + y // 4) % 2)[..., None] > 0, 0.8, 0.3) * np.ones(3)
    normal = np.zeros((48, 64, 3))
    normal[:, :32, 0] = 1
    normal[:, 32:, 2] = 1
    light = np.where(x < 32, CLEAN, 2 * CLEAN)[..., None]
    halves = [
        (albedo * (light + sigma * rng.normal(size=(48, 64, 3)))).astype(np.float32)
        for _ in range(2)
    ]

    return Picture(
        (halves[0] + halves[1]) / 2,
        {
            "half_a": halves[0],
            "half_b": halves[1],
            "depth": np.ones((48, 64), np.float32),
            "albedo": albedo.astype(np.float32),
            "normal": normal.astype(np.float32),
        },
    )


def clean_picture() -> np.ndarray:
    picture = noisy_picture()
    light = np.where(np.mgrid[0:48, 0:64][1] < 32, CLEAN, 2 * CLEAN)[..., None]
    return picture.layers["albedo"] * light


def denoising(**changes: object) -> Configuration:
    return configured(
        {
            "device.threads": 2,
            **{f"denoise.{key}": value for key, value in {"method": "wavelet", **changes}.items()},
        }
    )


METHODS = pytest.mark.parametrize("method", DENOISERS)


def rms(picture: np.ndarray) -> float:
    return float(np.sqrt(((picture - clean_picture()) ** 2).mean()))


def test_registry_and_catalogue_name_the_same_methods() -> None:
    assert {"none", *DENOISERS} == set(CATALOGUE["denoise.method"].values)


@METHODS
def test_grain_falls_and_edges_and_texture_stay(method: str) -> None:
    noisy = noisy_picture()
    smooth = denoise_picture(noisy, denoising(method=method)).beauty
    assert rms(smooth) < 0.35 * rms(noisy.beauty)
    assert smooth[:, 30].mean() / smooth[:, 33].mean() == pytest.approx(
        clean_picture()[:, 30].mean() / clean_picture()[:, 33].mean(), rel=0.05
    )


@METHODS
def test_without_guides_texture_suffers(method: str) -> None:
    with_them = rms(denoise_picture(noisy_picture(), denoising(method=method, guides=True)).beauty)
    assert with_them < 0.85 * rms(
        denoise_picture(noisy_picture(), denoising(method=method, guides=False)).beauty
    )


def test_strength_blends_from_exactly_raw() -> None:
    noisy = noisy_picture()
    assert denoise_picture(noisy, denoising(strength=0.0)) is noisy
    full, half = (denoise_picture(noisy, denoising(strength=s)) for s in (1.0, 0.5))
    assert half.beauty == pytest.approx((noisy.beauty + full.beauty) / 2, abs=1e-6)
    assert np.array_equal(half.layers["raw"], noisy.beauty)


@METHODS
def test_threads_do_not_change_a_pixel(method: str) -> None:
    noisy = noisy_picture()
    guides = guides_of(noisy, 1)
    one, two = (DENOISERS[method](noisy, guides, threads) for threads in (1, 2))
    assert np.array_equal(one, two)


@METHODS
def test_a_picture_without_grain_is_left_alone(method: str) -> None:
    picture = noisy_picture(sigma=0.0)
    assert denoise_picture(picture, denoising(method=method)).beauty == pytest.approx(
        picture.beauty, rel=1e-3
    )


def test_a_mask_says_where_it_is_smoothed() -> None:
    noisy = noisy_picture()
    mask = np.zeros((48, 64), np.float32)
    mask[:, 32:] = 1
    shown = denoise_picture(noisy, denoising(), mask)
    full = denoise_picture(noisy, denoising())
    assert np.array_equal(shown.beauty[:, :32], noisy.beauty[:, :32])
    assert shown.beauty[:, 32:] == pytest.approx(full.beauty[:, 32:], abs=1e-6)
    with pytest.raises(PictureError, match="mask has 3x2 pixels, the picture 64x48"):
        denoise_picture(noisy, denoising(), np.ones((2, 3), np.float32))


def test_noisy_guides_are_cleaned() -> None:
    picture = noisy_picture()
    rng = np.random.default_rng(7)
    albedo = np.where(np.mgrid[0:48, 0:64][1] < 32, 0.3, 0.8)[..., None] * np.ones(3)
    clean = np.dstack([albedo, picture.layers["normal"], picture.layers["depth"]])
    halves = [clean + rng.normal(0, 0.15, clean.shape) for _ in range(2)]
    whole = ((halves[0] + halves[1]) / 2).astype(np.float32)

    layers = {
        **picture.layers,
        "albedo": whole[..., :3],
        "normal": whole[..., 3:6],
        "depth": np.abs(whole[..., 6]) + 0.01,
        "guides_half": halves[1].astype(np.float32),
    }
    cleaned = guides_of(Picture(picture.beauty, layers), 1)
    error = np.abs(cleaned.albedo - clean[..., :3]).mean()
    assert error < 0.6 * np.abs(whole[..., :3] - clean[..., :3]).mean()


def test_each_pass_by_itself_still_adds_up() -> None:
    scene = open_scene("honey-stall-small")
    picture, _ = take(
        scene,
        (48, 27),
        samples__max=8,
        bounces__total=4,
        denoise__method="wavelet",
        denoise__per_pass=True,
    )
    assert "direct.diffuse_half" in picture.layers
    smooth = denoise_picture(picture, denoising(per_pass=True))
    assert np.array_equal(
        sum((smooth.layers[name] for name in PASSES), np.zeros_like(smooth.beauty)), smooth.beauty
    )
    assert not any(name.endswith("_half") for name in smooth.layers)
    assert not np.array_equal(smooth.layers["direct.diffuse"], picture.layers["direct.diffuse"])
    plain, _ = take(scene, (48, 27), samples__max=8, bounces__total=4)
    assert np.array_equal(plain.beauty, picture.beauty)

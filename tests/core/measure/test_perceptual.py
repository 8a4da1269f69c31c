import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from skimage.color import deltaE_cie76, rgb2lab

from swift_sample.core.errors import UsageError
from swift_sample.core.measure.blurring import blur
from swift_sample.core.measure.flicker import flicker
from swift_sample.core.measure.perceptual import PIXELS_PER_DEGREE, colour_difference, seen
from swift_sample.core.picture.view import View


def flat(colour: tuple[float, float, float], size: int = 48) -> np.ndarray:
    return np.full((size, size, 3), colour, np.float32)


@pytest.mark.parametrize("colour", [(200, 30, 60), (10, 10, 10), (128, 128, 128), (0, 255, 0)])
def test_even_colours_are_those_of_cielab(colour: tuple[float, float, float]) -> None:
    """Blurring changes nothing where nothing changes; scikit-image is the independent
    implementation."""
    assert seen(flat(colour))[:, 20, 20] == pytest.approx(
        rgb2lab(np.array(colour) / 255.0, illuminant="D65"), abs=0.15
    )
    shown = colour_difference(flat(colour), flat((100, 110, 120)))[20, 20]
    expected = deltaE_cie76(
        rgb2lab(np.array(colour) / 255.0), rgb2lab(np.array([100, 110, 120]) / 255.0)
    )
    assert shown == pytest.approx(expected, rel=0.01)


def test_fine_patterns_are_seen_less_than_coarse_ones() -> None:
    y, x = np.mgrid[0:96, 0:96]
    fine, coarse = (
        (np.where((x // n + y // n) % 2, 20, -20)[..., None] + 128.0).astype(np.float32)
        * np.ones(3, np.float32)
        for n in (1, 16)
    )

    grey = flat((128, 128, 128), 96)
    assert colour_difference(fine, grey).mean() < 0.35 * colour_difference(coarse, grey).mean()


@pytest.mark.parametrize("spread", [0.133, 0.386, 0.494])
def test_wide_blurs_on_reduced_planes_are_the_same_blurs(spread: float) -> None:
    plane = np.kron(np.random.default_rng(2).uniform(0, 1, (50, 61)), np.ones((8, 8))).astype(
        np.float32
    )[:393, :481]
    exact = gaussian_filter(
        plane, spread * PIXELS_PER_DEGREE / np.sqrt(2), mode="reflect", truncate=3.0
    )
    found = blur(plane, spread * PIXELS_PER_DEGREE / np.sqrt(2))
    assert found.shape == plane.shape
    inner = np.s_[60:-60, 60:-60]  # mirrored edges are mirrored blocks there
    assert np.sqrt(((found - exact)[inner] ** 2).mean()) < 0.12 * exact[inner].std()


def test_flicker_is_the_change_of_the_error_alone() -> None:
    rng = np.random.default_rng(3)
    scene = [rng.uniform(0.2, 0.8, (30, 40, 3)).astype(np.float32) for _ in range(4)]
    assert flicker(scene, scene, View()) == 0
    steady = [frame * np.float32(1.0) for frame in scene]
    assert flicker(steady, scene, View()) == 0
    # Independent errors of s levels change by s times the root of two.
    view = View()
    sigma = 3.0
    grey = [np.full((60, 80, 3), view.light(np.array(128.0)), np.float32)] * 5
    noisy = [view.light(128 + sigma * rng.normal(size=(60, 80, 3))) for _ in range(5)]
    assert flicker(noisy, grey, view) == pytest.approx(sigma * np.sqrt(2), rel=0.03)
    with pytest.raises(UsageError, match="at least two frames"):
        flicker(scene[:1], scene[:1], view)

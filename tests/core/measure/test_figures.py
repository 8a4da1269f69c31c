"""Each measure finds its own kind of error, injected at a known size, and ignores the others."""

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter, median_filter
from skimage.metrics import peak_signal_noise_ratio, structural_similarity

from swift_sample.core.errors import UsageError
from swift_sample.core.measure.blurring import blur
from swift_sample.core.measure.compare import WHOLE, Area, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.measure.rows import stands_out
from swift_sample.core.picture.colour import LUMINANCE
from swift_sample.core.picture.view import View

SHAPE = (120, 160)
VIEW = View()


def linear(levels: np.ndarray) -> np.ndarray:
    """The inverse of the view, so that errors can be injected in levels."""
    x = np.clip(levels, 0, 255) / 255
    return np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4).astype(np.float32)


def scene_levels() -> np.ndarray:
    rng = np.random.default_rng(8)
    coarse = gaussian_filter(rng.normal(size=(*SHAPE, 3)), (12, 12, 0))
    fine = gaussian_filter(rng.normal(size=(*SHAPE, 1)), (0.8, 0.8, 0))
    return 120 + 25 * coarse / coarse.std() * 0.8 + 9 * fine / fine.std()


def compared(
    change=lambda levels: levels,
    grain: float = 2.0,
    count: int = 3,
    stray: float = 0.0,
    areas: tuple[Area, ...] = (),
) -> dict:
    rng = np.random.default_rng(9)
    truth = scene_levels()
    pictures = []

    for _ in range(count):
        levels = change(truth) + rng.normal(0, grain, (*SHAPE, 3))
        if stray:
            levels[rng.random(SHAPE) < stray] += 90
        pictures.append(linear(levels))

    halves = tuple(linear(truth + rng.normal(0, 0.5, (*SHAPE, 3))) for _ in range(2))
    return measure(Comparison(pictures, (halves[0] + halves[1]) / 2, VIEW, None, halves), areas)


def values(found: dict) -> dict[str, float]:
    return {key: figure.value for key, figure in found[WHOLE].items() if figure is not None}


@pytest.mark.parametrize("grain", [1.0, 3.0])
def test_grain_alone(grain: float) -> None:
    found = values(compared(grain=grain))
    assert found["grain"] == pytest.approx(grain, rel=0.03)
    assert found["light_shift"] < 0.1
    assert found["detail_kept"] == pytest.approx(100, abs=1)
    assert found["stray_pixels"] < 60
    assert found["rms"] == pytest.approx(grain, rel=0.03)


def test_missing_light_alone() -> None:
    found = values(compared(lambda levels: levels - 4.0))
    assert found["light_shift"] == pytest.approx(4.0, rel=0.03)
    assert found["grain"] == pytest.approx(2.0, rel=0.03)
    assert found["rms"] == pytest.approx(np.hypot(2, 4), rel=0.03)


def test_smearing_alone() -> None:
    def blurred(levels: np.ndarray) -> np.ndarray:
        """As a denoiser does it: in light."""
        return VIEW.levels(gaussian_filter(linear(levels), (1.0, 1.0, 0)))

    found = values(compared(blurred))
    assert found["detail_kept"] < 75
    assert found["grain"] == pytest.approx(2.0, rel=0.03)
    assert found["light_shift"] < 0.35  # light is smoothed over 2.4 pixels here


def test_darkening_is_no_loss_of_detail() -> None:
    assert values(compared(lambda levels: levels * 0.8))["detail_kept"] == pytest.approx(100, abs=1)


def test_stray_pixels_alone() -> None:
    found = values(compared(stray=1e-3))
    assert found["stray_pixels"] == pytest.approx(1000, rel=0.25)
    assert found["detail_kept"] == pytest.approx(100, abs=2)


def test_a_single_undenoised_picture_is_judged_by_its_halves() -> None:
    rng = np.random.default_rng(3)
    truth = scene_levels()
    halves = tuple(linear(truth + rng.normal(0, 3.0, (*SHAPE, 3))) for _ in range(2))
    pair = Comparison([(halves[0] + halves[1]) / 2], linear(truth), VIEW, halves)
    found = measure(pair)[WHOLE]
    assert found["grain"].value == pytest.approx(3 / np.sqrt(2), rel=0.03)
    assert measure(Comparison([linear(truth)], linear(truth), VIEW))[WHOLE]["grain"] is None


def test_areas_have_figures_of_their_own() -> None:
    def left_dark(levels: np.ndarray) -> np.ndarray:
        changed = levels.copy()
        changed[:, :40] -= 12
        return changed

    found = compared(left_dark, areas=(Area("dark", 0, 0, 30, 60), Area("fine", 80, 20, 60, 60)))
    assert found["dark"]["light_shift"].value == pytest.approx(12, rel=0.1)
    assert found["fine"]["light_shift"].value < 0.5


def test_intervals_hold_the_value() -> None:
    for figure in compared()[WHOLE].values():
        assert figure.low <= figure.value <= figure.high


def test_psnr_and_ssim_agree_with_an_independent_implementation() -> None:
    rng = np.random.default_rng(5)
    truth = scene_levels()
    picture = linear(truth + rng.normal(0, 3, (*SHAPE, 3)))
    found = values({WHOLE: measure(Comparison([picture], linear(truth), VIEW))[WHOLE]})
    a = VIEW.levels(picture)
    b = VIEW.levels(linear(truth))
    assert found["psnr"] == pytest.approx(peak_signal_noise_ratio(b, a, data_range=255), abs=0.01)
    expected = structural_similarity(
        a @ LUMINANCE,
        b @ LUMINANCE,
        data_range=255,
        gaussian_weights=True,
        sigma=1.5,
        use_sample_covariance=False,
    )
    assert found["ssim"] == pytest.approx(expected, abs=2e-3)


@pytest.mark.parametrize(
    "area", [Area("a", -1, 0, 5, 5), Area("a", 150, 0, 11, 5), Area("a", 0, 0, 0, 5)]
)
def test_areas_outside_are_refused(area: Area) -> None:
    with pytest.raises(UsageError, match="does not lie inside the picture of 160x120"):
        compared(areas=(area,))
    with pytest.raises(UsageError, match="expected four whole numbers"):
        Area.parse("1,2,3")


@pytest.mark.parametrize("sigma", [0.7, 1.5, 4.0, 7.9])
@pytest.mark.parametrize("shape", [(40, 61), (40, 61, 3), (5, 7)])
def test_blurs_are_those_of_an_independent_implementation(
    sigma: float, shape: tuple[int, ...]
) -> None:
    values = np.random.default_rng(3).normal(100, 40, shape).astype(np.float32)
    exact = gaussian_filter(
        values.astype(np.float64), (sigma, sigma, 0)[: len(shape)], mode="reflect", truncate=3.0
    )
    assert np.abs(blur(values, sigma) - exact).max() < 1e-3


def test_brightness_says_which_way_the_light_shifted() -> None:
    assert compared(lambda levels: levels - 3.0)[WHOLE]["brightness"].value == pytest.approx(
        -3.0, abs=0.1
    )
    assert compared(lambda levels: levels + 2.0)[WHOLE]["brightness"].value == pytest.approx(
        2.0, abs=0.1
    )
    assert compared()[WHOLE]["brightness"].value == pytest.approx(0.0, abs=0.1)


def test_stray_pixels_stand_out_from_the_median_of_their_neighbourhood() -> None:
    levels = np.random.default_rng(5).uniform(0, 80, (30, 40, 3)).astype(np.float32)
    exact = (levels - median_filter(levels, (5, 5, 1), mode="reflect") > 24.0).any(axis=2)
    found = stands_out(np.pad(levels, ((2, 2), (2, 2), (0, 0)), mode="symmetric").reshape(34, -1))
    assert exact.any()
    assert (found == exact).all()


def test_the_worst_place_beside_a_background_without_any_noise_is_a_number() -> None:
    """An even sky has none at all, and running sums beside it come to a little less than
    nothing."""
    rng = np.random.default_rng(1)
    clean = np.full((180, 320, 3), 0.4, np.float32)

    def picture() -> np.ndarray:
        taken = clean.copy()
        taken[60:120, 100:200] += rng.normal(0, 0.03, (60, 100, 3)).astype(np.float32)
        return taken

    pair = Comparison([picture(), picture()], clean, View(), None, (picture(), picture()))
    found = measure(pair)[WHOLE]

    for key in ("grain_worst", "light_shift_worst"):
        figure = found[key]
        assert figure is not None
        assert np.isfinite(figure.numbers).all()

    assert found["grain_worst"].value > 2 * found["grain"].value

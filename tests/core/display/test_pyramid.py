import numpy as np
import pytest

from swift_sample.core.display.pyramid import levels_of, pixels_of, pyramid_of
from swift_sample.core.picture.view import View


def test_every_level_is_the_mean_of_the_one_before() -> None:
    light = np.random.default_rng(1).random((130, 257, 3), np.float32)
    pyramid = pyramid_of(light)
    assert pyramid.size == (257, 130)
    assert [level.shape[:2] for level in pyramid.levels] == [
        (130, 257),
        (65, 129),
        (33, 65),
        (17, 33),
    ]
    assert np.allclose(pyramid.levels[1][3, 5], light[6:8, 10:12].mean(axis=(0, 1)), atol=1e-3)
    assert np.allclose(pyramid.levels[1][3, 128], light[6:8, 256].mean(axis=0), atol=1e-3), (
        "an odd column counts twice"
    )


def test_the_coarsest_level_that_has_a_pixel_for_each_of_the_screen_is_taken() -> None:
    pyramid = pyramid_of(np.zeros((540, 960, 3), np.float32))
    assert [pyramid.level_for(zoom) for zoom in (4.0, 1.0, 0.7, 0.5, 0.3, 0.25, 1e-4)] == [
        0,
        0,
        0,
        1,
        1,
        2,
        4,
    ]


@pytest.mark.parametrize("view", [View(), View(1.5, "soft"), View(-3.0)])
def test_the_table_gives_what_the_view_gives(view: View) -> None:
    light = np.random.default_rng(2).lognormal(0, 2, (40, 30, 3)).astype(np.float32)
    halves = light.astype(np.float16)
    assert np.allclose(levels_of(halves, view), view.levels(halves.astype(np.float32)), atol=1e-4)
    assert np.array_equal(pixels_of(halves, view), view.eight_bit(halves.astype(np.float32)))
    assert np.abs(levels_of(halves, view) - view.levels(light)).max() < 0.2, (
        "half floats are as good as shown light"
    )


def test_what_is_no_number_is_dark_and_what_is_too_much_is_white() -> None:
    light = np.array([[[np.nan] * 3, [np.inf] * 3, [1e9] * 3, [-1.0] * 3]], np.float32)
    pixels = pixels_of(pyramid_of(light).levels[0], View())
    assert pixels[0, :, 0].tolist() == [0, 255, 255, 0]

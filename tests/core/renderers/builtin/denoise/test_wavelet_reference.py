"""The wavelet filter against a plain implementation of its paper's formulas, pixel by pixel in
double precision."""

import numpy as np
import pytest

from swift_sample.core.picture.colour import LUMINANCE
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.guides import LEAST_ALBEDO, SHARPNESS, Guides
from swift_sample.core.renderers.builtin.denoise.rows import in_bands, to_weights
from swift_sample.core.renderers.builtin.denoise.wavelet import (
    BOX,
    COLOUR_TOLERANCE,
    LEVELS,
    SPLINE,
    denoise_wavelet,
)

HEIGHT = 11
WIDTH = 14


def plain_wavelet(picture: Picture, values: np.ndarray | None) -> np.ndarray:
    """Dammertz et al. 2010 with the halves' variance in the colour weight; edges are copied
    outwards."""
    height, width = picture.beauty.shape[:2]
    albedo = (
        np.maximum(values[..., :3], LEAST_ALBEDO).astype(float)
        if values is not None
        else np.ones((height, width, 3))
    )
    light = picture.beauty / albedo
    raw = (((picture.layers["half_a"] - picture.layers["half_b"]) / albedo) @ LUMINANCE) ** 2 / 4
    features = np.zeros((height, width, 0))

    if values is not None:
        features = SHARPNESS * np.dstack([values[..., :3] @ LUMINANCE, values[..., 3:]]).astype(
            float
        )

    def at(plane: np.ndarray, y: int, x: int) -> np.ndarray:
        return plane[min(max(y, 0), height - 1), min(max(x, 0), width - 1)]

    variance = np.array(
        [
            [
                np.mean(
                    [
                        at(raw, y + j, x + i)
                        for j in range(-BOX, BOX + 1)
                        for i in range(-BOX, BOX + 1)
                    ]
                )
                for x in range(width)
            ]
            for y in range(height)
        ]
    )
    for level in range(LEVELS):
        step = 1 << level
        smooth = np.empty_like(light)
        left = np.empty_like(variance)
        brightness = light @ LUMINANCE

        for y in range(height):
            for x in range(width):
                total = 0.0
                colour = np.zeros(3)
                spread = 0.0

                for j in (-1, 0, 1):
                    for i in (-1, 0, 1):
                        v, u = y + j * step, x + i * step
                        distance = (brightness[y, x] - at(brightness, v, u)) ** 2
                        exponent = distance / (COLOUR_TOLERANCE**2 * variance[y, x] + 1e-8)
                        exponent += ((features[y, x] - at(features, v, u)) ** 2).sum()
                        weight = SPLINE[abs(i)] * SPLINE[abs(j)] * max(np.exp(-exponent), 2.0**-30)
                        total += weight
                        colour += weight * at(light, v, u)
                        spread += weight**2 * at(variance, v, u)

                smooth[y, x] = colour / total
                left[y, x] = spread / total**2

        light = smooth
        variance = left

    return light * albedo


def some_picture() -> Picture:
    rng = np.random.default_rng(12)
    clean = np.where(np.arange(WIDTH)[None, :, None] < 6, 0.2, 0.7) * np.ones((HEIGHT, WIDTH, 3))
    halves = [(clean + rng.normal(0, 0.06, clean.shape)).astype(np.float32) for _ in range(2)]
    return Picture((halves[0] + halves[1]) / 2, {"half_a": halves[0], "half_b": halves[1]})


@pytest.mark.parametrize("guided", [False, True])
def test_the_kernels_do_what_the_formulas_say(guided: bool) -> None:
    picture = some_picture()
    values = (
        np.random.default_rng(13).uniform(0.1, 0.3, (HEIGHT, WIDTH, 7)).astype(np.float32)
        if guided
        else None
    )
    expected = plain_wavelet(picture, values)
    found = denoise_wavelet(picture, Guides(values) if values is not None else None, 2)
    # The exponential of the kernels is within 6 %, weights are ratios, and four passes follow one
    # another.
    assert np.sqrt(((found - expected) ** 2).mean()) < 0.002
    assert np.abs(found - expected).max() < 0.015
    assert np.abs(expected - picture.beauty).max() > 0.05, "the filter does something here"


@pytest.mark.parametrize("threads", [1, 3])
def test_threads_change_nothing(threads: int) -> None:
    picture = some_picture()
    assert (denoise_wavelet(picture, None, threads) == denoise_wavelet(picture, None, 2)).all()


def test_even_light_stays_as_it_is() -> None:
    even = np.full((HEIGHT, WIDTH, 3), 0.4, np.float32)
    picture = Picture(even, {"half_a": even, "half_b": even})
    assert denoise_wavelet(picture, None, 2) == pytest.approx(even, abs=1e-6)


@pytest.mark.parametrize("height", [1, 16, 17, 100])
def test_bands_cover_every_row_once(height: int) -> None:
    rows: list[int] = []
    in_bands(lambda top, bottom: rows.extend(range(top, bottom)), height, 2)
    assert sorted(rows) == list(range(height))


@pytest.mark.parametrize("power", [0.0, 0.3, 2.0, 10.0, 80.0])
def test_weights_are_within_six_percent_of_the_exponential(power: float) -> None:
    row = np.full(16, power, np.float32)
    to_weights(row, np.float32(0.25))
    assert row == pytest.approx(0.25 * max(np.exp(-power), 2.0**-30), rel=0.062)

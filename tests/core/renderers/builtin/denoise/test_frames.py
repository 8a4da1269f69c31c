import numpy as np
import pytest

from swift_sample.core.errors import PictureError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.denoise import denoise_picture
from swift_sample.core.renderers.builtin.denoise.frames import denoise_frame

LIGHT = 0.5


def frame(number: int, shift: int = 0, sigma: float = 0.1) -> tuple[Picture, np.ndarray]:
    """A wall with a bright bar that moves by `shift` pixels a frame; the picture and its clean
    beauty."""
    rng = np.random.default_rng(number)
    x = np.mgrid[0:40, 0:64][1] - number * shift
    clean = np.where((x > 20) & (x < 36), 2 * LIGHT, LIGHT)[..., None] * np.ones(3)
    halves = [(clean + sigma * rng.normal(size=clean.shape)).astype(np.float32) for _ in range(2)]

    layers = {
        "half_a": halves[0],
        "half_b": halves[1],
        "albedo": np.ones((40, 64, 3), np.float32),
        "normal": np.zeros((40, 64, 3), np.float32),
        "depth": np.ones((40, 64), np.float32),
    }
    return Picture((halves[0] + halves[1]) / 2, layers), clean


def inside(values: np.ndarray) -> np.ndarray:
    return values[8:-8, 8:-8]


@pytest.mark.parametrize("shift", [0, 2])
def test_flicker_falls_below_that_of_single_frames(shift: int) -> None:
    frames = [frame(k, shift) for k in range(4)]
    alone = [
        denoise_picture(p, configured({"denoise.method": "patches"})).beauty - clean
        for p, clean in frames[1:3]
    ]
    together = [
        denoise_frame(frames[k][0], [frames[k - 1][0], frames[k + 1][0]], 2).beauty - frames[k][1]
        for k in (1, 2)
    ]

    def flicker(errors: list[np.ndarray]) -> float:
        return float(np.sqrt(np.mean(inside(errors[1] - errors[0]) ** 2)))

    assert flicker(together) < 0.75 * flicker(alone)
    # What moves stays where it is in its own frame.
    for error in together:
        assert np.abs(inside(error)).mean() < 0.02


def test_the_raw_frame_is_kept_and_threads_do_not_matter() -> None:
    one = frame(0)[0]
    other = frame(1)[0]
    shown = denoise_frame(one, [other], 1)
    assert np.array_equal(shown.layers["raw"], one.beauty)
    assert np.array_equal(shown.beauty, denoise_frame(one, [other], 3).beauty)


def test_frames_that_do_not_fit_are_named() -> None:
    one = frame(0)[0]
    other = frame(1)[0]
    small = Picture(other.beauty[:20], {name: values[:20] for name, values in other.layers.items()})
    with pytest.raises(PictureError, match="frame 2: is 64x20, the first one is 64x40"):
        denoise_frame(one, [small], 1)

    with pytest.raises(PictureError, match="frame 2: has no layer half_a"):
        denoise_frame(one, [Picture(other.beauty)], 1)

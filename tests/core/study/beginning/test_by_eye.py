import numpy as np
import pytest

from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.port import SMOOTH
from swift_sample.core.study.beginning.by_eye import (
    DETAILS,
    GRAINS,
    SHIFTS,
    _figure,
    _share_at,
    crops_by_eye,
)


def textured(noise: float = 0.05) -> Picture:
    rng = np.random.default_rng(4)
    clean = np.full((80, 160, 3), 0.3, np.float32)
    clean[20:60, 30:120] += 0.25 * ((np.indices((40, 90)).sum(axis=0) // 2) % 2)[..., None]
    halves = [clean + rng.normal(0, noise, clean.shape).astype(np.float32) for _ in range(2)]

    return Picture(
        np.mean(halves, axis=0), {"half_a": halves[0], "half_b": halves[1], SMOOTH: clean}
    )


def test_crops_have_the_grain_that_they_are_named_after() -> None:
    picture = textured()
    view = View()
    crops = [crop for crop in crops_by_eye(picture, view, (64, 32)) if crop.measure == "grain"]
    assert [crop.value for crop in crops] == list(GRAINS)
    # Rounding to whole levels adds a twelfth of a squared level; differences of two crops have no
    # picture in them.
    most = crops[-1].pixels.astype(float)
    least = crops[0].pixels.astype(float)
    assert np.sqrt(((most - least) ** 2).mean()) == pytest.approx(GRAINS[-1] - GRAINS[0], rel=0.05)


def test_smeared_crops_keep_the_detail_that_they_say() -> None:
    picture = textured()
    view = View()
    smooth = picture.layers[SMOOTH]
    blurred = np.repeat(np.repeat(smooth[::2, ::2], 2, axis=0), 2, axis=1)

    for kept in DETAILS:
        share = _share_at(kept, "detail_kept", smooth, blurred, view)
        assert _figure(
            "detail_kept", smooth + share * (blurred - smooth), smooth, view
        ) == pytest.approx(kept, abs=1.0)

    crops = [
        crop for crop in crops_by_eye(picture, view, (64, 32)) if crop.measure == "detail_kept"
    ]
    spread = [crop.pixels.astype(float).std() for crop in crops]
    assert spread == sorted(spread, reverse=True), "softer and softer"


def test_darker_crops_miss_the_light_that_they_say() -> None:
    picture = textured()
    view = View()
    cells = np.zeros((10, 20, 3), np.float32)
    cells[2:5, 8:14] = 0.2
    picture.reduced = {
        "light.0": np.full((10, 20, 3), 0.3, np.float32),
        "light.2": cells / 2,
        "light.5": cells / 2,
    }
    crops = [
        crop for crop in crops_by_eye(picture, view, (64, 32)) if crop.measure == "light_shift"
    ]
    assert [crop.value for crop in crops] == list(SHIFTS)
    assert crops[1].pixels.mean() < crops[0].pixels.mean(), "darker and darker"
    smooth = picture.layers[SMOOTH]
    dimmed = np.maximum(smooth - 0.2, 0)

    for shift in SHIFTS:
        share = _share_at(shift, "light_shift", smooth, dimmed, view)
        found = _figure("light_shift", smooth + share * (dimmed - smooth), smooth, view)
        assert found == pytest.approx(shift, abs=0.05)


def test_without_halves_or_a_denoiser_there_are_no_crops() -> None:
    assert crops_by_eye(Picture(np.ones((80, 160, 3), np.float32)), View()) == []

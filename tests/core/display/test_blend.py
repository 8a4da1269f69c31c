import numpy as np
import pytest

from swift_sample.core.display.blend import DENOISED, MASK, Stroke, blended, paint
from swift_sample.core.errors import PictureError
from swift_sample.core.picture.picture import Picture

EMPTY = np.zeros((40, 60), np.float32)


def test_a_stroke_is_full_within_its_hardness_and_fades_to_its_radius() -> None:
    mask = paint(EMPTY, Stroke(((30.0, 20.0),), 10.0, 0.5, 1.0))
    assert mask[19, 29] == 1
    assert mask[19, 34] == pytest.approx(1.0, abs=0.02), "half the radius"
    assert 0.2 < mask[19, 37] < 0.8
    assert mask[19, 41] == 0
    assert not EMPTY.any(), "the mask before stays for undoing"
    back = paint(mask, Stroke(((30.0, 20.0),), 10.0, 0.99, 0.0))
    assert back[19, 29] == 0


def test_a_stroke_covers_all_between_its_points_and_ends_at_the_picture() -> None:
    mask = paint(EMPTY, Stroke(((-5.0, 20.0), (80.0, 20.0)), 3.0, 0.9, 1.0))
    assert (mask[19] == 1).all()
    assert not mask[10].any()
    assert paint(EMPTY, Stroke(((-50.0, -50.0),), 3.0, 0.9, 1.0)) is EMPTY


def test_a_blend_lies_between_raw_and_denoised_as_its_mask_says() -> None:
    raw = np.full((40, 60, 3), 1.0, np.float32)
    smooth = np.full((40, 60, 3), 3.0, np.float32)
    mask = EMPTY.copy()
    mask[:, 30:] = 1
    made = blended(Picture(smooth, {"raw": raw}), smooth, 0.5, mask)
    assert (made.beauty[:, :30] == 1).all()
    assert (made.beauty[:, 30:] == 2).all()
    assert (made.layers[MASK][:, 30:] == 0.5).all()
    assert (made.layers[DENOISED] == 3).all()
    assert (blended(Picture(raw), smooth, 1.0).beauty == 3).all()
    with pytest.raises(PictureError, match="mask has 10x10 pixels"):
        blended(Picture(raw), smooth, 1.0, np.zeros((10, 10), np.float32))

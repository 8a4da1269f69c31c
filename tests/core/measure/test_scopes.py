import numpy as np
import pytest

from swift_sample.core.measure.scopes import BINS, COLUMNS, luminance, profile_of, scopes_of


def grey(rows: list[list[float]]) -> np.ndarray:
    return np.repeat(np.array(rows, float)[..., None], 3, axis=2)


def test_grey_has_its_own_level_as_luminance_and_green_counts_most() -> None:
    assert luminance(grey([[0, 128, 255]]))[0] == pytest.approx([0, 128, 255], abs=0.01)
    red, green, blue = (luminance(np.eye(3)[k] * 255) for k in range(3))
    assert (round(float(red), 1), round(float(green), 1), round(float(blue), 1)) == (
        54.2,
        182.4,
        18.4,
    ), "Rec. 709"


def test_the_histogram_holds_every_pixel_once() -> None:
    found = scopes_of(grey([[0, 0, 255, 255], [0, 127, 300, -5]])).histogram
    assert found.sum() == pytest.approx(1)
    assert found[0] == pytest.approx(4 / 8), "what is below the range stands at its end"
    assert found[-1] == pytest.approx(3 / 8)
    assert found[int(127 / 255 * BINS)] == pytest.approx(1 / 8)


def test_the_waveform_follows_columns() -> None:
    ramp = np.tile(np.linspace(0, 255, 40), (101, 1))
    ramp[:, 10] = np.arange(101)
    found = scopes_of(np.repeat(ramp[..., None], 3, axis=2)).waveform
    assert found.shape == (3, 40)
    assert found[:, 10] == pytest.approx([5, 50, 95], abs=0.01)
    assert found[1, 39] == pytest.approx(255, abs=0.01)
    wide = scopes_of(np.zeros((2, 1000, 3))).waveform
    assert wide.shape == (3, COLUMNS)


def test_the_profile_is_the_luminance_of_a_row() -> None:
    assert profile_of(grey([[7, 9]])) == pytest.approx([7, 9], abs=0.001)


def test_dimming_moves_a_profile_and_missing_light_reshapes_it() -> None:
    """What scopes are for: a picture at half its brightness keeps the shape of its rows, one with a
    dark corner does not."""
    row = np.linspace(40, 200, 64)
    corner = row.copy()
    corner[:16] *= 0.2
    whole, dim, dark = (profile_of(grey([part.tolist()])) for part in (row, row / 2, corner))
    assert np.corrcoef(whole, dim)[0, 1] == pytest.approx(1)
    assert np.ptp(whole / dim) < 1e-9
    assert np.ptp(whole / dark) > 3

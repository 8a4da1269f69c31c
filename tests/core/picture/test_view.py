import numpy as np
import pytest

from swift_sample.core.errors import UsageError
from swift_sample.core.picture.view import View


def test_srgb_values_of_the_standard() -> None:
    # IEC 61966-2-1: linear 0.5 is 187.5 of 255; the straight part ends at 0.0031308.
    levels = View().levels(np.array([0.0, 0.0031308, 0.5, 1.0, 7.0, -1.0]))
    assert levels == pytest.approx([0, 12.92 * 0.0031308 * 255, 187.516, 255, 255, 0], abs=1e-3)


def test_one_stop_doubles_light() -> None:
    x = np.array([0.1, 0.3])
    assert View(1.0).levels(x) == pytest.approx(View().levels(2 * x))


def test_soft_curve_keeps_order_and_reaches_white() -> None:
    levels = View(curve="soft").levels(np.linspace(0, 4, 100))
    assert (np.diff(levels) > 0).all()
    assert levels[-1] == pytest.approx(255)


@pytest.mark.parametrize(
    "arguments", [(float("nan"), "straight"), (21.0, "straight"), (0.0, "other")]
)
def test_bad_views_are_refused(arguments) -> None:
    with pytest.raises(UsageError, match="expected"):
        View(*arguments)


@pytest.mark.parametrize("curve", ["straight", "soft"])
def test_levels_are_those_of_the_formula_in_double_precision(curve: str) -> None:
    light = np.concatenate([np.linspace(-0.5, 4, 4001), np.geomspace(1e-7, 1, 4001)])
    x = np.maximum(light * 2**0.7, 0)
    x = np.minimum(x * (1 + x / 16) / (1 + x) if curve == "soft" else x, 1)
    exact = 255 * np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)
    assert np.abs(View(0.7, curve).levels(light) - exact).max() < 2e-3

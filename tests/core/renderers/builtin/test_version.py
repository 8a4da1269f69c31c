"""The renderer's version changes with what can change a pixel, and with nothing else."""

import numpy as np
import pytest

from swift_sample.core.renderers.builtin.version import PIXELS
from tests.core.renderers.builtin.stored_pixels import CASES, FILE, rendered

LEVELS = 0.02
"""Processors add in other orders and round differently: by less than this, in display levels, in
most pixels."""
OTHERS = 0.01
"""The share of pixels in which rounding may send a path another way."""
WORDS = "pixels changed: raise PIXELS in version.py and store them again, see stored_pixels.py"


def differs(one: np.ndarray, other: np.ndarray) -> bool:
    """Whether two pictures differ by more than rounding does."""
    return bool(((np.abs(one - other) > LEVELS).any(axis=2)).mean() > OTHERS)


def test_stored_pixels_are_those_of_this_version() -> None:
    with np.load(FILE) as stored:
        assert int(stored["version"]) == PIXELS, (
            "store the pixels of this version: see stored_pixels.py"
        )
        assert set(stored.files) == {"version", *CASES}


@pytest.mark.parametrize("name", CASES)
def test_pixels_are_as_they_were_stored(name: str) -> None:
    with np.load(FILE) as stored:
        assert not differs(rendered(name), stored[name]), WORDS


def test_every_case_shows_what_its_settings_do() -> None:
    """Else a change of theirs would go unseen; another seed is seen in each."""
    with np.load(FILE) as stored:
        pictures = {
            name: stored[name] for name in CASES if stored[name].shape == stored["stall"].shape
        }

    for name, picture in pictures.items():
        for other, compared in pictures.items():
            assert (name == other) or differs(picture, compared), (
                f"{name} and {other} look the same"
            )

    assert differs(rendered("stall", seed=2), pictures["stall"])

"""Pictures made for tests of what shows them."""

from pathlib import Path

import numpy as np

from swift_sample.app.pictures import layers_of
from swift_sample.app.toning import Source
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View


def source_of(levels: np.ndarray, **layers: np.ndarray) -> Source:
    """A source that shows these display levels, uint8[h, w, 3], to one level."""
    light = View().light(np.asarray(levels, np.float32))
    return Source(layers=layers_of(Path("made"), Picture(light, layers)), view=View())


def plain(colour: tuple[int, int, int], width: int = 100, height: int = 50) -> Source:
    """One colour all over, with a white pixel in the middle."""
    levels = np.full((height, width, 3), colour, np.uint8)
    levels[height // 2, width // 2] = 255
    return source_of(levels)

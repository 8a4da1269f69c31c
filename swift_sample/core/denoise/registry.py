"""All denoisers by the name that `denoise.method` gives them, and the one way to use them."""

from collections.abc import Callable

import numpy as np

from swift_sample.core.denoise.wavelet import denoise_wavelet
from swift_sample.core.render.film import Picture
from swift_sample.core.settings import Configuration

Denoiser = Callable[[Picture, bool, int], np.ndarray]
"""(picture, whether to use guides, threads) to the smoothed beauty, float32[h, w, 3]."""

DENOISERS: dict[str, Denoiser] = {"wavelet": denoise_wavelet}


def denoise_picture(picture: Picture, configuration: Configuration) -> Picture:
    """The picture as `denoise.*` wants it; the raw beauty is kept as the layer `raw`.

    Strength 0 and method "none" return the picture itself, bit for bit.
    """
    method, strength = str(configuration["denoise.method"]), float(configuration["denoise.strength"])
    if method == "none" or strength == 0:
        return picture
    smooth = DENOISERS[method](picture, bool(configuration["denoise.guides"]), int(configuration["device.threads"]))
    beauty = smooth if strength == 1 else picture.beauty + np.float32(strength) * (smooth - picture.beauty)
    return Picture(beauty.astype(np.float32), {**picture.layers, "raw": picture.beauty}, picture.notes)

"""All denoisers by the name that `denoise.method` gives them, and the one way to use them."""

from collections.abc import Callable

import numpy as np

from swift_sample.core.errors import PictureError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.guides import Guides, guides_of
from swift_sample.core.renderers.builtin.denoise.nonlocal_means import denoise_nonlocal
from swift_sample.core.renderers.builtin.denoise.regression import denoise_regression
from swift_sample.core.renderers.builtin.denoise.strays import spread_strays
from swift_sample.core.renderers.builtin.denoise.wavelet import denoise_wavelet
from swift_sample.core.renderers.builtin.lowlevel.records import PASSES
from swift_sample.core.settings import Configuration

Denoiser = Callable[[Picture, Guides | None, int], np.ndarray]
"""(picture, guides where they are to be used, threads) to the smoothed beauty, float32[h, w, 3]."""

DENOISERS: dict[str, Denoiser] = {
    "wavelet": denoise_wavelet,
    "patches": denoise_nonlocal,
    "regression": denoise_regression,
}


def denoise_picture(
    picture: Picture, configuration: Configuration, mask: np.ndarray | None = None
) -> Picture:
    """The picture as `denoise.*` wants it; the raw beauty is kept as the layer `raw`.

    mask: float32[h, w], 0 to 1, how much of the smoothed picture is shown where; everywhere if
    None. Strength 0 and method "none" return the picture itself, bit for bit. Raises PictureError
    for a mask of another size.
    """
    method = str(configuration["denoise.method"])
    strength = np.float32(configuration["denoise.strength"])

    if mask is not None and mask.shape != picture.beauty.shape[:2]:
        raise PictureError(
            f"the mask has {mask.shape[1]}x{mask.shape[0]} pixels, the picture {picture.width}x"
            f"{picture.height}; paint it anew"
        )

    if method == "none" or strength == 0:
        return picture

    threads = int(configuration["device.threads"])
    guides = guides_of(picture, threads) if configuration["denoise.guides"] else None
    share = (
        strength if mask is None else strength * np.clip(mask, 0, 1)[..., None].astype(np.float32)
    )

    def smoothed(part: Picture) -> np.ndarray:
        smooth = DENOISERS[method](spread_strays(part, threads), guides, threads)
        if mask is None and strength == 1:
            return smooth.astype(np.float32)
        return (part.beauty + share * (smooth - part.beauty)).astype(np.float32)

    layers = {
        name: values for name, values in picture.layers.items() if not name.endswith(HALF_SUFFIX)
    }
    layers["raw"] = picture.beauty
    if not configuration["denoise.per_pass"] or PASSES[0] + HALF_SUFFIX not in picture.layers:
        return Picture(smoothed(picture), layers, picture.reduced, picture.notes)

    beauty = np.zeros_like(picture.beauty)
    for name in PASSES:
        if picture.layers[name].any():
            layers[name] = smoothed(_pass_picture(picture, name))
        beauty += layers[name]

    return Picture(beauty, layers, picture.reduced, picture.notes)


HALF_SUFFIX = "_half"
"""Of the layers that hold one half's mean beside the whole one's."""


def _pass_picture(picture: Picture, name: str) -> Picture:
    """One light pass with its two halves, as a picture of its own."""
    whole = picture.layers[name]
    half_b = picture.layers[name + HALF_SUFFIX]
    samples = np.maximum(picture.layers["samples"], 1)[..., None]
    odd = np.floor(samples / 2)
    half_a = (whole * samples - half_b * odd) / np.maximum(samples - odd, 1)

    return Picture(whole, {"half_a": half_a.astype(np.float32), "half_b": half_b})

"""Against flicker: a frame smoothed together with its neighbours, so that grain and what filters
leave of it change less from frame to frame.

Non-local means over several frames (Buades, Coll and Morel 2008, "Nonlocal Image and Movie
Denoising", section 5): what moves less than the search window between frames is found again by its
likeness, without knowing how it moved.
"""

import numpy as np

from swift_sample.core.errors import PictureError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.guides import Guides, guides_of
from swift_sample.core.renderers.builtin.denoise.nonlocal_means import denoise_frames
from swift_sample.core.renderers.builtin.denoise.strays import spread_strays

NEEDED = ("half_a", "half_b", "albedo", "normal", "depth")


def denoise_frame(frame: Picture, neighbours: list[Picture], threads: int) -> Picture:
    """The frame with its raw beauty as the layer `raw`; costs about as much per neighbour as the
    `patches` denoiser.

    Raises PictureError where a picture lacks the layers in NEEDED or has another size.
    """
    frames = [frame, *neighbours]
    for number, picture in enumerate(frames):
        missing = [name for name in NEEDED if name not in picture.layers]
        if missing:
            raise PictureError(
                f"frame {number + 1}: has no layer {missing[0]}; render it with all its layers"
            )

        if picture.beauty.shape != frame.beauty.shape:
            raise PictureError(
                f"frame {number + 1}: is {picture.width}x{picture.height}, the first one is "
                f"{frame.width}x{frame.height}; render all at one size"
            )

    guides: list[Guides | None] = [guides_of(picture, threads) for picture in frames]
    half_a, half_b = denoise_frames(
        [spread_strays(picture, threads) for picture in frames], guides, threads
    )
    layers = {**frame.layers, "raw": frame.layers.get("raw", frame.beauty)}

    return Picture((half_a + half_b) * np.float32(0.5), layers, frame.reduced, frame.notes)

"""Raw and denoised painted together: a strength for the whole picture, and a mask of how much of it
counts where."""

from dataclasses import dataclass

import numpy as np

from swift_sample.core.errors import PictureError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import DENOISING

MASK = "mask"
"""The layer of a blended picture that holds its mask."""
DENOISED = "denoised"


@dataclass(frozen=True)
class Stroke:
    """A round brush moved through `points` (x, y in pixels): full within `hardness` of its radius,
    then falling to nothing. It takes the mask towards `value`, 1 for denoised, 0 for raw."""

    points: tuple[tuple[float, float], ...]
    radius: float
    hardness: float
    value: float


def paint(mask: np.ndarray, stroke: Stroke) -> np.ndarray:
    """The mask float32[h, w] with a stroke on it; the mask itself stays."""
    height, width = mask.shape
    xs, ys = np.array(stroke.points, np.float64).T
    reach = stroke.radius
    left, right = max(0, int(xs.min() - reach)), min(width, int(xs.max() + reach) + 2)
    top, bottom = max(0, int(ys.min() - reach)), min(height, int(ys.max() + reach) + 2)

    if left >= right or top >= bottom:
        return mask

    at_y, at_x = np.mgrid[top:bottom, left:right] + 0.5
    far = np.full(at_x.shape, np.inf)
    ends = list(zip(xs, ys, strict=True))

    for (x0, y0), (x1, y1) in zip(ends, ends[1:] or ends, strict=False):
        along = np.array([x1 - x0, y1 - y0])
        length = float(along @ along)
        share = (
            np.clip(((at_x - x0) * along[0] + (at_y - y0) * along[1]) / length, 0, 1)
            if length
            else 0.0
        )
        far = np.minimum(far, np.hypot(at_x - x0 - share * along[0], at_y - y0 - share * along[1]))

    hard = min(stroke.hardness, 0.999)
    cover = np.clip((1 - far / max(stroke.radius, 0.5)) / (1 - hard), 0, 1)
    cover = cover * cover * (3 - 2 * cover)
    made = mask.copy()
    part = made[top:bottom, left:right]
    part += (cover * (stroke.value - part)).astype(np.float32)

    return made


def blended(
    picture: Picture, denoised: np.ndarray, strength: float, mask: np.ndarray | None = None
) -> Picture:
    """A picture between its raw light and `denoised` float32[h, w, 3]: `strength` from 0 to 1,
    times the mask float32[h, w] where there is one. Both stay as layers, beside what else the
    picture has.

    Raises PictureError for pictures and masks of different sizes.
    """
    raw = picture.layers.get("raw", picture.beauty)
    for what, other in (("denoised picture", denoised), ("mask", mask)):
        if other is not None and other.shape[:2] != raw.shape[:2]:
            height, width = other.shape[:2]
            raise PictureError(
                f"the {what} has {width}x{height} pixels, the picture "
                f"{picture.width}x{picture.height}"
            )

    share = (
        np.full(raw.shape[:2], strength, np.float32)
        if mask is None
        else np.float32(strength) * mask
    )
    light = raw + share[..., None] * (denoised - raw)
    layers = {**picture.layers, "raw": raw, DENOISED: denoised, MASK: share}

    return Picture(light.astype(np.float32), layers, {}, dict(picture.notes))


def at_full_strength(configuration: Configuration, method: str) -> Configuration:
    """A configuration that denoises with a method, all of it."""
    changes: dict[str, object] = {}
    for declared in configuration.catalogue.all_with_role(DENOISING):
        if declared.kind == "choice":
            changes[declared.key] = method
        elif declared.kind == "number" and declared.maximum == 1:
            changes[declared.key] = 1.0

    return configuration.replace(changes)

"""Textures as tiled pyramids: each level half the size of the one before (Williams 1983, "Pyramidal
Parametrics"), cut into square tiles that lie one after another. In memory they are made anew at
every cold start; prepared ones stand on disk and threads read from them the tiles that they need.
"""

import hashlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from swift_sample.core.errors import SceneError, one_line
from swift_sample.core.files import written_whole
from swift_sample.core.kernels.cache import cache_root
from swift_sample.core.picture.colour import srgb_decoded, srgb_encoded
from swift_sample.core.renderers.builtin.lowlevel.records import MAX_LEVELS
from swift_sample.core.scene.model import Texture

TILE = 32
"""Edge of a tile in texels: 4 KiB, a page of the processor."""
LAYOUT_VERSION = 1
"""Part of a prepared texture's name; a change of the layout leaves old files unused."""


@dataclass(frozen=True)
class Level:
    """`first` is the number of its first tile; tiles follow row by row."""

    width: int
    height: int
    first: int

    @property
    def columns(self) -> int:
        return -(-self.width // TILE)

    @property
    def tiles(self) -> int:
        return self.columns * -(-self.height // TILE)


def levels_of(width: int, height: int) -> list[Level]:
    """The levels from the whole picture down to a single texel."""
    levels = [Level(width, height, 0)]
    while (levels[-1].width > 1 or levels[-1].height > 1) and len(levels) < MAX_LEVELS:
        last = levels[-1]
        levels.append(Level((last.width + 1) // 2, (last.height + 1) // 2, last.first + last.tiles))

    return levels


def kept_levels(levels: list[Level], max_size: int) -> int:
    """The first level whose sides are at most `max_size`; 0 means no limit."""
    if max_size <= 0:
        return 0
    return next(
        (k for k, level in enumerate(levels) if max(level.width, level.height) <= max_size),
        len(levels) - 1,
    )


def pyramid(pixels: np.ndarray, srgb: bool, first_level: int = 0) -> np.ndarray:
    """All tiles from `first_level` on, uint32[n, TILE * TILE], 8 bits for red, green, blue and
    opacity.

    pixels: uint8[h, w, 4]. Levels are averages of two by two texels, colours in linear light where
    they are coded as sRGB.
    """
    levels = levels_of(pixels.shape[1], pixels.shape[0])
    tiles = [_cut(pixels)] if first_level == 0 else []

    for k in range(1, len(levels)):
        pixels = _halved(pixels, srgb)
        if k >= first_level:
            tiles.append(_cut(pixels))

    return np.concatenate(tiles)


def _halved(pixels: np.ndarray, srgb: bool) -> np.ndarray:
    height, width = pixels.shape[:2]
    if height % 2 or width % 2:
        pixels = np.pad(pixels, ((0, height % 2), (0, width % 2), (0, 0)), mode="edge")

    four = [pixels[y::2, x::2] for y in (0, 1) for x in (0, 1)]
    halved: np.ndarray = np.asarray(
        (np.sum(four, axis=0, dtype=np.uint16) + np.uint16(2)) // np.uint16(4)
    )
    if srgb:
        halved[..., :3] = _CODES[np.sum([_LINEAR[part[..., :3]] for part in four], axis=0) >> 2]

    return halved.astype(np.uint8)


_CODE = np.arange(256) / 255
_LINEAR = np.round(srgb_decoded(_CODE) * 65535).astype(np.uint32)
"""IEC 61966-2-1 in 16 bits: fine enough that every code comes back."""
_SHARE = np.arange(65536) / 65535
_CODES = np.round(srgb_encoded(_SHARE) * 255).astype(np.uint8)


def _cut(pixels: np.ndarray) -> np.ndarray:
    """One level as tiles, uint32[n, TILE * TILE]; beyond the edges they are empty."""
    height, width = pixels.shape[:2]
    rows, columns = -(-height // TILE), -(-width // TILE)
    packed = np.zeros((rows * TILE, columns * TILE), np.uint32)
    packed[:height, :width] = np.ascontiguousarray(pixels, np.uint8).view(np.uint32)[..., 0]

    return packed.reshape(rows, TILE, columns, TILE).swapaxes(1, 2).reshape(-1, TILE * TILE)


def prepared_folder() -> Path:
    return cache_root() / "textures"


def prepared(texture: Texture) -> np.ndarray:
    """The tiles of a texture, read from disk as they are touched; made and written there where they
    are missing.

    Found by the content of the texture, so a changed picture is prepared anew. Raises SceneError
    where the folder cannot be written.
    """
    width, height = texture.size
    text = f"{LAYOUT_VERSION} {texture.key} {texture.srgb} {width}x{height}"
    path = prepared_folder() / f"{hashlib.sha256(text.encode()).hexdigest()[:24]}.npy"
    last = levels_of(width, height)[-1]
    expected = (last.first + last.tiles, TILE * TILE)

    try:
        found = np.load(path, mmap_mode="r", allow_pickle=False)
        if found.shape == expected and found.dtype == np.uint32:
            return found
    except (OSError, ValueError, EOFError):
        pass  # missing or damaged: made below

    tiles = pyramid(texture.pixels, texture.srgb)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with written_whole(path) as temporary:
            np.save(temporary, tiles)
    except OSError as error:
        raise SceneError(
            f"{path.parent}: prepared textures cannot be written ({one_line(error)}); free some "
            "space, clear it "
            "with `swift-sample check --clear textures`, or set textures.prepared=false"
        ) from error

    return np.load(path, mmap_mode="r", allow_pickle=False)

"""Pictures for the screen: read and turned into display pixels off-thread, kept while there is room."""

from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtGui import QImage

from swift_sample.core.errors import PictureError, SwiftSampleError, UnfitPictureError, one_line
from swift_sample.core.log import log_file, report_error
from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View

KEPT_BYTES = 512 << 20
THUMBNAIL_WIDTH = 208


@dataclass(frozen=True)
class PictureKey:
    """A file and how it is shown."""

    path: Path
    exposure: float
    curve: str
    heat: str = ""
    """the map of HEATS laid over it; empty for none"""
    other: Path | None = None
    """what is subtracted from it; None for nothing"""
    gain: int = 1


@dataclass(frozen=True)
class ShownPicture:
    """Display pixels, or the reason why there are none. `most` is what a heat map's brightest colour stands for."""

    key: PictureKey
    image: QImage | None
    problem: str | None
    most: float = 0.0


@dataclass(frozen=True)
class Heat:
    """A map over the picture: the layer it comes from, and what its values are multiplied by to be in `unit`."""

    label: str
    layer: str
    factor: float
    unit: str


HEATS = {
    "time": Heat("time", "seconds", 1000.0, "ms a pixel"),
    "samples": Heat("samples", "samples", 1.0, "samples a pixel"),
    "grain": Heat("grain", "error", LEVELS, "levels, as estimated while rendering"),
}
GAINS = (1, 2, 4, 8, 16, 32)
"""What differences may be multiplied by."""
HEAT_PERCENTILE = 99.5
"""The brightest colour stands for this percentile: single pixels shall not darken all others."""
HEAT_SHARE = 0.8
"""How much of the map shows over the picture."""


@cache
def heat_colours() -> np.ndarray:
    """uint8[256, 3]: a perceptually even map (Kovesi 2015, "Good Colour Maps: How to Design Them")."""
    import pyqtgraph as pg

    return np.asarray(pg.colormap.get("CET-L8").getLookupTable(nPts=256))[:, :3]


def difference(levels: np.ndarray, other: np.ndarray, gain: int) -> np.ndarray:
    """What one picture has more than another, in display levels times a gain, around mid-grey; uint8[h, w, 3].

    Raises PictureError for pictures of different sizes.
    """
    if levels.shape != other.shape:
        raise PictureError("pictures of different sizes cannot be subtracted")
    return np.clip((levels - other) * np.float32(gain) + np.float32(LEVELS / 2 + 0.5), 0, LEVELS).astype(np.uint8)


def heated(pixels: np.ndarray, values: np.ndarray, most: float) -> np.ndarray:
    """Display pixels uint8[h, w, 3] under a heat map of values [h, w] from 0 to `most`."""
    grey = pixels.mean(axis=2, keepdims=True)
    places = (np.clip(values / max(most, 1e-30), 0, 1) * 255).astype(np.uint8)
    return (HEAT_SHARE * heat_colours()[places] + (1 - HEAT_SHARE) * grey).astype(np.uint8)


class PictureStore(QObject):
    """Hands out pictures; those not there yet arrive with `arrived`."""

    arrived = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = ThreadPoolExecutor(1, thread_name_prefix="pictures")
        self._kept: OrderedDict[PictureKey, ShownPicture] = OrderedDict()
        self._wanted: set[PictureKey] = set()
        self._closed = False
        self.digest_of: Callable[[str], str] = lambda name: ""
        """of a picture's file as it was written, by its name (see Snapshot.digest_of)"""
        self.arrived.connect(self._keep)

    def get(self, path: Path, view: View, heat: str = "", other: Path | None = None, gain: int = 1) -> ShownPicture | None:
        """The picture, under a heat map if one is named, or less another, if it is there; else None, and it is fetched."""
        key = PictureKey(path, view.exposure, view.curve, heat, other, gain)
        shown = self._kept.get(key)
        if shown is not None:
            self._kept.move_to_end(key)
        elif key not in self._wanted and not self._closed:
            self._wanted.add(key)
            self._work.submit(self._read, key)
        return shown

    def forget(self, path: Path) -> None:
        """Drop a picture whose file changed."""
        for key in [k for k in self._kept if path in (k.path, k.other)]:
            del self._kept[key]

    def close(self) -> None:
        self._closed = True
        self._work.shutdown(wait=True, cancel_futures=True)

    def _read(self, key: PictureKey) -> None:
        from swift_sample.core.picture import stored

        def read(path: Path) -> Picture:
            return stored.read_stored(path, self.digest_of(path.name))

        try:
            picture, view, most = read(key.path), View(key.exposure, key.curve), 0.0
            if key.other is not None:
                pixels = difference(view.levels(picture.beauty), view.levels(read(key.other).beauty), key.gain)
            else:
                pixels = view.eight_bit(picture.beauty)
            if key.heat:
                values = picture.layers[HEATS[key.heat].layer] * HEATS[key.heat].factor
                most = float(np.percentile(values, HEAT_PERCENTILE))
                pixels = heated(pixels, values, most)
            shown = ShownPicture(key, to_image(pixels), None, most)
        except UnfitPictureError as error:
            shown = ShownPicture(key, None, f"This picture {error.fault}. Measuring again renders it anew.")
        except SwiftSampleError as error:
            shown = ShownPicture(key, None, one_line(error))
        except KeyError:
            shown = ShownPicture(key, None, "This picture was rendered without a record of that.")
        except Exception as error:  # a place that waits for a picture must learn of any end
            report_error(f"showing {key.path.name}", error)
            shown = ShownPicture(key, None, f"This picture cannot be shown ({one_line(error)}); saved in {log_file()}")
        if not self._closed:
            self.arrived.emit(shown)

    def _keep(self, shown: ShownPicture) -> None:
        self._wanted.discard(shown.key)
        self._kept[shown.key] = shown
        total = sum(p.image.sizeInBytes() for p in self._kept.values() if p.image is not None)
        while total > KEPT_BYTES and len(self._kept) > 1:
            _, dropped = self._kept.popitem(last=False)
            total -= dropped.image.sizeInBytes() if dropped.image is not None else 0


def to_image(pixels: np.ndarray) -> QImage:
    """uint8[h, w, 3] as an image that owns its pixels."""
    height, width, _ = pixels.shape
    data = np.ascontiguousarray(pixels).tobytes()
    return QImage(data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()


def thumbnail(image: QImage) -> QImage:
    return image.scaledToWidth(THUMBNAIL_WIDTH, Qt.TransformationMode.SmoothTransformation)

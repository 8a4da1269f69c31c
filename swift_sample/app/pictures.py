"""Pictures for the screen: read off-thread, and kept as half floats while there is room."""

from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.app.toning import BEAUTY, BY_KEY, HEAT, NAMES, RAW, Layers
from swift_sample.core.display.pyramid import pyramid_of
from swift_sample.core.errors import SwiftSampleError, UnfitPictureError, one_line
from swift_sample.core.log import log_file, report_error
from swift_sample.core.picture.picture import Picture

KEPT_BYTES = 1 << 30
ALL_LAYERS_PIXELS = 2_000_000
"""Of larger pictures only what was asked for is kept, with what a blend needs."""
HEAT_PERCENTILE = 99.5
"""The brightest colour stands for this percentile: single pixels shall not darken all others."""


class PictureStore(QObject):
    """Hands out pictures; those not there yet arrive with `arrived`."""

    arrived = pyqtSignal(object)
    """the `Layers` that were read"""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = ThreadPoolExecutor(1, thread_name_prefix="pictures")
        self._kept: OrderedDict[Path, Layers] = OrderedDict()
        self._wanted: dict[Path, set[str]] = {}
        self._closed = False
        self.digest_of: Callable[[str], str] = lambda name: ""
        """of a picture's file as it was written, by its name (see Snapshot.digest_of)"""
        self.arrived.connect(self._keep)

    def get(self, path: Path, shown: str = BEAUTY) -> Layers | None:
        """The picture's layers, if they are there with what a pass shows; else None, and they are
        read."""
        layers = self._kept.get(path)
        layer = BY_KEY[shown].layer

        if layers is not None and (
            layers.problem or layers.all_there or layers.of(layer) is not None
        ):
            self._kept.move_to_end(path)
            return layers

        wanted = self._wanted.get(path)
        if (wanted is None or layer not in wanted) and not self._closed:
            known = set(layers.pyramids) if layers is not None else set()
            self._wanted[path] = {*known, *(wanted or ()), layer}
            self._work.submit(self._read, path, frozenset(self._wanted[path]))

        return None

    def forget(self, path: Path) -> None:
        """Drop a picture whose file changed."""
        self._kept.pop(path, None)

    def close(self) -> None:
        self._closed = True
        self._work.shutdown(wait=True, cancel_futures=True)

    def _read(self, path: Path, wanted: frozenset[str]) -> None:
        try:
            layers = layers_of(path, read(path, self.digest_of(path.name)), wanted)
        except UnfitPictureError as error:
            layers = Layers(
                path=path, problem=f"This picture {error.fault}. Measuring again renders it anew."
            )
        except SwiftSampleError as error:
            layers = Layers(path=path, problem=one_line(error))
        except Exception as error:  # a place that waits for a picture must learn of any end
            report_error(f"showing {path.name}", error)
            layers = Layers(
                path=path,
                problem=f"This picture cannot be shown ({one_line(error)}); saved in {log_file()}",
            )

        if not self._closed:
            self.arrived.emit(layers)

    def _keep(self, layers: Layers) -> None:
        self._wanted.pop(layers.path, None)
        self._kept[layers.path] = layers
        total = sum(map(_bytes, self._kept.values()))
        while total > KEPT_BYTES and len(self._kept) > 1:
            total -= _bytes(self._kept.popitem(last=False)[1])


def read(path: Path, digest: str) -> Picture:
    """A picture of a study, or one that came from elsewhere. Raises PictureError."""
    from swift_sample.core.picture import stored
    from swift_sample.core.picture.reading import read_picture

    return (
        stored.read_stored(path, digest)
        if digest or path.suffix.lower() == ".exr"
        else read_picture(path)
    )


def layers_of(path: Path, picture: Picture, wanted: frozenset[str] = frozenset()) -> Layers:
    """What is kept of a picture: everything, or of a large one `wanted` layers with those of the
    picture itself."""
    everything = picture.width * picture.height <= ALL_LAYERS_PIXELS
    found = {"beauty": picture.beauty, **picture.layers}
    known = {*NAMES, *(one.layer for one in BY_KEY.values())}

    kept = {
        name: values
        for name, values in found.items()
        if name in known and (everything or name in {BEAUTY, RAW, *NAMES, *wanted})
    }
    scaled = {one.layer for one in BY_KEY.values() if one.kind == HEAT or one.key == "depth"}
    most = {
        name: float(np.percentile(kept[name], HEAT_PERCENTILE)) for name in scaled & kept.keys()
    }
    all_there = everything or known.isdisjoint(found.keys() - kept.keys())
    pyramids = {name: pyramid_of(values, names=name in NAMES) for name, values in kept.items()}
    reduced = {
        name: values for name, values in picture.reduced.items() if name.startswith("light.")
    }

    return Layers(path=path, pyramids=pyramids, most=most, reduced=reduced, all_there=all_there)


def _bytes(layers: Layers) -> int:
    return sum(pyramid.bytes for pyramid in layers.pyramids.values())

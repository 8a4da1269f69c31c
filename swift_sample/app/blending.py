"""Blending a trial's raw picture with what a denoiser makes of it: off the window's thread, with
figures that follow."""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, suppress
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, QPointF, pyqtSignal

from swift_sample.app.pictures import layers_of, read
from swift_sample.app.toning import Layers, Mask
from swift_sample.core.display.blend import Stroke, at_full_strength, blended, paint
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.log import report_error
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import DENOISING
from swift_sample.core.worker.merging import without_pieces

AS_RENDERED = "as rendered"
"""The picture that the trial itself was denoised to."""
MOST_UNDONE = 50


MOST_RUNS = 2
"""Runs that are blended alike to measure the blend: grain is what differs between two."""


class Blending(QObject):
    """Pictures of one trial's runs that are blended alike; the first is the one that is seen.
    `layers` are its raw and denoised light for the canvas; `figures` those of the blend as it stood
    last."""

    changed = pyqtSignal()
    measured = pyqtSignal()
    problem = pyqtSignal(str)
    saved = pyqtSignal(str)
    _ready = pyqtSignal(object)

    def __init__(
        self,
        files: Sequence[tuple[Path, str]],
        configuration: Configuration,
        renderer: Renderer,
        view: View,
        reference: tuple[Path, str] | None,
        parent: QObject | None = None,
        *,
        reference_samples: int = 0,
        pieces: Mapping[Path, tuple[Path, int]] | None = None,
    ) -> None:
        """`pieces` are recordings of chunks of the reference that pictures hold the samples of,
        with their numbers of samples, by the picture: they are taken out of the reference, of
        `reference_samples`, before anything is compared with it."""
        super().__init__(parent)
        self.path = files[0][0]
        self.view = view
        self.layers: Layers | None = None
        self.strength = 1.0
        self.method = ""
        self.mask: Mask | None = None
        self.figures: Mapping[str, Figure | None] = {}
        self.is_busy = True
        self._configuration = configuration
        self._renderer = renderer
        self._reference = reference
        self._reference_samples = reference_samples
        self._pieces = dict(pieces or {})
        self._files = files[:MOST_RUNS]
        self._pictures: list[Picture] = []
        self._true: Picture | None = None
        self._denoised: dict[str, list[np.ndarray]] = {}
        self._past: list[tuple[float, Mask | None]] = []
        self._stroke: list[tuple[float, float]] = []
        self._before: Mask | None = None
        self._measuring = self._stale = self._closed = False
        self._work = ThreadPoolExecutor(1, thread_name_prefix="blend")
        self._ready.connect(lambda do: do())
        self._do("reading the picture", self._read)

    @property
    def methods(self) -> list[str]:
        """What the raw picture can be denoised with: as it was rendered, and the renderer's
        denoisers."""
        own = [AS_RENDERED] if self._pictures and "raw" in self._pictures[0].layers else []
        declared = [
            s for s in self._configuration.catalogue.all_with_role(DENOISING) if s.kind == "choice"
        ]
        if not declared or not self._renderer.capabilities.denoises_stored:
            return own

        return own + [str(value) for value in declared[0].suggested if value != "none"]

    @property
    def is_measuring(self) -> bool:
        """Whether figures of the blend as it stands are still to come."""
        return self._measuring or self._stale

    def close(self) -> None:
        self._closed = True
        self._work.shutdown(wait=False, cancel_futures=True)

    def set_strength(self, strength: float) -> None:
        """How much of the denoised picture is taken, from 0 to 1."""
        self.strength = min(1.0, max(0.0, strength))
        self._follow()

    def keep_for_undo(self) -> None:
        """Remember how it stands, before a change that can be undone."""
        self._past = [*self._past, (self.strength, self.mask)][-MOST_UNDONE:]

    @property
    def can_undo(self) -> bool:
        return bool(self._past)

    def undo(self) -> None:
        """Take the last stroke or change of strength back."""
        if self._past:
            self.strength, self.mask = self._past.pop()
            self._follow()

    def stroke(
        self, start: QPointF, end: QPointF, first: bool, radius: float, hardness: float, erase: bool
    ) -> None:
        """Paint from one point of the picture to another. The first stroke begins with a mask that
        is full everywhere, or empty where it paints the denoised picture back in."""
        if not self._pictures:
            return
        if first:
            self.keep_for_undo()

        height, width = self._pictures[0].beauty.shape[:2]
        mask = self.mask or Mask(np.full((height, width), 1.0 if erase else 0.0, np.float32))
        drawn = Stroke(
            ((start.x(), start.y()), (end.x(), end.y())), radius, hardness, 0.0 if erase else 1.0
        )
        self.mask = Mask(paint(mask.values, drawn), mask.version + 1)
        self._follow()

    def clear_mask(self) -> None:
        self.keep_for_undo()
        self.mask = None
        self._follow()

    def choose(self, method: str) -> None:
        """Denoise the raw picture with another method."""
        if method and method != self.method and not self._closed:
            self.method = method
            self.is_busy = True
            self.changed.emit()
            self._do(f"denoising with {method}", lambda: self._denoise(method))

    def save(self, path: Path) -> None:
        """Write the blend with its mask, raw and denoised light as layers; `saved` or `problem`
        follows."""
        denoised = self._denoised.get(self.method)
        strength = self.strength
        mask = self.mask

        if not self._pictures or denoised is None:
            return

        def write() -> None:
            from swift_sample.core.picture.exr import write_exr

            path.parent.mkdir(parents=True, exist_ok=True)
            values = mask.values if mask is not None else None
            write_exr(path, blended(self._pictures[0], denoised[0], strength, values))
            self._later(lambda: self.saved.emit(str(path)))

        self._do("saving the blend", write)

    def _follow(self) -> None:
        self.changed.emit()
        self._measure()

    def _read(self) -> None:
        pictures = [read(*self._files[0])]
        there = [self._files[0][0]]
        for file in self._files[1:]:
            with suppress(SwiftSampleError):  # it only makes the figures surer
                pictures.append(read(*file))
                there.append(file[0])

        true = None
        if self._reference is not None and self._reference[0].exists():
            true = self._without_own(read(*self._reference), there)

        def take() -> None:
            self._pictures = pictures
            self._true = true
            methods = self.methods

            if not methods:
                self.is_busy = False
                self.problem.emit(
                    "This renderer cannot denoise a picture that is there already, and none "
                    "was denoised."
                )
                self.changed.emit()
                return

            self.choose(methods[0])

        self._later(take)

    def _denoise(self, method: str) -> None:
        if method not in self._denoised:
            self._denoised[method] = [
                self._denoised_by(method, picture) for picture in self._pictures
            ]

        first = self._pictures[0]
        layers = layers_of(self.path, Picture(self._denoised[method][0], {"raw": _raw(first)}))

        def take() -> None:
            if method == self.method:
                self.layers = layers
                self.is_busy = False
                self._follow()

        self._later(take)

    def _denoised_by(self, method: str, picture: Picture) -> np.ndarray:
        if method == AS_RENDERED:
            return picture.beauty

        layers = {name: values for name, values in picture.layers.items() if name != "raw"}
        plain = Picture(_raw(picture), layers, picture.reduced, picture.notes)
        return (
            self._renderer.engine()
            .denoise(plain, at_full_strength(self._configuration, method))
            .beauty
        )

    def _without_own(self, reference: Picture, pictures: Sequence[Path]) -> Picture:
        """The reference without the samples that these pictures hold."""
        own = []
        for path in pictures:
            if path not in self._pieces:
                continue

            recording, samples = self._pieces[path]
            if recording.exists():
                with closing(self._renderer.engine().open_recording(recording)) as opened:
                    own.append((opened.own().picture, samples))

        return without_pieces(reference, self._reference_samples, own) if own else reference

    def _measure(self) -> None:
        """Measure the blend as it stands; while one is measured the next one waits."""
        if self._true is None or self.method not in self._denoised or self._closed:
            return

        if self._measuring:
            self._stale = True
            return

        self._measuring = True
        self._stale = False
        denoised = self._denoised[self.method]
        strength = self.strength
        mask = self.mask

        def work() -> None:
            from swift_sample.core.measure.compare import WHOLE, measure
            from swift_sample.core.measure.comparison import Comparison

            assert self._true is not None
            values = mask.values if mask is not None else None
            pairs = zip(self._pictures, denoised, strict=True)
            mixed = [blended(picture, smooth, strength, values).beauty for picture, smooth in pairs]
            comparison = Comparison(
                mixed, self._true.beauty, self.view, None, self._true.halves, seeds=len(mixed) > 1
            )
            figures = measure(comparison)[WHOLE]

            def take() -> None:
                self.figures = figures
                self._measuring = False
                self.measured.emit()

                if self._stale:
                    self._measure()

            self._later(take)

        self._do("measuring the blend", work)

    def _later(self, do: object) -> None:
        if not self._closed:
            self._ready.emit(do)

    def _do(self, what: str, work) -> None:  # type: ignore[no-untyped-def]
        def guarded() -> None:
            try:
                work()
            except SwiftSampleError as error:
                self._fail(one_line(error))
            except Exception as error:  # whoever waits must learn of any end
                report_error(what, error)
                self._fail(f"{what} failed ({one_line(error)})")

        if not self._closed:
            self._work.submit(guarded)

    def _fail(self, words: str) -> None:
        def tell() -> None:
            self.is_busy = self._measuring = False
            self.problem.emit(words)
            self.changed.emit()

        self._later(tell)


def _raw(picture: Picture) -> np.ndarray:
    return picture.layers.get("raw", picture.beauty)

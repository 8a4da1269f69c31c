"""Recordings behind the port: made for the values of a plan, and read for one of them."""

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import psutil

from swift_sample.core.budget import GIBIBYTE, RAISED_BY, RECORDING_BYTES
from swift_sample.core.errors import (
    FullDiskError,
    RendererError,
    UnrecordedError,
    UsageError,
    one_line,
)
from swift_sample.core.files import has_room, is_full
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.formats import OUTPUT_FORMATS
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.denoise import denoise_picture
from swift_sample.core.renderers.builtin.film.derived import derived_film
from swift_sample.core.renderers.builtin.film.film import finish_film
from swift_sample.core.renderers.builtin.film.recording import (
    Clamp,
    PathEnd,
    RecordingPlan,
    configurations_of,
)
from swift_sample.core.renderers.builtin.film.recording_file import RecordingFile
from swift_sample.core.renderers.builtin.pipeline import SceneCache, deliver
from swift_sample.core.renderers.builtin.rendering.building import Stopwatch
from swift_sample.core.renderers.builtin.rendering.recording import record
from swift_sample.core.renderers.builtin.rendering.sampling import Progress, Sampling, picture_size
from swift_sample.core.renderers.builtin.stems import why_not_derived
from swift_sample.core.renderers.builtin.version import renderer_version
from swift_sample.core.renderers.headers import STUDY_LAYERS
from swift_sample.core.renderers.port import Derived
from swift_sample.core.renderers.records import RecordSpec, RenderSpec
from swift_sample.core.settings import Configuration, Derivation, Value

MOST_OF_MEMORY = 0.5
"""Of the memory that is free, which a recording may take beside everything else."""


def make_recording(
    wanted: RecordSpec,
    scene_cache: SceneCache,
    path: Path,
    progress: Progress,
    on_start: Callable[[Sampling], None],
) -> Picture:
    """Make a recording into `path`; returns its own picture.

    Raises UnrecordedError where memory or disk have no room for it, FullDiskError where the disk
    runs full meanwhile, and what a render raises.
    """
    spec = wanted.spec
    configuration = spec.configuration(CATALOGUE)
    plan = recording_plan(wanted)
    width, height = picture_size(spec.size, float(configuration["output.scale"]))
    size_bytes = plan.bytes_a_pixel() * width * height

    if size_bytes > RECORDING_BYTES:
        raise UnrecordedError(
            f"a recording of these values takes up to {size_bytes / GIBIBYTE:.1f} GB, more than "
            f"the {RECORDING_BYTES / GIBIBYTE:.1f} GB that recordings may take; try fewer values "
            f"or a smaller picture, or set {RAISED_BY} to a number above 1"
        )
    if not has_room(path.parent, size_bytes):
        raise UnrecordedError(
            f"a recording takes up to {size_bytes / GIBIBYTE:.1f} GB, and the disk has less"
        )

    memory = plan.memory_a_pixel() * width * height
    if memory > MOST_OF_MEMORY * psutil.virtual_memory().available:
        raise UnrecordedError(
            f"a recording takes {memory / GIBIBYTE:.1f} GB of memory, more than this machine has "
            "to spare; try fewer values, or a smaller picture"
        )

    keeps = bool(configuration["scene.keep_built"])
    built, _ = scene_cache.get(spec, keeps, Stopwatch())

    facts = {"spec": spec.model_dump(mode="json"), "version": renderer_version()}
    try:
        return record(
            built,
            configuration,
            spec.size,
            spec.seed,
            spec.view,
            plan=plan,
            path=path,
            facts=facts,
            progress=progress,
            on_start=on_start,
        )
    except OSError as error:
        if is_full(path, error):
            raise FullDiskError(f"{path}: the disk is full; make room on it") from error
        raise RendererError(f"{path}: cannot be written ({one_line(error)})") from error


def recording_plan(wanted: RecordSpec) -> RecordingPlan:
    """What a recording keeps. Raises SettingError."""
    own = wanted.spec.configuration(CATALOGUE)
    base = Configuration(CATALOGUE, wanted.base)
    return RecordingPlan.for_values(own, base, wanted.values)


class OpenRecording:
    """A recording that was made, behind the port."""

    def __init__(self, path: Path) -> None:
        self._file = RecordingFile(path)
        spec = RenderSpec.model_validate(self._file.facts["spec"])
        self._own = spec.configuration(CATALOGUE)
        self._view = spec.view

    def close(self) -> None:
        self._file.close()

    def work(
        self, base: Configuration, values: Mapping[str, Sequence[Value]]
    ) -> list[tuple[dict[str, Value], float]]:
        kinds = (Derivation.PATH, Derivation.SAMPLES)
        chosen = {k: some for k, some in values.items() if CATALOGUE[k].derived in kinds}
        own = self._file.cycles(int(self._own["samples.max"]), PathEnd.of(self._own))
        found = []

        for one in configurations_of(base.replace({"samples.noise_threshold": 0.0}), chosen):
            if self._file.plan.holds(one):
                cycles = self._file.cycles(int(one["samples.max"]), PathEnd.of(one))
                found.append(({key: one[key] for key in chosen}, cycles / max(own, 1.0)))

        return found

    def own(self) -> Derived:
        return self._derived(self._own, self._view)

    def derive(self, configuration: Configuration, view: View) -> Derived:
        reason = why_not_derived(self._own, configuration)
        if not reason and not self._file.plan.holds(configuration):
            reason = "the recording was made for other values"
        if reason:
            words = configuration.describe(self._own)
            raise UsageError(f"{words}: cannot be derived: {reason}")

        return self._derived(configuration, view)

    def _opened(self, configuration: Configuration) -> np.ndarray:
        """The light of the samples that a configuration takes at most, with everything open."""
        samples = int(configuration["samples.max"])
        sums = self._file.sums(samples, PathEnd.of(self._own), Clamp())
        light: np.ndarray = (sums.half_a + sums.half_b) / np.float32(samples)
        return light

    def _derived(self, configuration: Configuration, view: View) -> Derived:
        film, rounds = derived_film(self._file, configuration, view)
        raw = finish_film(film, 0.0, rounds.error)

        started = time.perf_counter()
        picture = denoise_picture(raw, configuration)
        seconds = time.perf_counter() - started

        return Derived(
            picture=as_delivered(picture, configuration, view),
            opened=self._opened(configuration),
            samples=float(film.samples.mean()),
            cycles=float(film.cycles.mean()),
            denoise_seconds=seconds,
        )


def as_delivered(picture: Picture, configuration: Configuration, view: View) -> Picture:
    """The picture as its file gives it back, which is another one where the format loses
    something."""
    name = str(configuration["output.format"])
    if name in CATALOGUE["output.format"].same_pixels:
        return picture

    with TemporaryDirectory(prefix="swift-sample-derived-") as folder:
        path = Path(folder) / "picture.exr"
        deliver(picture, OUTPUT_FORMATS[name], view, path, STUDY_LAYERS, Stopwatch())
        return read_exr(path)

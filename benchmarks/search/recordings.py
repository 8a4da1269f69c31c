"""What recordings cost, how fast pictures are derived from them, and whether the intervals of
derived figures hold: `python -m benchmarks recordings`.

Coverage is tried on the renderer's own noise. A reference of many recorded chunks is made for each
scene; a pair of chunks gives figures and intervals for each configuration, ten other chunks nearly
the true figures, and the rest is what both are compared with. An interval holds where it meets the
true figure's own. What is told as 95 % should hold 93 to 97 %.
"""

import random
import statistics
import sys
import time
from collections import Counter
from contextlib import closing
from itertools import product
from pathlib import Path
from tempfile import TemporaryDirectory

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.stored import digest_of_picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RecordSpec, RenderSpec
from swift_sample.core.settings import Value
from swift_sample.core.worker.messages import (
    Derived,
    DeriveJob,
    Piece,
    ReferenceExtended,
    ReferenceJob,
)
from swift_sample.core.worker.process import Worker

SCENES = ("honey-stall-small", "honey-jar", "honey-room")
SMALL, LARGE = (96, 54), (320, 180)
BASE: dict[str, Value] = {"samples.max": 48, "bounces.total": 12, "scene.keep_built": True}
CHUNK_SAMPLES = 64
OPENED: dict[str, Value] = {**BASE, "samples.max": CHUNK_SAMPLES, "bounces.total": 32}
TRIED: dict[str, list[Value]] = {
    "samples.max": [8, 12, 16, 24, 32, 48],
    "bounces.total": [2, 4, 8, 12],
    "samples.noise_threshold": [0.0, 0.04],
    "light.clamp_indirect": [0.0, 2.0],
}
DENOISERS = ("none", "wavelet", "patches")
CHUNKS, RECORDED, TRUTH = 20, 12, 10
CONFIGURATIONS = 24
ROUNDS = 3


def spec(scene: str, size: tuple[int, int], settings: dict[str, Value], seed: int) -> RenderSpec:
    """What is rendered."""
    return RenderSpec(scene=scene, size=size, settings=settings, seed=seed, curve="soft")


class Reference:
    """A reference of chunks, the first of them recorded."""

    def __init__(self, worker: Worker, scene: str, size: tuple[int, int], folder: Path) -> None:
        self.size = size
        self.samples = 0
        self._worker = worker
        self._scene = scene
        self._folder = folder
        self._chunks = 0
        self._picture = folder / "reference.exr"

    def grow(self, recorded: bool) -> float:
        """Add a chunk; returns the processor seconds that it took."""
        chunk = spec(self._scene, self.size, OPENED, 1000 + 7 * self._chunks)
        wanted = RecordSpec(spec=chunk, base=BASE, values=TRIED) if recorded else None
        job = ReferenceJob(
            spec=chunk,
            picture=str(self._picture),
            samples_before=self.samples,
            chunks_before=self._chunks,
            record=wanted,
            recording=str(self.recording(self._chunks)) if recorded else "",
        )
        began = time.process_time()
        made = self._worker.do(job)
        spent = time.process_time() - began
        assert isinstance(made, ReferenceExtended), made
        assert not made.unrecorded, made.unrecorded
        self._chunks += 1
        self.samples = made.samples

        return spent

    def recording(self, chunk: int) -> Path:
        """The file of a recorded chunk."""
        return self._folder / f"{chunk}.zip"

    def derived(self, settings: dict[str, Value], chunks: list[int]) -> Derived:
        """Figures of a configuration from so many chunks, against the rest."""
        pieces = [
            Piece(recording=str(self.recording(chunk)), samples=CHUNK_SAMPLES) for chunk in chunks
        ]
        paths = [self.recording(chunk) for chunk in chunks] + [self._picture]
        job = DeriveJob(
            settings=settings,
            pieces=pieces,
            reference=str(self._picture),
            reference_samples=self.samples,
            digests={str(path): digest_of_picture(path) for path in paths},
            exposure=0.0,
            curve="soft",
            size=self.size,
        )
        made = self._worker.do(job)
        assert isinstance(made, Derived), made
        return made


def every_configuration() -> list[dict[str, Value]]:
    """The base with all that is tried, and each denoiser."""
    keys = [*TRIED, "denoise.method"]
    made = []
    for values in product(*TRIED.values(), DENOISERS):
        made.append({**BASE, **dict(zip(keys, values, strict=True))})

    return made


def tell_cost(worker: Worker) -> None:
    """Recorded beside plain chunks, in alternating runs."""
    for scene in SCENES:
        spent: dict[bool, list[float]] = {True: [], False: []}
        with TemporaryDirectory() as folder:
            reference = Reference(worker, scene, SMALL, Path(folder))
            reference.grow(False)  # the scene is built and the kernels are there
            for _ in range(ROUNDS):
                for recorded in (True, False):
                    spent[recorded].append(reference.grow(recorded))

        ratio = statistics.median(spent[True]) / statistics.median(spent[False])
        print(f"  {scene}: a recorded chunk takes {ratio:.2f} of a plain one's processor time")


def tell_speed(worker: Worker) -> None:
    """Pictures of one configuration by each denoiser, without and with figures."""
    engine = RENDERER.engine()
    with TemporaryDirectory() as name:
        reference = Reference(worker, "honey-stall", LARGE, Path(name))
        for _ in range(4):
            reference.grow(True)

        for method in DENOISERS:
            settings = {**BASE, "samples.max": 16, "bounces.total": 8, "denoise.method": method}
            alone, figured = [], []
            with closing(engine.open_recording(reference.recording(0))) as recording:
                chosen = configured(settings)
                view = spec("honey-stall", LARGE, settings, 1).view
                for _ in range(ROUNDS + 1):
                    began = time.perf_counter()
                    recording.derive(chosen, view)
                    alone.append(time.perf_counter() - began)
                    began = time.perf_counter()
                    reference.derived(settings, [0, 1])
                    figured.append(time.perf_counter() - began)

            width, height = LARGE
            print(
                f"  {method} at {width}x{height}: a picture {statistics.median(alone[1:]):.2f} s, "
                f"two with figures {statistics.median(figured[1:]):.2f} s"
            )


def tell_coverage(worker: Worker) -> None:
    """How many intervals of figures from two chunks hold the figures of ten others."""
    held: Counter[str] = Counter()
    told: Counter[str] = Counter()
    chance = random.Random(1)

    for scene in SCENES:
        with TemporaryDirectory() as name:
            reference = Reference(worker, scene, SMALL, Path(name))
            for number in range(CHUNKS):
                reference.grow(number < RECORDED)

            for settings in chance.sample(every_configuration(), CONFIGURATIONS):
                first = 2 * chance.randrange(RECORDED // 2)
                pair = [first, first + 1]
                others = [chunk for chunk in range(RECORDED) if chunk not in pair][:TRUTH]
                figures = reference.derived(settings, pair).areas[""]
                true = reference.derived(settings, others).areas[""]
                for key, numbers in figures.items():
                    truth = true.get(key)
                    if not numbers or not truth:
                        continue

                    own, there = Figure.of(numbers), Figure.of(truth)
                    told[key] += 1
                    held[key] += own.low <= there.high and there.low <= own.high

    for key, count in told.items():
        print(f"  {key}: {held[key]} of {count} intervals hold ({held[key] / count:.0%})")


def main() -> None:
    """Tell all three."""
    assert all(key in CATALOGUE for key in TRIED)
    worker = Worker(RENDERER, lambda reply: None)  # type: ignore[arg-type]
    tell_cost(worker)
    tell_speed(worker)
    sys.stdout.flush()
    tell_coverage(worker)

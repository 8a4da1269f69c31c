"""The worker process: takes one job at a time on standard input and answers on standard output.

Started by the driver (see `__main__.py` and `Renderer.worker`). It ends when its input closes,
after a line that is no request, and with the program that started it. Whatever else is printed goes
to standard error, which the driver keeps.
"""

import json
import os
import queue
import sys
import threading
import time
import traceback
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import closing
from datetime import UTC, datetime
from itertools import count
from pathlib import Path
from typing import IO

import numpy as np
from pydantic import ValidationError

from swift_sample.core.errors import (
    FullDiskError,
    PictureError,
    RendererError,
    RenderStoppedError,
    SwiftSampleError,
    UnfitPictureError,
    UnrecordedError,
    one_line,
)
from swift_sample.core.machine import seconds_asleep
from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, read_exr, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.reading import as_rendered, delivered
from swift_sample.core.picture.stored import digest_of_picture, digest_of_pixels, is_of, read_stored
from swift_sample.core.picture.view import View
from swift_sample.core.processes import limit_memory
from swift_sample.core.renderers.headers import STUDY_LAYERS, complete_record
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.renderers.records import RecordSpec, RenderSpec
from swift_sample.core.renderers.registry import renderer_at
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.worker.deriving import HeldPieces
from swift_sample.core.worker.merging import merge_reference
from swift_sample.core.worker.messages import (
    REPLIES,
    REQUESTS,
    ChunkJob,
    ChunkRendered,
    Derived,
    DeriveJob,
    Failed,
    Measured,
    MeasureJob,
    Outcome,
    Previewed,
    PreviewJob,
    Progress,
    Ready,
    Recorded,
    RecordJob,
    ReferenceExtended,
    ReferenceJob,
    Rendered,
    RenderJob,
    Request,
    Shown,
    Stop,
    Stopped,
    Unfit,
    Void,
)

PROGRESS_SECONDS = 0.5
MOST_SECONDS_ASLEEP = 0.05
"""The two clocks by which sleep is noticed are read one after the other."""
SAMPLES_NOTE = "referenceSamples"
MOST_WITHOUT_HALVES = 2
"""A reference of fewer samples cannot be rendered in two parts."""
MOST_HALF = 65504.0
"""The largest number that half a float holds."""


class Worker:
    """Does jobs; knows nothing of pipes."""

    def __init__(self, renderer: Renderer, send: "Sender") -> None:
        self._renderer = renderer
        self._send = send
        self._engine = renderer.engine()
        self._pieces = HeldPieces(self._engine)
        self._lock = threading.Lock()
        self._stopping = False
        self._stop: Callable[[], None] | None = None
        self._told = 0.0

    def stop(self) -> None:
        """Stop the job in hand; called from the thread that reads requests."""
        with self._lock:
            self._stopping = True
            if self._stop is not None:
                self._stop()

    def do(self, job: Request) -> Outcome:
        """Do one job; every failure becomes a reply."""
        with self._lock:
            self._stopping = False
            self._stop = None

        try:
            if isinstance(job, RenderJob):
                return self._render(job)
            if isinstance(job, ReferenceJob):
                return self._extend_reference(job)
            if isinstance(job, ChunkJob):
                return self._chunk(job)
            if isinstance(job, RecordJob):
                return self._record(job.wanted, Path(job.recording))[1]
            if isinstance(job, DeriveJob):
                return self._derive(job)
            if isinstance(job, MeasureJob):
                return self._measure(job)
            if isinstance(job, PreviewJob):
                return self._preview(job)

            return self._warm_up()
        except RenderStoppedError:
            return Stopped()
        except UnfitPictureError as error:
            return Unfit(faults={str(error.path): error.fault})
        except FullDiskError as error:
            return Failed(reason=one_line(error), fault="disk")
        except PictureError as error:
            return Failed(
                reason=one_line(error), fault="folder" if isinstance(job, RenderJob) else "job"
            )
        except SwiftSampleError as error:
            return Failed(reason=one_line(error))
        except MemoryError:
            return Failed(
                reason=(
                    "it needs more memory than there is; use a smaller picture or scene, or end "
                    "other programs"
                ),
                fault="memory",
            )
        except Exception as error:  # a failed job must not end the worker
            traceback.print_exc()
            return Failed(
                reason=f"{type(error).__name__}: {one_line(error)}", trace=traceback.format_exc()
            )

    def _render(self, job: RenderJob) -> Rendered | Void:
        ready = self._engine.make_ready(job.spec)
        path = Path(job.picture)
        asleep = seconds_asleep()

        if job.everything:
            path.parent.mkdir(exist_ok=True)

        layers = None if job.everything else STUDY_LAYERS
        picture, result = self._engine.render(
            job.spec, path, self._progress, self._started, layers, job.identity
        )
        asleep = seconds_asleep() - asleep

        if asleep > MOST_SECONDS_ASLEEP:
            return Void(reason=f"the machine slept for {asleep:.0f} s meanwhile")

        wrong = int((~np.isfinite(picture.beauty)).sum())
        if wrong:
            path.unlink(missing_ok=True)
            raise RendererError(f"{wrong:,} values of its picture are not finite numbers")

        result = result.model_copy(update={"ready_seconds": ready})
        complete_record(
            path,
            result,
            {**job.identity, "at": datetime.now(UTC).isoformat(timespec="milliseconds")},
        )
        pixels = digest_of_pixels(read_exr(path).beauty) if job.with_pixels else ""
        return Rendered(result=result, digest=digest_of_picture(path), pixels=pixels)

    def _extend_reference(self, job: ReferenceJob) -> ReferenceExtended:
        from swift_sample.core.measure.comparison import Comparison
        from swift_sample.core.measure.figures import Grain

        started = time.perf_counter()
        path = Path(job.picture)
        done = job.samples_before
        configuration = job.spec.configuration(self._renderer.catalogue)
        added = int(configuration.number_in_role(SAMPLES) or 1)
        old, has_this_chunk = _reference_before(job, added) if done else (None, False)
        recorded = None
        unrecorded = ""

        if old is not None and has_this_chunk:
            merged = old
        else:
            if job.chunk:
                chunk = read_stored(Path(job.chunk), job.chunk_digest)
            elif job.record is not None:
                try:
                    chunk, recorded = self._record(job.record, Path(job.recording))
                except UnrecordedError as error:
                    unrecorded = one_line(error)
                    chunk = self._reference_chunk(job.spec, added)
            else:
                chunk = self._reference_chunk(job.spec, added)

            merged = merge_reference(old, done, chunk, added)

        grain = Grain().look(
            Comparison([merged.beauty], merged.beauty, job.spec.view, merged.halves)
        )
        floor = float(grain.maps["variance"].mean()) ** 0.5 if grain is not None else None
        seconds = job.chunk_seconds + time.perf_counter() - started

        if not has_this_chunk:
            note = {
                SAMPLES_NOTE: done + added,
                "floor": floor,
                "seconds": job.seconds_before + seconds,
                "chunks": job.chunks_before + 1,
                "at": datetime.now(UTC).isoformat(timespec="milliseconds"),
            }
            merged.notes[RECORD_ATTRIBUTE] = json.dumps(note)
            write_exr(path, merged)

        return ReferenceExtended(
            samples=done + added,
            floor=floor,
            seconds=seconds,
            digest=digest_of_picture(path),
            recording=recorded,
            unrecorded=unrecorded,
        )

    def _record(self, wanted: RecordSpec, path: Path) -> tuple[Picture, Recorded]:
        """Make a recording; its own picture comes with it."""
        started = time.perf_counter()
        path.parent.mkdir(exist_ok=True)
        picture = self._engine.record(wanted, path, self._progress, self._started)
        with closing(self._engine.open_recording(path)) as recording:
            base = Configuration(self._renderer.catalogue, wanted.base)
            work = recording.work(base, wanted.values)

        made = Recorded(
            digest=digest_of_picture(path),
            size_bytes=path.stat().st_size,
            seconds=time.perf_counter() - started,
            work=work,
        )

        return picture, made

    def _derive(self, job: DeriveJob) -> Derived:
        pieces = self._pieces.of(job)
        configuration = Configuration(self._renderer.catalogue, job.settings)
        view = View(job.exposure, job.curve)
        found = [one.derive(configuration, view) for one in pieces.recordings]
        pictures = [one.picture for one in found]

        if job.picture:
            write_exr(Path(job.picture), pictures[0], STUDY_LAYERS)

        return Derived(
            areas=self._figures(
                pictures, pieces.rest, view, job.areas, job.size, [one.opened for one in found]
            ),
            samples=float(np.mean([one.samples for one in found])),
            work=float(np.mean([a.cycles / b for a, b in zip(found, pieces.cycles, strict=True)])),
            denoise_seconds=float(np.mean([one.denoise_seconds for one in found])),
            pixels=[digest_of_pixels(picture.beauty) for picture in pictures],
        )

    def _chunk(self, job: ChunkJob) -> ChunkRendered:
        started = time.perf_counter()
        path = Path(job.picture)
        configuration = job.spec.configuration(self._renderer.catalogue)
        write_exr(
            path, self._reference_chunk(job.spec, int(configuration.number_in_role(SAMPLES) or 1))
        )

        return ChunkRendered(seconds=time.perf_counter() - started, digest=digest_of_picture(path))

    def _reference_chunk(self, whole: RenderSpec, samples: int) -> Picture:
        """A picture of so many samples with halves: where the renderer keeps none, two pictures of
        half as many each, since without halves neither the reference's own grain nor how much of
        detail is only grain could be told."""
        can = self._renderer.capabilities
        counted = self._renderer.catalogue.with_role(SAMPLES)
        if (
            can.halves
            or not can.extends_reference
            or counted is None
            or samples < MOST_WITHOUT_HALVES
        ):
            return self._engine.render(whole, None, self._progress, self._started)[0]

        def half(done: int, many: int) -> np.ndarray:
            settings = {**whole.settings, counted.key: many}
            spec = whole.model_copy(update={"settings": settings, "seed": whole.seed + done})

            def told(share: float) -> None:
                self._progress((done + many * share) / samples)

            return self._engine.render(spec, None, told, self._started)[0].beauty

        a = half(0, samples // 2)
        b = half(samples // 2, samples - samples // 2)
        return Picture((a + b) / 2, {"half_a": a, "half_b": b})

    def _measure(self, job: MeasureJob) -> Measured | Unfit:
        read, faults = _stored_pictures(job)
        if faults:
            return Unfit(faults=faults)

        pictures = [read[name] for name in job.pictures]
        seconds = 0.0

        if job.denoise is not None:
            configuration = Configuration(self._renderer.catalogue, job.denoise)
            started = time.perf_counter()
            pictures = [
                self._engine.denoise(as_rendered(picture), configuration) for picture in pictures
            ]
            seconds = (time.perf_counter() - started) / len(pictures)

        reference = read[job.reference] if job.reference else pictures[-1]
        if job.reference:
            pictures = [delivered(picture, job.size) for picture in pictures]

        view = View(job.exposure, job.curve)
        areas = self._figures(pictures, reference, view, job.areas, job.size)
        return Measured(areas=areas, seconds=seconds)

    def _figures(
        self,
        pictures: Sequence[Picture],
        reference: Picture,
        view: View,
        named: Sequence[tuple[str, int, int, int, int]],
        size: tuple[int, int],
        opened: Sequence[np.ndarray] = (),
    ) -> dict[str, dict[str, list[float] | None]]:
        """Figures of pictures of one configuration, by area, "" for the whole picture."""
        from swift_sample.core.measure.compare import WHOLE, Area, measure
        from swift_sample.core.measure.comparison import Comparison

        raw = pictures[0].halves if "raw" not in pictures[0].layers else None
        seeds = self._renderer.capabilities.seeds
        pair = Comparison(
            [p.beauty for p in pictures],
            reference.beauty,
            view,
            raw,
            reference.halves,
            seeds,
            not seeds,
            opened,
        )
        height, width = reference.beauty.shape[:2]
        areas = tuple(
            Area(name, x, y, w, h).scaled(size, (width, height)) for name, x, y, w, h in named
        )

        return {
            "" if name == WHOLE else name: {
                key: figure.numbers if figure else None for key, figure in figures.items()
            }
            for name, figures in measure(pair, areas).items()
        }

    def _preview(self, job: PreviewJob) -> Previewed:
        folder = Path(job.folder)
        stage = count()

        def show(light: np.ndarray, samples: int) -> None:
            path = folder / f"stage-{job.number}-{next(stage)}.npy"
            np.save(path, np.clip(np.nan_to_num(light), 0, MOST_HALF).astype(np.float16))
            self._send(Shown(number=job.number, path=str(path), samples=samples))

        picture = self._engine.preview(job.spec, job.samples, show, self._started)
        path = folder / f"preview-{job.number}.exr"
        write_exr(path, picture)

        return Previewed(number=job.number, path=str(path), samples=job.samples)

    def _warm_up(self) -> Ready:
        self._engine.warm_up(lambda share, text: self._send(Progress(share=share, text=text)))
        return Ready()

    def _started(self, stop: Callable[[], None]) -> None:
        with self._lock:
            self._stop = stop
            if self._stopping:
                stop()

    def _progress(self, share: float) -> None:
        now = time.monotonic()
        if now - self._told >= PROGRESS_SECONDS:
            self._told = now
            self._send(Progress(share=share))


def _reference_before(job: ReferenceJob, added: int) -> tuple[Picture, bool]:
    """The reference as it is, and whether it has the wanted chunk already: written before a kill,
    and not recorded then. The number of chunks in its header is what decides. Raises
    UnfitPictureError."""
    path = Path(job.picture)
    reference = read_stored(path, "")

    try:
        note = json.loads(reference.notes.get(RECORD_ATTRIBUTE, "{}"))
        state = int(note["chunks"]), int(note[SAMPLES_NOTE])
    except (ValueError, TypeError, KeyError) as error:
        raise UnfitPictureError(path, "does not say which chunks it has") from error

    if state == (job.chunks_before + 1, job.samples_before + added):
        return reference, True
    if state != (job.chunks_before, job.samples_before) or (
        job.digest and not is_of(path, job.digest)
    ):
        raise UnfitPictureError(path, "is not the one that was written")

    return reference, False


def _stored_pictures(job: MeasureJob) -> tuple[dict[str, Picture], dict[str, str]]:
    """The pictures of a job and its reference by their paths, and what is wrong with those that
    cannot be used."""
    read: dict[str, Picture] = {}
    faults: dict[str, str] = {}

    for name in (*job.pictures, *([job.reference] if job.reference else [])):
        try:
            read[name] = read_stored(Path(name), job.digests.get(name, ""))
        except UnfitPictureError as error:
            faults[name] = error.fault

    sizes = Counter(read[name].beauty.shape for name in job.pictures if name in read)
    wanted = next((size for size, count in sizes.items() if 2 * count > sizes.total()), None)
    faults |= {
        name: "has another size"
        for name in job.pictures
        if name in read and read[name].beauty.shape != wanted
    }

    if job.reference in read and read[job.reference].beauty.shape[1::-1] != job.size:
        faults[job.reference] = "has another size"

    return read, faults


class Sender:
    """Writes replies; safe to call from several threads."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream
        self._lock = threading.Lock()

    def __call__(self, reply: Outcome | Progress | Shown) -> None:
        line = REPLIES.dump_json(reply) + b"\n"
        with self._lock:
            self._stream.write(line)
            self._stream.flush()


def main() -> None:
    """Serve jobs until the input closes."""
    limit_memory()
    replies = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    jobs: queue.Queue[Request | None] = queue.Queue()
    send = Sender(replies)
    worker = Worker(renderer_at(sys.argv[1]), send)

    def read_requests() -> None:
        for line in sys.stdin.buffer:
            try:
                request = REQUESTS.validate_json(line)
            except (
                ValidationError
            ) as error:  # whoever writes such a line does not speak with a worker
                print(f"the worker ends: not a request ({one_line(error)[:200]})", file=sys.stderr)
                break

            if isinstance(request, Stop):
                worker.stop()
            else:
                jobs.put(request)

        worker.stop()
        jobs.put(None)
        # Without a reader nothing is of use any more; a job that cannot be stopped must not linger.
        time.sleep(5)
        os._exit(0)

    threading.Thread(target=read_requests, name="requests", daemon=True).start()
    while (job := jobs.get()) is not None:
        send(worker.do(job))

    sys.stderr.flush()
    # Taking compiled code and threads down in order takes half a second, and nothing is left to be
    # saved.
    os._exit(0)

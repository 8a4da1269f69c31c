"""Render one more chunk of the reference and merge it into what is there: in one step, or where
several machines render chunks side by side in two."""

from collections.abc import Sequence
from dataclasses import dataclass

from swift_sample.core.renderers.records import RecordSpec, RenderSpec
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import (
    ChunkKept,
    Event,
    RecordingKept,
    RecordingRefused,
    ReferenceGrew,
)
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.records import Chunk
from swift_sample.core.worker.messages import (
    ChunkJob,
    ChunkRendered,
    Outcome,
    Recorded,
    ReferenceExtended,
    ReferenceJob,
)


@dataclass(frozen=True)
class ReferenceStep:
    """Chunk number `chunk` of a reference that has `samples` so far, which took `seconds`.
    `rendered` is that chunk, where it is there already and only to be merged."""

    reference: str
    chunk: int
    spec: RenderSpec
    samples: int = 0
    seconds: float = 0.0
    digest: str = ""
    rendered: Chunk | None = None
    record: RecordSpec | None = None
    """what this chunk is to hold apart in a recording, where one is kept"""
    is_timed = False

    def words(self, base: Configuration) -> str:
        if self.rendered is not None:
            return "merging the reference"
        return "rendering the reference" if self.chunk == 0 else "making the reference cleaner"

    def job(self, folder: Folder) -> ReferenceJob:
        job = ReferenceJob(
            spec=self.spec,
            picture=str(folder.reference(self.reference)),
            samples_before=self.samples,
            chunks_before=self.chunk,
            seconds_before=self.seconds,
            digest=self.digest,
            record=self.record,
            recording=str(folder.recording(self.reference, self.chunk)) if self.record else "",
        )
        if self.rendered is None:
            return job

        chunk = str(folder.chunk(self.reference, self.chunk))
        told = {
            "chunk": chunk,
            "chunk_digest": self.rendered.digest,
            "chunk_seconds": self.rendered.seconds,
        }
        return job.model_copy(update=told)

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if not isinstance(outcome, ReferenceExtended):
            return []
        grew = ReferenceGrew(
            reference=self.reference,
            samples=outcome.samples,
            chunks=self.chunk + 1,
            floor=outcome.floor,
            seconds=self.seconds + outcome.seconds,
            digest=outcome.digest,
        )
        if outcome.unrecorded:
            return [grew, RecordingRefused(self.reference, outcome.unrecorded)]
        if self.record is None or outcome.recording is None:
            return [grew]

        samples = outcome.samples - self.samples
        return [
            grew,
            recording_kept(self.reference, self.chunk, samples, self.record, outcome.recording),
        ]


def recording_kept(
    reference: str, chunk: int, samples: int, wanted: RecordSpec, made: Recorded
) -> RecordingKept:
    """What a recording that was made means for the study."""
    return RecordingKept(
        reference=reference,
        chunk=chunk,
        samples=samples,
        digest=made.digest,
        size_bytes=made.size_bytes,
        made_for={key: tuple(values) for key, values in wanted.values.items()},
        work=tuple(made.work),
    )


@dataclass(frozen=True)
class ChunkStep:
    """Chunk number `chunk` of a reference, `samples` of them, rendered by itself."""

    reference: str
    chunk: int
    spec: RenderSpec
    samples: int
    is_timed = False

    def words(self, base: Configuration) -> str:
        return "rendering the reference" if self.chunk == 0 else "making the reference cleaner"

    def job(self, folder: Folder) -> ChunkJob:
        return ChunkJob(spec=self.spec, picture=str(folder.chunk(self.reference, self.chunk)))

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if not isinstance(outcome, ChunkRendered):
            return []
        return [
            ChunkKept(self.reference, self.chunk, self.samples, outcome.seconds, outcome.digest)
        ]

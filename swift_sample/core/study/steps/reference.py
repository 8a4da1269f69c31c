"""Render one more chunk of the reference and merge it into what is there."""

from collections.abc import Sequence
from dataclasses import dataclass

from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.settings import Configuration
from swift_sample.core.study.events import Event, ReferenceGrew
from swift_sample.core.study.folder import Folder
from swift_sample.core.worker.messages import Outcome, ReferenceExtended, ReferenceJob


@dataclass(frozen=True)
class ReferenceStep:
    """Chunk number `chunk` of a reference that has `samples` so far, which took `seconds`."""

    reference: str
    chunk: int
    spec: RenderSpec
    samples: int = 0
    seconds: float = 0.0
    digest: str = ""
    is_timed = False

    def words(self, base: Configuration) -> str:
        return "rendering the reference" if self.chunk == 0 else "making the reference cleaner"

    def job(self, folder: Folder) -> ReferenceJob:
        return ReferenceJob(
            spec=self.spec,
            picture=str(folder.reference(self.reference)),
            samples_before=self.samples,
            chunks_before=self.chunk,
            seconds_before=self.seconds,
            digest=self.digest,
        )

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if not isinstance(outcome, ReferenceExtended):
            return []
        seconds = self.seconds + outcome.seconds
        return [ReferenceGrew(self.reference, outcome.samples, self.chunk + 1, outcome.floor, seconds, outcome.digest)]

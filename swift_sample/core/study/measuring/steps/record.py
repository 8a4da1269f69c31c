"""Make the recording of a chunk that the reference has already."""

from collections.abc import Sequence
from dataclasses import dataclass

from swift_sample.core.renderers.records import RecordSpec
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import Event
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.measuring.steps.reference import recording_kept
from swift_sample.core.worker.messages import Outcome, Recorded, RecordJob


@dataclass(frozen=True)
class RecordStep:
    """Chunk number `chunk` of a reference, `samples` of them, is recorded."""

    reference: str
    chunk: int
    samples: int
    wanted: RecordSpec
    is_timed = False

    def words(self, base: Configuration) -> str:
        return "recording samples of the reference"

    def job(self, folder: Folder) -> RecordJob:
        path = folder.recording(self.reference, self.chunk)
        return RecordJob(wanted=self.wanted, recording=str(path))

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if not isinstance(outcome, Recorded):
            return []
        return [recording_kept(self.reference, self.chunk, self.samples, self.wanted, outcome)]

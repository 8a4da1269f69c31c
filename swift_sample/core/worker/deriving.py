"""Pieces of a reference, held open while pictures of many configurations are derived from them."""

from dataclasses import dataclass
from pathlib import Path

from swift_sample.core.errors import UnfitPictureError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.stored import is_of, read_stored
from swift_sample.core.renderers.port import Engine, Recording
from swift_sample.core.worker.merging import without_pieces
from swift_sample.core.worker.messages import DeriveJob


@dataclass(frozen=True)
class Pieces:
    """Open recordings, processor cycles a pixel of their own pictures, and the reference without
    them."""

    recordings: tuple[Recording, ...]
    cycles: tuple[float, ...]
    rest: Picture


class HeldPieces:
    """Opens pieces, and holds those that were asked for last: jobs for thousands of configurations
    name the same ones."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._held: Pieces | None = None
        self._names: object = None

    def of(self, job: DeriveJob) -> Pieces:
        """The pieces that a job names. Raises UnfitPictureError where a file is not what was
        written."""
        names = (job.pieces, job.reference, job.reference_samples, job.digests)
        if self._held is None or names != self._names:
            self.close()
            self._held = self._open(job)
            self._names = names

        return self._held

    def close(self) -> None:
        for recording in self._held.recordings if self._held is not None else ():
            recording.close()

        self._held = None

    def _open(self, job: DeriveJob) -> Pieces:
        recordings = []
        own = []
        cycles = []

        for piece in job.pieces:
            path = Path(piece.recording)
            check_recording(path, job.digests.get(piece.recording, ""))
            recording = self._engine.open_recording(path)
            made = recording.own()
            recordings.append(recording)
            own.append((made.picture, piece.samples))
            cycles.append(max(made.cycles, 1.0))

        reference = read_stored(Path(job.reference), job.digests.get(job.reference, ""))
        rest = without_pieces(reference, job.reference_samples, own)
        return Pieces(tuple(recordings), tuple(cycles), rest)


def check_recording(path: Path, digest: str) -> None:
    """Raise UnfitPictureError where a recording is missing or another file than was written."""
    try:
        if digest and not is_of(path, digest):
            raise UnfitPictureError(path, "is not the one that was written")
    except OSError as error:
        raise UnfitPictureError(path, "is missing") from error

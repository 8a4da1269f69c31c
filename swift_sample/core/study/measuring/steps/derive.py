"""Derive the pictures of a configuration from recorded chunks of the reference, and measure them
against the rest of it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import Derived, Event
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.identity import MeasurementKey, Place, Rectangle
from swift_sample.core.worker.messages import Derived as DerivedReply
from swift_sample.core.worker.messages import DeriveJob, Outcome, Piece


@dataclass(frozen=True, kw_only=True)
class DeriveStep:
    """`keys` are those of the whole picture and each watch area, alike but for the area."""

    place: Place
    configuration: Configuration
    keys: tuple[MeasurementKey, ...]
    pieces: tuple[tuple[int, int], ...]
    """numbers of the chunks, and their samples"""
    reference_samples: int
    size: tuple[int, int]
    digests: Mapping[int | str, str] = field(default_factory=dict, compare=False)
    """of the recordings' files by chunk, and the reference's by its name"""
    machine: str = ""
    """the kind of machine that derives"""
    place_in: tuple[int, int] | None = field(default=None, compare=False)
    """which of how many it is, where several are asked for"""
    is_timed = False

    @property
    def key(self) -> MeasurementKey:
        return self.keys[0]

    def words(self, base: Configuration) -> str:
        own = self.configuration
        words = f"deriving {'the base' if own == base else own.describe(base)}"
        if self.place_in is None or self.place_in[1] < 2:
            return words

        return f"{words}, {self.place_in[0]:,} of {self.place_in[1]:,}"

    def job(self, folder: Folder) -> DeriveJob:
        name = self.key.reference
        paths = {chunk: str(folder.recording(name, chunk)) for chunk, _ in self.pieces}
        reference = str(folder.reference(name))
        digests = {path: self.digests[chunk] for chunk, path in paths.items()}

        return DeriveJob(
            settings=self.configuration.of_renderer(),
            pieces=[Piece(recording=paths[chunk], samples=many) for chunk, many in self.pieces],
            reference=reference,
            reference_samples=self.reference_samples,
            digests={**digests, reference: self.digests[name]},
            exposure=self.key.exposure,
            curve=self.key.curve,
            areas=[
                (str(k), key.area.x, key.area.y, key.area.width, key.area.height)
                for k, key in enumerate(self.keys)
                if not key.area.is_whole
            ],
            size=self.size,
        )

    def without_figures(self) -> Event:
        """The event of a picture that cannot be derived: it is not asked for again."""
        return self._derived((), DerivedReply(areas={}, samples=0, work=0, denoise_seconds=0))

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if not isinstance(outcome, DerivedReply):
            return []

        areas = []
        for k, key in enumerate(self.keys):
            raw = outcome.areas.get("" if key.area.is_whole else str(k), {})
            figures = {kind: Figure.of(some) if some else None for kind, some in raw.items()}
            areas.append((key.area, figures))

        return [self._derived(tuple(areas), outcome)]

    def _derived(
        self, areas: tuple[tuple[Rectangle, Mapping[str, Figure | None]], ...], found: DerivedReply
    ) -> Derived:
        numbers = [chunk for chunk, _ in self.pieces]
        return Derived(
            place=self.place,
            appearance=self.key.appearance,
            exposure=self.key.exposure,
            curve=self.key.curve,
            reference=self.key.reference,
            chunks=tuple(numbers),
            reference_samples=self.reference_samples,
            samples=found.samples,
            work=found.work,
            denoise_seconds=found.denoise_seconds,
            areas=areas,
            pixels=dict(zip(numbers, found.pixels, strict=False)),
            machine=self.machine,
            versions={kind: KINDS[kind].version for _, some in areas for kind in some},
        )

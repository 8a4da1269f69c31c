"""Measure an appearance's pictures: against the reference, or where none is named only what differs
between them (grain). With a recipe, the pictures are first denoised as another configuration does;
nothing of that is written."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from swift_sample.core.measure.kinds import GRAIN, KINDS, Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import Event, Measured, Measurement
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.identity import MeasurementKey, Place
from swift_sample.core.worker.messages import Measured as MeasuredReply
from swift_sample.core.worker.messages import MeasureJob, Outcome


@dataclass(frozen=True, kw_only=True)
class MeasureStep:
    """`configuration` is one of those that render the pictures, or with a recipe the one whose
    denoising is tried."""

    place: Place
    configuration: Configuration
    keys: tuple[MeasurementKey, ...]
    """the whole picture and each watch area; alike but for the area"""
    pictures: tuple[str, ...]
    reference_samples: int
    size: tuple[int, int]
    digests: Mapping[str, str] = field(default_factory=dict, compare=False)
    """of the pictures' files and the reference's, by their names, as far as they were kept"""
    is_timed = False

    @property
    def key(self) -> MeasurementKey:
        return self.keys[0]

    def words(self, base: Configuration) -> str:
        if self.key.recipe:
            return f"denoising the base's pictures: {self.configuration.describe(base)}"
        what = "the base" if self.configuration == base else self.configuration.describe(base)
        return (
            f"comparing {what} with the reference"
            if self.key.reference
            else f"measuring the grain of {what}"
        )

    def job(self, folder: Folder) -> MeasureJob:
        pictures = [str(folder.picture(name)) for name in self.pictures]
        digests = {
            path: self.digests.get(name, "")
            for path, name in zip(pictures, self.pictures, strict=True)
        }
        if self.key.reference:
            digests[str(folder.reference(self.key.reference))] = self.digests.get(
                self.key.reference, ""
            )

        return MeasureJob(
            pictures=pictures,
            reference=str(folder.reference(self.key.reference)) if self.key.reference else "",
            exposure=self.key.exposure,
            curve=self.key.curve,
            digests={path: digest for path, digest in digests.items() if digest},
            size=self.size,
            areas=[
                (str(k), key.area.x, key.area.y, key.area.width, key.area.height)
                for k, key in enumerate(self.keys)
                if not key.area.is_whole
            ],
            denoise=self.configuration.of_renderer() if self.key.recipe else None,
        )

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if not isinstance(outcome, MeasuredReply):
            return []

        measurements = []
        for k, key in enumerate(self.keys):
            raw = outcome.areas.get("" if key.area.is_whole else str(k), {})
            figures = {
                kind: Figure.of(values) if values else None
                for kind, values in raw.items()
                if self.key.reference or kind == GRAIN.key
            }

            versions = {kind: KINDS[kind].version for kind in figures}
            measurements.append(
                Measurement(
                    place=self.place,
                    key=key,
                    pictures=self.pictures,
                    reference_samples=self.reference_samples,
                    figures=figures,
                    versions=versions,
                    seconds=outcome.seconds,
                )
            )

        return [Measured(tuple(measurements))]

    def without_figures(self) -> Event:
        """The event of a denoising that cannot be tried: nothing is expected of it, and it is not
        asked for again."""
        return Measured(
            tuple(
                Measurement(
                    place=self.place,
                    key=key,
                    pictures=self.pictures,
                    reference_samples=self.reference_samples,
                    figures={},
                    versions={},
                )
                for key in self.keys
            )
        )

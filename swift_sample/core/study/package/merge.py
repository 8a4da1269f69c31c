"""Two studies measured apart, put together: what one knows and the other does not is added, picture
by picture.

Everything is filed under what it depends on, so that the same name means the same thing in both:
nothing can mix that should not. Runs that both have, as after a copy, are told by their pictures
and count once.
"""

import os
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from swift_sample.core.errors import PictureError, StudyError
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.stored import is_of
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import (
    HostApart,
    Measured,
    Measurement,
    ReferenceGrew,
    Run,
    RunFinished,
    Said,
    TrialChosen,
)
from swift_sample.core.study.log.files import os_words
from swift_sample.core.study.log.state import StudyState, kind_of
from swift_sample.core.study.log.store import Reading, Store, look_at_study

Key = tuple[str, str, str, str, int, int, bool]


@dataclass(frozen=True)
class Merged:
    """What was added, and what was left out with the reason."""

    runs: int
    measurements: int
    references: int
    left_out: tuple[str, ...]

    @property
    def words(self) -> str:
        """For people."""
        told = [f"{self.runs} runs", f"{self.measurements} sets of figures"]
        told += (
            [f"{self.references} reference{'s' if self.references != 1 else ''}"]
            if self.references
            else []
        )
        return f"{', '.join(told[:-1])} and {told[-1]} were added"


def merge_study(path: Path, other: Path) -> Merged:
    """Add to the study at `path` what the one at `other` knows; that one stays as it is.

    Raises StudyError where one cannot be read, or they are of different renderers' settings or of
    different scenes.
    """
    if path.resolve() == other.resolve():
        raise StudyError(f"{other}: is the same study")

    with look_at_study(other) as reading, Store.open(path) as store:
        if reading.state.plan.catalogue.name != store.opened_as.plan.catalogue.name:
            raise StudyError(
                f"{other}: is of the renderer {reading.state.plan.catalogue.name}, {path} of "
                f"{store.opened_as.plan.catalogue.name}; studies of different renderers stay apart"
            )

        here = _scenes(store.opened_as)
        there = _scenes(reading.state)
        if here and there and not here & there:
            raise StudyError(
                f"{other}: is of another scene than {path}; what was measured of different "
                "scenes stays apart"
            )

        return _Merge(reading, store).run()


def _scenes(state: StudyState) -> set[str]:
    """The contents of all scenes that a study has results of, whatever their size, frame and
    light."""
    return {
        str(named.record.get("scene", ""))
        for named in state.names.values()
        if named.kind == "scene"
    }


class _Merge:
    def __init__(self, reading: Reading, store: Store) -> None:
        self._reading = reading
        self._store = store
        self._from = reading.state
        self._to = store.opened_as
        self._left_out = list(reading.notes)
        self._kinds_here = {
            kind_of(run.machine) for records in self._to.records.values() for run in records.runs
        }
        """whose pace is to be compared with what comes, which gets the other study's name where it
        has none"""

    def run(self) -> Merged:
        names = [named for name, named in self._from.names.items() if name not in self._to.names]
        apart = [
            HostApart(machine, host, "so it was told there")
            for machine, host in self._from.apart - self._to.apart
        ]
        runs = [event for run in self._new_runs() if (event := self._taken(run)) is not None]
        references = self._references()
        measured = self._measurements(references)
        chosen = self._chosen()
        added = Merged(len(runs), len(measured), len(references), tuple(self._left_out))
        said = Said("merged", f"{self._reading.folder.path}: {added.words}")
        figures = [Measured(tuple(measured))] if measured else []
        dated = [(event.run.finished_at, event) for event in runs]
        self._store.append_dated([*(("", event) for event in names), *dated])
        self._store.append([*apart, *references, *figures, *chosen, said])

        return added

    def _new_runs(self) -> list[Run]:
        known = {_key(run) for records in self._to.records.values() for run in records.runs}
        runs = [
            run
            for records in self._from.records.values()
            for run in records.runs
            if _key(run) not in known
        ]
        return sorted(runs, key=lambda run: run.number)

    def _taken(self, run: Run) -> RunFinished | None:
        """A run with its picture, which is copied; None where that is not what it was."""
        digest = run.digest
        if run.picture:
            source = self._reading.folder.picture(run.picture)
            target = self._store.folder.picture(run.picture)
            here = self._to.at(run.place).digests.get(run.picture, "")
            same_pixels = (
                target.is_file()
                and not (digest and is_of(target, digest))
                and _show_the_same(source, target)
            )

            if not same_pixels and not self._copied(source, target, digest):
                self._left_out.append(
                    f"a run's picture {run.picture} is missing, damaged, or another one here"
                )
                return None

            digest = here if same_pixels else digest

        values = self._reading.record.values_of([run.trial]).get(run.trial)
        configuration = (
            Configuration.from_identity_values(self._from.plan.catalogue, values)
            if values is not None
            else None
        )
        host = run.host or (
            self._reading.folder.path.stem if kind_of(run.machine) in self._kinds_here else ""
        )
        kept = replace(run, number=0, machine=kind_of(run.machine), digest=digest, host=host)

        return RunFinished(kept, configuration, self._reading.record(run.number))

    def _references(self) -> list[ReferenceGrew]:
        """References that are only there, or have more samples there."""
        found = []
        for name, there in self._from.references.items():
            here = self._to.references.get(name)
            if here is not None and here.samples >= there.samples:
                continue
            if self._copied(
                self._reading.folder.reference(name),
                self._store.folder.reference(name),
                there.digest,
                True,
            ):
                found.append(
                    ReferenceGrew(
                        reference=name,
                        samples=there.samples,
                        chunks=there.chunks,
                        floor=there.floor,
                        seconds=there.seconds,
                        digest=there.digest,
                    )
                )
            else:
                self._left_out.append(f"the reference {name} is missing or damaged there")

        return found

    def _measurements(self, references: Sequence[ReferenceGrew]) -> list[Measurement]:
        """Figures that only the other has: those of pictures that both have are measured again
        anyway."""
        there = {event.reference for event in references} | set(self._to.references)
        return [
            measurement
            for place, records in self._from.records.items()
            for key, measurement in records.measurements.items()
            if key not in self._to.at(place).measurements
            and (not key.reference or key.reference in there)
        ]

    def _chosen(self) -> list[TrialChosen]:
        """What searches chose there."""
        return [
            TrialChosen(
                place,
                configuration.identity_values(),
                "chosen by a search in a study that was merged",
            )
            for place, records in self._from.records.items()
            for configuration in records.chosen
            if configuration not in self._to.at(place).chosen
        ]

    def _copied(self, source: Path, target: Path, digest: str, may_replace: bool = False) -> bool:
        """Copy a picture; whether it stands there now as it was written."""
        try:
            if target.exists() and not may_replace:
                return not digest or is_of(target, digest)
            if digest and not is_of(source, digest):
                return False

            beside = target.with_name(f".writing-{target.name}")
            shutil.copyfile(source, beside)
            os.replace(beside, target)
            return True
        except FileNotFoundError:
            return False
        except OSError as error:
            raise StudyError(f"{target}: cannot be written ({os_words(error)})") from error


def _show_the_same(one: Path, other: Path) -> bool:
    """Whether two pictures have the same pixels: runs of one seed on two machines of a kind, told
    by their times alone."""
    try:
        return bool(np.array_equal(read_exr(one).beauty, read_exr(other).beauty))
    except (OSError, PictureError):
        return False


def _key(run: Run) -> Key:
    """What makes two runs the same one: the same trial rendered in the same place with the same
    seed on the same kind of machine, in the same time to the last digit; of one that failed the
    moment."""
    moment = str(run.result.seconds["total"]) if run.result is not None else run.finished_at
    return (
        run.place.scene,
        run.trial,
        kind_of(run.machine),
        moment,
        run.seed,
        run.block,
        run.control,
    )

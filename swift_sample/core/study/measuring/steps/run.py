"""Render a configuration once, timed."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import Event, PixelsCompared, Run, RunFinished, RunResult
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.identity import Place, picture_identity
from swift_sample.core.study.log.state import PlannedTrial, kind_of
from swift_sample.core.worker.messages import Failed, Outcome, Rendered, RenderJob, reason_of

NOT_AS_DERIVED = (
    "a render had other pixels than the recording says: a fault of this program. Nothing is "
    "derived any more, all is measured from renders"
)


@dataclass(frozen=True)
class Expected:
    """The picture that a run has to have, bit for bit: the one that was derived from a recorded
    chunk of a reference, whose seed the run takes. `pixels` is the digest of its pixels."""

    reference: str
    chunk: int
    pixels: str


@dataclass(frozen=True, kw_only=True)
class RunStep:
    """One run of a trial; `control` for a repeat of the base that shows drift."""

    trial: PlannedTrial
    place: Place
    block: int
    control: bool
    seed: int
    spec: RenderSpec
    machine: str
    software: str = ""
    records: Mapping[str, Mapping[str, Any]] = field(default_factory=dict, compare=False)
    """behind the names of scene, renderer and machine, for the picture's header"""
    label: str = ""
    host: str = ""
    """which of several machines of a kind; "" for the only one"""
    expected: Expected | None = None
    """its picture, where that is known before"""
    is_timed = True

    @property
    def configuration(self) -> Configuration:
        return self.trial.configuration

    @property
    def picture(self) -> str:
        """The name of its picture's file."""
        return f"{picture_identity(self.place, self.trial.appearance, self.seed).name}.exr"

    def words(self, base: Configuration) -> str:
        if self.control:
            return "rendering the base again, as a control"
        return (
            "rendering the base"
            if self.configuration == base
            else f"rendering {self.configuration.describe(base)}"
        )

    def job(self, folder: Folder) -> RenderJob:
        return RenderJob(
            spec=self.spec,
            picture=str(folder.picture(self.picture)),
            identity=self.as_note(),
            with_pixels=self.expected is not None,
        )

    def as_note(self) -> dict[str, object]:
        """What the picture's header says of where the run belongs, so that a lost database can be
        made from pictures."""
        records = {kind: dict(record) for kind, record in self.records.items()}
        return {
            "records": records,
            "label": self.label,
            "renderer": self.place.renderer,
            "scene": self.place.scene,
            "trial": self.trial.id,
            "appearance": self.trial.appearance,
            "machine": kind_of(self.machine),
            "seed": self.seed,
            "block": self.block,
            "control": self.control,
            "software": self.software,
            "host": self.host,
        }

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if isinstance(outcome, Rendered):
            run = replace(
                self._run,
                picture=self.picture,
                result=RunResult.of(outcome.result),
                digest=outcome.digest,
            )
            finished = RunFinished(run, self.configuration, outcome.result)
            return [finished, *self._compared(outcome.pixels)]
        return self.failed(
            reason_of(outcome), isinstance(outcome, Failed) and outcome.fault != "job"
        )

    def _compared(self, pixels: str) -> Sequence[Event]:
        """Whether the picture is the one that was expected."""
        expected = self.expected
        if expected is None:
            return []

        same = pixels == expected.pixels
        words = "" if same else f"{self.configuration.describe()}: {NOT_AS_DERIVED}"
        compared = PixelsCompared(
            reference=expected.reference,
            appearance=self.trial.appearance,
            chunk=expected.chunk,
            same=same,
            words=words,
        )
        return [compared]

    def failed(self, reason: str, by_machine: bool) -> Sequence[Event]:
        """The events of a run that gave no picture; `by_machine` where that says nothing of its
        trial."""
        return [
            RunFinished(
                replace(self._run, reason=reason, by_machine=by_machine), self.configuration
            )
        ]

    @property
    def _run(self) -> Run:
        return Run(
            number=0,
            finished_at="",
            place=self.place,
            trial=self.trial.id,
            appearance=self.trial.appearance,
            machine=kind_of(self.machine),
            seed=self.seed,
            block=self.block,
            control=self.control,
            picture="",
            result=None,
            software=self.software,
            host=self.host,
        )

"""Render a configuration once, timed."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from swift_sample.core.renderers.records import RenderSpec, RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.study.events import Event, Run, RunFinished, RunResult
from swift_sample.core.study.folder import Folder
from swift_sample.core.study.identity import Place, picture_identity
from swift_sample.core.study.state import PlannedTrial
from swift_sample.core.worker.messages import Outcome, Rendered, RenderJob, reason_of


@dataclass(frozen=True)
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
        return "rendering the base" if self.configuration == base else f"rendering {self.configuration.describe(base)}"

    def job(self, folder: Folder) -> RenderJob:
        return RenderJob(spec=self.spec, picture=str(folder.picture(self.picture)), identity=self.as_note())

    def as_note(self) -> dict[str, object]:
        """What the picture's header says of where the run belongs, so that a lost database can be made from pictures."""
        records = {kind: dict(record) for kind, record in self.records.items()}
        return {
            "records": records,
            "label": self.label,
            "renderer": self.place.renderer,
            "scene": self.place.scene,
            "trial": self.trial.id,
            "appearance": self.trial.appearance,
            "machine": self.machine,
            "seed": self.seed,
            "block": self.block,
            "control": self.control,
            "software": self.software,
        }

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        if isinstance(outcome, Rendered):
            return [self._finished(self.picture, RunResult.of(outcome.result), "", outcome.result)]
        return [self._finished("", None, reason_of(outcome), None)]

    def failed(self, reason: str) -> Sequence[Event]:
        """The events of a worker that was lost in it."""
        return [self._finished("", None, reason, None)]

    def _finished(self, picture: str, result: RunResult | None, reason: str, record: RunRecord | None) -> RunFinished:
        run = Run(
            0,
            "",
            self.place,
            self.trial.id,
            self.trial.appearance,
            self.machine,
            self.seed,
            self.block,
            self.control,
            picture,
            result,
            reason,
            self.software,
        )
        return RunFinished(run, self.configuration, record)

"""Render a picture once more with its light passes, which are not kept of every run."""

from collections.abc import Sequence
from dataclasses import dataclass

from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import Event, Said
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.worker.messages import Outcome, Rendered, RenderJob

KEPT = "light passes"
"""The kind of what the log says of them."""


@dataclass(frozen=True)
class PassesStep:
    """The same pixels as in `picture`: settings and seed are those of its run. Its time is not
    counted."""

    picture: str
    configuration: Configuration
    spec: RenderSpec
    is_timed = False

    def words(self, base: Configuration) -> str:
        what = "the base" if self.configuration == base else self.configuration.describe(base)
        return f"rendering the light passes of {what}"

    def job(self, folder: Folder) -> RenderJob:
        return RenderJob(spec=self.spec, picture=str(folder.passes / self.picture), everything=True)

    def absorb(self, outcome: Outcome) -> Sequence[Event]:
        return [Said(KEPT, f"kept for {self.picture}")] if isinstance(outcome, Rendered) else []

"""An open study as the window shows it at one moment. Pages and strips are given one and hold
nothing else."""

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from swift_sample.app.any_settings import AnySettings
from swift_sample.app.field import Field
from swift_sample.core.renderers.port import SceneFacts
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.frames import FrameResults
from swift_sample.core.study.answers.pick import Pick
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.measuring.notices import Member
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.steps import Step
from swift_sample.core.study.plan.model import Study

if TYPE_CHECKING:
    from swift_sample.core.study.search.search import Advice


@dataclass(frozen=True, kw_only=True)
class Activity:
    """What the driver is doing now. `step` is None while the renderer starts."""

    measuring: bool = False
    stopping: bool = False
    step: Step | None = None
    why: str = ""
    """why this step was chosen"""
    share: float = 0.0
    text: str = ""
    searching: bool = False
    """whether a search chooses what is measured"""


@dataclass(frozen=True)
class MachinesShown:
    """Where other machines meet, whether they measure what is asked for, and who is there. `words`
    say what happened last."""

    address: str = ""
    keys: str = ""
    in_use: bool = False
    members: tuple[Member, ...] = ()
    words: str = ""


@dataclass(frozen=True, kw_only=True)
class ViewModel:
    """Immutable. `results` are those under the acceptance line as it is dragged."""

    path: Path
    study: Study
    """the plan as it stands, including edits that are just being saved"""
    snapshot: Snapshot | None = None
    results: Results | None = None
    line: float = 1.0
    activity: Activity = field(default_factory=Activity)
    selected: tuple[str, ...] = ()
    """trials that are compared, in order"""
    selected_setting: str | None = None
    lit: frozenset[str] = frozenset()
    """trials that are shown in full, the others faintly; empty for all"""
    advice: "Advice | None" = None
    """what a search last said, with its predictions"""
    field_shown: Field | None = None
    """what recordings say of combinations that were not timed; None while they say nothing"""
    any_settings: AnySettings | None = None
    """what the knobs are set to; None while nobody turned one"""
    facts: SceneFacts | None = None
    """what the scene has that settings can act on; None until it was read"""
    undo_label: str = ""
    redo_label: str = ""
    reporting: bool = False
    """whether a report is being written for the window"""
    machines: MachinesShown = field(default_factory=MachinesShown)
    """other machines that measure it"""
    report: tuple[str, object] | None = None
    """the file of the last one that was, and the results that it tells"""
    report_words: str = ""
    """how far the one that is being written is; afterwards that it was stopped, if it was"""

    @property
    def frames(self) -> FrameResults | None:
        """What is known of the sequence; None where the study has none."""
        return self.snapshot.frames if self.snapshot is not None else None

    def pick(self) -> Pick | None:
        return self.results.pick() if self.results is not None else None

    def trial(self, trial_id: str) -> TrialResult | None:
        """As it is judged under the line; one that is not planned any more as it was."""
        found = self.results.by_id.get(trial_id) if self.results is not None else None
        return (
            found if found is not None or self.snapshot is None else self.snapshot.trial(trial_id)
        )

    def frame_names(self) -> dict[Configuration, str]:
        """What is measured at frames: the base, and the pick where there is one that differs."""
        pick = self.snapshot.results.pick() if self.snapshot is not None else None
        named = {self.study.base: "base"}
        if pick is not None:
            named.setdefault(pick.trial.configuration, "pick")

        return named

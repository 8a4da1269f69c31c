"""What a driver tells whoever listens, from its own thread."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.steps import Step

if TYPE_CHECKING:
    from swift_sample.core.study.search.search import Advice


@dataclass(frozen=True)
class StateChanged:
    snapshot: Snapshot


@dataclass(frozen=True)
class StepStarted:
    """`host` is which of several machines does it; "" for this computer."""

    step: Step
    why: str
    host: str = ""


@dataclass(frozen=True)
class StepProgress:
    share: float
    text: str
    host: str = ""


@dataclass(frozen=True)
class MachineSaid:
    """Something about a machine that has joined, or all of them (""), in words."""

    host: str
    words: str


@dataclass(frozen=True)
class StepEnded:
    """`problem` says why a step failed; None where it went well."""

    step: Step
    problem: str | None


@dataclass(frozen=True, kw_only=True)
class Member:
    """A machine that works for a study, as people see it. `state` is what it does in a few words,
    `said` its last words."""

    host: str
    machine: str
    label: str
    state: str
    runs: int
    said: str


@dataclass(frozen=True)
class CrewChanged:
    """Who works for the study at an address; nobody once measuring has ended."""

    address: str
    members: tuple[Member, ...]


@dataclass(frozen=True)
class Waits:
    """Measuring goes on as soon as what it needs can be had: what it waits for, in words."""

    words: str


@dataclass(frozen=True)
class Advised:
    """A search looked at all combinations: what it will render next, why, and what it predicts."""

    advice: "Advice"


@dataclass(frozen=True)
class Ended:
    """Measuring ended: finished, stopped on request, or with a problem."""

    finished: bool
    problem: str | None
    words: str = ""


Notice = (
    StateChanged
    | StepStarted
    | StepProgress
    | StepEnded
    | MachineSaid
    | CrewChanged
    | Waits
    | Advised
    | Ended
)

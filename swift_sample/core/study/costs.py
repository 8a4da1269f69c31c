"""Where the time of a trial went: its typical run, and the medians of its phases."""

from swift_sample.core.renderers.costs import Part, parts_of
from swift_sample.core.renderers.records import PHASES
from swift_sample.core.study.events import Run
from swift_sample.core.study.results import TrialResult


def typical_run(trial: TrialResult) -> Run | None:
    """The run whose total lies in the middle of those that count."""
    own = [run for run in trial.runs if run.result is not None and run.number not in trial.left_out]
    return sorted(own, key=lambda run: run.result.seconds["total"] if run.result else 0.0)[len(own) // 2] if own else None


def phases_of(trial: TrialResult) -> list[Part]:
    """Medians of the phases, in the order in which they run."""
    return parts_of({phase: trial.phases[phase].value for phase in PHASES if phase in trial.phases})

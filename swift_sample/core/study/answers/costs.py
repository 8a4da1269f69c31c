"""Where the time of a trial went: its typical run, the medians of its phases, and what comparing
its pictures takes."""

from swift_sample.core.renderers.costs import Part, parts_of
from swift_sample.core.renderers.records import PHASES
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.events import Run

MEASURING_SECONDS = 0.2
"""For comparing one picture with the reference, whatever its size,"""
MEASURING_PER_MEGAPIXEL = 0.7
"""and for each million of its pixels."""


def typical_run(trial: TrialResult) -> Run | None:
    """The run whose total lies in the middle of those that count."""
    own = [run for run in trial.runs if run.result is not None and run.number not in trial.left_out]
    return (
        sorted(own, key=lambda run: run.result.seconds["total"] if run.result else 0.0)[
            len(own) // 2
        ]
        if own
        else None
    )


def phases_of(trial: TrialResult) -> list[Part]:
    """Medians of the phases, in the order in which they run."""
    return parts_of({phase: trial.phases[phase].value for phase in PHASES if phase in trial.phases})


def measuring_seconds(size: tuple[int, int]) -> float:
    """What comparing one picture of this size with the reference takes."""
    return MEASURING_SECONDS + MEASURING_PER_MEGAPIXEL * size[0] * size[1] / 1e6

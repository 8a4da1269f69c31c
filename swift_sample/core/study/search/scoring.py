"""How well a search predicts: every prediction was kept before the trial was rendered, and is held
against what came out."""

from collections.abc import Mapping
from dataclasses import dataclass

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.log.events import Prediction

FEW = 5
"""With fewer trials the share that held says little."""


@dataclass(frozen=True)
class Scored:
    """One prediction, and whether the measured time and limit share lie in its intervals, as far as
    they were measured. A measured value counts as inside where its own interval reaches in."""

    configuration: Configuration
    prediction: Prediction
    seconds_held: bool | None
    share_held: bool | None


@dataclass(frozen=True)
class Score:
    """All predictions of a place."""

    scored: tuple[Scored, ...]

    def share_that_held(self, what: str) -> tuple[int, int]:
        """How many predictions of "seconds" or "share" held, and how many were tried."""
        held = [getattr(one, f"{what}_held") for one in self.scored]
        return sum(one is True for one in held), sum(one is not None for one in held)

    @property
    def words(self) -> str:
        """For people; "" where there is nothing to tell."""
        times = self.share_that_held("seconds")
        shares = self.share_that_held("share")
        if not times[1]:
            return ""

        told = (
            f"of the search's predictions {times[0]} of {times[1]} held in time, {shares[0]} of "
            f"{shares[1]} in limit share"
        )
        return told + ("" if times[1] >= FEW else " (few as yet)") + "; nine of ten should"


def score(results: Results, predictions: Mapping[Configuration, Prediction]) -> Score:
    """Hold predictions against what was measured since."""
    scored = []
    for configuration, prediction in predictions.items():
        trial = results.by_effect.get(configuration.effective())
        seconds = _held(prediction.seconds, trial.seconds if trial is not None else None)
        share = _held(prediction.share, trial.share if trial is not None else None)
        scored.append(Scored(configuration, prediction, seconds, share))

    return Score(tuple(scored))


def _held(predicted: Figure, measured: Figure | None) -> bool | None:
    if measured is None:
        return None
    return predicted.low <= measured.high and measured.low <= predicted.high

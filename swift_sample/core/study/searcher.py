"""A search at work: turns advice into steps for the runner, and learns from the base's pictures smoothed in other ways."""

import time
from collections.abc import Callable
from itertools import product
from typing import TYPE_CHECKING

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.desk import Desk
from swift_sample.core.study.expectation import DENOISE_KEYS, Expectation, Smoothed, Smoothing, smoothing_of
from swift_sample.core.study.messages import Measured
from swift_sample.core.study.results import Results, limit_shares, wanted_limits
from swift_sample.core.study.schedule import Decision, SmoothStep, decide
from swift_sample.core.study.spending import typical_run

if TYPE_CHECKING:
    from swift_sample.core.study.search import Advice

PICTURES = 2
"""Runs of the base whose pictures are smoothed: grain is what differs between two."""


class Searcher:
    """Chooses trials until none is likely to beat the pick, or the budget is spent.

    Call `next_decision` whenever nothing else is left to do, and `take` with what a SmoothStep measured.
    """

    def __init__(self, desk: Desk, budget_seconds: float | None = None, clock: Callable[[], float] = time.monotonic) -> None:
        desk.searching = desk.exploring = True
        self._desk, self._budget, self._clock = desk, budget_seconds, clock
        self._started = clock()
        self._smoothed: dict[Smoothing, Smoothed] = {}
        self._chosen: set[Configuration] = set()
        self.advice: Advice | None = None
        """the latest; None until the base is measured"""

    def next_decision(self) -> Decision | None:
        """The next step, or None at the end; `advice` then says why.

        While it explores, trials get just enough runs to go on; when nothing promises more, those that may be the pick get
        all of theirs, in shuffled blocks with controls, and the search looks again.
        """
        from swift_sample.core.study.search import Advice, advise

        results = self._desk.snapshot().results
        base, run = results.base, typical_run(results.base) if results.base is not None else None
        if base is None or not base.is_on_map or run is None or run.result is None:
            self.advice = Advice(None, "the base could not be measured")
            return None
        step = self._unknown_smoothing(results)
        if step is not None:
            return Decision(step, "what other denoising makes of pictures that are there")
        advice = advise(results, Expectation(base, run.result, results.study.goal, self._smoothed), self._chosen)
        spent = self._clock() - self._started
        if advice.configuration is not None and self._budget is not None and spent >= self._budget:
            advice = Advice(None, f"the {self._budget:.0f} s are spent, the likeliest combination left has a chance of "
                            f"{advice.outlooks[0].chance:.0%}", advice.outlooks)
        self.advice = advice
        if advice.configuration is None:
            self._desk.exploring = False
            return self._decide()
        self._desk.exploring = True
        self._chosen.add(advice.configuration)
        self._desk.folder.choose(advice.configuration, self._desk.scene_key())
        found = self._decide()
        # A trial that failed too often in an earlier search is not rendered again: look further.
        return Decision(found.step, advice.why) if found is not None else self.next_decision()

    def _decide(self) -> Decision | None:
        return decide(self._desk.to_measure(), self._desk.done(0))

    def pictures(self) -> list[str]:
        """The base's pictures that are smoothed."""
        base = self._desk.snapshot().results.base
        folder = self._desk.folder.pictures_path
        return [str(folder / run.picture) for run in base.runs if run.picture is not None][:PICTURES] if base else []

    def take(self, step: SmoothStep, measured: Measured) -> None:
        """Remember what another smoothing costs and shows."""
        results = self._desk.snapshot().results
        figures = {key: Figure(*values) if values else None for key, values in measured.figures.items()}
        shares = limit_shares(figures, wanted_limits(results.study, results.limits))
        self._smoothed[smoothing_of(step.configuration)] = Smoothed(
            measured.seconds, {key: share.value for key, share in shares.items()})

    def skip(self, step: SmoothStep) -> None:
        """Go on without a smoothing that could not be tried: nothing is expected of it but what trials show."""
        self._smoothed[smoothing_of(step.configuration)] = Smoothed(0.0, {})

    def _unknown_smoothing(self, results: Results) -> SmoothStep | None:
        study = results.study
        space = study.space()
        values = [space.get(key, (study.base[key],)) for key in DENOISE_KEYS]
        for chosen in product(*values):
            wanted = study.base.replace({**dict(zip(DENOISE_KEYS, chosen, strict=True)), "denoise.per_pass": False})
            if smoothing_of(wanted) not in self._smoothed:
                return SmoothStep(wanted)
        return None

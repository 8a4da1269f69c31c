"""In which rounds the samples of a picture are taken, and when there are enough of them.

A render takes its samples in rounds: all at once, in passes that can be watched, or up to where a
noise threshold looks at the picture again. What ends the sampling depends on the film alone, so the
same rounds can be gone through again with the sums that a recording kept.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.adaptive import (
    AUTOMATIC_MINIMUM,
    next_target,
    pixel_error,
    samples_wanted,
)
from swift_sample.core.renderers.builtin.film.film import FilmArrays, halves_of
from swift_sample.core.settings import Configuration

LONGEST_PASS = 16
"""Passes of the progressive mode grow from one sample a pixel to this many."""

LEAST_JUDGED = 8
"""Samples that a picture has before its grain is judged."""

TakeSamples = Callable[[int, int], None]
"""Brings every active pixel of the film to the first number of samples; the second is how many they
have."""


@dataclass(frozen=True, kw_only=True)
class Schedule:
    """What decides in which rounds samples are taken.

    `minimum` and `maximum` are samples a pixel; `threshold` is the error at which a pixel may stop,
    as a share of the display's range, and `stop_at_grain` the grain in levels at which the whole
    picture does, each 0 where nothing stops.
    """

    minimum: int
    maximum: int
    threshold: float
    progressive: bool
    stop_at_grain: float

    @classmethod
    def of(cls, configuration: Configuration) -> "Schedule":
        maximum = int(configuration["samples.max"])
        least = int(configuration["samples.min"]) or AUTOMATIC_MINIMUM

        return cls(
            minimum=min(maximum, least),
            maximum=maximum,
            threshold=float(configuration["samples.noise_threshold"]),
            progressive=configuration["tiles.mode"] == "progressive",
            stop_at_grain=float(configuration["samples.stop_at_grain"]),
        )

    def next_judged(self, done: int) -> int:
        """The samples at which the threshold looks at the picture next."""
        if self.threshold <= 0:
            return self.maximum
        return next_target(done, self.minimum, self.maximum)

    def next_target(self, done: int, judged: int) -> int:
        """The samples that the next round brings, on the way to `judged`."""
        if not self.progressive:
            return judged
        return min(judged, done + min(max(1, done), LONGEST_PASS))

    def targets(self) -> list[int]:
        """Every number of samples at which anything may end, in rising order."""
        found = []
        done = judged = 0

        while done < self.maximum:
            if done == judged:
                judged = self.next_judged(done)
            done = self.next_target(done, judged)
            may_end = self.progressive and self.stop_at_grain > 0 and done >= LEAST_JUDGED
            if done == judged or may_end:
                found.append(done)

        return found


class Rounds:
    """The rounds of one picture.

    After `run`, `done` is how many samples every pixel has that did not stop earlier, `stopped` why
    the sampling ended before its most samples ("clean", "by hand" or empty), and `error` the error
    of each pixel, float32[h, w].
    """

    def __init__(self, schedule: Schedule, film: FilmArrays, view: View) -> None:
        self.schedule = schedule
        self._film = film
        self._view = view
        self.done = 0
        self.stopped = ""
        self.error = np.zeros(film.samples.shape, np.float32)
        self._finishing = False

    def run(self, take: TakeSamples, after_round: Callable[[], None] = lambda: None) -> None:
        """Take all samples; `after_round` is called whenever all pixels had those of a round."""
        schedule = self.schedule
        judged = self.done

        while self.done < schedule.maximum:
            # Passes in between change nothing about where the noise is looked at.
            if self.done == judged:
                judged = schedule.next_judged(self.done)

            target = schedule.next_target(self.done, judged)
            take(target, self.done)
            self.done = target
            after_round()

            if target == judged and self._all_pixels_stopped():
                break
            if schedule.progressive and target < schedule.maximum and self._enough():
                break

        self.error = pixel_error(self._film, self._view)

    def finish(self) -> bool:
        """End after the round that is being taken; False where there are no passes to end after."""
        self._finishing = self.schedule.progressive
        return self._finishing

    def grain(self) -> float:
        """The grain so far in levels, from the two halves of the samples."""
        a, b = (self._view.levels(half) for half in halves_of(self._film))
        return float(np.sqrt(np.mean((a - b) ** 2)) / 2)

    def _all_pixels_stopped(self) -> bool:
        """Let pixels stop that the threshold has had enough of."""
        if self.schedule.threshold <= 0 or self.done >= self.schedule.maximum:
            return False

        film = self._film
        error = pixel_error(film, self._view)
        wanted = samples_wanted(error, film.samples, self.schedule.threshold)
        film.active[...] &= film.samples < wanted

        return not film.active.any()

    def _enough(self) -> bool:
        """Whether the picture may stay as it is; `stopped` then says why."""
        limit = self.schedule.stop_at_grain
        if self._finishing:
            self.stopped = "by hand"
        elif limit > 0 and self.done >= LEAST_JUDGED and self.grain() <= limit:
            self.stopped = "clean"

        return bool(self.stopped)

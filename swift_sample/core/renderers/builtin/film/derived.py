"""The film of other settings, from what a recording kept.

It is the film that a render with the recording's seed would have made with those settings, bit for
bit: the same sums, after the same rounds.
"""

from typing import NamedTuple, Protocol

import numpy as np

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.film import FilmArrays, new_film
from swift_sample.core.renderers.builtin.film.recording import Clamp, PathEnd, RecordingPlan
from swift_sample.core.renderers.builtin.film.rounds import Rounds, Schedule
from swift_sample.core.settings import Configuration


class Sums(NamedTuple):
    """The sums of one film at one number of samples, h rows and w columns."""

    half_a: np.ndarray
    """float32[h, w, 3]: radiance of the even-numbered samples"""
    half_b: np.ndarray
    """float32[h, w, 3]: radiance of the odd-numbered samples"""
    guides: np.ndarray
    """float32[h, w, 7]"""
    guides_half: np.ndarray
    """float32[h, w, 7]: those of the odd-numbered samples"""
    cycles: np.ndarray
    """float32[h, w]: processor cycles up to where paths ended"""


class Kept(Protocol):
    """What a recording holds, wherever it is held."""

    plan: RecordingPlan
    material: np.ndarray
    """int32[h, w], as in `FilmArrays`"""
    object: np.ndarray
    """int32[h, w]"""

    def sums(self, count: int, end: PathEnd, clamp: Clamp) -> Sums: ...


def derived_film(kept: Kept, configuration: Configuration, view: View) -> tuple[FilmArrays, Rounds]:
    """The film of `configuration`, which the recording's plan holds, and the rounds that it took.

    Records beside the picture (light by bounce, what limits would take) are left empty.
    """
    height, width = kept.material.shape
    end = PathEnd.of(configuration)
    clamp = Clamp.of(configuration)
    film = new_film(
        width,
        height,
        bounces=0,
        adaptive=False,
        passes=False,
        guides_half=guides_denoiser(configuration),
        record=False,
    )
    film.material[...] = kept.material
    film.object[...] = kept.object
    judged = set(kept.plan.counts)

    def take(target: int, done: int) -> None:
        """Bring active pixels to the target. Passes in between look at nothing and are not kept."""
        if target in judged:
            _put(film, kept.sums(target, end, clamp), target)

    rounds = Rounds(Schedule.of(configuration), film, view)
    rounds.run(take)
    return film, rounds


def guides_denoiser(configuration: Configuration) -> bool:
    """Whether a render with this configuration keeps guides of half the samples."""
    smooths = configuration["denoise.method"] != "none" and configuration["denoise.strength"] != 0
    return smooths and bool(configuration["denoise.guides"])


def _put(film: FilmArrays, sums: Sums, count: int) -> None:
    active = film.active.astype(bool)
    film.half_a[active] = sums.half_a[active]
    film.half_b[active] = sums.half_b[active]
    film.guides[active] = sums.guides[active]
    film.cycles[active] = sums.cycles[active].astype(np.uint64)
    film.samples[active] = count

    if film.guides_half.size:
        film.guides_half[active] = sums.guides_half[active]

"""A reference that may judge, and limits of small pictures that some number of runs can decide."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from swift_sample.cli import run
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.records import Samples
from swift_sample.core.study.answers.acceptance import (
    ACCEPTABLE,
    NOT_ACCEPTABLE,
    UNDECIDED,
    small_picture_words,
)
from swift_sample.core.study.answers.guidance import without_pick
from swift_sample.core.study.answers.results import CLEANER_TIMES, Results, collect
from swift_sample.core.study.answers.verdict_runs import MOST_TO_DECIDE, one_pixel, upper_end
from swift_sample.core.study.log.store import create_study
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.policies.runs_wanted import wanted_runs
from swift_sample.core.study.measuring.steps import ReferenceStep
from swift_sample.core.study.plan.model import Limits, Study, WatchArea
from tests.core.study.states import Happenings, measured, only_limits, record_of

BASE = configured({"samples.max": 192, "device.threads": 2})
SMALL = Study(
    name="s", scene="honey-stall", size=(112, 63), base=BASE, limits=only_limits(stray_pixels=20.0)
)
PIXEL = 1e6 / (112 * 63)
RECORD = record_of(1.0, samples=Samples(mean=192, min=192, max=192, share_at_max=1.0, min_used=16))


def with_strays(
    value: float, low: float, high: float, runs: int = 3, samples: int = 96, study: Study = SMALL
) -> Happenings:
    """The base with so many stray pixels a picture, and a reference of so many samples."""
    made = Happenings(study)
    made.reference(samples, floor=0.1, chunks=3)
    for block in range(runs):
        made.run(BASE, RECORD, block)

    made.measure(BASE, {"stray_pixels": (value * PIXEL, low * PIXEL, high * PIXEL)})
    return made


def test_a_render_is_not_judged_by_a_reference_that_is_no_cleaner() -> None:
    """U2: one pixel was off in all renders, of up to 27 times the samples of the reference, which
    was wrong in it."""
    results = collect(with_strays(3.0, 2.0, 4.5).state)
    (base,) = results.trials
    assert base.verdict == UNDECIDED
    assert base.doubted == {"stray_pixels"}
    told = without_pick(results, lambda number: None)
    assert told is not None
    assert "the reference is not cleaner than this render" in told.failing[0]
    clean = collect(with_strays(3.0, 2.0, 4.5, samples=CLEANER_TIMES * 192).state)
    assert clean.trials[0].verdict == NOT_ACCEPTABLE


def test_the_reference_grows_where_it_is_doubted_and_only_there() -> None:
    made = with_strays(3.0, 2.0, 4.5)
    while len(made.state.results.runs) < 20:
        proposal = Sweeping().propose(made.state, 0.0)
        if not hasattr(proposal.step, "block"):
            break
        made.run(BASE, RECORD, proposal.step.block, proposal.step.control)
        made.measure(BASE, {"stray_pixels": (3.0 * PIXEL, 2.0 * PIXEL, 4.5 * PIXEL)})

    assert isinstance(proposal.step, ReferenceStep)
    assert f"before it has {CLEANER_TIMES * 192} samples" in proposal.why
    made.reference(CLEANER_TIMES * 192, floor=0.1, chunks=9)
    assert not isinstance(Sweeping().propose(made.state, 0.0).step, ReferenceStep)


def test_a_limit_of_less_than_a_pixel_is_said_to_be(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    """U5: 20 per million was shown as 142, unexplained."""
    (words,) = small_picture_words(SMALL)
    assert words == (
        "stray pixels: 20 per million are 0.1 pixels here, less than one; one a render counts as "
        "the limit, and 3 renders "
        "without any show that it is kept"
    )

    assert small_picture_words(replace(SMALL, size=(640, 360))) == ()
    jar = WatchArea(name="jar", x=0, y=0, width=20, height=20)
    assert (
        "pixels in jar, less than one"
        in small_picture_words(replace(SMALL, size=(640, 360), areas=(jar,)))[0]
    )
    path = create_study(tmp_path / "a.study", SMALL)
    assert run(["limit", str(path), "grain", "3"]) == 0
    assert words in capsys.readouterr().err
    assert run(["pick", str(path)]) == 3
    assert words in capsys.readouterr().err


@pytest.mark.parametrize(("runs", "strays"), [(3, 1), (4, 1), (6, 2)])
def test_an_open_limit_on_single_pixels_gets_the_runs_that_decide_it(
    runs: int, strays: int
) -> None:
    """U5: two runs, and at most three more, could never tell; a pick that was twice as slow
    stayed."""
    share = strays / runs
    state = with_strays(share, 0.01, 3.0, runs=runs, samples=CLEANER_TIMES * 192).state
    results = collect(state)
    assert results.trials[0].verdict == UNDECIDED
    figure = Figure(share, 0.01, 3.0)
    enough = next(
        k for k in range(runs, 99) if upper_end("stray_pixels", figure, runs, k, PIXEL, SMALL) <= 1
    )
    assert one_pixel("stray_pixels", PIXEL, SMALL) == pytest.approx(1.0)

    if enough <= MOST_TO_DECIDE:
        assert wanted_runs(results)[state.base.id].count == runs + 1
    else:
        assert state.base.id not in wanted_runs(results)


def test_nothing_stays_undecided_for_ever() -> None:
    """Renders with a third of a stray pixel each, measured for as long as more runs are asked for:
    they end decided, or at the most runs that are spent on it."""
    rng = np.random.default_rng(3)
    from swift_sample.core.measure.counts import count_interval

    for _ in range(20):
        counts: list[int] = []
        while True:
            counts.append(int(rng.poisson(1 / 3)))
            runs = len(counts)
            total = sum(counts)
            low, high = (end / runs for end in count_interval(total))
            results = collect(with_strays(total / runs, low, high, runs, CLEANER_TIMES * 192).state)
            (base,) = results.trials
            asked = wanted_runs(results).get(base.id)

            if runs >= 3 and (asked is None or asked.count <= runs):
                break

        assert runs <= MOST_TO_DECIDE
        assert base.verdict == ACCEPTABLE or total >= 2


def failing_shift(low: float, high: float) -> Results:
    study = Study(
        name="s",
        scene="honey-stall",
        base=configured({"samples.max": 8, "bounces.total": 4}),
        limits=Limits(grain=4.0, grain_worst=None, light_shift_worst=None, detail_kept_worst=None),
    )
    figures = {
        "grain": (1.0, 0.9, 1.1),
        "light_shift": (0.9, low, high),
        "detail_kept": (99.0, 98.9, 99.1),
    }
    return collect(
        measured(
            study,
            {study.base: [1.0] * 3},
            {study.base: {**figures, "stray_pixels": (0.0, 0.0, 1.0)}},
        ).state
    )


def test_light_that_is_not_known_to_be_missing_is_not_said_to_be() -> None:
    """U8: the reference was too grainy to tell, and the advice was more bounces."""
    told = without_pick(failing_shift(0.4, 1.6), lambda number: None)
    assert told is not None
    assert told.proposal is None
    assert "more of the reference, would tell" in told.words
    sure = without_pick(failing_shift(1.4, 1.6), lambda number: None)
    assert sure is not None
    assert "light is missing" in sure.words

"""The pick, what speaks for it, and what helps where there is none."""

from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.core.measure.kinds import Figure, place_words
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.falls import fall_of, samples_needed
from swift_sample.core.report.model import _failed_words
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE, UNDECIDED
from swift_sample.core.study.answers.guidance import not_known, without_pick
from swift_sample.core.study.answers.pick import contributions, edges
from swift_sample.core.study.answers.pick_report import (
    cache_words,
    help_sentences,
    other_goal_words,
    pick_as_data,
    pick_sentences,
    show_factor,
    show_with_interval,
)
from swift_sample.core.study.answers.results import Results, collect
from swift_sample.core.study.beginning.pilot import Pilot
from swift_sample.core.study.log.events import TrialChosen
from swift_sample.core.study.measuring.policies import Searching
from swift_sample.core.study.plan.file import plan_as_data, plan_from_data
from swift_sample.core.study.plan.model import Study, Sweep, WatchArea
from swift_sample.core.study.plan.starting import suggestions, with_dear
from swift_sample.core.study.search.search import widened
from tests.core.study.states import Happenings, Range, measured, only_limits, record_of

BASE = configured({"samples.max": 100, "bounces.total": 8})
LIMITS = only_limits(grain=2.0)
STUDY = Study(name="s", scene="honey-stall", base=BASE, limits=LIMITS)
GOOD: dict[str, Range | None] = {"grain": (1.0, 0.9, 1.1)}


def results_of(
    seconds: dict[Configuration, list[float]],
    figures: dict[Configuration, dict] | None = None,
    study: Study = STUDY,
) -> Results:
    return collect(made_of(seconds, figures, study).state)


def made_of(
    seconds: dict[Configuration, list[float]], figures: dict | None = None, study: Study = STUDY
) -> Happenings:
    return measured(study, seconds, {**dict.fromkeys(seconds, GOOD), **(figures or {})})


def test_of_trials_that_tie_the_one_with_the_fewest_changes_is_picked() -> None:
    """A setting that does nothing was recommended: "16 samples, clamp 4, tiles 256"."""
    few = BASE.replace({"samples.max": 50})
    clamped = few.replace({"light.clamp_indirect": 4.0})
    results = results_of({BASE: [10.0] * 3, few: [5.05, 5.0, 5.1], clamped: [5.0, 5.04, 4.98]})
    pick = results.pick()
    assert pick.trial.configuration == few
    assert [t.configuration for t in pick.ties] == [clamped]
    assert "ties with 1 other: 50 samples · clamp 4" in pick_sentences(results, pick)[3]


def test_the_base_is_picked_where_nothing_is_measurably_faster() -> None:
    other = BASE.replace({"tiles.size": 8})
    results = results_of({BASE: [10.0, 10.1, 9.9], other: [9.95, 10.05, 9.9]})
    assert results.pick().trial.is_base
    assert (
        "today's settings are the fastest acceptable: 100 samples"
        in pick_sentences(results, results.pick())[0]
    )


def test_the_next_faster_one_is_measurably_faster() -> None:
    """ "2.5 s" against "2.5 s" was called the next faster one."""
    few, fewer = (BASE.replace({"samples.max": n}) for n in (50, 25))
    over = {"grain": (3.0, 2.9, 3.1), "grain_worst": (6.0, 5.0, 7.0)}
    same = few.replace({"light.clamp_indirect": 4.0})
    results = results_of(
        {BASE: [10.0] * 3, few: [5.0] * 3, same: [4.99] * 3, fewer: [2.5] * 3},
        {same: over, fewer: over},
    )
    pick = results.pick()
    assert pick.next_faster.configuration == fewer
    assert pick.reason == "grain 3.0 of 2.0 levels is over its limit"


def test_a_failing_trial_says_where() -> None:
    assert place_words((0, 0, 10, 10), (90, 90)) == "at the upper left"
    assert place_words((40, 40, 10, 10), (90, 90)) == "in the middle"
    assert place_words((40, 80, 10, 10), (90, 90)) == "at the bottom"
    assert place_words((80, 40, 10, 10), (90, 90)) == "at the right"


def test_what_each_change_contributes_is_measured_or_said_not_to_be() -> None:
    few = BASE.replace({"samples.max": 50})
    bounced = BASE.replace({"bounces.total": 4})
    both = few.replace({"bounces.total": 4})
    more = few.replace({"bounces.total": 4, "tiles.size": 8})
    seconds = {BASE: [12.0] * 3, few: [6.0] * 3, bounced: [9.0] * 3, both: [3.0] * 3}
    results = results_of(seconds)
    found = {one.key: one for one in contributions(results, results.by_effect[both.effective()])}
    assert found["samples.max"].times_faster.value == pytest.approx(3.0), (
        "beside the same trial with the base's samples"
    )
    assert found["bounces.total"].times_faster.value == pytest.approx(2.0)
    assert not found["bounces.total"].alone
    results = results_of({**seconds, more: [2.9] * 3})
    last = {one.key: one for one in contributions(results, results.by_effect[more.effective()])}
    assert last["tiles.size"].times_faster.value == pytest.approx(3.0 / 2.9)
    assert last["samples.max"].times_faster.value == pytest.approx(2.0)
    assert last["samples.max"].alone, (
        "beside the base: 4 bounces with tiles 8 alone were not measured"
    )
    results = results_of({BASE: [12.0] * 3, both: [3.0] * 3})
    assert {
        one.times_faster for one in contributions(results, results.by_effect[both.effective()])
    } == {None}
    assert "4 bounces not measured on its own" in "\n".join(pick_sentences(results, results.pick()))


def test_the_edge_of_what_was_tried_is_told() -> None:
    study = Study(
        name="s",
        scene="honey-stall",
        base=BASE,
        limits=LIMITS,
        sweeps=(Sweep("one at a time", {"samples.max": (50, 75)}),),
    )
    results = results_of(
        {BASE: [10.0] * 3, BASE.replace({"samples.max": 50}): [5.0] * 3}, study=study
    )
    assert edges(results, results.pick().trial) == ("samples.max",)
    words = pick_sentences(results, results.pick())
    assert words[0].startswith("so far, 2 of 3 trials measured: 5.0 s ± ")
    assert words[-1].startswith("  at the edge of what was tried, with 50 samples: ")


def test_the_headline_carries_its_intervals() -> None:
    assert show_with_interval(Figure(4.1, 4.0, 4.2)) == "4.1 s ± 0.1"
    assert show_with_interval(Figure(300.0, 290.0, 312.0)) == "5 min 0 s ± 12.0 s"
    assert show_factor(Figure(3.4, 3.2, 3.6), True) == "3.4× (3.2 to 3.6) faster than base"
    assert show_factor(Figure(1.03, 1.01, 1.05), True) == "3 % (1 to 5) faster than base"
    assert show_factor(Figure(0.5, 0.4, 0.8), True) == "2.0× (1.2 to 2.5) slower than base"


def test_one_run_rejects_nothing_but_what_is_beyond_any_doubt() -> None:
    """A search dropped a trial for good after one run for "light shift 2.5" where twelve runs say
    1.2."""
    few = BASE.replace({"samples.max": 50})

    def verdict_of(grain: Range, runs: int) -> str:
        return (
            results_of({BASE: [10.0] * 3, few: [5.0] * runs}, {few: {"grain": grain}})
            .trials[1]
            .verdict
        )

    assert verdict_of((2.6, 2.4, 2.8), 1) == UNDECIDED
    assert verdict_of((2.6, 2.4, 2.8), 2) == NOT_ACCEPTABLE
    assert verdict_of((3.5, 3.1, 3.9), 1) == NOT_ACCEPTABLE
    assert verdict_of((1.5, 1.4, 1.6), 1) == ACCEPTABLE


def test_no_worse_than_today_lets_the_base_pass_everywhere_and_compares_in_pairs() -> None:
    """With a watch area, whose limit was the whole picture's error, the base itself was not
    acceptable."""
    area = WatchArea(name="jar", x=0, y=0, width=8, height=8)
    study = Study(
        name="s",
        scene="honey-stall",
        base=BASE,
        limits=LIMITS,
        areas=(area,),
        no_worse_than_base=True,
    )
    same, worse, open_ = (BASE.replace({"samples.max": n}) for n in (90, 50, 80))
    seconds = {BASE: [10.0] * 3, same: [9.0] * 3, worse: [5.0] * 3, open_: [8.0] * 3}

    figures = {
        BASE: {"grain": (3.0, 2.9, 3.1), "grain@jar": (9.0, 8.0, 10.0)},
        same: {"grain": (3.0, 2.95, 3.05), "grain@jar": (7.0, 6.8, 7.2)},
        worse: {"grain": (3.0, 2.9, 3.1), "grain@jar": (13.0, 12.0, 14.0)},
        open_: {"grain": (3.0, 2.9, 3.1), "grain@jar": (9.5, 8.5, 10.5)},
    }
    results = results_of(seconds, figures, study)
    assert [t.verdict for t in results.trials] == [
        ACCEPTABLE,
        ACCEPTABLE,
        NOT_ACCEPTABLE,
        UNDECIDED,
    ]
    assert results.wanted["grain@jar"] == pytest.approx(9.9), "a tenth more is taken for none"
    assert pick_as_data(results, results.pick())["limits"]["grain@jar"] == pytest.approx(9.9), (
        "what is in force is told"
    )


def test_without_a_pick_there_is_a_next_step() -> None:
    """The default search on the demo ended with nothing and no help."""
    made = made_of(
        {BASE: [10.0] * 3}, {BASE: {"grain": (4.0, 3.9, 4.1), "grain_worst": (8.0, 7.0, 9.0)}}
    )
    results = collect(made.state)
    curve = {25: 8.0, 50: 5.7, 100: 4.0}
    found = without_pick(results, lambda number: record_of(10.0, grain_by_samples=curve))
    assert found.closest.is_base
    assert found.failing == ("grain 4.0 of 2.0 levels",)
    assert 380 <= found.proposal["samples.max"] <= 500
    words = help_sentences(results, found)
    assert words[0] == "no acceptable configuration yet"
    assert "for grain 2 it needs about" in words[-1]
    assert without_pick(results_of({BASE: [10.0] * 3}), made.records.get) is None


def test_samples_needed_follow_the_record_and_say_how_sure_they_are() -> None:
    steep = record_of(1.0, grain_by_samples={25: 8.0, 50: 5.66, 100: 4.0})
    flat = record_of(1.0, grain_by_samples={25: 6.06, 50: 4.92, 100: 4.0})
    wanted = [
        samples_needed(BASE, Figure(4.0, 3.8, 4.2), 2.0, fall_of(BASE, record))
        for record in (steep, flat)
    ]
    assert wanted[0].value == pytest.approx(400, rel=0.02), (
        "grain that falls with the root of samples"
    )
    assert wanted[1].value == pytest.approx(1014, rel=0.03), "this one falls by the power of 0.3"
    assert all(one.low < one.value < one.high for one in wanted)
    unknown = samples_needed(BASE, Figure(4.0, 3.8, 4.2), 2.0, fall_of(BASE, None))
    assert unknown.high - unknown.low > wanted[0].high - wanted[0].low


def kept_and_cold(renders: int, ready: float = 4.0) -> Results:
    kept = BASE.replace({"scene.keep_built": True})
    study = replace(STUDY, renders_per_opening=renders)
    made = Happenings(study)

    for block in range(3):
        told = {
            "load": 2.0,
            "textures": 1.0,
            "build": 1.0,
            "sampling": 6.0,
            "total": 10.0,
            "first_picture": 4.5,
        }
        made.run(BASE, record_of(10.0, told), block)
        warm = {
            "load": 0.0,
            "textures": 0.0,
            "build": 0.0,
            "sampling": 6.0,
            "total": 6.0,
            "first_picture": 0.5,
        }
        made.run(kept, record_of(6.0, warm, ready_seconds=ready if block == 0 else 0.0), block)

    made.happen(TrialChosen(made.state.here, kept.identity_values(), "kept"))
    made.measure(BASE, GOOD)
    return collect(made.state)


def test_what_opening_takes_is_shared_among_the_renders_of_an_opening() -> None:
    """ "3.2x faster: scene kept" was said of a still, whose only render takes as long as the
    base's."""
    once = kept_and_cold(1)
    often = kept_and_cold(20)
    assert once.trials[1].seconds.value == pytest.approx(10.0)
    assert once.pick().trial.is_base, "a still is opened for one render"
    assert often.trials[1].seconds.value == pytest.approx(6.2)
    assert not often.pick().trial.is_base
    words = "\n".join(pick_sentences(often, often.pick()))
    assert "cold 10.0 s, the first render after opening; warm 6.0 s, every later one" in words
    assert kept_and_cold(1, ready=0.0).trials[1].seconds.value == pytest.approx(10.0), (
        "made ready for an earlier trial"
    )


def test_the_first_picture_has_limits_and_a_pick_of_its_own() -> None:
    few = BASE.replace({"samples.max": 50})
    figures = {few: {"grain": (3.0, 2.9, 3.1)}}
    study = replace(STUDY, first_picture_limits=only_limits(grain=8.0))
    final = results_of({BASE: [10.0] * 3, few: [5.0] * 3}, figures, study)
    first = collect(
        made_of(
            {BASE: [10.0] * 3, few: [5.0] * 3}, figures, replace(study, goal="first-picture")
        ).state
    )
    assert final.pick().trial.is_base
    assert first.pick().trial.configuration == few
    assert other_goal_words(first).startswith("for the first picture the pick is 50 samples: 0.5")
    assert other_goal_words(final).startswith(
        "for the final render the pick is today's settings: 10.0 s ±"
    )
    assert (
        replace(study, goal="first-picture").with_goal_limits(only_limits(grain=4.0)).limits
        == LIMITS
    )
    assert plan_from_data(plan_as_data(study), Path("study.toml")) == study


def test_a_trial_of_which_a_part_is_known_is_not_called_the_closest() -> None:
    """After one denoised run each, "closest: 1 bounce" was said of a picture whose light shift
    nobody knew yet."""
    few = BASE.replace({"samples.max": 50})
    study = replace(STUDY, limits=only_limits(grain=2.0, light_shift=1.0))
    over: dict[str, Range | None] = {"grain": (3.0, 2.9, 3.1), "light_shift": (0.5, 0.4, 0.6)}
    partial: dict[str, Range | None] = {"grain": (1.0, 0.9, 1.1), "light_shift": None}
    results = results_of({BASE: [10.0] * 3, few: [5.0]}, {BASE: over, few: partial}, study)
    assert results.closest.is_base
    assert [t.configuration for t in results.frontier()] == [BASE]
    assert not_known(results) == ""
    alone = results_of({BASE: [10.0]}, {BASE: partial}, study)
    assert alone.closest is None
    assert without_pick(alone, lambda number: None) is None
    assert not_known(alone) == "light shift not known: a second run tells it"
    twice = results_of({BASE: [10.0] * 2}, {BASE: partial}, study)
    assert not_known(twice) == "light shift not known: nothing here can tell it; lift that limit"


def test_what_is_open_is_not_asked_samples_of_as_if_it_were_over() -> None:
    """ "It needs about 1627 samples (1 to 16789)" was said of a figure that may be inside."""
    made = made_of({BASE: [10.0] * 3}, {BASE: {"grain": (1.9, 1.7, 2.3)}})
    found = without_pick(collect(made.state), lambda number: None)
    assert (
        found.words
        == "whether its grain is inside is open; half as many samples again would be surer"
    )
    assert found.proposal["samples.max"] == 150


def prepared_and_plain(cold: float = 0.36) -> Results:
    """A plaque: converting its textures takes 0.36 of 0.52 s, sampling 0.03."""
    prepared = BASE.replace({"textures.prepared": True})
    made = Happenings(replace(STUDY, renders_per_opening=1))

    for block in range(3):
        told = {
            "load": 0.1,
            "textures": 0.36,
            "build": 0.03,
            "sampling": 0.03,
            "total": 0.52,
            "first_picture": 0.5,
        }
        made.run(BASE, record_of(0.52, told), block)
        warm = {**told, "textures": 0.0, "total": 0.16}
        made.run(prepared, record_of(0.16, warm, ready_seconds=cold if block == 0 else 0.0), block)

    made.happen(TrialChosen(made.state.here, prepared.identity_values(), "prepared"))
    made.measure(BASE, GOOD)
    return collect(made.state)


def test_what_stays_on_disk_is_paid_once_and_not_by_every_render() -> None:
    """U6: all converting was charged to one render, though the files stay for good: "1.5x slower
    than base, not as expected" was said of what is three times as fast."""
    results = prepared_and_plain()
    pick = results.pick()
    assert pick.trial.configuration["textures.prepared"]
    assert pick.trial.seconds.value == pytest.approx(0.16)
    assert pick.trial.times_faster.value == pytest.approx(3.25, rel=0.01)
    assert pick.trial.preparing_seconds == pytest.approx(0.36)
    words = "\n".join(pick_sentences(results, pick))
    assert (
        "cold 0.52 s, once for good: what it prepares stays on disk; warm 0.16 s, every later "
        "render"
    ) in words
    assert cache_words(results.base) == ""
    again = prepared_and_plain(cold=0.0)
    assert again.trials[1].first_render_seconds is None, "found on disk, nobody had to make it"


def test_what_nobody_varies_is_said_where_most_of_the_time_goes_there() -> None:
    """U6: the search swept samples, which were 6 % of the time, and said nothing of textures."""
    textures = {
        "load": 0.1,
        "textures": 0.36,
        "build": 0.03,
        "sampling": 0.03,
        "total": 0.52,
        "first_picture": 0.5,
    }
    study = replace(STUDY, base=BASE, sweeps=(Sweep("one at a time", {"samples.max": (8, 16)}),))
    made = measured(study, {BASE: [record_of(0.52, textures)] * 3}, {BASE: GOOD})
    words = made.snapshot().untouched_words
    assert words.startswith("Converting textures takes 0.36 s, 69% of every render")
    assert words.endswith("Nothing that is tried acts on it; try textures prepared.")
    varied = replace(study, sweeps=(Sweep("one at a time", {"textures.prepared": (False, True)}),))
    assert (
        measured(varied, {BASE: [record_of(0.52, textures)] * 3}, {BASE: GOOD})
        .snapshot()
        .untouched_words
        == ""
    )
    advised = Searching(made.records.get, renderer=RENDERER)._advised_changes(collect(made.state))
    assert {"textures.prepared": True} in advised
    assert True in widened(collect(made.state), None, advised)["textures.prepared"]


def test_what_a_pilot_shows_to_be_dear_is_tried_first() -> None:
    """U6: it was 38 to 74 % of these renders, and not among what is tried first."""
    told = {
        "load": 0.1,
        "textures": 0.36,
        "build": 0.03,
        "sampling": 0.03,
        "denoise": 0.0,
        "write": 0.0,
        "total": 0.52,
    }
    dear = Pilot(STUDY, record_of(0.52, told, size=STUDY.size)).dear(RENDERER)
    assert {"textures.prepared": True} in [dict(finding.changes) for finding in dear]
    offered = with_dear(suggestions(BASE), BASE, dear)
    first = {one.key: one for one in offered if one.first}
    assert first["textures.prepared"].values == (False, True)
    assert "69% of every render" in first["textures.prepared"].why
    cheap = Pilot(
        STUDY, record_of(0.52, {**told, "textures": 0.02, "sampling": 0.37}, size=STUDY.size)
    ).dear(RENDERER)
    assert "textures.prepared" not in {key for finding in cheap for key in finding.changes}


def test_renders_that_failed_are_told_with_the_pick() -> None:
    """O5: one of its seven renders was ended by a signal, and nothing said so."""
    few = BASE.replace({"samples.max": 50})
    made = Happenings(STUDY)

    for block in range(3):
        made.run(BASE, 10.0, block)
        if block == 1:
            made.run(few, "a program was ended by signal 11", block)
        made.run(few, 5.0, block)

    made.choose(few)
    made.measure(BASE, GOOD)
    made.measure(few, GOOD)
    results = collect(made.state)
    pick = results.pick()
    assert pick.trial.configuration == few
    words = "\n".join(pick_sentences(results, pick))
    assert "1 of its 4 renders failed: a program was ended by signal 11" in words
    told = _failed_words(results, 1)
    assert (
        told
        == " 1 render failed and is left out: 1 of 50 samples (a program was ended by signal 11)."
    )


def test_nothing_is_called_the_fastest_before_anything_else_is_measured() -> None:
    """U11: "today's settings are the fastest acceptable" was said after one run of them, of 23
    trials."""
    study = replace(STUDY, sweeps=(Sweep("one at a time", {"samples.max": (50, 25)}),))
    results = collect(measured(study, {BASE: [10.0]}, {BASE: GOOD}).state)
    words = pick_sentences(results, results.pick())[0]
    assert "today's settings are acceptable, nothing else is measured yet" in words
    assert "the fastest" not in words

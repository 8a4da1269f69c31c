import re
from dataclasses import replace

import pytest

from swift_sample.core.measure.figures import LOCAL_MEASURES, MEASURES
from swift_sample.core.measure.kinds import AREA_KINDS, BRIGHTNESS, KINDS, WORST, Figure
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.answers.acceptance import (
    ACCEPTABLE,
    COSTS,
    NOT_ACCEPTABLE,
    UNDECIDED,
    UNMEASURED,
    Acceptance,
    quantity,
    show_limit,
)
from swift_sample.core.study.answers.interactions import interactions
from swift_sample.core.study.answers.pick_report import (
    pick_as_data,
    pick_sentences,
    show_factor,
    show_phases,
    show_seconds,
)
from swift_sample.core.study.answers.results import (
    Results,
    collect,
    does_less,
    ready_seconds,
    show_error,
)
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.state import replace_state
from swift_sample.core.study.measuring.policies.runs_wanted import Wanted, wanted_runs
from swift_sample.core.study.plan.model import LIMIT_KEYS, Limits, Remark, Study, WatchArea
from tests.core.study.states import Happenings, Range, measured, only_limits, record_of

BASE = configured({"samples.max": 100})
STUDY = Study(name="s", scene="honey-stall", base=BASE, limits=only_limits(grain=2.0))


def results_of(
    trials: dict[int, tuple[float, tuple[float, float, float] | None]], study: Study = STUDY
) -> Results:
    """Trials by samples: (seconds, grain with its interval). Light shift is known as well."""
    return collect(three_runs(trials, study).state)


def three_runs(
    trials: dict[int, tuple[float, tuple[float, float, float] | None]], study: Study = STUDY
) -> Happenings:
    own = {samples: BASE.replace({"samples.max": samples}) for samples in trials}
    return measured(
        study,
        {
            own[k]: [seconds * noise for noise in (0.99, 1.0, 1.01)]
            for k, (seconds, _) in trials.items()
        },
        {
            own[k]: {"grain": grain, "light_shift": (9.0, 8.0, 10.0)}
            for k, (_, grain) in trials.items()
        },
    )


THREE = {100: (10.0, (1.0, 0.9, 1.1)), 50: (5.0, (1.6, 1.5, 1.7)), 20: (2.0, (2.6, 2.5, 2.7))}


def test_the_pick_is_the_fastest_acceptable_and_says_why_not_faster() -> None:
    results = results_of(THREE)
    pick = results.pick()
    assert pick is not None
    assert pick.trial.configuration["samples.max"] == 50
    assert pick.trial.times_faster is not None
    assert pick.trial.times_faster.value == pytest.approx(2.0)
    assert pick.next_faster is not None
    assert pick.next_faster.configuration["samples.max"] == 20
    assert pick.reason == "grain 2.6 of 2.0 levels is over its limit"
    assert pick.ties == ()


def test_verdicts_follow_the_intervals() -> None:
    results = results_of(
        {
            100: (10.0, (1.0, 0.9, 1.1)),
            50: (5.0, (1.9, 1.8, 2.1)),
            20: (2.0, (2.6, 2.1, 2.7)),
            10: (1.0, None),
        }
    )
    assert [t.verdict for t in results.trials] == [
        ACCEPTABLE,
        UNDECIDED,
        NOT_ACCEPTABLE,
        UNMEASURED,
    ]


def test_the_first_render_after_opening_is_told_apart() -> None:
    results = results_of(THREE)
    trial = results.trials[1]
    assert trial.first_render_seconds is None
    runs = [
        replace(run, result=replace(run.result, ready_seconds=s))
        for run, s in zip(trial.runs, (2.0, 0.0, 3.0), strict=True)
    ]
    assert ready_seconds(runs) == 2.5
    kept = replace(trial, opening_seconds=2.5)
    assert kept.first_render_seconds == pytest.approx(5.0 + 2.5)
    assert show_phases(kept).endswith(
        ", cold 7.5 s, the first render after opening; warm 5.0 s, every later one"
    )


def test_a_limit_without_a_figure_leaves_a_trial_undecided() -> None:
    study = Study(
        name="s", scene="honey-stall", base=BASE, limits=only_limits(grain=2.0, light_shift=20.0)
    )
    results = results_of({100: (10.0, None)}, study)
    assert results.trials[0].verdict == UNDECIDED


def test_dragging_the_line_changes_verdicts_and_pick() -> None:
    results = results_of(THREE)
    wide = results.with_line(1.4)
    narrow = results.with_line(0.3)
    assert wide.pick().trial.configuration["samples.max"] == 20
    assert narrow.pick() is None
    assert results.pick().trial.configuration["samples.max"] == 50


def test_trials_that_cannot_be_told_apart_tie() -> None:
    results = results_of(
        {100: (10.0, (1.0, 0.9, 1.1)), 50: (5.0, (1.0, 0.9, 1.1)), 49: (5.02, (1.1, 1.0, 1.2))}
    )
    pick = results.pick()
    assert pick is not None
    assert [t.configuration["samples.max"] for t in pick.ties] == [49]


def test_frontier_leaves_out_what_is_beaten() -> None:
    results = results_of({**THREE, 60: (6.0, (1.7, 1.6, 1.8))})
    assert [t.configuration["samples.max"] for t in results.frontier()] == [20, 50, 100]


def test_other_machines_and_places_do_not_count() -> None:
    made = Happenings(STUDY)
    made.run(BASE, 1.0, machine="another")
    made.run(BASE, 1.0, place=Place("renderer", "another scene"))
    made.run(BASE, 1.0, place=Place("another renderer", made.state.here.scene))
    (trial,) = collect(made.state).trials
    assert trial.runs == ()
    assert trial.missing == "not rendered yet"


def test_first_picture_is_a_goal_of_its_own() -> None:
    study = Study(
        name="s", scene="honey-stall", base=BASE, limits=STUDY.limits, goal="first-picture"
    )
    assert results_of(THREE, study).trials[0].seconds.value == pytest.approx(1.0)


def test_kept_shares_count_what_is_lost() -> None:
    shares = Acceptance({"detail_kept": 95.0}, Limits()).shares(
        {"detail_kept": Figure(97.5, 97.0, 98.0)}
    )
    assert (
        shares["detail_kept"].value,
        shares["detail_kept"].low,
        shares["detail_kept"].high,
    ) == pytest.approx((0.5, 0.4, 0.6))


@pytest.mark.parametrize(
    ("seconds", "text"),
    [(0.123, "0.12 s"), (4.12, "4.1 s"), (125, "2 min 5 s"), (3840, "1 h 4 min")],
)
def test_durations_read_well(seconds: float, text: str) -> None:
    assert show_seconds(seconds) == text


@pytest.mark.parametrize(
    ("figure", "text"),
    [
        (Figure(3.4, 3.3, 3.5), "3.4× faster than base"),
        (Figure(1.02, 0.97, 1.07), "no measurable difference from base"),
        (Figure(1.03, 1.01, 1.05), "3 % faster than base"),
        (Figure(0.5, 0.4, 0.6), "2.0× slower than base"),
    ],
)
def test_factors_read_well(figure: Figure, text: str) -> None:
    assert show_factor(figure) == text


def test_words_and_data_agree() -> None:
    results = results_of(THREE)
    pick = results.pick()
    assert pick is not None
    lines = pick_sentences(results, pick)
    data = pick_as_data(results, pick)
    assert re.fullmatch(
        r"5\.0 s ± 0\.\d, 2\.0× \(1\.9 to 2\.1\) faster than base: 50 samples", lines[0]
    )
    assert "grain 1.6 of 2.0 levels" in lines[1]
    assert data["pick"]["seconds"]["value"] == pytest.approx(5.0)
    assert data["pick"]["limit_shares"]["grain"]["value"] == pytest.approx(0.8)
    assert data["pick"]["next_faster"]["reason"] == "grain 2.6 of 2.0 levels is over its limit"
    assert pick_as_data(results, None)["pick"] is None


def with_runs(
    seconds: dict[int, list[float]], study: Study = STUDY, figures: dict[str, Range] | None = None
) -> Results:
    """Trials by samples with the seconds of their runs, one a block, all measured alike."""
    return collect(with_runs_state(seconds, study, figures).state)


def with_runs_state(
    seconds: dict[int, list[float]], study: Study = STUDY, figures: dict[str, Range] | None = None
) -> Happenings:
    own = {BASE.replace({"samples.max": samples}): values for samples, values in seconds.items()}
    return measured(study, own, dict.fromkeys(own, figures or {"grain": (1.0, 0.9, 1.1)}))


def test_an_odd_run_is_left_out_and_asked_for_again() -> None:
    results = with_runs({100: [10.0, 10.0, 10.0], 50: [5.0, 5.05, 8.0], 20: [2.0, 2.02, 1.99]})
    trial = results.trials[1]
    assert trial.left_out == {trial.runs[2].number}
    assert trial.times == (5.0, 5.05)
    assert len(trial.runs) == 3
    assert wanted_runs(results, sought=()) == {trial.id: Wanted(4, "1 odd run is left out")}


def test_long_trials_are_measured_twice() -> None:
    results = with_runs({100: [100.0, 101.0], 50: [50.0, 50.1]})
    assert wanted_runs(results, sought=())[results.base.id].count == 2


def test_open_verdicts_of_fast_trials_get_more_runs_up_to_a_bound() -> None:
    open_grain = {"grain": (1.9, 1.7, 2.1)}
    slow = {200 + k: [20.0] * 3 for k in range(4)}

    for have, expected in ((3, 4), (4, 5), (5, 6), (6, 6)):
        results = with_runs({100: [10.0] * have, **slow}, figures=open_grain)
        found = wanted_runs(results, sought=())[results.base.id]
        assert found.count == expected
        assert (
            found.why == "it would be the pick, but whether its grain is within the limit is open"
        )


def test_runs_beyond_the_plan_are_bounded_and_go_to_the_fastest_first() -> None:
    """Five trials of three runs may have three more among them."""
    odd = {
        100 - k: [(10.0 - k) * (2 if k % 3 == block and k else 1) for block in range(3)]
        for k in range(5)
    }
    results = with_runs(odd)
    wanted = wanted_runs(results, sought=())
    assert [results.by_id[name].configuration["samples.max"] for name in wanted] == [96, 97, 98]
    assert {each.count for each in wanted.values()} == {4}


def test_costs_can_be_limited() -> None:
    limits = only_limits(grain=2.0, seconds=4.0, memory=2.0)
    results = with_runs(
        {100: [10.0] * 3, 50: [3.0] * 3},
        Study(name="s", scene="honey-stall", base=BASE, limits=limits),
    )
    slow, fast = results.trials
    assert (slow.verdict, fast.verdict) == (NOT_ACCEPTABLE, ACCEPTABLE)
    assert slow.worst_limit() == "seconds"
    assert fast.figures["memory"] == Figure(1 / 2**20, 1 / 2**20, 1 / 2**20)
    assert (
        show_limit("seconds", slow.figures["seconds"], results.wanted["seconds"]) == "10.0 of 4.0 s"
    )


def test_forbidden_values_are_measured_but_never_picked() -> None:
    study = Study(
        name="s",
        scene="honey-stall",
        base=BASE,
        limits=STUDY.limits,
        forbidden={"samples.max": (50,)},
    )
    results = with_runs({100: [10.0] * 3, 50: [3.0] * 3}, study)
    pick = results.pick()
    assert pick is not None
    assert pick.trial.is_base
    assert pick.reason == "samples, at most 50 must not be used"
    assert results.with_line(100.0).trials[1].verdict == NOT_ACCEPTABLE


def test_a_trial_that_is_left_out_is_never_picked_and_says_why() -> None:
    own = results_of(THREE)
    half = next(t for t in own.trials if t.configuration["samples.max"] == 50)
    study = STUDY.remarked(half.id, Remark("for dailies", "soft", "sparks at the rim"))
    left = results_of(THREE, study)
    pick = left.pick()
    assert pick is not None
    assert pick.trial.is_base
    assert pick.reason == "left out: sparks at the rim"
    assert half.id not in {t.id for t in left.frontier()}
    assert left.by_id[half.id].called(BASE) == "for dailies"
    assert results_of(THREE, study.remarked(half.id, Remark())) == own


def test_no_worse_than_the_base_takes_its_limits_from_it() -> None:
    study = Study(
        name="s", scene="honey-stall", base=BASE, limits=STUDY.limits, no_worse_than_base=True
    )
    other = BASE.replace({"samples.max": 50})

    results = collect(
        measured(
            study,
            {BASE: [10.0] * 3, other: [5.0] * 3},
            {BASE: {"grain": (5.0, 4.8, 5.2)}, other: {"grain": (6.0, 5.5, 6.5)}},
        ).state
    )
    assert results.limits.grain == pytest.approx(5.5)
    assert [t.verdict for t in results.trials] == [ACCEPTABLE, UNDECIDED]
    assert (
        show_limit("grain", Figure(5.0, 4.8, 5.2), results.wanted["grain"]) == "5.0 of 5.5 levels"
    )


def test_a_watch_area_has_its_own_figures_and_limits() -> None:
    area = WatchArea(name="jar", x=0, y=0, width=8, height=8, limits=only_limits(grain=0.5))
    study = Study(name="s", scene="honey-stall", base=BASE, limits=STUDY.limits, areas=(area,))
    results = with_runs(
        {100: [10.0] * 3}, study, {"grain": (1.0, 0.9, 1.1), "grain@jar": (0.8, 0.7, 0.9)}
    )
    (trial,) = results.trials
    assert trial.verdict == NOT_ACCEPTABLE
    assert trial.worst_limit() == "grain@jar"
    assert trial.shares["grain@jar"].value == pytest.approx(1.6)
    assert quantity("grain@jar").label == "grain in jar"
    shared = Study(
        name="s",
        scene="honey-stall",
        base=BASE,
        limits=STUDY.limits,
        areas=(WatchArea(name="jar", x=0, y=0, width=8, height=8),),
    )
    results = with_runs(
        {100: [10.0] * 3}, shared, {"grain": (1.0, 0.9, 1.1), "grain@jar": (0.8, 0.7, 0.9)}
    )
    assert results.trials[0].verdict == ACCEPTABLE


def test_an_area_that_was_not_measured_is_not_inside_its_limit() -> None:
    """R2: a new watch area leaves a trial undecided until it is measured, whatever its other
    figures say."""
    study = Study(
        name="s",
        scene="honey-stall",
        base=BASE,
        limits=STUDY.limits,
        areas=(WatchArea(name="jar", x=0, y=0, width=8, height=8),),
    )
    (trial,) = with_runs({100: [10.0] * 3}, study).trials
    assert trial.verdict == UNDECIDED
    assert trial.unmeasured == {"grain@jar"}
    assert trial.missing == "grain in jar not measured yet"


def test_trials_that_render_the_same_pixels_share_figures_and_verdict() -> None:
    """R10: tile size, mode, threads and a kept scene change no pixel, so their pictures and figures
    are one."""
    same = [
        BASE.replace(change)
        for change in (
            {"tiles.size": 8},
            {"tiles.mode": "progressive"},
            {"device.threads": 1},
            {"scene.keep_built": True},
            {"output.format": "exr-none"},
        )
    ]
    made = measured(
        STUDY, {c: [10.0, 10.1] for c in (BASE, *same)}, {BASE: {"grain": (1.0, 0.9, 1.1)}}
    )
    results = collect(made.state)
    assert {t.verdict for t in results.trials} == {ACCEPTABLE}
    assert {t.pictures for t in results.trials} == {12}
    assert [len(t.runs) for t in results.trials] == [2] * 6


def test_every_phase_has_its_interval() -> None:
    results = with_runs({100: [10.0, 10.1, 9.9]})
    phases = results.trials[0].phases
    assert phases["sampling"].value == pytest.approx(10.0)
    assert phases["sampling"].low < 9.95 < 10.05 < phases["sampling"].high
    assert phases["build"] == Figure(0.0, 0.0, 0.0)
    assert phases["processor"].value == pytest.approx(10.0)


@pytest.mark.parametrize(("together", "expected"), [(2.5, 1.0), (1.25, 2.0), (5.0, 0.5)])
def test_interactions_say_whether_effects_multiply(together: float, expected: float) -> None:
    """Half the samples and fewer bounces each halve the time; both together take a quarter if they
    are independent."""
    configurations = [
        BASE,
        BASE.replace({"samples.max": 50}),
        BASE.replace({"bounces.total": 4}),
        BASE.replace({"samples.max": 50, "bounces.total": 4}),
    ]
    runs = {
        c: [seconds * noise for noise in (0.99, 1.0, 1.01)]
        for c, seconds in zip(configurations, (10.0, 5.0, 5.0, together), strict=True)
    }

    (found,) = interactions(collect(measured(STUDY, runs, {}).state))
    assert found.factor.value == pytest.approx(expected)
    assert found.changes == {"samples.max": 50, "bounces.total": 4}
    assert found.factor.low < expected < found.factor.high
    assert ("multiply, as far as" in found.words) == (expected == 1.0)


def test_light_shift_says_which_way_where_that_is_sure() -> None:
    limits = only_limits(light_shift=1.5)
    study = Study(name="s", scene="honey-stall", base=BASE, limits=limits)

    for change, words in (
        ((-0.8, -0.9, -0.7), ", 0.8 darker on average"),
        ((0.6, 0.5, 0.7), ", 0.6 brighter on average"),
        ((0.3, -0.1, 0.7), ""),
        ((0.05, 0.04, 0.06), ""),
    ):
        results = with_runs(
            {100: [10.0] * 3}, study, {"light_shift": (1.2, 1.1, 1.3), "brightness": change}
        )
        assert show_error("light_shift", results.trials[0], results) == f"1.2 of 1.5 levels{words}"

    assert show_error("light_shift", results.trials[0], results, short=True) == "1.2 of 1.5"


def test_phases_are_told_with_their_uncertainty_and_small_ones_are_left_out() -> None:
    results = with_runs({100: [10.0, 10.2, 9.8]})
    words = show_phases(results.trials[0])
    assert words.startswith("sampling 10.0 s ± ")
    assert "first picture 1.0 s ± " in words
    assert "denoise" not in words


def test_every_measure_has_a_kind_and_every_kind_a_measure() -> None:
    assert set(MEASURES) == set(AREA_KINDS)
    assert all(MEASURES[key].kind is kind for key, kind in AREA_KINDS.items())
    assert set(WORST) == set(LOCAL_MEASURES)
    assert {key for key in LIMIT_KEYS if key not in COSTS} <= set(KINDS)
    assert BRIGHTNESS.key not in LIMIT_KEYS


def test_costs_are_what_a_render_takes_besides_its_errors() -> None:
    """The largest memory and file of all runs that worked; times without those that are left
    out."""
    made = Happenings(STUDY)
    for memory, size, first in (
        (3 << 20, 5 << 20, 0.5),
        (7 << 20, 2 << 20, 0.6),
        (4 << 20, 4 << 20, 0.7),
    ):
        seconds = {"sampling": 1.0, "first_picture": first, "total": 2.0}
        made.run(
            BASE, record_of(2.0, peak_memory_bytes=memory, picture_bytes=size, phases_told=seconds)
        )

    made.run(BASE, "it ran out of memory")
    made.reference()
    made.measure(BASE, {"grain": (1.0, 0.9, 1.1)})
    (trial,) = collect(made.state).trials
    assert trial.all_figures["memory"] == Figure(7, 7, 7)
    assert trial.all_figures["file"] == Figure(5, 5, 5)
    assert trial.all_figures["first_picture"].value == pytest.approx(0.6)
    assert trial.all_figures["seconds"].value == pytest.approx(2.0)
    assert {"first_picture", "sampling", "total"} <= set(trial.phases)
    limited = collect(
        replace_state(made.state, plan=replace(STUDY, limits=only_limits(memory=10.0, file=4.0)))
    )
    assert limited.trials[0].shares["memory"].value == pytest.approx(0.7)
    assert limited.trials[0].shares["file"].value == pytest.approx(1.25)
    assert limited.trials[0].verdict == NOT_ACCEPTABLE


def test_phases_are_corrected_for_drift_and_told_as_far_as_they_are_known() -> None:
    """A run that took far longer for the machine's own reasons is left out; a phase that takes no
    time has its range."""
    made = Happenings(STUDY)
    for total, build in (
        (2.0, 0.0),
        (2.02, 0.4),
        (1.98, 0.3),
        (9.0, 7.0),
        (2.01, 0.2),
        (1.99, 0.1),
    ):
        made.run(
            BASE, record_of(total, {"build": build, "sampling": total - build, "total": total})
        )

    (trial,) = collect(made.state).trials
    assert len(trial.left_out) == 1
    build = trial.phases["build"]
    assert (build.value, build.low, build.high) == (0.2, 0.0, 0.4)
    assert list(trial.phases)[:3] == ["build", "sampling", "total"], (
        "in the order in which they run"
    )
    assert trial.phases["total"].value == pytest.approx(2.0, abs=0.03)


def test_results_under_a_dragged_line_hand_on_what_the_line_does_not_change() -> None:
    results = results_of(THREE)
    _ = [trial.phases for trial in results.trials]
    moved = results.with_line(1.5)
    assert moved.line == 1.5
    assert moved.origin is results is moved.with_line(2.0).origin
    assert moved.alone is results.alone
    assert moved.on_map is results.on_map
    assert moved.places is results.places
    assert moved.spread is results.spread
    assert [t.verdict for t in moved.trials] == [ACCEPTABLE, ACCEPTABLE, ACCEPTABLE]
    assert moved.trials[0] is results.trials[0], "a trial whose verdict stays is the same"
    assert moved.trials[2].__dict__["phases"] is results.trials[2].__dict__["phases"]
    edge = results.with_line(results.trials[2].share.high)
    assert edge.trials[2].verdict == ACCEPTABLE, "a figure that just reaches the line is within it"
    assert results.with_line(results.trials[2].share.low).trials[2].verdict == UNDECIDED


@pytest.mark.parametrize(
    ("key", "figure", "long", "short"),
    [
        ("grain", 1.84, "1.8 of 2.0 levels", "1.8 of 2.0"),
        ("grain@jar", 1.84, "1.8 of 1.5 levels", "1.8 of 1.5"),
        ("detail_kept", 97.25, "97.2 %, at least 95", "97.2 %"),
        ("detail_kept@jar", 97.25, "97.2 %, at least 80", "97.2 %"),
        ("stray_pixels", 12.6, "13 of 20 per million", "13 of 20"),
        ("memory", 812.4, "812 of 900 MiB", "812 of 900"),
    ],
)
def test_figures_beside_their_limits(key: str, figure: float, long: str, short: str) -> None:
    area = WatchArea(
        name="jar", x=0, y=0, width=8, height=8, limits=Limits(grain=1.5, detail_kept=80.0)
    )
    study = replace(STUDY, limits=Limits(memory=900.0), areas=(area,))
    results = collect(measured(study, {BASE: [1.0]}, {BASE: {}}).state)
    assert show_limit(key, Figure(figure, figure, figure), results.wanted[key]) == long
    assert show_limit(key, Figure(figure, figure, figure), results.wanted[key], short=True) == short


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ((0.6, 0.5, 0.7), ", 0.6 brighter on average"),
        ((-0.6, -0.7, -0.5), ", 0.6 darker on average"),
        ((0.2, -0.1, 0.5), ""),
        ((0.001, 0.0005, 0.002), ""),
        (None, ""),
    ],
)
def test_light_shift_says_which_way(change: tuple[float, float, float] | None, told: str) -> None:
    area = WatchArea(name="jar", x=0, y=0, width=8, height=8)
    study = replace(STUDY, limits=Limits(), areas=(area,))
    figures = {
        "light_shift": (0.8, 0.7, 0.9),
        "brightness": change,
        "brightness@jar": (5.0, 4.0, 6.0),
    }
    results = collect(measured(study, {BASE: [1.0]}, {BASE: figures}).state)
    trial = results.trials[0]
    assert show_error("light_shift", trial, results) == f"0.8 of 1.0 levels{told}"
    assert show_error(
        "light_shift", trial, results, short=True
    ) == "0.8 of 1.0" + told.removesuffix(" on average")
    assert show_error("light_shift@jar", trial, results).startswith("not known")


def test_doing_less_is_not_told_to_take_longer() -> None:
    """U15: "8 bounces 1.2x slower than 12" was noise, told as a finding."""
    base = configured({"bounces.total": 12})
    fewer = base.replace({"bounces.total": 8})
    tiles = base.replace({"tiles.size": 8})
    study = replace(STUDY, base=base)
    times = {base: [10.0, 10.1, 9.9], fewer: [12.0, 12.1, 11.9], tiles: [12.0, 12.1, 11.9]}
    results = collect(
        measured(study, times, {one: {"grain": (1.0, 0.9, 1.1)} for one in times}).state
    )
    told = {trial.configuration: show_factor(trial.times_faster) for trial in results.trials}
    assert told[fewer] == "no measurable difference from base"
    assert told[tiles] == "1.2× slower than base"
    both = fewer.replace({"tiles.size": 8})
    assert does_less(fewer, base)
    assert not does_less(both, base)
    assert not does_less(base, base)

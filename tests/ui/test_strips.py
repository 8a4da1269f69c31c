"""The run strip, the verdict strip and the top bar: what they show of states made up for the
purpose."""

import re
from dataclasses import replace

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from swift_sample.app.view_model import Activity
from swift_sample.core.machine import this_machine
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.measuring.policies.sweep import Waiting, run_step
from swift_sample.core.study.measuring.snapshot import ToCome
from swift_sample.core.study.measuring.steps import MeasureStep, ReferenceStep, RunStep
from swift_sample.ui.strips.run import RunStrip, _describe, trust_words
from swift_sample.ui.strips.top_bar import TopBar
from swift_sample.ui.strips.verdict import VerdictStrip, missing_words
from swift_sample.ui.theme import DAY, DUSK
from tests.core.study.answers.test_results import BASE, STUDY, results_of, with_runs
from tests.core.study.states import Happenings, measured, only_limits
from tests.ui.fake_session import snapshot_of, view_of
from tests.ui.seen import button, field, has_button, texts

THREE = {100: (10.0, (1.0, 0.9, 1.1)), 50: (5.0, (1.6, 1.5, 1.7)), 20: (2.0, (2.6, 2.5, 2.7))}
STATE = Happenings(STUDY).state
HALF = STATE.trial_of(BASE.replace({"samples.max": 50}))
NEXT = ToCome(HALF, 1, 0, 5.0)


def step_of(trial, block: int = 0, control: int = 0) -> RunStep:
    return run_step(STATE, Place("renderer", "scene"), Waiting(trial, block, control))


@pytest.fixture
def strip(qtbot: QtBot) -> RunStrip:
    made = RunStrip(DAY)
    qtbot.addWidget(made)
    made.resize(1000, 88)
    made.show()

    return made


def test_the_width_of_a_block_is_its_time(strip: RunStrip, qtbot: QtBot) -> None:
    strip.show_view(view_of(snapshot_of(results_of(THREE), to_come=(NEXT,))))
    finished, future, current = strip.blocks._layout()
    assert current is None
    widths = [rect.width() for _, rect in finished]
    assert widths[0] / widths[4] == pytest.approx(9.9 / 5.0, rel=0.02)
    assert future[0].width() / widths[4] == pytest.approx(1.0, rel=0.02)
    lefts = [rect.left() for _, rect in finished]
    assert lefts == sorted(lefts)
    with qtbot.waitSignal(strip.trial_clicked) as clicked:
        qtbot.mouseClick(
            strip.blocks, Qt.MouseButton.LeftButton, pos=finished[4][1].center().toPoint()
        )

    assert clicked.args == [finished[4][0].trial]


def test_the_run_in_hand_grows_where_it_will_stand(strip: RunStrip) -> None:
    snapshot = snapshot_of(results_of(THREE), to_come=(NEXT, replace(NEXT, block=2)))
    strip.show_view(
        view_of(
            snapshot,
            activity=Activity(
                measuring=True, stopping=False, step=step_of(HALF, 1), why="run 2 of 3", share=0.5
            ),
        )
    )
    finished, future, current = strip.blocks._layout()
    assert current is not None
    assert len(future) == 1
    assert finished[-1][1].right() < current.left() < future[0].left()
    assert "rendering 50 samples" in texts(strip)
    assert strip._now.toolTip() == "run 2 of 3"
    assert "9 of 11 runs · about 11 s left" in texts(strip)
    pictured = strip.blocks.grab().toImage()
    assert pictured.pixelColor(int(current.left() + current.width() * 0.5) + 1, 20) == DAY.colour(
        "pick"
    )


@pytest.mark.parametrize(
    ("step", "words"),
    [
        (ReferenceStep(reference="r", chunk=0, spec=None), "rendering the reference, 25%"),
        (ReferenceStep(reference="r", chunk=2, spec=None), "making the reference cleaner, 25%"),
        (
            MeasureStep(
                place=STATE.here,
                configuration=BASE,
                keys=(STATE.measurement_key("a", None),),
                pictures=(),
                reference_samples=0,
                size=(8, 8),
            ),
            "comparing the base with the reference",
        ),
        (step_of(STATE.base, control=1), "rendering the base again, as a control"),
        (None, "Starting the renderer, 25%"),
    ],
)
def test_what_is_done_now_is_said(strip: RunStrip, step, words: str) -> None:
    activity = Activity(measuring=True, step=step, share=0.25, text="Starting the renderer")
    strip.show_view(view_of(snapshot_of(results_of(THREE)), activity=activity))
    assert words in texts(strip)
    assert has_button(strip, "Pause")


def test_runs_are_described_with_all_that_makes_them_odd() -> None:
    odd = with_runs({100: [10.0, 10.0, 10.0], 50: [5.0, 5.05, 8.0]})
    run = odd.trials[1].runs[2]
    assert (
        _describe(run, odd.correction)
        == "a trial, 8.0 s: sample 8.0 s\noutlier: left out and repeated"
    )
    busy = replace(run, control=True, result=replace(run.result, load_of_others=0.4))
    words = _describe(busy, replace(odd.correction, left_out=frozenset(), drift={run.number: 1.2}))
    assert words.startswith("control (the base again), 8.0 s")
    assert "other programs took 40% of the processor" in words
    assert "divided by 1.20: the machine was slower just then" in words


@pytest.fixture
def verdict(qtbot: QtBot) -> VerdictStrip:
    made = VerdictStrip(DAY)
    qtbot.addWidget(made)
    made.resize(1280, 68)
    made.show()

    return made


def test_the_verdict_is_one_line_an_artist_would_say(verdict: VerdictStrip) -> None:
    results = results_of(THREE)
    verdict.show_view(view_of(snapshot_of(results)))
    shown = next(text for text in texts(verdict) if "faster" in text)
    assert "5.0 s" in texts(verdict)
    assert re.fullmatch(r"± 0\.\d+ s · 2\.0× \(1\.\d to 2\.\d\) faster than base", shown)
    whole, half = (
        verdict._factor.fontMetrics().horizontalAdvance(shown)
        for shown in (shown, shown[: len(shown) // 2 + 6])
    )

    for width, words in (
        (whole, "faster than base"),
        (whole - 1, "faster"),
        (half, "2.0× faster"),
        (half // 2, "…"),
    ):
        verdict._factor.setMinimumWidth(0)
        verdict._factor.resize(width, 20)
        assert verdict._factor.shown.endswith(words), "less room, fewer words"

    assert "50 samples" in texts(verdict)
    assert "measured 3×, no ties" in texts(verdict)
    assert "grain 2.6 of 2.0 levels is over its limit" in verdict._measured.toolTip()
    assert verdict._bars["grain"].isVisible()
    assert not verdict._bars["light_shift"].isVisible(), "nothing limits it here"
    what_if = results.with_line(1.4)
    verdict.show_view(view_of(snapshot_of(results), what_if))
    assert {"2.0 s", "what if: 1.4× the limits"} <= set(texts(verdict))


def test_as_many_limits_are_shown_as_have_room(verdict: VerdictStrip) -> None:
    keys = (
        "grain",
        "light_shift",
        "stray_pixels",
        "grain_worst",
        "light_shift_worst",
        "rms",
        "perceptual",
    )
    plan = replace(STUDY, limits=only_limits(**dict.fromkeys(keys, 2.0)))
    low = dict.fromkeys(keys, (1.0, 0.9, 1.1))
    fast = BASE.replace({"samples.max": 50})
    made = measured(plan, {BASE: [10.0, 10.1, 10.2], fast: [5.0, 5.1, 5.2]}, {BASE: low, fast: low})
    results = collect(made.state)
    verdict.show_view(view_of(snapshot_of(results)))
    assert len(verdict.bars) == len(keys)
    assert verdict.bars[-1].accessibleName().startswith("visible difference")
    verdict.resize(1000, verdict.height())
    assert 3 < len(verdict.bars) < len(keys), "without being shown anew"
    verdict.resize(1600, verdict.height())
    assert len(verdict.bars) == len(keys)


def test_without_a_pick_it_says_what_is_missing(verdict: VerdictStrip) -> None:
    results = results_of({100: (10.0, (3.0, 2.9, 3.1)), 50: (5.0, (4.0, 3.9, 4.1))})
    verdict.show_view(view_of(snapshot_of(results)))
    assert "No pick yet" in texts(verdict)
    assert "2 of 2 trials measured, none is certain to meet every limit" in texts(verdict)
    assert any(
        "closest: the base: grain 3.0 of 2.0 levels; for grain 2 it needs about" in text
        for text in texts(verdict)
    )
    assert field(verdict, "Try what may meet the limits").isVisible()
    asked: list[dict] = []
    verdict.try_asked.connect(asked.append)
    field(verdict, "Try what may meet the limits").click()
    assert asked
    assert 200 < asked[0]["samples.max"] < 300
    assert not field(verdict, "Take these settings").isVisible()
    bare = snapshot_of(results, reference=None)
    assert missing_words(bare, results, True) == (
        "needs a reference first",
        "the first render makes it",
    )
    gone = snapshot_of(results, None, "scene.glb: no such scene")
    assert missing_words(gone, results, False)[1] == "scene.glb: no such scene"


def test_the_top_bar_says_what_its_button_would_do(qtbot: QtBot) -> None:
    bar = TopBar(DAY, this_machine(), QMenu())
    qtbot.addWidget(bar)
    bar.show()
    results = results_of(THREE)

    for snapshot, activity, text, enabled in (
        (snapshot_of(results), Activity(), "All measured", False),
        (snapshot_of(results, to_come=(NEXT,)), Activity(), "Measure 1 trial", True),
        (
            snapshot_of(results, to_come=(NEXT,), problem="gone"),
            Activity(),
            "Measure 1 trial",
            False,
        ),
        (snapshot_of(results), Activity(measuring=True), "Pause", True),
        (snapshot_of(results), Activity(measuring=True, stopping=True), "Ending …", False),
    ):
        bar.show_view(view_of(snapshot, activity=activity))
        assert button(bar, text).isEnabled() == enabled

    with qtbot.waitSignal(bar.goal_chosen) as chosen:
        qtbot.mouseClick(bar._goals.buttons()[1], Qt.MouseButton.LeftButton, pos=QPoint(5, 5))

    assert chosen.args == ["first-picture"]
    bar.set_theme(DUSK)
    bar.show_view(None)
    assert not bar._measure.isVisible()


def test_of_thousands_of_runs_the_old_ones_are_crowded_and_now_is_in_view(strip: RunStrip) -> None:
    results = results_of(THREE)
    run = results.trials[0].runs[0]
    runs = tuple(replace(run, number=k) for k in range(1, 3001))
    strip.blocks.show_runs(runs, [1.0] * 500, 10.0, 0.5, set(), results.correction)
    finished, future, current = strip.blocks._layout()
    assert current is not None
    assert 0 < current.left() < current.right() < strip.blocks.width()
    assert current.width() >= 6
    assert finished[0][1].left() >= 0
    assert future[-1].right() <= strip.blocks.width()
    assert current.left() > 0.3 * strip.blocks.width(), "what is old has no more than its part"
    latest = [rect for found, rect in finished if found.number > 2950]
    assert len(latest) == 50, "each of the last ones can be told apart"
    assert len(finished) < strip.blocks.width()


def test_a_busy_machine_is_told_only_while_it_matters() -> None:
    quiet = results_of(THREE)
    busy = tuple(
        replace(run, result=replace(run.result, load_of_others=0.4)) for run in quiet.trials[0].runs
    )
    assert "other programs take 40%" in trust_words(snapshot_of(quiet, runs=busy), measuring=True)
    assert trust_words(snapshot_of(quiet, runs=busy), measuring=False) == ""


def test_runs_are_walked_by_keys(strip: RunStrip, qtbot: QtBot) -> None:
    strip.show_view(view_of(snapshot_of(results_of(THREE))))
    qtbot.keyClick(strip.blocks, Qt.Key.Key_Left)
    qtbot.keyClick(strip.blocks, Qt.Key.Key_Left)
    assert "s: " in strip.blocks.accessibleDescription()
    with qtbot.waitSignal(strip.trial_clicked) as clicked:
        qtbot.keyClick(strip.blocks, Qt.Key.Key_Space)

    finished = strip.blocks._layout()[0]
    assert clicked.args == [finished[-2][0].trial]

"""Frames of a sequence: which are measured, what the whole is forecast to take, and runs that never mix with the study's."""

from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.errors import UsageError
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.desk import Desk
from swift_sample.core.study.frames import RUNS, FrameResult, FrameResults, FrameWalk, collect_frames
from swift_sample.core.study.frames_report import forecast_as_data, forecast_sentences, shared
from swift_sample.core.study.model import FramePlan, Study, study_from_toml, study_to_toml
from swift_sample.core.study.runner import Ended, Event, Runner, StepStarted
from swift_sample.core.study.schedule import FrameGrainStep, RunStep
from swift_sample.core.study.store import StudyFolder

BASE = Configuration({"samples.max": 16})


@pytest.mark.parametrize(("plan", "frames"), [
    (FramePlan(0, 100, 5), [0, 25, 50, 75, 100]), (FramePlan(10, 20, 2), [10, 20]), (FramePlan(3, 5, 9), [3, 4, 5]),
    (FramePlan(0, 10, 4), [0, 3, 7, 10])])
def test_frames_are_spread_evenly_with_both_ends(plan: FramePlan, frames: list[int]) -> None:
    assert plan.frames() == frames


@pytest.mark.parametrize(("first", "last", "count", "words"), [
    (5, 5, 3, "frames=5 to 5: expected two different frames"), (-1, 5, 3, "frames=-1 to 5"), (0, 10, 1, "frames.count=1"),
    (0, 10**7, 5, "to 10000000")])
def test_bad_plans_are_refused(first: int, last: int, count: int, words: str) -> None:
    with pytest.raises(UsageError, match=words):
        FramePlan(first, last, count)


def test_frames_are_kept_in_the_plan(tiny_study: Study) -> None:
    study = replace(tiny_study, frames=FramePlan(2, 40, 4))
    assert study_from_toml(study_to_toml(study), Path("study.toml")) == study


def row(frame: int, seconds: float, build: float = 0.0, ready: float = 0.0, grain: float | None = None) -> FrameResult:
    return FrameResult(frame, Figure(seconds, 0.9 * seconds, 1.1 * seconds), build, ready,
                       Figure(grain, grain, grain) if grain else None)


def test_a_steady_rise_is_forecast_exactly() -> None:
    """Frames 0 to 10 of 1 s to 2 s: eleven frames, 16.5 s; half a second of each is building."""
    rows = (row(0, 1.0, 0.5, grain=1.0), row(5, 1.5, 0.5), row(10, 2.0, 0.5, grain=2.0))
    found = FrameResults(FramePlan(0, 10, 3), {BASE: rows})
    forecast = found.forecast(BASE)
    assert forecast is not None
    assert forecast.built_anew.value == pytest.approx(16.5)
    assert forecast.built_once.value == pytest.approx(16.5 - 10 * 0.5)
    assert (forecast.worst.frame, forecast.flicker_at_least) == (10, pytest.approx(2.0 * 2**0.5))
    # Three frames stand for 3, 5 and 3 of the eleven; 95 % reaches are a tenth of each.
    assert forecast.built_anew.high - 16.5 == pytest.approx((0.3**2 + 0.75**2 + 0.6**2) ** 0.5, rel=0.02)
    bent = replace(found, by_configuration={BASE: (row(0, 1.0), row(5, 3.0), row(10, 2.0))}).forecast(BASE)
    wide, narrow = bent.built_anew, forecast.built_anew
    assert wide.high - wide.value > 3 * (narrow.high - narrow.value), "what lies between is less sure"


def test_a_kept_scene_is_built_for_every_frame_or_once() -> None:
    forecast = FrameResults(FramePlan(0, 1, 2), {BASE: (row(0, 1.0, ready=3.0), row(1, 1.0, ready=3.0))}).forecast(BASE)
    assert (forecast.built_anew.value, forecast.built_once.value) == (pytest.approx(8.0), pytest.approx(5.0))
    assert FrameResults(FramePlan(0, 1, 2), {BASE: (row(0, 1.0),)}).forecast(BASE) is None


def test_machines_share_a_sequence_but_not_a_frame() -> None:
    assert shared(Figure(100.0, 90.0, 110.0), 4, 2.0) == Figure(25.0, 22.5, 27.5)
    assert shared(Figure(100.0, 90.0, 110.0), 1000, 2.0) == Figure(2.0, 2.0, 2.0)


def test_words_and_data_say_the_same() -> None:
    found = FrameResults(FramePlan(0, 10, 2), {BASE: (row(0, 1.0, 0.5), row(10, 1.0, 0.5, grain=1.0))})
    lines, data = forecast_sentences(found, {BASE: "base"}, 2), forecast_as_data(found, {BASE: "base"}, 2)
    assert lines[0].startswith("base: 11 frames take 5.5 s (")
    assert "on 2 machines" in lines[0]
    assert lines[3] == "  grain alone flickers by 1.4 levels at the grainiest frame"
    assert data["base"]["forecast"]["seconds_built_anew"]["value"] == pytest.approx(5.5)
    assert forecast_sentences(replace(found, by_configuration={}), {BASE: "base"}) == [
        "base: fewer than two frames were measured"]


def test_frames_are_measured_apart_from_the_study(folder: StudyFolder) -> None:
    plan, desk = FramePlan(0, 30, 2), Desk(folder)
    other = folder.study.base.replace({"samples.max": 16, "scene.keep_built": True})
    wanted, events = [folder.study.base, other], []

    def keep(event: Event) -> None:
        events.append(event)

    Runner(folder, keep, desk=desk, walk=FrameWalk(desk, plan, wanted)).run()
    assert events[-1] == Ended(True, None)
    steps = [e.step for e in events if isinstance(e, StepStarted)]
    assert sum(isinstance(s, RunStep) for s in steps) == 2 * 2 * RUNS
    assert sum(isinstance(s, FrameGrainStep) for s in steps) == 4
    found = collect_frames(desk, plan, wanted)
    assert (desk.frame, found.left) == (None, 0)
    base, kept = (found.by_configuration[c] for c in wanted)
    assert [one.frame for one in base] == [one.frame for one in kept] == [0, 30]
    assert all(one.build_seconds > 0 == one.ready_seconds for one in base)
    assert all(one.build_seconds == 0 < one.ready_seconds for one in kept)
    assert all(k.grain.value > 1.3 * b.grain.value for b, k in zip(base, kept, strict=True)), "a quarter of the samples"
    assert len({run.scene_key for run in folder.runs()}) == 2
    again: list[Event] = []
    Runner(folder, again.append, desk=desk, walk=FrameWalk(desk, plan, wanted)).run()
    assert again == [Ended(True, None)]


def test_frames_from_the_command_line(folder: StudyFolder, capsys) -> None:
    path = str(folder.path)
    folder.close()
    assert run(["frames", path]) == 2
    assert "expected --last" in capsys.readouterr().err
    assert run(["frames", path, "--last", "8", "--count", "2"]) == 0
    assert capsys.readouterr().out.startswith("base: 9 frames take ")
    with StudyFolder.open(Path(path)) as opened:
        assert opened.study.frames == FramePlan(0, 8, 2)

"""Frames of a sequence: which are measured, what the whole is forecast to take, and runs that never
mix with the study's."""

from dataclasses import replace
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest

from swift_sample.cli import run
from swift_sample.core.errors import UsageError
from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.answers.acceptance import ACCEPTABLE
from swift_sample.core.study.answers.frames import (
    RUNS,
    FrameResult,
    FrameResults,
    Judged,
    collect_frames,
)
from swift_sample.core.study.answers.frames_report import (
    forecast_as_data,
    forecast_sentences,
    shared,
)
from swift_sample.core.study.log.store import create_study, look_at_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import Notice, StepStarted
from swift_sample.core.study.measuring.policies import Framing
from swift_sample.core.study.measuring.steps import MeasureStep, ReferenceStep, RunStep
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.plan.model import FramePlan, Study
from tests.core.scene.gltf_maker import GltfMaker

BASE = configured({"samples.max": 16})


@pytest.mark.parametrize(
    ("plan", "frames"),
    [
        (FramePlan(0, 100, 5), [0, 25, 50, 75, 100]),
        (FramePlan(10, 20, 2), [10, 20]),
        (FramePlan(3, 5, 9), [3, 4, 5]),
        (FramePlan(0, 10, 4), [0, 3, 7, 10]),
    ],
)
def test_frames_are_spread_evenly_with_both_ends(plan: FramePlan, frames: list[int]) -> None:
    assert plan.frames() == frames


@pytest.mark.parametrize(
    ("first", "last", "count", "words"),
    [
        (5, 5, 3, "frames=5 to 5: expected two different frames"),
        (-1, 5, 3, "frames=-1 to 5"),
        (0, 10, 1, "frames.count=1"),
        (0, 10**7, 5, "to 10000000"),
    ],
)
def test_bad_plans_are_refused(first: int, last: int, count: int, words: str) -> None:
    with pytest.raises(UsageError, match=words):
        FramePlan(first, last, count)


def test_frames_are_kept_in_the_plan(tiny_study: Study) -> None:
    study = replace(tiny_study, frames=FramePlan(2, 40, 4))
    assert plan_from_toml(plan_as_toml(study), Path("study.toml")) == study


def row(
    frame: int, seconds: float, build: float = 0.0, ready: float = 0.0, grain: float | None = None
) -> FrameResult:
    return FrameResult(
        frame,
        Figure(seconds, 0.9 * seconds, 1.1 * seconds),
        build,
        ready,
        Figure(grain, grain, grain) if grain else None,
    )


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
    assert forecast.built_anew.high - 16.5 == pytest.approx(
        (0.3**2 + 0.75**2 + 0.6**2) ** 0.5, rel=0.02
    )
    bent = replace(
        found, by_configuration={BASE: (row(0, 1.0), row(5, 3.0), row(10, 2.0))}
    ).forecast(BASE)
    wide = bent.built_anew
    narrow = forecast.built_anew
    assert wide.high - wide.value > 3 * (narrow.high - narrow.value), (
        "what lies between is less sure"
    )


def test_a_kept_scene_is_built_for_every_frame_or_once() -> None:
    forecast = FrameResults(
        FramePlan(0, 1, 2), {BASE: (row(0, 1.0, ready=3.0), row(1, 1.0, ready=3.0))}
    ).forecast(BASE)
    assert (forecast.built_anew.value, forecast.built_once.value) == (
        pytest.approx(8.0),
        pytest.approx(5.0),
    )
    assert FrameResults(FramePlan(0, 1, 2), {BASE: (row(0, 1.0),)}).forecast(BASE) is None


def test_machines_share_a_sequence_but_not_a_frame() -> None:
    assert shared(Figure(100.0, 90.0, 110.0), 4, 2.0) == Figure(25.0, 22.5, 27.5)
    assert shared(Figure(100.0, 90.0, 110.0), 1000, 2.0) == Figure(2.0, 2.0, 2.0)


def test_words_and_data_say_the_same() -> None:
    found = FrameResults(
        FramePlan(0, 10, 2), {BASE: (row(0, 1.0, 0.5), row(10, 1.0, 0.5, grain=1.0))}
    )
    friday = datetime(2026, 11, 27, 23, 59, 58)
    lines = forecast_sentences(found, {BASE: "base"}, 2, friday)
    data = forecast_as_data(found, {BASE: "base"}, 2)
    assert lines[0].startswith("base: 11 frames take 5.5 s (")
    assert "on 2 machines" in lines[0]
    assert lines[3] == (
        "  if started now, it is done Saturday 28 November, 00:00, at the latest Saturday 28 "
        "November, 00:00"
    )
    assert lines[4] == "  grain alone flickers by 1.4 levels at the grainiest frame"
    judged = replace(
        found,
        judged={BASE: Judged(10, "not acceptable", Figure(1.2, 1.1, 1.3), "grain 2.4 of 2.0")},
    )
    assert "  at its grainiest, frame 10: not acceptable, grain 2.4 of 2.0" in forecast_sentences(
        judged, {BASE: "base"}
    )
    assert forecast_as_data(judged, {BASE: "base"})["base"]["judged"]["frame"] == 10
    assert data["base"]["forecast"]["seconds_built_anew"]["value"] == pytest.approx(5.5)
    assert forecast_sentences(replace(found, by_configuration={}), {BASE: "base"}) == [
        "base: fewer than two frames were measured"
    ]


def test_frames_are_measured_apart_from_the_study(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan = FramePlan(0, 30, 2)
    notices = []
    base = driver.state.plan.base
    other = base.replace({"samples.max": 16, "scene.keep_built": True})
    wanted = (base, other)

    def keep(notice: Notice) -> None:
        notices.append(notice)

    driver.listen(keep)
    assert driver.run_here(Framing(plan, wanted)).finished
    steps = [n.step for n in notices if isinstance(n, StepStarted)]
    assert sum(isinstance(s, RunStep) for s in steps) == 2 * 2 * RUNS
    assert sum(isinstance(s, MeasureStep) and not s.key.reference for s in steps) == 4
    found = collect_frames(driver.state, plan, wanted)
    assert found.left == 0
    grains = {one.frame: one.grain.value for one in found.by_configuration[other]}
    hardest = max(grains, key=lambda frame: grains[frame])
    assert {one.frame for one in found.judged.values()} == {hardest}, (
        "the limits are judged where the pick is grainiest"
    )
    assert set(found.judged) == set(wanted)
    assert any(isinstance(s, ReferenceStep) for s in steps)
    for one in found.judged.values():
        assert (one.why == "") == (one.verdict == ACCEPTABLE)

    first, kept = (found.by_configuration[c] for c in wanted)
    assert [one.frame for one in first] == [one.frame for one in kept] == [0, 30]
    assert all(one.build_seconds > 0 == one.ready_seconds for one in first)
    assert all(one.build_seconds == 0 < one.ready_seconds for one in kept)

    for configuration, rows in found.by_configuration.items():
        for one in rows:
            place = driver.state.place_of_frame(one.frame)
            trial = driver.state.trial_of(configuration)
            levels = [
                View().levels(read_exr(driver.snapshot.folder.picture(name)).beauty)
                for name in driver.state.at(place).pictures[trial.appearance]
            ]

            assert one.grain.value == pytest.approx(
                np.var(levels, axis=0, ddof=1).mean() ** 0.5, rel=1e-3
            )

    assert (
        len({run.place for records in driver.state.records.values() for run in records.runs}) == 2
    )
    assert driver.state.plan.frame == 0, "the plan's own frame stays in hand"
    notices.clear()
    assert driver.run_here(Framing(plan, wanted)).finished
    assert not any(isinstance(n, StepStarted) for n in notices)
    monkeypatch.setitem(KINDS, "grain", replace(KINDS["grain"], version=99))  # another formula
    driver.state.__dict__.pop(
        "wanting", None
    )  # a formula changes only while the program is not running
    found = collect_frames(driver.state, plan, wanted)
    assert {one.grain for rows in found.by_configuration.values() for one in rows} == {None}
    assert driver.run_here(Framing(plan, wanted)).finished
    again = [n.step for n in notices if isinstance(n, StepStarted)]
    assert sum(isinstance(s, MeasureStep) and not s.key.reference for s in again) == 4
    assert not any(isinstance(s, RunStep) for s in again)


def test_a_still_has_no_frames_to_forecast(tmp_path: Path, tiny_study: Study, capsys) -> None:
    scene = GltfMaker().save(tmp_path / "still.glb")
    path = tmp_path / "still.study"
    create_study(path, replace(tiny_study, scene=str(scene)))
    assert run(["frames", str(path), "--last", "8", "--count", "2"]) == 2
    assert (
        "so that every frame takes as long as the one that is measured" in capsys.readouterr().err
    )


def test_frames_from_the_command_line(study_path: Path, capsys) -> None:
    path = str(study_path)
    assert run(["frames", path]) == 2
    assert "expected --last" in capsys.readouterr().err
    assert run(["frames", path, "--last", "8", "--count", "2"]) == 0
    assert capsys.readouterr().out.startswith("base: 9 frames take ")
    with look_at_study(study_path) as reading:
        assert reading.state.plan.frames == FramePlan(0, 8, 2)

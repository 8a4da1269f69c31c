"""A search with a real worker, on a scene that renders in a moment."""

from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.settings import Configuration
from swift_sample.core.study.desk import Desk
from swift_sample.core.study.model import Limits, Study, Sweep
from swift_sample.core.study.results import ACCEPTABLE
from swift_sample.core.study.runner import Ended, Event, Looked, Runner, StepStarted
from swift_sample.core.study.schedule import MAX_FAILURES, RunStep, SmoothStep
from swift_sample.core.study.searcher import Searcher
from swift_sample.core.study.store import StudyFolder

BASE = Configuration({"samples.max": 64, "bounces.total": 4})
STUDY = Study("Sought", "honey-stall-small", (32, 18), base=BASE, repeats=2,
              sweeps=(Sweep("one at a time", {"samples.max": (8, 64), "denoise.method": ("wavelet",),
                                              "scene.keep_built": (True,)}),),
              limits=Limits(grain=60.0, light_shift=8.0, detail_kept=20.0, stray_pixels=999_000.0))


class Clock:
    """Moves only when it is told to."""

    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        return self.now


def search(folder: StudyFolder, budget: float | None = None, clock: Clock | None = None) -> tuple[list[Event], Searcher]:
    """Run a search to its end in this thread; each run takes 100 s on the given clock."""
    desk, events = Desk(folder), []
    searcher = Searcher(desk, budget, clock or Clock())

    def keep(event: Event) -> None:
        events.append(event)
        if clock is not None and isinstance(event, StepStarted) and isinstance(event.step, RunStep):
            clock.now += 100

    Runner(folder, keep, desk=desk, searcher=searcher).run()
    return events, searcher


@pytest.fixture
def folder(tmp_path: Path):
    with StudyFolder.create(tmp_path / "sought.study", STUDY) as made:
        yield made


def test_a_search_measures_what_it_chose_and_ends_with_a_reason(folder: StudyFolder) -> None:
    events, _ = search(folder)
    assert events[-1] == Ended(True, None)
    steps = [e.step for e in events if isinstance(e, StepStarted)]
    smooth = [s for s in steps if isinstance(s, SmoothStep)]
    assert [s.configuration["denoise.method"] for s in smooth] == ["none", "wavelet"]
    looks = [e.advice for e in events if isinstance(e, Looked)]
    assert looks[-1].configuration is None
    results = Desk(folder).snapshot().results
    chosen = folder.chosen(Desk(folder).scene_key())
    assert 1 <= len(chosen) <= 7
    assert set(results.study.only_chosen()) == {c for c in chosen if sum(c[k] != BASE[k] for k in BASE) > 1}
    pick = results.pick()
    assert pick is not None
    assert pick.trial.verdict == ACCEPTABLE
    assert len(pick.trial.runs) >= STUDY.repeats
    rendered = {s.configuration for s in steps if isinstance(s, RunStep)}
    assert rendered == {BASE, *chosen}, "the rest of the plan waits"
    assert "search" in {kind for _, kind, _ in folder.events()}


def test_a_search_stops_when_its_time_is_spent(folder: StudyFolder) -> None:
    clock = Clock()
    events, searcher = search(folder, 50.0, clock)
    assert events[-1] == Ended(True, None)
    assert searcher.advice is not None
    assert searcher.advice.why.startswith("the 50 s are spent, the likeliest combination left has a chance of ")
    assert folder.chosen(Desk(folder).scene_key()) == ()
    assert {run.trial for run in folder.runs()} == {folder.trial_number(BASE)}


def test_what_failed_in_an_earlier_search_does_not_end_a_later_one(folder: StudyFolder) -> None:
    desk = Desk(folder)
    hopeless = BASE.replace({"samples.max": 8, "scene.keep_built": True})
    for _ in range(MAX_FAILURES):
        folder.add_run(folder.trial_number(hopeless), desk.scene_key(), False, 0, desk.machine, None, None, "it failed")
    events, _ = search(folder)
    rendered = {e.step.configuration for e in events if isinstance(e, StepStarted) and isinstance(e.step, RunStep)}
    assert hopeless not in rendered
    assert len(rendered) >= 2, "the base and others"
    assert events[-1] == Ended(True, None)


def test_what_a_search_chose_is_measured_whole_by_run(folder: StudyFolder) -> None:
    """Trials of a search stay in the study: measuring the plan later finishes those that may be the pick."""
    other = BASE.replace({"samples.max": 8, "scene.keep_built": True})
    folder.choose(other, Desk(folder).scene_key())
    folder.save_plan(replace(STUDY, sweeps=()))
    Runner(folder, lambda _: None).run()
    trials = {t.configuration: t for t in Desk(folder).snapshot().results.trials}
    assert set(trials) == {BASE, other}
    assert len(trials[other].runs) == STUDY.repeats


def test_search_from_the_command_line(tmp_path: Path, capsys) -> None:
    path = tmp_path / "a.study"
    StudyFolder.create(path, replace(STUDY, size=(16, 9))).close()
    assert run(["search", str(path), "--budget", "0.01"]) in (0, 3)
    err = capsys.readouterr().err
    assert "the search ended: the 0 s are spent" in err
    assert run(["search", str(path), "--budget", "soon"]) == 2
    assert "time=soon: expected seconds, or a number with s, m or h, as in 10m" in capsys.readouterr().err
    assert run(["search", str(tmp_path / "none.study")]) == 1

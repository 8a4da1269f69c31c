"""A search with a real worker, on a scene that renders in a moment."""

from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.measure.kinds import KINDS
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.answers.acceptance import ACCEPTABLE
from swift_sample.core.study.log.events import Run, RunFinished, TrialChosen
from swift_sample.core.study.log.records import MAX_FAILURES
from swift_sample.core.study.log.state import validate
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import Advised, Ended, Notice, StepStarted
from swift_sample.core.study.measuring.policies import Searching, Sweeping
from swift_sample.core.study.measuring.steps import DeriveStep, MeasureStep, RecordStep, RunStep
from swift_sample.core.study.plan.model import Limits, Study, Sweep
from tests.core.study.states import only_limits

BASE = configured({"samples.max": 64, "bounces.total": 4})
STUDY = Study(
    name="Sought",
    scene="honey-stall-small",
    size=(32, 18),
    base=BASE,
    repeats=2,
    sweeps=(
        Sweep(
            "one at a time",
            {"samples.max": (8, 64), "denoise.method": ("wavelet",), "scene.keep_built": (True,)},
        ),
    ),
    limits=only_limits(grain=60.0, light_shift=8.0, detail_kept=20.0, stray_pixels=999_000.0),
)


class Clock:
    """Moves only when it is told to."""

    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def clock() -> Clock:
    return Clock()


@pytest.fixture
def driver(tmp_path: Path, clock: Clock, request: pytest.FixtureRequest):
    study = getattr(request, "param", STUDY)
    made = Driver(Store.open(create_study(tmp_path / "sought.study", study)), clock=clock)
    yield made
    made.close()


def search(
    driver: Driver, budget: float | None = None, clock: Clock | None = None
) -> tuple[list[Notice], Ended]:
    """Run a search to its end in this thread; with a clock each run takes 100 s on it."""
    notices: list[Notice] = []

    def keep(notice: Notice) -> None:
        notices.append(notice)
        if (
            clock is not None
            and isinstance(notice, StepStarted)
            and isinstance(notice.step, RunStep)
        ):
            clock.now += 100

    driver.listen(keep)
    ended = driver.run_here(
        Searching(driver.record, budget, lambda advice: notices.append(Advised(advice)))
    )
    validate(driver.state)

    return notices, ended


def steps_of(notices: list[Notice]) -> list:
    return [notice.step for notice in notices if isinstance(notice, StepStarted)]


def test_a_search_measures_what_it_chose_and_ends_with_a_reason(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    notices, ended = search(driver)
    assert ended.finished
    steps = steps_of(notices)
    derived = [s for s in steps if isinstance(s, DeriveStep)]
    assert derived, "pictures that nobody rendered are looked at"
    looks = [notice.advice for notice in notices if isinstance(notice, Advised)]
    assert looks[-1].configuration is None
    assert ended.words == looks[-1].why
    chosen = driver.state.results.chosen
    snapshot = driver.snapshot
    assert 1 <= len(chosen) <= 9
    assert {snapshot.results.by_id[name].configuration for name in snapshot.results.sought} == {
        c for c in chosen if not STUDY.plans(c)
    }
    pick = snapshot.results.pick()
    assert pick is not None
    assert pick.trial.verdict == ACCEPTABLE
    assert len(pick.trial.runs) >= STUDY.repeats
    rendered = {s.configuration for s in steps if isinstance(s, RunStep)}
    assert rendered == {BASE, *chosen}, "the rest of the plan waits"
    assert "search" in {kind for _, kind, _ in driver.words()}
    # What was derived is known for good: another search derives none again.
    again, _ = search(driver)
    assert not any(isinstance(s, DeriveStep | RecordStep) for s in steps_of(again))


WITHOUT = replace(BASE.catalogue.capabilities, records=False)


@pytest.fixture
def no_recordings(monkeypatch: pytest.MonkeyPatch) -> None:
    """As with a renderer that keeps none."""
    monkeypatch.setattr(BASE.catalogue, "capabilities", WITHOUT)


def test_without_recordings_denoising_is_tried_on_stored_pictures(
    no_recordings: None, driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    notices, ended = search(driver)
    assert ended.finished
    tried = [s for s in steps_of(notices) if isinstance(s, MeasureStep) and s.key.recipe]
    assert [s.configuration["denoise.method"] for s in tried] == ["none", "wavelet"]
    assert not any(isinstance(s, DeriveStep | RecordStep) for s in steps_of(notices))
    pick = driver.snapshot.results.pick()
    assert pick is not None
    assert pick.trial.verdict == ACCEPTABLE
    # What other denoising makes of pictures is known for good: another search tries none again.
    again, _ = search(driver)
    assert not any(isinstance(s, MeasureStep) and s.key.recipe for s in steps_of(again))
    monkeypatch.setitem(
        KINDS, "grain", replace(KINDS["grain"], version=99)
    )  # unless a formula is another one by now
    driver.state.__dict__.pop(
        "wanting", None
    )  # a formula changes only while the program is not running
    third, _ = search(driver)
    assert sum(isinstance(s, MeasureStep) and bool(s.key.recipe) for s in steps_of(third)) == 2


@pytest.mark.parametrize(
    "driver", [replace(STUDY, base=BASE.replace({"samples.max": 2048}))], indirect=True
)
def test_a_search_stops_when_its_time_is_spent(driver: Driver, clock: Clock) -> None:
    """Also the render in hand, which would end long after it."""
    _, ended = search(driver, 50.0, clock)
    assert (ended.finished, ended.words) == (True, "time is up after 50 s; best so far")
    assert driver.state.results.chosen == ()
    assert driver.snapshot.runs == ()


def test_a_budget_holds_whatever_comes_first(tmp_path: Path) -> None:
    """Here a reference that would take minutes."""
    plan = replace(STUDY, size=(480, 270), limits=Limits(grain=0.1))
    driver = Driver(Store.open(create_study(tmp_path / "large.study", plan)))

    try:
        notices, ended = search(driver, 4.0)
    finally:
        driver.close()

    assert (ended.finished, ended.words) == (True, "time is up after 4 s; best so far")
    assert not any(isinstance(step, RunStep) for step in steps_of(notices))


def test_exploring_leaves_time_for_what_may_be_the_pick(driver: Driver, clock: Clock) -> None:
    notices, ended = search(driver, 1000.0, clock)
    looks = [notice.advice for notice in notices if isinstance(notice, Advised)]
    assert ended.finished
    assert looks
    assert clock.now <= 1000 + 100


def test_what_failed_in_an_earlier_search_does_not_end_a_later_one(driver: Driver) -> None:
    hopeless = BASE.replace({"samples.max": 8, "scene.keep_built": True})
    trial = driver.state.trial_of(hopeless)
    state = driver.state
    driver.run_here(
        Sweeping(("samples.min",))
    )  # begins measuring, so that what follows is not forgiven
    failed = Run(
        number=0,
        finished_at="",
        place=state.here,
        trial=trial.id,
        appearance=trial.appearance,
        machine=state.machine,
        seed=1,
        block=0,
        control=False,
        picture="",
        result=None,
        reason="it failed",
    )
    driver.study.keep([RunFinished(failed, hopeless)] * MAX_FAILURES)
    policy = Searching(driver.record)
    chosen = set()
    state = driver.state
    proposal = policy.propose(state, 0.0)

    while proposal.again or proposal.step is not None:
        chosen |= {
            event.values.get("samples.max")
            for event in proposal.events
            if isinstance(event, TrialChosen)
        }
        step = proposal.step
        if isinstance(step, RunStep) and step.configuration == hopeless:
            pytest.fail("a trial that failed too often is not rendered again")
        if proposal.step is not None:
            break
        driver.study.keep(proposal.events)
        proposal = policy.propose(driver.state, 0.0)


def test_what_a_search_chose_is_measured_whole_by_run(driver: Driver) -> None:
    """Trials of a search stay in the study: measuring the plan later finishes those that may be the
    pick."""
    other = BASE.replace({"samples.max": 8, "scene.keep_built": True})
    driver.study.keep([TrialChosen(driver.state.here, other.identity_values(), "why")])
    driver.settle(driver.edit("No sweeps", lambda plan: replace(plan, sweeps=())))
    assert driver.run_here(Sweeping()).finished
    trials = {t.configuration: t for t in driver.snapshot.results.trials}
    assert set(trials) == {BASE, other}
    assert (
        len(trials[other].runs) >= STUDY.repeats
    )  # more where noise leaves the two too close to tell


def test_search_from_the_command_line(tmp_path: Path, capsys) -> None:
    path = tmp_path / "a.study"
    create_study(path, replace(STUDY, size=(16, 9)))
    assert run(["search", str(path), "--budget", "0.01"]) in (0, 3)
    err = capsys.readouterr().err
    assert "the search ended: time is up after 0 s; best so far" in err
    assert run(["search", str(path), "--budget", "soon"]) == 2
    assert (
        "time=soon: expected seconds, or a number with s, m or h, as in 10m"
        in capsys.readouterr().err
    )
    assert run(["search", str(tmp_path / "none.study")]) == 1

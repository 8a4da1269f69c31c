"""Recordings of a study, and what is derived from them, with a real worker."""

from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.core.study.answers.field import combinations, derived_of, field_of, recorded_for
from swift_sample.core.study.answers.taking_back import taken_back, without_each, worth_words
from swift_sample.core.study.log.events import TrialChosen
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.records import Proofs
from swift_sample.core.study.log.state import validate
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import Notice, StepStarted
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.policies.deriving import Deriving
from swift_sample.core.study.measuring.policies.recording import why_nothing_is_recorded
from swift_sample.core.study.measuring.steps import DeriveStep, MeasureStep, RecordStep, RunStep
from swift_sample.core.study.plan.model import AREA_MARK, Study, Sweep, WatchArea
from tests.core.study.measuring.test_searching import BASE, STUDY

SMALL = replace(
    STUDY,
    sweeps=(
        Sweep("one at a time", {"samples.max": (8, 64), "bounces.total": (1, 4)}),
        Sweep("one at a time", {"denoise.method": ("none", "wavelet")}),
    ),
)


@pytest.fixture
def driver(tmp_path: Path, request: pytest.FixtureRequest):
    plan: Study = getattr(request, "param", SMALL)
    made = Driver(Store.open(create_study(tmp_path / "derived.study", plan)))
    yield made
    made.close()


def steps_of(driver: Driver, policy) -> list:
    steps: list = []

    def keep(notice: Notice) -> None:
        if isinstance(notice, StepStarted):
            steps.append(notice.step)

    driver.listen(keep)
    assert driver.run_here(policy).finished
    validate(driver.state)
    return steps


def test_every_combination_has_figures_without_a_render_of_it(driver: Driver) -> None:
    every = list(combinations(driver.state.plan))
    assert len(every) == 8
    steps = steps_of(driver, Deriving(every))
    assert not any(isinstance(step, RunStep) for step in steps)
    told = [step.words(BASE) for step in steps if isinstance(step, DeriveStep)]
    assert [words.rpartition(", ")[2] for words in told] == [f"{k} of 8" for k in range(1, 9)]

    points = field_of(driver.state, driver.snapshot.results, every)
    assert [point.configuration for point in points] == every
    assert {point.verdict for point in points} >= {ACCEPTABLE}
    assert all(point.seconds is None for point in points), "nothing was timed"
    grain = {point.configuration: point.figures["grain"].value for point in points}
    assert grain[BASE] < grain[BASE.replace({"samples.max": 8})]
    assert not steps_of(driver, Deriving(every)), "it is known for good"


def test_what_is_asked_for_later_is_derived_whatever_was_before(driver: Driver) -> None:
    """How far the last list came says nothing of another one, wherever that lies in memory."""
    first, second = BASE.replace({"samples.max": 8}), BASE.replace({"bounces.total": 1})
    for wanted in ([BASE, first], [second, BASE]):
        steps_of(driver, Deriving(list(wanted)))

    assert all(derived_of(driver.state, one) is not None for one in (BASE, first, second))
    before = driver.state.progress
    again = Deriving([BASE, first])
    assert again.propose(driver.state, 0.0).step is None
    assert all(not isinstance(part, int) for key in before if key[0] == "deriving" for part in key)


def test_once_something_was_timed_the_time_of_all_is_foreseen(driver: Driver) -> None:
    steps_of(driver, Sweeping(trials=(BASE,)))
    every = list(combinations(driver.state.plan))
    steps_of(driver, Deriving(every))
    points = {p.configuration: p for p in field_of(driver.state, driver.snapshot.results, every)}
    fewer = points[BASE.replace({"samples.max": 8})].seconds
    own = points[BASE].seconds
    assert fewer is not None
    assert own is not None
    assert fewer.low < fewer.value < fewer.high < own.value
    assert own.low <= points[BASE].trial.seconds.value <= own.high


def test_runs_show_that_what_was_derived_is_right(driver: Driver) -> None:
    """They have the seeds of recorded chunks, and their pictures are compared with nothing else."""
    steps = steps_of(driver, Sweeping())
    expected = [step for step in steps if isinstance(step, RunStep) and step.expected]
    assert len(expected) >= 2 * (len(driver.state.planned) - 1)
    assert driver.state.proofs[driver.state.reference_name] == Proofs(same=len(expected))
    assert driver.state.results.of_chunks == {step.picture for step in expected}

    trials = driver.snapshot.results.trials
    assert all(trial.is_whole and trial.derived and not trial.unmeasured for trial in trials)
    measured = [name for step in steps if isinstance(step, MeasureStep) for name in step.pictures]
    assert driver.state.results.of_chunks.isdisjoint(measured)


def test_another_picture_than_was_derived_ends_deriving(driver: Driver) -> None:
    other = BASE.replace({"samples.max": 8})
    steps_of(driver, Deriving([other]))
    known = derived_of(driver.state, other)
    wrong = replace(known, pixels=dict.fromkeys(known.pixels, "0" * 64))
    driver.study.keep([wrong])

    steps_of(driver, Sweeping(trials=(BASE, other)))
    assert driver.state.proofs[driver.state.reference_name].other == 1
    assert "a fault of this program" in why_nothing_is_recorded(driver.state)
    assert any("a fault of this program" in words for _, _, words in driver.words())
    assert derived_of(driver.state, other) is None, "nothing that was derived counts"

    trial = next(t for t in driver.snapshot.results.trials if t.configuration == other)
    assert not trial.derived
    assert trial.figures["grain"] is not None, "it is measured from renders"


def test_a_recording_that_is_damaged_is_made_again(driver: Driver) -> None:
    steps_of(driver, Deriving([BASE]))
    path = Folder(driver.path).recording(driver.state.reference_name, 0)
    path.write_bytes(path.read_bytes()[:1000])

    other = BASE.replace({"samples.max": 8})
    steps = steps_of(driver, Deriving([other]))
    assert [type(step) for step in steps] == [DeriveStep, RecordStep, DeriveStep]
    assert derived_of(driver.state, other).areas
    assert any("a recording is not the one that was written" in t for _, _, t in driver.words())


def test_values_that_are_tried_later_are_recorded_then(driver: Driver) -> None:
    steps_of(driver, Deriving([BASE]))
    later = BASE.replace({"bounces.total": 2})
    assert not recorded_for(driver.state, later)
    sweep = Sweep("one at a time", {"bounces.total": (2,)})
    driver.settle(
        driver.edit("Try 2 bounces", lambda plan: replace(plan, sweeps=(*plan.sweeps, sweep)))
    )
    steps = steps_of(driver, Deriving([later]))
    assert sum(isinstance(step, RecordStep) for step in steps) >= 2
    assert derived_of(driver.state, later).areas


@pytest.mark.parametrize(
    "driver", [replace(SMALL, base=BASE.replace({"light.caustics": "none"}))], indirect=True
)
def test_a_base_that_leaves_out_light_for_good_is_not_derived(driver: Driver) -> None:
    """Its paths take other directions than those of the reference."""
    assert steps_of(driver, Deriving([driver.state.plan.base])) == []
    assert "caustics" in why_nothing_is_recorded(driver.state)


def test_an_area_that_is_watched_later_has_figures_too(driver: Driver) -> None:
    steps_of(driver, Deriving([BASE]))
    area = WatchArea("jar", 2, 2, 12, 10)
    driver.settle(driver.edit("Watch the jar", lambda plan: replace(plan, areas=(area,))))
    assert derived_of(driver.state, BASE) is None
    steps_of(driver, Deriving([BASE]))
    (point,) = field_of(driver.state, driver.snapshot.results, [BASE])
    assert point.figures[f"grain{AREA_MARK}jar"] is not None


@pytest.mark.parametrize(
    "driver", [replace(SMALL, base=BASE.replace({"samples.max": 256}))], indirect=True
)
def test_a_base_of_more_samples_than_a_recording_has_is_rendered(driver: Driver) -> None:
    assert steps_of(driver, Deriving([driver.state.plan.base])) == []
    assert "the base takes 256 samples" in why_nothing_is_recorded(driver.state)


def test_derive_and_field_from_the_command_line(tmp_path: Path, capsys) -> None:
    path = tmp_path / "a.study"
    create_study(path, replace(SMALL, size=(16, 9)))
    picture = tmp_path / "derived.exr"
    assert run(["derive", str(path), "samples.max=8", "-o", str(picture)]) == 0
    out = capsys.readouterr().out
    assert "8 samples" in out
    assert picture.is_file()

    assert run(["derive", str(path), "samples.max=9"]) == 2
    assert "made for other values" in capsys.readouterr().err
    assert run(["derive", str(path), "samples.max"]) == 2
    assert "expected KEY=VALUE" in capsys.readouterr().err

    table = tmp_path / "field.csv"
    assert run(["field", str(path), "-o", str(table)]) == 0
    rows = table.read_text().splitlines()
    assert rows[0].startswith("samples.max,bounces.total,denoise.method,foreseen_seconds")
    assert len(rows) == 9
    assert {row.split(",")[10] for row in rows[1:]} <= {ACCEPTABLE, NOT_ACCEPTABLE, "undecided"}


def test_what_each_change_of_the_pick_is_worth_is_told_by_the_recordings(driver: Driver) -> None:
    both = BASE.replace({"samples.max": 8, "denoise.method": "wavelet"})
    driver.study.keep([TrialChosen(driver.state.here, both.identity_values(), "fewer samples")])
    steps_of(driver, Deriving([BASE, both, *without_each(both, BASE).values()]))
    steps_of(driver, Sweeping(trials=(BASE, both)))

    results = driver.snapshot.results
    trial = next(t for t in results.trials if t.configuration == both)
    without = taken_back(driver.state, results, both)
    assert set(without) == {"samples.max", "denoise.method"}
    assert without["samples.max"].configuration == BASE.replace({"denoise.method": "wavelet"})

    words = worth_words(trial, without["samples.max"], results.wanted)
    assert words.endswith("× faster, foreseen")
    strict = replace(without["denoise.method"], verdict=NOT_ACCEPTABLE)
    assert worth_words(trial, strict, results.wanted).startswith("needed: ")
    assert without_each(BASE.replace({"samples.max": 8}), BASE) == {}

"""Two study folders measured apart and put together: all is there once, and nothing mixes."""

import shutil
import sqlite3
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.errors import StudyError
from swift_sample.core.machine import Machine, this_machine
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.registry import RENDERERS
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.kinds import kinds_of, paces_of
from swift_sample.core.study.log.state import StudyState, validate
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.package.merge import merge_study
from swift_sample.core.study.plan.model import Study, Sweep
from tests.core.renderers.known import COUNT, SEEDED
from tests.core.study.states import only_limits

SLOWER = replace(this_machine(), threads=64)


@pytest.fixture(autouse=True)
def seeded(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(RENDERERS, "seeded", lambda: SEEDED)


@pytest.fixture
def path(tmp_path: Path) -> Path:
    base = Configuration(SEEDED.catalogue, {COUNT.key: 16})
    sweeps = (Sweep("one at a time", {COUNT.key: (4, 16)}),)
    plan = Study(
        name="S",
        scene="wall",
        size=(16, 9),
        view=View(),
        base=base,
        repeats=2,
        sweeps=sweeps,
        limits=only_limits(grain=40.0, rms=40.0),
    )
    return create_study(tmp_path / "a.study", plan)


def measure(path: Path, machine: Machine | None = None) -> StudyState:
    driver = Driver(Store.open(path), machine=machine)
    assert driver.run_here(Sweeping()).finished
    driver.close()
    return driver.state


def state_of(path: Path) -> StudyState:
    with look_at_study(path) as reading:
        state = read_snapshot(reading).state
    validate(state)
    return state


def test_what_two_computers_measured_is_in_one_study(path: Path) -> None:
    other = path.with_name("b.study")
    shutil.copytree(path, other)
    here = measure(path)
    there = measure(other, SLOWER)
    merged = merge_study(path, other)
    assert merged.runs == len(there.results.runs)
    assert merged.left_out == ()
    state = state_of(path)
    assert len(state.results.runs) == len(here.results.runs) + len(there.results.runs)
    kinds = kinds_of(state)
    assert [kind.is_here for kind in kinds] == [True, False]
    assert [kind.runs for kind in kinds] == [len(here.results.runs), len(there.results.runs)]
    assert [run.finished_at for run in state.results.runs if run.machine == kinds[1].machine] == [
        run.finished_at for run in there.results.runs
    ]
    with look_at_study(path) as reading:
        assert all(reading.record(run.number) is not None for run in state.results.runs)

    assert all((path / "pictures" / run.picture).is_file() for run in state.results.runs)
    # Once more, and of a study that has been merged already: nothing comes twice.
    again = merge_study(path, other)
    assert (again.runs, again.measurements, again.references) == (0, 0, 0)
    assert len(state_of(path).results.runs) == len(state.results.runs)


def test_two_computers_of_a_kind_are_told_apart(path: Path) -> None:
    """They drew the same pictures, and took their own times: both count, and whether they keep one
    pace is asked."""
    other = path.with_name("workshop.study")
    shutil.copytree(path, other)
    here = measure(path)
    there = measure(other)
    assert {run.picture for run in here.results.runs} == {run.picture for run in there.results.runs}
    assert merge_study(path, other).runs == len(there.results.runs)
    state = state_of(path)
    assert {run.host for run in state.results.runs} == {"", "workshop"}
    assert {pace.host for pace in paces_of(state, state.machine)} == {"", "workshop"}
    assert len(state.results.runs_on(state.base.id, state.machine)) == 2 * len(
        here.results.runs_on(here.base.id, here.machine)
    )
    assert (Sweeping().propose(state, 0.0).step is None) or not state.wanting


def test_a_picture_that_is_lost_or_damaged_costs_its_run(path: Path) -> None:
    other = path.with_name("b.study")
    shutil.copytree(path, other)
    there = measure(other, SLOWER)
    first, second = sorted({run.picture for run in there.results.runs})[:2]
    (other / "pictures" / first).unlink()
    (other / "pictures" / second).write_bytes(b"something else")
    merged = merge_study(path, other)
    assert len(merged.left_out) == sum(run.picture in (first, second) for run in there.results.runs)
    assert merged.runs == len(there.results.runs) - len(merged.left_out)
    assert {run.picture for run in state_of(path).results.runs}.isdisjoint({first, second})


def test_what_cannot_be_merged_is_said_in_one_sentence(
    path: Path, tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    with pytest.raises(StudyError, match="is the same study"):
        merge_study(path, path)

    assert run(["new", str(tmp_path / "o.study"), "--scene", "honey-stall-small"]) == 0
    capsys.readouterr()
    assert run(["merge", str(path), str(tmp_path / "o.study")]) == 1
    assert "is of the renderer built-in" in capsys.readouterr().err
    assert run(["merge", str(path), str(tmp_path / "none")]) == 1
    assert "not a study" in capsys.readouterr().err


def test_studies_of_different_scenes_stay_apart(path: Path) -> None:
    """U10: their runs would be added where nobody sees them."""
    other = path.with_name("b.study")
    shutil.copytree(path, other)
    text = (other / "study.toml").read_text()
    (other / "study.toml").write_text(text.replace('scene = "wall"', 'scene = "floor"'))
    measure(path)
    measure(other)
    with pytest.raises(StudyError, match="is of another scene"):
        merge_study(path, other)


def test_a_number_that_is_too_large_is_left_out_and_told(path: Path) -> None:
    """S10: JSON knows numbers that a database does not."""
    other = path.with_name("b.study")
    shutil.copytree(path, other)
    measure(path)
    measure(other, SLOWER)
    with closing(sqlite3.connect(other / "results.db", isolation_level=None)) as database:
        database.execute("UPDATE runs SET block = 1e30")

    before = state_of(path).records

    merged = merge_study(path, other)

    assert state_of(path).records == before
    assert any("cannot be read and is left out" in words for words in merged.left_out)

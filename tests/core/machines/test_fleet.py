"""Studies measured on machines that are processes of this computer: what they share, and what
happens when something is wrong with one of them. Nothing finished is lost, nothing is mixed, and
the words say what happened."""

import os
import signal
import threading
from collections.abc import Callable, Set
from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.machines import agent
from swift_sample.core.machines import fleet as fleet_module
from swift_sample.core.machines.fleet import Fleet
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.study.answers.kinds import AGREES, APART, OPEN, kinds_of, on_all
from swift_sample.core.study.log.state import validate
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import Ended, Notice, StepStarted
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.steps import ChunkStep, MeasureStep, ReferenceStep, RunStep
from tests.core.machines.meeting import Meeting
from tests.core.renderers.known import BATCH, NOISE
from tests.core.study.states import only_limits

MOST_SECONDS = 60.0
Open = Callable[..., Driver]


def measured(
    driver: Driver,
    meeting: Meeting,
    on_notice: Callable[[Notice], None] = lambda _: None,
    together: Set[str] = frozenset(),
    **how: object,
) -> Ended:
    """Measure to the end on the machines that meet there; what the log gives is what was seen. No
    run begins before those that are named `together` have something in hand, however long one of
    them takes to be ready."""
    missing = set(together)

    def hear(notice: Notice) -> None:
        if missing and isinstance(notice, StepStarted):
            missing.discard(notice.host)
            if not missing:
                meeting.held.unlink()

        on_notice(notice)

    if missing:
        meeting.held.touch()

    driver.listen(hear)
    late = threading.Timer(MOST_SECONDS, driver.stop)
    late.start()
    fleet = Fleet(meeting.address, None, bool(how.pop("unprotected", False)))
    ended = driver.run_here(how.pop("policy", Sweeping()), fleet, **how)
    late.cancel()
    late.join()
    meeting.held.unlink(missing_ok=True)
    validate(driver.state)
    fresh = driver.study.store.load()
    for name in ("plan", "records", "references", "chunks", "apart"):
        assert getattr(fresh, name) == getattr(driver.state, name), name

    pictures = {path.name for path in driver.snapshot.folder.pictures.glob("*.exr")}
    assert pictures == {
        run.picture
        for records in driver.state.records.values()
        for run in records.runs
        if run.picture
    }
    return ended


def words_of(driver: Driver) -> str:
    return "\n".join(text for _, kind, text in driver.words() if kind == "machines")


def test_machines_of_a_kind_share_the_trials(meeting: Meeting, open_study: Open) -> None:
    """Each run is made once, on one of them, with controls of its own; the reference is rendered on
    both and merged here."""
    meeting.join("left", processors="0")
    meeting.join("right", processors="1")
    driver = open_study()
    started = []
    ended = measured(
        driver,
        meeting,
        lambda n: started.append(n) if isinstance(n, StepStarted) else None,
        together={"left", "right"},
    )
    assert ended == Ended(True, None, "everything that was planned is measured")
    (kind,) = kinds_of(driver.state)
    assert not kind.is_here
    assert {run.host for run in driver.state.results.runs} == {"left", "right"}

    for trial in kind.results.trials:
        blocks = [run.block for run in trial.runs if not run.control]
        assert sorted(blocks) == list(range(len(blocks))), "no run is made twice"
        assert trial.is_on_map

    assert {pace.host for pace in kind.paces} == {"left", "right"}
    assert all(pace.bases >= 2 and pace.verdict in (AGREES, OPEN) for pace in kind.paces)
    where = {
        type(notice.step): {n.host for n in started if type(n.step) is type(notice.step)}
        for notice in started
    }
    assert where[RunStep] == {"left", "right"}
    assert where[MeasureStep] | where[ChunkStep] <= {"left", "right"}
    assert where[ReferenceStep] == {""}, "merged here"
    reference = driver.state.reference
    assert reference is not None
    assert reference.samples == 96 + 128 * (reference.chunks - 1)
    assert not driver.state.chunks
    assert list(driver.snapshot.folder.references.glob("*-chunk-*")) == []


def test_kinds_of_machines_stand_side_by_side(meeting: Meeting, open_study: Open) -> None:
    """Their times never mix, and each has its own best batch; what is acceptable on both is
    told."""
    meeting.join("one", processors="0")
    meeting.join("both", processors="0,1")
    driver = open_study()
    ended = measured(driver, meeting)
    assert ended.finished
    kinds = {kind.results.base.runs[0].host: kind for kind in kinds_of(driver.state)}
    assert set(kinds) == {"one", "both"}

    for host, kind in kinds.items():
        assert {run.host for trial in kind.results.trials for run in trial.runs} == {host}
        assert kind.results.pick() is not None

    assert kinds["one"].best[BATCH.key][0] == 1, "half the time on one processor"
    assert kinds["both"].best[BATCH.key][0] == 4
    assert kinds["both"].best[BATCH.key][1].value == pytest.approx(2.0, rel=0.2)
    shared = on_all(tuple(kinds.values()))
    assert shared is not None
    assert all(figure.value > 2 for figure in shared.factors.values())


def test_one_that_is_ten_times_slower_is_kept_apart(meeting: Meeting, open_study: Open) -> None:
    """Its controls show it; it goes on with the reference, and its times stay out of the
    others'."""
    meeting.join("left", processors="0")
    meeting.join("slow", "slow", processors="1")
    driver = open_study(repeats=4)
    ended = measured(driver, meeting)
    assert ended.finished
    assert "does not keep their pace" in "\n".join(text for _, _, text in driver.words())
    kinds = {kind.machine.partition("@")[2]: kind for kind in kinds_of(driver.state)}
    paces = {pace.host: pace for pace in kinds[""].paces}
    assert paces["slow"].verdict == APART
    assert paces["slow"].against.value == pytest.approx(0.1, rel=0.3)
    assert {run.host for trial in kinds[""].results.trials for run in trial.runs} == {"left"}
    assert all(trial.is_on_map for trial in kinds[""].results.trials)


@pytest.mark.parametrize(
    ("oddity", "words"),
    [
        (
            "version",
            (
                "odd is not used: its renderer is of version 2, here it is 1; results of different "
                "versions do not mix"
            ),
        ),
        ("liar", "odd is not used: it renders other pixels: 100% of a tile"),
        ("disk", "odd: [Errno 28] the disk of"),
    ],
)
def test_one_that_cannot_be_used_is_told_and_not_mixed(
    meeting: Meeting, open_study: Open, oddity: str, words: str
) -> None:
    meeting.join("left", processors="0")
    meeting.join("odd", oddity, processors="1")
    driver = open_study(repeats=2)
    ended = measured(driver, meeting)
    assert ended.finished
    assert words in words_of(driver)
    assert {run.host for run in driver.state.results.runs} == {"left"}


def test_a_wrong_clock_is_told_and_dates_nothing(meeting: Meeting, open_study: Open) -> None:
    meeting.join("ahead", "clock")
    driver = open_study(repeats=2)
    before = driver.words()[0][0]
    assert measured(driver, meeting).finished
    assert "ahead: its clock is 2 h ahead; runs are dated by this computer's clock" in words_of(
        driver
    )
    dates = [run.finished_at for run in driver.state.results.runs]
    assert dates == sorted(dates)
    assert before < dates[0] < dates[-1] <= driver.words()[-1][0]


def test_a_machine_that_dies_in_a_render_costs_that_render(
    meeting: Meeting, open_study: Open
) -> None:
    meeting.join("left", processors="0")
    meeting.join("right", processors="1")
    driver = open_study()
    killed = []

    def kill(notice: Notice) -> None:
        if (
            isinstance(notice, StepStarted)
            and isinstance(notice.step, RunStep)
            and notice.host == "right"
            and not killed
        ):
            killed.append(notice.step)
            threading.Timer(0.02, meeting.kill, ["right"]).start()

    ended = measured(driver, meeting, kill, together={"left", "right"})
    assert ended.finished
    (step,) = killed
    assert f"right left; {step.words(driver.state.plan.base)} is begun anew" in words_of(driver)
    assert all(run.result is not None for run in driver.state.results.runs), (
        "no run of a trial failed by that"
    )
    assert all(trial.is_on_map for kind in kinds_of(driver.state) for trial in kind.results.trials)


def test_a_scene_travels_once(
    meeting: Meeting, open_study: Open, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """From here to one of them, from that to the others: also to one that forgets it and gets it
    again, and to one that dies on the way, which is told."""
    scene = tmp_path / "wall.bin"
    fleets = []
    scene.write_bytes(os.urandom(2 * agent.PIECE_BYTES + 12345))
    monkeypatch.setattr(
        Fleet, "open", lambda self, *a, own=Fleet.open: (fleets.append(self), own(self, *a))[1]
    )
    meeting.join("left", processors="0")
    meeting.join("right", processors="1")
    driver = open_study(scene=str(scene), repeats=2)
    assert measured(driver, meeting, together={"left", "right"}).finished
    assert {run.host for run in driver.state.results.runs} == {"left", "right"}
    assert (
        scene.stat().st_size <= fleets[0].shipping.bytes_from_here < 1.2 * scene.stat().st_size
    ), "pictures are small"
    meeting.end("right")
    meeting.join("third", "forgetful", processors="1")
    more = open_study("b", scene=str(scene), repeats=2)
    assert measured(more, meeting, together={"left", "third"}).finished
    assert "third" in {run.host for run in more.state.results.runs}
    assert fleets[1].shipping.bytes_from_here < 0.2 * scene.stat().st_size
    meeting.end("left")
    meeting.join("fourth", processors="0")
    taken = []
    take = fleet_module._Shipping._take

    def die_on_the_way(problem: str) -> None:
        taken.append(problem)
        if len(taken) == 2:
            meeting.kill("fourth")
            meeting.held.unlink()

        take(problem)

    monkeypatch.setattr(fleet_module._Shipping, "_take", staticmethod(die_on_the_way))
    last = open_study("c", scene=str(scene), repeats=2)
    meeting.held.touch()
    assert measured(last, meeting).finished
    assert len(taken) >= 2
    assert "fourth left" in words_of(last)
    assert "fourth" not in {run.host for run in last.state.results.runs}


def test_dying_while_the_reference_is_merged_loses_nothing(
    meeting: Meeting, open_study: Open
) -> None:
    """This computer's worker, which merges, and a machine at the same moment."""
    meeting.join("left", processors="0")
    meeting.join("right", processors="1")
    driver = open_study(limits=only_limits(grain=0.4, rms=20.0))
    killed = []

    def kill(notice: Notice) -> None:
        if (
            isinstance(notice, StepStarted)
            and isinstance(notice.step, ReferenceStep)
            and not killed
        ):
            killed.append(driver.worker_pid)
            os.kill(driver.worker_pid, signal.SIGKILL)
            meeting.kill("right")

    ended = measured(driver, meeting, kill)
    assert ended.finished
    assert killed
    reference = driver.state.reference
    assert reference.samples == 96 + 128 * (reference.chunks - 1)
    halves = read_exr(driver.snapshot.reference_path).halves
    noise = float(np.std(halves[0] - halves[1]))
    assert noise == pytest.approx(2 * NOISE / np.sqrt(reference.samples), rel=0.15), (
        "each sample is in it once"
    )


def test_the_study_outlives_its_meeting_place(meeting: Meeting, open_study: Open) -> None:
    """Killed in the middle and begun again: what was finished is there, the machines come back, the
    rest is measured."""
    meeting.join("left", processors="0")
    driver = open_study()
    runs = []

    def kill(notice: Notice) -> None:
        if isinstance(notice, StepStarted) and isinstance(notice.step, RunStep):
            runs.append(notice.step)
            if len(runs) == 4:
                meeting.kill("meeting place")
                threading.Timer(3.0, meeting.open).start()

    ended = measured(driver, meeting, kill)
    assert ended.finished
    said = words_of(driver)
    assert f"the machines' meeting place {meeting.address} was begun anew" in said
    assert said.count("left has joined") == 2
    assert all(trial.is_on_map for kind in kinds_of(driver.state) for trial in kind.results.trials)


def test_two_studies_share_machines_and_nothing_else(meeting: Meeting, open_study: Open) -> None:
    meeting.join("left", processors="0")
    drivers = [open_study("a", repeats=2), open_study("b", repeats=2)]
    ended: list[Ended] = []
    threads = [
        threading.Thread(target=lambda d=driver: ended.append(measured(d, meeting)))
        for driver in drivers
    ]
    for thread in threads:
        thread.start()

    for thread in threads:
        thread.join()

    assert [one.finished for one in ended] == [True, True]
    spans = []

    for driver in drivers:
        runs = driver.state.results.runs
        assert {run.host for run in runs} == {"left"}
        assert all(
            trial.is_on_map for kind in kinds_of(driver.state) for trial in kind.results.trials
        )
        spans.append((runs[0].finished_at, runs[-1].finished_at))

    assert max(first for first, _ in spans) < min(last for _, last in spans), "they took turns"


def test_without_anyone_there_it_says_so(open_study: Open) -> None:
    driver = open_study()
    ended = driver.run_here(Sweeping(), Fleet("127.0.0.1:9"))
    assert not ended.finished
    assert "tcp://127.0.0.1:9: no machines can be reached there" in ended.problem
    assert "begin with `swift-sample machines start`" in ended.problem

"""Several machines in one study's results: what is pooled, what is kept apart, and what stands side
by side."""

from dataclasses import replace

import numpy as np
import pytest

from swift_sample.core.measure.drift import TimedRun, correct_drift
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.answers.kinds import (
    AGREES,
    APART,
    OPEN,
    apart_by_controls,
    kind_sentences,
    kinds_as_data,
    kinds_of,
    on_all,
    paces_of,
)
from swift_sample.core.study.log.events import HostApart, MachineShown, Run
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.policies.proposal import Hand, InHand
from swift_sample.core.study.measuring.policies.sweep import FIRST_CONTROLS, RUNS_BETWEEN_CONTROLS
from swift_sample.core.study.measuring.steps import ChunkStep, RunStep
from swift_sample.core.study.plan.model import Study, Sweep
from tests.core.study.states import HERE, Happenings, on_two_machines, only_limits

BASE = configured({"samples.max": 32})
STUDY = Study(
    name="s",
    scene="honey-stall",
    size=(64, 36),
    base=BASE,
    repeats=2,
    limits=only_limits(grain=2.0),
    sweeps=(Sweep("one at a time", {"samples.max": (8, 32), "tiles.size": (8, 64)}),),
)
CHEAP = BASE.replace({"samples.max": 8})
SMALL = BASE.replace({"tiles.size": 8})
GRAIN = {"grain": (1.0, 0.9, 1.1)}


def shared(seconds: dict[str, list[float]]) -> Happenings:
    """A study whose base took these seconds on machines of one kind."""
    made = Happenings(STUDY)
    for block, (host, times) in enumerate(seconds.items()):
        for time in times:
            made.run(BASE, time, block, control=True, host=host)

    return made


def test_only_what_measurably_differs_is_kept_apart() -> None:
    close = shared({"left": [1.0, 1.01, 0.99] * 4, "right": [1.01, 1.0, 1.0] * 4})
    assert [pace.verdict for pace in paces_of(close.state, "machine")] == [AGREES, AGREES]
    assert apart_by_controls(close.state, "machine", "right") == []
    few = shared({"left": [1.0, 1.0, 1.0], "right": [1.3]})
    assert [pace.verdict for pace in paces_of(few.state, "machine")] == [OPEN, OPEN]
    assert paces_of(shared({"left": [1.0] * 5}).state, "machine") == ()
    off = shared({"left": [1.0, 1.01, 0.99, 1.0], "right": [1.5, 1.49, 1.52]})
    assert apart_by_controls(off.state, "machine", "left") == [], "it is the faster one"
    (event,) = apart_by_controls(off.state, "machine", "right")
    assert (event.machine, event.host) == ("machine", "right")
    assert event.why.startswith(
        "right does not keep their pace: 0.67 times as fast as the others (0.6"
    )
    state = off.happen(event)
    assert {run.machine for run in state.results.runs if run.host == "right"} == {"machine@right"}
    assert [pace.verdict for pace in paces_of(state, "machine")] == [OPEN, APART]
    assert apart_by_controls(state, "machine", "right") == [], "told once"
    later = off.run(BASE, 1.5, 5, host="right")
    assert later.machine == "machine", "as it is told"
    assert off.state.results.runs[-1].machine == "machine@right", "and as it is filed"


def test_equal_machines_are_hardly_ever_kept_apart() -> None:
    """Three machines with 3 % of scatter, and every twentieth run a third slower, looked at after
    every control: in 300 studies no more than 9 (3 %) lose one."""
    rng = np.random.default_rng(5)
    lost = 0

    for _ in range(300):
        made = Happenings(STUDY)
        for control in range(6):
            for host in ("a", "b", "c"):
                seconds = float(np.exp(0.03 * rng.normal()) * (1.3 if rng.random() < 0.05 else 1.0))
                made.run(BASE, seconds, control, control=True, host=host)

                if apart_by_controls(made.state, "machine", host):
                    lost += 1
                    break
            else:
                continue

            break

    assert lost <= 9


def test_each_machine_has_neighbours_of_its_own() -> None:
    """One drifts by a third, the other is steady: what is taken out of the one is not put into the
    other."""
    rng = np.random.default_rng(2)
    runs = []

    for number in range(96):
        host = ("left", "right")[number % 2]
        place = number // 2
        drift = 0.3 * np.sin(place / 8) if host == "left" else 0.0
        trial = int(rng.integers(8))
        runs.append(
            TimedRun(number, trial, float((1 + trial) * np.exp(drift + 0.01 * rng.normal())), host)
        )

    apart = correct_drift(runs)
    mixed = correct_drift(replace(run, host="") for run in runs)

    def scatter(found) -> float:  # type: ignore[no-untyped-def]
        return float(
            np.std(
                [np.log(run.seconds / found.factor(run.number) / (1 + run.trial)) for run in runs]
            )
        )

    assert scatter(apart) < 0.6 * scatter(mixed)
    steady = [apart.factor(run.number) for run in runs if run.host == "right"]
    assert np.std(np.log(steady)) < 0.05


def test_hands_share_the_runs_and_the_reference() -> None:
    """No two have the same, and each renders the base at first and again after a few runs."""
    made = Happenings(replace(STUDY, repeats=12))
    in_hand = InHand()
    hosts = ("left", "right", "third")
    given = []

    for _ in range(3):
        step = Sweeping().propose(made.state, 0.0, Hand(hosts[len(given)], in_hand)).step
        given.append(step)
        in_hand.add(step)

    assert isinstance(given[0], ChunkStep)
    assert [type(step) for step in given[1:]] == [RunStep, RunStep]
    assert len({(step.trial.id, step.block) for step in given[1:]}) == 2
    first = given[1]
    in_hand.remove(first, False)
    again = Sweeping().propose(made.state, 0.0, Hand("right", in_hand)).step
    assert (again.trial.id, again.block) == (first.trial.id, first.block), (
        "what comes back undone is the next again"
    )
    made = Happenings(replace(STUDY, repeats=12))
    made.reference(chunks=1, floor=0.1)
    done = {host: [] for host in hosts}

    for number in range(60):
        host = hosts[number % 3]
        step = Sweeping().propose(made.state, 0.0, Hand(host)).step

        if not isinstance(step, RunStep):
            made.measure(step.configuration, GRAIN)
            continue

        done[host].append(step.trial.id == made.state.base.id)
        made.run(step.configuration, 1.0, step.block, step.control, host=host)

    for own in done.values():
        assert own[0]
        others = [k for k, is_base in enumerate(own) if not is_base]
        assert sum(own) >= sum(
            len(others) > after
            for after in (*FIRST_CONTROLS, FIRST_CONTROLS[-1] + RUNS_BETWEEN_CONTROLS)
        )

    seeds = [(run.trial, run.block) for run in made.state.results.runs if not run.control]
    assert len(set(seeds)) == len(seeds)


def test_whose_pace_is_not_known_renders_the_base_once_more_though_nothing_else_is_left() -> None:
    made = Happenings(replace(STUDY, repeats=2))
    made.reference(chunks=1, floor=0.1)

    def work(host: str, most: int = 99) -> list[bool]:
        """Runs made by one host, whether of the base, until it gets no more."""
        bases: list[bool] = []
        while len(bases) < most:
            step = Sweeping().propose(made.state, 0.0, Hand(host)).step
            if step is None:
                break

            if isinstance(step, RunStep):
                bases.append(step.trial.id == made.state.base.id)
                made.run(step.configuration, 1.0, step.block, step.control, host=host)
            else:
                made.measure(step.configuration, GRAIN)

        return bases

    assert work("left", 1) == [True]
    assert work("slow", 1) == [True]
    assert len(work("left")) > 2
    assert work("slow") == [True]
    assert work("third") == [], "who has made no run needs no control"


def test_kinds_stand_side_by_side_with_what_holds_on_all() -> None:
    made = on_two_machines()
    here, there = kinds_of(made.state)
    assert (here.is_here, there.is_here) == (True, False)
    assert here.results.pick().trial.configuration == CHEAP
    assert there.results.pick().trial.configuration == SMALL
    assert here.best["tiles.size"][0] == there.best["tiles.size"][0] == 8
    assert there.best["tiles.size"][1].value == pytest.approx(4.0, rel=0.01)
    both = on_all((here, there))
    # Cheap is 2.0 and 1.33 times as fast, small tiles 1.11 and 4.0: the first helps most where it
    # helps least.
    assert both.trial == made.state.trial_of(CHEAP).id
    assert [round(figure.value, 2) for figure in both.factors.values()] == [2.0, 1.33]
    said = kind_sentences((here, there))
    assert (
        said[-1] == "On all of them 8 samples is acceptable: 2.00, 1.33 times as fast as the base."
    )
    data = kinds_as_data((here, there))
    assert [one["runs"] for one in data["machines"]] == [9, 9]
    assert data["on_all"] is not None


def test_times_of_another_machine_can_be_looked_at() -> None:
    made = on_two_machines()
    own = made.snapshot()
    assert own.results.base.seconds.value == pytest.approx(2.0, rel=0.01)
    made.happen(MachineShown("other"))
    shown = made.snapshot()
    assert shown.results.base.seconds.value == pytest.approx(8.0, rel=0.01)
    assert {run.machine for run in shown.runs} == {"other"}
    made.happen(MachineShown(""))
    assert made.state.machine == HERE.machine


def test_a_run_says_where_it_was_made_for_good() -> None:
    made = on_two_machines()
    before: list[Run] = list(made.state.results.runs)
    made.happen(HostApart("other", "h-other", "it is slower"))
    moved = [run for run in made.state.results.runs if run.machine == "other@h-other"]
    assert [replace(run, machine="other") for run in moved] == [
        run for run in before if run.machine == "other"
    ]
    assert made.state.results.made_on("other@h-other", "h-other", made.state.base.id) == (9, 3)

"""Whether an answer holds at another size or frame."""

from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.holding import (
    CANNOT_TELL,
    DOES_NOT,
    HOLDS,
    Elsewhere,
    answers,
    as_data,
    candidates,
    compare,
    sentences,
)
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.events import Named
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies import Holding, Sweeping
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.steps import ReferenceStep, RunStep
from swift_sample.core.study.plan.model import Study, WatchArea
from tests.core.study.states import HERE, Happenings, Range, measured, only_limits

BASE = configured({"samples.max": 100})
FEW = BASE.replace({"samples.max": 50})
FEWER = BASE.replace({"samples.max": 45})
STUDY = Study(
    name="s", scene="honey-stall", size=(320, 180), base=BASE, limits=only_limits(grain=2.0)
)
GOOD: dict[str, Range | None] = {"grain": (1.0, 0.9, 1.1)}
SMALL = (160, 90)


def here() -> Happenings:
    return measured(
        STUDY,
        {BASE: [10.0] * 3, FEW: [5.0] * 3, FEWER: [5.5] * 3},
        dict.fromkeys((BASE, FEW, FEWER), GOOD),
    )


def compared(seconds: dict[Configuration, float], grain: Range = (1.0, 0.9, 1.1)):
    """What was measured here, and the same at a quarter of the size with these times."""
    made = here()
    elsewhere = Elsewhere(SMALL, 0, candidates(collect(made.state)))
    own = made.state
    made.state = elsewhere.state(own)

    for configuration, one in seconds.items():
        for block in range(3):
            made.run(configuration, one * (1 + 0.005 * block), block)

    for configuration in seconds:
        made.measure(configuration, {"grain": grain} if configuration == FEW else GOOD)

    state = replace(made.state, plan=own.plan)
    return compare(collect(state), state, elsewhere)


def test_what_was_checked_elsewhere_is_not_what_was_measured_before() -> None:
    """A size at which one trial was rendered last; at a third size, that of all trials is the one
    to go back to."""
    made = Happenings(replace(STUDY, size=SMALL))
    made.run(BASE, 2.5, 0, at="2026-01-03T03:04:05.000+00:00")
    made.state = Elsewhere(STUDY.size, 0, ()).state(made.state)
    for configuration in (BASE, FEW, FEWER):
        made.run(configuration, 10.0, 0)

    state = Elsewhere((64, 36), 0, ()).state(made.state)
    snapshot = Snapshot(state, Folder(Path("none")), RENDERER)
    assert sorted(version.trials for version in snapshot.versions) == [1, 3]
    assert snapshot.hidden is not None
    assert snapshot.hidden.trials == 3


def test_base_pick_and_runners_up_are_looked_at() -> None:
    assert candidates(collect(here().state)) == (BASE, FEW, FEWER)


@pytest.mark.parametrize(
    ("seconds", "grain", "verdict", "words"),
    [
        ({BASE: 2.5, FEW: 1.25, FEWER: 1.38}, (1.0, 0.9, 1.1), HOLDS, "the order stays"),
        (
            {BASE: 2.5, FEW: 1.9, FEWER: 1.38},
            (1.0, 0.9, 1.1),
            DOES_NOT,
            "50 samples is not faster there than 45 samples",
        ),
        ({BASE: 2.5, FEW: 0.5, FEWER: 1.38}, (1.0, 0.9, 1.1), DOES_NOT, "it is 5.0× "),
        (
            {BASE: 2.5, FEW: 1.25, FEWER: 1.38},
            (3.0, 2.9, 3.1),
            DOES_NOT,
            "50 samples is not acceptable there: grain 3.0",
        ),
        (
            {BASE: 2.5, FEW: 1.25, FEWER: 1.25},
            (1.0, 0.9, 1.1),
            CANNOT_TELL,
            "50 samples and 45 samples cannot be told apart",
        ),
        (
            {BASE: 2.5, FEW: 1.25},
            (1.0, 0.9, 1.1),
            CANNOT_TELL,
            "not everything was measured there yet",
        ),
    ],
)
def test_it_says_whether_order_and_factors_stay(
    seconds, grain: Range, verdict: str, words: str
) -> None:
    found = compared(seconds, grain)
    assert (found.verdict, words in "; ".join(found.reasons)) == (verdict, True), found.reasons
    assert sentences(found, BASE)[0].startswith(f"at 160x90, frame 0: {verdict}: ")
    assert as_data(found, BASE)["trials"][1]["here"]["seconds"][0] == pytest.approx(5.0)


def test_it_is_measured_as_any_place_is() -> None:
    """A reference of that place first, then runs there; the plan stays as it is."""
    made = here()
    policy = Holding(Elsewhere(SMALL, 2, candidates(collect(made.state))))
    step = policy.propose(made.state, 0.0).step
    assert isinstance(step, ReferenceStep)
    assert (step.spec.size, step.spec.frame) == (SMALL, 2)
    there = policy.elsewhere.state(made.state)
    assert there.here != made.state.here
    made.state = there
    made.reference()
    run = policy.propose(replace(made.state, plan=STUDY), 0.0).step
    assert isinstance(run, RunStep)
    assert (run.place, run.spec.size, run.trial.configuration) == (there.here, SMALL, BASE)


def test_watch_areas_stand_in_the_same_part_of_the_picture() -> None:
    study = replace(
        STUDY,
        areas=(
            WatchArea(name="jar", x=100, y=60, width=50, height=30),
            WatchArea(name="edge", x=310, y=170, width=10, height=10),
        ),
    )
    plan = Elsewhere(SMALL, 0, (BASE, FEW)).plan(study)
    assert [(a.x, a.y, a.width, a.height) for a in plan.areas] == [
        (50, 30, 25, 15),
        (155, 85, 5, 5),
    ]
    assert plan.planned() == [BASE, FEW]


def test_what_was_measured_elsewhere_is_found_again() -> None:
    """Every other size and frame of this scene; not where only a part was measured, nor another
    version of the scene."""
    made = here()
    own = made.state
    elsewhere = Elsewhere(SMALL, 3, candidates(collect(made.state)))
    made.state = elsewhere.state(own)
    place = made.state.here
    assert place is not None
    made.happen(Named("scene", place.scene, {"size": list(SMALL), "frame": 3}))

    def known(**changes: object):
        state = replace(made.state, plan=own.plan, **changes)
        return answers(collect(replace(own)), state)

    for configuration, seconds in ((BASE, 2.5), (FEW, 1.25)):
        for block in range(3):
            made.run(configuration, seconds, block)
        made.measure(configuration, GOOD)

    assert not known(), "a part of them, as frames of a sequence have it"
    for block in range(3):
        made.run(FEWER, 1.38, block)

    assert not known(), "there are no figures yet"
    made.measure(FEWER, GOOD)
    (answer,) = known()
    assert (answer.elsewhere.size, answer.elsewhere.frame, answer.verdict) == (SMALL, 3, HOLDS)
    assert not known(surroundings=replace(HERE, content=SceneContent("1" * 16)))


def test_an_answer_of_another_size_is_found_again_when_the_study_is_opened(driver: Driver) -> None:
    """The driver keeps what a place of another size is, so that the window and the report know the
    answer."""
    base = driver.state.plan.base
    assert driver.run_here(Sweeping()).finished
    plan = driver.state.plan
    size = (plan.size[0] * 2, plan.size[1] * 2)
    wanted = tuple(t.configuration for t in driver.snapshot.results.trials)[:2]
    assert wanted[0] == base
    assert driver.run_here(Holding(Elsewhere(size, plan.frame, wanted))).finished
    places = {driver.state.size_and_frame(place) for place in driver.state.records}
    assert places == {(plan.size, plan.frame), (size, plan.frame)}

"""The state under random sequences of everything that can happen: it holds together, replays to
itself from the log, and shows no figure under a name that is not the wanted one. The other copies
of a study (on disk, looked at) agree with it."""

import shutil
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import hypothesis.strategies as st
from hypothesis import HealthCheck, settings
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.events import (
    ChunkKept,
    ChunkLost,
    Event,
    FailuresForgiven,
    Happened,
    HostApart,
    MachineShown,
    Measured,
    Measurement,
    PictureLost,
    PlaceShown,
    PlanEdited,
    PlanRedone,
    PlanUndone,
    ReferenceGrew,
    ReferenceLost,
    RunFinished,
    RunResult,
    SearchConcluded,
    Surroundings,
    TrialChosen,
)
from swift_sample.core.study.log.grown import Grown
from swift_sample.core.study.log.identity import WHOLE, MeasurementKey, Place, Rectangle
from swift_sample.core.study.log.state import StudyState, apply, validate
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.measuring.policies import Remeasuring, Sweeping
from swift_sample.core.study.measuring.policies.proposal import ALONE, Hand, InHand
from swift_sample.core.study.measuring.policies.reference import merge_step
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.steps import (
    ChunkStep,
    MeasureStep,
    ReferenceStep,
    RunStep,
    Step,
)
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.plan.model import Study, Sweep, WatchArea
from tests.core.study.states import HERE, Happenings, record_of
from tests.fuzzing import examples

BASE = configured({"samples.max": 32, "device.threads": 2})
STUDY = Study(
    name="s",
    scene="honey-stall",
    size=(64, 36),
    base=BASE,
    repeats=2,
    sweeps=(
        Sweep(
            "one at a time",
            {"samples.max": (8,), "tiles.size": (8,), "samples.noise_threshold": (0.2,)},
        ),
    ),
)
EDITS = {
    "size": lambda n: {"size": ((64, 36), (32, 18), (16, 9))[n]},
    "frame": lambda n: {"frame": n},
    "repeats": lambda n: {"repeats": 1 + n},
    "view": lambda n: {"view": View(float(-n), "soft" if n else "straight")},
    "base": lambda n: {
        "base": BASE.replace(({}, {"samples.max": 16}, {"samples.noise_threshold": 0.1})[n])
    },
    "areas": lambda n: {
        "areas": tuple(WatchArea(name=f"a{k}", x=k, y=0, width=4, height=4) for k in range(n))
    },
    "keeps": lambda n: {"reference_keeps": ("light.caustics", "bounces.total")[:n]},
    "sweeps": lambda n: {
        "sweeps": (STUDY.sweeps, (), (Sweep("one at a time", {"tiles.size": (8, 16)}),))[n]
    },
}


class Life(RuleBasedStateMachine):
    """A study on disk and its state, side by side."""

    @initialize(steps=st.sampled_from([0, 8, 14]))
    def begin(self, steps: int) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.path = create_study(self.folder / "a.study", STUDY)
        self.store = Store.open(self.path)
        self.surroundings = HERE
        self.state = apply(self.store.opened_as, Happened(0, "", HERE))
        self.in_hand: list[Step] = []
        self.rendered: dict[str, object] = {}
        """what each picture and reference shows, as it was asked for when its render began; not by
        way of names"""
        self.stands_for: dict[Place, object] = {}
        self.seen: list[tuple[StudyState, object]] = []
        self.go_on(steps, False)

    def teardown(self) -> None:
        self.store.close()
        shutil.rmtree(self.folder, ignore_errors=True)

    def keep(self, *events: Event) -> None:
        plan = None
        if any(isinstance(event, PlanEdited | PlanUndone | PlanRedone) for event in events):
            plan = apply(self.state, Happened(0, "", events[0])).plan

        for happened in self.store.append(events, plan):
            self.state = apply(self.state, happened)

    @rule(
        field=st.sampled_from([*EDITS, "view", "view"]),
        value=st.integers(0, 2),
        steps=st.sampled_from([0, 0, 6]),
    )
    def edit(self, field: str, value: int, steps: int) -> None:
        plan = replace(self.state.plan, **EDITS[field](value))
        if plan != self.state.plan:
            self.keep(PlanEdited(field, plan, field))
        self.go_on(steps, True)

    @rule(back=st.booleans())
    def step_in_history(self, back: bool) -> None:
        if self.state.past if back else self.state.future:
            self.keep(PlanUndone() if back else PlanRedone())

    @rule(
        scene=st.sampled_from(["0" * 16, "1" * 16, ""]),
        renderer=st.sampled_from(["renderer", "newer"]),
        machine=st.sampled_from(["machine", "other"]),
    )
    def go_elsewhere(self, scene: str, renderer: str, machine: str) -> None:
        content = SceneContent(scene) if scene else None
        self.surroundings = Surroundings(
            content, "" if scene else "it is gone", renderer, machine, "software"
        )
        self.state = apply(self.state, Happened(0, "", self.surroundings))

    @rule(machine=st.sampled_from(["", "machine", "other", "machine@left"]))
    def look_at_machine(self, machine: str) -> None:
        self.state = apply(self.state, Happened(0, "", MachineShown(machine)))

    @rule(machine=st.sampled_from(["machine", "other"]), host=st.sampled_from(["left", "right"]))
    def set_apart(self, machine: str, host: str) -> None:
        self.keep(HostApart(machine, host, "it is slower"))

    @rule(number=st.integers(0, 5))
    def look_at(self, number: int) -> None:
        places = [None, *self.state.records]
        self.state = apply(self.state, Happened(0, "", PlaceShown(places[number % len(places)])))

    @rule(again=st.booleans(), host=st.sampled_from(["", "left", "right"]))
    def begin_step(self, again: bool, host: str = "") -> None:
        hand = Hand(host, InHand(self.in_hand)) if host else ALONE
        step = (Remeasuring() if again else Sweeping()).propose(self.state, 0.0, hand).step
        if step is not None:
            self.in_hand.append(step)

        if isinstance(step, RunStep | ReferenceStep | ChunkStep):
            now = self.surroundings
            plan = self.state.plan
            here = (now.content, now.renderer, plan.size, plan.frame)
            assert self.stands_for.setdefault(self.state.here, here) == here

            if isinstance(step, RunStep):
                assert (step.spec.size, step.spec.frame) == (plan.size, plan.frame)
                self.rendered[step.picture] = (
                    here,
                    *pixels(step.spec.configuration(CATALOGUE), step.spec.view),
                )
            else:
                self.rendered[step.reference] = (
                    here,
                    *pixels(plan.reference_configuration(1), plan.view),
                )

    @precondition(lambda self: self.in_hand)
    @rule(place=st.integers(0, 3), fails=st.booleans(), seconds=st.floats(0.1, 100.0))
    def end_step(self, place: int, fails: bool, seconds: float) -> None:
        """Also long after the plan has changed: what it is filed under was settled when it
        began."""
        step = self.in_hand.pop(place % len(self.in_hand))
        if isinstance(step, RunStep):
            if fails:
                self.keep(*step.failed("it failed", by_machine=False))
            else:
                finished = step.failed("", by_machine=False)[0]
                assert isinstance(finished, RunFinished)
                record = record_of(seconds)
                run = replace(
                    finished.run, picture=step.picture, result=RunResult.of(record), reason=""
                )
                self.keep(RunFinished(run, finished.configuration, record))
        elif isinstance(step, ChunkStep) and not fails:
            self.keep(ChunkKept(step.reference, step.chunk, step.samples, 1.0, "digest"))
        elif isinstance(step, ReferenceStep) and not fails:
            self.keep(
                ReferenceGrew(
                    reference=step.reference,
                    samples=step.samples + 96,
                    chunks=step.chunk + 1,
                    floor=5.0 / (step.chunk + 1),
                    seconds=1.0,
                )
            )
        elif isinstance(step, MeasureStep) and not fails:
            # What a figure is of can be told from its value, so that one shown elsewhere is found
            # out.
            self.keep(
                Measured(
                    tuple(
                        Measurement(
                            place=step.place,
                            key=key,
                            pictures=step.pictures,
                            reference_samples=step.reference_samples,
                            figures=dict.fromkeys(
                                KINDS, Figure(self.worth_of(step, key), 0.0, 1.0)
                            ),
                            versions={kind: one.version for kind, one in KINDS.items()},
                        )
                        for key in step.keys
                    )
                )
            )

    @rule()
    def merge(self) -> None:
        """What was rendered side by side is merged in its order."""
        step = merge_step(self.state, self.state.here) if self.state.here is not None else None
        if step is not None:
            assert step.chunk == (
                self.state.reference.chunks if self.state.reference is not None else 0
            )
            self.in_hand.append(step)
            self.end_step(len(self.in_hand) - 1, False, 1.0)
            assert (step.reference, step.chunk) not in self.state.chunks

    @rule(number=st.integers(0, 3))
    def lose_chunk(self, number: int) -> None:
        if self.state.chunks:
            reference, chunk = sorted(self.state.chunks)[number % len(self.state.chunks)]
            self.keep(ChunkLost(reference, chunk, "is damaged"))

    @rule(steps=st.integers(1, 6), again=st.booleans())
    def go_on(self, steps: int, again: bool) -> None:
        """Measuring goes well for a while, so that there are figures to mistake."""
        for _ in range(steps):
            before = len(self.in_hand)
            self.begin_step(again)
            if len(self.in_hand) > before:
                self.end_step(before, False, 1.0)

    def worth_of(self, step: MeasureStep, key: MeasurementKey) -> float:
        shown = {self.rendered[name] for name in step.pictures}
        assert len(shown) == 1, "pictures of different appearances are measured together"
        return worth(*shown, View(key.exposure, key.curve), key.area, self.rendered[key.reference])

    @rule(number=st.integers(0, 40))
    def lose(self, number: int) -> None:
        runs = [
            run for records in self.state.records.values() for run in records.runs if run.picture
        ]
        if runs:
            run = runs[number % len(runs)]
            self.keep(PictureLost(run.place, run.number, "its picture is missing"))

    @rule()
    def lose_reference(self) -> None:
        if self.state.reference is not None:
            self.keep(ReferenceLost(self.state.reference_name, "damaged"))

    @rule(samples=st.sampled_from([8, 64]))
    def search(self, samples: int) -> None:
        if self.state.here is not None:
            chosen = BASE.replace({"samples.max": samples, "scene.keep_built": True})
            self.keep(TrialChosen(self.state.here, chosen.identity_values(), "why"))
            self.keep(SearchConcluded(self.state.here, "why"), FailuresForgiven(self.state.here))

    @rule(clean=st.booleans())
    def restart(self, clean: bool) -> None:
        """The program ends, well or killed, and the study is opened again; steps in hand are
        lost."""
        if clean:
            self.store.close()
            self.store = Store.open(self.path)
            opened = self.store.opened_as
        else:
            left = self.folder / "left.study"
            shutil.copytree(self.path, left)
            with Store.open(left) as other:
                opened = other.opened_as

            shutil.rmtree(left)

        shown = self.state.shown
        machine = self.state.machine_shown
        self.in_hand = [] if clean else self.in_hand
        again = apply(
            apply(opened, Happened(0, "", self.surroundings)), Happened(0, "", PlaceShown(shown))
        )
        again = apply(again, Happened(0, "", MachineShown(machine)))
        assert_same(again, self.state)
        self.state = again

    @invariant()
    def holds_together(self) -> None:
        validate(self.state)

    @invariant()
    def shows_only_what_is_wanted(self) -> None:
        state = self.state
        results = collect(self.state)

        for trial, planned in zip(results.trials, state.planned, strict=True):
            assert trial.id == planned.id
            assert {(run.place, run.trial, run.machine) for run in trial.runs} <= {
                (state.place, trial.id, state.machine)
            }

            for area in state.areas_measured:
                figure = trial.figures.get("grain" if area is None else f"grain@{area.name}")
                if figure is not None:
                    plan = state.plan
                    here = self.stands_for[state.place]
                    part = (
                        WHOLE
                        if area is None
                        else Rectangle(area.x, area.y, area.width, area.height)
                    )
                    shown = (here, *pixels(trial.configuration, plan.view))
                    reference = (here, *pixels(plan.reference_configuration(1), plan.view))
                    assert figure.value == worth(shown, plan.view, part, reference)

            if trial.verdict == "acceptable":
                assert not trial.unmeasured

    @rule()
    def ask_twice(self) -> None:
        """A question changes nothing: it has the same answer again, on two threads, for an equal
        state that was never asked, and however much has happened since (C3)."""
        answer = asked(self.state)
        with ThreadPoolExecutor(2) as pool:
            assert list(pool.map(asked, [self.state] * 4)) == [answer] * 4

        assert asked(replace(self.state)) == answer
        for state, before in self.seen:
            assert asked(state) == before

        self.seen = [*self.seen, (self.state, answer)][-5:]

    @rule()
    def look(self) -> None:
        """Whoever only looks sees the same, and changes nothing."""
        with look_at_study(self.path) as reading:
            assert (reading.state.plan, reading.state.records, reading.state.references) == (
                self.state.plan,
                self.state.records,
                self.state.references,
            )
            assert read_snapshot(reading).study == self.state.plan

        assert self.store.load().version == self.state.version


def asked(state: StudyState) -> object:
    """What policies say of a state: the next step and why, and all runs to come."""
    policies = (Sweeping(), Sweeping(budget_seconds=50.0), Remeasuring())
    told = [policy.propose(state, 1.0) for policy in policies]
    waiting = [(run.trial.id, run.block, run.control) for run in Sweeping().waiting(state)]

    return told, waiting, Sweeping().propose(state, 1.0, Hand("left"))


def pixels(configuration: Configuration, view: View) -> tuple[object, object]:
    return frozenset(
        configuration.pixel_values().items()
    ), view if configuration.needs_view() else None


def worth(*what: object) -> float:
    """A number that stands for what a figure is of."""
    return float(hash(what) % 1_000_003) / 1_000_003


def assert_same(one: StudyState, other: StudyState) -> None:
    for name in ("plan", "version", "records", "references", "chunks", "apart", "names", "outcome"):
        assert getattr(one, name) == getattr(other, name), name
    assert [(e.label, e.plan) for e in one.past] == [(e.label, e.plan) for e in other.past]
    assert [(e.label, e.plan) for e in one.future] == [(e.label, e.plan) for e in other.future]


TestLife = Life.TestCase
TestLife.settings = settings(
    examples(40), stateful_step_count=40, suppress_health_check=list(HealthCheck)
)


def test_what_grows_shares_its_items_and_what_branches_does_not() -> None:
    one = Grown([1, 2])
    longer = one.with_item(3)
    other = one.with_item(4)
    assert (list(one), list(longer), list(other)) == ([1, 2], [1, 2, 3], [1, 2, 4])
    assert (longer[-1], longer[1:], len(other)) == (3, [2, 3], 3)


def test_a_snapshot_lists_versions_with_their_runs() -> None:
    from swift_sample.core.study.log.folder import Folder
    from tests.core.study.log.test_there_and_back import measured_there

    made = measured_there()
    (version,) = Snapshot(made.state, Folder(Path("none")), RENDERER).versions
    assert (version.trials, version.runs, version.is_here) == (2, 6, True)


def test_only_what_is_planned_wants_figures() -> None:
    """A run that ends after the plan has left its trial behind leaves no wish to measure it, in a
    state handed on either."""
    made = Happenings(replace(STUDY, sweeps=(Sweep("one at a time", {"samples.max": (16, 64)}),)))
    trial = next(one for one in made.state.planned if one.id != made.state.base.id)
    made.happen(PlanEdited("nothing to try", replace(made.state.plan, sweeps=())))
    assert made.state.wanting == frozenset()
    made.run(trial.configuration, 1.0)
    assert trial.appearance in made.state.results.pictures
    assert made.state.wanting == frozenset()
    validate(made.state)

"""A study as it stands: the plan with its history, and everything measured, by identity. Immutable,
in memory, without input or output. `apply` takes one event in time that does not grow with the
study; a look is a reference to a state.

`validate` checks what must always hold; tests call it after every event.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from typing import Any

from immutables import Map

from swift_sample.core.errors import SettingError
from swift_sample.core.measure.kinds import AREA_KINDS, KINDS, Figure
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.events import (
    ChunkKept,
    ChunkLost,
    Derived,
    FailuresForgiven,
    Happened,
    HostApart,
    MachineShown,
    Measured,
    MeasuringEnded,
    Named,
    OutcomeDismissed,
    PictureLost,
    PixelsCompared,
    PlaceShown,
    PlanEdited,
    PlanRedone,
    PlanUndone,
    RecordingKept,
    RecordingLost,
    RecordingRefused,
    ReferenceGrew,
    ReferenceLost,
    Run,
    RunFinished,
    Said,
    SearchConcluded,
    Surroundings,
    TrialChosen,
)
from swift_sample.core.study.log.grown import Grown
from swift_sample.core.study.log.identity import (
    WHOLE,
    MeasurementKey,
    Place,
    Rectangle,
    appearance_identity,
    chunk_of_seed,
    reference_identity,
    scene_identity,
    trial_identity,
)
from swift_sample.core.study.log.records import (
    NO_PROOFS,
    NO_RECORDS,
    NO_RUNS,
    Chunk,
    Gathered,
    KeptRecording,
    Proofs,
    Records,
    ReferenceState,
    copied,
    hosts_of,
)
from swift_sample.core.study.plan.model import Study, WatchArea

APART_MARK = "@"
JOINED_SECONDS = 2.0
"""Edits of one field within this time of one another are one step of undoing."""
MOST_UNDONE = 200
FEW_PICTURES = 3
"""An appearance measured from fewer pictures is measured again as soon as there is another; with
more, at the end."""


@dataclass(frozen=True)
class Edit:
    """A step that can be undone: what it was, and the plan to go back to."""

    label: str
    plan: Study
    field: str = ""
    at: str = ""


@dataclass(frozen=True)
class PlannedTrial:
    """A configuration to measure, with its names. `sought` where only a search asks for it,
    `left_out` where a person did not want it any more."""

    id: str
    appearance: str
    configuration: Configuration
    sought: bool = False
    left_out: bool = False


NOWHERE = Surroundings(None, "", "", "")


def name_apart(machine: str, host: str) -> str:
    """The name of one machine of a kind whose times are kept apart from those of the others."""
    return f"{machine}{APART_MARK}{host}"


def kind_of(machine: str) -> str:
    """The kind of a machine whose times may be kept apart."""
    return machine.partition(APART_MARK)[0]


@dataclass(frozen=True, kw_only=True)
class StudyState:
    """Everything about a study. `version` is the number of the last event that was kept."""

    plan: Study
    version: int = 0
    past: tuple[Edit, ...] = ()
    future: tuple[Edit, ...] = ()
    records: Map[Place, Records] = field(default_factory=Map)
    references: Map[str, ReferenceState] = field(default_factory=Map)
    chunks: Map[tuple[str, int], Chunk] = field(default_factory=Map)
    """by reference and number: what is to be merged into it"""
    recordings: Map[tuple[str, int], KeptRecording] = field(default_factory=Map)
    """by reference and number of the chunk"""
    unrecorded: Map[str, str] = field(default_factory=Map)
    """why nothing is recorded, by reference"""
    proofs: Map[str, Proofs] = field(default_factory=Map)
    """how many runs had the pictures that were derived, by reference"""
    derived: Map[tuple[Place, str, float, str, str], Derived] = field(default_factory=Map)
    """by place and `Derived.key`"""
    names: Map[str, Named] = field(default_factory=Map)
    """scenes, renderers and machines that results are kept under"""
    outcome: MeasuringEnded | None = None
    surroundings: Surroundings = NOWHERE
    shown: Place | None = None
    """an earlier place whose results are looked at; None for the present one"""
    machine_shown: str = ""
    """another machine, whose times are looked at; "" for this one"""
    apart: frozenset[tuple[str, str]] = frozenset()
    """machines of a kind that do not keep its pace, as kind and host: their times are kept under
    `name_apart`"""

    @property
    def machine(self) -> str:
        """Whose times are looked at."""
        return self.machine_shown or self.surroundings.machine

    def seen_from(self, machine: str) -> "StudyState":
        """The same with times of this machine; the same object each time."""
        if machine == self.machine:
            return self

        known: dict[str, StudyState] = self.__dict__.setdefault("_seen", {})
        if machine not in known:
            _ = (
                self.place,
                self.planned,
                self.appearances,
                self.wanting,
            )  # the same from everywhere
            seen = replace_state(self, machine_shown=machine)
            seen.__dict__["progress"] = self.progress  # of the same events, by machine
            seen.__dict__["memo"] = self.memo
            known[machine] = seen

        return known[machine]

    def filed(self, machine: str, host: str) -> str:
        """The name under which times of a host are kept."""
        return name_apart(machine, host) if (machine, host) in self.apart else machine

    @property
    def problem(self) -> str:
        """Why the scene cannot be rendered now; "" where it can."""
        return self.surroundings.problem

    @cached_property
    def here(self) -> Place | None:
        """Where the plan would be rendered now; None where the scene cannot be read."""
        return self.place_of_frame(self.plan.frame)

    def place_of_frame(self, frame: int) -> Place | None:
        content = self.surroundings.content
        return None if content is None else self._place(content, frame)

    def _place(self, content: SceneContent, frame: int) -> Place:
        return Place(
            self.surroundings.renderer, scene_identity(content, self.plan.size, frame).name
        )

    @cached_property
    def place(self) -> Place | None:
        """Whose results are looked at: the present place, an earlier one that was asked for, or
        where the scene cannot be read the one measured last at this size and frame."""
        if self.shown is not None:
            return self.shown
        if self.here is not None:
            return self.here

        last = [
            (records.runs[-1].number, place)
            for place, records in self.records.items()
            if len(records.runs) and self.size_and_frame(place) == (self.plan.size, self.plan.frame)
        ]
        return max(last, key=lambda pair: pair[0])[1] if last else None

    def size_and_frame(self, place: Place) -> tuple[tuple[int, int], int] | None:
        """What is known of a place's scene from the record behind its name."""
        named = self.names.get(place.scene)
        if named is None:
            return None

        width, height = named.record["size"]
        return (int(width), int(height)), int(named.record["frame"])

    @property
    def can_render(self) -> bool:
        """Whether what is looked at could also be rendered now."""
        return self.here is not None and self.shown in (None, self.here)

    def at(self, place: Place | None) -> Records:
        return self.records.get(place, NO_RECORDS) if place is not None else NO_RECORDS

    @property
    def results(self) -> Records:
        """What was measured in the place that is looked at."""
        return self.at(self.place)

    @cached_property
    def planned(self) -> tuple[PlannedTrial, ...]:
        """Every trial of the plan, and those that searches chose in the place that is looked at.
        The base comes first."""
        own = self._planned_by_plan
        chosen = self.results.chosen
        if not chosen:
            return own

        known = {trial.id for trial in own}
        more = []

        for configuration in chosen:
            name = trial_identity(configuration).name
            if name not in known:
                known.add(name)
                more.append(self.trial_of(configuration, True))

        return (*own, *more)

    @cached_property
    def _planned_by_plan(self) -> tuple[PlannedTrial, ...]:
        trials = {trial.id: trial for trial in map(self.trial_of, self.plan.planned())}
        return tuple(trials.values())

    def trial_of(self, configuration: Configuration, sought: bool = False) -> PlannedTrial:
        """A configuration with its names under the plan's view."""
        name = trial_identity(configuration).name
        remarks = self.plan.remarks
        appearance = appearance_identity(configuration, self.plan.view).name
        left_out = bool(remarks) and name in remarks and bool(remarks[name].left_out)

        return PlannedTrial(name, appearance, configuration, sought, left_out)

    @cached_property
    def base(self) -> PlannedTrial:
        return self.trial_of(self.plan.base)

    @cached_property
    def reference_name(self) -> str:
        """Of the reference that is wanted where results are looked at; "" where there is no
        place."""
        return self.reference_name_at(self.place)

    def reference_name_at(self, place: Place | None) -> str:
        return "" if place is None else reference_identity(place, self.plan).name

    @property
    def reference(self) -> ReferenceState | None:
        return self.references.get(self.reference_name)

    def derived_of(self, appearance: str) -> Derived | None:
        """What recordings say of an appearance, in the view and beside the reference that count
        now."""
        if self.place is None:
            return None

        if self.are_disproved:
            return None

        view = self.plan.view
        found = self.derived.get(
            (self.place, appearance, view.exposure, view.curve, self.reference_name)
        )
        if found is None:
            return None

        wanted = [self.measurement_key(appearance, area).area for area in self.areas_measured]
        return found if found.answers(wanted) else None

    @property
    def are_disproved(self) -> bool:
        """Whether a run had another picture than was derived for it: nothing that is derived from
        this reference counts then."""
        return self.proofs.get(self.reference_name, NO_PROOFS).other > 0

    def independent_pictures(self, appearance: str) -> tuple[str, ...]:
        """The names of an appearance's pictures that can be compared with the reference, since they
        hold none of its samples; all of them where recordings cannot be had any more."""
        names = self.results.pictures.get(appearance, ())
        lost = self.are_disproved or self.reference_name in self.unrecorded
        if not self.results.of_chunks or lost:
            return names
        return tuple(name for name in names if name not in self.results.of_chunks)

    def measurement_key(
        self, appearance: str, area: WatchArea | None, recipe: str = ""
    ) -> MeasurementKey:
        """What the figures of an appearance are wanted of, in the whole picture or an area."""
        view = self.plan.view
        rectangle = WHOLE if area is None else Rectangle(area.x, area.y, area.width, area.height)
        return MeasurementKey(
            appearance=appearance,
            exposure=view.exposure,
            curve=view.curve,
            area=rectangle,
            reference=self.reference_name,
            recipe=recipe,
        )

    @property
    def areas_measured(self) -> tuple[WatchArea | None, ...]:
        """The whole picture, then every watch area."""
        return (None, *self.plan.areas)

    def figures(
        self, appearance: str, area: WatchArea | None, recipe: str = ""
    ) -> Mapping[str, Figure | None] | None:
        """The figures of an appearance as they are wanted now; None where they were not measured. A
        figure of another version of its formula is left out."""
        measurement = self.results.measurements.get(self.measurement_key(appearance, area, recipe))
        return measurement.current if measurement is not None else None

    @cached_property
    def wanting(self) -> frozenset[str]:
        """Appearances of planned trials that have pictures and lack figures, or have very few
        pictures measured."""
        return frozenset(appearance for appearance in self.appearances if self._wants(appearance))

    @cached_property
    def appearances(self) -> frozenset[str]:
        """Of all planned trials."""
        return frozenset(trial.appearance for trial in self.planned)

    def _wants(self, appearance: str) -> bool:
        pictures = self.independent_pictures(appearance)
        derived = self.derived_of(appearance)
        if not self.results.pictures.get(appearance):
            return False
        if derived is not None and len(derived.chunks) >= len(pictures):
            return False
        if not pictures:
            return True  # only what is derived can tell

        for area in self.areas_measured:
            measurement = self.results.measurements.get(self.measurement_key(appearance, area))
            kinds = KINDS if area is None else AREA_KINDS
            if measurement is None or any(
                measurement.versions.get(kind) != made.version for kind, made in kinds.items()
            ):
                return True
            if len(measurement.pictures) < FEW_PICTURES and len(measurement.pictures) < len(
                pictures
            ):
                return True

        return False

    def grown(self) -> list[str]:
        """Appearances whose figures could be surer by now: more pictures, or a longer reference."""
        samples = self.reference.samples if self.reference is not None else 0
        appearances = []

        for appearance in dict.fromkeys(trial.appearance for trial in self.planned):
            pictures = self.independent_pictures(appearance)
            if self.derived_of(appearance) is not None:
                continue

            for area in self.areas_measured:
                known = self.results.measurements.get(self.measurement_key(appearance, area))
                if (
                    pictures
                    and known is not None
                    and (known.reference_samples != samples or set(known.pictures) != set(pictures))
                ):
                    appearances.append(appearance)
                    break

        return appearances

    @cached_property
    def progress(self) -> dict[object, tuple[int, float]]:
        """How far into the orders of runs everything is done already: where `policies.sweep` begins
        to look. What is done stays done, so a later state begins with a copy; what that finds out
        is not told to this one."""
        return {}

    @cached_property
    def memo(self) -> dict[object, Any]:
        """What takes long to work out of this state and changes little from event to event; of
        `policies.sweep`."""
        return {}

    @property
    def undo_label(self) -> str:
        """What undoing would undo; "" where there is nothing."""
        return self.past[-1].label if self.past else ""

    @property
    def redo_label(self) -> str:
        return self.future[-1].label if self.future else ""


_BY_PLAN = ("_planned_by_plan", "base")
"""What a state worked out of its plan alone, and hands on as long as that stays,"""
_BY_PLACE = (
    "here",
    "place",
    "planned",
    "appearances",
    "reference_name",
    "progress",
    "memo",
    "wanting",
    "_results",
)
"""and of plan, surroundings and records (`_results` is the memo of `policies.sweep.results_of`)."""


def apply(state: StudyState, happened: Happened) -> StudyState:
    """The state after an event."""
    changed = _HANDLERS[type(happened.event)](state, happened.event, happened)
    if not happened.number:
        return changed
    if changed is state:
        changed = replace_state(state)

    changed.__dict__["version"] = max(state.version, happened.number)  # nobody has seen it yet
    return changed


NOT_OF_RUNS = Named | Said | MeasuringEnded | PlanEdited | PixelsCompared
"""Events that can be put in before the runs that came earlier."""


def replay(state: StudyState, log: Iterable[Happened]) -> StudyState:
    """The state after many events: what `apply` gives for one after the other. Runs and figures,
    which nearly all of a log is made of, are gathered and put in at once."""
    gathered: dict[Place, Gathered] = {}
    version = state.version

    for happened in log:
        event = happened.event
        if isinstance(event, RunFinished):
            place = event.run.place
            if place not in gathered:
                gathered[place] = Gathered(state.at(place))
            gathered[place].add_run(_filed(state, event.run))
            version = max(version, happened.number)
        elif isinstance(event, Measured):
            for found in event.measurements:
                if found.place not in gathered:
                    gathered[found.place] = Gathered(state.at(found.place))
                gathered[found.place].measurements[found.key] = found

            version = max(version, happened.number)
        else:
            if gathered and not isinstance(event, NOT_OF_RUNS):
                state = _put_in(state, gathered, version)
            state = apply(state, happened)
            version = max(version, state.version)

    return _put_in(state, gathered, version)


def _put_in(state: StudyState, gathered: "dict[Place, Gathered]", version: int) -> StudyState:
    records = state.records
    for place, gathering in gathered.items():
        records = records.set(place, gathering.records())

    gathered.clear()
    return replace_state(state, records=records, version=max(state.version, version))


def replace_state(state: StudyState, **changes: Any) -> StudyState:
    """A state with other fields, that keeps what was worked out and still holds."""
    made = copied(state, changes)
    kept: tuple[str, ...] = ()

    if made.plan is state.plan:
        kept = _BY_PLAN
        if not {"surroundings", "shown", "records", "names", "apart"} & changes.keys():
            kept += _BY_PLACE
        if "machine_shown" in changes:
            kept = tuple(name for name in kept if name != "_results")

    _hand_on(state, made, kept)
    return made


def _hand_on(state: StudyState, made: StudyState, names: Iterable[str]) -> None:
    """Give a later state what was worked out and still holds. What grows while it is asked for is
    copied, so that a state that somebody still holds is changed by nothing that happens later."""
    for name in names:
        if name in state.__dict__:
            value = state.__dict__[name]
            made.__dict__[name] = dict(value) if name in ("progress", "memo") else value


def _with_records(state: StudyState, place: Place, touched: str, **changes: Any) -> StudyState:
    """A state with other records of a place. `touched` is the appearance whose pictures or figures
    are others now."""
    records = copied(state.at(place), changes)
    made = replace_state(state, records=state.records.set(place, records))
    if state.surroundings.content is None and state.shown is None:
        return made  # which place is looked at may depend on the records

    of_the_plan = () if "chosen" in changes else ("planned", "appearances", "progress", "memo")
    _hand_on(state, made, ("here", "place", "reference_name", *of_the_plan))

    if "wanting" in state.__dict__ and "chosen" not in changes:
        wanting = state.__dict__["wanting"]
        if touched in made.appearances and place == made.place:
            wants = made._wants(touched)

            if wants:
                wanting = wanting | {touched}
            elif touched in wanting:
                wanting = wanting - {touched}
            else:
                wanting = wanting

        made.__dict__["wanting"] = wanting

    return made


def _on_edit(state: StudyState, event: PlanEdited, happened: Happened) -> StudyState:
    last = state.past[-1] if state.past else None
    if (
        last is not None
        and event.field
        and last.field == event.field
        and _between(last.at, happened.at) <= JOINED_SECONDS
    ):
        past = (*state.past[:-1], replace(last, label=event.label, at=happened.at))
    elif happened.number and state.version == 0:
        past = ()  # the first plan is nothing that could be undone
    else:
        past = (*state.past, Edit(event.label, state.plan, event.field, happened.at))[-MOST_UNDONE:]

    return replace_state(state, plan=event.plan, past=past, future=())


def _between(earlier: str, later: str) -> float:
    """Seconds between two times as the log has them; endless where one is missing."""
    if not (earlier and later):
        return float("inf")
    return (datetime.fromisoformat(later) - datetime.fromisoformat(earlier)).total_seconds()


def _on_undo(state: StudyState, _: PlanUndone, happened: Happened) -> StudyState:
    if not state.past:
        return state
    edit = state.past[-1]
    return replace_state(
        state,
        plan=edit.plan,
        past=state.past[:-1],
        future=(*state.future, Edit(edit.label, state.plan)),
    )


def _on_redo(state: StudyState, _: PlanRedone, happened: Happened) -> StudyState:
    if not state.future:
        return state
    edit = state.future[-1]
    return replace_state(
        state,
        plan=edit.plan,
        past=(*state.past, Edit(edit.label, state.plan)),
        future=state.future[:-1],
    )


def _filed(state: StudyState, run: Run) -> Run:
    machine = state.filed(run.machine, run.host)
    return run if machine == run.machine else replace(run, machine=machine)


def _on_apart(state: StudyState, event: HostApart, _: Happened) -> StudyState:
    """What was measured on that host is filed anew."""
    state = replace_state(state, apart=state.apart | {(event.machine, event.host)})
    for place, records in state.records.items():
        if any(run.machine == event.machine and run.host == event.host for run in records.runs):
            gathered = Gathered(copied(records, dict(NO_RUNS)))
            for run in records.runs:
                gathered.add_run(_filed(state, run))
            state = replace_state(state, records=state.records.set(place, gathered.records()))

    return state


def _on_run(state: StudyState, event: RunFinished, happened: Happened) -> StudyState:
    run = _filed(state, event.run)
    records = state.at(run.place)
    pictures = records.pictures
    of_chunks = records.of_chunks

    if run.picture:
        known = pictures.get(run.appearance, ())
        if run.picture not in known:
            pictures = pictures.set(run.appearance, (*known, run.picture))
        if chunk_of_seed(run.seed) is not None:
            of_chunks |= {run.picture}

    digests = records.digests.set(run.picture, run.digest) if run.digest else records.digests
    blocks = records.blocks
    if run.result is not None and not run.control:
        blocks = blocks.set(
            (run.trial, run.machine), records.blocks_done(run.trial, run.machine) | {run.block}
        )

    controls = records.controls
    if run.control:
        place = (run.machine, run.block)
        controls = controls.set(place, controls.get(place, 0) + 1)

    hosts = records.hosts
    for key in hosts_of(run):
        hosts = hosts.set(key, hosts.get(key, 0) + 1)

    return _with_records(
        state,
        run.place,
        run.appearance,
        controls=controls,
        hosts=hosts,
        trials=records.trials.set(run.trial, (*records.trials.get(run.trial, ()), run)),
        runs=records.runs.with_item(run),
        pictures=pictures,
        of_chunks=of_chunks,
        digests=digests,
        blocks=blocks,
    )


def _on_lost(state: StudyState, event: PictureLost, _: Happened) -> StudyState:
    records = state.at(event.place)
    run = next((run for run in records.runs if run.number == event.run), None)
    if run is None or not run.picture:
        return state

    without = replace(run, picture="", result=None, reason=event.reason, lost=True)

    def swap(runs: tuple[Run, ...] | Grown[Run]) -> tuple[Run, ...]:
        return tuple(without if one.number == run.number else one for one in runs)

    runs = swap(records.trials[run.trial])
    done = frozenset(
        one.block
        for one in runs
        if one.result is not None and one.machine == run.machine and not one.control
    )
    left = tuple(name for name in records.pictures.get(run.appearance, ()) if name != run.picture)
    hosts = records.hosts
    for key in hosts_of(run):
        hosts = hosts.set(key, hosts[key] - 1)

    made = _with_records(
        state,
        event.place,
        run.appearance,
        hosts=hosts,
        blocks=records.blocks.set((run.trial, run.machine), done),
        trials=records.trials.set(run.trial, runs),
        runs=Grown(swap(records.runs)),
        pictures=records.pictures.set(run.appearance, left),
        of_chunks=records.of_chunks - {run.picture},
    )
    made.__dict__.pop("memo", None)
    made.__dict__.pop("progress", None)  # what was done is to be done again

    return made


def _on_measured(state: StudyState, event: Measured, _: Happened) -> StudyState:
    for measurement in event.measurements:
        records = state.at(measurement.place)
        state = _with_records(
            state,
            measurement.place,
            measurement.key.appearance,
            measurements=records.measurements.set(measurement.key, measurement),
        )

    return state


def _on_reference(state: StudyState, event: ReferenceGrew, happened: Happened) -> StudyState:
    made = ReferenceState(
        samples=event.samples,
        floor=event.floor,
        seconds=event.seconds,
        chunks=event.chunks,
        number=happened.number,
        digest=event.digest,
    )
    merged = [key for key in state.chunks if key[0] == event.reference and key[1] < event.chunks]
    chunks = _without(state.chunks, merged)
    return replace_state(
        state, references=state.references.set(event.reference, made), chunks=chunks
    )


def _without(
    chunks: Map[tuple[str, int], Chunk], gone: Iterable[tuple[str, int]]
) -> Map[tuple[str, int], Chunk]:
    for key in gone:
        chunks = chunks.delete(key) if key in chunks else chunks
    return chunks


def _on_chunk(state: StudyState, event: ChunkKept, _: Happened) -> StudyState:
    made = Chunk(event.samples, event.seconds, event.digest)
    return replace_state(state, chunks=state.chunks.set((event.reference, event.chunk), made))


def _on_derived(state: StudyState, event: Derived, _: Happened) -> StudyState:
    derived = state.derived.set((event.place, *event.key), event)
    made = replace_state(state, derived=derived)
    if "_results" not in made.__dict__ and "wanting" not in made.__dict__:
        return made

    return _with_other_figures(made) if event.appearance in state.appearances else made


def _with_other_figures(made: StudyState) -> StudyState:
    """A state that nobody has seen yet, in which figures of planned trials are others."""
    for name in ("wanting", "_results"):
        made.__dict__.pop(name, None)

    return made


def _on_pixels(state: StudyState, event: PixelsCompared, _: Happened) -> StudyState:
    known = state.proofs.get(event.reference, NO_PROOFS)
    proofs = state.proofs.set(event.reference, known.after(event.same))
    made = replace_state(state, proofs=proofs)
    return made if event.same else _with_other_figures(made)


def _on_recording(state: StudyState, event: RecordingKept, _: Happened) -> StudyState:
    made = KeptRecording(
        samples=event.samples,
        digest=event.digest,
        size_bytes=event.size_bytes,
        made_for=event.made_for,
        work=event.work,
    )
    key = (event.reference, event.chunk)
    return replace_state(state, recordings=state.recordings.set(key, made))


def _on_recording_lost(state: StudyState, event: RecordingLost, _: Happened) -> StudyState:
    key = (event.reference, event.chunk)
    if key not in state.recordings:
        return state
    return replace_state(state, recordings=state.recordings.delete(key))


def _on_reference_lost(state: StudyState, event: ReferenceLost, _: Happened) -> StudyState:
    if event.reference not in state.references:
        return state
    return replace_state(state, references=state.references.delete(event.reference))


def _on_chosen(state: StudyState, event: TrialChosen, _: Happened) -> StudyState:
    try:
        configuration = Configuration.from_identity_values(state.plan.catalogue, event.values)
    except SettingError:
        return state  # of a catalogue that had other settings

    records = state.at(event.place)
    if configuration in records.chosen:
        return _with_records(state, event.place, "", concluded="")

    predictions = records.predictions
    if event.predicted is not None:
        predictions = predictions.set(configuration, event.predicted)

    chosen = (*records.chosen, configuration)
    return _with_records(
        state, event.place, "", chosen=chosen, predictions=predictions, concluded=""
    )


def _on_concluded(state: StudyState, event: SearchConcluded, _: Happened) -> StudyState:
    return _with_records(state, event.place, "", concluded=event.why)


def _on_forgiven(state: StudyState, event: FailuresForgiven, happened: Happened) -> StudyState:
    made = _with_records(state, event.place, "", forgiven=happened.number)
    made = _with_other_figures(replace_state(made, unrecorded=Map()))
    made.__dict__.pop("memo", None)
    made.__dict__.pop("progress", None)
    return made


def _on_surroundings(state: StudyState, event: Surroundings, _: Happened) -> StudyState:
    return state if event == state.surroundings else replace_state(state, surroundings=event)


_HANDLERS: dict[type, Callable[[StudyState, Any, Happened], StudyState]] = {
    PlanEdited: _on_edit,
    PlanUndone: _on_undo,
    PlanRedone: _on_redo,
    RunFinished: _on_run,
    PictureLost: _on_lost,
    Measured: _on_measured,
    ReferenceGrew: _on_reference,
    ReferenceLost: _on_reference_lost,
    ChunkKept: _on_chunk,
    Derived: _on_derived,
    PixelsCompared: _on_pixels,
    RecordingKept: _on_recording,
    RecordingLost: _on_recording_lost,
    RecordingRefused: lambda state, event, _: _with_other_figures(
        replace_state(state, unrecorded=state.unrecorded.set(event.reference, event.reason))
    ),
    ChunkLost: lambda state, event, _: replace_state(
        state, chunks=_without(state.chunks, [(event.reference, event.chunk)])
    ),
    TrialChosen: _on_chosen,
    SearchConcluded: _on_concluded,
    FailuresForgiven: _on_forgiven,
    Surroundings: _on_surroundings,
    Named: lambda state, event, _: replace_state(state, names=state.names.set(event.name, event)),
    MeasuringEnded: lambda state, event, _: replace_state(state, outcome=event),
    OutcomeDismissed: lambda state, event, _: replace_state(state, outcome=None),
    Said: lambda state, event, _: state,
    PlaceShown: lambda state, event, _: replace_state(state, shown=event.place),
    HostApart: _on_apart,
    MachineShown: lambda state, event, _: replace_state(state, machine_shown=event.machine),
}


def validate(state: StudyState) -> None:
    """Check what must always hold. Raises AssertionError that names what does not."""
    for place, records in state.records.items():
        by_trial = sorted(run.number for runs in records.trials.values() for run in runs)
        assert by_trial == sorted(run.number for run in records.runs), (
            f"{place}: runs by trial and in order differ"
        )
        assert all(run.place == place for run in records.runs), f"{place}: a run of another place"
        assert all(run.trial == trial for trial, runs in records.trials.items() for run in runs), (
            f"{place}: a run's trial"
        )
        there: dict[str, set[str]] = {}
        controls: dict[tuple[str, int], int] = {}

        for run in records.runs:
            assert run.machine == state.filed(kind_of(run.machine), run.host), (
                f"run {run.number} is filed under {run.machine}"
            )
            assert (run.result is not None) or run.reason, (
                f"run {run.number} failed without a reason"
            )
            assert not (run.result is None and run.picture), (
                f"run {run.number} failed and has a picture"
            )

            if run.control:
                controls[run.machine, run.block] = controls.get((run.machine, run.block), 0) + 1
            if run.picture:
                there.setdefault(run.appearance, set()).add(run.picture)

        counted = Counter(key for run in records.runs for key in hosts_of(run))
        assert counted == Counter(dict(records.hosts)), (
            f"{place}: runs of hosts are counted wrongly"
        )
        done: dict[tuple[str, str], set[int]] = {}

        for run in records.runs:
            if run.result is not None and not run.control:
                done.setdefault((run.trial, run.machine), set()).add(run.block)

        assert {key: set(blocks) for key, blocks in records.blocks.items() if blocks} == done, (
            f"{place}: blocks and runs differ"
        )
        assert controls == dict(records.controls), f"{place}: controls are counted wrongly"
        kept = {appearance: set(names) for appearance, names in records.pictures.items() if names}
        assert kept == there, f"{place}: pictures and runs differ"
        of_chunks = {
            run.picture
            for run in records.runs
            if run.picture and chunk_of_seed(run.seed) is not None
        }
        assert records.of_chunks == of_chunks, f"{place}: pictures of chunks and runs differ"

        for key, measurement in records.measurements.items():
            assert measurement.key == key, f"{place}: a measurement under another key"
            assert measurement.place == place, f"{place}: a measurement of another place"

    fresh = replace(state)
    for name in (*_BY_PLAN, "here", "place", "planned", "appearances", "reference_name", "wanting"):
        if name in state.__dict__:
            assert state.__dict__[name] == getattr(fresh, name), (
                f"{name} was handed on although it changed"
            )

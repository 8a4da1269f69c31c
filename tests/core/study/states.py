"""States made up for tests: what was run and measured, without disk, worker or scene."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.renderers.records import RunRecord, Samples
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.log.events import (
    Event,
    Happened,
    Measured,
    Measurement,
    ReferenceGrew,
    Run,
    RunFinished,
    RunResult,
    Surroundings,
    TrialChosen,
)
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.state import StudyState, apply
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.plan.model import AREA_MARK, LIMIT_KEYS, Limits, Study, Sweep

HERE = Surroundings(SceneContent("0" * 16), "", "renderer", "machine", "software")
Range = tuple[float, float, float]
Figures = Mapping[str, Range | None]


def only_limits(**limits: float) -> Limits:
    """These limits and no other."""
    return Limits(**{**dict.fromkeys(LIMIT_KEYS), **limits})


def record_of(
    seconds: float = 1.0, phases_told: Mapping[str, float] | None = None, **changes: object
) -> RunRecord:
    """A render that took so long, all of it sampling, unless told otherwise."""
    phases = {
        "load": 0.0,
        "textures": 0.0,
        "build": 0.0,
        "sampling": seconds,
        "denoise": 0.0,
        "write": 0.0,
        "total": seconds,
        "first_picture": seconds / 10,
    }
    given: dict = dict(
        size=(4, 4),
        seconds=phases,
        phase_cpu_seconds={},
        cpu_seconds=seconds,
        peak_memory_bytes=1,
        memory_bytes={},
        samples=Samples(mean=1, min=1, max=1, share_at_max=1, min_used=1),
        rays={},
        light_by_bounce=[],
        seconds_by_bounce=[],
        threads=1,
        device="processor",
        settings={},
        seed=1,
        picture_bytes=1,
        dropped_samples=0,
        load_of_others=0.0,
        reused_scene=False,
        notes=[],
    )

    made = RunRecord(**{**given, **changes})
    return made if phases_told is None else made.model_copy(update={"seconds": dict(phases_told)})


class Happenings:
    """Applies events one after the other, each with the next number, and keeps whole records of
    renders."""

    def __init__(self, study: Study, surroundings: Surroundings = HERE) -> None:
        self.records: dict[int, RunRecord] = {}
        self.state = apply(StudyState(plan=study), Happened(0, "", surroundings))

    def happen(self, event: Event, at: str = "") -> StudyState:
        self.state = apply(self.state, Happened(self.state.version + 1, at, event))
        return self.state

    def run(
        self,
        configuration: Configuration,
        record: RunRecord | float | str,
        block: int = 0,
        control: bool = False,
        place: Place | None = None,
        machine: str = "",
        picture: str = "",
        host: str = "",
        at: str = "2026-01-02T03:04:05.000+00:00",
    ) -> Run:
        """A run that worked, or failed for the reason given."""
        trial = self.state.trial_of(configuration)
        number = self.state.version + 1
        if isinstance(record, int | float):
            record = record_of(float(record))

        worked = isinstance(record, RunRecord)
        if isinstance(record, RunRecord):
            self.records[number] = record

        where = place or self.state.here
        assert where is not None

        run = Run(
            number=number,
            finished_at=at,
            place=where,
            trial=trial.id,
            appearance=trial.appearance,
            machine=machine or self.state.machine,
            seed=number,
            block=block,
            control=control,
            picture=(picture or f"p{number}.exr") if worked else "",
            result=RunResult.of(record) if isinstance(record, RunRecord) else None,
            reason="" if isinstance(record, RunRecord) else record,
            software="software",
            host=host,
        )
        self.happen(RunFinished(run, configuration))
        return run

    def measure(
        self,
        configuration: Configuration,
        figures: Figures,
        versions: Mapping[str, int] | None = None,
    ) -> None:
        """Figures of all pictures of a configuration; those of watch areas as measure@name. Kinds
        not named are unknown."""
        state = self.state
        trial = self.state.trial_of(configuration)
        assert state.place is not None
        given = versions or {kind: made.version for kind, made in KINDS.items()}
        found = []

        for area in state.areas_measured:
            tail = "" if area is None else f"{AREA_MARK}{area.name}"
            own: dict[str, Figure | None] = dict.fromkeys(KINDS)

            for key, values in figures.items():
                kind, mark, name = key.partition(AREA_MARK)
                if mark + name == tail:
                    own[kind] = Figure(*values) if values is not None else None

            if area is None or any(key.endswith(tail) for key in figures):
                samples = state.reference.samples if state.reference is not None else 0
                found.append(
                    Measurement(
                        place=state.place,
                        key=state.measurement_key(trial.appearance, area),
                        pictures=state.results.pictures.get(trial.appearance, ()),
                        reference_samples=samples,
                        figures=own,
                        versions=given,
                    )
                )

        self.happen(Measured(tuple(found)))

    def reference(self, samples: int = 1000, floor: float = 0.5, chunks: int = 1) -> None:
        self.happen(
            ReferenceGrew(
                reference=self.state.reference_name,
                samples=samples,
                chunks=chunks,
                floor=floor,
                seconds=60.0,
            )
        )

    def choose(self, configuration: Configuration) -> None:
        assert self.state.here is not None
        self.happen(TrialChosen(self.state.here, configuration.identity_values(), "why"))

    def snapshot(self, folder: Path = Path("none")) -> Snapshot:
        return Snapshot(self.state, Folder(folder), RENDERER, self.records.get)


def measured(
    study: Study,
    trials: Mapping[Configuration, Sequence[float | RunRecord]],
    figures: Mapping[Configuration, Figures],
    reference: bool = True,
) -> Happenings:
    """A study with these runs, one a block, and these figures."""
    made = Happenings(study)
    if reference:
        made.reference()

    planned = {trial.id for trial in made.state.planned}
    for configuration in trials:
        if made.state.trial_of(configuration).id not in planned:
            made.choose(configuration)

    for configuration, runs in trials.items():
        for block, record in enumerate(runs):
            made.run(configuration, record, block)

    for configuration, own in figures.items():
        made.measure(configuration, own)

    return made


def showing(snapshot: Snapshot, results: Results) -> Snapshot:
    """The same snapshot with other results, for what only shows them."""
    state = replace(snapshot.state)
    state.__dict__["_results"] = results
    return replace(snapshot, state=state)


def on_two_machines() -> Happenings:
    """A study measured on this machine and another: the base takes 2 s and 8 s, a quarter of the
    samples 1 s and 6 s, small tiles 1.8 s and 2 s. Base and fewer samples are acceptable, and so
    are small tiles, which show the base's pixels."""
    base = configured({"samples.max": 32})
    sweep = Sweep("one at a time", {"samples.max": (8, 32), "tiles.size": (8, 64)})
    study = Study(
        name="s",
        scene="honey-stall",
        size=(64, 36),
        base=base,
        repeats=2,
        limits=only_limits(grain=2.0),
        sweeps=(sweep,),
    )
    made = Happenings(study)
    cheap = base.replace({"samples.max": 8})
    small = base.replace({"tiles.size": 8})
    made.reference()

    for machine, times in {"machine": (2.0, 1.0, 1.8), "other": (8.0, 6.0, 2.0)}.items():
        for block in range(3):
            for configuration, seconds in zip((base, cheap, small), times, strict=True):
                made.run(
                    configuration,
                    seconds * (1 + 0.001 * block),
                    block,
                    machine=machine,
                    host=f"h-{machine}",
                )

    for configuration in (base, cheap):
        made.measure(configuration, {"grain": (1.0, 0.9, 1.1)})

    return made

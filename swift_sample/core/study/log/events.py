"""What can happen to a study. The store keeps every event for good, in order; `state.apply` takes
one at a time, and applying them all again gives the same state. `Surroundings` and `PlaceShown` say
how a study is looked at now; they are not kept.

An event that is kept says under which name (`LOGGED_AS`), and which of its fields are words for
people (`TOLD_BY`); the log writes the others as they are declared.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, ClassVar

from pydantic import Field, PlainSerializer, PlainValidator

from swift_sample.core.measure.kinds import KINDS, Figure
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.log.identity import MeasurementKey, Place, Rectangle
from swift_sample.core.study.plan.model import Study

Amount = Annotated[float, Field(ge=0, allow_inf_nan=False)]
"""A finite number from 0 on."""

StoredFigure = Annotated[
    Figure,
    PlainSerializer(lambda figure: figure.numbers),
    PlainValidator(lambda stored: stored if isinstance(stored, Figure) else Figure.of(stored)),
]
"""A figure that stands in the log as its numbers."""


@dataclass(frozen=True, slots=True)
class RunResult:
    """What of a run is asked for often; the whole record of its render is kept beside it
    (`Store.record`)."""

    seconds: Mapping[str, Amount]
    """by phase, as far as the renderer tells: load, textures, build, first_picture, sampling,
    denoise, write; total is always there"""
    cpu_seconds: Amount
    peak_memory_bytes: Annotated[int, Field(ge=0)]
    picture_bytes: Annotated[int, Field(ge=0)]
    ready_seconds: Amount
    """what caches had to do before the clock started; 0 where it had been done"""
    load_of_others: Amount
    """share of the processor that other programs took"""
    samples_mean: Amount | None
    """None where the renderer does not tell"""

    @staticmethod
    def of(record: RunRecord) -> "RunResult":
        """From the whole record of a render."""
        return RunResult(
            seconds=record.seconds,
            cpu_seconds=record.cpu_seconds,
            peak_memory_bytes=record.peak_memory_bytes,
            picture_bytes=record.picture_bytes,
            ready_seconds=record.ready_seconds,
            load_of_others=record.load_of_others,
            samples_mean=record.samples.mean if record.samples is not None else None,
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """One render of a trial. `result` is None and `reason` is set where it failed, or where its
    picture was lost since."""

    number: int
    """its place in the log; 0 until it is kept"""
    finished_at: str
    place: Place
    trial: str
    appearance: str
    machine: str
    seed: int
    block: int
    control: bool
    picture: str
    """name of its picture's file; "" where there is none"""
    result: RunResult | None
    reason: str = ""
    software: str = ""
    lost: bool = False
    """whether it worked once, and its picture was lost since: no failure of the trial"""
    digest: str = ""
    """of its picture's file (see core.picture.stored); "" where none was kept"""
    by_machine: bool = False
    """whether it failed for a reason that is not the trial's: the renderer was killed, or memory
    ran out"""
    host: str = ""
    """which of several machines of one kind it was made on; "" for the one that held the study"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Measurement:
    """Figures of an appearance's pictures, and how much they rest on: which pictures, and how many
    samples of the reference. With more of either the same figures get surer; with another key they
    would be other figures."""

    place: Place
    key: MeasurementKey
    pictures: tuple[str, ...]
    reference_samples: int
    figures: Mapping[str, Figure | None]
    versions: Mapping[str, int]
    """of the formulas, by kind"""
    seconds: float = 0.0
    """that the recipe took for one picture"""

    @property
    def current(self) -> Mapping[str, Figure | None]:
        """The figures that are of their formula's present version."""
        return (
            self.figures
            if self.is_current
            else {kind: f for kind, f in self.figures.items() if self._is_current(kind)}
        )

    @property
    def is_current(self) -> bool:
        """Whether every figure is of its formula's present version."""
        return all(map(self._is_current, self.figures))

    def _is_current(self, kind: str) -> bool:
        return kind in KINDS and self.versions.get(kind) == KINDS[kind].version


@dataclass(frozen=True)
class PlanEdited:
    """The plan is another one. Edits of one `field` in quick succession are one step of undoing."""

    LOGGED_AS: ClassVar = "plan"
    TOLD_BY: ClassVar = "label"

    label: str
    plan: Study
    field: str = ""


@dataclass(frozen=True)
class PlanUndone:
    LOGGED_AS: ClassVar = "undone"


@dataclass(frozen=True)
class PlanRedone:
    LOGGED_AS: ClassVar = "redone"


@dataclass(frozen=True)
class RunFinished:
    """A run worked or failed."""

    LOGGED_AS: ClassVar = "run"

    run: Run
    configuration: Configuration | None = None
    """of its trial, for the store; the state keeps its name alone"""
    record: RunRecord | None = None
    """the whole record of the render, for the store; the state does not keep it"""


@dataclass(frozen=True)
class PictureLost:
    """The picture of a run is missing or damaged: the run is made again."""

    LOGGED_AS: ClassVar = "picture lost"
    TOLD_BY: ClassVar = "reason"

    place: Place
    run: int
    reason: str


@dataclass(frozen=True)
class Measured:
    LOGGED_AS: ClassVar = "measured"

    measurements: tuple[Measurement, ...]


@dataclass(frozen=True, kw_only=True)
class Derived:
    """What recorded chunks of the reference say of an appearance, without a render of it: figures
    against the rest of the reference, and what its samples take."""

    LOGGED_AS: ClassVar = "derived"

    place: Place
    appearance: str
    exposure: float
    curve: str
    reference: str
    chunks: tuple[int, ...]
    """those that its pictures were derived from"""
    reference_samples: int
    samples: float
    """that a pixel takes, on average"""
    work: float
    """the processor's cycles for them, as a share of those for a chunk's own picture"""
    denoise_seconds: float
    areas: tuple[tuple[Rectangle, Mapping[str, StoredFigure | None]], ...]
    """figures of the whole picture and of each watch area"""
    pixels: Mapping[int, str] = field(default_factory=dict)
    """digests of the derived pictures' pixels, by chunk"""
    machine: str = ""
    """the kind of machine that derived it: another one may round otherwise"""
    versions: Mapping[str, int]
    """of the formulas, by kind"""

    @property
    def key(self) -> tuple[str, float, str, str]:
        return (self.appearance, self.exposure, self.curve, self.reference)

    def answers(self, areas: Iterable[Rectangle]) -> bool:
        """Whether it has figures of all these areas by formulas as they are now, or is known to
        have none."""
        is_current = all(
            kind not in KINDS or KINDS[kind].version == version
            for kind, version in self.versions.items()
        )
        there = {where for where, _ in self.areas}
        return not self.areas or (is_current and there.issuperset(areas))

    def figures(self, area: Rectangle) -> Mapping[str, Figure | None]:
        """Of one area, as far as formulas are still the same; nothing where it was not measured."""
        found = next((figures for where, figures in self.areas if where == area), {})
        return {
            kind: figure
            for kind, figure in found.items()
            if kind in KINDS and self.versions.get(kind) == KINDS[kind].version
        }


@dataclass(frozen=True, kw_only=True)
class PixelsCompared:
    """A run had the seed of a recorded chunk of the reference: whether its picture was, bit for
    bit, the one that is derived from that."""

    LOGGED_AS: ClassVar = "pixels compared"
    TOLD_BY: ClassVar = "words"

    reference: str
    appearance: str
    chunk: int
    same: bool
    words: str = ""
    """where they differ"""


@dataclass(frozen=True, kw_only=True)
class ReferenceGrew:
    """A reference has this many samples now, in so many chunks, and this grain of its own in
    levels."""

    LOGGED_AS: ClassVar = "reference"

    reference: str
    samples: int
    chunks: int
    floor: float | None
    seconds: float
    digest: str = ""
    """of its file"""


@dataclass(frozen=True, kw_only=True)
class RecordingKept:
    """A chunk of a reference was recorded: pictures of other settings can be derived from it."""

    LOGGED_AS: ClassVar = "recording"

    reference: str
    chunk: int
    samples: int
    digest: str
    """of its file"""
    size_bytes: int
    made_for: Mapping[str, tuple[Value, ...]]
    """the values that it holds apart, by setting"""
    work: tuple[tuple[Mapping[str, Value], float], ...] = ()
    """what combinations of those that end paths, and of samples, take: shares of the work of the
    chunk's own picture"""


@dataclass(frozen=True)
class RecordingRefused:
    """Chunks of a reference cannot be recorded: they are only rendered, and so is everything
    else."""

    LOGGED_AS: ClassVar = "recording refused"
    TOLD_BY: ClassVar = "reason"

    reference: str
    reason: str


@dataclass(frozen=True)
class RecordingLost:
    """A recording cannot be used; it is made again from its seed."""

    LOGGED_AS: ClassVar = "recording lost"
    TOLD_BY: ClassVar = "reason"

    reference: str
    chunk: int
    reason: str


@dataclass(frozen=True)
class ChunkKept:
    """Samples of a reference that were rendered by themselves are there, to be merged into it in
    their order."""

    LOGGED_AS: ClassVar = "chunk"

    reference: str
    chunk: int
    samples: int
    seconds: float
    digest: str


@dataclass(frozen=True)
class ChunkLost:
    """Such samples cannot be used: they are rendered again."""

    LOGGED_AS: ClassVar = "chunk lost"
    TOLD_BY: ClassVar = "reason"

    reference: str
    chunk: int
    reason: str


@dataclass(frozen=True)
class ReferenceLost:
    LOGGED_AS: ClassVar = "reference lost"
    TOLD_BY: ClassVar = "reason"

    reference: str
    reason: str


@dataclass(frozen=True)
class Prediction:
    """What a search expected of a trial before it was rendered: seconds of the goal and the limit
    share, each with the interval in which it shall lie nine times of ten."""

    seconds: StoredFigure
    share: StoredFigure


@dataclass(frozen=True)
class TrialChosen:
    """A search wants a trial measured in this place."""

    LOGGED_AS: ClassVar = "search"
    TOLD_BY: ClassVar = "why"

    place: Place
    values: Mapping[str, Value]
    why: str
    predicted: Prediction | None = None


@dataclass(frozen=True)
class SearchConcluded:
    """A search expects nothing better any more; what may be the pick gets all its runs."""

    LOGGED_AS: ClassVar = "search concluded"
    TOLD_BY: ClassVar = "why"

    place: Place
    why: str


@dataclass(frozen=True)
class FailuresForgiven:
    """Measuring was asked for: trials that failed before are tried again."""

    LOGGED_AS: ClassVar = "tried again"

    place: Place


@dataclass(frozen=True)
class Named:
    """The record behind the name of a scene, a renderer or a machine that results are kept
    under."""

    LOGGED_AS: ClassVar = "named"

    kind: str
    name: str
    record: Mapping[str, Any]
    label: str = ""
    """for people: the scene's name"""


STOPPED = "stopped"
"""What a measuring ended with that a person stopped."""


@dataclass(frozen=True)
class HostApart:
    """One of several machines of a kind does not keep their pace, by its controls: its times are
    kept apart from theirs."""

    LOGGED_AS: ClassVar = "host apart"
    TOLD_BY: ClassVar = "why"

    machine: str
    host: str
    why: str


@dataclass(frozen=True)
class MeasuringEnded:
    """What the last measuring ended with, in words; it stands until it is dismissed or measuring
    begins again."""

    LOGGED_AS: ClassVar = "ended"
    TOLD_BY: ClassVar = "words"

    finished: bool
    words: str


@dataclass(frozen=True)
class OutcomeDismissed:
    LOGGED_AS: ClassVar = "dismissed"


@dataclass(frozen=True)
class Said:
    """Words for the study's log; they change nothing."""

    LOGGED_AS: ClassVar = "said"
    TOLD_BY: ClassVar = "text"

    kind: str
    text: str


@dataclass(frozen=True)
class Surroundings:
    """Where the study is looked at: the scene as it is on disk (or why it cannot be read), this
    renderer, this machine."""

    content: SceneContent | None
    problem: str
    renderer: str
    machine: str
    software: str = ""
    """versions that are recorded beside every run"""


@dataclass(frozen=True)
class PlaceShown:
    """Results of another place than the present one are looked at; None for the present one."""

    place: Place | None


@dataclass(frozen=True)
class MachineShown:
    """Times of another machine than this one are looked at; "" for this one."""

    machine: str


KeptEvent = (
    PlanEdited
    | PlanUndone
    | PlanRedone
    | RunFinished
    | PictureLost
    | Measured
    | ReferenceGrew
    | Derived
    | PixelsCompared
    | RecordingKept
    | RecordingLost
    | RecordingRefused
    | ChunkKept
    | ChunkLost
    | ReferenceLost
    | TrialChosen
    | SearchConcluded
    | FailuresForgiven
    | Named
    | HostApart
    | MeasuringEnded
    | OutcomeDismissed
    | Said
)
Event = KeptEvent | Surroundings | PlaceShown | MachineShown


@dataclass(frozen=True)
class Happened:
    """An event with its place in the log and its time (UTC, ISO 8601)."""

    number: int
    at: str
    event: Event

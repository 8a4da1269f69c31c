"""The typed messages between the runner and its worker: one JSON object a line."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from swift_sample.core.settings import Configuration, Value
from swift_sample.core.view import View

PHASES = ("load", "textures", "build", "sampling", "denoise", "write")
"""In the order in which they run; together they make up `total`."""


class _Message(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Samples(_Message):
    """How samples were spent; `min_used` is what an automatic minimum became."""

    mean: float
    min: int
    max: int
    share_at_max: float
    min_used: int


class RunRecord(_Message):
    """Everything measured about one render. Seconds are wall time unless named otherwise."""

    size: tuple[int, int]
    seconds: dict[str, float]
    """load, textures, build, first_picture, sampling, denoise, write, total"""
    phase_cpu_seconds: dict[str, float]
    cpu_seconds: float
    peak_memory_bytes: int
    memory_bytes: dict[str, int]
    samples: Samples
    rays: dict[str, object]
    light_by_bounce: list[list[float]]
    seconds_by_bounce: list[dict[str, float]]
    seconds_by_material: dict[str, float] = {}
    seconds_by_object: dict[str, float] = {}
    grain_by_samples: dict[int, float] = {}
    shift_by_bounces: dict[int, float] = {}
    """levels of light shift that lower bounce caps are predicted to add, under the view of this run"""
    texture_reads: int = 0
    texture_misses: int = 0
    threads: int
    device: str
    simulated: bool = False
    """the sampling time is that of a stand-in for a device"""
    tail_seconds: float = 0.0
    stopped: str = ""
    saved_seconds: float = 0.0
    settings: dict[str, Value]
    seed: int
    picture_bytes: int
    dropped_samples: int
    load_of_others: float
    ready_seconds: float = 0.0
    """what caches had to do before the clock started: the first render after opening takes as much longer. 0 where it had
    been done for an earlier run"""
    reused_scene: bool
    reused: list[str] = []
    """What a kept scene spared: file, geometry, acceleration, textures"""
    notes: list[str]


class RenderSpec(_Message):
    """What to render."""

    scene: str
    size: tuple[int, int]
    settings: dict[str, Value]
    seed: int
    exposure: float = 0.0
    curve: str = "straight"
    environment: str | None = None
    frame: int = 0

    @property
    def configuration(self) -> Configuration:
        return Configuration(self.settings)

    @property
    def view(self) -> View:
        return View(self.exposure, self.curve)


class RenderJob(_Message):
    kind: Literal["render"] = "render"
    spec: RenderSpec
    picture: str
    identity: dict[str, object] = {}
    """what the picture's header says of the study's names for it"""


class ReferenceJob(_Message):
    """Render more samples and merge them into the reference at `picture`, which has `samples_before` by the study's record; a
    file with another number is not extended but replaced."""

    kind: Literal["reference"] = "reference"
    spec: RenderSpec
    picture: str
    samples_before: int = 0
    chunks_before: int = 0
    seconds_before: float = 0.0


class MeasureJob(_Message):
    """Measure pictures of one configuration against a reference; without one only their grain means anything."""

    kind: Literal["measure"] = "measure"
    pictures: list[str]
    reference: str
    exposure: float
    curve: str
    areas: list[tuple[str, int, int, int, int]] = []
    """name, x, y, width, height, in pixels of `area_size`"""
    area_size: tuple[int, int] = (1, 1)
    denoise: dict[str, Value] | None = None
    """settings by which the pictures are denoised anew before they are measured; nothing is written"""


class WarmUpJob(_Message):
    kind: Literal["warm up"] = "warm up"


class Stop(_Message):
    """Stop the job in hand."""

    kind: Literal["stop"] = "stop"


Request = Annotated[RenderJob | ReferenceJob | MeasureJob | WarmUpJob | Stop, Field(discriminator="kind")]


class Ready(_Message):
    kind: Literal["ready"] = "ready"


class Progress(_Message):
    kind: Literal["progress"] = "progress"
    share: float
    text: str = ""


class Rendered(_Message):
    kind: Literal["rendered"] = "rendered"
    result: RunRecord


class ReferenceExtended(_Message):
    """`floor` is the reference's own grain in levels."""

    kind: Literal["reference extended"] = "reference extended"
    samples: int
    floor: float
    seconds: float


class Measured(_Message):
    """By area, "" for the whole picture: measure to [value, low, high], or None where it cannot be known."""

    kind: Literal["measured"] = "measured"
    areas: dict[str, dict[str, tuple[float, float, float] | None]]
    seconds: float = 0.0
    """that denoising one picture took, where that was asked for"""


class Failed(_Message):
    """`ends_measuring`: every other run would fail in the same way, as on a full disk. `trace` is where an error that nobody
    expected came from."""

    kind: Literal["failed"] = "failed"
    reason: str
    ends_measuring: bool = False
    trace: str = ""


class Stopped(_Message):
    kind: Literal["stopped"] = "stopped"


Reply = Annotated[Ready | Progress | Rendered | ReferenceExtended | Measured | Failed | Stopped, Field(discriminator="kind")]
Outcome = Ready | Rendered | ReferenceExtended | Measured | Failed | Stopped

# Two equal pictures have an infinite ratio of signal to noise, which plain JSON would turn into nothing.
_ENDLESS = ConfigDict(ser_json_inf_nan="constants")
REQUESTS: TypeAdapter[Request] = TypeAdapter(Request, config=_ENDLESS)
REPLIES: TypeAdapter[Reply] = TypeAdapter(Reply, config=_ENDLESS)


def reason_of(outcome: Outcome) -> str:
    """Why a job failed, in words."""
    return outcome.reason if isinstance(outcome, Failed) else "the renderer gave an unexpected answer"

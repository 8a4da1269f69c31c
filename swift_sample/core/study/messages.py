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


class RunResult(_Message):
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


class ReferenceJob(_Message):
    """Render more samples and merge them into the reference at `picture`."""

    kind: Literal["reference"] = "reference"
    spec: RenderSpec
    picture: str


class MeasureJob(_Message):
    kind: Literal["measure"] = "measure"
    pictures: list[str]
    reference: str
    exposure: float
    curve: str
    areas: list[tuple[str, int, int, int, int]] = []
    """name, x, y, width, height, in pixels of `area_size`"""
    area_size: tuple[int, int] = (1, 1)


class SmoothJob(MeasureJob):
    """Denoise stored pictures anew, as `settings` want it, and measure them. Nothing is written."""

    kind: Literal["smooth"] = "smooth"  # type: ignore[assignment]
    settings: dict[str, Value]


class WarmUpJob(_Message):
    kind: Literal["warm up"] = "warm up"


class Stop(_Message):
    """Stop the job in hand."""

    kind: Literal["stop"] = "stop"


Request = Annotated[RenderJob | ReferenceJob | MeasureJob | SmoothJob | WarmUpJob | Stop, Field(discriminator="kind")]


class Ready(_Message):
    kind: Literal["ready"] = "ready"


class Progress(_Message):
    kind: Literal["progress"] = "progress"
    share: float
    text: str = ""


class Rendered(_Message):
    kind: Literal["rendered"] = "rendered"
    result: RunResult


class ReferenceExtended(_Message):
    """`floor` is the reference's own grain in levels."""

    kind: Literal["reference extended"] = "reference extended"
    samples: int
    floor: float
    seconds: float


class Measured(_Message):
    """Measure to [value, low, high], or None where it cannot be known; those of watch areas as measure@name."""

    kind: Literal["measured"] = "measured"
    figures: dict[str, tuple[float, float, float] | None]
    seconds: float = 0.0
    """that smoothing one picture took, where that was asked for"""


class Failed(_Message):
    """`ends_measuring`: every other run would fail in the same way, as on a full disk."""

    kind: Literal["failed"] = "failed"
    reason: str
    ends_measuring: bool = False


class Stopped(_Message):
    kind: Literal["stopped"] = "stopped"


Reply = Annotated[Ready | Progress | Rendered | ReferenceExtended | Measured | Failed | Stopped,
                  Field(discriminator="kind")]
Outcome = Ready | Rendered | ReferenceExtended | Measured | Failed | Stopped

# Two equal pictures have an infinite ratio of signal to noise, which plain JSON would turn into nothing.
_ENDLESS = ConfigDict(ser_json_inf_nan="constants")
REQUESTS: TypeAdapter[Request] = TypeAdapter(Request, config=_ENDLESS)
REPLIES: TypeAdapter[Reply] = TypeAdapter(Reply, config=_ENDLESS)

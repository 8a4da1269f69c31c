"""What is asked of a renderer, and what it tells of a render: one record from where it is measured to where it is kept."""

from pydantic import BaseModel, ConfigDict

from swift_sample.core.picture.view import View
from swift_sample.core.settings import Configuration, Value

PHASES = ("load", "textures", "build", "sampling", "denoise", "write")
"""In the order in which they run; together they make up `total`."""


class Message(BaseModel):
    """Immutable, and strict about what it holds."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Samples(Message):
    """How samples were spent; `min_used` is what an automatic minimum became."""

    mean: float
    min: int
    max: int
    share_at_max: float
    min_used: int


class RunRecord(Message):
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


class RenderSpec(Message):
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

"""What is asked of a renderer, and what it tells of a render: one record from where it is measured
to where it is kept."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from swift_sample.core.budget import SIDE_PIXELS
from swift_sample.core.picture.view import View
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings import Catalogue, Configuration, Value

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


class TextureHeld(Message):
    """A texture as a render held it: texels of its finest level, and bytes of all that are kept."""

    name: str
    width: int
    height: int
    bytes: int
    materials: list[str] = []


class RenderRecord(Message):
    """Why a render took as long as it did, as far as its renderer tells. Seconds are wall time, of
    all threads together where they are by bounce, material or object. What is not told is empty or
    None."""

    samples: Samples | None = None
    rays: dict[str, object] = {}
    light_by_bounce: list[list[float]] = []
    """mean radiance that each bounce brings: [bounce][red, green, blue]"""
    seconds_by_bounce: list[dict[str, float]] = []
    seconds_by_material: dict[str, float] = {}
    seconds_by_object: dict[str, float] = {}
    picture_by_material: dict[str, float] = {}
    """share of the picture's pixels that show each material first"""
    numbers: dict[str, dict[str, list[int]]] = {}
    """under which numbers the layers `material` and `object` hold each name; -1 is the
    background"""
    grain_by_samples: dict[int, float] = {}
    """grain in levels, as it would have been had the render stopped at so many samples a pixel"""
    light_clamped: dict[str, list[float]] = {}
    """mean radiance (red, green, blue) that the render's own clamps took, by setting"""
    shift_by_setting: dict[str, dict[float, float]] = {}
    """levels of light shift that values of a setting are predicted to cost against none, by
    setting, under this run's view"""
    grain_by_setting: dict[str, dict[float, float]] = {}
    """how many times this run's grain values of a setting are predicted to show, 0 for off, by
    setting, under its view"""
    samples_by_setting: dict[str, dict[float, tuple[float, float, float]]] = {}
    """samples a pixel, grain in levels, and the share of pixels that would not have stopped, by
    setting and value"""
    memory_bytes: dict[str, int] = {}
    texture_reads: int | None = None
    texture_misses: int | None = None
    textures: list[TextureHeld] = []
    """the largest textures, by the bytes that they hold"""
    texels_a_pixel: dict[str, float] = {}
    """of a material's finest picture across a pixel, where the camera is nearest to it, by
    material"""
    triangles_a_pixel: dict[str, float] = {}
    """that face the camera, on each pixel that shows an object first, by object"""
    dropped_samples: int = 0
    """samples that were not a number and count as black"""
    tail_seconds: float | None = None
    """thread seconds spent waiting for the last tiles"""
    simulated: bool = False
    """the sampling time is that of a stand-in for a device"""
    stopped: str = ""
    """why sampling ended early: "clean", "by hand", or empty"""
    saved_seconds: float = 0.0
    """what the samples not taken would have cost, had they cost as much as those before them"""


class RunRecord(RenderRecord):
    """Everything measured about one render, from the first file that is read to the last that is
    written."""

    size: tuple[int, int]
    seconds: dict[str, float]
    """by phase, with first_picture and total; only total is always there"""
    phase_cpu_seconds: dict[str, float] = {}
    cpu_seconds: float
    peak_memory_bytes: int
    shift_by_bounces: dict[int, float] = {}
    """levels of light shift that lower bounce caps are predicted to add, under the view of this
    run"""
    threads: int | None = None
    device: str = ""
    settings: dict[str, Value]
    changes: dict[str, str] = {}
    """of the scene, as in its RenderSpec"""
    seed: int
    picture_bytes: int = 0
    load_of_others: float = 0.0
    """share of the processor that other programs took"""
    ready_seconds: float = 0.0
    """what caches had to do before the clock started: the first render after opening takes as much
    longer. 0 where it had been done for an earlier run"""
    reused_scene: bool = False
    reused: list[str] = []
    """what a kept scene spared: file, geometry, acceleration, textures"""
    notes: list[str] = []


_Side = Annotated[int, Field(ge=1, le=SIDE_PIXELS)]


class RenderSpec(Message):
    """What to render."""

    scene: str
    size: tuple[_Side, _Side]
    settings: dict[str, Value]
    seed: int
    exposure: float = 0.0
    curve: str = "straight"
    staging: Staging = Staging()
    frame: int = 0
    changes: dict[str, str] = {}
    """what is taken away from the scene, or cheaper in it, by the keys of its features"""

    def configuration(self, catalogue: Catalogue) -> Configuration:
        """Its settings as the renderer's catalogue checks them. Raises SettingError."""
        return Configuration(catalogue, self.settings)

    @property
    def view(self) -> View:
        return View(self.exposure, self.curve)


class RecordSpec(Message):
    """What to record: a render that opens what is derived, for every combination of `values` by
    setting over the settings `base`."""

    spec: RenderSpec
    base: dict[str, Value]
    values: dict[str, list[Value]] = {}

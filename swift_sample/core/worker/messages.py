"""The typed messages to a worker and back: one JSON object a line."""

from typing import Annotated, Literal

from pydantic import ConfigDict, Field, TypeAdapter

from swift_sample.core.renderers.records import Message, RecordSpec, RenderSpec, RunRecord
from swift_sample.core.settings import Value


class RenderJob(Message):
    kind: Literal["render"] = "render"
    spec: RenderSpec
    picture: str
    identity: dict[str, object] = {}
    """what the picture's header says of the study's names for it"""
    everything: bool = False
    """whether light passes are kept too"""
    with_pixels: bool = False
    """whether the digest of its pixels is wanted"""


class ReferenceJob(Message):
    """Render more samples and merge them into the reference at `picture`, which has
    `samples_before` by the study's record; a file with another number is not extended but
    replaced."""

    kind: Literal["reference"] = "reference"
    spec: RenderSpec
    picture: str
    samples_before: int = 0
    chunks_before: int = 0
    seconds_before: float = 0.0
    digest: str = ""
    """of the file as it was last written"""
    chunk: str = ""
    """the picture with these samples, where another machine rendered them in `chunk_seconds`"""
    chunk_digest: str = ""
    chunk_seconds: float = 0.0
    record: RecordSpec | None = None
    """what these samples are to hold apart in the recording `recording`; None where they are only
    rendered"""
    recording: str = ""


class ChunkJob(Message):
    """Render samples of the reference by themselves, to be merged elsewhere, into a picture of
    their own."""

    kind: Literal["chunk"] = "chunk"
    spec: RenderSpec
    picture: str


class RecordJob(Message):
    """Make the recording of samples that a reference has already."""

    kind: Literal["record"] = "record"
    wanted: RecordSpec
    recording: str


class Piece(Message):
    """A recording, and how many samples of the reference it is."""

    recording: str
    samples: int


class DeriveJob(Message):
    """Derive the pictures of one configuration from pieces of a reference, and measure them against
    the rest of it."""

    kind: Literal["derive"] = "derive"
    settings: dict[str, Value]
    pieces: list[Piece]
    reference: str
    reference_samples: int
    digests: dict[str, str]
    exposure: float
    curve: str
    areas: list[tuple[str, int, int, int, int]] = []
    size: tuple[int, int]
    picture: str = ""
    """where the picture derived from the first piece is put; "" for nowhere"""


class MeasureJob(Message):
    """Measure pictures of one configuration against a reference; without one only their grain means
    anything."""

    kind: Literal["measure"] = "measure"
    pictures: list[str]
    reference: str
    exposure: float
    curve: str
    areas: list[tuple[str, int, int, int, int]] = []
    """name, x, y, width, height, in pixels of the reference"""
    size: tuple[int, int]
    """of the reference"""
    digests: dict[str, str] = {}
    """of the files as they were written, by their paths, as far as they were kept"""
    denoise: dict[str, Value] | None = None
    """settings by which the pictures are denoised anew before they are measured; nothing is
    written"""


class PreviewJob(Message):
    """Show a scene soon, coarse at first, then cleaner up to `samples` a pixel; its stages are
    written into `folder`."""

    kind: Literal["preview"] = "preview"
    spec: RenderSpec
    samples: int
    folder: str
    number: int
    """of the preview, for telling one from another"""


class WarmUpJob(Message):
    kind: Literal["warm up"] = "warm up"


class Stop(Message):
    """Stop the job in hand."""

    kind: Literal["stop"] = "stop"


Request = Annotated[
    RenderJob
    | ReferenceJob
    | ChunkJob
    | RecordJob
    | DeriveJob
    | MeasureJob
    | PreviewJob
    | WarmUpJob
    | Stop,
    Field(discriminator="kind"),
]


class Ready(Message):
    kind: Literal["ready"] = "ready"


class Progress(Message):
    kind: Literal["progress"] = "progress"
    share: float
    text: str = ""


class Shown(Message):
    """A stage of a preview: float16[h, w, 3], linear, stands in `path`."""

    kind: Literal["shown"] = "shown"
    number: int
    path: str
    samples: int


class Previewed(Message):
    """A preview came to its end; its picture, whole, stands in `path`."""

    kind: Literal["previewed"] = "previewed"
    number: int
    path: str
    samples: int


class Rendered(Message):
    kind: Literal["rendered"] = "rendered"
    result: RunRecord
    digest: str
    """of the picture's file"""
    pixels: str = ""
    """and of its pixels, where that was asked for"""


class Recorded(Message):
    """A recording was made; `digest` is of its file."""

    kind: Literal["recorded"] = "recorded"
    digest: str
    size_bytes: int
    seconds: float
    work: list[tuple[dict[str, Value], float]] = []
    """what samples and ends of paths take, as `Recording.work` tells it"""


class Derived(Message):
    """Figures as in `Measured`; and what a render takes, means over pieces: samples a pixel, cycles
    for them beside those of the piece's own picture, and seconds that denoising took."""

    kind: Literal["derived"] = "derived"
    areas: dict[str, dict[str, list[float] | None]]
    samples: float
    work: float
    denoise_seconds: float
    pixels: list[str] = []
    """digests of the derived pictures' pixels, one for each piece"""


class ReferenceExtended(Message):
    """`floor` is the reference's own grain in levels, None where it has no halves to tell it by."""

    kind: Literal["reference extended"] = "reference extended"
    samples: int
    floor: float | None
    seconds: float
    digest: str
    recording: Recorded | None = None
    """of the samples that were added"""
    unrecorded: str = ""
    """why they were not recorded, though that was asked for"""


class ChunkRendered(Message):
    kind: Literal["chunk rendered"] = "chunk rendered"
    seconds: float
    digest: str


class Measured(Message):
    """By area, "" for the whole picture: measure to the numbers of its figure, or None where it
    cannot be known."""

    kind: Literal["measured"] = "measured"
    areas: dict[str, dict[str, list[float] | None]]
    seconds: float = 0.0
    """that denoising one picture took, where that was asked for"""


class Failed(Message):
    """`fault` says whose it is: of the job; of the memory, which was not enough; of the machine,
    which was lost; of the disk, which is full; or of the folder, where nothing can be written.
    `trace` is where an error that nobody expected came from."""

    kind: Literal["failed"] = "failed"
    reason: str
    fault: Literal["job", "memory", "machine", "disk", "folder"] = "job"
    trace: str = ""


class Unfit(Message):
    """Stored pictures cannot be used: what is wrong with each, by its path."""

    kind: Literal["unfit"] = "unfit"
    faults: dict[str, str]


class Void(Message):
    """The job was done, but not under conditions under which its time means anything: the machine
    slept meanwhile."""

    kind: Literal["void"] = "void"
    reason: str


class Held(Message):
    """The job was not begun: another study is timed there."""

    kind: Literal["held"] = "held"
    reason: str


class Stopped(Message):
    kind: Literal["stopped"] = "stopped"


Outcome = (
    Ready
    | Rendered
    | Previewed
    | ReferenceExtended
    | Recorded
    | Derived
    | ChunkRendered
    | Measured
    | Failed
    | Unfit
    | Void
    | Held
    | Stopped
)
Reply = Annotated[Outcome | Progress | Shown, Field(discriminator="kind")]

# Two equal pictures have an infinite ratio of signal to noise, which plain JSON would turn into
# nothing.
_ENDLESS = ConfigDict(ser_json_inf_nan="constants")
REQUESTS: TypeAdapter[Request] = TypeAdapter(Request, config=_ENDLESS)
REPLIES: TypeAdapter[Reply] = TypeAdapter(Reply, config=_ENDLESS)


def reason_of(outcome: Outcome) -> str:
    """Why a job failed, in words."""
    return (
        outcome.reason if isinstance(outcome, Failed) else "the renderer gave an unexpected answer"
    )

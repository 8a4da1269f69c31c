"""What a study needs of a renderer, and nothing of what it is.

A `Renderer` says what there is: settings, capabilities, version, scenes. It is asked in every
process. An `Engine` renders, one picture at a time, in the worker's process. Everything above asks
roles and capabilities, never for a renderer's name; what a renderer cannot tell is absent from its
records.
"""

import gc
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import numpy as np

from swift_sample.core.errors import RendererError
from swift_sample.core.machine import LoadMeter, peak_memory_bytes, reset_peak_memory
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.costs import Part
from swift_sample.core.renderers.headers import put_record
from swift_sample.core.renderers.records import RecordSpec, RenderSpec, RunRecord
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging, Viewpoint
from swift_sample.core.settings import Capabilities, Catalogue, Configuration, Setting, Value

Progress = Callable[[float], None]
"""Told the share of the render that is done, 0 to 1, while it goes on."""
Stop = Callable[[], None]
"""Ends the render in hand soon, with RenderStoppedError; may be called from any thread."""


FRAMES = "frames"
"""The name under which a scene lacks movement."""
SMOOTH = "smooth"
"""The layer of a preview with the picture denoised."""
ShowStage = Callable[[np.ndarray, int], None]
"""Shown a picture while it is being made, linear float32[h, w, 3] of any size, with its samples a
pixel."""


@dataclass(frozen=True)
class SceneContent:
    """Digests of a scene's files, of the light from everywhere that replaces its own, and of what
    else was staged ("" for none)."""

    scene: str
    environment: str = ""
    staging: str = ""


@dataclass(frozen=True, kw_only=True)
class SceneFacts:
    """What of a scene settings can act on. `missing` maps features that settings may need, and the
    scene lacks, to words; `choices` are values that the scene offers for settings of kind "text";
    `notes` are sentences about what was made up or left out, `about` what it holds, in words.
    `cameras` are the names of its own; `viewpoint` is the one in use."""

    missing: Mapping[str, str] = field(default_factory=dict)
    choices: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    about: tuple[str, ...] = ()
    cameras: tuple[str, ...] = ()
    viewpoint: Viewpoint | None = None
    frames: int | None = 1
    """None where the renderer does not tell"""
    memory_bytes: int = 0
    """that building it takes"""
    only_glows: bool = False
    """whether nothing but glowing objects lights it: no lamp, no sky"""

    @property
    def still(self) -> str:
        """Why all frames are the same, in words; "" where they may differ."""
        if self.frames is None or self.frames > 1:
            return ""
        return self.missing.get(FRAMES, "nothing in the scene moves")

    def reason_against(self, needed: str) -> str:
        """Why a setting that needs this feature has no effect; "" where it has one."""
        return self.missing.get(needed, "") if needed else ""


@dataclass(frozen=True)
class Finding:
    """A sentence with its figures, the share of the time it is about, and the changes to the base
    that would test it; none where there is nothing to try. `mends` is the limit that the changes
    are to bring a trial within, "" where they are to save time."""

    text: str
    time_share: float
    changes: Mapping[str, Value] = field(default_factory=dict)
    mends: str = ""

    @property
    def gain(self) -> tuple[float, float]:
        """Between which shares of the time the changes are expected to save: no more than what it
        is about, as far as that can be told, and half of it at least."""
        return 0.5 * self.time_share, 1.1 * self.time_share


@dataclass(frozen=True, kw_only=True)
class Case:
    """What findings look at: one measured trial and the record of its typical run. `limits` are the
    study's by measure, `phases` the medians of its times."""

    settings: Configuration
    record: RunRecord
    phases: Sequence[Part]
    figures: Mapping[str, Figure | None]
    limits: Mapping[str, float]
    renders_per_opening: int = 1

    def phase(self, name: str) -> Part:
        return next((part for part in self.phases if part.name == name), Part(name, 0.0, 0.0))


class FindingKind(Protocol):
    """One kind of finding."""

    def look(self, case: Case) -> Finding | None:
        """The finding, or None where there is nothing to say."""
        ...


class Renderer:
    """Says what a renderer is. Subclasses set the fields, and override what does not fit."""

    name: str
    """in identities and in study.toml"""
    title: str
    """for people"""
    catalogue: Catalogue
    worker: str
    """`package.module:attribute` by which the worker's process finds this renderer; or
    `package.module:class:file`, made of a file"""
    scene_names: tuple[str, ...] = ()
    """scenes that it knows by name, without a file"""
    findings: tuple[FindingKind, ...] = ()
    """what it can advise from its own records"""

    @property
    def capabilities(self) -> Capabilities:
        return self.catalogue.capabilities

    @property
    def version(self) -> str:
        """Changes with whatever can change a pixel. Raises RendererError where there is no
        telling."""
        raise NotImplementedError

    def is_ready(self) -> bool:
        """Whether the first render can begin at once; False where something has to be prepared,
        about a minute long."""
        return True

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        """What a scene holds now. Raises SceneError where it is missing or cannot be read."""
        raise NotImplementedError

    def scene_files(self, scene: str) -> list[Path]:
        """The scene's file and those that it refers to, as far as they are there. Raises
        SceneError."""
        return [] if scene in self.scene_names else [Path(scene)]

    def check_scene(self, scene: str, base: Configuration, frame: int, staging: Staging) -> None:
        """See that this is a scene, and its light from everywhere is some, before they are given
        away. Raises SceneError, and RendererError where the renderer is not here or may not be
        started."""
        self.facts(scene, base, frame, staging)

    def own_files(self) -> list[tuple[Path, str]]:
        """Files that say how it is started, with the names that they have beside each other, the
        one that a study names first; none of a renderer that comes with the application."""
        return []

    def facts(
        self, scene: str, base: Configuration, frame: int, staging: Staging = AS_IN_THE_FILE
    ) -> SceneFacts:
        """What of a scene settings can act on. Raises SceneError."""
        return SceneFacts()

    def scene_settings(
        self, scene: str, frame: int = 0, staging: Staging = AS_IN_THE_FILE
    ) -> Sequence[Setting]:
        """Settings for what the scene itself has: features of its materials, each as it is by
        default, and cheaper values. They are told to renders in `RenderSpec.changes`. Raises
        SceneError."""
        return ()

    def command_for(self, spec: RenderSpec) -> str:
        """What renders this in a terminal, for a person to take along. Raises RendererError where
        nothing does."""
        raise RendererError(f"{self.title}: there is no command that renders with it")

    def doubts(self, configuration: Configuration) -> Sequence[str]:
        """What in a configuration can only be slower here, in words. Raises UsageError where values
        contradict each other."""
        return ()

    def why_not_derived(self, recorded: Configuration, wanted: Configuration) -> str:
        """Why the picture of `wanted` does not come out of a recording of `recorded`, in words; ""
        where it does, if the recording was made for its values."""
        return self.capabilities.why_not("records")

    def engine(self) -> "Engine":
        """Something that renders, for the worker's process."""
        raise NotImplementedError


@dataclass(frozen=True, kw_only=True)
class Derived:
    """A picture that came out of a recording, and what a render of it takes beside what all renders
    take: samples a pixel, the processor's cycles for these (to be compared with others of the same
    recording only), and seconds that denoising took here."""

    picture: Picture
    opened: np.ndarray
    """the same samples with everything open and nothing denoised, linear float32[h, w, 3]"""
    samples: float
    cycles: float
    denoise_seconds: float


class Recording(Protocol):
    """A recording that is open. Both raise UnfitPictureError where its file is not what was
    written."""

    def own(self) -> Derived:
        """What a plain render of the recording's own configuration gives."""

    def derive(self, configuration: Configuration, view: View) -> Derived:
        """The picture that a render of `configuration` with the recording's seed would have given.
        Raises UsageError where the recording does not hold it."""

    def work(
        self, base: Configuration, values: Mapping[str, Sequence[Value]]
    ) -> list[tuple[dict[str, Value], float]]:
        """The processor's cycles for every combination of those values over `base` that decide
        where paths and pixels end, where no threshold stops any, as a share of those for the own
        picture."""

    def close(self) -> None: ...


class Engine:
    """Renders one picture at a time. What a renderer leaves to the others here is what most have in
    common."""

    def __init__(self, renderer: Renderer) -> None:
        self.renderer = renderer

    def warm_up(self, tell: Callable[[float, str], None]) -> None:
        """Do once whatever the first render would otherwise be timed with; `tell` hears the share
        done, and words."""

    def make_ready(self, spec: RenderSpec) -> float:
        """Do what caches spare every render but the first. Returns the seconds that it took, 0
        where all was ready."""
        return 0.0

    def draw(
        self,
        spec: RenderSpec,
        configuration: Configuration,
        progress: Progress,
        started: Callable[[Stop], None],
    ) -> Picture:
        """The picture, its light linear Rec. 709. `started` may be given what stops it."""
        raise NotImplementedError

    def render(
        self,
        spec: RenderSpec,
        path: Path | None,
        progress: Progress,
        started: Callable[[Stop], None],
        layers: tuple[str, ...] | None = None,
        identity: Mapping[str, object] | None = None,
    ) -> tuple[Picture, RunRecord]:
        """Render and write, with all that can be told of it. `layers` are those that are written,
        None for all; `identity` goes into the header beside the record. Raises RenderStoppedError,
        SceneError, PictureError or RendererError."""
        gc.collect()
        reset_peak_memory()
        meter = LoadMeter()
        wall = time.perf_counter()
        processor = time.process_time()
        configuration = spec.configuration(self.renderer.catalogue)
        picture = self.draw(spec, configuration, progress, started)
        sampling = time.perf_counter() - wall
        written = 0

        record = RunRecord(
            size=(picture.width, picture.height),
            seconds={},
            cpu_seconds=0.0,
            peak_memory_bytes=peak_memory_bytes(),
            settings=dict(configuration),
            seed=spec.seed,
            simulated=configuration.is_simulated,
        )
        if path is not None:
            put_record(picture, record, identity)
            written = write_exr(path, picture, layers)

        total = time.perf_counter() - wall
        return picture, record.model_copy(
            update={
                "seconds": {"sampling": sampling, "write": total - sampling, "total": total},
                "cpu_seconds": time.process_time() - processor,
                "peak_memory_bytes": peak_memory_bytes(),
                "picture_bytes": written,
                "load_of_others": meter.share(),
            }
        )

    def preview(
        self, spec: RenderSpec, samples: int, show: ShowStage, started: Callable[[Stop], None]
    ) -> Picture:
        """A picture of the scene as soon as can be, in stages where the renderer has them; nothing
        of it is timed. Up to so many samples a pixel. Raises what `render` raises."""
        picture = self.draw(
            spec, spec.configuration(self.renderer.catalogue), lambda share: None, started
        )
        show(picture.beauty, samples)
        return picture

    def record(
        self, wanted: RecordSpec, path: Path, progress: Progress, started: Callable[[Stop], None]
    ) -> Picture:
        """Make a recording into the file `path` and return its own picture, that of a plain render
        of `wanted.spec`. Nothing of it is timed. Raises what `render` raises."""
        raise RendererError(f"{self.renderer.title} keeps no recordings")

    def open_recording(self, path: Path) -> "Recording":
        """A recording that was made. Raises UnfitPictureError where its file is not what was
        written."""
        raise RendererError(f"{self.renderer.title} keeps no recordings")

    def denoise(self, picture: Picture, configuration: Configuration) -> Picture:
        """A stored picture denoised as a configuration says."""
        raise RendererError(f"{self.renderer.title} cannot denoise a picture that is there already")

"""A program that renders, behind the port."""

import hashlib
import json
import logging
import os
import shlex
import shutil
import sys
import tempfile
import threading
from collections.abc import Callable, Mapping
from functools import cached_property
from pathlib import Path

from swift_sample.core.errors import RendererError, RenderStoppedError, SceneError, plain
from swift_sample.core.machine import LoadMeter, available_processors
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.command.description import RendererFile, described_by, filled
from swift_sample.core.renderers.command.pictures import picture_left, stamp_of
from swift_sample.core.renderers.command.running import Bounds, Ran, run_program
from swift_sample.core.renderers.command.times import Told
from swift_sample.core.renderers.command.trust import is_confirmed, seen_file
from swift_sample.core.renderers.command.values import (
    SETTINGS_FILE,
    Order,
    Prepared,
    prepare,
    threads_of,
)
from swift_sample.core.renderers.headers import put_record
from swift_sample.core.renderers.port import (
    FRAMES,
    Engine,
    Progress,
    Renderer,
    SceneContent,
    SceneFacts,
    ShowStage,
    Stop,
)
from swift_sample.core.renderers.records import RenderSpec, RunRecord
from swift_sample.core.scene.digests import digest_of
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.setting import SAMPLES, SCALE

VERSION_SECONDS = 10.0
MOST_READ = 10_000
"""Files that a scene may depend on."""
SMALLER, SMALL_SAMPLES, LEAST_SIDE = 4, 4, 32
"""Of the first picture of a preview: how much smaller its sides are, its samples at most, and the
least side in pixels."""

logger = logging.getLogger(__name__)


class CommandRenderer(Renderer):
    """The program that a renderer file describes."""

    def __init__(self, path: Path) -> None:
        self.seen = seen_file(path)
        self.path = self.seen.path
        self.described: RendererFile = described_by(self.seen)
        self.name = self.described.name
        self.title = self.described.title
        self.catalogue = self.described.catalogue
        self.worker = f"{__name__}:{CommandRenderer.__name__}:{self.path}"

    @cached_property
    def version(self) -> str:
        """By what its file says, and what the program answers when it is asked for its own."""
        self.check_confirmed()
        said = hashlib.sha256(self.described.model_dump_json().encode())

        if self.described.version:
            holes = {"here": str(self.path.parent), "python": sys.executable}
            command = [filled(word, holes) for word in self.described.version]
            ran = run_program(
                command, self.path.parent, {}, Bounds(VERSION_SECONDS, output_bytes=1 << 20)
            )

            if ran.status:
                raise RendererError(
                    f"{self.title} does not tell its version (it ended with status "
                    f"{ran.status}); check version"
                )

            said.update("\n".join(ran.lines).encode("utf-8", "replace"))

        return said.hexdigest()[:16]

    def check_confirmed(self) -> None:
        """Raises RendererError unless a person has confirmed the file as it was read."""
        if not is_confirmed(self.seen):
            raise RendererError(
                f"{self.path}: names programs to start and was not confirmed as it is now; look at "
                f"it with `swift-sample renderer check`, which asks"
            )

    def check_scene(self, scene: str, base: Configuration, frame: int, staging: Staging) -> None:
        self.check_confirmed()
        super().check_scene(scene, base, frame, staging)

    def scene_files(self, scene: str) -> list[Path]:
        path = Path(scene)
        if not path.is_file():
            raise SceneError(f"{scene}: no such scene")

        home = path.resolve().parent
        found: set[Path] = set()

        for pattern in self.described.scene.reads:
            for other in path.parent.glob(pattern):
                if other.is_file() and other.resolve().is_relative_to(home):  # a link may lead out
                    found.add(other)
                if len(found) > MOST_READ:
                    raise SceneError(
                        f"{scene}: scene.reads names over {MOST_READ:,} files; name those it "
                        "depends on"
                    )

        return [path, *sorted(found - {path})]

    def own_files(self) -> list[tuple[Path, str]]:
        home = self.path.parent.resolve()
        copies = (
            Path(filled(text, {"here": str(home)})).resolve()
            for text in self.described.copies.values()
        )
        beside = {path for path in copies if path.is_relative_to(home) and path.is_file()}
        return [
            (path, path.relative_to(home).as_posix())
            for path in (self.path.resolve(), *sorted(beside))
        ]

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        if staging != AS_IN_THE_FILE:
            raise SceneError(f"{self.title} takes light and camera from its scene; put them there")

        suffixes = self.described.scene.suffixes
        if suffixes and Path(scene).suffix.lower() not in suffixes:
            raise SceneError(f"{scene}: {self.title} renders {', '.join(suffixes)}")

        return SceneContent(digest_of(sorted(self.scene_files(scene)))[:16])

    def facts(
        self, scene: str, base: Configuration, frame: int, staging: Staging = AS_IN_THE_FILE
    ) -> SceneFacts:
        self.scene_content(scene, staging)
        about = (f"{self.title} does not tell what is in {Path(scene).name}",)
        if self.described.uses("frame"):
            return SceneFacts(about=about, frames=None)

        return SceneFacts(
            missing={FRAMES: "its renderer file has no {frame}: all frames are the same"},
            about=about,
        )

    def command_for(self, spec: RenderSpec) -> str:
        """With what is put into files as remarks beneath it."""
        configuration = spec.configuration(self.catalogue)
        with tempfile.TemporaryDirectory() as folder:
            prepared = CommandEngine(self).prepare(spec, configuration, Path(folder))
            words = [
                *(f"{name}={shlex.quote(value)}" for name, value in prepared.environment.items())
            ]
            line = " ".join([*words, shlex.join(prepared.command)])
            lines = [line.replace(f"{folder}/", "").replace(folder, ".")]

        if self.described.uses("settings"):
            lines.append(
                f"# in {SETTINGS_FILE}: {json.dumps(dict(configuration), ensure_ascii=False)}"
            )

        for one in self.described.setting:
            if one.in_file is not None:
                told = (
                    one.in_file.pointer or one.in_file.key or " … ".join(one.in_file.between or ())
                )
                source = filled(
                    self.described.copies[one.in_file.file], {"here": str(self.path.parent)}
                )
                lines.append(
                    f"# in a copy of {source}: {told} = {one.word_for(configuration[one.key])}"
                )

        return "\n".join(lines)

    def engine(self) -> Engine:
        return CommandEngine(self)


class CommandEngine(Engine):
    """Starts the program anew for every picture."""

    renderer: CommandRenderer

    def draw(
        self,
        spec: RenderSpec,
        configuration: Configuration,
        progress: Progress,
        started: Callable[[Stop], None],
    ) -> Picture:
        picture, _ = self.render(spec, None, progress, started)
        return picture

    def render(
        self,
        spec: RenderSpec,
        path: Path | None,
        progress: Progress,
        started: Callable[[Stop], None],
        layers: tuple[str, ...] | None = None,
        identity: Mapping[str, object] | None = None,
    ) -> tuple[Picture, RunRecord]:
        self.renderer.check_confirmed()
        configuration = spec.configuration(self.renderer.catalogue)
        described = self.renderer.described
        stopping = threading.Event()
        started(stopping.set)
        work = Path(tempfile.mkdtemp(prefix="swift-sample-render-"))

        try:
            told = Told(described, progress)
            prepared = self.prepare(spec, configuration, work)
            before = stamp_of(prepared.picture)
            meter = LoadMeter()
            ran = self._run(prepared, work, told, stopping)
            load = meter.share(ran.processor_seconds)
            picture, size_bytes = picture_left(
                prepared.picture,
                described.picture.kind,
                self._size(spec, configuration),
                before,
                ran.last_words,
            )
            seconds = told.seconds(ran.seconds, prepared.report)
        finally:
            shutil.rmtree(work, ignore_errors=True)

        notes = list(told.notes)
        if ran.left_behind:
            notes.append(f"it left {ran.left_behind} of its processes running, which were ended")

        record = RunRecord(
            size=(picture.width, picture.height),
            seconds=seconds,
            cpu_seconds=ran.processor_seconds,
            peak_memory_bytes=ran.peak_memory_bytes,
            settings=dict(configuration),
            seed=spec.seed,
            picture_bytes=size_bytes,
            load_of_others=load,
            notes=notes,
        )
        if path is not None:
            put_record(picture, record, identity)
            write_exr(path, picture, layers)

        return picture, record

    def preview(
        self, spec: RenderSpec, samples: int, show: ShowStage, started: Callable[[Stop], None]
    ) -> Picture:
        """A small picture of a few samples first, where the program makes one, since it may take
        minutes over a whole one."""
        width, height = spec.size
        few = min(samples, SMALL_SAMPLES)
        small = (width // SMALLER, height // SMALLER)

        if min(small) >= LEAST_SIDE:
            first = self._with_samples(spec, few).model_copy(update={"size": small})
            try:
                show(
                    self.draw(
                        first,
                        first.configuration(self.renderer.catalogue),
                        lambda share: None,
                        started,
                    ).beauty,
                    few,
                )
            except RenderStoppedError:
                raise
            except RendererError as error:
                logger.info("no small preview: %s", error)  # the whole one tells what is wrong

        return super().preview(self._with_samples(spec, samples), samples, show, started)

    def _with_samples(self, spec: RenderSpec, samples: int) -> RenderSpec:
        """With so many at most, where there is a setting for it."""
        count = self.renderer.catalogue.with_role(SAMPLES)
        if count is None:
            return spec

        fewer = min(samples, int(spec.settings[count.key]))
        return spec.model_copy(update={"settings": {**spec.settings, count.key: fewer}})

    def prepare(self, spec: RenderSpec, configuration: Configuration, work: Path) -> Prepared:
        """All that is needed to start it, in a folder of its own. Raises RendererError."""
        threads = threads_of(configuration, available_processors())
        order = Order(
            Path(os.path.abspath(spec.scene)),
            self._size(spec, configuration),
            spec.frame,
            spec.seed,
            threads,
        )
        return prepare(
            self.renderer.described, self.renderer.path.parent, configuration, order, work
        )

    def _size(self, spec: RenderSpec, configuration: Configuration) -> tuple[int, int]:
        """Of the picture, by what the setting with the role of a scale says."""
        scale = configuration.number_in_role(SCALE) or 1.0
        width, height = (max(1, int(side * scale + 0.5)) for side in spec.size)
        return width, height

    def _run(self, prepared: Prepared, work: Path, told: Told, stopping: threading.Event) -> Ran:
        limits = self.renderer.described.limits
        bounds = Bounds(
            limits.seconds,
            limits.memory_mb * 2**20 if limits.memory_mb else None,
            limits.output_mb * 2**20,
        )
        ran = run_program(
            prepared.command,
            prepared.folder,
            prepared.environment,
            bounds,
            work,
            told.hear,
            stopping,
        )

        if ran.status:
            how = (
                f"was ended by signal {-ran.status}"
                if ran.status < 0
                else f"ended with status {ran.status}"
            )
            said = f"; it last said: {ran.last_words}" if ran.last_words else ""
            raise RendererError(plain(f"{self.renderer.title} {how}{said}"))

        return ran

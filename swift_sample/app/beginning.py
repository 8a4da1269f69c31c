"""A study that is being begun: what it will be of, the live picture of that, and what measuring it
is likely to cost.

Nothing is written beside the scene before measuring is asked for. The picture and the pilot come
from a worker of their own.
"""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from swift_sample.app.preview_worker import PreviewWorker
from swift_sample.core.errors import SwiftSampleError, WorkerError, one_line
from swift_sample.core.log import inspected, log_file
from swift_sample.core.picture.stored import read_stored
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.command.renderer import CommandRenderer
from swift_sample.core.renderers.headers import settings_of_file
from swift_sample.core.renderers.port import Finding, Renderer, SceneFacts
from swift_sample.core.renderers.registry import DEFAULT, renderer_named
from swift_sample.core.scene.lighting import DARK_GLOW_NOTE, DARK_NOTE, SOFT_SKY, is_dark
from swift_sample.core.scene.staging import Staging, Viewpoint
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.settings.presets import read_preset
from swift_sample.core.study.beginning.by_eye import Crop, crops_by_eye
from swift_sample.core.study.beginning.pilot import Cost, Pilot, pilot_of, pilot_size
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.model import Limits, Study
from swift_sample.core.study.plan.starting import (
    Suggestion,
    not_worth_trying,
    starting_study,
    suggestions,
    with_dear,
)
from swift_sample.core.worker.messages import (
    Failed,
    Previewed,
    PreviewJob,
    Progress,
    Rendered,
    RenderJob,
    Reply,
    Request,
    Shown,
)

SIZE = (640, 360)
"""Of a new study, and the most of a preview."""
PREVIEW_SAMPLES = 32
PREVIEW_SEED = 1
PILOT_SEED = 2
SETTLE_MILLISECONDS = 30
"""Edits closer together than this are previewed at once."""
PILOT_MILLISECONDS = 700
"""How long nothing must change before the pilot is rendered."""


class Beginning(QObject):
    """One scene on its way to a study. `close` ends its worker and takes its files away."""

    changed = pyqtSignal()
    """the draft, the facts, the crops or the cost"""
    picture_changed = pyqtSignal()
    problem = pyqtSignal(str)
    _replied = pyqtSignal(object)
    _facts_read = pyqtSignal(object)
    _refused = pyqtSignal(object)
    _crops_made = pyqtSignal(object)

    def __init__(
        self,
        scene: str,
        facts: SceneFacts,
        parent: QObject | None = None,
        study: Study | None = None,
        worker: PreviewWorker | None = None,
        renderer: Renderer | None = None,
        in_force: Limits | None = None,
    ) -> None:
        """`study` is one that is there already and is looked at again, `in_force` the limits that
        count in it; None for a new one. `worker` is one that was started before; it ends with this.
        `renderer` is another than the built-in one, for a new study."""
        super().__init__(parent)
        if study is not None:
            renderer = renderer_named(study.catalogue.name, file=study.renderer_file)

        self._renderer = renderer or renderer_named(DEFAULT)
        self.facts = facts
        self._in_force = in_force
        self._is_judged = study is not None
        """whether it was looked at that the first picture shows something; of a study that is there
        already it did"""
        self.light_note = ""
        """what was done, or is to be done, where the first picture was nearly black"""
        self._dear: list[Finding] = []
        """what the pilot showed to take much of the time"""
        self._tried = study.values_to_try() if study is not None else {}
        base = Configuration(self._renderer.catalogue)
        self.draft = starting_study(
            Path(scene).stem.replace("-", " ").capitalize(),
            scene,
            SIZE,
            View(curve="soft"),
            base,
            facts,
        )

        if isinstance(self._renderer, CommandRenderer):
            self.draft = replace(self.draft, renderer_file=str(self._renderer.path), view=View())

        self.chosen = {one.key for one in self.suggestions if one.first}
        if study is not None:
            self.draft, self.chosen = study, set(self._tried)

        self.light: np.ndarray | None = None
        """the picture so far, linear float32[h, w, 3]"""
        self.samples = 0
        self.words = "Starting the renderer …"
        """what is being done, in words"""
        self.crops: list[Crop] = []
        self.pilot: Pilot | None = None
        self._piloted = self.draft
        self._work = ThreadPoolExecutor(1, thread_name_prefix="beginning")
        self._closed = False
        self._busy = True
        self._number = 0
        self._wanted: Request | None = None
        self._settle, self._until_pilot = QTimer(self), QTimer(self)

        for timer, milliseconds, slot in (
            (self._settle, SETTLE_MILLISECONDS, self._preview),
            (self._until_pilot, PILOT_MILLISECONDS, self._render_pilot),
        ):
            timer.setSingleShot(True)
            timer.setInterval(milliseconds)
            timer.timeout.connect(slot)

        self._replied.connect(self._on_reply)
        self._facts_read.connect(self._on_facts)
        self._refused.connect(self._on_refused)
        self._crops_made.connect(self._on_crops)
        self._worker = worker or PreviewWorker(self._renderer)
        self._folder = self._worker.folder
        self._worker.listen(self._replied.emit)
        self._preview()

    @property
    def suggestions(self) -> list[Suggestion]:
        """What is worth trying on this scene."""
        return with_dear(suggestions(self.draft.base, self.facts), self.draft.base, self._dear)

    @property
    def without_effect(self) -> dict[str, str]:
        """Settings that cannot change this scene, with the reason."""
        return not_worth_trying(self.draft.base, self.facts)

    @property
    def limits_in_force(self) -> Limits:
        """What counts as acceptable in the study as it is being begun."""
        if self.draft.no_worse_than_base and self._in_force is not None:
            return self._in_force
        return self.draft.goal_limits

    @property
    def can_stage(self) -> bool:
        """Whether light and camera can stand in for the scene's own."""
        return self._renderer.capabilities.stages

    @property
    def size(self) -> tuple[int, int]:
        """Of the preview."""
        width, height = self.draft.size
        factor = min(1.0, SIZE[0] / width, SIZE[1] / height)
        return max(1, round(width * factor)), max(1, round(height * factor))

    @property
    def costs(self) -> tuple[Cost, Cost] | None:
        """Of a search, and of measuring everything; None before the pilot."""
        pilot = self.pilot
        if pilot is None:
            return None

        current = Pilot(self.draft, pilot.record)
        return current.of_search(), current.of_everything()

    def stage(self, change: Callable[[Staging], Staging]) -> None:
        """Change light or camera."""
        with self._told():
            self._edit(replace(self.draft, staging=change(self.draft.staging)), facts=True)

    def place_camera(self, change: Callable[[Viewpoint], Viewpoint]) -> None:
        """Turn, move or near the camera by hand."""
        start = self.draft.staging.viewpoint or self.facts.viewpoint
        if start is not None:
            with self._told():
                staging = replace(self.draft.staging, viewpoint=change(start))
                self._edit(replace(self.draft, staging=staging))

    def edit(self, **changes: object) -> None:
        """Change size, frame, name, limits or goal."""
        with self._told():
            self._edit(replace(self.draft, **changes), facts="frame" in changes)  # type: ignore[arg-type]

    def set_view(self, view: View) -> None:
        """Show the same light otherwise; nothing is rendered for it."""
        self.draft = replace(self.draft, view=view)
        self.picture_changed.emit()
        self.changed.emit()
        self._make_crops()

    def set_base(self, base: Configuration) -> None:
        """Other settings of today."""
        with self._told():
            self._edit(self._with_suggestions(replace(self.draft, base=base)))

    def set_base_value(self, key: str, value: Value) -> None:
        self.set_base(self.draft.base.replace({key: value}))

    def base_from_file(self, path: Path) -> None:
        """Today's settings from a preset, or from a finished render whose header has them."""
        catalogue = self._renderer.catalogue
        with self._told():
            if path.suffix.lower() == ".exr":
                self.set_base(Configuration(catalogue, settings_of_file(path)))
            else:
                self.set_base(read_preset(path, catalogue))

    def take_picture(self, path: Path) -> None:
        """A dropped EXR: today's settings where its header has them, else light from everywhere."""
        try:
            settings = settings_of_file(path)
        except SwiftSampleError:
            self.stage(lambda staging: replace(staging, environment=str(path)))
            return

        with self._told():
            self.set_base(Configuration(self._renderer.catalogue, settings))

    def choose(self, key: str, on: bool) -> None:
        """Try a setting, or leave it alone."""
        self.chosen = self.chosen | {key} if on else self.chosen - {key}
        self.draft = self._with_suggestions(self.draft)
        self.changed.emit()

    def set_limit(self, measure: str, value: float) -> None:
        """Accept so much of an error, for the study's goal."""
        with self._told():
            self.draft = edits.set_limit(measure, value, self._in_force).change(self.draft)
            self.changed.emit()

    def close(self) -> None:
        """End the worker, and take away what was made for looking."""
        if self._closed:
            return

        self._closed = True
        self._settle.stop()
        self._until_pilot.stop()
        self._work.shutdown(wait=True, cancel_futures=True)
        self._worker.close()

    def _with_suggestions(self, draft: Study) -> Study:
        found = with_dear(suggestions(draft.base, self.facts), draft.base, self._dear)
        offered = {one.key: one.values for one in found} | dict(self._tried)
        return draft.with_values_to_try(
            {key: values for key, values in offered.items() if key in self.chosen}
        )

    def _told(self) -> "_Told":
        return _Told(self)

    def _edit(self, draft: Study, facts: bool = False) -> None:
        if draft == self.draft or self._closed:
            return

        before = self.draft
        self.draft = draft
        if _timed(draft) != _timed(before):
            self.pilot = None
        if facts:
            self._read_facts(before)

        self._settle.start()
        self.changed.emit()

    def _read_facts(self, before: Study) -> None:
        """Read what the scene now holds; where it cannot be had so, light, camera and frame go back
        to what they were."""
        draft = self.draft

        def read() -> None:
            try:
                found = self._renderer.facts(draft.scene, draft.base, draft.frame, draft.staging)
                self._facts_read.emit((draft, found))
            except SwiftSampleError as error:
                self._refused.emit((draft, before, one_line(error)))

        inspected(self._work.submit(read), "reading the scene")

    def _on_refused(self, told: tuple[Study, Study, str]) -> None:
        draft, before, words = told
        if self._closed:
            return

        self.problem.emit(words)
        if (draft.staging, draft.frame) == (self.draft.staging, self.draft.frame):
            self.draft = replace(self.draft, staging=before.staging, frame=before.frame)
            self._settle.start()
            self.changed.emit()

    def _on_facts(self, told: tuple[Study, SceneFacts]) -> None:
        draft, facts = told
        if not self._closed and draft.staging == self.draft.staging:
            self.facts = facts
            self.changed.emit()

    def _preview(self) -> None:
        self._until_pilot.stop()
        self._number += 1
        spec = spec_of(self.draft, self.draft.base, PREVIEW_SEED).model_copy(
            update={"size": self.size}
        )
        self._ask(
            PreviewJob(
                spec=spec, samples=PREVIEW_SAMPLES, folder=str(self._folder), number=self._number
            )
        )

    def _render_pilot(self) -> None:
        if self.pilot is None:
            self.words = "Rendering once as it is today, to tell what measuring takes …"
            self.changed.emit()
            self._piloted = self.draft
            spec = spec_of(self.draft, pilot_of(self.draft.base), PILOT_SEED)
            spec = spec.model_copy(update={"size": pilot_size(self.draft.size)})
            self._ask(RenderJob(spec=spec, picture=str(self._folder / "pilot.exr")))

    def _ask(self, job: Request) -> None:
        """Give the worker a job, in place of the one in hand."""
        self._wanted = job
        if self._busy:
            self._worker.stop_job()
        else:
            self._send()

    def _send(self) -> None:
        job = self._wanted
        self._wanted = None

        if job is not None and not self._closed:
            self._busy = True
            try:
                self._worker.send(job)
            except WorkerError as error:
                self.problem.emit(one_line(error))

    def _on_reply(self, reply: Reply | None) -> None:
        if self._closed:
            return

        if isinstance(reply, Shown):
            if reply.number == self._number:
                self.light = np.load(reply.path).astype(np.float32)
                self.samples = reply.samples
                self.words = f"getting cleaner · {reply.samples} of {PREVIEW_SAMPLES} samples"
                self.picture_changed.emit()

            Path(reply.path).unlink(missing_ok=True)
            return

        if isinstance(reply, Progress):
            if reply.text:
                self.words = f"{reply.text} …" + (
                    f" {reply.share:.0%}" if 0 < reply.share < 1 else ""
                )
                self.changed.emit()
            return

        self._busy = False
        if reply is None:
            self.words = "The renderer ended."
            self.problem.emit(
                f"the renderer ended unexpectedly ({self._worker.exit_words()}); the scene may "
                "be too large for it"
            )
        elif isinstance(reply, Failed):
            self.words = f"This cannot be shown: {reply.reason}"
        elif isinstance(reply, Previewed) and reply.number == self._number:
            self.words = "A preview; it is not timed."
            self._judge_light()
            self._make_crops(Path(reply.path))
            self._until_pilot.start()
        elif isinstance(reply, Rendered) and _timed(self._piloted) == _timed(self.draft):
            self.pilot = Pilot(self.draft, reply.result)
            self._offer_what_is_dear(self.pilot)
            self.words = "A preview; it is not timed."

        self._send()
        self.changed.emit()

    def _judge_light(self) -> None:
        """See that the first picture shows something: where only what glows lights the scene and
        does not, add a soft sky."""
        if self.light is None:
            return

        dark = is_dark(self.light, self.draft.view)
        added = self.light_note == DARK_GLOW_NOTE and self.draft.staging.environment == SOFT_SKY

        if not dark:
            self.light_note = self.light_note if added else ""
        elif (
            not self._is_judged and self.facts.only_glows and self.draft.staging.environment is None
        ):
            self.light_note = DARK_GLOW_NOTE
            self.stage(lambda staging: replace(staging, environment=SOFT_SKY))
        else:
            self.light_note = DARK_NOTE

        self._is_judged = True

    def _offer_what_is_dear(self, pilot: Pilot) -> None:
        """Try what the pilot showed to be dear too, unless the artist has left it out before."""
        known = {key for finding in self._dear for key in finding.changes}
        self._dear = pilot.dear(self._renderer)
        new = {key for finding in self._dear for key in finding.changes} - known

        if new:
            self.chosen |= new
            self.draft = self._with_suggestions(self.draft)

    def _make_crops(self, path: Path | None = None) -> None:
        """Make the crops anew, of the preview in `path` or of the last one."""
        view = self.draft.view
        kept = self._folder / "last.exr"

        if path is not None:
            path.replace(kept)
        elif not kept.is_file():
            return

        def make() -> None:
            try:
                self._crops_made.emit(crops_by_eye(read_stored(kept, ""), view))
            except SwiftSampleError as error:
                self.problem.emit(f"no crops can be made: {one_line(error)}")

        inspected(self._work.submit(make), f"making crops; see {log_file()}")

    def _on_crops(self, crops: list[Crop]) -> None:
        if not self._closed:
            self.crops = crops
            self.changed.emit()


def _timed(draft: Study) -> tuple[object, ...]:
    """What of a study a pilot's time is of."""
    return draft.base, draft.size, draft.frame, draft.staging


class _Told:
    """Whatever is wrong with an edit is told, and nothing is changed."""

    def __init__(self, beginning: Beginning) -> None:
        self._beginning = beginning

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> bool:
        if isinstance(error, SwiftSampleError):
            self._beginning.problem.emit(one_line(error))
            return True
        return False

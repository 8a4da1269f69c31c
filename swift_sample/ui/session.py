"""The open study as the window sees it: one bridge between widgets and the core.

Edits go in as method calls, each undoable; `snapshot_changed` brings the state out. Reading, saving and measuring
happen on other threads; every signal arrives on the window's thread.
"""

import contextlib
import threading
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.exchange.open_data import write_results
from swift_sample.core.scene import Choices, SceneFacts, facts_of, open_scene
from swift_sample.core.settings import Configuration, Value, setting
from swift_sample.core.study.desk import Desk, Snapshot
from swift_sample.core.study.frames import FrameResults, FrameWalk, collect_frames
from swift_sample.core.study.model import IMAGE_LIMITS, FramePlan, Study, WatchArea
from swift_sample.core.study.results import Pick, Results, TrialResult
from swift_sample.core.study.runner import Ended, Event, Looked, Runner, StepEnded, StepProgress, StepStarted
from swift_sample.core.study.schedule import Step
from swift_sample.core.study.searcher import Searcher
from swift_sample.core.study.store import StudyFolder

if TYPE_CHECKING:
    from swift_sample.core.study.search import Advice

MOST_COMPARED = 4
OPEN_SHUTTER = 0.5
"""Share of a frame that is enough to see whether anything moves."""


@dataclass(frozen=True)
class Activity:
    """What the runner is doing now. `step` is None while the renderer starts."""

    measuring: bool = False
    stopping: bool = False
    step: Step | None = None
    why: str = ""
    """why this step was chosen"""
    share: float = 0.0
    text: str = ""
    searching: bool = False
    """whether a search chooses what is measured"""


class Session(QObject):
    """One open study. Close it before opening another."""

    snapshot_changed = pyqtSignal(object)
    activity_changed = pyqtSignal(object)
    problem = pyqtSignal(str)
    finished = pyqtSignal()
    selection_changed = pyqtSignal()
    line_changed = pyqtSignal()
    undo_changed = pyqtSignal()
    report_made = pyqtSignal(str)
    """a report that is to be shown here now stands in this file"""
    written = pyqtSignal(str)
    """a file that was asked for now stands there"""
    log_arrived = pyqtSignal(list)
    """what was decided and what happened, as (time, kind, text)"""
    _event_arrived = pyqtSignal(object)
    _snapshot_arrived = pyqtSignal(object)
    _facts_arrived = pyqtSignal(object)
    _plan_saved = pyqtSignal()
    _try_arrived = pyqtSignal()

    def __init__(self, folder: StudyFolder, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self._lock = folder, threading.RLock()
        self._desk = Desk(folder)
        self._work = ThreadPoolExecutor(1, thread_name_prefix="study")
        self._writing = ThreadPoolExecutor(1, thread_name_prefix="report")  # takes seconds: snapshots shall not wait for it
        self._runner: Runner | None = None
        self._study = folder.study
        self._undo: list[Study] = []
        self._redo: list[Study] = []
        self._snapshot_wanted = False
        self._closed = False
        self.activity = Activity()
        self.advice: Advice | None = None
        """What a search last said, with its predictions; forgotten when the plan changes or is measured"""
        self.snapshot: Snapshot | None = None
        self.frames: FrameResults | None = None
        """what is known of the sequence; None where the study has none"""
        self.line = 1.0
        self.selected_setting: str | None = None
        self.selected: list[int] = []
        self._event_arrived.connect(self._on_event)
        self._snapshot_arrived.connect(self._on_snapshot)
        self._facts_arrived.connect(self._on_facts)
        self._plan_saved.connect(self._measure_again)
        self._try_arrived.connect(self.measure)
        self._measures_wanted = False
        self.facts: SceneFacts | None = None
        """What the scene has that settings can act on; None until it was read"""
        self.refresh()
        self._in_background(self._read_facts)

    @property
    def path(self) -> Path:
        return self._folder.path

    @property
    def study(self) -> Study:
        """The plan as it stands, including edits that are just being saved."""
        return self._study

    @property
    def results(self) -> Results | None:
        """The results under the acceptance line as it is dragged."""
        if self.snapshot is None:
            return None
        found = self.snapshot.results
        return found if self.line == 1.0 else found.with_line(self.line)

    def pick(self) -> Pick | None:
        found = self.results
        return found.pick() if found is not None else None

    def trial(self, number: int) -> TrialResult | None:
        found = self.results
        return next((t for t in found.trials if t.number == number), None) if found is not None else None

    def refresh(self) -> None:
        """Read the study again off-thread; `snapshot_changed` follows. Requests in quick succession become one."""
        if self._snapshot_wanted or self._closed:
            return
        self._snapshot_wanted = True
        self._in_background(self._read_snapshot)

    def read_log(self) -> None:
        """Read what was decided and what happened; `log_arrived` follows."""
        def read() -> None:
            with self._lock:
                found = self._folder.events()
            self.log_arrived.emit(found)

        self._in_background(read)

    def export(self, path: Path) -> None:
        """Write the results as open data; `written` or `problem` follows."""
        def write() -> None:
            with self._lock:
                snapshot = self._desk.snapshot()
            write_results(path, snapshot, self._desk.machine)
            self.written.emit(str(path))

        self._in_background(write)

    def make_report(self, path: Path, shown_here: bool = False) -> None:
        """Write the report; `report_made` follows where it is for the window, else `written`."""
        def write() -> None:
            from swift_sample.core.exchange.report import write_report  # brings the plotting library with it

            with self._lock:
                snapshot = self._desk.snapshot()
            write_report(path, snapshot, self._desk.machine)
            (self.report_made if shown_here else self.written).emit(str(path))

        self._in_background(write, self._writing)

    def _read_facts(self) -> None:
        study = self._folder.study
        with contextlib.suppress(SwiftSampleError):  # a scene that cannot be read is told when it is measured
            choices = Choices(str(study.base["geometry.variant"]), frame=study.frame, shutter=OPEN_SHUTTER)
            self._facts_arrived.emit(facts_of(open_scene(study.scene, choices)))

    def _on_facts(self, facts: SceneFacts) -> None:
        self.facts = facts
        if self.snapshot is not None:
            self.snapshot_changed.emit(self.snapshot)

    def set_values(self, key: str, values: tuple[Value, ...]) -> None:
        """Choose the values to try of one setting."""
        wanted = dict(self._study.values_to_try())
        wanted[key] = values
        self._edit(lambda: self._study.with_values_to_try(wanted))

    def try_changes(self, changes: Mapping[str, Value]) -> None:
        """Put a trial that differs from the base in these values into the plan, and measure it."""
        wanted = dict(self._study.values_to_try())
        for key, value in changes.items():
            wanted[key] = tuple(dict.fromkeys((*wanted.get(key, ()), value)))
        self._edit(lambda: self._study.with_values_to_try(wanted))
        self._in_background(self._try_arrived.emit)

    def set_base_value(self, key: str, value: Value) -> None:
        """Change one value of the base; the old one stays among the values to try."""
        old = self._study.base[key]
        tried = dict(self._study.values_to_try())
        tried[key] = tuple(dict.fromkeys((*tried.get(key, ()), old, value)))
        base = self._study.base.replace({key: value})
        self._edit(lambda: replace(self._study, base=base).with_values_to_try(tried))

    def set_base(self, base: Configuration) -> None:
        """Make a whole configuration the base."""
        self._edit(lambda: replace(self._study, base=base))

    def edit(self, change: Callable[[Study], Study]) -> None:
        """Change the plan; what cannot be is told as a problem and changes nothing."""
        self._edit(lambda: change(self._study))

    def set_goal(self, goal: str) -> None:
        self._edit(lambda: replace(self._study, goal=goal))

    def set_limit(self, key: str, value: float | None) -> None:
        """Change one limit, or lift it; if it came from the base, all those of the picture are then set ones."""
        def change(study: Study) -> Study:
            from_base = study.no_worse_than_base and key in IMAGE_LIMITS and self.results is not None
            limits = self.results.limits if from_base and self.results is not None else study.limits
            return replace(study, limits=replace(limits, **{key: value}),
                           no_worse_than_base=study.no_worse_than_base and not from_base)

        self.edit(change)

    def add_area(self, x: int, y: int, width: int, height: int) -> str:
        """Watch a part of the picture under a new name, which is returned."""
        taken = {area.name for area in self._study.areas}
        name = next(f"area {k}" for k in range(1, len(taken) + 2) if f"area {k}" not in taken)
        self._edit(lambda: replace(self._study, areas=(*self._study.areas, WatchArea(name, x, y, width, height))))
        return name

    def rename_area(self, old: str, new: str) -> None:
        self._edit(lambda: replace(self._study, areas=tuple(replace(a, name=new.strip()) if a.name == old else a
                                                            for a in self._study.areas)))

    def remove_area(self, name: str) -> None:
        self._edit(lambda: replace(self._study, areas=tuple(a for a in self._study.areas if a.name != name)))

    def set_line(self, line: float) -> None:
        """Drag the acceptance line: the limit share up to which trials are accepted."""
        if line != self.line:
            self.line = line
            self.line_changed.emit()

    def keep_line(self) -> None:
        """Make the limits those that the dragged line stands for, and put the line back."""
        results = self.results
        if results is not None and self.line != 1.0:
            line = self.line
            self.edit(lambda study: study.accepting(results.limits, line))
            self.set_line(1.0)

    def select_setting(self, key: str | None) -> None:
        """Draw one setting's values as a trail; None for none."""
        self.selected_setting = key if key is None else setting(key).key
        self.selection_changed.emit()

    def toggle_selected(self, number: int) -> None:
        """Take a trial into the comparison or out of it; the oldest gives way."""
        if number in self.selected:
            self.selected.remove(number)
        else:
            self.selected = [*self.selected, number][-MOST_COMPARED:]
        self.selection_changed.emit()

    def compare(self, numbers: list[int]) -> None:
        """Choose the trials that are compared, in order."""
        self.selected = numbers[:MOST_COMPARED]
        self.selection_changed.emit()

    @property
    def can_undo(self) -> bool:
        return bool(self._undo)

    @property
    def can_redo(self) -> bool:
        return bool(self._redo)

    def undo(self) -> None:
        if self._undo:
            self._redo.append(self._study)
            self._save(self._undo.pop())

    def redo(self) -> None:
        if self._redo:
            self._undo.append(self._study)
            self._save(self._redo.pop())

    def measure(self) -> None:
        """Begin or continue measuring."""
        if self.activity.measuring or self._closed:
            return
        self.advice = None
        self._set_activity(Activity(measuring=True, text="Starting"))
        self._runner = Runner(self._folder, self._event_arrived.emit, self._lock)
        self._runner.start()

    def search(self) -> None:
        """Let a search choose what is measured, among all combinations of the values to try."""
        if self.activity.measuring or self._closed:
            return
        self._set_activity(Activity(measuring=True, searching=True, text="Starting"))
        desk = Desk(self._folder)
        self._runner = Runner(self._folder, self._event_arrived.emit, self._lock, desk, searcher=Searcher(desk))
        self._runner.start()

    def measure_frames(self, plan: FramePlan) -> None:
        """Measure base and pick at the frames of a sequence, which is kept in the plan."""
        if self.activity.measuring or self._closed:
            return
        self.edit(lambda study: replace(study, frames=plan))
        self._set_activity(Activity(measuring=True, text="Starting"))
        desk = Desk(self._folder)
        self._runner = Runner(self._folder, self._event_arrived.emit, self._lock, desk,
                              walk=FrameWalk(desk, plan, list(self.frame_names())))
        self._runner.start()

    def frame_names(self) -> dict[Configuration, str]:
        """What is measured at frames: the base, and the pick where there is one that differs."""
        pick = self.snapshot.results.pick() if self.snapshot is not None else None
        named = {self._study.base: "base"}
        if pick is not None:
            named.setdefault(pick.trial.configuration, "pick")
        return named

    def _measure_again(self) -> None:
        """Measure stored pictures after a change of view or areas; a runner that is at work does it by itself."""
        wanted, self._measures_wanted = self._measures_wanted, False
        there = self.snapshot is not None and any(run.result is not None for run in self.snapshot.runs)
        if wanted and there and not self.activity.measuring and not self._closed:
            self._set_activity(Activity(measuring=True, text="Measuring stored pictures"))
            self._runner = Runner(self._folder, self._event_arrived.emit, self._lock, measures_only=True)
            self._runner.start()

    def pause(self) -> None:
        """End measuring after the step in hand."""
        if self._runner is not None:
            self._set_activity(replace(self.activity, stopping=True))
            self._runner.stop(after_this_step=True)

    def stop(self) -> None:
        """End measuring at once; the run in hand is lost."""
        if self._runner is not None:
            self._set_activity(replace(self.activity, stopping=True))
            self._runner.stop()

    @property
    def worker_pid(self) -> int | None:
        return self._runner.worker_pid if self._runner is not None else None

    def close(self) -> None:
        """Stop everything and release the study."""
        if self._closed:
            return
        self._closed = True
        if self._runner is not None:
            self._runner.stop()
            self._runner.join(10)
        self._writing.shutdown(wait=True)
        self._work.shutdown(wait=True)
        self._folder.close()

    def _edit(self, change: Callable[[], Study]) -> None:
        try:
            study = change()
            study.planned()
        except SwiftSampleError as error:
            self.problem.emit(one_line(error))
            return
        if study != self._study:
            self._undo.append(self._study)
            self._redo.clear()
            self._save(study)

    def _save(self, study: Study) -> None:
        before, self._study = self._study, study
        self.advice = None
        self._measures_wanted |= (study.areas, study.view) != (before.areas, before.view)
        self.undo_changed.emit()

        def save() -> None:
            with self._lock:
                self._folder.save_plan(study)
            self._plan_saved.emit()

        self._in_background(save)
        self.refresh()

    def _in_background(self, work: Callable[[], Any], pool: ThreadPoolExecutor | None = None) -> None:
        def guarded() -> None:
            try:
                work()
            except SwiftSampleError as error:
                self.problem.emit(one_line(error))

        if not self._closed:
            (pool or self._work).submit(guarded)

    def _read_snapshot(self) -> None:
        self._snapshot_wanted = False
        with self._lock:
            snapshot = self._desk.snapshot()
            frames = self._read_frames(snapshot)
        if not self._closed:
            self._snapshot_arrived.emit((snapshot, frames))

    def _read_frames(self, snapshot: Snapshot) -> FrameResults | None:
        plan, pick = snapshot.study.frames, snapshot.results.pick()
        if plan is None or snapshot.problem is not None:
            return None
        return collect_frames(self._desk, plan, [snapshot.study.base, *([pick.trial.configuration] if pick else [])])

    def _on_snapshot(self, arrived: tuple[Snapshot, FrameResults | None]) -> None:
        if not self._closed:
            snapshot, self.frames = arrived
            self.snapshot = snapshot
            self.snapshot_changed.emit(snapshot)

    def _on_event(self, event: Event) -> None:
        if self._closed:
            return
        if isinstance(event, StepStarted):
            self._set_activity(replace(self.activity, measuring=True, step=event.step, why=event.why, share=0.0, text=""))
        elif isinstance(event, Looked):
            self.advice = event.advice
            self.refresh()
        elif isinstance(event, StepProgress):
            self._set_activity(replace(self.activity, share=event.share, text=event.text or self.activity.text))
        elif isinstance(event, StepEnded):
            if event.problem is not None:
                self.problem.emit(event.problem)
            self.refresh()
        elif isinstance(event, Ended):
            self._set_activity(Activity())
            self.refresh()
            if event.problem is not None:
                self.problem.emit(event.problem)
            elif event.finished:
                self.finished.emit()

    def _set_activity(self, activity: Activity) -> None:
        self.activity = activity
        self.activity_changed.emit(activity)

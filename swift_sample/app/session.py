"""The open study as the window sees it: a thin bridge to its driver.

Edits go in as method calls, each with the words that undoing it will say; snapshots, which never
change, come out. Reading, saving and measuring happen on other threads; every signal arrives on the
window's thread.
"""

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6 import sip
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from swift_sample.app.any_settings import ANY_SETTINGS, SettingsPicture
from swift_sample.app.field import Field, field_shown
from swift_sample.app.view_model import Activity, MachinesShown, ViewModel
from swift_sample.core.errors import ReportStoppedError, SwiftSampleError, one_line
from swift_sample.core.log import inspected, log_file
from swift_sample.core.renderers.port import SceneFacts
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.report.open_data import write_results
from swift_sample.core.settings import Configuration, Setting, Value
from swift_sample.core.study.answers.acceptance import quantity
from swift_sample.core.study.answers.costs import typical_run
from swift_sample.core.study.answers.features import audited
from swift_sample.core.study.answers.field import combinations
from swift_sample.core.study.answers.holding import Elsewhere, candidates
from swift_sample.core.study.answers.pick import Pick
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import (
    Advised,
    CrewChanged,
    Ended,
    MachineSaid,
    Member,
    Notice,
    StateChanged,
    StepEnded,
    StepProgress,
    StepStarted,
    Waits,
)
from swift_sample.core.study.measuring.policies import (
    Framing,
    Holding,
    KeepingPasses,
    Policy,
    Remeasuring,
    Searching,
    Sweeping,
    Trying,
)
from swift_sample.core.study.measuring.policies.deriving import Deriving
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.measuring.policies.trying import one_more_run, runs_to_try
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.edits import PlanEdit
from swift_sample.core.study.plan.model import NO_REMARK, FramePlan, Remark, Study

if TYPE_CHECKING:
    from swift_sample.core.study.search.search import Advice

MOST_COMPARED = 4
FIGURES_MILLISECONDS = 600
"""How long knobs must rest before figures are derived."""
FIELD_MILLISECONDS = 500
"""Between two looks at the field."""
FIELD_REST = 4.0
"""How many times as long as it took to be worked out the field rests before it is again."""
FIELD_SECONDS = 3.0
"""The longest that a timed render waits for the field to be worked out."""
DRAWING_SECONDS = 0.3
"""The longest that a timed render waits for the window to draw what happened before it."""

_closing: list[Driver] = []
"""Drivers that were told to close and may still be at it."""


def wait_for_closed(seconds: float) -> None:
    """Give studies that are being closed this long, each, to end well."""
    for driver in list(_closing):
        if driver.join(seconds):
            _closing.remove(driver)


@dataclass(frozen=True)
class _Pending:
    """An edit that is being made: shown at once, and counted as made when it is kept."""

    change: Callable[[Study], Study]
    answer: "Future[StudyState]"


class Session(QObject):
    """One open study. Close it before opening another."""

    snapshot_changed = pyqtSignal(object)
    activity_changed = pyqtSignal(object)
    problem = pyqtSignal(str)
    finished = pyqtSignal()
    ended = pyqtSignal(str)
    """measuring is over, and why"""
    selection_changed = pyqtSignal()
    line_changed = pyqtSignal()
    undo_changed = pyqtSignal()
    drawing_wanted = pyqtSignal()
    """whoever draws the study should do it now: a render is about to be timed"""
    lit_changed = pyqtSignal()
    field_changed = pyqtSignal()
    pointed_changed = pyqtSignal()
    report_changed = pyqtSignal()
    machines_changed = pyqtSignal()
    written = pyqtSignal(str)
    """a file that was asked for now stands there"""
    log_arrived = pyqtSignal(list)
    """what was decided and what happened, as (time, kind, text)"""
    _noticed = pyqtSignal(object)
    _edited = pyqtSignal(object)
    _facts_arrived = pyqtSignal(object)
    _features_read = pyqtSignal(object)
    _field_arrived = pyqtSignal(object)
    _reported = pyqtSignal(str)
    _report_went_on = pyqtSignal(str)

    def __init__(self, driver: Driver, parent: QObject | None = None) -> None:
        """Takes a driver that is not started yet, and closes it in the end."""
        super().__init__(parent)
        self._driver = driver
        self._work = ThreadPoolExecutor(1, thread_name_prefix="study")
        self._drawn = threading.Event()
        self._pending: list[_Pending] = []
        self._closed = False
        self.activity = Activity()
        self.advice: Advice | None = None
        """What a search last said, with its predictions; forgotten when the plan changes or is
        measured"""
        self.snapshot: Snapshot | None = None
        self.line = 1.0
        self._lined: tuple[int, float, Results] | None = None
        self.selected_setting: str | None = None
        self.selected: list[str] = []
        self.lit: frozenset[str] = frozenset()
        self.pointed: Configuration | None = None
        self.reporting = False
        self.report_words = ""
        self._stops_report = threading.Event()
        self.report: tuple[str, object] | None = None
        self.machines = MachinesShown()
        self._reported_of: object = None
        self.facts: SceneFacts | None = None
        """What the scene has that settings can act on; None until it was read"""
        self.field: Field | None = None
        """what recordings say of combinations that were not timed"""
        self._field_of: Snapshot | None = None
        """the snapshot of which the field is being worked out"""
        self._settings = SettingsPicture(self)
        self._settings.changed.connect(self.selection_changed)
        self._figures_wanted = QTimer(self)
        self._figures_wanted.setSingleShot(True)
        self._figures_wanted.timeout.connect(self._derive_figures)
        self._field_took = 0.0
        """seconds that the field took to be worked out last"""
        self._field_idle = threading.Event()
        self._field_idle.set()
        self._noticed.connect(self._on_notice)
        self._field_arrived.connect(self._on_field)
        self._edited.connect(self._on_edited)
        self._facts_arrived.connect(self._on_facts)
        self._features_read.connect(self._on_features)
        self._reported.connect(self._on_report)
        self._report_went_on.connect(self._on_report_went_on)
        driver.listen(lambda notice: self._emit("_noticed", notice))
        driver.draw_before_timed(self._wait_for_drawing)
        driver.start()
        self._in_background(self._read_facts)

    @property
    def path(self) -> Path:
        return self._driver.path

    @property
    def study(self) -> Study:
        """The plan as it stands, including edits that are just being saved."""
        state = self._driver.state if self.snapshot is None else self.snapshot.state
        waiting = []

        for pending in self._pending:
            answer = pending.answer
            if not answer.done():  # asked once: it may be done a moment later
                waiting.append(pending.change)
            elif answer.exception() is None and answer.result().version > state.version:
                state = answer.result()

        plan = state.plan
        for change in waiting:
            with suppress(
                Exception
            ):  # the driver makes the same change, and tells what is wrong with it
                plan = change(plan)

        return plan

    @property
    def is_updating(self) -> bool:
        """Whether what is shown is not yet the plan that is on disk."""
        return (
            self.snapshot is None
            or bool(self._pending)
            or self.snapshot.version < self._driver.state.version
        )

    @property
    def results(self) -> Results | None:
        """The results under the acceptance line as it is dragged."""
        if self.snapshot is None:
            return None

        results = self.snapshot.results
        if self.line == 1.0:
            return results
        if self._lined is None or self._lined[:2] != (id(results), self.line):
            self._lined = (id(results), self.line, results.with_line(self.line))

        return self._lined[2]

    def pick(self) -> Pick | None:
        results = self.results
        return results.pick() if results is not None else None

    def view(self) -> ViewModel:
        """The study as it is to be shown now."""
        return ViewModel(
            path=self.path,
            study=self.study,
            snapshot=self.snapshot,
            results=self.results,
            line=self.line,
            activity=self.activity,
            selected=tuple(self.selected),
            selected_setting=self.selected_setting,
            lit=self.lit,
            advice=self.advice,
            field_shown=self.field,
            any_settings=self._settings.shown,
            facts=self.facts,
            undo_label=self.undo_label,
            redo_label=self.redo_label,
            reporting=self.reporting,
            machines=self.machines,
            report=self.report,
            report_words=self.report_words,
        )

    def read_log(self) -> None:
        """Read what was decided and what happened; `log_arrived` follows."""
        self._in_background(lambda: self._emit("log_arrived", self._driver.words()))

    def export(self, path: Path) -> None:
        """Write the results as open data; `written` or `problem` follows."""
        snapshot = self._driver.snapshot

        def write() -> None:
            write_results(path, snapshot, snapshot.timed_on(self._driver.machine))
            self._emit("written", str(path))

        self._in_background(write)

    def make_report(self, path: Path) -> None:
        """Write the report; `written` or `problem` follows."""

        def write() -> None:
            self._write_report(path)
            self._emit("written", str(path))

        self._in_background(write)

    def show_report(self, path: Path) -> None:
        """Write the report for the window; `report_changed` follows when that begins and ends."""
        if self.reporting:
            return

        self.reporting = True
        self._reported_of = self.results
        self.report_words = ""
        self._stops_report.clear()
        self.report_changed.emit()

        def write() -> None:
            made = ""
            try:
                self._write_report(path)
                made = str(path)
            except ReportStoppedError:
                pass  # as it was asked for
            finally:
                self._emit("_reported", made)

        self._in_background(write)

    def stop_report(self) -> None:
        """Write the report no further."""
        self._stops_report.set()

    def _write_report(self, path: Path) -> None:
        from swift_sample.core.report.write import (
            write_report,
        )  # brings the plotting library with it

        def tell(share: float, words: str) -> None:
            if self._closed or self._stops_report.is_set():
                raise ReportStoppedError("the report was stopped")
            self._emit("_report_went_on", f"{share:.0%}, {words}")

        snapshot = self._driver.snapshot
        write_report(path, snapshot, snapshot.timed_on(self._driver.machine), tell)

    def _on_report_went_on(self, words: str) -> None:
        if self.reporting:
            self.report_words = words
            self.report_changed.emit()

    def _on_report(self, made: str) -> None:
        was_stopped = not made and self._stops_report.is_set()

        self.reporting = False
        self.report_words = "The report was stopped." if was_stopped else ""
        self.report = (made, self._reported_of)
        self.report_changed.emit()

    def point_at(self, trial_id: str | None) -> None:
        """A trial's mark is pointed at, or none: its values light up among the settings."""
        trial = self.view().trial(trial_id) if trial_id is not None else None
        pointed = trial.configuration if trial is not None else None

        if pointed != self.pointed:
            self.pointed = pointed
            self.pointed_changed.emit()

    def light_up(self, key: str, value: Value | None) -> None:
        """Show only the trials with a value of a setting in full; None shows all."""
        results = self.results
        lit = frozenset() if value is None or results is None else results.with_value(key, value)

        if lit != self.lit:
            self.lit = lit
            self.lit_changed.emit()

    def _read_facts(self) -> None:
        study = self._driver.state.plan
        with suppress(SwiftSampleError):  # a scene that cannot be read is told when it is measured
            facts = self._driver.renderer.facts(study.scene, study.base, study.frame, study.staging)
            self._emit("_facts_arrived", facts)

    def _on_facts(self, facts: SceneFacts) -> None:
        self.facts = facts
        if self.snapshot is not None:
            self.snapshot_changed.emit(self.snapshot)

    def set_values(self, key: str, values: tuple[Value, ...]) -> None:
        """Choose the values to try of one setting."""
        label = f"Values of {self.study.catalogue[key].label.lower()}"
        self.edit(replace(edits.set_values(key, values), label=label))

    def try_changes(self, changes: Mapping[str, Value]) -> None:
        """Put a trial that differs from the base in these values into the plan, and measure it."""
        self.edit(edits.try_changes(changes))
        self.measure_one(self.study.base.replace(changes))

    def measure_one(self, configuration: Configuration, again: bool = False) -> None:
        """Measure one trial now and nothing else; `again` renders it once more than it was."""
        state = self._driver.state
        runs = one_more_run(state, configuration) if again else runs_to_try(state, configuration)
        self._measure(Trying(configuration, runs), "Starting")

    def derive(self, configurations: Sequence[Configuration]) -> None:
        """Derive the figures of these from recordings; those are made where there are none."""
        self._measure(Deriving(tuple(configurations)), "Deriving")

    def show_settings(self, configuration: Configuration) -> None:
        """Show the picture of any settings beside what is compared; its figures follow."""
        if self.snapshot is None:
            return

        others = [name for name in self.selected if name != ANY_SETTINGS]
        self.selected = [ANY_SETTINGS, *others][:MOST_COMPARED]
        step = self.activity.step
        if step is not None and step.is_timed:
            self._settings.wait(configuration)
        else:
            self._settings.show(configuration, self.snapshot)

        self._figures_wanted.start(FIGURES_MILLISECONDS)

    def turn_knob(self, key: str, value: Value) -> None:
        """Show the same settings with another value of one."""
        shown = self._settings.shown
        if shown is not None:
            self.show_settings(shown.configuration.replace({key: value}))

    def _derive_figures(self) -> None:
        """Derive the figures of what the knobs are set to, where they are not known."""
        shown = self._settings.shown
        known = self.field.known if self.field is not None else {}
        if shown is not None and shown.configuration.effective() not in known:
            self.derive([shown.configuration.effective()])

    def _go_on_with_settings(self) -> None:
        """Derive the picture that waited for a timed render."""
        shown = self._settings.shown
        step = self.activity.step
        if shown is None or self.snapshot is None or not shown.waits:
            return
        if step is None or not step.is_timed:
            self._settings.show(shown.configuration, self.snapshot)

    def derive_field(self) -> None:
        """Derive every combination of the values that the plan tries."""
        self.derive(list(combinations(self.study)))

    def keep_passes(self, trial_id: str) -> None:
        """Render a trial's picture once more with its light passes, and keep those."""
        trial = self.view().trial(trial_id)
        run = typical_run(trial) if trial is not None else None
        if trial is not None and run is not None and run.picture:
            self._measure(KeepingPasses(trial.configuration, run), "Starting")

    def run_again(self, trial_id: str) -> None:
        """Render a trial once more."""
        trial = self.view().trial(trial_id)
        if trial is not None:
            self.measure_one(trial.configuration, again=True)

    def remark(self, trial_id: str, remark: Remark) -> None:
        """Give a trial a name, a note, or a reason why it is left out; empty text takes it back."""
        self.edit(edits.remark(trial_id, remark, self.study.remarks.get(trial_id, NO_REMARK)))

    def find_features(self) -> None:
        """Read what the scene's materials have, and make settings of it."""

        def read() -> None:
            plan = self._driver.state.plan
            settings = self._driver.renderer.scene_settings(plan.scene, plan.frame, plan.staging)
            self._emit("_features_read", tuple(settings))

        self._in_background(read)

    def _on_features(self, settings: tuple[Setting, ...]) -> None:
        if settings:
            self.edit(
                PlanEdit(
                    "Features of the materials", lambda plan: plan.with_scene_settings(settings)
                )
            )
        else:
            self.problem.emit("nothing of this scene can be taken away or made cheaper")

    def audit_features(self, record: RunRecord | None) -> None:
        """Measure the base with one feature left out at a time."""
        self.edit(PlanEdit("Try every feature", lambda plan: audited(plan, record)))
        self._measure(
            Sweeping(tuple(setting.key for setting in self.study.catalogue.of_parts)), "Starting"
        )

    def set_base_value(self, key: str, value: Value) -> None:
        """Change one value of the base; the old one stays among the values to try."""
        declared = self.study.catalogue[key]
        label = f"Base: {declared.label.lower()} {declared.show(value)}"
        self.edit(replace(edits.set_base_values({key: value}), label=label))

    def command_for(self, configuration: Configuration) -> str:
        """What renders it in a terminal; a remark where nothing does."""
        try:
            return self._driver.renderer.command_for(spec_of(self.study, configuration, 1))
        except SwiftSampleError as error:
            return f"# {one_line(error)}"

    def set_limit(self, key: str, value: float | None) -> None:
        """Change one limit, or lift it; if it came from the base, all those of the picture are then
        set ones."""
        in_force = self.results.limits if self.results is not None else None
        words = "no limit" if value is None else f"limit {value:g}"
        label = f"{quantity(key).label.capitalize()}: {words}"
        self.edit(replace(edits.set_limit(key, value, in_force), label=label))

    def forbid(self, key: str, value: Value, forbidden: bool) -> None:
        """Say that a value must not be used, or may be again."""
        declared = self.study.catalogue[key]
        words = "must not be used" if forbidden else "may be used"
        self.edit(
            replace(
                edits.forbid(key, value, forbidden),
                label=f"{declared.label} {declared.show(value)} {words}",
            )
        )

    def set_line(self, line: float) -> None:
        """Drag the acceptance line: the limit share up to which trials are accepted."""
        if line != self.line:
            self.line = line
            self.line_changed.emit()

    def keep_line(self) -> None:
        """Make the limits those that the dragged line stands for, and put the line back."""
        results = self.results
        if results is not None and self.line != 1.0:
            self.edit(edits.accept(results.limits, self.line))
            self.set_line(1.0)

    def select_setting(self, key: str | None) -> None:
        """Draw one setting's values as a trail; None for none."""
        self.selected_setting = key if key is None else self.study.catalogue.setting(key).key
        self.selection_changed.emit()

    def toggle_selected(self, trial_id: str) -> None:
        """Take a trial into the comparison or out of it; the oldest gives way."""
        if trial_id in self.selected:
            self.selected.remove(trial_id)
        else:
            self.selected = [*self.selected, trial_id][-MOST_COMPARED:]

        self.selection_changed.emit()

    def compare(self, trial_ids: list[str]) -> None:
        """Choose the trials that are compared, in order."""
        self.selected = trial_ids[:MOST_COMPARED]
        self.selection_changed.emit()

    @property
    def undo_label(self) -> str:
        """What undoing would undo; "" where there is nothing."""
        return self._driver.state.undo_label

    @property
    def redo_label(self) -> str:
        return self._driver.state.redo_label

    def undo(self) -> None:
        self._follow(self._driver.undo())

    def redo(self) -> None:
        self._follow(self._driver.redo())

    def edit(self, edit: PlanEdit) -> None:
        """Change the plan; what cannot be is told as a problem and changes nothing."""
        before = self.study
        try:
            after = edit.change(before)
            after.planned()
        except SwiftSampleError as error:
            self.problem.emit(one_line(error))
            return

        if after == before or self._closed:
            return

        self.advice = None
        answer = self._driver.edit(edit.label, edit.change, edit.field)
        self._pending.append(_Pending(edit.change, answer))
        measures = (after.areas, after.view) != (before.areas, before.view)
        answer.add_done_callback(lambda done: self._emit("_edited", (done, measures)))
        self.undo_changed.emit()

    def show_version(self, place: Place | None) -> None:
        """Look at the results of an earlier version, or of the present one."""
        self.selected = []
        self._follow(self._driver.show(place))

    def dismiss_outcome(self) -> None:
        """How the last measuring ended was seen."""
        self._follow(self._driver.dismiss_outcome())

    def look_around(self) -> None:
        """See whether the scene on disk is another one by now."""
        if not self._closed:
            self._follow(self._driver.look_around())

    def measure(self, budget_seconds: float | None = None) -> None:
        """Begin or continue measuring, within so many seconds."""
        self.advice = None
        self._measure(Sweeping(budget_seconds=budget_seconds), "Starting")

    def search(self, budget_seconds: float | None = None) -> None:
        """Let a search choose what is measured, among all combinations of the values to try, within
        so many seconds."""

        def told(advice: "Advice") -> None:
            self._emit("_noticed", Advised(advice))

        self._measure(
            Searching(self._driver.record, budget_seconds, told, self._driver.renderer), "Starting"
        )

    def measure_frames(self, plan: FramePlan) -> None:
        """Measure base and pick at the frames of a sequence, which is kept in the plan."""
        if self.activity.measuring or self._closed:
            return

        self.edit(edits.set_frames(plan))
        self._measure(Framing(plan, tuple(self.view().frame_names())), "Starting")

    def measure_elsewhere(self, size: tuple[int, int], frame: int) -> None:
        """Measure pick, base and runners-up at another size or frame, to see whether the answer
        holds there."""
        snapshot = self.view().snapshot
        if self.activity.measuring or self._closed or snapshot is None:
            return

        self._measure(Holding(Elsewhere(size, frame, candidates(snapshot.results))), "Starting")

    def measure_again(self) -> None:
        """Measure stored pictures that lack figures; nothing is rendered."""
        self._measure(Remeasuring(), "Measuring stored pictures")

    def pause(self) -> None:
        """End measuring after the step in hand."""
        self._stop(True)

    def stop(self) -> None:
        """End measuring at once; the run in hand is lost."""
        self._stop(False)

    @property
    def worker_pid(self) -> int | None:
        return self._driver.worker_pid

    def close(self) -> None:
        """Stop everything and release the study; returns at once, `wait_for_closed` waits."""
        if self._closed:
            return

        self._closed = True
        self._driver.listen(lambda notice: None)
        self._drawn.set()
        self._field_idle.set()
        self._figures_wanted.stop()
        self._settings.close()
        self._driver.close()
        _closing.append(self._driver)
        self._work.shutdown(wait=False, cancel_futures=True)

    def _measure(self, policy: Policy, text: str) -> None:
        if self.activity.measuring or self._closed:
            return

        self._set_activity(
            Activity(measuring=True, searching=isinstance(policy, Searching), text=text)
        )
        if self.machines.in_use and isinstance(policy, Sweeping | Searching | Framing):
            self._in_background(lambda: self._measure_elsewhere(policy))
        else:
            self._follow(self._driver.measure(policy))

    def _measure_elsewhere(self, policy: Policy) -> None:
        """Have other machines do it; not on the window's thread, since their engine takes a while
        to load."""
        from swift_sample.core.machines.fleet import Fleet

        try:
            keys = Path(self.machines.keys) if self.machines.keys else None
            fleet = Fleet(self.machines.address, keys)
        except SwiftSampleError as error:
            self._emit("_noticed", Ended(False, one_line(error)))
            return

        self._follow(self._driver.measure(policy, fleet))

    def use_machines(self, address: str, keys: str, in_use: bool) -> None:
        """Have what is measured from now on be done by the machines that meet there, or by this
        computer again."""
        self.machines = replace(self.machines, address=address, keys=keys, in_use=in_use, words="")
        self.machines_changed.emit()
        if in_use:
            self.look_for_machines()

    def look_for_machines(self) -> None:
        """See who is there; `machines_changed` follows."""
        address = self.machines.address
        keys = Path(self.machines.keys) if self.machines.keys else None

        def look() -> None:
            from swift_sample.core.machines.serving import present

            try:
                there = tuple(
                    Member(
                        host=one.name,
                        machine="",
                        label="",
                        state=one.doing or "nothing to do",
                        runs=0,
                        said="",
                    )
                    for one in present(address, keys, False)
                )
                words = "" if there else f"no machine has joined at {address} yet"
            except SwiftSampleError as error:
                there = ()
                words = one_line(error)

            self._emit("_noticed", CrewChanged(words, there))

        if not self.activity.measuring:
            self._in_background(look)

    def look_at_machine(self, machine: str) -> None:
        """Look at the times of another machine, "" for this one."""
        self.selected = []
        self._follow(self._driver.look_at_machine(machine))

    def _stop(self, after_this_step: bool) -> None:
        if self.activity.measuring:
            self._set_activity(replace(self.activity, stopping=True))
            self._driver.stop(after_this_step)

    def _follow(self, answer: "Future[StudyState]") -> None:
        answer.add_done_callback(lambda done: self._emit("_edited", (done, False)))

    def _on_edited(self, told: "tuple[Future[StudyState], bool]") -> None:
        """An edit was kept, or could not be: then the window shows the plan that is on disk
        again."""
        answer, measures = told
        if self._closed:
            return

        error = answer.exception()
        newer = error is None and (
            self.snapshot is None or answer.result().version > self.snapshot.version
        )
        if not newer:
            self._pending = [pending for pending in self._pending if pending.answer is not answer]

        if error is not None:
            self.problem.emit(
                one_line(error)
                if isinstance(error, SwiftSampleError)
                else f"something went wrong ({one_line(error)}); saved in {log_file()}"
            )
            if self.snapshot is not None:
                self.snapshot_changed.emit(self.snapshot)

        self.undo_changed.emit()
        if measures and error is None and any(answer.result().results.pictures.values()):
            self.measure_again()

    def _in_background(self, work: Callable[[], Any]) -> None:
        def guarded() -> None:
            try:
                work()
            except SwiftSampleError as error:
                self._emit("problem", one_line(error))

        if not self._closed:
            inspected(self._work.submit(guarded), "work for the window")

    def _wait_for_drawing(self) -> None:
        """On the driver's thread: let the window draw, and work out the field, before a render is
        timed."""
        if not self._closed:
            self._drawn.clear()
            self._emit("_noticed", None)
            self._drawn.wait(DRAWING_SECONDS)
            self._field_idle.wait(FIELD_SECONDS)

    def _emit(self, name: str, value: object) -> None:
        """Emit one of the signals from any thread. Whoever still works when the session ends has
        nobody to tell: the window may have taken it away between a look and the signal."""
        if self._closed:
            return

        try:
            getattr(self, name).emit(value)
        except RuntimeError:
            if not sip.isdeleted(self):
                raise

    def _on_notice(self, notice: Notice | None) -> None:
        if self._closed:
            return

        if notice is None:
            self.drawing_wanted.emit()
            QTimer.singleShot(0, self._drawn.set)
        elif isinstance(notice, StateChanged):
            self.snapshot = notice.snapshot
            self._pending = [
                pending
                for pending in self._pending
                if not (
                    pending.answer.done()
                    and pending.answer.exception() is None
                    and pending.answer.result().version <= notice.snapshot.version
                )
            ]

            self.snapshot_changed.emit(notice.snapshot)
            self.undo_changed.emit()
            self._look_at_field()
            self._settings.follow(notice.snapshot)
        elif isinstance(notice, StepStarted):
            self._set_activity(
                replace(
                    self.activity,
                    measuring=True,
                    step=notice.step,
                    why=notice.why,
                    share=0.0,
                    text="",
                )
            )
        elif isinstance(notice, Advised):
            self.advice = notice.advice
            if self.snapshot is not None:
                self.snapshot_changed.emit(self.snapshot)
        elif isinstance(notice, StepProgress):
            self._set_activity(
                replace(self.activity, share=notice.share, text=notice.text or self.activity.text)
            )
        elif isinstance(notice, CrewChanged):
            if self.activity.measuring:
                words = self.machines.words
            elif notice.members:
                words = ""
            else:
                words = notice.address

            self.machines = replace(self.machines, members=notice.members, words=words)
            self.machines_changed.emit()
        elif isinstance(notice, MachineSaid):
            self.machines = replace(self.machines, words=notice.words)
            self.machines_changed.emit()
        elif isinstance(notice, Waits):
            self._set_activity(
                replace(self.activity, step=None, share=0.0, text=f"Waiting: {notice.words}")
            )
        elif isinstance(notice, StepEnded):
            if notice.problem is not None:
                self.problem.emit(notice.problem)
        elif isinstance(notice, Ended):
            self._set_activity(Activity())
            self._look_at_field()
            self.ended.emit(notice.problem or notice.words)

            if notice.problem is not None:
                self.problem.emit(notice.problem)
            elif notice.finished:
                self.finished.emit()

    def _look_at_field(self) -> None:
        """Work out the field of the present snapshot, one after the other."""
        snapshot = self.snapshot
        if snapshot is None or self._field_of is not None:
            return

        def work() -> None:
            field = None
            began = time.monotonic()
            try:
                field = field_shown(snapshot)
            finally:
                self._field_took = time.monotonic() - began
                self._field_idle.set()
                self._emit("_field_arrived", field)

        step = self.activity.step
        if step is None or not step.is_timed:  # nothing is worked out beside a timed render
            self._field_of = snapshot
            self._field_idle.clear()
            self._in_background(work)

    def _on_field(self, field: Field | None) -> None:
        done = self._field_of
        self._field_of = None
        self.field = field
        self.field_changed.emit()

        known = self.snapshot
        if known is not None and done is not None and known.version != done.version:
            rest = max(FIELD_MILLISECONDS, int(1000 * FIELD_REST * self._field_took))
            QTimer.singleShot(rest, self._look_at_field)

    def _set_activity(self, activity: Activity) -> None:
        self.activity = activity
        self.activity_changed.emit(activity)
        self._go_on_with_settings()

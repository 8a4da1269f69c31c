"""Any settings under the hand: a knob for each that a recording holds, with the price and the
verdict of every value beside it, and the picture that comes of them, derived off the window's
thread."""

from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.app.field import Field
from swift_sample.app.pictures import layers_of
from swift_sample.app.toning import Layers
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.log import inspected
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.renderers.port import Recording
from swift_sample.core.settings import Configuration, Setting, Value
from swift_sample.core.study.answers.acceptance import UNMEASURED
from swift_sample.core.study.answers.field import recorded_for
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.plan.model import Study

ANY_SETTINGS = "any settings"
"""Stands for what the knobs are set to where the name of a trial is expected."""


@dataclass(frozen=True)
class Bar:
    """One value of a knob with the others as they are: how long a render would take, and whether
    its picture would do; UNMEASURED where that was not derived."""

    value: Value
    words: str
    seconds: Figure | None
    verdict: str


@dataclass(frozen=True)
class Knob:
    """A setting with the values that a recording holds; `at` is the place of its own."""

    key: str
    label: str
    bars: tuple[Bar, ...]
    at: int

    @property
    def words(self) -> str:
        """Its value as people read it."""
        return self.bars[self.at].words


def knobs_of(
    study: Study, field: Field, configuration: Configuration, line: float
) -> tuple[Knob, ...]:
    """A knob for each setting of which several values are tried, in the order of the plan."""
    made = []
    for key, values in study.space().items():
        declared = study.catalogue[key]
        known = _in_order(declared, values) if len(values) > 1 else []
        if configuration[key] not in known or configuration.is_idle(declared):
            continue

        bars = []
        for value in known:
            other = configuration.replace({key: value}).effective()
            point = field.known.get(other)
            verdict = point.standing.verdict(line) if point is not None else UNMEASURED
            bars.append(Bar(value, declared.show(value), field.foresee(other), verdict))

        label = declared.short or declared.full_label.lower()
        made.append(Knob(key, label, tuple(bars), known.index(configuration[key])))

    return tuple(made)


def _in_order(declared: Setting, values: Iterable[Value]) -> list[Value]:
    """Choices as the catalogue has them, numbers from the least up, others as they come."""
    if declared.kind == "choice":
        return sorted(values, key=lambda value: declared.values.index(str(value)))
    if declared.kind in ("whole", "number"):
        return sorted(values, key=float)

    return list(values)


@dataclass(frozen=True)
class AnySettings:
    """What the knobs are set to, and its picture: None while it is derived, or where it cannot be;
    `words` then say which."""

    configuration: Configuration
    layers: Layers | None = None
    words: str = "Deriving its picture …"
    waits: bool = False
    """whether it is begun only when a timed render has ended"""


class SettingsPicture(QObject):
    """Derives the picture of the settings that were wanted last, on a thread of its own; those in
    between are left out."""

    changed = pyqtSignal()
    _derived = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.shown: AnySettings | None = None
        self._work: ThreadPoolExecutor | None = None
        self._open: tuple[object, Recording] | None = None
        """what names a recording and its content, and the recording"""
        self._shown_of: object = None
        """what the picture depends on beside its settings"""
        self._derived.connect(self._on_derived)

    def show(self, configuration: Configuration, snapshot: Snapshot) -> None:
        """Derive the picture of a configuration; the one before stays until it is there."""
        before = self.shown if self._shown_of == _depends_on(snapshot) else None
        self._shown_of = _depends_on(snapshot)
        self.shown = AnySettings(configuration, before.layers if before is not None else None)
        wanted = self.shown
        if self._work is None:
            self._work = ThreadPoolExecutor(1, thread_name_prefix="any settings")

        inspected(self._work.submit(lambda: self._derive(wanted, snapshot)), "derived pictures")
        self.changed.emit()

    def follow(self, snapshot: Snapshot) -> None:
        """Derive the picture again where the scene, the reference or the view is another one."""
        shown = self.shown
        if shown is not None and not shown.waits and self._shown_of != _depends_on(snapshot):
            self.show(shown.configuration, snapshot)

    def wait(self, configuration: Configuration) -> None:
        """Take a configuration that is derived later, since a render is being timed."""
        words = "It is derived when the render that is being timed has ended."
        self.shown = AnySettings(configuration, None, words, waits=True)
        self.changed.emit()

    def close(self) -> None:
        """End what works; the recording that is open is closed."""
        self.shown = None
        if self._work is not None:
            self._work.submit(self._close_recording)
            self._work.shutdown(wait=False)
            self._work = None

    def _derive(self, wanted: AnySettings, snapshot: Snapshot) -> None:
        if self.shown is not wanted:
            return  # other settings are wanted by now

        try:
            made = replace(
                wanted, layers=self._layers(wanted.configuration.effective(), snapshot), words=""
            )
        except (SwiftSampleError, OSError) as error:
            made = replace(wanted, layers=None, words=f"It cannot be derived: {one_line(error)}")

        self._derived.emit((wanted, made))

    def _layers(self, configuration: Configuration, snapshot: Snapshot) -> Layers | None:
        """The derived picture, out of the first recording that holds it."""
        state = snapshot.state
        held = recorded_for(state, configuration)
        if not held:
            raise SwiftSampleError("no recording holds these values; time it instead")

        path = snapshot.folder.recording(state.reference_name, held[0])
        content = (path, state.recordings[state.reference_name, held[0]].digest)
        if self._open is None or self._open[0] != content:
            self._close_recording()
            self._open = (content, snapshot.renderer.engine().open_recording(path))

        picture = self._open[1].derive(configuration, state.plan.view).picture
        return layers_of(path, picture)

    def _close_recording(self) -> None:
        if self._open is not None:
            self._open[1].close()
            self._open = None

    def _on_derived(self, told: tuple[AnySettings, AnySettings]) -> None:
        wanted, made = told
        if self.shown is wanted:
            self.shown = made
            self.changed.emit()


def _depends_on(snapshot: Snapshot) -> object:
    """What a derived picture depends on beside its settings."""
    return (snapshot.folder.path, snapshot.state.reference_name, snapshot.state.plan.view)

"""An open study while somebody may change it: its state, and the one way in which that changes.

event -> store (one transaction) -> state.apply -> shown
"""

from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

from swift_sample.core.errors import StudyError
from swift_sample.core.machine import Machine
from swift_sample.core.study.log.events import (
    Event,
    Happened,
    MachineShown,
    PlaceShown,
    PlanEdited,
    ReferenceLost,
)
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.state import StudyState, apply
from swift_sample.core.study.log.store import Store
from swift_sample.core.study.measuring.notices import Notice, StateChanged
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.surroundings import look_around
from swift_sample.core.study.plan.model import Study

PUBLISH_SECONDS = 0.5
"""How often the state is shown at most while several machines work."""


class OpenStudy:
    """The state of a study with the store that it is kept in, and whoever is told of it. Used from
    one thread."""

    def __init__(
        self,
        store: Store,
        tell: Callable[[Notice], None],
        machine: Machine,
        clock: Callable[[], float],
        *,
        prepares: bool = False,
    ) -> None:
        self.store = store
        self.state = store.opened_as
        self.renderer = store.renderer
        self.machine = machine
        self.tell = tell
        self.clock = clock
        self.before_timed: Callable[[], None] = lambda: None
        """called before a timed render begins; may wait a moment until the study is drawn"""
        self._prepares = prepares
        self._published = 0.0

    @property
    def path(self) -> Path:
        return self.store.folder.path

    @property
    def snapshot(self) -> Snapshot:
        record = self.store.record
        return Snapshot(self.state, self.store.folder, self.renderer, record, record.values_of)

    def keep(self, events: Sequence[Event]) -> StudyState:
        """Keep what happened. Raises StudyError where it cannot be written; nothing is kept
        then."""
        if events:
            self._apply(self.store.append(events))
        return self.state

    def edit(self, label: str, change: Callable[[Study], Study], field: str) -> StudyState:
        """Change the plan. Raises SwiftSampleError where it cannot be so."""
        plan = change(self.state.plan)
        plan.planned()
        if plan == self.state.plan:
            return self.state

        return self.keep_plan(PlanEdited(label, plan, field))

    def keep_plan(self, event: Event) -> StudyState:
        """Keep an event that makes the plan another one."""
        after = apply(self.state, Happened(0, "", event)).plan
        self._apply(self.store.append([event], after))

        if self.state.shown is not None:
            self._see(PlaceShown(None))

        return self.surround()

    def surround(self) -> StudyState:
        """Take in the scene as it is on disk, the renderer and the machine."""
        seen = look_around(self.state.plan, self.machine, self.renderer)
        if seen != self.state.surroundings:
            self._see(seen)

        return self.state

    def look_at(self, place: Place | None) -> StudyState:
        """Look at the results of an earlier place, or of the present one."""
        self._see(PlaceShown(None if place == self.state.here else place))
        return self.state

    def look_at_machine(self, machine: str) -> StudyState:
        """Look at the times of another machine, "" for this one."""
        own = machine == self.state.surroundings.machine
        self._see(MachineShown("" if own else machine))
        return self.state

    def check_reference(self) -> None:
        """A reference whose file is gone is none; with the database just opened or measuring just
        begun."""
        name = self.state.reference_name
        known = bool(name) and name in self.state.references
        if known and not self.store.folder.reference(name).is_file():
            with suppress(StudyError):
                self.keep([ReferenceLost(name, "its picture is missing, and is rendered again")])

    def publish(self) -> None:
        """Show the state to whoever listens."""
        self._published = self.clock()
        snapshot = self.snapshot

        if self._prepares:
            # Between renders, so that whoever shows it need not work while one is timed.
            _ = (
                snapshot.results.pick(),
                snapshot.runs,
                snapshot.seconds_left,
                snapshot.frames,
                snapshot.hidden,
                snapshot.kinds,
            )

        self.tell(StateChanged(snapshot))

    def publish_soon(self) -> None:
        """The same, not more often than is of use where many machines work."""
        if self.clock() - self._published >= PUBLISH_SECONDS:
            self.publish()

    def _apply(self, happened: Sequence[Happened]) -> None:
        for event in happened:
            self.state = apply(self.state, event)

    def _see(self, event: Event) -> None:
        """Take in how the study is looked at, which is not kept."""
        self._apply([Happened(0, "", event)])

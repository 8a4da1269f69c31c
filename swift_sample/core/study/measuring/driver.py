"""The driver: owns a study while it is open. One thread takes edits, asks the policy for steps,
talks to the worker, keeps what happened and applies it; everyone else reads states, which never
change, and hears notices.

    edit or outcome -> event -> store (one transaction) -> state.apply -> notice

Everything arrives in one inbox, so nothing needs a lock, and an edit made during a render is kept
at once. It survives anything that a worker does: a lost one costs the step in hand.
"""

import queue
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from swift_sample.core.errors import StudyBlockedError, SwiftSampleError, one_line
from swift_sample.core.log import log_file, report_error
from swift_sample.core.machine import Machine, this_machine
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.study.log.events import Event, OutcomeDismissed, PlanRedone, PlanUndone
from swift_sample.core.study.log.identity import Place
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.log.store import Store
from swift_sample.core.study.measuring.joined import Announced, FleetStretch
from swift_sample.core.study.measuring.notices import Ended, Notice, Waits
from swift_sample.core.study.measuring.open_study import OpenStudy
from swift_sample.core.study.measuring.policies import Policy, Remeasuring
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.stretch import (
    PATIENCE_SECONDS,
    WAKE_SECONDS,
    Replied,
    Stretch,
)
from swift_sample.core.study.plan.model import Study
from swift_sample.core.worker.lease import Lease

if TYPE_CHECKING:
    from swift_sample.core.machines.fleet import Fleet


class Driver:
    """Owns an open study from `start` (a thread of its own) or `run_here` (this thread) until
    `close`.

    `tell` is called from the driver's thread. `before_timed` is called before a timed render
    begins, and may wait a moment until whoever shows the study has drawn it: nothing else should
    work while a render is timed.
    """

    def __init__(
        self,
        store: Store,
        tell: Callable[[Notice], None] = lambda notice: None,
        *,
        machine: Machine | None = None,
        clock: Callable[[], float] = time.monotonic,
        lease: Lease | None = None,
        before_timed: Callable[[], None] = lambda: None,
        prepares: bool = False,
    ) -> None:
        self.study = OpenStudy(store, tell, machine or this_machine(), clock, prepares=prepares)
        self.study.before_timed = before_timed
        self._lease = lease or Lease()
        self._inbox: queue.SimpleQueue[Any] = queue.SimpleQueue()
        self._thread: threading.Thread | None = None
        self._stretch: Stretch | None = None
        self._closed = False
        self._ended: Ended | None = None
        self.study.surround()
        self.study.check_reference()

    @property
    def path(self) -> Path:
        return self.study.path

    @property
    def renderer(self) -> Renderer:
        return self.study.renderer

    @property
    def machine(self) -> Machine:
        return self.study.machine

    @property
    def state(self) -> StudyState:
        """The state now; it never changes, another one takes its place."""
        return self.study.state

    @property
    def snapshot(self) -> Snapshot:
        return self.study.snapshot

    @property
    def worker_pid(self) -> int | None:
        return self._stretch.worker_pid if self._stretch is not None else None

    def record(self, number: int) -> RunRecord | None:
        """The whole record of a run."""
        return self.study.store.record(number)

    def words(self) -> list[tuple[str, str, str]]:
        """The log: UTC time, kind, text. Callable from any thread."""
        return self.study.store.words()

    def listen(self, tell: Callable[[Notice], None]) -> None:
        """Tell someone else from now on."""
        self.study.tell = tell

    def draw_before_timed(self, draw: Callable[[], None]) -> None:
        """Have whoever shows the study draw it before a render is timed."""
        self.study.before_timed = draw

    def settle(self, answer: "Future[StudyState]") -> StudyState:
        """Work in this thread until an edit is made. Raises what it raised."""
        while not answer.done():
            self._turn()
        return answer.result()

    def start(self) -> None:
        """Work in a thread of its own from now on."""
        self._thread = threading.Thread(target=self._serve, name="driver", daemon=True)
        self._thread.start()

    def run_here(self, policy: Policy, fleet: "Fleet | None" = None, times_on: str = "") -> Ended:
        """Measure in this thread until it ends, on the machines of a fleet where there is one;
        returns how. Problems are returned, not raised."""
        self._ended = None
        self._begin(policy, fleet, times_on)
        while self._ended is None:
            self._turn()

        return self._ended

    def close(self) -> None:
        """Stop everything and release the study; returns at once where a thread of its own works,
        which then ends."""
        self._inbox.put(self._shut)
        if self._thread is None:
            while not self._closed:
                self._turn()

    def join(self, timeout: float | None = None) -> bool:
        """Wait for the thread's end; returns whether it came."""
        if self._thread is not None:
            self._thread.join(timeout)
            return not self._thread.is_alive()

        return True

    def edit(
        self, label: str, change: Callable[[Study], Study], field: str = ""
    ) -> "Future[StudyState]":
        """Change the plan; the future holds the state after it, or why it could not be. The change
        is made on the plan as it then stands, so edits in quick succession all count."""
        return self._ask(lambda: self.study.edit(label, change, field))

    def undo(self) -> "Future[StudyState]":
        return self._ask(
            lambda: (
                self.study.keep_plan(PlanUndone()) if self.study.state.past else self.study.state
            )
        )

    def redo(self) -> "Future[StudyState]":
        return self._ask(
            lambda: (
                self.study.keep_plan(PlanRedone()) if self.study.state.future else self.study.state
            )
        )

    def show(self, place: Place | None) -> "Future[StudyState]":
        """Look at the results of an earlier place, or of the present one."""
        return self._ask(lambda: self.study.look_at(place))

    def keep(self, events: Sequence[Event]) -> "Future[StudyState]":
        """Keep what happened elsewhere, such as renders that were finished before."""
        return self._ask(lambda: self.study.keep(events))

    def dismiss_outcome(self) -> "Future[StudyState]":
        return self._ask(lambda: self.study.keep([OutcomeDismissed()]))

    def look_around(self) -> "Future[StudyState]":
        """See whether the scene on disk is another one by now."""
        return self._ask(self.study.surround)

    def measure(
        self, policy: Policy, fleet: "Fleet | None" = None, times_on: str = ""
    ) -> "Future[StudyState]":
        """Begin to measure, on the machines of a fleet where there is one, unless that goes on
        already."""
        return self._ask(lambda: self._begin(policy, fleet, times_on))

    def look_at_machine(self, machine: str) -> "Future[StudyState]":
        """Look at the times of another machine, "" for this one."""
        return self._ask(lambda: self.study.look_at_machine(machine))

    def stop(self, after_this_step: bool = False) -> None:
        """Ask measuring to end, at once or after the step in hand; `Ended` follows. Callable from a
        signal handler."""

        def stop() -> None:
            if self._stretch is not None:
                self._stretch.stop(after_this_step)

        self._inbox.put(stop)

    def _ask(self, work: Callable[[], StudyState]) -> "Future[StudyState]":
        answer: Future[StudyState] = Future()
        asked = self.study.clock()

        def do() -> None:
            try:
                answer.set_result(work())
                # after the answer: who knows of the edit must not take it for one still to come
                self.study.publish()
            except StudyBlockedError as error:
                if (
                    error.held
                    and self.study.clock() - asked < PATIENCE_SECONDS
                    and not self._closed
                ):
                    self.study.tell(Waits(one_line(error)))
                    self._inbox.put(do)
                else:
                    answer.set_exception(error)
            except SwiftSampleError as error:
                answer.set_exception(error)
            except Exception as error:
                report_error("an edit of the study", error)
                answer.set_exception(error)

        self._inbox.put(do)
        return answer

    def _serve(self) -> None:
        self.study.publish()
        while not self._closed:
            self._turn()

    def _turn(self) -> None:
        """Do what can be done, then handle one message."""
        wait = WAKE_SECONDS
        with self._measuring_ends_on_errors():
            if self._stretch is not None:
                wait = self._stretch.turn()

        try:
            message = self._inbox.get(timeout=wait)
        except queue.Empty:
            message = self._notice_silence

        with self._measuring_ends_on_errors():
            if isinstance(message, Replied):
                if self._stretch is not None:
                    self._stretch.on_reply(message)
            elif isinstance(message, Announced):
                if isinstance(self._stretch, FleetStretch):
                    self._stretch.on_news(message)
            else:
                if self._stretch is not None:
                    self._stretch.stir()
                message()

    def _notice_silence(self) -> None:
        if self._stretch is not None:
            self._stretch.notice_silence()

    @contextmanager
    def _measuring_ends_on_errors(self) -> Iterator[None]:
        """Whatever goes wrong ends the measuring, never the thread: edits must be answered after it
        as before."""
        try:
            yield
        except StudyBlockedError as error:
            if self._stretch is not None:
                self._stretch.wait(one_line(error))
        except SwiftSampleError as error:
            self._end(one_line(error))
        except Exception as error:
            report_error("measuring", error)
            self._end(_went_wrong(error))

    def _end(self, problem: str) -> None:
        if self._stretch is not None:
            self._stretch.end(False, problem)

    def _begin(
        self, policy: Policy, fleet: "Fleet | None" = None, times_on: str = ""
    ) -> StudyState:
        if self._stretch is not None or self._closed:
            if fleet is not None:
                fleet.close()
            return self.study.state

        self.study.surround()
        if not self.study.state.plan.catalogue.capabilities.starts:
            policy = Remeasuring()

        if fleet is None:
            self.study.look_at_machine("")
            self._stretch = Stretch(
                self.study,
                self._lease,
                policy,
                post=self._post,
                ended=self._on_end,
                times_on=times_on,
            )
        else:
            self._stretch = FleetStretch(
                self.study,
                self._lease,
                policy,
                fleet,
                post=self._post,
                ended=self._on_end,
                times_on=times_on,
            )

        self._stretch.begin()
        return self.study.state

    def _post(self, message: object) -> None:
        self._inbox.put(message)

    def _on_end(self, ended: Ended) -> None:
        self._stretch = None
        self._ended = ended

    def _shut(self) -> None:
        if self._stretch is not None:
            self._stretch.throw_away()

        self._closed = True
        self.study.store.close()


def _went_wrong(error: Exception) -> str:
    return (
        f"something went wrong ({type(error).__name__}: {one_line(error)}); what was measured "
        f"is kept, see {log_file()}"
    )

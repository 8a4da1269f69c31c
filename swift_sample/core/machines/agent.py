"""A machine's side: does the orders of studies one at a time, in the worker process that renders on
one machine.

The functions at the end are what the engine calls in the process that joined.
"""

import json
import os
import queue
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from swift_sample.core.errors import SwiftSampleError, WorkerError, one_line
from swift_sample.core.files import is_full
from swift_sample.core.machine import computer, this_machine
from swift_sample.core.machines.content import Content, digest_of
from swift_sample.core.machines.messages import Answer, Card, Order
from swift_sample.core.renderers.registry import renderer_at
from swift_sample.core.worker.lease import Lease
from swift_sample.core.worker.link import WorkerLink
from swift_sample.core.worker.messages import (
    REPLIES,
    REQUESTS,
    Failed,
    Outcome,
    Progress,
    Reply,
    Shown,
    Stopped,
    Void,
)

LEASE_SECONDS = 4.0
"""How long an order waits for a study that is timed on this machine outside, before it is given
back."""
IDLE_SECONDS = 300.0
"""A renderer that nobody asked for so long is ended: a kept scene may hold much memory."""
TELL_SECONDS = 2.0
"""How often a machine says how far it is: of a thousand machines that is five hundred times a
second."""
PIECE_BYTES = 16 << 20

Tell = Callable[[Progress], None]


class Agent:
    """Orders are done in the order in which they come, by one thread, which also owns the worker
    process."""

    def __init__(self, name: str, content: Content | None = None) -> None:
        self.name = name
        self.content = content or Content()
        mine = frozenset(os.sched_getaffinity(0))
        all_of_them = os.cpu_count() or 1
        self._lease = Lease(processors=mine if len(mine) < all_of_them else frozenset())
        self._orders: queue.Queue[
            tuple[Order, Tell, Future[tuple[Answer, dict[str, bytes]]]] | None
        ] = queue.Queue()
        self._lock = threading.Lock()
        self._doing: tuple[str, int] | None = None
        self._halted: set[tuple[str, int]] = set()
        self._link: WorkerLink | None = None
        self._renderer = ""
        self._words = ""
        self._has_ended = False
        self._replies: queue.Queue[Reply | None] = queue.Queue()
        self._thread = threading.Thread(target=self._serve, name="orders", daemon=True)
        self._thread.start()

    def card(self, renderer: str) -> Card:
        """What this machine is, and which version of a renderer it has."""
        machine = this_machine()
        version = ""
        problem = ""

        try:
            version = renderer_at(renderer).version if renderer else ""
        except (SwiftSampleError, ImportError, AttributeError) as error:
            problem = one_line(error)

        return Card(
            name=self.name,
            hardware=machine.hardware(),
            software=machine.versions,
            renderer=version,
            problem=problem,
            at=now(),
            computer=computer(),
            processors=sorted(os.sched_getaffinity(0)),
        )

    def do(self, order: Order, tell: Tell) -> tuple[Answer, dict[str, bytes]]:
        """What came of an order, with the files that it made, by their names at the study's
        side."""
        done: Future[tuple[Answer, dict[str, bytes]]] = Future()
        self._orders.put((order, tell, done))

        while True:
            try:
                return done.result(timeout=2.0)
            except TimeoutError as error:
                if self._has_ended and not self._thread.is_alive():
                    raise WorkerError("the machine went home") from error
                if self._doing != (order.session, order.number) and not done.done():
                    tell(Progress(share=0.0, text="waiting: another study is timed there"))

    def halt(self, session: str, number: int, at_once: bool) -> None:
        """Stop an order, if it is still to be done or in hand; a renderer that does not listen is
        ended `at_once`."""
        with self._lock:
            self._halted.add((session, number))
            if self._doing == (session, number) and self._link is not None:
                if at_once:
                    self._link.kill()
                else:
                    self._link.stop_job()

    @property
    def words(self) -> str:
        """What it has in hand; "" for nothing."""
        return self._words

    def end(self) -> None:
        """End the renderer; no order is done any more."""
        with self._lock:
            self._has_ended = True
            if self._link is not None:
                self._link.kill()

        self._orders.put(None)
        self._thread.join(timeout=5)

    def _serve(self) -> None:
        while not self._has_ended:
            try:
                asked = self._orders.get(timeout=IDLE_SECONDS)
            except queue.Empty:
                self._end_renderer()
                continue

            if asked is None:
                break

            order, tell, done = asked
            try:
                done.set_result(self._attend(order, tell))
            except OSError as error:
                full = is_full(self.content.folder / "content", error)
                done.set_result(
                    (_done(Failed(reason=one_line(error), fault="disk" if full else "folder")), {})
                )
            except SwiftSampleError as error:
                done.set_result((_done(Failed(reason=one_line(error))), {}))
            except Exception as error:  # whoever waits for it must hear of it
                done.set_result(
                    (_done(Failed(reason=f"{type(error).__name__}: {one_line(error)}")), {})
                )
            finally:
                self._lease.release()
                with self._lock:
                    self._doing = None
                    self._words = ""
                    self._halted.discard((order.session, order.number))

        self._end_renderer()

    def _attend(self, order: Order, tell: Tell) -> tuple[Answer, dict[str, bytes]]:
        with self._lock:
            self._doing = (order.session, order.number)
            self._words = f"{Path(order.study).stem}: {order.words}"
            if self._doing in self._halted:
                return _done(Stopped()), {}

        holder = self._wait_for_the_lease(order, tell)
        if holder:
            return Answer(kind="held", words=holder), {}

        lacks = [sent.digest for sent in order.inputs if not self.content.has(sent.digest)]
        if lacks:
            return Answer(kind="lacks", lacks=list(dict.fromkeys(lacks))), {}

        names = self._places(order)
        outcome = self._work(order, names, tell)
        made: dict[str, bytes] = {}

        for output in order.outputs:
            path = Path(names[output])
            if path.is_file():
                self.content.add(digest_of(path), path)
                made[output] = path.read_bytes()
                path.unlink()

        content = None
        version = ""

        if order.content_of is not None:
            scene, staging = order.content_of
            light = staging.environment
            staging = replace(
                staging, environment=names.get(light, light) if light is not None else None
            )
            renderer = renderer_at(_renamed(order.renderer, names))
            content = asdict(renderer.scene_content(names.get(scene, scene), staging))
            version = renderer.version

        return _done(outcome, content, version), made

    def _wait_for_the_lease(self, order: Order, tell: Tell) -> str:
        end = time.monotonic() + LEASE_SECONDS
        while holder := self._lease.take(Path(order.study)):
            if time.monotonic() > end:
                return f"another study is timed there: {holder}"
            tell(Progress(share=0.0, text=f"waiting: another study is timed there: {holder}"))
            time.sleep(0.25)

        return ""

    def _places(self, order: Order) -> dict[str, str]:
        """Where files stand here, by their paths at the study's side."""
        places: dict[str, str] = {}
        for tree in dict.fromkeys(sent.tree for sent in order.inputs if sent.tree):
            files = [(sent.name, sent.digest) for sent in order.inputs if sent.tree == tree]
            folder = self.content.tree(tree, files)
            places |= {
                sent.path: str(folder / sent.name) for sent in order.inputs if sent.tree == tree
            }

        places |= {
            sent.path: str(self.content.path(sent.digest)) for sent in order.inputs if not sent.tree
        }
        made = self.content.folder / "made" / f"{os.getpid()}"
        made.mkdir(parents=True, exist_ok=True)

        return places | {output: str(made / Path(output).name) for output in order.outputs}

    def _work(self, order: Order, names: dict[str, str], tell: Tell) -> Outcome:
        renderer = _renamed(order.renderer, names)
        if self._link is None or self._renderer != renderer:
            self._end_renderer()
            self._replies = queue.Queue()
            replies = self._replies
            self._link = WorkerLink(
                renderer, self.content.folder / "worker.log", lambda link, reply: replies.put(reply)
            )
            self._renderer = renderer

        link = self._link
        job = REQUESTS.validate_python(_renamed(json.loads(order.job), names))
        link.was_paused()

        with self._lock:  # a stop comes either before the job, or once the renderer has it
            if (order.session, order.number) in self._halted:
                return Stopped()
            try:
                link.send(job)
                problem = ""
            except WorkerError as error:
                problem = one_line(error)

        if problem:
            return self._lost(problem)

        while True:
            reply = self._replies.get()
            if reply is None:
                return self._lost(f"the renderer ended unexpectedly ({link.exit_words()})")
            if isinstance(reply, Progress):
                tell(reply)
            elif not isinstance(reply, Shown):
                break

        if link.was_paused():
            return Void(reason="the renderer was held by another program meanwhile")

        back = {there: here for here, there in names.items()}
        outcome = REPLIES.validate_python(_renamed(json.loads(REPLIES.dump_json(reply)), back))
        assert not isinstance(outcome, Progress | Shown)

        return outcome

    def _lost(self, words: str) -> Outcome:
        self._end_renderer()
        return Failed(reason=words, fault="machine")  # that says nothing of the trial

    def _end_renderer(self) -> None:
        with self._lock:
            link = self._link
            self._link = None
            self._renderer = ""

        if link is not None:
            link.kill()
            link.close()


def _done(outcome: Outcome, content: dict[str, str] | None = None, version: str = "") -> Answer:
    return Answer(
        kind="done", outcome=REPLIES.dump_json(outcome).decode(), content=content, version=version
    )


def now() -> float:
    """This machine's clock."""
    return time.time()


def _renamed(told: Any, names: dict[str, str]) -> Any:
    """Data with every text that is one of these names replaced, keys too; of a renderer's place its
    file."""
    if isinstance(told, str):
        module, mark, file = told.rpartition(":")
        return f"{module}{mark}{names[file]}" if mark and file in names else names.get(told, told)

    if isinstance(told, dict):
        return {_renamed(key, names): _renamed(value, names) for key, value in told.items()}
    if isinstance(told, list | tuple):
        return [_renamed(value, names) for value in told]

    return told


_agent: Agent | None = None
_making = threading.Lock()
asked_to_leave = threading.Event()
"""Set where all machines are stopped from elsewhere."""


def scratch() -> Path:
    """Where the engine keeps what it needs while it runs."""
    return Content().folder / "engine"


def end() -> None:
    """Let the renderer go, if there is one."""
    global _agent
    with _making:
        gone = _agent
        _agent = None

    if gone is not None:
        gone.end()


def leave() -> None:
    """Go home."""
    asked_to_leave.set()


def doing() -> str:
    """What this machine has in hand, in words."""
    return _agent.words if _agent is not None else ""


def agent() -> Agent:
    """This process's, made when it is first asked for."""
    global _agent
    with _making:
        if _agent is None:
            from distributed import get_worker

            _agent = Agent(str(get_worker().name))

        return _agent


def introduce(renderer: str) -> str:
    """The machine's card."""
    return agent().card(renderer).model_dump_json()


def lacking(digests: list[str]) -> list[str]:
    """Which of these files have to travel."""
    return [digest for digest in digests if not agent().content.has(digest)]


def take_piece(digest: str, sender: str, offset: int, data: bytes) -> str:
    """Keep a piece of a file; returns what is wrong, "" for nothing."""
    try:
        agent().content.add_piece(digest, sender, offset, data)
        return ""
    except (OSError, WorkerError) as error:
        return one_line(error)


def give_piece(digest: str, offset: int) -> bytes:
    """A piece of a file, for another machine."""
    return agent().content.read_piece(digest, offset, PIECE_BYTES)


def attend(text: str) -> tuple[str, dict[str, bytes]]:
    """Do one order; progress goes to the topic of its session."""
    from distributed import get_worker

    order = Order.model_validate_json(text)
    worker = get_worker()

    last = -TELL_SECONDS

    def tell(progress: Progress) -> None:
        nonlocal last
        if time.monotonic() - last < TELL_SECONDS:
            return

        last = time.monotonic()
        told = {"number": order.number, "share": progress.share, "text": progress.text}
        worker.log_event(order.session, told)

    answer, made = agent().do(order, tell)
    return answer.model_dump_json(), made


def halt(session: str, number: int, at_once: bool) -> None:
    """Stop an order."""
    agent().halt(session, number, at_once)

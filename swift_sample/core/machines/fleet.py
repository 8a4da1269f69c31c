"""The study's side: who has joined, and a link to each.

One thread watches the meeting place; transfers and orders wait in a few others. Whoever listens is
told from those threads.
"""

import hashlib
import itertools
import logging
import os
import secrets
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from swift_sample.core.errors import StudyError, SwiftSampleError, WorkerError, one_line
from swift_sample.core.files import is_full, written_whole
from swift_sample.core.machines import agent
from swift_sample.core.machines.content import digest_of
from swift_sample.core.machines.engine import checked_address, prepare, security
from swift_sample.core.machines.messages import Answer, Card, Order, Sent
from swift_sample.core.machines.news import Heard, Joined, News, version_words
from swift_sample.core.renderers.port import Renderer, SceneContent
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.scene.staging import Staging
from swift_sample.core.worker.messages import (
    REPLIES,
    REQUESTS,
    ChunkJob,
    Failed,
    Held,
    MeasureJob,
    Progress,
    RenderJob,
    Reply,
    Request,
    Stop,
    Void,
)

LOOK_SECONDS = 1.0
"""How often it is looked whether the meeting place still answers,"""
GONE_SECONDS = 20.0
"""and how long it may keep silent."""
THREADS = 32
FROM_EACH = 2
"""Transfers to other machines that one machine makes at a time."""

logger = logging.getLogger(__name__)


class Fleet:
    """The machines at one address. `tell` hears news from `open` until `close`; a machine that
    leaves says so by its link."""

    def __init__(self, address: str, keys: Path | None = None, unprotected: bool = False) -> None:
        """Raises UsageError for an address that is none, or not to be trusted."""
        prepare()
        self.address = checked_address(address, keys, unprotected)
        self._security = security(keys)
        self._tell: Callable[[News], None] = lambda news: None
        self.session = secrets.token_hex(8)
        self._links: dict[str, RemoteLink] = {}
        self._client: Any = None
        self._place = ""
        """which meeting place it was last"""
        self._closed = threading.Event()
        self._pool = ThreadPoolExecutor(THREADS, thread_name_prefix="machines")
        self._numbers = itertools.count(1)
        self.shipping = _Shipping(self)
        self._digests: dict[Path, tuple[tuple[int, int, int], str]] = {}

    def open(
        self,
        renderer: Renderer,
        study: str,
        on_reply: Callable[["RemoteLink", Reply | None], None],
        tell: Callable[[News], None],
    ) -> None:
        """Look for machines from now on, which are to render with this renderer. Raises StudyError
        where nobody answers."""
        self.renderer = renderer
        self.study = study
        self._on_reply = on_reply
        self._tell = tell
        self._connect()
        threading.Thread(target=self._watch, name="machines", daemon=True).start()

    @property
    def is_closed(self) -> bool:
        return self._closed.is_set()

    def close(self) -> None:
        """Let all machines go."""
        self._closed.set()
        for link in list(self._links.values()):
            link.halt(at_once=True)

        self._pool.shutdown(wait=True, cancel_futures=True)
        self._disconnect()

    def ask(self, function: Callable[..., Any], *arguments: Any, on: str) -> Any:
        """Call a function of the agent in one machine's process. Raises WorkerError where it has
        gone."""
        future = self.submit(function, *arguments, on=on)
        while True:
            try:
                return future.result(timeout=LOOK_SECONDS)
            except TimeoutError as error:
                if self._closed.is_set() or on not in self._links:
                    raise WorkerError("the machine left") from error
            except Exception as error:
                raise WorkerError(one_line(error)) from error

    def later(self, work: Callable[..., None], *arguments: Any) -> None:
        """Do this in a thread of the fleet's own. Raises WorkerError where it is closed."""
        try:
            self._pool.submit(work, *arguments)
        except RuntimeError as error:
            raise WorkerError("the machines are let go") from error

    def submit(self, function: Callable[..., Any], *arguments: Any, on: str) -> Any:
        """The engine's future of such a call."""
        client = self._client
        if client is None:
            raise WorkerError("the meeting place of the machines is gone")

        try:
            return client.submit(
                function,
                *arguments,
                workers=[on],
                allow_other_workers=False,
                pure=False,
                retries=0,
                key=f"{function.__name__}-{self.session}-{next(self._numbers)}",
            )
        except Exception as error:
            raise WorkerError(one_line(error)) from error

    def digest(self, path: Path) -> str:
        """Of a file, read again only where it changed. Raises OSError."""
        told = path.stat()
        stamp = (told.st_size, told.st_mtime_ns, told.st_ino)
        known = self._digests.get(path)

        if known is None or known[0] != stamp:
            known = self._digests[path] = (stamp, digest_of(path))

        return known[1]

    def _connect(self) -> None:
        from distributed import Client

        try:
            self._client = Client(
                self.address,
                security=self._security,
                timeout=LOOK_SECONDS * 5,
                set_as_default=False,
                heartbeat_interval=2000,
            )
        except (OSError, TimeoutError, ValueError) as error:
            raise StudyError(
                f"{self.address}: no machines can be reached there ({one_line(error)[:160]}); "
                "begin with `swift-sample machines start`"
            ) from error

        self._client.subscribe_topic(self.session, self._on_progress)
        self._client.subscribe_topic("all", self._on_event)

    def _disconnect(self) -> None:
        client = self._client
        self._client = None

        if client is not None:
            with suppress(Exception):
                client.close(timeout=2)

    def _addresses(self) -> dict[str, str]:
        """Names of the workers by their addresses."""

        client = self._client
        if client is None:
            raise WorkerError("it is gone")

        try:
            told = client.sync(
                client.scheduler.identity, n_workers=-1, callback_timeout=GONE_SECONDS / 2
            )
        except (OSError, TimeoutError, ValueError, TypeError) as error:
            raise WorkerError(one_line(error)) from error

        if self._place not in ("", str(told["id"])):
            self._tell(Heard(f"the machines' meeting place {self.address} was begun anew"))

        self._place = str(told["id"])
        return {address: str(worker["name"]) for address, worker in told["workers"].items()}

    def _watch(self) -> None:
        """Until it is closed: greet who has come, and find the meeting place again where it was
        lost."""
        heard = time.monotonic()
        is_lost = False

        while not self._closed.is_set():
            try:
                if self._client is None:
                    self._connect()
                self._take_in(self._addresses())
                heard = time.monotonic()

                if is_lost:
                    self._tell(Heard(f"{self.address} answers again"))
                    is_lost = False
            except (SwiftSampleError, OSError) as error:
                status = getattr(self._client, "status", "closed")
                if status != "running" or time.monotonic() - heard > GONE_SECONDS:
                    self._lose_all()
                    if not is_lost and not self._closed.is_set():
                        logger.warning("machines: %s", one_line(error))
                        self._tell(
                            Heard(
                                f"the machines' meeting place {self.address} does not answer", True
                            )
                        )

                    is_lost = True

            self._closed.wait(LOOK_SECONDS)

    def _lose_all(self) -> None:
        for address in list(self._links):
            self._leave(address)
        self._disconnect()

    def _take_in(self, there: dict[str, str]) -> None:
        for address in [address for address in self._links if address not in there]:
            self._leave(address)

        for address, name in there.items():
            if address not in self._links:
                link = self._links[address] = RemoteLink(self, address, name)
                self.later(self._greet, link)

    def _greet(self, link: "RemoteLink") -> None:
        try:
            before = time.time()
            renderer = "" if self.renderer.own_files() else self.renderer.worker
            card = Card.model_validate_json(self.ask(agent.introduce, renderer, on=link.address))
            skew = card.at - (before + time.time()) / 2
        except (SwiftSampleError, ValueError, AttributeError) as error:
            if link.address in self._links:
                self._tell(
                    Heard(
                        f"{link.name} is not used: it does not answer as a machine of Swift "
                        f"Sample ({one_line(error)})"
                    )
                )

            return

        problem = card.problem or self._difference(card)
        if problem:
            self._tell(Heard(f"{link.name} is not used: {problem}"))
        elif link.address in self._links:
            self._tell(Joined(link, card, skew))

    def _difference(self, card: Card) -> str:
        return "" if not card.renderer else version_words(card.renderer, self.renderer.version)

    def _leave(self, address: str) -> None:
        link = self._links.pop(address, None)
        if link is not None:
            self.shipping.forget(link)
            link.lose()

    def _on_event(self, event: Any) -> None:
        told = event[1] if isinstance(event, tuple) else event
        if isinstance(told, dict) and told.get("action") == "remove-worker":
            self._leave(str(told.get("worker")))

    def _on_progress(self, event: Any) -> None:
        told = event[1] if isinstance(event, tuple) else event
        link = self._links.get(str(told.get("worker")))
        if link is not None:
            link.hear(
                int(told["number"]), Progress(share=float(told["share"]), text=str(told["text"]))
            )


class RemoteLink:
    """One machine, with the same face as a `WorkerLink`: jobs go there with the files that they
    need, and what they make comes back to where it belongs before the reply does. None as a reply
    says that the machine has left."""

    pid = None

    def __init__(self, fleet: Fleet, address: str, name: str) -> None:
        self._fleet = fleet
        self.address = address
        self.name = name
        self._number = 0
        self._future: Any = None
        self.has: set[str] = set()
        """digests of what is known to be there"""
        self.content: SceneContent | None = None
        """of the scene as it arrived, and"""
        self.version = ""
        """of the renderer there, where they were asked for"""
        self._lock = threading.Lock()
        self._is_gone = False

    def send(self, request: Request, checks: tuple[str, Staging] | None = None) -> None:
        """Send one job; its outcome follows. `checks` are a scene and its staging whose content
        shall be told with it."""
        if isinstance(request, Stop):
            self.stop_job()
            return

        if self._is_gone:
            raise WorkerError("the machine left")

        with self._lock:
            self._number = next(self._fleet._numbers)

        self._fleet.later(self._carry, request, self._number, checks)

    def stop_job(self) -> None:
        self.halt(at_once=False)

    def kill(self) -> None:
        self.halt(at_once=True)

    def halt(self, at_once: bool) -> None:
        """Stop the job in hand."""
        number = self._number
        if number and not self._is_gone:
            with suppress(Exception):
                self._fleet.submit(
                    agent.halt, self._fleet.session, number, at_once, on=self.address
                ).release()

    def close(self) -> None:
        return

    def was_paused(self) -> bool:
        return False  # the machine looks after that itself

    def exit_words(self) -> str:
        return f"{self.name} left"

    def hear(self, number: int, progress: Progress) -> None:
        """What is told of a job; of one that is over it is nobody's."""
        if number == self._number:
            self._fleet._on_reply(self, progress)

    def lose(self) -> None:
        """The machine has gone."""
        with self._lock:
            if self._is_gone:
                return
            self._is_gone = True
            self._number = 0
            self._future = None

        self._fleet._on_reply(self, None)

    def _carry(self, request: Request, number: int, checks: tuple[str, Staging] | None) -> None:
        """Bring what a job needs, and the job."""
        fleet = self._fleet
        with self._told(number):
            inputs = inputs_of(request, fleet.renderer, fleet.digest)
            order = Order(
                session=fleet.session,
                number=number,
                study=fleet.study,
                words=request.kind,
                renderer=fleet.renderer.worker,
                job=REQUESTS.dump_json(request).decode(),
                inputs=inputs,
                outputs=outputs_of(request),
                content_of=checks,
            )

            fleet.shipping.ship([sent for sent in inputs if sent.digest not in self.has], self)
            self._future = fleet.submit(agent.attend, order.model_dump_json(), on=self.address)
            self._future.add_done_callback(lambda done: self._later(done, request, number, checks))

    def _later(
        self, done: Any, request: Request, number: int, checks: tuple[str, Staging] | None
    ) -> None:
        with suppress(WorkerError):  # closed meanwhile
            self._fleet.later(self._arrive, done, request, number, checks)

    def _arrive(
        self, done: Any, request: Request, number: int, checks: tuple[str, Staging] | None
    ) -> None:
        """Take in what came of a job."""
        with self._told(number):
            if done.status != "finished":
                raise WorkerError(
                    one_line(done.exception()) if done.status == "error" else f"{self.name} left"
                )

            told, made = done.result()
            self._future = None
            answer = Answer.model_validate_json(told)

            if answer.kind == "lacks":
                self.has -= set(answer.lacks)
                self._fleet.shipping.lost(answer.lacks, self)
                self._carry(request, number, checks)
            elif answer.kind == "held":
                self._reply(number, Held(reason=answer.words))
            else:
                self.content = (
                    SceneContent(**answer.content) if answer.content is not None else None
                )
                self.version = answer.version
                self._reply(
                    number,
                    self._kept(REPLIES.validate_json(answer.outcome), made, outputs_of(request)),
                )

    def _kept(self, outcome: Reply, made: Mapping[str, bytes], wanted: Sequence[str]) -> Reply:
        """Write what arrived, if it was asked for, and see that it is what was made."""
        if not set(made) <= set(wanted):  # a machine chooses no names on this computer
            logger.warning(
                "%s sent %s, which nobody asked for", self.name, ", ".join(sorted(made))[:200]
            )
            return Void(reason=f"{self.name} sent a file that was not asked for")

        if isinstance(outcome, Failed) and outcome.fault in ("disk", "folder"):
            return Held(reason=outcome.reason)  # the machine's trouble, not the study's

        digest = getattr(outcome, "digest", "")
        for path, data in made.items():
            with written_whole(Path(path)) as temporary:
                temporary.write_bytes(data)

            if digest and digest_of(Path(path)) != digest:
                Path(path).unlink(missing_ok=True)
                return Void(reason=f"a picture of {self.name} arrived damaged")

            self.has.add(digest)

        return outcome

    def _reply(self, number: int, reply: Reply) -> None:
        with self._lock:
            if number != self._number:
                return  # it was given up
            self._number = 0

        self._fleet._on_reply(self, reply)

    @contextmanager
    def _told(self, number: int) -> Iterator[None]:
        """Whatever goes wrong with a job is its outcome; of a machine that left that is told
        once."""
        try:
            yield
        except WorkerError as error:
            if not self._is_gone and not self._fleet.is_closed:
                self._reply(number, Failed(reason=one_line(error), fault="machine"))
        except OSError as error:
            full = is_full(Path(self._fleet.study), error)
            self._reply(
                number,
                Failed(reason=f"here: {one_line(error)}", fault="disk" if full else "folder"),
            )
        except SwiftSampleError as error:
            self._reply(number, Failed(reason=one_line(error)))
        except Exception as error:
            logger.exception("a job for %s", self.name)
            self._reply(number, Failed(reason=f"{type(error).__name__}: {one_line(error)}"))


def inputs_of(request: Request, renderer: Renderer, digest: Callable[[Path], str]) -> list[Sent]:
    """The files that a job needs, with those beside a scene that it refers to. Raises SceneError,
    OSError."""
    sent: list[Sent] = []
    spec: RenderSpec | None = getattr(request, "spec", None)

    if spec is not None:
        if spec.scene not in renderer.scene_names:
            sent += _tree(renderer.scene_files(spec.scene), digest, spec.scene)
        light = spec.staging.environment
        if light is not None and Path(light).is_file():
            sent += _tree([Path(light)], digest, light)

    own = renderer.own_files()
    if own:
        sent += _tree([path for path, _ in own], digest, str(own[0][0]))

    if isinstance(request, MeasureJob):
        for name in (*request.pictures, *([request.reference] if request.reference else [])):
            path = Path(name)
            sent.append(Sent(path=name, digest=request.digests.get(name) or digest(path)))

    return sent


def outputs_of(request: Request) -> list[str]:
    """The files that a job makes."""
    return [request.picture] if isinstance(request, RenderJob | ChunkJob) else []


def _tree(files: Sequence[Path], digest: Callable[[Path], str], first: str) -> list[Sent]:
    """Files with the names that they have beside one another; the first is called by the name
    `first`."""
    whole = [file.resolve() for file in files]
    home = Path(os.path.commonpath([file.parent for file in whole]))
    told = [(file.relative_to(home).as_posix(), digest(file)) for file in whole]
    name = _tree_name(told)
    paths = [first, *map(str, files[1:])]

    return [
        Sent(path=path, digest=own, name=inside, tree=name)
        for path, (inside, own) in zip(paths, told, strict=True)
    ]


def _tree_name(told: Iterable[tuple[str, str]]) -> str:
    """Sixteen hexadecimal digits that depend on names and contents."""
    return hashlib.sha256(
        "\n".join(f"{digest} {name}" for name, digest in told).encode("utf-8", "replace")
    ).hexdigest()[:16]


@dataclass(eq=False)
class _Journey:
    """How a file is on its way to machines: which have it, and how many each is giving it to."""

    given: dict["RemoteLink", int] = field(default_factory=dict)
    begun: bool = False


class _Shipping:
    """Brings files to machines: once from here, and from then on from those that have them."""

    def __init__(self, fleet: Fleet) -> None:
        self._fleet = fleet
        self._journeys = dict[str, _Journey]()
        self._changed = threading.Condition()
        self.bytes_from_here = 0

    def ship(self, files: Iterable[Sent], link: RemoteLink) -> None:
        """Bring files there. Raises WorkerError where that fails, OSError where one cannot be
        read."""
        wanted = {sent.digest: sent.path for sent in files}
        if not wanted:
            return

        there = set(wanted) - set(self._fleet.ask(agent.lacking, list(wanted), on=link.address))
        for digest in there:
            self._arrived(digest, link)

        for digest in wanted.keys() - there:
            self._bring(digest, Path(wanted[digest]), link)

    def lost(self, digests: Iterable[str], link: RemoteLink) -> None:
        """A machine has these no more."""
        with self._changed:
            for digest in digests:
                if digest in self._journeys:
                    self._journeys[digest].given.pop(link, None)

    def forget(self, link: RemoteLink) -> None:
        """A machine has gone with all that it had."""
        with self._changed:
            for journey in self._journeys.values():
                journey.given.pop(link, None)
            self._changed.notify_all()

    def _bring(self, digest: str, path: Path, link: RemoteLink) -> None:
        while True:
            giver = self._giver(digest)
            try:
                if giver is None:
                    self._from_here(digest, path, link)
                else:
                    self._from_there(digest, giver, link)

                self._arrived(digest, link)
                return
            except WorkerError:
                if giver is None or link._is_gone:
                    raise
                self.forget(giver)  # it left, or has it no more: another one, or from here
            finally:
                self._let_go(digest, giver)

    def _giver(self, digest: str) -> RemoteLink | None:
        """Who gives it: the machine that has it and gives least, None for this computer; waits for
        one of them."""
        with self._changed:
            journey = self._journeys.setdefault(digest, _Journey())
            while True:
                free = {one: count for one, count in journey.given.items() if count < FROM_EACH}
                if free:
                    giver = min(free, key=lambda one: free[one])
                    journey.given[giver] += 1
                    return giver

                if not journey.given and not journey.begun:
                    journey.begun = True
                    return None

                if self._fleet._closed.is_set():
                    raise WorkerError("the machines are let go")

                self._changed.wait(LOOK_SECONDS)

    def _let_go(self, digest: str, giver: RemoteLink | None) -> None:
        with self._changed:
            journey = self._journeys[digest]
            if giver is None:
                journey.begun = False
            elif giver in journey.given:
                journey.given[giver] -= 1

            self._changed.notify_all()

    def _arrived(self, digest: str, link: RemoteLink) -> None:
        with self._changed:
            link.has.add(digest)
            self._journeys.setdefault(digest, _Journey()).given.setdefault(link, 0)
            self._changed.notify_all()

    def _from_here(self, digest: str, path: Path, link: RemoteLink) -> None:
        with open(path, "rb") as file:
            offset = 0
            while True:
                data = file.read(agent.PIECE_BYTES)
                if not data and offset:
                    break

                self.bytes_from_here += len(data)
                self._take(
                    self._fleet.ask(
                        agent.take_piece, digest, self._fleet.session, offset, data, on=link.address
                    )
                )
                offset += len(data)

                if len(data) < agent.PIECE_BYTES:
                    break

    def _from_there(self, digest: str, giver: RemoteLink, link: RemoteLink) -> None:
        fleet = self._fleet
        size = int(digest.partition("-")[0])

        for offset in range(0, max(size, 1), agent.PIECE_BYTES):
            piece = fleet.submit(agent.give_piece, digest, offset, on=giver.address)
            self._take(
                fleet.ask(agent.take_piece, digest, fleet.session, offset, piece, on=link.address)
            )

    @staticmethod
    def _take(problem: str) -> None:
        if problem:
            raise WorkerError(problem)

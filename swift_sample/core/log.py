"""One rotating log file in the user's state folder, and hooks so that no error goes unseen: those
of the main thread, of any other thread, and of work handed to a pool."""

import logging
import os
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager, redirect_stdout
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType

import platformdirs

from swift_sample.core.errors import plain

FILE_BYTES = 1 << 20
FILES_KEPT = 3
NAME = "swift-sample.log"
STANDARD_ERROR = 2
MOST_PRINTED = 10_000
"""Bytes of what a library prints that are kept."""

logger = logging.getLogger(__name__)
_printing = threading.Lock()
_listeners: list[Callable[[str, BaseException], None]] = []


def state_folder() -> Path:
    """The user's folder for what the program remembers of itself."""
    return Path(os.environ.get("SWIFT_SAMPLE_STATE") or platformdirs.user_state_dir("swift-sample"))


def log_file() -> Path:
    return state_folder() / NAME


def start_log() -> Path | None:
    """Write warnings and worse of this program to the log file from now on; returns it, or None
    where it cannot be written.

    Calling it again changes nothing.
    """
    root = logging.getLogger("swift_sample")
    path = log_file()
    if any(isinstance(handler, RotatingFileHandler) for handler in root.handlers):
        return path

    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(
            path,
            maxBytes=FILE_BYTES,
            backupCount=FILES_KEPT,
            encoding="utf-8",
            errors="replace",
            delay=True,
        )
    except OSError:
        root.addHandler(logging.NullHandler())
        return None

    handler.setFormatter(
        logging.Formatter(
            "%(asctime)s %(process)d %(threadName)s %(levelname)s %(name)s: %(message)s"
        )
    )
    root.addHandler(handler)
    root.setLevel(logging.INFO)
    root.propagate = False

    return path


def catch_all() -> None:
    """Log what nobody caught, in any thread, before the usual hooks have their turn."""
    before = sys.excepthook
    before_thread = threading.excepthook

    def on_error(
        kind: type[BaseException], error: BaseException, trace: TracebackType | None
    ) -> None:
        if not issubclass(kind, KeyboardInterrupt):
            report_error("an unexpected error", error)
        before(kind, error, trace)

    def on_thread_error(arguments: threading.ExceptHookArgs) -> None:
        if arguments.exc_value is not None and not issubclass(arguments.exc_type, SystemExit):
            name = arguments.thread.name if arguments.thread is not None else "a thread"
            report_error(f"an unexpected error in {name}", arguments.exc_value)
        before_thread(arguments)

    sys.excepthook = on_error
    threading.excepthook = on_thread_error


def report_error(where: str, error: BaseException) -> None:
    """Log an error nobody expected with its traceback, and tell all who listen."""
    logger.error("%s", where, exc_info=error)
    for listener in list(_listeners):
        listener(where, error)


def listen(listener: Callable[[str, BaseException], None]) -> Callable[[], None]:
    """Be told of unexpected errors, from any thread; returns what ends that."""
    _listeners.append(listener)
    return lambda: _listeners.remove(listener) if listener in _listeners else None


@contextmanager
def printing_to_log(where: str) -> Iterator[None]:
    """Put into the log what a library prints meanwhile, on standard output by Python and on
    standard error by whatever means: what it raises says it to the user, in one sentence.

    One thread at a time. What others print on standard error in the meantime goes the same way.
    """
    with _printing, tempfile.TemporaryFile() as heard:
        sys.stderr.flush()
        own = os.dup(STANDARD_ERROR)
        os.dup2(heard.fileno(), STANDARD_ERROR)

        try:
            with redirect_stdout(open(os.dup(STANDARD_ERROR), "w", encoding="utf-8")) as out, out:
                yield
        finally:
            os.dup2(own, STANDARD_ERROR)
            os.close(own)
            heard.seek(0)
            for line in heard.read(MOST_PRINTED).decode("utf-8", "replace").splitlines():
                logger.info("%s: %s", where, plain(line))


def inspected(future: "Future[object]", where: str) -> None:
    """See to it that an error in handed-out work is reported."""

    def look(done: "Future[object]") -> None:
        error = None if done.cancelled() else done.exception()
        if error is not None:
            report_error(where, error)

    future.add_done_callback(look)

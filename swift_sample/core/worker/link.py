"""The driver's end of the worker process: starts it, sends jobs, and passes on what it says."""

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import IO, Protocol

from pydantic import ValidationError

from swift_sample.core.errors import WorkerError
from swift_sample.core.worker.messages import REPLIES, REQUESTS, Reply, Request, Stop

LOG_BYTES_KEPT = 1 << 20
SILENCE_SECONDS = 600.0
"""A worker that says nothing for this long is taken to hang. Renders tell their progress twice a
second."""


class Link(Protocol):
    """A way to something that does jobs, here or elsewhere."""

    def send(self, request: Request) -> None: ...
    def stop_job(self) -> None: ...
    def kill(self) -> None: ...
    def close(self) -> None: ...
    def was_paused(self) -> bool: ...
    def exit_words(self) -> str: ...


class WorkerLink:
    """One worker process. Replies arrive through `on_reply`, from a thread of the link's own; None
    says that it has ended."""

    def __init__(
        self,
        renderer: str,
        log_path: Path,
        on_reply: Callable[["WorkerLink", Reply | None], None],
        holds: Sequence[int] = (),
    ) -> None:
        """Start the worker of a renderer (`Renderer.worker`); what it prints is kept in `log_path`.
        It inherits the locks `holds`, so that they are free only when the worker has ended too."""
        self._log = _open_log(log_path)
        # In a group of its own, so that an interrupt at the terminal reaches only the one who can
        # end the worker well.
        self._process = subprocess.Popen(
            [sys.executable, "-m", "swift_sample.core.worker", renderer, str(os.getpid())],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=self._log,
            process_group=0,
            pass_fds=holds,
        )

        self._on_reply = on_reply
        self._write_lock = threading.Lock()
        self._reader = threading.Thread(target=self._read, name="worker replies", daemon=True)
        self._reader.start()

    @property
    def pid(self) -> int:
        return self._process.pid

    def stop_job(self) -> None:
        """Ask the worker to stop the job in hand; it then replies Stopped. Callable from any
        thread."""
        try:
            self.send(Stop())
        except WorkerError:
            return

    def close(self) -> None:
        """End the worker, gently first."""
        try:
            assert self._process.stdin is not None
            self._process.stdin.close()
        except OSError:
            pass

        try:
            self._process.wait(timeout=3)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()

        self._reader.join(timeout=5)
        assert self._process.stdout is not None
        self._process.stdout.close()
        self._log.close()

    def kill(self) -> None:
        """End the worker and the compilers that it started at once. Callable from any thread."""
        if self._process.poll() is None:
            os.killpg(self._process.pid, signal.SIGKILL)

    def send(self, request: Request) -> None:
        """Send one job; its outcome follows. Raises WorkerError if the worker is gone."""
        assert self._process.stdin is not None
        try:
            with self._write_lock:
                self._process.stdin.write(REQUESTS.dump_json(request) + b"\n")
                self._process.stdin.flush()
        except (OSError, ValueError) as error:
            raise WorkerError(f"the renderer ended unexpectedly ({self.exit_words()})") from error

    def _read(self) -> None:
        assert self._process.stdout is not None
        try:
            for line in self._process.stdout:
                self._on_reply(self, REPLIES.validate_json(line))
        except (OSError, ValueError, ValidationError):
            self._process.kill()

        self._on_reply(self, None)

    def was_paused(self) -> bool:
        """Whether the worker was stopped and went on since this was last asked (waitid(2),
        WCONTINUED)."""
        try:
            return os.waitid(os.P_PID, self._process.pid, os.WCONTINUED | os.WNOHANG) is not None
        except ChildProcessError:
            return False

    def exit_words(self) -> str:
        """How the worker ended."""
        deadline = time.monotonic() + 2
        while self._process.poll() is None and time.monotonic() < deadline:
            time.sleep(0.01)

        code = self._process.returncode
        if code is None:
            return "it no longer answers"

        return f"signal {-code}" if code < 0 else f"exit status {code}"


def _open_log(path: Path) -> IO[bytes]:
    """Open the worker's log at its end; of one that grew long only the last part is kept."""
    if path.is_file() and not path.is_symlink() and path.stat().st_size > LOG_BYTES_KEPT:
        with path.open("rb") as old:
            old.seek(-LOG_BYTES_KEPT // 2, os.SEEK_END)
            kept = old.read()

        path.unlink()
        path.write_bytes(kept)

    return os.fdopen(
        os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644),
        "ab",
    )

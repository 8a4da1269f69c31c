"""The runner's end of the worker process: starts it, sends jobs, and notices when it dies or hangs."""

import queue
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

from pydantic import ValidationError

from swift_sample.core.errors import WorkerError
from swift_sample.core.study.messages import (
    REPLIES,
    REQUESTS,
    Outcome,
    Progress,
    Reply,
    Request,
    Stop,
    WarmUpJob,
)

LOG_BYTES_KEPT = 1 << 20
SILENCE_SECONDS = 600.0
"""A worker that says nothing for this long is taken to hang. Renders tell their progress five times a second."""


class WorkerLink:
    """One worker process. Not to be used by several threads at once, except `stop_job` and `kill`."""

    def __init__(self, log_path: Path) -> None:
        """Start the worker; what it prints is kept in `log_path`."""
        if log_path.exists() and log_path.stat().st_size > LOG_BYTES_KEPT:
            log_path.write_bytes(log_path.read_bytes()[-LOG_BYTES_KEPT // 2 :])
        self._log = log_path.open("ab")
        # In a group of its own, so that an interrupt at the terminal reaches only the one who can end the worker well.
        self._process = subprocess.Popen([sys.executable, "-m", "swift_sample.core.study.worker"], stdin=subprocess.PIPE,
                                         stdout=subprocess.PIPE, stderr=self._log, process_group=0)
        self._replies: queue.Queue[Reply | None] = queue.Queue()
        self._reader = threading.Thread(target=self._read, name="worker replies", daemon=True)
        self._reader.start()
        self._write_lock = threading.Lock()

    @property
    def pid(self) -> int:
        return self._process.pid

    def warm_up(self, on_progress: Callable[[Progress], None]) -> Outcome:
        """Compile and warm every kernel; must come first."""
        return self.do(WarmUpJob(), on_progress)

    def do(self, job: Request, on_progress: Callable[[Progress], None]) -> Outcome:
        """Send one job and wait for its outcome. Raises WorkerError if the worker dies or hangs; kill it then."""
        self._send(job)
        while True:
            try:
                reply = self._replies.get(timeout=SILENCE_SECONDS)
            except queue.Empty:
                raise WorkerError(f"the renderer said nothing for {SILENCE_SECONDS:.0f} s and was ended") from None
            if reply is None:
                raise WorkerError(f"the renderer ended unexpectedly ({self._exit_words()})")
            if not isinstance(reply, Progress):
                return reply
            on_progress(reply)

    def stop_job(self) -> None:
        """Ask the worker to stop the job in hand; `do` then returns Stopped. Callable from any thread."""
        try:
            self._send(Stop())
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
        """End the worker at once. Callable from any thread."""
        self._process.kill()

    def _send(self, request: Request) -> None:
        assert self._process.stdin is not None
        try:
            with self._write_lock:
                self._process.stdin.write(REQUESTS.dump_json(request) + b"\n")
                self._process.stdin.flush()
        except (OSError, ValueError) as error:
            raise WorkerError(f"the renderer ended unexpectedly ({self._exit_words()})") from error

    def _read(self) -> None:
        assert self._process.stdout is not None
        try:
            for line in self._process.stdout:
                self._replies.put(REPLIES.validate_json(line))
        except (OSError, ValueError, ValidationError):
            self._process.kill()
        self._replies.put(None)

    def _exit_words(self) -> str:
        deadline = time.monotonic() + 2
        while self._process.poll() is None and time.monotonic() < deadline:
            time.sleep(0.01)
        code = self._process.returncode
        if code is None:
            return "it no longer answers"
        return f"signal {-code}" if code < 0 else f"exit status {code}"

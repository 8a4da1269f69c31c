"""The worker process by itself: when it ends, and that nothing of it stays."""

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.study.log.store import create_study
from swift_sample.core.study.plan.model import Study
from swift_sample.core.worker.messages import WarmUpJob

WORKER = [sys.executable, "-m", "swift_sample.core.worker", RENDERER.worker, str(os.getpid())]
GONE_SECONDS = 20.0
"""Far more than anything here takes, and far less than compiling does."""


@pytest.mark.parametrize("line", [b"rubbish", b'{"kind": "no such"}', b"\xff\x00\x01", b"[" * 5000])
def test_it_ends_after_a_line_that_is_no_request(line: bytes) -> None:
    with subprocess.Popen(
        WORKER, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    ) as worker:
        assert worker.stdin is not None
        assert worker.stderr is not None
        worker.stdin.write(line + b"\n")
        worker.stdin.flush()  # and it stays open
        assert worker.wait(timeout=GONE_SECONDS) == 0
        assert b"not a request" in worker.stderr.read()


def test_what_a_terminal_interrupts_is_its_drivers_to_decide() -> None:
    """Ctrl-C reaches every process of a terminal; the worker ends when its driver has done with it,
    and without a word."""
    command = [
        sys.executable,
        "-m",
        "swift_sample.core.worker",
        "tests.core.renderers.known:KNOWN",
        str(os.getpid()),
    ]
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    ) as worker:
        assert worker.stdin is not None
        assert worker.stdout is not None
        assert worker.stderr is not None

        for _ in range(2):
            worker.stdin.write(WarmUpJob().model_dump_json().encode() + b"\n")
            worker.stdin.flush()
            assert worker.stdout.readline(), "it has answered"
            worker.send_signal(signal.SIGINT)

        worker.stdin.close()
        assert worker.wait(timeout=GONE_SECONDS) == 0
        assert worker.stderr.read() == b""


@pytest.fixture
def compiling(tmp_path: Path, tiny_study: Study) -> Iterator[subprocess.Popen[bytes]]:
    """A command that begins to measure while the renderer is compiled for the first time."""
    study = create_study(tmp_path / "new.study", tiny_study)
    surroundings = {
        **os.environ,
        "SWIFT_SAMPLE_CACHE": str(tmp_path / "cache"),
        "SWIFT_SAMPLE_LEASE": str(tmp_path / "lease"),
    }

    command = subprocess.Popen(
        [sys.executable, "-m", "swift_sample.cli", "run", str(study)],
        env=surroundings,
        start_new_session=True,
    )
    try:
        deadline = time.monotonic() + 120
        while not any("compiling" in line for line in _family(command.pid).values()):
            assert time.monotonic() < deadline
            assert command.poll() is None
            time.sleep(0.1)

        yield command
    finally:
        for process in _family(command.pid):
            os.kill(process, signal.SIGKILL)
        command.wait()


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_ended_while_it_compiles_nothing_works_on(
    compiling: subprocess.Popen[bytes], how: signal.Signals
) -> None:
    family = _family(compiling.pid)
    assert len(family) >= 3  # the command, its worker, and what compiles
    compiling.send_signal(how)
    compiling.wait(timeout=GONE_SECONDS)
    deadline = time.monotonic() + GONE_SECONDS
    while _family(compiling.pid) and time.monotonic() < deadline:
        time.sleep(0.05)

    assert _family(compiling.pid) == {}


def _family(session: int) -> dict[int, str]:
    """The processes of a session that are alive, and their commands."""
    alive = {}
    for entry in Path("/proc").iterdir():
        try:
            if not entry.name.isdigit() or os.getsid(int(entry.name)) != session:
                continue
            state = (entry / "stat").read_text().rpartition(")")[2].split()[0]
            if state not in "ZX":
                alive[int(entry.name)] = (
                    (entry / "cmdline").read_bytes().replace(b"\0", b" ").decode()
                )
        except OSError:
            continue

    return alive

"""A meeting place with machines for tests: processes of this computer, on the loopback."""

import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

HELD = "SWIFT_SAMPLE_TEST_HELD"
"""A file: while it is there no machine begins a run, so that each has one in hand before another
takes all."""
JOIN_SECONDS = 60.0


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Meeting:
    """Use it in a with statement; whatever was started ends with it. Each machine has a cache of
    its own, so that files have to travel."""

    def __init__(self, folder: Path, keys: Path | None = None, host: str = "127.0.0.1") -> None:
        self.folder = folder
        self.host = host
        self.port = free_port()
        self._keys = keys
        self.address = f"{'tls' if keys else 'tcp'}://{host}:{self.port}"
        self.held = folder / "held"
        self._options = (
            ["--keys", str(keys)] if keys else [] if host == "127.0.0.1" else ["--unprotected"]
        )
        self._processes: dict[str, subprocess.Popen[bytes]] = {}

    def __enter__(self) -> "Meeting":
        self.open()
        return self

    def __exit__(self, *_: object) -> None:
        for name in list(self._processes):
            self.end(name)

    def open(self) -> None:
        """Start the meeting place, at the same address each time."""
        command = [
            "swift_sample.cli",
            "machines",
            "start",
            "--at",
            f"{self.host}:{self.port}",
            "--not-here",
        ]
        self._start("meeting place", [*command, *self._options], "machines meet at")

    def join(
        self, name: str, oddity: str = "none", processors: str = "", netns: str = "", **more: str
    ) -> int:
        """Start a machine, in a network of its own where that is named; returns its process once it
        has joined."""
        own = self.folder / name
        own.mkdir(exist_ok=True)
        command = [
            "tests.core.machines.odd_machine",
            oddity,
            self.address,
            name,
            processors,
            str(self._keys or ""),
        ]

        return self._start(
            name,
            command,
            "has joined",
            {"SWIFT_SAMPLE_CONTENT": str(own / "content"), **more},
            netns,
        )

    def kill(self, name: str) -> None:
        """End a process as a power cut would."""
        self._processes[name].kill()
        self._processes.pop(name).wait()

    def end(self, name: str) -> None:
        process = self._processes.pop(name, None)
        if process is not None:
            process.send_signal(signal.SIGTERM)
            try:
                process.wait(timeout=10)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()

    def words(self, name: str) -> str:
        """What a process has said."""
        return (self.folder / f"{name}.txt").read_text()

    def _start(
        self,
        name: str,
        module: list[str],
        until: str,
        places: dict[str, str] | None = None,
        netns: str = "",
    ) -> int:
        log = self.folder / f"{name}.txt"
        with log.open("wb") as out:
            surroundings = {
                **os.environ,
                "SWIFT_SAMPLE_LEASE": str(self.folder / "lease"),
                HELD: str(self.held),
            }
            surroundings |= places or {}

            process = subprocess.Popen(
                [
                    *(["ip", "netns", "exec", netns] if netns else []),
                    sys.executable,
                    "-u",
                    "-m",
                    *module,
                ],
                stdout=out,
                stderr=subprocess.STDOUT,
                env=surroundings,
            )

        self._processes[name] = process
        deadline = time.monotonic() + JOIN_SECONDS

        while until not in log.read_text():
            assert process.poll() is None, log.read_text()
            assert time.monotonic() < deadline, log.read_text()
            time.sleep(0.05)

        return process.pid

"""What a command takes before it does anything: processor time, beside that of Python itself."""

import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from benchmarks.alternate import alternate, ratio
from swift_sample.core.study.log.store import create_study
from swift_sample.core.study.plan.demo import demo_study

REACHES = {"--help": 0.3, "limit": 0.7, "pick": 0.7}
"""Seconds of processor time that each may take."""


def main() -> None:
    """Print the table."""
    with tempfile.TemporaryDirectory() as folder:
        study = create_study(Path(folder) / "small.study", demo_study())
        commands = {
            "--help": ["--help"],
            "limit": ["limit", str(study), "grain", "3"],
            "pick": ["pick", str(study)],
        }
        measures = {"Python": lambda: _seconds([sys.executable, "-c", "pass"])}
        measures |= {name: _starting(command) for name, command in commands.items()}
        found = alternate(measures)

    for name, reach in REACHES.items():
        seconds = sorted(found[name])
        times = ratio(found, name, "Python")[0]
        middle = seconds[len(seconds) // 2]
        print(
            f"  {name:8s} {middle:.2f} s  ({seconds[0]:.2f} to {seconds[-1]:.2f})  "
            f"{times:5.1f} × Python  reach {reach} s"
        )


def _starting(command: list[str]) -> Callable[[], float]:
    return lambda: _seconds([sys.executable, "-m", "swift_sample.cli", *command])


def _seconds(command: list[str]) -> float:
    """Processor time of a command and all that it starts, with compiled modules kept as they are
    for users."""
    surroundings = {
        name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"
    }
    before = os.times()
    subprocess.run(
        command, env=surroundings, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False
    )
    after = os.times()

    return (
        after.children_user + after.children_system - before.children_user - before.children_system
    )


if __name__ == "__main__":
    main()

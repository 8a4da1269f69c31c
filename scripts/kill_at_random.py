"""Kill a measuring study at random moments, its worker or itself, and see that no finished run is lost: `make kills`.

Prints how often each was killed, and what was found after each; ends with status 1 at the first loss.
"""

import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil

from swift_sample.core.exchange.exr import read_exr
from swift_sample.core.settings import Configuration
from swift_sample.core.study.model import Limits, Study, Sweep
from swift_sample.core.study.store import StudyFolder

KILLS, SEED = 100, 1
LONGEST_WAIT = 6.0
"""Seconds after the start within which the kill comes: from before the study is open to the middle of a run."""

STUDY = Study("Killed", "honey-stall-small", (48, 27), base=Configuration({"samples.max": 64}), repeats=60,
              sweeps=(Sweep("one at a time", {"samples.max": (16, 32), "bounces.total": (1, 4)}),),
              limits=Limits(grain=60.0, light_shift=6.0, detail_kept=20.0, stray_pixels=999_000.0))


def finished(path: Path) -> dict[int, str]:
    """The finished runs of a study and their pictures, each of which must be readable."""
    with StudyFolder.open(path) as folder:
        runs = {run.number: str(run.picture) for run in folder.runs() if run.result is not None}
        for name in runs.values():
            read_exr(folder.pictures_path / name)
    return runs


def main() -> None:
    rng = random.Random(SEED)
    path = Path(tempfile.mkdtemp()) / "killed.study"
    StudyFolder.create(path, STUDY).close()
    before: dict[int, str] = {}
    killed = {"the process that measures": 0, "its worker": 0}
    for number in range(KILLS):
        process = subprocess.Popen([sys.executable, "-m", "swift_sample.cli", "run", str(path)], stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL)
        time.sleep(rng.uniform(0, LONGEST_WAIT))
        workers = psutil.Process(process.pid).children() if process.poll() is None else []
        if workers and rng.random() < 0.5:
            workers[0].kill()
            killed["its worker"] += 1
            time.sleep(rng.uniform(0, 1))
        else:
            killed["the process that measures"] += 1
        process.kill()
        process.wait()
        psutil.wait_procs(workers, timeout=10)
        found = finished(path)
        lost = set(before.items()) - set(found.items())
        if lost or any(worker.is_running() for worker in workers):
            raise SystemExit(f"kill {number + 1}: lost {sorted(lost)}, workers left {workers}")
        print(f"kill {number + 1}: {len(found)} finished runs, none lost", file=sys.stderr)
        before = found
    print(f"{KILLS} kills ({', '.join(f'{many} of {what}' for what, many in killed.items())}): {len(before)} finished runs, "
          "none lost, no worker left behind")


if __name__ == "__main__":
    main()

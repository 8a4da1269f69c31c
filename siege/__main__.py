"""`make siege`: every part of the siege, several at a time, each in a process of its own; prints
what they found as a table.

`python -m siege PART --minutes 5 --seed 3` runs one part and prints its findings as JSON.
"""

import argparse
import importlib
import json
import os
import random
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from siege.findings import Findings

LANES: tuple[dict[str, tuple[float, int]], ...] = (
    {"kills": (0.98, 500)},
    {"kills": (0.98, 500)},
    {
        "faults": (0.28, 1500),
        "files": (0.28, 10_000),
        "attacks": (0.06, 1000),
        "window": (0.1, 2000),
        "long": (0.26, 5000),
    },
)
"""What goes on at the same time: every part's share of the minutes, and how much it tries at
most."""
PARTS = {name: part for lane in LANES for name, part in lane.items()}
WHOLE_MINUTES = 60.0
SPARE_SECONDS = 300.0


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m siege")
    parser.add_argument("part", nargs="?", choices=PARTS)
    parser.add_argument("--minutes", type=float, default=WHOLE_MINUTES)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()

    if given.part is not None:
        findings = Findings(part=given.part, seconds=given.minutes * 60)
        most = PARTS[given.part][1]
        importlib.import_module(f"siege.{given.part}").besiege(
            findings, random.Random(given.seed), most
        )
        return findings.tell()

    with ThreadPoolExecutor(len(LANES)) as pool:
        lanes = [
            pool.submit(_lane, lane, given.minutes, given.seed + k) for k, lane in enumerate(LANES)
        ]
        found = [one for lane in lanes for one in lane.result()]

    print(_table(found))
    return 1 if any(one["fault_count"] for one in found) else 0


def _lane(lane: dict[str, tuple[float, int]], minutes: float, seed: int) -> list[dict[str, Any]]:
    return [_part(name, share * minutes, seed) for name, (share, _) in lane.items()]


def _part(name: str, minutes: float, seed: int) -> dict[str, Any]:
    """The findings of a part; where it ended by itself, that is the finding."""
    with tempfile.TemporaryDirectory(prefix="siege-") as folder:
        surroundings = {
            **os.environ,
            "SWIFT_SAMPLE_LEASE": f"{folder}/lease",
            "SWIFT_SAMPLE_STATE": folder,
            "TMPDIR": folder,
        }
        if name == "faults":
            from siege.faults import prepare

            surroundings |= {
                key: value
                for key, value in prepare(Path(folder)).items()
                if key.startswith(("LD_", "SIEGE_"))
            }

        command = [
            sys.executable,
            "-m",
            "siege",
            name,
            "--minutes",
            str(minutes),
            "--seed",
            str(seed),
        ]
        try:
            told = subprocess.run(
                command,
                env=surroundings,
                stdout=subprocess.PIPE,
                timeout=minutes * 60 + SPARE_SECONDS,
                check=False,
                text=True,
            )
            print(f"{name}: done, status {told.returncode}", file=sys.stderr, flush=True)
            return dict(json.loads(told.stdout.strip().splitlines()[-1]))
        except (subprocess.TimeoutExpired, ValueError, IndexError) as error:
            fault = f"the part itself ended: {type(error).__name__}"
            return {
                "part": name,
                "seconds": 0,
                "tried": {},
                "figures": {},
                "faults": [fault],
                "fault_count": 1,
            }


def _table(found: list[dict[str, Any]]) -> str:
    lines = ["| part | minutes | tried | found | figures |", "|---|---|---|---|---|"]
    for one in found:
        tried = ", ".join(
            f"{what} {count:,}"
            for what, count in sorted(one["tried"].items(), key=lambda pair: -pair[1])
        )
        figures = "; ".join(f"{what}: {figure}" for what, figure in one["figures"].items())
        faults = "; ".join(one["faults"]) if one["fault_count"] else "nothing"
        total = sum(one["tried"].values())
        lines.append(
            f"| {one['part']} | {one['seconds'] / 60:.0f} | {total:,}: {tried} | {faults} | "
            f"{figures} |"
        )

    return "\n".join(lines)


if __name__ == "__main__":
    sys.exit(main())

"""Kill a measuring study at random moments, its worker or itself, while size, base and scene change: `make kills`.

After each kill no finished run is lost, every picture says itself that it is what its run is filed under, nothing of another
size, base or scene counts as measured, and no worker is left. Prints what was found; ends with status 1 at the first fault.
"""

import base64
import json
import random
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil

from swift_sample.core.picture.exr import read_exr, read_record
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.identity import picture_identity
from swift_sample.core.study.plan.file import plan_as_toml
from swift_sample.core.study.plan.model import Limits, Study, Sweep
from swift_sample.core.study.state import StudyState, validate
from swift_sample.core.study.store import create_study, look_at_study
from swift_sample.core.study.surroundings import read_snapshot

KILLS, SEED = 300, 1
LONGEST_WAIT = 6.0
"""Seconds after the start within which the kill comes: from before the study is open to the middle of a run."""
SIZES, SAMPLES, COLOURS = ((48, 27), (32, 18)), (64, 48), ((0.9, 0.7, 0.2), (0.2, 0.4, 0.9))
CHANGES = 0.15
"""How often each of size, base and scene changes before a start, and the scene also while it is rendered."""


def write_scene(path: Path, colour: tuple[float, float, float]) -> None:
    """One lit triangle of this colour."""
    points = struct.pack("<9f", -1, -1, 0, 1, -1, 0, 0, 1, 0)
    data = "data:application/octet-stream;base64," + base64.b64encode(points).decode()
    path.write_text(
        json.dumps(
            {
                "asset": {"version": "2.0"},
                "scenes": [{"nodes": [0]}],
                "nodes": [{"mesh": 0}],
                "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "material": 0}]}],
                "materials": [{"pbrMetallicRoughness": {"baseColorFactor": [*colour, 1]}, "doubleSided": True}],
                "accessors": [
                    {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [-1, -1, 0], "max": [1, 1, 0]}
                ],
                "bufferViews": [{"buffer": 0, "byteLength": len(points)}],
                "buffers": [{"byteLength": len(points), "uri": data}],
            }
        )
    )


def plan_of(scene: Path, size: tuple[int, int], samples: int) -> Study:
    return Study(
        "Killed",
        str(scene),
        size,
        base=configured({"samples.max": samples}),
        repeats=60,
        sweeps=(Sweep("one at a time", {"samples.max": (16, 32), "bounces.total": (1, 4)}),),
        limits=Limits(grain=60.0, light_shift=6.0, detail_kept=20.0, stray_pixels=999_000.0),
    )


def check(path: Path) -> dict[int, str]:
    """The finished runs of a study with their pictures; raises AssertionError where anything is not what it says."""
    with look_at_study(path) as reading:
        assert not reading.notes, reading.notes
        snapshot = read_snapshot(reading)
    state = snapshot.state
    validate(state)
    found = {}
    for place, records in state.records.items():
        for run in records.runs:
            if run.result is None:
                continue
            assert run.picture == f"{picture_identity(place, run.appearance, run.seed).name}.exr", "another picture's name"
            file = snapshot.folder.picture(run.picture)
            picture, note = read_exr(file), json.loads(read_record(file))["study"]
            assert (picture.width, picture.height) == _size(state, place), f"{run.picture}: another size"
            assert (note["scene"], note["renderer"], note["trial"], note["appearance"], note["seed"]) == (
                place.scene,
                place.renderer,
                run.trial,
                run.appearance,
                run.seed,
            ), f"{run.picture}: another identity"
            found[run.number] = run.picture
    for trial in snapshot.results.trials:
        assert all(run.place == state.here and run.trial == trial.id for run in trial.runs), "a run of something else"
    return found


def _size(state: StudyState, place: object) -> tuple[int, int]:
    known = state.size_and_frame(place)  # type: ignore[arg-type]
    assert known is not None, "a place without a record"
    return known[0]


def main() -> None:
    rng = random.Random(SEED)
    folder = Path(tempfile.mkdtemp())
    scene, path = folder / "triangle.gltf", folder / "killed.study"
    size, samples, colour = SIZES[0], SAMPLES[0], COLOURS[0]
    write_scene(scene, colour)
    create_study(path, plan_of(scene, size, samples))
    before: dict[int, str] = {}
    killed = {"the process that measures": 0, "its worker": 0}
    changed = {"size": 0, "base": 0, "scene": 0, "scene while it was rendered": 0}
    for number in range(int(sys.argv[1]) if len(sys.argv) > 1 else KILLS):
        if rng.random() < CHANGES:
            size, changed["size"] = rng.choice(SIZES), changed["size"] + 1
        if rng.random() < CHANGES:
            samples, changed["base"] = rng.choice(SAMPLES), changed["base"] + 1
        (path / "study.toml").write_text(plan_as_toml(plan_of(scene, size, samples), path))
        if rng.random() < CHANGES:
            colour, changed["scene"] = rng.choice(COLOURS), changed["scene"] + 1
            write_scene(scene, colour)
        process = subprocess.Popen(
            [sys.executable, "-m", "swift_sample.cli", "run", str(path)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(rng.uniform(0, LONGEST_WAIT))
        if rng.random() < CHANGES:
            colour = next(other for other in COLOURS if other != colour)
            changed["scene while it was rendered"] += 1
            write_scene(scene, colour)
            time.sleep(rng.uniform(0, 1))
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
        try:
            found = check(path)
        except AssertionError as error:
            raise SystemExit(f"kill {number + 1} of {path}: {error}") from error
        lost = set(before.items()) - set(found.items())
        if lost or any(worker.is_running() for worker in workers):
            raise SystemExit(f"kill {number + 1} of {path}: lost {sorted(lost)}, workers left {workers}")
        if number % 10 == 9:
            print(f"kill {number + 1}: {len(found)} finished runs, none lost", file=sys.stderr)
        before = found
    print(
        f"{sum(killed.values())} kills ({', '.join(f'{many} of {what}' for what, many in killed.items())}), while "
        f"{', '.join(f'the {what} changed {many} times' for what, many in changed.items())}: {len(before)} finished runs, "
        "none lost, none under another name, no worker left behind"
    )


if __name__ == "__main__":
    main()

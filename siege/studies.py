"""A study of one lit triangle that renders in a moment, and what must always hold of it."""

import base64
import json
import struct
from collections import Counter
from pathlib import Path

from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, read_record
from swift_sample.core.picture.stored import read_stored
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.log.identity import Place, picture_identity
from swift_sample.core.study.log.state import validate
from swift_sample.core.study.log.store import look_at_study
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.plan.model import FramePlan, Limits, Study, Sweep

SIZES = ((48, 27), (32, 18))
SAMPLES = (64, 48)
COLOURS = ((0.9, 0.7, 0.2), (0.2, 0.4, 0.9))
Finished = dict[int, tuple[str, str]]
"""The runs that worked, with their pictures and these pictures' digests."""


def write_scene(path: Path, colour: tuple[float, float, float] = COLOURS[0]) -> None:
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
                "materials": [
                    {"pbrMetallicRoughness": {"baseColorFactor": [*colour, 1]}, "doubleSided": True}
                ],
                "accessors": [
                    {
                        "bufferView": 0,
                        "componentType": 5126,
                        "count": 3,
                        "type": "VEC3",
                        "min": [-1, -1, 0],
                        "max": [1, 1, 0],
                    }
                ],
                "bufferViews": [{"buffer": 0, "byteLength": len(points)}],
                "buffers": [{"byteLength": len(points), "uri": data}],
            }
        )
    )


def plan_of(
    scene: Path, size: tuple[int, int] = SIZES[0], samples: int = SAMPLES[0], repeats: int = 60
) -> Study:
    return Study(
        name="Under siege",
        scene=str(scene),
        size=size,
        base=configured({"samples.max": samples}),
        repeats=repeats,
        sweeps=(Sweep("one at a time", {"samples.max": (16, 32), "bounces.total": (1, 4)}),),
        limits=Limits(grain=60.0, light_shift=6.0, detail_kept=20.0, stray_pixels=999_000.0),
        frames=FramePlan(1, 8, 3),
    )


def check(path: Path, before: Finished) -> Finished:
    """The finished runs of a study; those that were there before are only counted. Raises
    AssertionError where one is lost, doubled, or not what it is filed under, or where a reference
    is not what is on record."""
    with look_at_study(path) as reading:
        assert not reading.notes, reading.notes
        snapshot = read_snapshot(reading)

    state = snapshot.state
    found = Finished()
    validate(state)

    for place, records in state.records.items():
        for run in records.runs:
            if run.result is None:
                continue

            found[run.number] = run.picture, run.digest
            if run.number not in before:
                assert (
                    run.picture == f"{picture_identity(place, run.appearance, run.seed).name}.exr"
                ), "another picture's name"
                _check_picture(snapshot, place, run.picture, run.digest)

    lost = {
        number: picture
        for number, picture in before.items()
        if found.get(number) != picture and not _is_lost(snapshot, number)
    }
    assert not lost, f"lost {lost}"
    doubled = [
        picture
        for picture, count in Counter(picture for picture, _ in found.values()).items()
        if count > 1
    ]
    assert not doubled, f"two runs have the picture {doubled}"
    for trial in snapshot.results.trials:
        assert all(run.place == state.here and run.trial == trial.id for run in trial.runs), (
            "a run of something else"
        )

    for name, known in state.references.items():
        file = snapshot.folder.reference(name)
        if file.is_file():
            note = json.loads(read_record(file))
            assert known.chunks <= note["chunks"] <= known.chunks + 1, (
                f"{name}: {note['chunks']} chunks, {known.chunks} known"
            )

    return found


def _is_lost(snapshot: Snapshot, number: int) -> bool:
    """Whether a run's picture was found missing or damaged since, which is told."""
    return any(
        run.number == number and run.lost
        for records in snapshot.state.records.values()
        for run in records.runs
    )


def _check_picture(snapshot: Snapshot, place: Place, name: str, digest: str) -> None:
    picture = read_stored(snapshot.folder.picture(name), digest)
    note = json.loads(picture.notes[RECORD_ATTRIBUTE])["study"]
    known = snapshot.state.size_and_frame(place)
    assert known is not None, "a place without a record"
    assert (picture.width, picture.height) == known[0], f"{name}: another size"
    assert (note["scene"], note["renderer"]) == (place.scene, place.renderer), (
        f"{name}: of another place"
    )
    same = picture_identity(place, note["appearance"], note["seed"]).name
    assert name == f"{same}.exr", f"{name}: another identity"

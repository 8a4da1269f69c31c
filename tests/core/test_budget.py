"""Small files that ask for much: each is refused in one sentence, from what it says of itself."""

import os
import sqlite3
import struct
import subprocess
import sys
from ast import literal_eval
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from swift_sample.cli import run
from swift_sample.core import budget
from swift_sample.core.errors import SceneError, StudyError
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.rendering.accelerator import (
    AcceleratorError,
    own_description,
    read_accelerator,
)
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.scene.environment import read_environment
from swift_sample.core.scene.gltf import read_gltf
from swift_sample.core.settings.presets import read_preset
from swift_sample.core.study.log.store import Store, look_at_study
from tests.core.scene.gltf_maker import GltfMaker

Bomb = Callable[[GltfMaker], dict[str, Any]]
NESTED = "a = " + "[" * 5000


def empty(maker: GltfMaker, count: int, kind: str = "VEC3") -> int:
    """An accessor without data."""
    maker.accessors.append({"componentType": 5126, "count": count, "type": kind})
    return len(maker.accessors) - 1


def many_instances(maker: GltfMaker) -> dict[str, Any]:
    places = {"EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": empty(maker, 400_000)}}}
    return {"nodes": [{"mesh": 0, "extensions": places}, {}]}


def many_primitives(maker: GltfMaker) -> dict[str, Any]:
    return {
        "nodes": [{"mesh": 0}] * 400,
        "scenes": [{"nodes": list(range(400))}],
        "meshes": [
            {"primitives": [{"attributes": maker.attributes, "indices": maker.order}] * 300}
        ],
    }


def many_nodes(maker: GltfMaker) -> dict[str, Any]:
    return {
        "nodes": [{"mesh": 0}] + [{}] * budget.NODES,
        "scenes": [{"nodes": list(range(budget.NODES + 1))}],
    }


def vertices_without_data(maker: GltfMaker) -> dict[str, Any]:
    positions = {"POSITION": empty(maker, 1_000_000)}
    return {"meshes": [{"primitives": [{"attributes": positions}] * 27}]}


def triangles_in_strips(maker: GltfMaker) -> dict[str, Any]:
    strip = {"attributes": {"POSITION": empty(maker, 1_000_000)}, "mode": 5}
    places = {"EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": empty(maker, 60)}}}
    return {"meshes": [{"primitives": [strip]}], "nodes": [{"mesh": 0, "extensions": places}, {}]}


@pytest.mark.parametrize(
    ("bomb", "refusal"),
    [
        (
            many_instances,
            (
                r"has 400,000 meshes to show, at most 100,000 fit \(SWIFT_SAMPLE_BUDGET=4 raises "
                r"that\)"
            ),
        ),
        (many_primitives, "has 120,000 meshes to show"),
        (many_nodes, "nodes to show"),
        (vertices_without_data, "bytes in accessors without data"),
        (triangles_in_strips, "has 59,999,880 triangles"),
        (lambda maker: {"extras": [[]] * 4_000_001}, "values in its JSON"),
    ],
)
def test_scenes_that_ask_for_much_are_refused(tmp_path: Path, bomb: Bomb, refusal: str) -> None:
    maker = GltfMaker()
    maker.changes |= bomb(maker)
    with pytest.raises(SceneError, match=refusal) as refused:
        read_gltf(maker.save(tmp_path / "bomb.glb"))

    assert str(refused.value).endswith("; use a lighter scene, or split it")


def test_a_document_far_too_long_is_refused_before_it_is_read(tmp_path: Path) -> None:
    for name, head in (
        ("a.gltf", b"{"),
        ("a.glb", b"glTF" + struct.pack("<3I", 2, 1 << 28, 1 << 28)),
    ):
        path = tmp_path / name
        path.write_bytes(head)
        os.truncate(path, 1 << 28)
        with pytest.raises(
            SceneError, match="has 268,435,456 bytes of JSON, at most 134,217,728 fit"
        ):
            read_gltf(path)


def test_the_shapes_of_a_mesh_are_read_once_however_often_it_is_shown(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    maker = GltfMaker(nodes=[{"mesh": 0}] * 50, scenes=[{"nodes": list(range(50))}])
    read = []
    monkeypatch.setattr(
        "swift_sample.core.scene.gltf.triangles_of",
        lambda order, mode: (read.append(1), order.reshape(-1, 3))[1],
    )
    assert len(read_gltf(maker.save(tmp_path / "a.glb")).meshes) == 50
    assert read == [1]


@pytest.mark.parametrize("size", ["40000 +X 20000", "20000 +X 40000"])
def test_a_sky_that_asks_for_much_is_refused(tmp_path: Path, size: str) -> None:
    path = tmp_path / "sky.hdr"
    path.write_bytes(b"#?RADIANCE\n\n-Y " + size.encode() + b"\n" + b"\2\2\1\1" * 1000)
    with pytest.raises(SceneError, match="800,000,000 pixels, at most 134,217,728 fit"):
        read_environment(path)


def test_skies_are_read_in_parts_as_they_are_as_a_whole(tmp_path: Path) -> None:
    """Shared exponents by their definition (Ward 1991), over more rows than are read at once."""
    codes = np.random.default_rng(3).integers(0, 256, (600, 7, 4), np.uint8)
    codes[0, 0] = (5, 5, 5, 0)
    path = tmp_path / "sky.hdr"
    path.write_bytes(b"#?RGBE\n\n-Y 600 +X 7\n" + codes.tobytes())
    light = (codes[..., :3] + 0.5) * np.where(
        codes[..., 3:] > 0, 2.0 ** (codes[..., 3:].astype(float) - 136), 0
    )
    assert np.allclose(read_environment(path, 2.0).pixels, np.minimum(light * 2, 1e6), rtol=1e-6)


@pytest.mark.parametrize(
    "text",
    [
        NESTED,
        ".".join(["a"] * 5000) + " = 1",
        "a = " + "[" * 40 + "]" * 40,
        "# " + "x" * (1 << 20),
        None,
    ],
)
def test_small_text_files_are_small_plain_and_not_nested(
    tmp_path: Path,
    text: str | None,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    """A preset, and a device's description, which does not stop the command that is there to find
    out."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    path = own_description()
    path.parent.mkdir()
    path.write_text(text) if text is not None else os.mkfifo(path)
    with pytest.raises(StudyError, match="not a readable preset"):
        read_preset(path, CATALOGUE)

    with pytest.raises(AcceleratorError, match="not a readable description"):
        read_accelerator(path)

    if text is not None:
        assert run(["check", "--seconds", "0.1"]) == 0
        assert "below is the one that came with the program" in capsys.readouterr().err


@pytest.mark.parametrize("size", [(-8, 8), (8, 0), (8, 1 << 20)])
def test_no_picture_without_pixels_is_asked_for(size: tuple[int, int]) -> None:
    with pytest.raises(ValidationError):
        RenderSpec(scene="honey-stall-small", size=size, settings={}, seed=1)


def test_a_log_far_too_long_is_not_read(study_path: Path) -> None:
    Store.open(study_path).close()
    with closing(sqlite3.connect(study_path / "results.db")) as database, database:
        database.execute(
            "WITH RECURSIVE n(k) AS (SELECT 10 UNION ALL SELECT k + 1 FROM n WHERE k < ?) "
            "INSERT INTO events SELECT k, '', 'said', 'x', '{}' FROM n",
            (budget.LOG_ENTRIES + 10,),
        )

    for opening in (look_at_study, Store.open):
        with pytest.raises(StudyError, match="entries, at most 400,000 fit"):
            opening(study_path)


@pytest.mark.parametrize(
    "trap",
    [
        "ALTER TABLE runs ADD COLUMN more TEXT GENERATED ALWAYS AS (hex(zeroblob(1000000)))",
        "CREATE INDEX slow ON events(abs(number))",
        "CREATE TABLE more (x CHECK (x < 3))",
        "CREATE VIRTUAL TABLE words USING fts5(x)",
    ],
)
def test_tables_that_work_when_they_are_read_or_written_are_refused(
    study_path: Path, trap: str
) -> None:
    Store.open(study_path).close()
    with closing(sqlite3.connect(study_path / "results.db")) as database, database:
        database.execute(trap)

    for opening in (look_at_study, Store.open):
        with pytest.raises(StudyError, match="holds views, triggers or formulas"):
            opening(study_path)


def test_endless_work_in_a_database_ends(study_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever it comes from; here a join that nobody asked for stands in for it."""
    monkeypatch.setattr(budget, "LOG_INSTRUCTIONS", 20_000_000)
    with (
        Store.open(study_path) as store,
        pytest.raises(sqlite3.OperationalError, match="interrupted"),
    ):
        store._database.execute(
            "WITH RECURSIVE n(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM n) SELECT count(*) FROM n"
        ).fetchone()


def test_a_budget_can_be_raised() -> None:
    code = (
        "import json; from swift_sample.core import budget as b; print(json.dumps([b.MESHES, "
        "b.over(2**20, b.MESHES, 'x')]))"
    )
    for factor, meshes in (("3", 300_000), ("rubbish", 100_000), ("-1", 100_000)):
        told = subprocess.run(
            [sys.executable, "-c", code],
            env={**os.environ, budget.RAISED_BY: factor},
            capture_output=True,
            check=True,
        )
        most, words = literal_eval(told.stdout.decode())
        assert most == meshes
        assert words.endswith("(SWIFT_SAMPLE_BUDGET=11 raises that)")

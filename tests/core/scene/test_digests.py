"""A scene's fingerprint follows its content, and reads it only when a file changed."""

import json
import os
from pathlib import Path

import pytest

from swift_sample.core.scene import digests
from swift_sample.core.scene.open import scene_fingerprint


@pytest.fixture
def scene(tmp_path: Path) -> Path:
    (tmp_path / "a.bin").write_bytes(b"12345678")
    path = tmp_path / "scene.gltf"
    path.write_text(
        json.dumps(
            {"buffers": [{"uri": "a.bin"}, {"uri": "not there.bin"}, {"uri": "../outside.bin"}]}
        )
    )
    return path


def touched(path: Path, content: bytes) -> None:
    """Write, and move the file's time on, as a clock with coarse steps may not."""
    before = path.stat().st_mtime_ns
    path.write_bytes(content)
    os.utime(path, ns=(before + 10**9, before + 10**9))


def test_it_changes_with_any_file_and_comes_back(scene: Path) -> None:
    first = scene_fingerprint(str(scene))
    touched(scene.parent / "a.bin", b"87654321")
    second = scene_fingerprint(str(scene))
    (scene.parent / "not there.bin").write_bytes(b"now it is")
    third = scene_fingerprint(str(scene))
    assert len({first, second, third}) == 3
    (scene.parent / "not there.bin").unlink()
    touched(scene.parent / "a.bin", b"12345678")
    assert scene_fingerprint(str(scene)) == first


def test_files_outside_the_folder_do_not_count(scene: Path) -> None:
    first = scene_fingerprint(str(scene))
    (scene.parent.parent / "outside.bin").write_bytes(b"secret")
    assert scene_fingerprint(str(scene)) == first


def test_unchanged_files_are_not_read_again(scene: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    first = scene_fingerprint(str(scene))
    monkeypatch.setattr(
        digests.Path, "read_bytes", lambda self: pytest.fail(f"{self} was read again")
    )
    assert scene_fingerprint(str(scene)) == first

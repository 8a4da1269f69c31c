"""Scenes that code models are kept on disk, and made anew where that cannot be trusted."""

from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.scene.kept import kept, scenes_folder
from swift_sample.core.scene.model import PictureSource, Texture


@pytest.fixture(autouse=True)
def own_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path / "cache"))


def test_what_was_made_is_read_and_what_is_damaged_or_open_to_others_is_not() -> None:
    made: list[int] = []

    def make() -> Texture:
        made.append(1)
        return Texture(
            "wood", PictureSource("its key", (3, 2), lambda: np.full((2, 3, 4), 7, np.uint8))
        )

    first = kept("a stall", make)
    again = kept("a stall", make)
    assert len(made) == 1
    assert (again.key, again.size) == (first.key, first.size), (
        "prepared textures are found as before"
    )
    assert (again.pixels == first.pixels).all()
    assert kept("another", make) is not first
    assert len(made) == 2
    for file in scenes_folder().iterdir():
        file.write_bytes(file.read_bytes()[:-9])

    kept("a stall", make)
    assert len(made) == 3
    kept("a stall", make)
    assert len(made) == 3, "made anew once"
    scenes_folder().chmod(0o777)
    kept("a stall", make)
    assert len(made) == 4, "what others may have written is not read"


def test_few_are_kept_and_a_folder_that_cannot_be_made_is_no_trouble(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(12):
        assert kept(f"scene {number}", lambda number=number: number) == number

    assert len(list(scenes_folder().iterdir())) == 8
    (tmp_path / "file").write_text("no folder")
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path / "file"))
    assert kept("scene", lambda: 5) == 5

"""A study of someone else: nothing outside its folder is read, written or started."""

import os
from pathlib import Path

import numpy as np
import pytest

from swift_sample.core import budget
from swift_sample.core.errors import StudyError, UnfitPictureError
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.stored import digest_of_picture, read_stored
from swift_sample.core.study.log.folder import (
    DESCRIPTION,
    LOCK,
    LOG,
    PICTURES,
    PLAN,
    REFERENCE,
    RENDERER,
    RESULTS,
    Folder,
)
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.plan.model import Study

MEMBERS = (
    PLAN,
    RESULTS,
    f"{RESULTS}-wal",
    f"{RESULTS}-shm",
    LOG,
    LOCK,
    DESCRIPTION,
    PICTURES,
    REFERENCE,
    f"{PICTURES}/a.exr",
    f"{RENDERER}/a.toml",
    f"{RENDERER}/programs/a.py",
)


@pytest.mark.parametrize("member", MEMBERS)
def test_a_member_that_is_a_link_is_refused_and_what_it_points_to_stays(
    study_path: Path, tmp_path: Path, member: str
) -> None:
    Store.open(study_path).close()
    outside = tmp_path / "outside"
    inside = study_path / member

    if member in (PICTURES, REFERENCE):
        outside.mkdir()
        (outside / ".writing-important").write_text("mine")
        inside.rmdir()
    else:
        inside.parent.mkdir(parents=True, exist_ok=True)
        outside.write_bytes(inside.read_bytes() if inside.is_file() else b"mine" * (1 << 19))
        inside.unlink(missing_ok=True)

    inside.symlink_to(outside)
    before = {path: path.read_bytes() for path in (outside, *outside.rglob("*")) if path.is_file()}

    for open_ in (Store.open, look_at_study):
        with pytest.raises(StudyError, match="is a link, which no study has"):
            open_(study_path)

    assert {
        path: path.read_bytes() for path in (outside, *outside.rglob("*")) if path.is_file()
    } == before


@pytest.mark.parametrize("member", [RESULTS, LOG, LOCK, f"{PICTURES}/a.exr"])
def test_a_member_that_is_a_pipe_is_refused_and_not_waited_for(
    study_path: Path, member: str
) -> None:
    Store.open(study_path).close()
    (study_path / member).unlink(missing_ok=True)
    os.mkfifo(study_path / member)

    for open_ in (Store.open, look_at_study):
        with pytest.raises(StudyError, match="is not a plain file, which no study has"):
            open_(study_path)


def test_other_files_in_the_folder_are_nobodys_business(study_path: Path, tmp_path: Path) -> None:
    (study_path / "notes.txt").symlink_to(tmp_path)
    with look_at_study(study_path) as reading:
        assert reading.state.plan is not None


@pytest.mark.parametrize("where", ["the picture", "its folder"])
def test_a_stored_picture_is_read_through_no_link(tmp_path: Path, where: str) -> None:
    """Also where the link was put there after the study was opened."""
    folder = tmp_path / "pictures"
    folder.mkdir()
    write_exr(folder / "a.exr", Picture(np.zeros((3, 4, 3), np.float32)))
    assert read_stored(folder / "a.exr", digest_of_picture(folder / "a.exr")).width == 4

    if where == "the picture":
        (folder / "a.exr").rename(tmp_path / "private.exr")
        (folder / "a.exr").symlink_to(tmp_path / "private.exr")
    else:
        folder.rename(tmp_path / "private")
        folder.symlink_to(tmp_path / "private")

    with pytest.raises(UnfitPictureError, match="is damaged"):
        read_stored(folder / "a.exr", "")


def test_a_plan_far_too_long_is_not_read(study_path: Path) -> None:
    with (study_path / PLAN).open("ab") as plan:
        plan.truncate(budget.TEXT_BYTES + 1)
    with pytest.raises(StudyError, match="bytes, at most 1,048,576 fit"):
        look_at_study(study_path)


def test_files_have_the_modes_that_the_umask_gives(tmp_path: Path, tiny_study: Study) -> None:
    before = os.umask(0o077)
    try:
        folder = Folder(create_study(tmp_path / "mine.study", tiny_study))
        Store.open(folder.path).close()
        write_exr(folder.picture("a.exr"), Picture(np.zeros((3, 4, 3), np.float32)))
    finally:
        os.umask(before)

    files = [path for path in folder.path.rglob("*") if path.is_file()]
    assert {path.name: path.stat().st_mode & 0o077 for path in files} == {
        path.name: 0 for path in files
    }
    assert folder.picture("a.exr") in files
    assert folder.plan in files

"""A study in one file, with its scene and pictures inside: to move it, keep it, or give it to
someone.

The file is a ZIP archive. What is unpacked is checked first: plain names inside the folder, and
bounded sizes.
"""

import json
import os
import secrets
import shutil
import sqlite3
import tempfile
import zipfile
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath

from swift_sample.core.errors import SceneError, StudyError, one_line
from swift_sample.core.files import WRITING, has_room
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.renderers.registry import DESCRIPTION, description_of, renderer_named
from swift_sample.core.study.log.files import os_words
from swift_sample.core.study.log.folder import (
    LIGHT,
    LOG,
    PICTURES,
    PLAN,
    REFERENCE,
    RENDERER,
    RESULTS,
    SCENE,
    Folder,
)
from swift_sample.core.study.log.store import look_at_study
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml

MOST_FILES = 200_000
MOST_BYTES = 1 << 40
_TOP = {PLAN, RESULTS, LOG, DESCRIPTION}
_FOLDERS = {PICTURES, REFERENCE, SCENE, LIGHT, RENDERER}


@dataclass(frozen=True)
class Part:
    """A file from outside the study's folder, and the name that it has in the pack."""

    file: Path
    name: str


def pack_study(path: Path, target: Path, tell: Callable[[str], None] = lambda words: None) -> int:
    """Write a study with its scene into one file; returns its bytes. It may be measured meanwhile.
    `tell` hears, before anything is written, of each file from outside the study's folder that goes
    into it.

    Raises StudyError where something is missing or the file cannot be written, SceneError where
    what the study names as its scene or its light is none, RendererError where its renderer is not
    here or was not confirmed; no half file is left.
    """
    if target.exists():
        raise StudyError(f"{target}: exists already; choose another name")

    with look_at_study(path) as reading:
        folder = reading.folder
        plan = reading.state.plan
        renderer = reading.renderer

    # A study may come from somebody else, and name any file of this computer: only what can be
    # rendered with is packed.
    if renderer.capabilities.starts:
        renderer.check_scene(plan.scene, plan.base, plan.frame, plan.staging)

    scene = _scene_parts(plan.scene, renderer)
    light = _light_parts(plan.staging.environment)
    own = [Part(file, f"{RENDERER}/{name}") for file, name in renderer.own_files()]
    parts = [*scene, *light, *own]
    for part in parts:
        tell(f"{part.file} goes along as {part.name}")

    staging = replace(plan.staging, environment=light[0].name) if light else plan.staging
    inside = replace(
        plan,
        scene=scene[0].name if scene else plan.scene,
        renderer_file=own[0].name if own else "",
        staging=staging,
    )
    temporary = target.with_name(f"{WRITING}{secrets.token_hex(6)}-{target.name}")

    try:
        with zipfile.ZipFile(temporary, "x", zipfile.ZIP_STORED) as archive:
            archive.writestr(PLAN, plan_as_toml(inside))
            archive.writestr(DESCRIPTION, description_of(renderer))
            _pack_database(folder, archive)

            for pictures in (folder.pictures, folder.references):
                for file in sorted(pictures.glob("*.exr")):
                    archive.write(file, f"{pictures.name}/{file.name}")

            for part in parts:
                archive.write(part.file, part.name)

        _put_in_place(temporary, target)
    except (OSError, sqlite3.Error) as error:
        raise StudyError(f"{target}: cannot be written ({os_words(error)})") from error
    finally:
        temporary.unlink(missing_ok=True)

    return target.stat().st_size


def _put_in_place(temporary: Path, target: Path) -> None:
    """Give a file its name, unless somebody else has taken it meanwhile. Raises StudyError then, or
    OSError."""
    try:
        os.link(temporary, target)
    except FileExistsError as error:
        raise StudyError(f"{target}: exists already; choose another name") from error
    except OSError:
        os.replace(temporary, target)  # a file system without links


def unpack_study(
    source: Path, path: Path, tell: Callable[[str], None] = lambda words: None
) -> Path:
    """Make a study folder of a packed study; returns its path. `tell` hears how large it is. Raises
    StudyError, also where there is no room for it; nothing is left behind then."""
    if path.exists():
        raise StudyError(f"{path}: exists already; choose another name")

    beside = path.with_name(f".unpacking-{secrets.token_hex(6)}-{path.name}")
    try:
        with zipfile.ZipFile(source) as archive:
            members = archive.infolist()
            _check_members(source, members)
            size = sum(member.file_size for member in members)
            path.parent.mkdir(parents=True, exist_ok=True)

            if not has_room(path.parent, size):
                raise StudyError(
                    f"{path}: there is no room for the {size / 2**20:,.0f} MiB in "
                    f"{source.name}; free some"
                )

            tell(f"{source.name} holds {len(members)} files, {size / 2**20:,.1f} MiB")
            beside.mkdir()
            for member in members:
                _unpack_member(archive, member, beside / member.filename)

        plan = plan_from_toml(
            (beside / PLAN).read_text(encoding="utf-8"), beside / PLAN
        )  # is told here, not later
        known = renderer_named(plan.catalogue.name, beside).scene_names
        starts = plan.catalogue.capabilities.starts

        if starts and plan.scene not in known and not Path(plan.scene).is_file():
            raise StudyError(f"{source}: the scene is not in it")

        beside.rename(path)
        return path
    except _DiskError as error:
        raise StudyError(
            f"{path}: cannot be unpacked ({error}); make room, or choose another place"
        ) from error
    except (
        OSError,
        UnicodeDecodeError,
        zipfile.BadZipFile,
        NotImplementedError,
        RuntimeError,
        EOFError,
    ) as error:
        raise StudyError(
            f"{source}: not a packed study ({one_line(error)}); pack or copy it again"
        ) from error
    finally:
        shutil.rmtree(beside, ignore_errors=True)


class _DiskError(Exception):
    """What is unpacked could not be written; says why."""


def _unpack_member(archive: zipfile.ZipFile, member: zipfile.ZipInfo, file: Path) -> None:
    """Write one file of an archive. Raises _DiskError where that fails here, and what zipfile
    raises for a damaged one."""
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        out = open(file, "xb")  # noqa: SIM115
    except OSError as error:
        raise _DiskError(os_words(error)) from error

    with archive.open(member) as packed:
        try:
            while block := packed.read(1 << 20):
                try:
                    out.write(block)
                except OSError as error:
                    raise _DiskError(os_words(error)) from error
        finally:
            try:
                out.close()
            except OSError as error:
                raise _DiskError(os_words(error)) from error


def _scene_parts(scene: str, renderer: Renderer) -> list[Part]:
    """The scene's files, the scene itself first, with the names that they have beside one another.
    Raises SceneError."""
    files = renderer.scene_files(scene)
    if not files:
        return []

    home = files[0].resolve().parent
    if not all(file.resolve().is_relative_to(home) for file in files):
        raise SceneError(
            f"{scene}: reads files outside its folder, which are not packed; put them beside it"
        )

    return [Part(file, f"{SCENE}/{file.resolve().relative_to(home).as_posix()}") for file in files]


def _light_parts(environment: str | None) -> list[Part]:
    file = Path(environment) if environment is not None else None
    return [Part(file, f"{LIGHT}/{file.name}")] if file is not None and file.is_file() else []


def _pack_database(folder: Folder, archive: zipfile.ZipFile) -> None:
    """A copy as it is at one moment, whoever writes meanwhile."""
    if not folder.database.exists():
        return

    with tempfile.TemporaryDirectory() as place:
        copy = Path(place) / RESULTS
        with (
            closing(
                sqlite3.connect(f"file:{folder.database.absolute()}?mode=ro", uri=True)
            ) as source,
            closing(sqlite3.connect(copy)) as target,
        ):
            source.backup(target)
            target.execute("PRAGMA journal_mode = DELETE")

        archive.write(copy, RESULTS)


def _check_members(source: Path, members: list[zipfile.ZipInfo]) -> None:
    names = [member.filename for member in members]
    if PLAN not in names:
        raise StudyError(f"{source}: not a packed study (there is no {PLAN} in it)")
    if len(names) > MOST_FILES or sum(member.file_size for member in members) > MOST_BYTES:
        raise StudyError(f"{source}: holds more than a study can; it is not unpacked")
    if len(set(names)) < len(names):
        raise StudyError(f"{source}: holds a file twice; it is not unpacked")

    for member in members:
        parts = PurePosixPath(member.filename).parts
        plain = (
            not member.filename.startswith("/")
            and "\\" not in member.filename
            and ".." not in parts
            and member.filename == "/".join(parts)
            and member.filename.isprintable()
        )

        kind = member.external_attr >> 28
        known = (len(parts) == 1 and parts[0] in _TOP) or (len(parts) > 1 and parts[0] in _FOLDERS)
        if not (plain and known and kind in (0, 8)):
            raise StudyError(
                f"{source}: holds {json.dumps(member.filename[:60])}, which no study has; it "
                "is not unpacked"
            )

"""A study in one file, with its scene and pictures inside: to move it, keep it, or give it to someone.

The file is a ZIP archive. What is unpacked is checked first: plain names inside the folder, and bounded sizes.
"""

import json
import os
import shutil
import sqlite3
import tempfile
import zipfile
from contextlib import closing
from dataclasses import replace
from pathlib import Path, PurePosixPath

from swift_sample.core.errors import StudyError, one_line
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.renderers.registry import DESCRIPTION, description_of, renderer_named
from swift_sample.core.study.folder import LOG, PICTURES, PLAN, REFERENCE, RESULTS, Folder
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.store import look_at_study
from swift_sample.core.study.store.files import os_words

SCENE, LIGHT, RENDERER = "scene", "light", "renderer"
"""Folders inside a packed study that hold its scene, the picture of its light from everywhere, and what says how a program
from outside is started. That is not the program, and nothing is started by it before a person has confirmed it again."""
MOST_FILES, MOST_BYTES = 200_000, 1 << 40
_TOP = {PLAN, RESULTS, LOG, DESCRIPTION}
_FOLDERS = {PICTURES, REFERENCE, SCENE, LIGHT, RENDERER}


def pack_study(path: Path, target: Path) -> int:
    """Write a study with its scene into one file; returns its bytes. It may be measured meanwhile.

    Raises StudyError where something is missing or the file cannot be written; no half file is left.
    """
    with look_at_study(path) as reading:
        folder, plan, renderer = reading.folder, reading.state.plan, reading.renderer
    if target.exists():
        raise StudyError(f"{target}: exists already; choose another name")
    scene, light, own = _scene_parts(plan.scene, renderer), _light_parts(plan.staging.environment), renderer.own_files()
    inside = replace(
        plan,
        scene=f"{SCENE}/{scene[0][1]}" if scene else plan.scene,
        renderer_file=f"{RENDERER}/{own[0][1]}" if own else "",
        staging=replace(plan.staging, environment=f"{LIGHT}/{light[0][1]}") if light else plan.staging,
    )
    temporary = target.with_name(f".writing-{target.name}")
    try:
        with zipfile.ZipFile(temporary, "x", zipfile.ZIP_STORED) as archive:
            archive.writestr(PLAN, plan_as_toml(inside))
            archive.writestr(DESCRIPTION, description_of(renderer))
            _pack_database(folder, archive)
            for part in (folder.pictures, folder.references):
                for file in sorted(part.glob("*.exr")):
                    archive.write(file, f"{part.name}/{file.name}")
            for home, files in ((SCENE, scene), (LIGHT, light), (RENDERER, own)):
                for file, name in files:
                    archive.write(file, f"{home}/{name}")
        os.replace(temporary, target)
    except (OSError, sqlite3.Error) as error:
        raise StudyError(f"{target}: cannot be written ({os_words(error)})") from error
    finally:
        temporary.unlink(missing_ok=True)
    return target.stat().st_size


def unpack_study(source: Path, path: Path) -> Path:
    """Make a study folder of a packed study; returns its path. Raises StudyError; nothing is left behind then."""
    if path.exists():
        raise StudyError(f"{path}: exists already; choose another name")
    beside = path.with_name(f".unpacking-{path.name}")
    try:
        with zipfile.ZipFile(source) as archive:
            members = archive.infolist()
            _check_members(source, members)
            beside.mkdir(parents=True)
            for member in members:
                file = beside / member.filename
                file.parent.mkdir(parents=True, exist_ok=True)
                with archive.open(member) as packed, open(file, "xb") as out:
                    shutil.copyfileobj(packed, out, 1 << 20)
        plan = plan_from_toml((beside / PLAN).read_text(encoding="utf-8"), beside / PLAN)  # is told here, not later
        known = renderer_named(plan.catalogue.name, beside).scene_names
        starts = plan.catalogue.capabilities.starts
        if starts and plan.scene not in known and not Path(plan.scene).is_file():
            raise StudyError(f"{source}: the scene is not in it")
        beside.rename(path)
        return path
    except (OSError, UnicodeDecodeError, zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError) as error:
        raise StudyError(f"{source}: not a packed study ({one_line(error)}); pack or copy it again") from error
    finally:
        shutil.rmtree(beside, ignore_errors=True)


def _scene_parts(scene: str, renderer: Renderer) -> list[tuple[Path, str]]:
    """The scene's files with their names inside the pack, the scene itself first. Raises SceneError."""
    files = renderer.scene_files(scene)
    if not files:
        return []
    home = files[0].resolve().parent
    return [(file, file.resolve().relative_to(home).as_posix()) for file in files]


def _light_parts(environment: str | None) -> list[tuple[Path, str]]:
    file = Path(environment) if environment is not None else None
    return [(file, file.name)] if file is not None and file.is_file() else []


def _pack_database(folder: Folder, archive: zipfile.ZipFile) -> None:
    """A copy as it is at one moment, whoever writes meanwhile."""
    if not folder.database.exists():
        return
    with tempfile.TemporaryDirectory() as place:
        copy = Path(place) / RESULTS
        with (
            closing(sqlite3.connect(f"file:{folder.database.absolute()}?mode=ro", uri=True)) as source,
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
            raise StudyError(f"{source}: holds {json.dumps(member.filename[:60])}, which no study has; it is not unpacked")

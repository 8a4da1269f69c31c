"""Opening a scene by name or file."""

import json
from collections.abc import Callable
from functools import lru_cache, partial
from pathlib import Path
from urllib.parse import unquote

from swift_sample.core.budget import FILE_BYTES
from swift_sample.core.errors import SceneError
from swift_sample.core.scene.digests import Stamp, digest_of, stamp_of
from swift_sample.core.scene.model import Choices, Scene

STALL_SIZES = ("standard", "small", "heavy")


def _stall(size: str, choices: Choices) -> Scene:
    from swift_sample.core.scene.honey_stall import honey_stall

    return honey_stall(size, choices)


def _room(choices: Choices) -> Scene:
    from swift_sample.core.scene.honey_room import honey_room

    return honey_room(choices)


def _jar(choices: Choices) -> Scene:
    from swift_sample.core.scene.honey_jar import honey_jar

    return honey_jar(choices)


# What models and reads scenes is loaded with the first scene: most commands only want to know
# whether one has changed.
DEMO_SCENES: dict[str, Callable[[Choices], Scene]] = {
    **{
        f"honey-stall-{size}".removesuffix("-standard"): partial(_stall, size)
        for size in STALL_SIZES
    },
    "honey-room": _room,
    "honey-jar": _jar,
}
"""The scenes that come with the application, by name."""

FINGERPRINTS = {
    "honey-stall": "8dcea53653a0377e",
    "honey-stall-small": "a1944dfbea52b8f8",
    "honey-stall-heavy": "a699b2ce13ed2da1",
    "honey-room": "f7f0a19da343c5be",
    "honey-jar": "ccc55cd8a0ab9d28",
}
"""Of the demo scenes, as they are modelled. Whoever changes what one shows gives it another one, so
that old results are not mixed with new ones; a test of what is modelled fails where that was
forgotten. Words and lines of the code that models them change nothing."""


def open_scene(name: str, choices: Choices | None = None) -> Scene:
    """The scene of this name as chosen: a demo scene, or a glTF file (.gltf or .glb).

    Raises SceneError naming the file and what is wrong.
    """
    choices = choices or Choices()
    if name in DEMO_SCENES:
        return DEMO_SCENES[name](choices)

    from swift_sample.core.scene.gltf import read_gltf

    return read_gltf(_scene_path(name), choices)


def scene_fingerprint(name: str) -> str:
    """Changes whenever the scene's file, or one that it refers to, changes; keeps results of
    different versions apart.

    Raises SceneError where the file is missing.
    """
    if name in DEMO_SCENES:
        return FINGERPRINTS[name]

    path = _scene_path(name)
    return digest_of([path, *(file for file in _referred(stamp_of(path)) if file.is_file())])[:16]


def scene_files(name: str) -> list[Path]:
    """The scene's file and those that it refers to, as far as they are there. Empty for a demo
    scene. Raises SceneError."""
    if name in DEMO_SCENES:
        return []

    path = _scene_path(name)
    return [path, *(file for file in dict.fromkeys(_referred(stamp_of(path))) if file.is_file())]


def _scene_path(name: str) -> Path:
    path = Path(name)
    if not path.is_file():
        known = ", ".join(DEMO_SCENES)
        raise SceneError(f"{name}: no such scene; give a .gltf or .glb file, or one of {known}")

    return path


@lru_cache(64)
def _referred(stamp: Stamp) -> tuple[Path, ...]:
    """The files beside a .gltf scene that it names, whether they are there or not; damaged scenes
    name none.

    What lies outside the scene's folder is not read, here as elsewhere.
    """
    path = Path(stamp[0])
    if path.suffix.lower() != ".gltf" or stamp[1] > FILE_BYTES:
        return ()

    try:
        document = json.loads(path.read_bytes())
        named = [
            part["uri"]
            for kind in ("buffers", "images")
            for part in document.get(kind, [])
            if "uri" in part
        ]
        sky = document.get("extras", {}).get("swift_sample", {}).get("environment", {}).get("image")
        folder = path.resolve().parent
        files = [
            (folder / unquote(uri)).resolve()
            for uri in [*named, *([sky] if sky else [])]
            if not uri.startswith("data:")
        ]

        return tuple(
            file
            for file in files
            if file.is_relative_to(folder)
            and not (file.is_file() and file.stat().st_size > FILE_BYTES)
        )
    except (ValueError, KeyError, TypeError, AttributeError, OSError, RecursionError):
        return ()

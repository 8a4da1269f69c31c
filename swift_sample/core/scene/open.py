"""Opening a scene by name or file."""

import hashlib
from pathlib import Path

import numpy as np

from swift_sample.core.errors import SceneError, UsageError
from swift_sample.core.scene.gltf import read_gltf
from swift_sample.core.scene.honey_stall import SIZES, honey_stall
from swift_sample.core.scene.model import Choices, Environment, Scene

DEMO_SCENES = {"honey-stall": "standard", **{f"honey-stall-{size}": size for size in SIZES if size != "standard"}}
"""Names under which the demo scene is known, and its sizes."""


def open_scene(name: str, choices: Choices | None = None) -> Scene:
    """The scene of this name as chosen: a demo scene, or a glTF file (.gltf or .glb).

    Raises SceneError naming the file and what is wrong.
    """
    choices = choices or Choices()
    if name in DEMO_SCENES:
        return honey_stall(DEMO_SCENES[name], choices)
    return read_gltf(_scene_path(name), choices)


def scene_fingerprint(name: str) -> str:
    """Changes whenever the scene's own file changes; used to keep results of different versions apart.

    Raises SceneError where the file is missing.
    """
    if name in DEMO_SCENES:
        folder = Path(__file__).parent
        parts = [path.read_bytes() for path in sorted(folder.glob("honey_*.py"))] + [name.encode()]
    else:
        parts = [_scene_path(name).read_bytes()]
    digest = hashlib.sha256()
    for part in parts:
        digest.update(part)
    return digest.hexdigest()[:16]


def constant_environment(colour: tuple[float, float, float]) -> Environment:
    """The same radiance from everywhere."""
    return Environment(np.array([[colour]], np.float32))


def parse_environment(text: str) -> Environment:
    """An environment from `r,g,b`, each a finite number not below 0. Raises UsageError."""
    try:
        red, green, blue = (float(part) for part in text.split(","))
    except ValueError:
        raise UsageError(f"environment={text}: expected three numbers r,g,b") from None
    if not all(np.isfinite(v) and 0 <= v <= 1e6 for v in (red, green, blue)):
        raise UsageError(f"environment={text}: expected numbers from 0 to 1000000")
    return constant_environment((red, green, blue))


def _scene_path(name: str) -> Path:
    path = Path(name)
    if not path.is_file():
        known = ", ".join(DEMO_SCENES)
        raise SceneError(f"{name}: no such scene; give a .gltf or .glb file, or one of {known}")
    return path

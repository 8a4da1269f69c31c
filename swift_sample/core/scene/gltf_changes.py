"""A glTF file with features of its materials taken away, written under another name: what was chosen here, for use elsewhere.

Only materials change; geometry, textures and everything else stay as they are, byte for byte.
"""

import copy
import json
import struct
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from swift_sample.core.errors import SceneError
from swift_sample.core.files import written_whole
from swift_sample.core.scene.features import AS_IS, features_of, with_changes
from swift_sample.core.scene.gltf_files import split_glb
from swift_sample.core.scene.model import Material, Scene

Json = dict[str, Any]
EXTENSIONS = {
    "transmission": ("KHR_materials_transmission", "KHR_materials_volume"),
    "coat": ("KHR_materials_clearcoat",),
    "sheen": ("KHR_materials_sheen",),
    "emission": ("KHR_materials_emissive_strength",),
}
"""Extensions of a material that a feature consists of (Khronos, glTF 2.0 extension registry)."""
EXTRAS = "swift_sample"
RECOLOURED = ("textures", "subsurface")
"""Features without which a surface has another colour of its own."""


def write_changed(path: Path, scene: Scene, changes: Mapping[str, str], target: Path) -> None:
    """Write the file at `path`, which was opened as `scene`, with these changes.

    Raises SceneError where it cannot be written, or would replace the scene itself.
    """
    if target.resolve() == path.resolve():
        raise SceneError(f"{target}: is the scene itself, which is never changed; give another name")
    data = path.read_bytes()
    is_binary = data[:4] == b"glTF"
    if is_binary != (target.suffix.lower() == ".glb"):
        raise SceneError(f"{target}: expected a name that ends in {'.glb' if is_binary else '.gltf'}, as the scene's does")
    if not is_binary and target.resolve().parent != path.resolve().parent:
        raise SceneError(f"{target}: expected a place beside {path}, whose files it refers to")
    text, chunk = split_glb(data) if is_binary else (data, b"")
    written = json.dumps(changed(json.loads(text), scene, changes), ensure_ascii=False, separators=(",", ":")).encode()
    try:
        with written_whole(target) as temporary:
            temporary.write_bytes(_joined(written, chunk) if is_binary else written)
    except OSError as error:
        raise SceneError(f"{target}: cannot be written ({error.strerror})") from error


def changed(document: Json, scene: Scene, changes: Mapping[str, str]) -> Json:
    """A document's JSON with these changes, by the keys of the features of the scene that it was opened as."""
    made = copy.deepcopy(document)
    after = {material.name: material for material in with_changes(scene, changes).materials}
    for feature in features_of(scene):
        value = changes.get(feature.key, AS_IS)
        if value == AS_IS:
            continue
        extras = made.get("extras", {}).get(EXTRAS, {}).get("materials", {}).get(feature.material, {})
        extras.pop(feature.kind.what, None)
        for material in made.get("materials", []):
            if material.get("name", "material") == feature.material:
                _APPLIED.get(feature.kind.what, _without_extensions(feature.kind.what))(material, value)
                if feature.kind.what in RECOLOURED:
                    _recolour(material, after[feature.material])
    used = {name for material in made.get("materials", []) for name in material.get("extensions", {})}
    if used - set(made.get("extensionsUsed", [])):
        made["extensionsUsed"] = sorted(used | set(made.get("extensionsUsed", [])))
    return made


def _recolour(material: Json, after: Material) -> None:
    """Give a surface the factors that stand in for what was taken away."""
    surface = _surface(material)
    surface["baseColorFactor"] = [*after.base_colour, after.opacity]
    surface["roughnessFactor"], surface["metallicFactor"] = after.roughness, after.metallic


def _surface(material: Json) -> Json:
    surface: Json = dict(material.get("pbrMetallicRoughness", {}))
    material["pbrMetallicRoughness"] = surface
    return surface


def _without_extensions(what: str) -> Callable[[Json, str], None]:
    def apply(material: Json, value: str) -> None:
        kept = {name: body for name, body in material.get("extensions", {}).items() if name not in EXTENSIONS.get(what, ())}
        if kept:
            material["extensions"] = kept
        else:
            material.pop("extensions", None)

    return apply


def _clear(material: Json, value: str) -> None:
    surface = _surface(material)
    surface.pop("metallicRoughnessTexture", None)
    surface["roughnessFactor"] = 0


def _alpha(material: Json, value: str) -> None:
    material["alphaMode"] = "MASK" if value == "mask" else "OPAQUE"
    material.pop("alphaCutoff", None)


def _no_bumps(material: Json, value: str) -> None:
    material.pop("normalTexture", None)


def _matt(material: Json, value: str) -> None:
    surface = _surface(material)
    surface.pop("metallicRoughnessTexture", None)
    surface["metallicFactor"], surface["roughnessFactor"] = 0, 1
    material["extensions"] = {**material.get("extensions", {}), "KHR_materials_specular": {"specularFactor": 0}}


def _dark(material: Json, value: str) -> None:
    material.pop("emissiveTexture", None)
    material.pop("emissiveFactor", None)
    _without_extensions("emission")(material, value)


def _plain(material: Json, value: str) -> None:
    surface = _surface(material)
    for name in ("baseColorTexture", "metallicRoughnessTexture"):
        surface.pop(name, None)


_APPLIED: Mapping[str, Callable[[Json, str], None]] = {
    "frosting": _clear,
    "alpha": _alpha,
    "cutout": _alpha,
    "normal": _no_bumps,
    "reflection": _matt,
    "emission": _dark,
    "textures": _plain,
}


def _joined(text: bytes, chunk: bytes) -> bytes:
    """A binary glTF of a JSON and a binary chunk (glTF 2.0, section 4.4)."""
    text += b" " * (-len(text) % 4)
    chunk += b"\0" * (-len(chunk) % 4)
    parts = struct.pack("<II", len(text), 0x4E4F534A) + text
    if chunk:
        parts += struct.pack("<II", len(chunk), 0x004E4942) + chunk
    return struct.pack("<4sII", b"glTF", 2, 12 + len(parts)) + parts

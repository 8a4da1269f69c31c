"""A glTF file with features of its materials taken away, written under another name: what was
chosen here, for use elsewhere.

Only materials, lamps, haze and sky change; geometry, textures and everything else stay as they are,
byte for byte.
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
from swift_sample.core.scene.features.kinds import GEOMETRY, LAMP, MATT, MEAN, OFF
from swift_sample.core.scene.features.objects import EVEN
from swift_sample.core.scene.gltf_files import split_glb
from swift_sample.core.scene.model import MASK, Material, Scene

Json = dict[str, Any]
EXTRAS = "swift_sample"
LAMPS = "KHR_lights_punctual"
NEW_GEOMETRY = (GEOMETRY, LAMP)
"""Values that need not be made before it is known that a file cannot have them."""


def write_changed(path: Path, scene: Scene, changes: Mapping[str, str], target: Path) -> list[str]:
    """Write the file at `path`, which was opened as `scene`, with these changes. Returns the keys
    of those it cannot have.

    Raises SceneError where it cannot be written, or would replace the scene itself.
    """
    if target.resolve() == path.resolve():
        raise SceneError(
            f"{target}: is the scene itself, which is never changed; give another name"
        )

    data = path.read_bytes()
    is_binary = data[:4] == b"glTF"
    if is_binary != (target.suffix.lower() == ".glb"):
        raise SceneError(
            f"{target}: expected a name that ends in {'.glb' if is_binary else '.gltf'}, as "
            "the scene's does"
        )
    if not is_binary and target.resolve().parent != path.resolve().parent:
        raise SceneError(f"{target}: expected a place beside {path}, whose files it refers to")

    text, chunk = split_glb(data) if is_binary else (data, b"")
    document, left = changed(json.loads(text), scene, changes)
    written = json.dumps(document, ensure_ascii=False, separators=(",", ":")).encode()

    try:
        with written_whole(target) as temporary:
            temporary.write_bytes(_joined(written, chunk) if is_binary else written)
    except OSError as error:
        raise SceneError(f"{target}: cannot be written ({error.strerror})") from error

    return left


def changed(document: Json, scene: Scene, changes: Mapping[str, str]) -> tuple[Json, list[str]]:
    """A document's JSON with these changes, by the keys of the features of the scene that it was
    opened as, and the keys of those that cannot be said in such a file."""
    made = copy.deepcopy(document)
    left = []
    after = with_changes(
        scene, {key: value for key, value in changes.items() if value not in NEW_GEOMETRY}
    )

    for feature in features_of(scene):
        value = changes.get(feature.key, AS_IS)
        if value == AS_IS:
            continue
        apply = _APPLIED.get((feature.kind.what, value))
        if apply is None or not apply(made, feature.owner, after):
            left.append(feature.key)

    used = {name for part in _extended(made) for name in part.get("extensions", {})}
    if used - set(made.get("extensionsUsed", [])):
        made["extensionsUsed"] = sorted(used | set(made.get("extensionsUsed", [])))

    return made, left


def _extended(document: Json) -> list[Json]:
    return [document, *document.get("materials", []), *document.get("nodes", [])]


Change = Callable[[Json, str, Scene], bool]
"""Changes a document for one owner, towards a scene that has the change already; False where it
holds no such thing."""


def _to_material(*changes: Callable[[Json, Material], None], extras: str = "") -> Change:
    """A change of every material of one name, and of what `extras` say of it."""

    def apply(document: Json, owner: str, scene: Scene) -> bool:
        after = next(material for material in scene.materials if material.name == owner)
        document.get("extras", {}).get(EXTRAS, {}).get("materials", {}).get(owner, {}).pop(
            extras, None
        )
        own = [
            material
            for material in document.get("materials", [])
            if material.get("name", "material") == owner
        ]

        for material in own:
            for change in changes:
                change(material, after)

        return bool(own)

    return apply


def _recolour(material: Json, after: Material) -> None:
    """Give a surface the factors that stand in for what was taken away."""
    surface = _surface(material)
    surface["baseColorFactor"] = [*after.base_colour, after.opacity]
    surface["roughnessFactor"] = after.roughness
    surface["metallicFactor"] = after.metallic


def _surface(material: Json) -> Json:
    surface: Json = dict(material.get("pbrMetallicRoughness", {}))
    material["pbrMetallicRoughness"] = surface
    return surface


def _without_extensions(*names: str) -> Callable[[Json, Material], None]:
    def apply(material: Json, _: Material) -> None:
        kept = {
            name: body for name, body in material.get("extensions", {}).items() if name not in names
        }
        if kept:
            material["extensions"] = kept
        else:
            material.pop("extensions", None)

    return apply


def _clear(material: Json, _: Material) -> None:
    surface = _surface(material)
    surface.pop("metallicRoughnessTexture", None)
    surface["roughnessFactor"] = 0


def _alpha(material: Json, after: Material) -> None:
    material["alphaMode"] = "MASK" if after.opacity_mode == MASK else "OPAQUE"
    material.pop("alphaCutoff", None)


def _no_bumps(material: Json, _: Material) -> None:
    material.pop("normalTexture", None)


def _matt(material: Json, _: Material) -> None:
    surface = _surface(material)
    surface.pop("metallicRoughnessTexture", None)
    surface["metallicFactor"] = 0
    surface["roughnessFactor"] = 1
    material["extensions"] = {
        **material.get("extensions", {}),
        "KHR_materials_specular": {"specularFactor": 0},
    }


def _dark(material: Json, _: Material) -> None:
    material.pop("emissiveTexture", None)
    material.pop("emissiveFactor", None)


def _plain(material: Json, _: Material) -> None:
    surface = _surface(material)
    for name in ("baseColorTexture", "metallicRoughnessTexture"):
        surface.pop(name, None)


def _no_lamp(document: Json, owner: str, scene: Scene) -> bool:
    lamps = document.get("extensions", {}).get(LAMPS, {}).get("lights", [])
    found = False

    for node in document.get("nodes", []):
        own = node.get("extensions", {}).get(LAMPS)
        if own is not None and owner in (lamps[own["light"]].get("name"), node.get("name")):
            node["extensions"] = {
                name: body for name, body in node["extensions"].items() if name != LAMPS
            }
            found = True

    return found


def _extra(name: str, told: Callable[[Scene], Json | None]) -> Change:
    """A change of what the file's extras say of the whole scene."""

    def apply(document: Json, owner: str, scene: Scene) -> bool:
        extras = document.get("extras", {}).get(EXTRAS, {})
        body = told(scene)
        if name not in extras:
            return False

        if body is None:
            del extras[name]
        else:
            extras[name] = {
                key: value for key, value in (extras[name] | body).items() if value is not None
            }

        return True

    return apply


def _haze(scene: Scene) -> Json | None:
    haze = scene.haze
    if haze is None:
        return None
    if haze.density.size == 1:
        return {"grid": None, "density": float(haze.density.ravel()[0])}

    layers, rows, columns = haze.density.shape
    return {
        "grid": {
            "size": [columns, rows, layers],
            "values": [float(v) for v in haze.density.ravel()],
        },
        "density": 1.0,
    }


def _sky(scene: Scene) -> Json:
    return {
        "colour": [float(v) for v in scene.environment.pixels[0, 0]],
        "image": None,
        "strength": 1.0,
    }


_APPLIED: Mapping[tuple[str, str], Change] = {
    ("transmission", OFF): _to_material(
        _without_extensions("KHR_materials_transmission", "KHR_materials_volume")
    ),
    ("frosting", "clear"): _to_material(_clear),
    ("alpha", "mask"): _to_material(_alpha),
    ("alpha", "opaque"): _to_material(_alpha),
    ("cutout", "opaque"): _to_material(_alpha),
    ("subsurface", MATT): _to_material(_recolour, extras="subsurface"),
    ("coat", OFF): _to_material(_without_extensions("KHR_materials_clearcoat")),
    ("sheen", OFF): _to_material(_without_extensions("KHR_materials_sheen")),
    ("normal", OFF): _to_material(_no_bumps),
    ("displacement", OFF): _to_material(extras="displacement"),
    ("reflection", MATT): _to_material(_matt),
    ("emission", OFF): _to_material(_dark, _without_extensions("KHR_materials_emissive_strength")),
    ("textures", MEAN): _to_material(_plain, _recolour),
    ("lamp", OFF): _no_lamp,
    ("haze", OFF): _extra("haze", _haze),
    ("cloud", "half size"): _extra("haze", _haze),
    ("cloud", "quarter size"): _extra("haze", _haze),
    ("cloud", EVEN): _extra("haze", _haze),
    ("sky", EVEN): _extra("environment", _sky),
}
"""By what a feature is and its value; extensions by their names in the glTF 2.0 registry. What is
missing would need new geometry or pictures, or cannot be said in glTF."""


def _joined(text: bytes, chunk: bytes) -> bytes:
    """A binary glTF of a JSON and a binary chunk (glTF 2.0, section 4.4)."""
    text += b" " * (-len(text) % 4)
    chunk += b"\0" * (-len(chunk) % 4)
    parts = struct.pack("<II", len(text), 0x4E4F534A) + text

    if chunk:
        parts += struct.pack("<II", len(chunk), 0x004E4942) + chunk

    return struct.pack("<4sII", b"glTF", 2, 12 + len(parts)) + parts
